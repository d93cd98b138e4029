package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"
	"github.com/gofrs/flock"

	"inktray.example/inktray/internal/disk"
)

// Unfinished is the folder in which a backup is unpacked. While it is in a folder of records, the service does not
// start there.
const Unfinished = "restoring"

// lockFile keeps others from a folder of records: a service, or another restoring.
const lockFile = "inktray.lock"

// Restore puts an installation back into a folder, which has to be empty. Nothing has its place in it before all of the
// backup was read and found in order, and finish has done what is to be done with the records in the folder that it is
// given. After whatever interrupts it, it can be done again.
func Restore(ctx context.Context, r io.Reader, folder string, finish func(c *Contents, records string) error,
	identities ...age.Identity) (c Contents, err error) {
	err = Into(folder, func(work string) error {
		root, err := os.OpenRoot(work)
		if err != nil {
			return err
		}
		defer root.Close()
		c, err = Read(ctx, r, func(name string, at time.Time, r io.Reader) error {
			return write(root, name, at, r)
		}, identities...)
		if err != nil {
			return err
		}
		return finish(&c, work)
	})
	return c, err
}

// Into puts an installation into a folder, which has to be empty: fill writes it into a folder of its own first, from
// which it is moved to its place. After whatever interrupts it, it can be done again.
func Into(folder string, fill func(work string) error) (err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(folder, lockFile), flock.SetPermissions(0o600))
	if mine, err := lock.TryLock(); err != nil {
		return err
	} else if !mine {
		return &Error{Problem: "another Ink Tray is at work in " + folder}
	}
	defer func() {
		if err != nil { // nothing is left in a folder into which nothing was put
			_ = os.Remove(lock.Path())
		}
		_ = lock.Unlock()
	}()
	if err := empty(folder); err != nil {
		return err
	}
	work := filepath.Join(folder, Unfinished)
	if err := os.RemoveAll(work); err != nil { // of a restoring that did not come to its end
		return err
	}
	if err := os.Mkdir(work, 0o700); err != nil {
		return err
	}
	if err := fill(work); err != nil {
		return errors.Join(err, os.RemoveAll(work))
	}
	return place(work, folder)
}

// empty says what is in the way in a folder. What a restoring left that did not come to its end is taken away: no
// service has started on it.
func empty(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	_, err = os.Stat(filepath.Join(folder, Unfinished))
	begun := err == nil
	for _, e := range entries {
		switch name := e.Name(); {
		case name == Unfinished, name == lockFile, name == "lost+found":
		case begun && slices.Contains(parts(), name):
			if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
				return err
			}
		default:
			return &Error{Problem: fmt.Sprintf("the folder %s is not empty (%s is in it); a backup is put back into an empty "+
				"folder, so that nothing is overwritten", folder, name)}
		}
	}
	return nil
}

// parts are what a backup puts into a folder, the records last: a folder with records is complete.
func parts() []string { return append(append([]string{}, folders...), keyFile, recordsFile) }

func write(root *os.Root, name string, at time.Time, r io.Reader) error {
	name = filepath.FromSlash(name)
	if err := root.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = root.Chtimes(name, at, at)
	}
	return err
}

// place moves what was unpacked to where it belongs.
func place(work, folder string) error {
	for _, name := range parts() {
		err := os.Rename(filepath.Join(work, name), filepath.Join(folder, name))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := disk.Flush(folder); err != nil {
		return err
	}
	if err := os.RemoveAll(work); err != nil {
		return err
	}
	return disk.Flush(folder)
}
