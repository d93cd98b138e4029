// Package tree makes a cabinet of any server that keeps a tree of folders and
// files. What differs from server to server is a Tree; what a cabinet promises
// beyond that is kept here once.
package tree

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/safename"
)

// Tree is a server's tree. Paths have "/" between levels and begin at the
// cabinet's own place, which is "". Errors wrap fs.ErrNotExist and fs.ErrExist where
// a name is missing or taken; others are a *cabinet.Error. Every call ends by a
// deadline even where the server is silent. It may be used by several goroutines.
type Tree interface {
	// Create writes a file, in the place of one that is there, and flushes it as far
	// as the server can be asked to. After an error a part of it may be there.
	Create(ctx context.Context, name string, modified time.Time, r io.Reader) error
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	Stat(ctx context.Context, name string) (cabinet.Entry, error)
	List(ctx context.Context, folder string) ([]cabinet.Entry, error)
	// Mkdir makes one folder; fs.ErrExist where the name is taken.
	Mkdir(ctx context.Context, folder string) error
	// Move gives a file another name that is free: fs.ErrExist where it is taken, also
	// where several writers want it at once. fs.ErrNotExist where the file or the
	// folder that it is to go to is missing.
	Move(ctx context.Context, from, to string) error
	// Replace puts a file in the place of another in one step: at any moment anyone who
	// opens the name finds one of them, whole.
	Replace(ctx context.Context, from, to string) error
	Remove(ctx context.Context, name string) error
	// RemoveFolder removes a folder that is empty at the very moment, and never one in
	// which something is: cabinet.ErrNotEmpty. fs.ErrNotExist where there is none.
	RemoveFolder(ctx context.Context, folder string) error
	// Room is the room that is left, in octets; -1 where the server does not say.
	Room(ctx context.Context) (int64, error)
	// Place is how people know the place, for sentences.
	Place() string
	// Replaces says how Replace does it, for people.
	Replaces() string
	io.Closer
}

// Prepare makes a place into a cabinet, or finds that it is one, and returns its
// identity. The place itself must be there.
func Prepare(ctx context.Context, t Tree, now time.Time) (string, error) {
	found, err := identity(ctx, t)
	if err == nil {
		return found.ID, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if _, err := t.Stat(ctx, ""); err != nil {
		return "", explain(err, "looking for "+t.Place())
	}
	for _, dir := range []string{cabinet.Reserved, cabinet.Staging} {
		if err := t.Mkdir(ctx, dir); err != nil && !errors.Is(err, fs.ErrExist) {
			return "", explain(err, "preparing "+t.Place())
		}
	}
	made, data, err := cabinet.NewIdentity(now)
	if err != nil {
		return "", err
	}
	// Another instance may prepare it at the same moment: one identity wins.
	probe := temporary(cabinet.Probe + made.ID)
	if err := t.Create(ctx, probe, time.Time{}, bytes.NewReader(data)); err != nil {
		return "", explain(err, "preparing "+t.Place())
	}
	err = t.Move(ctx, probe, cabinet.IdentityFile)
	if errors.Is(err, fs.ErrExist) {
		_ = t.Remove(ctx, probe)
	} else if err != nil {
		return "", explain(err, "preparing "+t.Place())
	}
	found, err = identity(ctx, t)
	if err != nil {
		return "", explain(err, "preparing "+t.Place())
	}
	return found.ID, nil
}

// Browse lists a place that need not be a cabinet. It first makes a folder in it, where one is named; that one may be
// there already.
func Browse(ctx context.Context, t Tree, made string) ([]cabinet.Entry, error) {
	if made != "" {
		if err := t.Mkdir(ctx, made); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, explain(err, "making a folder in "+t.Place())
		}
		entry, err := t.Stat(ctx, made)
		if err == nil && !entry.Folder {
			return nil, explain(fs.ErrExist, "making a folder in "+t.Place())
		}
	}
	found, err := t.List(ctx, made)
	if err != nil {
		return nil, explain(err, "looking into "+t.Place())
	}
	return found, nil
}

func identity(ctx context.Context, t Tree) (cabinet.Identity, error) {
	f, err := t.Open(ctx, cabinet.IdentityFile)
	if err != nil {
		return cabinet.Identity{}, err
	}
	defer f.Close()
	return cabinet.ReadIdentity(f)
}

