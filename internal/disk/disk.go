// Package disk is the file system as far as anything is written that must not be
// lost: what is flushed lasts, and no path leaves its root.
package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// File is a file being written.
type File interface {
	io.Writer
	Sync() error
	Close() error
}

// FS is what is needed of a file system. Names have "/" between
// levels and never leave the root.
type FS interface {
	Mkdir(name string) error
	Create(name string) (File, error)        // fails where the name is there
	Open(name string) (io.ReadCloser, error) // a regular file; ErrIrregular for anything else
	Publish(from, to string) error           // moves a file and fails where the name is there
	Replace(from, to string) error           // moves a file in the place of another
	Remove(name string) error
	Lstat(name string) (fs.FileInfo, error)
	ReadDir(name string) ([]fs.DirEntry, error)
	SyncDir(name string) error
	Chtimes(name string, at time.Time) error
	Grant(name string, a Access) error // sets mode and owner
	Close() error
}

// Access says who may do what with files and folders that are made. The zero
// Access leaves it to the system.
type Access struct {
	Mode     fs.FileMode // of files; folders may be entered too by who may read
	UID, GID int         // who they belong to, -1 for the user who makes them
	Owned    bool        // whether UID or GID say anything
}

// Folder is the same for folders: who may read may enter.
func (a Access) Folder() Access {
	if a.Mode != 0 {
		a.Mode |= a.Mode & 0o444 >> 2
	}
	return a
}

// None says that everything is left to the system.
func (a Access) None() bool { return a.Mode == 0 && !a.Owned }

// rootFS is a folder of the operating system, which no path can leave, not even
// by a symbolic link.
type rootFS struct{ root *os.Root }

// Root opens a folder of the operating system.
func Root(path string) (FS, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	return rootFS{root}, nil
}

// Flush lets the names in a folder of the operating system last.
func Flush(folder string) error {
	root, err := Root(folder)
	if err != nil {
		return err
	}
	return errors.Join(root.SyncDir("."), root.Close())
}

func (f rootFS) Mkdir(name string) error { return f.root.Mkdir(filepath.FromSlash(name), 0o777) }

func (f rootFS) Create(name string) (File, error) {
	return f.root.OpenFile(filepath.FromSlash(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
}

// ErrIrregular says that what has a name is no file that can be read: a folder, a pipe, a socket, a device, or a
// link that leads to none.
var ErrIrregular = errors.New("it is not a file that can be read")

// Open opens a regular file, and nothing else: opening a pipe would wait for somebody who writes into it. It never
// blocks, whatever takes the file's place meanwhile.
func (f rootFS) Open(name string) (io.ReadCloser, error) {
	name = filepath.FromSlash(name)
	info, err := f.root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		if info, err = f.root.Stat(name); err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: ErrIrregular}
		}
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrIrregular}
	}
	file, err := f.root.OpenFile(name, os.O_RDONLY|nonblock, 0)
	if err != nil {
		return nil, err
	}
	if info, err = file.Stat(); err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrIrregular}
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

func (f rootFS) Replace(from, to string) error {
	return f.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

func (f rootFS) Remove(name string) error { return f.root.Remove(filepath.FromSlash(name)) }
func (f rootFS) Close() error             { return f.root.Close() }

func (f rootFS) Lstat(name string) (fs.FileInfo, error) {
	return f.root.Lstat(filepath.FromSlash(name))
}

func (f rootFS) Chtimes(name string, at time.Time) error {
	return f.root.Chtimes(filepath.FromSlash(name), at, at)
}

func (f rootFS) Grant(name string, a Access) error {
	if a.Owned {
		if err := f.root.Lchown(filepath.FromSlash(name), a.UID, a.GID); err != nil {
			return err
		}
	}
	if a.Mode != 0 {
		return f.root.Chmod(filepath.FromSlash(name), a.Mode)
	}
	return nil
}

func (f rootFS) ReadDir(name string) ([]fs.DirEntry, error) {
	d, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.ReadDir(-1)
}

// link publishes by a second name: it fails where the name is there, on every
// file system that has links.
func (f rootFS) link(from, to string) error {
	if err := f.root.Link(filepath.FromSlash(from), filepath.FromSlash(to)); err != nil {
		return err
	}
	return f.Remove(from)
}
