package api

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestFoldersOfThisMachineAreListed(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"Gauges", "berths", ".hidden", "Zeta"} {
		if err := os.Mkdir(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "a file"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(dir, "Zeta"), filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(dir, "nowhere"), filepath.Join(dir, "broken")); err != nil {
		t.Fatal(err)
	}
	list := func(path string) (LocalFolder, error) {
		var r ListLocalFoldersRequestObject
		if path != "" {
			r.Params.Path = &path
		}
		out, err := (&cabinetHandlers{}).ListLocalFolders(t.Context(), r)
		if err != nil {
			return LocalFolder{}, err
		}
		return LocalFolder(out.(ListLocalFolders200JSONResponse)), nil
	}
	got, err := list(dir + "/./")
	if err != nil || !slices.Equal(got.Folders, []string{"berths", "Gauges", "link", "Zeta"}) || got.Path != dir ||
		got.More || got.Above == nil || *got.Above != filepath.Dir(dir) {
		t.Errorf("%+v, %v", got, err)
	}
	if top, err := list(""); err != nil || top.Above != nil || len(top.Folders) == 0 {
		t.Errorf("the topmost folder: %+v, %v", top, err)
	}
	many := filepath.Join(dir, "Zeta")
	for i := range mostLocalFolders + 5 {
		if err := os.Mkdir(filepath.Join(many, fmt.Sprint(i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := list(many); err != nil || len(got.Folders) != mostLocalFolders || !got.More {
		t.Errorf("of many folders %d are listed, more: %v, %v", len(got.Folders), got.More, err)
	}
	for path, says := range map[string]string{"Gauges": "not a whole path", dir + "/none": "there is no folder",
		dir + "/a file": "cannot be read"} {
		var p *problem
		if _, err := list(path); !errors.As(err, &p) || !strings.Contains(p.text, says) || p.advice == "" {
			t.Errorf("%s: %v", path, err)
		}
	}
}
