package mailfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/disk"
)

var (
	delivered atomic.Int64
	machine   = func() string {
		name, err := os.Hostname()
		if err != nil || name == "" {
			name = "localhost"
		}
		return strings.NewReplacer("/", "_", ":", "_").Replace(name)
	}()
)

// unique is a file name that no other delivery uses, and that sorts by time.
func unique(at time.Time) string {
	return fmt.Sprintf("%d.M%06dP%dQ%d.%s", at.Unix(), at.Nanosecond()/1000, os.Getpid(), delivered.Add(1), machine)
}

// Prepare makes a folder into a Maildir, unless it is one, and lets it last: a
// message that is flushed into a folder is lost if the folder itself is not.
func Prepare(folder string) error {
	for _, sub := range []string{"cur", "new", "tmp"} {
		if err := os.MkdirAll(filepath.Join(folder, sub), 0o700); err != nil {
			return err
		}
	}
	for _, dir := range []string{folder, filepath.Dir(folder), filepath.Dir(filepath.Dir(folder))} {
		root, err := disk.Root(dir)
		if err != nil {
			return err
		}
		if err := errors.Join(root.SyncDir("."), root.Close()); err != nil {
			return err
		}
	}
	return nil
}

// write writes a new file and flushes it, with its time unless that is zero.
func write(d disk.FS, name string, at time.Time, r io.Reader) error {
	f, err := d.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	if err == nil && !at.IsZero() {
		err = d.Chtimes(name, at)
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// DeliverInto puts a message into the folder "new" of a Maildir. When it returns
// without an error, the message lasts: its content and its name are flushed. The
// name is returned.
func DeliverInto(d disk.FS, dir string, received time.Time, r io.Reader) (string, error) {
	name := unique(time.Now())
	return name, deliver(d, dir, name, received, r)
}

// deliver puts a message into a Maildir under a name; an error that is fs.ErrExist
// where the name is there.
func deliver(d disk.FS, dir, name string, received time.Time, r io.Reader) error {
	temporary := path.Join(dir, "tmp", unique(time.Now()))
	err := write(d, temporary, received, r)
	if err == nil {
		err = d.Publish(temporary, path.Join(dir, "new", name))
	}
	if err != nil {
		return errors.Join(err, discard(d, temporary))
	}
	return d.SyncDir(path.Join(dir, "new"))
}

func discard(d disk.FS, name string) error {
	if err := d.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Sweep removes what a crash left half delivered: what has lain in "tmp" for a day.
func Sweep(d disk.FS, dir string, now time.Time) error {
	entries, err := d.ReadDir(path.Join(dir, "tmp"))
	for _, e := range entries {
		if info, statErr := e.Info(); statErr == nil && now.Sub(info.ModTime()) > 24*time.Hour {
			err = errors.Join(err, discard(d, path.Join(dir, "tmp", e.Name())))
		}
	}
	return err
}

// Count counts the messages of a Maildir, its subfolders included.
func Count(folder string) (int, error) {
	n := 0
	err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if dir := filepath.Base(filepath.Dir(name)); d.Type().IsRegular() && (dir == "cur" || dir == "new") {
			n++
		}
		return nil
	})
	return n, err
}
