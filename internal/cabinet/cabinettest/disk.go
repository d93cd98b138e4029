package cabinettest

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
)

// OnDisk is the place of a cabinet whose files lie in a folder of this machine, be
// it that a server serves them. What is put there belongs to whom the folder belongs.
func OnDisk(c cabinet.Cabinet, folder string) Place {
	full := func(name string) string { return filepath.Join(folder, filepath.FromSlash(name)) }
	return Place{
		Cabinet: c,
		Full:    full,
		Like: func(t *testing.T, name string) {
			if err := likeFolder(folder, full(name)); err != nil {
				t.Fatal(err)
			}
		},
		Files: func(t *testing.T) map[string]string {
			files := map[string]string{}
			err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				relative, _ := filepath.Rel(folder, name)
				relative = filepath.ToSlash(relative)
				if strings.HasPrefix(relative, cabinet.Reserved) {
					return nil
				}
				if !d.Type().IsRegular() {
					return nil
				}
				data, err := os.ReadFile(name)
				files[relative] = string(data)
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
			return files
		},
		Put: func(t *testing.T, name, content string) {
			err := errors.Join(os.MkdirAll(filepath.Dir(full(name)), 0o755), os.WriteFile(full(name), []byte(content), 0o644))
			for at := name; err == nil && at != "."; at = path.Dir(at) {
				err = likeFolder(folder, full(at))
			}
			if err != nil {
				t.Fatal(err)
			}
		},
		Modified: func(t *testing.T, name string) time.Time {
			info, err := os.Stat(full(name))
			if err != nil {
				t.Fatal(err)
			}
			return info.ModTime()
		},
		Read: func(name string) ([]byte, error) { return os.ReadFile(full(name)) },
		Unmount: func(t *testing.T) {
			if err := os.Rename(folder, folder+"-gone"); err != nil {
				t.Fatal(err)
			}
			if err := os.Mkdir(folder, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := likeFolder(folder+"-gone", folder); err != nil {
				t.Fatal(err)
			}
		},
	}
}

// Subfolder makes an empty folder in another, which belongs to whom that belongs.
func Subfolder(t testing.TB, within string) string {
	t.Helper()
	folder, err := os.MkdirTemp(within, "place")
	if err == nil {
		err = errors.Join(os.Chmod(folder, 0o755), likeFolder(within, folder))
	}
	if err != nil {
		t.Fatal(err)
	}
	return folder
}