// Cabinet is a cabinet on a tree.
type Cabinet struct {
	tree Tree
	id   string

	mutex   sync.Mutex
	folders map[string]*listing
}

// listing remembers what a folder holds for a while: what others put there
// meanwhile is noticed when a name is given at the latest.
type listing struct {
	until time.Time
	names map[string]name // by their folded form
}

type name struct {
	real   string
	folder bool
	other  bool  // neither a file nor a folder
	size   int64 // of a file; -1 where it is not known
}

const (
	maxListings = 256
	probesLast  = 24 * time.Hour  // others' clocks may differ
	rememberFor = 3 * time.Second // a folder that takes long to list is remembered for 20 times as long
)

// New gives the cabinet on a tree, by the identity that Prepare returned.
func New(t Tree, id string) *Cabinet {
	return &Cabinet{tree: t, id: id, folders: map[string]*listing{}}
}

// Close lets go of the server.
func (c *Cabinet) Close() error { return c.tree.Close() }

func temporary(id string) string { return cabinet.Staging + "/" + id + ".part" }

// Check reads the identity again and writes a temporary object.
func (c *Cabinet) Check(ctx context.Context) error {
	found, err := identity(ctx, c.tree)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, err := c.tree.Stat(ctx, ""); err != nil {
			return explain(err, "looking for "+c.tree.Place())
		}
		return cabinet.Missing(c.tree.Place())
	case err != nil:
		return explain(err, "reading the identity of "+c.tree.Place())
	case found.ID != c.id:
		return cabinet.Foreign(c.tree.Place())
	}
	mark := cabinet.Probe + strings.ToLower(rand.Text())
	if t, ok := c.tree.(stagesElsewhere); ok {
		if err := t.Writable(ctx, mark); err != nil {
			return explain(err, "writing to "+c.tree.Place())
		}
		return nil
	}
	probe := temporary(mark)
	err = c.tree.Create(ctx, probe, time.Time{}, strings.NewReader("check"))
	if errors.Is(err, fs.ErrNotExist) { // somebody emptied the cabinet's own folder
		if err = c.tree.Mkdir(ctx, cabinet.Staging); err == nil || errors.Is(err, fs.ErrExist) {
			err = c.tree.Create(ctx, probe, time.Time{}, strings.NewReader("check"))
		}
	}
	end, cancel := ending(ctx) // it may be there although the answer was lost, or nobody waits any more
	defer cancel()
	// another service may have swept it
	if gone := c.tree.Remove(end, probe); err == nil && !errors.Is(gone, fs.ErrNotExist) {
		err = gone
	}
	if err != nil {
		return explain(err, "writing to "+c.tree.Place())
	}
	return nil
}

// stagesElsewhere is a tree whose staged objects do not lie on the server.
type stagesElsewhere interface {
	// Writable writes to the server and removes what was written.
	Writable(ctx context.Context, probe string) error
	// ProveMore tries out what else is promised, and says it.
	ProveMore(ctx context.Context, probe string) (string, error)
}

// sweeper is a tree on whose server more than temporary objects may be left.
type sweeper interface {
	Sweep(ctx context.Context) error
}

