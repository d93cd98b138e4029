package replica

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/disk"
)

// Place is where a replica is kept: a folder, or a tree of a server. What is written there is never written over: each
// object is written once, under a name that was free, and removed when nobody needs it any more. Names have "/" between
// levels. It may be used by several goroutines at once.
type Place interface {
	// Write writes an object, flushed, and gives it the name that name says once r is at its end. fs.ErrExist where that
	// is taken, also where several writers want it at once; then nothing is left.
	Write(ctx context.Context, r io.Reader, name func() string) error
	// Open opens an object; fs.ErrNotExist where there is none.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// List lists a folder; nothing where there is none.
	List(ctx context.Context, folder string) ([]cabinet.Entry, error)
	// Remove removes an object; none is no error.
	Remove(ctx context.Context, name string) error
	// String is the place in words.
	String() string
	io.Closer
}

// named gives an object a name that is known before.
func named(name string) func() string { return func() string { return name } }

// put writes a small object.
func put(ctx context.Context, p Place, name string, data []byte) error {
	return p.Write(ctx, bytes.NewReader(data), named(name))
}

// mostSmall bounds what is read as a whole, in octets: keys, leases, what the place is of.
const mostSmall = 1 << 20

// read reads a small object.
func read(ctx context.Context, p Place, name string) ([]byte, error) {
	r, err := p.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, mostSmall))
	return data, errors.Join(err, r.Close())
}

// Folder is a place on this machine, or on a share that it has mounted. The folder itself has to be there: a share that
// is not mounted is not made anew.
func Folder(name string) Place { return &folder{name: filepath.Clean(name)} }

type folder struct{ name string }

func (f *folder) String() string { return f.name }
func (f *folder) Close() error   { return nil }

// explain says what an error of the folder means.
func (f *folder) explain(err error) error {
	if err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, context.Canceled) {
		return err
	}
	if _, statErr := os.Stat(f.name); statErr != nil {
		return fmt.Errorf("the folder for the replica cannot be used: %w", withoutKind(statErr))
	}
	return err
}

// withoutKind is an error that does not count as a missing object.
func withoutKind(err error) error { return errors.New(err.Error()) }

const partial = ".part"

func (f *folder) Write(ctx context.Context, r io.Reader, name func() string) (err error) {
	defer func() { err = f.explain(err) }()
	root, err := disk.Root(f.name)
	if err != nil {
		return err
	}
	defer root.Close()
	temporary := "writing-" + strings.ToLower(rand.Text()) + partial
	w, err := root.Create(temporary)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, &cabinet.Reading{Reader: r, Context: ctx})
	if err == nil {
		err = w.Sync()
	}
	to := ""
	if err = errors.Join(err, w.Close()); err == nil {
		to = name()
		err = root.Publish(temporary, to)
	}
	if errors.Is(err, fs.ErrNotExist) {
		if err = f.folders(filepath.Join(f.name, filepath.FromSlash(path.Dir(to)))); err == nil {
			err = root.Publish(temporary, to)
		}
	}
	if err == nil {
		err = root.SyncDir(path.Dir(to))
	}
	if gone := root.Remove(temporary); err == nil && gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = gone
	}
	return err
}

// folders makes folders that outlive a power cut.
func (f *folder) folders(name string) error {
	if name == f.name {
		return nil
	}
	if err := f.folders(filepath.Dir(name)); err != nil {
		return err
	}
	if err := os.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return disk.Flush(filepath.Dir(name))
}

func (f *folder) Open(_ context.Context, name string) (io.ReadCloser, error) {
	r, err := os.Open(filepath.Join(f.name, filepath.FromSlash(name)))
	if err != nil {
		return nil, f.explain(err)
	}
	return r, nil
}

