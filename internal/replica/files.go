package replica

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
)

// Beside the records, an installation needs files: mail that only Ink Tray holds, and contents that wait for a cabinet.
// Each is an object of its own at the place:
//
//	files/MOMENT-RANDOM.MODIFIED.PATH      sealed; PATH in base64 (RFC 4648 section 5)
//	gone/MOMENT-RANDOM.NAME                empty: the file of that name is gone since that moment
//
// so that the files of any moment can be put back.

// beside are the folders of these files, in the folder of the records.
var beside = []string{"mail", "waiting"}

const (
	filesFolder = "files"
	goneFolder  = "gone"
	longestPath = 140 // octets of a path, so that every place takes the name
)

// stored is a file at the place.
type stored struct {
	name     string // of the object
	path     string // in the folder of the records, with "/"
	modified time.Time
	since    time.Time
}

func storedName(rel string, modified, now time.Time) string {
	return stamped(now) + "." + strconv.FormatInt(modified.UnixNano(), 36) + "." +
		base64.RawURLEncoding.EncodeToString([]byte(rel))
}

func storedOf(name string) (s stored, ok bool) {
	parts := strings.Split(name, ".")
	if len(parts) != 3 {
		return s, false
	}
	nano, err := strconv.ParseInt(parts[1], 36, 64)
	rel, pathErr := base64.RawURLEncoding.DecodeString(parts[2])
	since, stamp := stampOf(parts[0])
	if err != nil || pathErr != nil || !stamp || !filepath.IsLocal(filepath.FromSlash(string(rel))) {
		return s, false
	}
	first, _, _ := strings.Cut(string(rel), "/")
	for _, one := range beside {
		ok = ok || one == first
	}
	return stored{name, string(rel), time.Unix(0, nano), since}, ok
}

// files keeps the files beside the records at a place.
type files struct {
	place     Place
	data      string
	identity  *age.X25519Identity
	permitted func() error
	clock     func() time.Time

	mutex sync.Mutex        // one at a time
	known map[string]stored // by path; nil until the place was read
}

// list lists the files at a place: those that are there, and when others went.
func listFiles(ctx context.Context, p Place) (all []stored, gone map[string]time.Time, err error) {
	entries, err := p.List(ctx, filesFolder)
	if err != nil {
		return nil, nil, err
	}
	went, err := p.List(ctx, goneFolder)
	if err != nil {
		return nil, nil, err
	}
	gone = map[string]time.Time{}
	for _, e := range went {
		stamp, name, _ := strings.Cut(e.Name, ".")
		if at, ok := stampOf(stamp); ok {
			gone[name] = at
		}
	}
	for _, e := range entries {
		if s, ok := storedOf(e.Name); ok {
			all = append(all, s)
		}
	}
	return all, gone, nil
}

func (f *files) learn(ctx context.Context) error {
	if f.known != nil {
		return nil
	}
	all, gone, err := listFiles(ctx, f.place)
	if err != nil {
		return err
	}
	known := map[string]stored{}
	for _, s := range all {
		if _, went := gone[s.name]; !went && s.since.After(known[s.path].since) {
			known[s.path] = s
		}
	}
	f.known = known
	return nil
}

// keep brings one file to the place, unless it is there.
func (f *files) keep(ctx context.Context, name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.learn(ctx); err != nil {
		return err
	}
	within, err := filepath.Rel(f.data, name)
	if err != nil {
		return err
	}
	return f.send(ctx, filepath.ToSlash(within))
}

