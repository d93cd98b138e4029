package disk

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Publish renames with RENAME_NOREPLACE on descriptors taken through the root;
// where the file system does not know that, it links.
func (f rootFS) Publish(from, to string) error {
	source, err := f.root.Open(filepath.FromSlash(path.Dir(from)))
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := f.root.Open(filepath.FromSlash(path.Dir(to)))
	if err != nil {
		return err
	}
	defer target.Close()
	err = unix.Renameat2(int(source.Fd()), path.Base(from), int(target.Fd()), path.Base(to), unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		return f.link(from, to)
	}
	if err != nil {
		return &fs.PathError{Op: "rename", Path: to, Err: err}
	}
	return nil
}

// SyncDir flushes a directory's entries.
func (f rootFS) SyncDir(name string) error {
	d, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Room is how many octets a folder's file system has left for this account.
func Room(folder string) (int64, error) {
	var found unix.Statfs_t
	if err := unix.Statfs(folder, &found); err != nil {
		return -1, &fs.PathError{Op: "statfs", Path: folder, Err: err}
	}
	return int64(found.Bavail) * found.Bsize, nil
}