func (f *folder) List(_ context.Context, within string) (all []cabinet.Entry, err error) {
	entries, err := os.ReadDir(filepath.Join(f.name, filepath.FromSlash(within)))
	if err = f.explain(err); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), partial) {
			continue
		}
		one := cabinet.Entry{Name: e.Name(), Folder: e.IsDir()}
		if info, err := e.Info(); err == nil {
			one.Size, one.Modified = info.Size(), info.ModTime()
		}
		all = append(all, one)
	}
	return all, err
}

func (f *folder) Remove(_ context.Context, name string) error {
	err := f.explain(os.Remove(filepath.Join(f.name, filepath.FromSlash(name))))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Sweep removes what was being written when a program ended, if nobody goes on with it.
func (f *folder) Sweep() {
	entries, _ := os.ReadDir(f.name)
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && strings.HasSuffix(e.Name(), partial) && time.Since(info.ModTime()) > time.Hour {
			_ = os.Remove(filepath.Join(f.name, e.Name()))
		}
	}
}

// On is a place on a server, by the same connections as cabinets.
func On(t tree.Tree) Place { return &server{tree: t} }

type server struct {
	tree tree.Tree

	mutex sync.Mutex
	made  map[string]bool // the folders that are there
}

func (s *server) String() string { return s.tree.Place() }
func (s *server) Close() error   { return s.tree.Close() }

// writesOnce is a tree that writes a small object in one request, which is refused where the name is taken.
type writesOnce interface {
	WriteOnce(ctx context.Context, name string, data []byte) error
}

// oneRequest is how large an object may be that is sent in one request, in octets.
const oneRequest = 4 << 20

func (s *server) Write(ctx context.Context, r io.Reader, name func() string) error {
	r = &cabinet.Reading{Reader: r, Context: ctx}
	if once, ok := s.tree.(writesOnce); ok {
		data, err := io.ReadAll(io.LimitReader(r, oneRequest))
		if err != nil {
			return err
		}
		if len(data) < oneRequest {
			return once.WriteOnce(ctx, name(), data)
		}
		r = io.MultiReader(bytes.NewReader(data), r)
	}
	id := cabinet.Staging + "/replica-" + strings.ToLower(rand.Text()) + partial
	if err := s.folders(ctx, cabinet.Staging); err != nil { // before anything is read of r
		return err
	}
	if err := s.tree.Create(ctx, id, time.Time{}, r); err != nil {
		return s.tidied(ctx, id, withoutKind(err))
	}
	to := name()
	return s.tidied(ctx, id, s.withFolders(ctx, to, func() error { return s.tree.Move(ctx, id, to) }))
}

// tidied removes what came to nothing.
func (s *server) tidied(ctx context.Context, id string, err error) error {
	if err == nil {
		return nil
	}
	tidy, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
	defer cancel()
	_ = s.tree.Remove(tidy, id)
	return err
}

// withFolders does something that needs the folders of a name. They are made before, where that was not done yet: some
// servers say only that it went wrong where one is missing.
func (s *server) withFolders(ctx context.Context, name string, do func() error) error {
	if err := s.folders(ctx, path.Dir(name)); err != nil {
		return err
	}
	err := do()
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	s.mutex.Lock() // somebody removed them
	s.made = nil
	s.mutex.Unlock()
	if err := s.folders(ctx, path.Dir(name)); err != nil {
		return err
	}
	return do()
}

// folders makes folders.
func (s *server) folders(ctx context.Context, name string) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if name == "." || s.made[name] {
		return nil
	}
	if _, err := s.tree.Stat(ctx, ""); err != nil {
		return withoutKind(err)
	}
	at := ""
	for _, one := range strings.Split(name, "/") {
		at = path.Join(at, one)
		if err := s.tree.Mkdir(ctx, at); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if s.made == nil {
		s.made = map[string]bool{}
	}
	s.made[name] = true
	return nil
}

func (s *server) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	return s.tree.Open(ctx, name)
}

func (s *server) List(ctx context.Context, within string) ([]cabinet.Entry, error) {
	all, err := s.tree.List(ctx, within)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return all, err
}

func (s *server) Remove(ctx context.Context, name string) error {
	err := s.tree.Remove(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
