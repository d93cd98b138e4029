// Package local keeps files in a folder of this machine or on a mounted share.
// It never overwrites and never leaves its folder.
package local

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/disk"
)

// Prepare makes a folder into a cabinet, or finds that it is one, and returns
// the cabinet's identity. The folder itself is made where its parent is there.
func Prepare(folder string, now time.Time) (id string, err error) {
	if !path.IsAbs(folder) && !strings.Contains(folder, `:\`) {
		return "", &cabinet.Error{Problem: fmt.Sprintf("%q is not a whole path", folder),
			Advice: "Write the folder's path from the root on, such as /srv/harbour-files.", Lasting: true}
	}
	if err := os.Mkdir(folder, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", explain(err, "making the folder "+folder)
	}
	root, err := disk.Root(folder)
	if err != nil {
		return "", explain(err, "opening the folder "+folder)
	}
	defer root.Close()
	if found, err := readIdentity(root); err == nil {
		return found.ID, nil
	}
	for _, dir := range []string{cabinet.Reserved, cabinet.Staging} {
		if err := root.Mkdir(dir); err != nil && !errors.Is(err, fs.ErrExist) {
			return "", explain(err, "preparing the folder "+folder)
		}
	}
	made, data, err := cabinet.NewIdentity(now)
	if err != nil {
		return "", err
	}
	f, err := root.Create(cabinet.IdentityFile)
	if err != nil {
		return "", explain(err, "preparing the folder "+folder)
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Sync(), f.Close(), root.SyncDir(cabinet.Reserved), root.SyncDir("."))
	if err != nil {
		return "", explain(err, "preparing the folder "+folder)
	}
	return made.ID, nil
}

func readIdentity(root disk.FS) (cabinet.Identity, error) {
	f, err := root.Open(cabinet.IdentityFile)
	if err != nil {
		return cabinet.Identity{}, err
	}
	defer f.Close()
	return cabinet.ReadIdentity(f)
}

// Cabinet is a folder of this machine.
type Cabinet struct {
	access disk.Access
	id     string
	name   string // the folder's path, for sentences
	open   func() (disk.FS, error)

	flushes disk.Flushes

	mutex sync.Mutex
	fs    *opened
	names map[string]*listing
	fresh map[string]int // folders that are being made and may not outlive a power cut yet, by how many make them
}

// listing remembers a folder's names in their folded form for as long as the
// folder's own time has not changed.
type listing struct {
	changed time.Time
	names   map[string]string // folded to real
}

// maxListings bounds how many folders are remembered.
const maxListings = 256

// New gives the cabinet in a folder, by the identity that Prepare returned.
// The folder is opened at first use, so that a share may be mounted later.
func New(folder, id string) *Cabinet {
	return On(folder, id, func() (disk.FS, error) { return disk.Root(folder) })
}

// With lets files and folders that are made from now on have a mode and an owner.
func (c *Cabinet) With(a disk.Access) *Cabinet {
	c.access = a
	return c
}

// On gives a cabinet on any file system.
func On(name, id string, open func() (disk.FS, error)) *Cabinet {
	return &Cabinet{id: id, name: name, open: open, names: map[string]*listing{}, fresh: map[string]int{}}
}

// opened is the folder as it was opened, and how many calls use it.
type opened struct {
	disk.FS
	users   int
	dropped bool
}

// root opens the folder again where it is not open or no longer the one it was.
// What it returns is given back by done.
func (c *Cabinet) root() (*opened, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.fs == nil {
		f, err := c.open()
		if err != nil {
			return nil, explain(err, "opening the folder "+c.name)
		}
		c.fs = &opened{FS: f}
	}
	c.fs.users++
	return c.fs, nil
}

// done ends the use of the opened folder. It closes the folder if forget was called and no other call uses it.
func (c *Cabinet) done(o *opened) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if o.users--; o.dropped && o.users == 0 {
		o.Close()
	}
}

// forget lets the next call open the folder again. Calls under way continue with the folder that they opened.
func (c *Cabinet) forget() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.fs != nil {
		c.fs.dropped = true
		if c.fs.users == 0 {
			c.fs.Close()
		}
		c.fs = nil
	}
	clear(c.names)
}

// Close lets go of the folder.
func (c *Cabinet) Close() error {
	c.forget()
	return nil
}

// Check opens the folder again, so that a share that was unmounted meanwhile is
// seen as what it is: an empty folder.
func (c *Cabinet) Check(context.Context) error {
	c.forget()
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	found, err := readIdentity(root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return cabinet.Missing("the folder " + c.name)
	case err != nil:
		return explain(err, "reading the identity of "+c.name)
	case found.ID != c.id:
		return cabinet.Foreign("the folder " + c.name)
	}
	if err := root.Mkdir(cabinet.Staging); err != nil && !errors.Is(err, fs.ErrExist) {
		return explain(err, "writing to "+c.name)
	}
	probe := temporary(cabinet.Probe + strings.ToLower(rand.Text()))
	f, err := root.Create(probe)
	if err != nil {
		return explain(err, "writing to "+c.name)
	}
	_, err = f.Write([]byte("check"))
	removed := root.Remove(probe)
	if errors.Is(removed, fs.ErrNotExist) {
		removed = nil // another service swept it
	}
	if err := errors.Join(err, f.Close(), removed); err != nil {
		return explain(err, "writing to "+c.name)
	}
	return nil
}

func temporary(id string) string { return cabinet.Staging + "/" + id + ".part" }

// Stage writes, flushes the file and the entry that names it, and only then
// returns: a temporary object that the journal speaks of outlives a power cut.
func (c *Cabinet) Stage(ctx context.Context, id string, received time.Time, r io.Reader) (cabinet.Content, error) {
	var content cabinet.Content
	root, err := c.root()
	if err != nil {
		return content, err
	}
	defer c.done(root)
	name := temporary(id)
	f, err := root.Create(name)
	if errors.Is(err, fs.ErrExist) {
		if err := root.Remove(name); err != nil {
			return content, explain(err, "replacing an unfinished file")
		}
		f, err = root.Create(name)
	}
	if err != nil {
		return content, explain(err, "writing to "+c.name)
	}
	sum := sha256.New()
	buf := copyBuffers.Get().(*[]byte)
	defer copyBuffers.Put(buf)
	source := &cabinet.Reading{Reader: r, Context: ctx}
	content.Size, err = io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(f, sum)}, source, *buf)
	if err == nil && !received.IsZero() {
		err = root.Chtimes(name, received)
	}
	if err == nil && !c.access.None() {
		err = root.Grant(name, c.access)
	}
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = c.flush(root, cabinet.Staging)
	}
	if err != nil {
		_ = root.Remove(name)
		if source.Err != nil {
			return content, source.Err // the mailbox failed, not the cabinet
		}
		return content, explain(err, "writing to "+c.name)
	}
	sum.Sum(content.SHA256[:0])
	return content, nil
}

var copyBuffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// Resolve walks down the folders that are there.
func (c *Cabinet) Resolve(_ context.Context, folders []string, file string) (cabinet.Spot, error) {
	if err := cabinet.Clean(path.Join(path.Join(folders...), file)); err != nil {
		return cabinet.Spot{}, err
	}
	root, err := c.root()
	if err != nil {
		return cabinet.Spot{}, err
	}
	defer c.done(root)
	at, exists, made := ".", true, ""
	for _, f := range folders {
		if exists {
			real, ok, err := c.find(root, at, f)
			if err != nil {
				return cabinet.Spot{}, explain(err, "looking into "+c.name)
			}
			if ok {
				info, err := root.Lstat(path.Join(at, real))
				if err == nil && info.Mode()&fs.ModeSymlink != 0 {
					if _, err := root.Lstat(path.Join(at, real) + "/."); err != nil {
						return cabinet.Spot{},
							&cabinet.Error{Problem: fmt.Sprintf("%q is a link that leads to no folder in the cabinet", path.Join(at, real)),
								Advice: "Remove the link, or change the rule's folder.", Lasting: true}
					}
				} else if err == nil && !info.IsDir() {
					return cabinet.Spot{},
						&cabinet.Error{Problem: fmt.Sprintf("%q is a file, so it cannot be a folder", path.Join(at, real)),
							Advice: "Rename the file, or change the rule's folder.", Lasting: true}
				}
				f = real
			}
			if exists = ok; !ok {
				made = path.Join(at, f)
			}
		}
		at = path.Join(at, f)
	}
	spot := cabinet.Spot{Path: path.Join(at, file), New: made}
	if exists {
		real, ok, err := c.find(root, at, file)
		if err != nil {
			return spot, explain(err, "looking into "+c.name)
		}
		if ok {
			spot.Taken, spot.By = true, path.Join(at, real)
			spot.Other, spot.Size = irregular(root, spot.By)
		}
	}
	return spot, nil
}

// irregular says whether a name belongs to something that is no file to be read, and how large the file is.
func irregular(root disk.FS, name string) (other bool, size int64) {
	info, err := root.Lstat(name)
	switch {
	case err != nil:
		return false, -1
	case info.Mode().IsRegular():
		return false, info.Size()
	case info.Mode()&fs.ModeSymlink == 0:
		return true, -1
	}
	f, err := root.Open(name)
	if err != nil {
		return errors.Is(err, disk.ErrIrregular), -1
	}
	f.Close()
	return false, -1
}

// find looks for a name in a folder, without regard to case and Unicode form.
func (c *Cabinet) find(root disk.FS, folder, name string) (real string, ok bool, err error) {
	if _, err := root.Lstat(path.Join(folder, name)); err == nil {
		return name, true, nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", false, err
	}
	info, err := root.Lstat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	c.mutex.Lock()
	l := c.names[folder]
	c.mutex.Unlock()
	if l == nil || !l.changed.Equal(info.ModTime()) {
		entries, err := root.ReadDir(folder)
		if err != nil {
			return "", false, err
		}
		l = &listing{changed: info.ModTime(), names: make(map[string]string, len(entries))}
		for _, e := range entries {
			l.names[safename.Fold(e.Name())] = e.Name()
		}
		c.remember(folder, l)
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	real, ok = l.names[safename.Fold(name)]
	return real, ok, nil
}

func (c *Cabinet) remember(folder string, l *listing) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if len(c.names) >= maxListings {
		clear(c.names)
	}
	c.names[folder] = l
}

// Commit makes the folders, flushing each new one, publishes, and flushes.
func (c *Cabinet) Commit(_ context.Context, id, name string) error {
	if err := cabinet.Clean(name); err != nil {
		return err
	}
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	folder := path.Dir(name)
	if err := c.mkdirs(root, folder); err != nil {
		return explain(err, "making the folder "+folder)
	}
	err = root.Publish(temporary(id), name)
	if errors.Is(err, fs.ErrExist) {
		return cabinet.ErrTaken
	}
	if errors.Is(err, fs.ErrNotExist) {
		return cabinet.ErrMissing
	}
	if err != nil {
		return explain(err, "naming the file "+name)
	}
	// The first name's end need not be flushed: should both names come back after
	// a power cut, the number of links tells that the file was published.
	if err := c.flush(root, folder); err != nil {
		return explain(err, "flushing "+folder)
	}
	c.mutex.Lock()
	if l := c.names[folder]; l != nil {
		if info, err := root.Lstat(folder); err == nil {
			l.names[safename.Fold(path.Base(name))] = path.Base(name)
			l.changed = info.ModTime()
		}
	}
	c.mutex.Unlock()
	return nil
}

// Renew puts the staged object in the place of a file that is ours, by renaming.
func (c *Cabinet) Renew(ctx context.Context, id, name string, ours ...[32]byte) error {
	there, err := c.Sum(ctx, name)
	if errors.Is(err, cabinet.ErrMissing) {
		return c.Commit(ctx, id, name)
	}
	if err != nil {
		return err
	}
	if !slices.Contains(ours, there.SHA256) {
		return cabinet.ErrTaken
	}
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	err = root.Replace(temporary(id), name)
	if errors.Is(err, fs.ErrNotExist) {
		return cabinet.ErrMissing
	}
	if err != nil {
		return explain(err, "renewing the file "+name)
	}
	if err := root.SyncDir(path.Dir(name)); err != nil {
		return explain(err, "flushing "+path.Dir(name))
	}
	return nil
}

// mkdirs makes a folder and those above it, each flushed before anything is put into it, whoever made it.
func (c *Cabinet) mkdirs(root disk.FS, folder string) error {
	if folder == "." {
		return nil
	}
	parent := path.Dir(folder)
	if info, err := root.Lstat(folder); err == nil && info.IsDir() {
		if c.unflushed(folder) { // another has made it at this moment
			return c.flush(root, parent)
		}
		return nil
	}
	if err := c.mkdirs(root, parent); err != nil {
		return err
	}
	c.mutex.Lock()
	c.fresh[folder]++
	c.mutex.Unlock()
	err := root.Mkdir(folder)
	if err == nil && !c.access.None() {
		err = root.Grant(folder, c.access.Folder())
	}
	if err == nil || errors.Is(err, fs.ErrExist) {
		err = c.flush(root, parent)
	}
	c.mutex.Lock()
	if c.fresh[folder]--; c.fresh[folder] == 0 {
		delete(c.fresh, folder)
	}
	c.mutex.Unlock()
	return err
}

func (c *Cabinet) unflushed(folder string) bool {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.fresh[folder] > 0
}

// flush makes a folder's names last, together with others who ask for it at the same moment.
func (c *Cabinet) flush(root disk.FS, folder string) error {
	return c.flushes.Do(folder, func() error { return root.SyncDir(folder) })
}

// Staged says whether the temporary object still waits for its name. One that
// has a second name already was committed: only its first name was left over.
func (c *Cabinet) Staged(_ context.Context, id string) (bool, error) {
	root, err := c.root()
	if err != nil {
		return false, err
	}
	defer c.done(root)
	info, err := root.Lstat(temporary(id))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, explain(err, "looking for an unfinished file")
	}
	return disk.Links(info) < 2, nil
}

// Discard removes a temporary object.
func (c *Cabinet) Discard(_ context.Context, id string) error {
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	if err := root.Remove(temporary(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "removing an unfinished file")
	}
	return nil
}

// Leftovers lists what is in the staging folder.
func (c *Cabinet) Leftovers(context.Context) ([]string, error) {
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	entries, err := root.ReadDir(cabinet.Staging)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "looking for unfinished files")
	}
	var ids []string
	for _, e := range entries {
		if id, ok := strings.CutSuffix(e.Name(), ".part"); ok {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

// List lists a folder.
func (c *Cabinet) List(_ context.Context, within string) ([]cabinet.Entry, error) {
	if within == "" {
		within = "."
	} else if err := cabinet.Clean(within); err != nil {
		return nil, err
	}
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	found, err := root.ReadDir(within)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, cabinet.ErrMissing
	}
	if err != nil {
		return nil, explain(err, "listing the folder")
	}
	var entries []cabinet.Entry
	for _, e := range found {
		if within == "." && e.Name() == cabinet.Reserved {
			continue
		}
		entry := cabinet.Entry{Name: e.Name(), Folder: e.IsDir()}
		if !entry.Folder {
			info, err := e.Info()
			if err != nil || !info.Mode().IsRegular() {
				continue // gone meanwhile, or no file
			}
			entry.Size, entry.Modified = info.Size(), info.ModTime()
		}
		entries = append(entries, entry)
	}
	slices.SortFunc(entries, func(a, b cabinet.Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
}

// Prove tries out whether names are given without overwriting, and replaced in one step.
func (c *Cabinet) Prove(ctx context.Context) ([]string, error) {
	if err := c.Check(ctx); err != nil {
		return nil, err
	}
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	said := []string{"it is there with its identity file, and can be written to"}
	probe := cabinet.Probe + strings.ToLower(rand.Text())
	a, b, name := probe+"-a", probe+"-b", temporary(probe+"-name")
	defer func() {
		for _, one := range []string{temporary(a), temporary(b), name} {
			_ = root.Remove(one)
		}
	}()
	for _, id := range []string{a, b} {
		if _, err := c.Stage(ctx, id, time.Time{}, strings.NewReader(id)); err != nil {
			return said, err
		}
	}
	if err := root.Publish(temporary(a), name); err != nil {
		return said, explain(err, "giving a file its name in "+c.name)
	}
	if err := root.Publish(temporary(b), name); !errors.Is(err, fs.ErrExist) {
		return said,
			&cabinet.Error{Problem: fmt.Sprintf("the folder %s lets a file take a name that is taken (%v)", c.name, err),
				Advice: "Files could be lost there: choose a place on another file system.", Lasting: true}
	}
	said = append(said, "a name that is taken is refused")
	if err := root.Replace(temporary(b), name); err != nil {
		return said, explain(err, "replacing a file in "+c.name)
	}
	return append(said, "a list that is kept up to date is replaced in one step"), nil
}

// Room is the room that the file system has left for this account.
func (c *Cabinet) Room(context.Context) (int64, error) { return disk.Room(c.name) }

// Retire gives a file a name in the cabinet's own folder, by the same step that
// cannot overwrite, and flushes both folders: first the one where it is kept.
func (c *Cabinet) Retire(_ context.Context, name, kept string) error {
	if err := cabinet.Clean(name); err != nil {
		return err
	}
	if err := cabinet.CleanKept(kept); err != nil {
		return err
	}
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	return c.shift(root, name, cabinet.Replaced+"/"+kept, "moving "+name+" out of the way")
}

// Restore gives a file that was moved out of the way its name back, or another.
func (c *Cabinet) Restore(_ context.Context, kept, name string) error {
	if err := cabinet.Clean(name); err != nil {
		return err
	}
	if cabinet.CleanKept(kept) != nil {
		return cabinet.ErrMissing
	}
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	return c.shift(root, cabinet.Replaced+"/"+kept, name, "putting "+name+" back")
}

// RemoveFolder removes an empty folder, and flushes the one in which it was.
func (c *Cabinet) RemoveFolder(_ context.Context, folder string) (removed bool, err error) {
	if err := cabinet.Clean(folder); err != nil {
		return false, err
	}
	root, err := c.root()
	if err != nil {
		return false, err
	}
	defer c.done(root)
	info, err := root.Lstat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, explain(err, "looking at the folder "+folder)
	}
	if !info.IsDir() { // a link to a folder elsewhere was not made here
		return false, cabinet.ErrNotEmpty
	}
	if err := root.Remove(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
		if entries, listErr := root.ReadDir(folder); listErr == nil && len(entries) > 0 {
			return false, cabinet.ErrNotEmpty
		}
		return false, explain(err, "removing the folder "+folder)
	}
	c.mutex.Lock()
	delete(c.names, folder)
	c.mutex.Unlock()
	if err := root.SyncDir(path.Dir(folder)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, explain(err, "flushing "+path.Dir(folder))
	}
	return true, nil
}

// Forget removes a file that was moved out of the way; none is no error.
func (c *Cabinet) Forget(_ context.Context, kept string) error {
	if cabinet.CleanKept(kept) != nil {
		return nil
	}
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	if err := root.Remove(cabinet.Replaced + "/" + kept); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "removing a file that was kept")
	}
	return nil
}

// shift gives a file another name that is free, and flushes both folders. Where
// the same content has that name already, only the first name is taken away.
func (c *Cabinet) shift(root disk.FS, from, to, doing string) error {
	if err := c.mkdirs(root, path.Dir(to)); err != nil {
		return explain(err, "making the folder "+path.Dir(to))
	}
	err := root.Publish(from, to)
	if errors.Is(err, fs.ErrExist) {
		same, err := c.same(root, from, to)
		switch {
		case err != nil:
			return err
		case !same:
			return cabinet.ErrTaken
		}
		// After a power cut both names may be there: the first one was left over.
		if err := root.Remove(from); err != nil {
			return explain(err, doing)
		}
	}
	switch {
	case errors.Is(err, fs.ErrExist):
	case errors.Is(err, fs.ErrNotExist):
		return cabinet.ErrMissing
	case err != nil:
		return explain(err, doing)
	}
	for _, folder := range []string{path.Dir(to), path.Dir(from)} {
		if err := root.SyncDir(folder); err != nil {
			return explain(err, "flushing "+folder)
		}
		c.mutex.Lock()
		delete(c.names, folder)
		c.mutex.Unlock()
	}
	return nil
}

// same says whether two files have the same content.
func (c *Cabinet) same(root disk.FS, a, b string) (bool, error) {
	var sums [2][]byte
	for i, name := range []string{a, b} {
		f, err := root.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			return false, cabinet.ErrMissing
		}
		if err != nil {
			return false, explain(err, "reading "+name)
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return false, explain(err, "reading "+name)
		}
		sums[i] = sum.Sum(nil)
	}
	return bytes.Equal(sums[0], sums[1]), nil
}

// AllKept lists the files that were moved out of the way.
func (c *Cabinet) AllKept(context.Context) ([]cabinet.Entry, error) {
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	found, err := root.ReadDir(cabinet.Replaced)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "looking for files that were kept")
	}
	var kept []cabinet.Entry
	for _, f := range found {
		info, err := f.Info()
		if err != nil || !info.Mode().IsRegular() { // it went meanwhile
			continue
		}
		kept = append(kept, cabinet.Entry{Name: f.Name(), Size: info.Size(), Modified: info.ModTime()})
	}
	return kept, nil
}

// Kept opens a file that was moved out of the way.
func (c *Cabinet) Kept(_ context.Context, kept string) (io.ReadCloser, error) {
	if cabinet.CleanKept(kept) != nil {
		return nil, cabinet.ErrMissing
	}
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	f, err := root.Open(cabinet.Replaced + "/" + kept)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, cabinet.ErrMissing
	}
	if err != nil {
		return nil, explain(err, "opening what was replaced")
	}
	return f, nil
}

// Open opens a file for reading.
func (c *Cabinet) Open(_ context.Context, name string) (io.ReadCloser, error) {
	if err := cabinet.Clean(name); err != nil {
		return nil, err
	}
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	f, err := root.Open(name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, disk.ErrIrregular) || errors.Is(err, syscall.ENOTDIR) {
		return nil, cabinet.ErrMissing
	}
	if err != nil {
		return nil, explain(err, "opening "+name)
	}
	return f, nil
}

// Sum reads a file.
func (c *Cabinet) Sum(ctx context.Context, name string) (cabinet.Content, error) {
	var content cabinet.Content
	f, err := c.Open(ctx, name)
	if err != nil {
		return content, err
	}
	defer f.Close()
	if content, err = cabinet.Measure(ctx, f); err != nil {
		return content, explain(err, "reading "+name)
	}
	return content, nil
}

// explain says what a failure of the file system means to the office.
func explain(err error, doing string) error {
	e := &cabinet.Error{Problem: fmt.Sprintf("%s failed (%v)", doing, root(err)), Err: err}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		e.Problem = doing + " failed: the folder is not there"
		e.Advice = "Make the folder, or mount the share, or correct the path."
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		e.Problem = doing + " failed: it may not be written to"
		e.Advice = "Give the account under which Ink Tray runs the right to write there."
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		e.Problem = doing + " failed: there is no room left"
		e.Advice = "Free some space. Ink Tray then files what waits."
	case errors.Is(err, syscall.ENAMETOOLONG):
		e.Problem = doing + " failed: the path is longer than this file system allows"
		e.Advice = "Shorten the rule's folder or name."
		e.Lasting = true
	case errors.Is(err, syscall.ENOTDIR):
		e.Problem = doing + " failed: there is a file where a folder is needed"
		e.Advice = "Rename the file, or change the folder."
		e.Lasting = true
	}
	return e
}

func root(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
