//go:build !linux

package disk

import (
	"path/filepath"
	"runtime"
)

// Publish links and removes, which fails where the name is there.
func (f rootFS) Publish(from, to string) error { return f.link(from, to) }

// SyncDir flushes a directory's entries; Windows keeps them with the file.
func (f rootFS) SyncDir(name string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	d, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Room is not known on this system.
func Room(string) (int64, error) { return -1, nil }