// Prove tries out whether the server refuses a taken name and replaces in one step.
func (c *Cabinet) Prove(ctx context.Context) ([]string, error) {
	if err := c.Check(ctx); err != nil {
		return nil, err
	}
	said := []string{"it is there with its identity file, and can be written to"}
	probe := cabinet.Probe + strings.ToLower(rand.Text())
	a, b, to := temporary(probe+"-a"), temporary(probe+"-b"), cabinet.Reserved+"/"+probe+"-name"
	defer func() {
		ctx, cancel := ending(ctx)
		defer cancel()
		for _, one := range []string{a, b, to} {
			_ = c.tree.Remove(ctx, one)
		}
	}()
	for _, one := range []string{a, b} {
		if err := c.tree.Create(ctx, one, time.Time{}, strings.NewReader(one)); err != nil {
			return said, explain(err, "writing to "+c.tree.Place())
		}
	}
	if err := c.tree.Move(ctx, a, to); err != nil {
		return said, explain(err, "giving a file its name in "+c.tree.Place())
	}
	if err := c.tree.Move(ctx, b, to); !errors.Is(err, fs.ErrExist) {
		return said,
			&cabinet.Error{Problem: fmt.Sprintf("%s lets a file take a name that is taken (%v)", c.tree.Place(), err),
				Advice: "Files could be lost there. Ask the administrator of the server, or choose another one.", Lasting: true}
	}
	if there, err := c.content(ctx, to); err != nil || there.SHA256 != sha256.Sum256([]byte(a)) {
		return said,
			&cabinet.Error{
				Problem: fmt.Sprintf("%s changed a file while its name was refused to another (%v)", c.tree.Place(), err),
				Advice:  "Files could be lost there. Ask the administrator of the server, or choose another one.", Lasting: true}
	}
	refused := "a name that is taken is refused"
	if t, ok := c.tree.(stagesElsewhere); ok {
		more, err := t.ProveMore(ctx, probe+"-parts")
		if err != nil {
			return said, explain(err, "trying out "+c.tree.Place())
		}
		refused += ", " + more
	}
	said = append(said, refused)
	if err := c.tree.Replace(ctx, b, to); err != nil {
		return said, explain(err, "replacing a file in "+c.tree.Place())
	}
	return append(said, "a list that is kept up to date is replaced in one step, "+c.tree.Replaces()), nil
}

// Room is the room that the server says is left.
func (c *Cabinet) Room(ctx context.Context) (int64, error) {
	free, err := c.tree.Room(ctx)
	if err != nil {
		return -1, explain(err, "asking for the room left in "+c.tree.Place())
	}
	return free, nil
}

// ending is for what has to be tidied up although the work itself may have ended.
func ending(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
}

// Stage streams, and asks the server afterwards whether all of it is there.
func (c *Cabinet) Stage(ctx context.Context, id string, received time.Time, r io.Reader) (cabinet.Content, error) {
	var content cabinet.Content
	if err := ctx.Err(); err != nil {
		return content, err
	}
	source := &cabinet.Reading{Reader: r, Context: ctx}
	sum := sha256.New()
	counted := &counter{r: io.TeeReader(source, sum)}
	name := temporary(id)
	err := c.tree.Create(ctx, name, received, counted)
	if err == nil && source.Err == nil {
		var there cabinet.Entry
		if there, err = c.tree.Stat(ctx, name); err == nil && there.Size != counted.n {
			err = &cabinet.Error{
				Problem: fmt.Sprintf("%s took %d octets of %d and said that it took all", c.tree.Place(), there.Size, counted.n),
				Advice:  "Ink Tray tries again. If it happens often, ask the administrator of the server."}
		}
	}
	if err != nil || source.Err != nil {
		tidy, cancel := ending(ctx)
		defer cancel()
		_ = c.tree.Remove(tidy, name)
		if source.Err != nil {
			return content, source.Err // the mailbox failed, not the cabinet
		}
		return content, explain(err, "writing to "+c.tree.Place())
	}
	content.Size = counted.n
	sum.Sum(content.SHA256[:0])
	return content, nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// Resolve walks down the folders that are there.
func (c *Cabinet) Resolve(ctx context.Context, folders []string, file string) (cabinet.Spot, error) {
	if err := cabinet.Clean(path.Join(path.Join(folders...), file)); err != nil {
		return cabinet.Spot{}, err
	}
	at, exists, made := "", true, ""
	for _, f := range folders {
		if exists {
			found, ok, err := c.find(ctx, at, f)
			if err != nil {
				return cabinet.Spot{}, explain(err, "looking into "+c.tree.Place())
			}
			if ok && !found.folder {
				return cabinet.Spot{},
					&cabinet.Error{Problem: fmt.Sprintf("%q is a file, so it cannot be a folder", path.Join(at, found.real)),
						Advice: "Rename the file, or change the rule's folder.", Lasting: true}
			}
			if exists = ok; ok {
				f = found.real
			} else {
				made = path.Join(at, f)
			}
		}
		at = path.Join(at, f)
	}
	spot := cabinet.Spot{Path: path.Join(at, file), New: made}
	if exists {
		found, ok, err := c.find(ctx, at, file)
		if err != nil {
			return spot, explain(err, "looking into "+c.tree.Place())
		}
		if ok {
			spot.Taken, spot.By, spot.Other = true, path.Join(at, found.real), found.folder || found.other
			spot.Size = found.size
		}
	}
	return spot, nil
}

// find looks for a name in a folder, without regard to case and Unicode form.
func (c *Cabinet) find(ctx context.Context, folder, wanted string) (name, bool, error) {
	folded := safename.Fold(wanted)
	c.mutex.Lock()
	l := c.folders[folder]
	if l != nil && time.Now().Before(l.until) {
		defer c.mutex.Unlock()
		found, ok := l.names[folded]
		return found, ok, nil
	}
	c.mutex.Unlock()
	began := time.Now()
	entries, err := c.tree.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return name{}, false, nil
	}
	if err != nil {
		return name{}, false, err
	}
	now := time.Now()
	l = &listing{until: now.Add(max(rememberFor, 20*now.Sub(began))), names: make(map[string]name, len(entries))}
	for _, e := range entries {
		key := safename.Fold(e.Name)
		if _, twice := l.names[key]; twice && e.Name != wanted {
			continue
		}
		l.names[key] = name{e.Name, e.Folder, e.Other, e.Size}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if len(c.folders) >= maxListings {
		clear(c.folders)
	}
	c.folders[folder] = l
	found, ok := l.names[folded]
	return found, ok, nil
}

// learn notes a name that was given.
func (c *Cabinet) learn(full string, folder bool) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if l := c.folders[parent(full)]; l != nil {
		l.names[safename.Fold(path.Base(full))] = name{real: path.Base(full), folder: folder, size: -1}
	}
}