// send brings a file to the place.
func (f *files) send(ctx context.Context, rel string) error {
	if len(rel) > longestPath {
		return oddFile{fmt.Errorf("the path of the file %s is too long for a replica", rel)}
	}
	from, err := os.Open(filepath.Join(f.data, filepath.FromSlash(rel)))
	if errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err != nil {
		return oddFile{err}
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil {
		return err
	}
	if err := f.permitted(); err != nil {
		return err
	}
	sealed, err := age.EncryptReader(from, f.identity.Recipient())
	if err != nil {
		return err
	}
	object := storedName(rel, info.ModTime(), f.clock())
	if err := f.place.Write(ctx, sealed, named(path.Join(filesFolder, object))); err != nil {
		return err
	}
	s, _ := storedOf(object)
	f.known[rel] = s
	return nil
}

// oddFile is why one file cannot be brought to the place, whatever becomes of the others.
type oddFile struct{ error }

// mirror brings every file to the place that is not there, and notes which are gone. left is why one of them stays here
// alone; it keeps no other from the place.
func (f *files) mirror(ctx context.Context) (left, err error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.learn(ctx); err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, folder := range beside {
		err := filepath.WalkDir(filepath.Join(f.data, folder), func(name string, d fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil || !d.Type().IsRegular() || filepath.Base(filepath.Dir(name)) == "tmp" {
				return err
			}
			within, err := filepath.Rel(f.data, name)
			if err != nil {
				return err
			}
			rel := filepath.ToSlash(within)
			info, err := d.Info()
			if err == nil && !f.known[rel].modified.Equal(info.ModTime()) {
				err = f.send(ctx, rel)
			}
			if errors.Is(err, fs.ErrNotExist) {
				if _, statErr := os.Lstat(name); errors.Is(statErr, fs.ErrNotExist) {
					return nil // it went at this moment
				}
			}
			there[rel] = true
			if odd := (oddFile{}); errors.As(err, &odd) {
				left = odd
				return nil
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	for rel, s := range f.known {
		if there[rel] {
			continue
		}
		if err := f.permitted(); err != nil {
			return nil, err
		}
		if err := put(ctx, f.place, path.Join(goneFolder, stamped(f.clock())+"."+s.name), nil); err != nil {
			return nil, err
		}
		delete(f.known, rel)
	}
	return left, nil
}

// prune removes what was gone before a moment.
func (f *files) prune(ctx context.Context, before time.Time) error {
	entries, err := f.place.List(ctx, goneFolder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		stamp, name, _ := strings.Cut(e.Name, ".")
		if at, ok := stampOf(stamp); !ok || !at.Before(before) {
			continue
		}
		if err := f.permitted(); err != nil {
			return err
		}
		if err := f.place.Remove(ctx, path.Join(filesFolder, name)); err != nil {
			return err
		}
		if err := f.place.Remove(ctx, path.Join(goneFolder, e.Name)); err != nil {
			return err
		}
	}
	return nil
}

// putBack writes the files of a moment into a folder; the zero moment is the newest.
func putBack(ctx context.Context, p Place, id *age.X25519Identity, at time.Time, data string) (n int, err error) {
	all, gone, err := listFiles(ctx, p)
	if err != nil {
		return 0, err
	}
	newest := map[string]stored{} // of one message there is one file, whatever its name says of its flags
	for _, s := range all {
		went, is := gone[s.name]
		if !at.IsZero() && s.since.After(at) || is && (at.IsZero() || !went.After(at)) {
			continue
		}
		if one := asMessage(s.path); !s.since.Before(newest[one].since) {
			newest[one] = s
		}
	}
	for _, s := range newest {
		if err := fetch(ctx, p, id, s, filepath.Join(data, filepath.FromSlash(s.path))); err != nil {
			return n, fmt.Errorf("putting %s back: %w", s.path, err)
		}
		n++
	}
	return n, nil
}

// asMessage is a path without what changes of a message in a Maildir.
func asMessage(rel string) string {
	if !strings.HasPrefix(rel, "mail/") {
		return rel
	}
	base, _, _ := strings.Cut(path.Base(rel), ":")
	folder := path.Dir(rel)
	if last := path.Base(folder); last == "new" || last == "cur" {
		folder = path.Dir(folder)
	}
	return path.Join(folder, base)
}

// fetch writes one file, flushed, unless it is there as it was.
func fetch(ctx context.Context, p Place, id *age.X25519Identity, s stored, to string) error {
	if info, err := os.Lstat(to); err == nil && info.ModTime().Equal(s.modified) {
		return nil
	}
	sealed, err := p.Open(ctx, path.Join(filesFolder, s.name))
	if err != nil {
		return err
	}
	defer sealed.Close()
	opened, err := age.Decrypt(sealed, id)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	w, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, opened)
	if err == nil {
		err = w.Sync()
	}
	if err = errors.Join(err, w.Close()); err == nil {
		err = os.Chtimes(to, s.modified, s.modified)
	}
	return err
}
