//go:build unix

package store

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// What Ink Tray keeps, and what it kept before this was so, is for its own user alone.
func TestOtherUsersOfTheMachineReadNothing(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o002))
	folder := filepath.Join(t.TempDir(), "records")
	private := func(when string) {
		t.Helper()
		err := filepath.Walk(folder, func(path string, info os.FileInfo, err error) error {
			if err == nil && info.Mode().Perm()&0o077 != 0 && info.Name() != "notes.txt" && info.Mode()&os.ModeSymlink == 0 {
				t.Errorf("%s others may use %s: %v", when, path, info.Mode())
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	if s.Opened != 0 {
		t.Errorf("a new folder had %d open files", s.Opened)
	}
	if err := s.Settings.Set(t.Context(), "a", "b"); err != nil {
		t.Fatal(err)
	}
	private("new,")
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	outside := filepath.Join(t.TempDir(), "outside")
	for path, mode := range map[string]os.FileMode{folder: 0o755, filepath.Join(folder, "inktray.db"): 0o644,
		filepath.Join(folder, "inktray-version-3.db"): 0o640, filepath.Join(folder, "mail"): 0o755,
		filepath.Join(folder, "mail", "1.eml"): 0o664, outside: 0o644} {
		switch filepath.Base(path) {
		case "mail":
			err = os.MkdirAll(path, mode)
		case "records", "inktray.db":
			err = nil
		default:
			if err = os.MkdirAll(filepath.Dir(path), 0o755); err == nil {
				err = os.WriteFile(path, nil, mode)
			}
		}
		if err == nil {
			err = os.Chmod(path, mode)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(outside, filepath.Join(folder, "mail", "link")); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(folder); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if s.Opened != 5 {
		t.Errorf("%d files and folders were open to others, want 5", s.Opened)
	}
	private("opened again,")
	if info, err := os.Stat(outside); err != nil || info.Mode().Perm() != 0o644 {
		t.Errorf("a file outside was changed to %v, %v", info.Mode(), err)
	}
	// A folder that somebody uses for other things too stays as it is.
	other := t.TempDir()
	if err := os.Chmod(other, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(other, "notes.txt"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	third, err := Open(other)
	if err != nil {
		t.Fatal(err)
	}
	defer third.Close()
	if info, err := os.Stat(other); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("a folder of somebody's has %v, %v", info.Mode(), err)
	}
}