// doubt forgets what is remembered of a folder.
func (c *Cabinet) doubt(folder string) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	delete(c.folders, folder)
}

func (c *Cabinet) doubtAll() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	clear(c.folders)
}

// parent is the folder of a path, "" for the cabinet's own place.
func parent(full string) string {
	if dir := path.Dir(full); dir != "." {
		return dir
	}
	return ""
}

// mkdirs makes the folders that are not known to be there.
func (c *Cabinet) mkdirs(ctx context.Context, folder string) error {
	if folder == "" {
		return nil
	}
	c.mutex.Lock()
	known := false
	if l := c.folders[parent(folder)]; l != nil && time.Now().Before(l.until) {
		found, ok := l.names[safename.Fold(path.Base(folder))]
		known = ok && found.folder && found.real == path.Base(folder)
	}
	c.mutex.Unlock()
	if known {
		return nil
	}
	err := c.tree.Mkdir(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		if err := c.mkdirs(ctx, parent(folder)); err != nil {
			return err
		}
		err = c.tree.Mkdir(ctx, folder)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	c.learn(folder, true)
	return nil
}

// move gives a file its name, making the folders.
func (c *Cabinet) move(ctx context.Context, from, to string) error {
	for again := false; ; again = true {
		if err := c.mkdirs(ctx, parent(to)); err != nil {
			return err
		}
		err := c.tree.Move(ctx, from, to)
		if errors.Is(err, fs.ErrNotExist) && !again {
			c.doubtAll() // somebody may have removed the folder
			continue
		}
		return err
	}
}

// Commit makes the folders and gives the staged object its name.
func (c *Cabinet) Commit(ctx context.Context, id, to string) error {
	if err := cabinet.Clean(to); err != nil {
		return err
	}
	err := c.move(ctx, temporary(id), to)
	switch {
	case errors.Is(err, fs.ErrExist):
		c.doubt(parent(to))
		return cabinet.ErrTaken
	case errors.Is(err, fs.ErrNotExist):
		return cabinet.ErrMissing
	case err != nil:
		return explain(err, "naming the file "+to)
	}
	c.learn(to, false)
	return nil
}

// Renew puts the staged object in the place of a file that is ours.
func (c *Cabinet) Renew(ctx context.Context, id, to string, ours ...[32]byte) error {
	there, err := c.Sum(ctx, to)
	if errors.Is(err, cabinet.ErrMissing) {
		return c.Commit(ctx, id, to)
	}
	if err != nil {
		return err
	}
	if !slices.Contains(ours, there.SHA256) {
		return cabinet.ErrTaken
	}
	err = c.tree.Replace(ctx, temporary(id), to)
	switch {
	case errors.Is(err, fs.ErrExist):
		return cabinet.ErrTaken
	case errors.Is(err, fs.ErrNotExist):
		return cabinet.ErrMissing
	case err != nil:
		return explain(err, "renewing the file "+to)
	}
	return nil
}

// Staged says whether the temporary object still waits for its name.
func (c *Cabinet) Staged(ctx context.Context, id string) (bool, error) {
	_, err := c.tree.Stat(ctx, temporary(id))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, explain(err, "looking for an unfinished file")
	}
	return true, nil
}

