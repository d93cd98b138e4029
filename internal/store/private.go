package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// ours are the beginnings of the names that Ink Tray gives to the files in its data folder.
var ours = []string{"inktray", "secret.key", "crash", "spool", "staged", "mail", "ready", "waiting", "in-hand",
	"backing-up", "restoring", "handed-over", "acme", "scans", "words.db"}

func isOurs(name string) bool {
	for _, o := range ours {
		if strings.HasPrefix(name, o) {
			return true
		}
	}
	return false
}

// keepPrivate takes from other users of the machine what they may do in the data folder: it holds mail, and
// records of it. The folder itself stays as it is where it holds other things too. It returns how many files and
// folders were open to others.
func keepPrivate(folder string) (opened int, err error) {
	if runtime.GOOS == "windows" { // there the folder's own rights count
		return 0, nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return 0, err
	}
	shut := func(path string, info fs.FileInfo) error {
		if info.Mode().Perm()&0o077 == 0 || !info.Mode().IsRegular() && !info.IsDir() {
			return nil
		}
		opened++
		return os.Chmod(path, info.Mode().Perm()&0o700)
	}
	alone := true
	for _, e := range entries {
		if !isOurs(e.Name()) {
			alone = false
			continue
		}
		err := filepath.WalkDir(filepath.Join(folder, e.Name()), func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			return shut(path, info)
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return opened, err
		}
	}
	if info, err := os.Stat(folder); err != nil || !alone {
		return opened, err
	} else if err := shut(folder, info); err != nil {
		return opened, err
	}
	return opened, nil
}

// makePrivate makes an empty file that only this user may read, where the file does not exist. Programs that write into
// it later keep its mode.
func makePrivate(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return f.Close()
}
