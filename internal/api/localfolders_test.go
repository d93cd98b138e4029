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
	for _, name := range []string{"Gauges", "berths", ".hidden", "Zeta", "Ämter", "Pier 10", "Pier 2"} {
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
	inOrder := []string{"Ämter", "berths", "Gauges", "link", "Pier 2", "Pier 10", "Zeta"}
	if err != nil || !slices.Equal(got.Folders, inOrder) || got.Path != dir || got.More ||
		got.Above == nil || *got.Above != filepath.Dir(dir) {
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

func TestTheWayUpFromAFolderOfAServer(t *testing.T) {
	for _, c := range []struct{ kind, at, here, above string }{
		{"sftp", "", "/~", "none"}, {"sftp", "/", "/~", "none"}, {"sftp", "/~", "/~", "none"}, {"sftp", "/~/", "/~", "none"},
		{"sftp", "/~/surveys", "/~/surveys", "/~"}, {"sftp", "/~/a/b/", "/~/a/b", "/~/a"},
		{"sftp", "/srv", "/srv", "/."}, {"sftp", "/srv/a", "/srv/a", "/srv"}, {"sftp", "/.", "/.", "none"},
		{"sftp", "/./srv", "/srv", "/."}, {"sftp", "/srv/../etc", "/etc", "/."}, {"sftp", "/~x", "/~x", "/."},
		{"webdav", "", "", "none"}, {"webdav", "/", "", "none"}, {"webdav", "/dav", "/dav", ""},
		{"webdav", "/dav//a/", "/dav/a", "/dav"}, {"webdav", "/~/a", "/~/a", "/~"},
		{"s3", "/bucket", "/bucket", "none"}, {"s3", "/bucket/", "/bucket", "none"},
		{"s3", "/bucket/a", "/bucket/a", "/bucket"}, {"s3", "/bucket/a/b", "/bucket/a/b", "/bucket/a"},
	} {
		here, above := around(c.kind, c.at)
		up := "none"
		if above != nil {
			up = *above
		}
		if here != c.here || up != c.above {
			t.Errorf("%s %q: %q, and above it %q; want %q and %q", c.kind, c.at, here, up, c.here, c.above)
		}
	}
}

func TestAddressesAreNotedWithoutNameAndPassword(t *testing.T) {
	for place, want := range map[string]string{
		"http://me:pw@files.example/a": "http://…@files.example/a", "sftp://me@h": "sftp://…@h",
		"sftp://h/a@b": "sftp://h/a@b", "/srv/a@b": "/srv/a@b", "socks5://u:p w%@proxy:1080": "socks5://…@proxy:1080", "": "",
	} {
		if got := withoutUser(place); got != want {
			t.Errorf("%q is noted as %q, want %q", place, got, want)
		}
	}
}