// Discard removes a temporary object.
func (c *Cabinet) Discard(ctx context.Context, id string) error {
	if err := c.tree.Remove(ctx, temporary(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "removing an unfinished file")
	}
	return nil
}

// Leftovers lists what is in the staging folder, and removes what was left beside it
// by checks that were cut off.
func (c *Cabinet) Leftovers(ctx context.Context) ([]string, error) {
	if err := c.tidy(ctx); err != nil {
		return nil, explain(err, "tidying up")
	}
	if s, ok := c.tree.(sweeper); ok {
		if err := s.Sweep(ctx); err != nil {
			return nil, explain(err, "tidying up")
		}
	}
	entries, err := c.tree.List(ctx, cabinet.Staging)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "looking for unfinished files")
	}
	var ids []string
	for _, e := range entries {
		if id, ok := strings.CutSuffix(e.Name, ".part"); ok && !e.Folder {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

// tidy removes probes that are too old to be another service's that is at it.
func (c *Cabinet) tidy(ctx context.Context) error {
	entries, err := c.tree.List(ctx, cabinet.Reserved)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name, cabinet.Probe) && !e.Folder && !e.Modified.IsZero() &&
			time.Since(e.Modified) > probesLast {
			if err := c.tree.Remove(ctx, cabinet.Reserved+"/"+e.Name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return err
}

// List lists a folder.
func (c *Cabinet) List(ctx context.Context, within string) ([]cabinet.Entry, error) {
	if within != "" {
		if err := cabinet.Clean(within); err != nil {
			return nil, err
		}
	}
	entries, err := c.tree.List(ctx, within)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, cabinet.ErrMissing
	}
	if err != nil {
		return nil, explain(err, "listing the folder")
	}
	entries = slices.DeleteFunc(entries, func(e cabinet.Entry) bool { return within == "" && e.Name == cabinet.Reserved })
	slices.SortFunc(entries, func(a, b cabinet.Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
}

// RemoveFolder removes an empty folder.
func (c *Cabinet) RemoveFolder(ctx context.Context, folder string) (removed bool, err error) {
	if err := cabinet.Clean(folder); err != nil {
		return false, err
	}
	entries, err := c.tree.List(ctx, folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, explain(err, "listing the folder "+folder)
	case len(entries) > 0:
		return false, cabinet.ErrNotEmpty
	}
	err = c.tree.RemoveFolder(ctx, folder)
	c.doubt(folder)
	c.doubt(parent(folder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, cabinet.ErrNotEmpty) {
		return false, explain(err, "removing the folder "+folder)
	}
	if errors.Is(err, cabinet.ErrNotEmpty) {
		return false, cabinet.ErrNotEmpty
	}
	return true, nil
}

func keptAs(kept string) string { return cabinet.Replaced + "/" + kept }

// Retire gives a file a name in the cabinet's own folder.
func (c *Cabinet) Retire(ctx context.Context, from, kept string) error {
	if err := cabinet.Clean(from); err != nil {
		return err
	}
	if err := cabinet.CleanKept(kept); err != nil {
		return err
	}
	return c.shift(ctx, from, keptAs(kept), "moving "+from+" out of the way")
}

// Restore gives a file that was moved out of the way its name back, or another.
func (c *Cabinet) Restore(ctx context.Context, kept, to string) error {
	if err := cabinet.Clean(to); err != nil {
		return err
	}
	if cabinet.CleanKept(kept) != nil {
		return cabinet.ErrMissing
	}
	return c.shift(ctx, keptAs(kept), to, "putting "+to+" back")
}

// shift gives a file another name that is free. Where the same content has that name
// already, only the first name is taken away.
func (c *Cabinet) shift(ctx context.Context, from, to, doing string) error {
	err := c.move(ctx, from, to)
	if errors.Is(err, fs.ErrExist) {
		var both [2]cabinet.Content
		for i, one := range []string{from, to} {
			if both[i], err = c.content(ctx, one); err != nil {
				return err
			}
		}
		if both[0] != both[1] {
			return cabinet.ErrTaken
		}
		err = c.tree.Remove(ctx, from) // both names may be left after a crash
	}
	c.doubt(parent(from))
	c.doubt(parent(to))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return cabinet.ErrMissing
	case err != nil:
		return explain(err, doing)
	}
	return nil
}

// Forget removes a file that was moved out of the way; none is no error.
func (c *Cabinet) Forget(ctx context.Context, kept string) error {
	if cabinet.CleanKept(kept) != nil {
		return nil
	}
	if err := c.tree.Remove(ctx, keptAs(kept)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "removing a file that was kept")
	}
	return nil
}

// Kept opens a file that was moved out of the way.
func (c *Cabinet) Kept(ctx context.Context, kept string) (io.ReadCloser, error) {
	if cabinet.CleanKept(kept) != nil {
		return nil, cabinet.ErrMissing
	}
	return c.open(ctx, keptAs(kept))
}

// AllKept lists the files that were moved out of the way.
func (c *Cabinet) AllKept(ctx context.Context) ([]cabinet.Entry, error) {
	entries, err := c.tree.List(ctx, cabinet.Replaced)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "looking for files that were kept")
	}
	return slices.DeleteFunc(entries, func(e cabinet.Entry) bool { return e.Folder || e.Other }), nil
}

// Open opens a file for reading.
func (c *Cabinet) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if err := cabinet.Clean(name); err != nil {
		return nil, err
	}
	return c.open(ctx, name)
}

func (c *Cabinet) open(ctx context.Context, name string) (io.ReadCloser, error) {
	f, err := c.tree.Open(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, cabinet.ErrMissing
	}
	if err != nil {
		if there, look := c.tree.Stat(ctx, name); look == nil && (there.Folder || there.Other) {
			return nil, cabinet.ErrMissing // something is there, but no file
		}
		return nil, explain(err, "opening "+name)
	}
	return f, nil
}

// Sum reads a file.
func (c *Cabinet) Sum(ctx context.Context, name string) (cabinet.Content, error) {
	if err := cabinet.Clean(name); err != nil {
		return cabinet.Content{}, err
	}
	return c.content(ctx, name)
}

func (c *Cabinet) content(ctx context.Context, name string) (cabinet.Content, error) {
	f, err := c.open(ctx, name)
	if err != nil {
		return cabinet.Content{}, err
	}
	defer f.Close()
	content, err := cabinet.Measure(ctx, f)
	if err != nil {
		return content, explain(err, "reading "+name)
	}
	return content, nil
}

// explain says what was being done, unless the error says it already.
func explain(err error, doing string) error {
	var told *cabinet.Error
	switch {
	case errors.As(err, &told):
		if told.During == doing {
			return err
		}
		out := *told
		out.Problem, out.During = doing+" failed: "+told.Problem, doing
		return &out
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return &cabinet.Error{Problem: doing + " took too long", Advice: "It is tried again.", During: doing, Err: err}
	case errors.Is(err, fs.ErrNotExist):
		return &cabinet.Error{Problem: doing + " failed: it is not there", Advice: "Make the folder on the server, or " +
			"correct the path.", During: doing, Err: err}
	case errors.Is(err, fs.ErrExist):
		return &cabinet.Error{Problem: doing + " failed: there is a file where a folder is needed",
			Advice: "Rename the file, or change the folder.", Lasting: true, During: doing, Err: err}
	}
	return &cabinet.Error{Problem: fmt.Sprintf("%s failed (%v)", doing, err), During: doing, Err: err}
}
