package sftp_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/sftp"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

var now = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

func config(t testing.TB, s *testbed.SFTP, folder string) sftp.Config {
	t.Helper()
	server, path, err := reach.ParseURL(s.URL+"/"+filepath.Base(folder), "sftp")
	if err != nil {
		t.Fatal(err)
	}
	return sftp.Config{Server: server, Path: path, Username: s.Name, Secret: s.Key, HostKey: s.HostKey}
}

func place(t *testing.T, s *testbed.SFTP) cabinettest.Place {
	t.Helper()
	folder := cabinettest.Subfolder(t, s.Folder)
	at := sftp.New(config(t, s, folder))
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	c := tree.New(at, id)
	t.Cleanup(func() { c.Close() })
	return cabinettest.OnDisk(c, folder)
}

func TestConformance(t *testing.T) {
	s := testbed.StartSFTP(t)
	cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, s) })
	t.Run("the demo", func(t *testing.T) {
		folder := t.TempDir()
		p, err := demo.StartPlaces(folder)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		s := &testbed.SFTP{URL: p.SFTP, Folder: filepath.Join(folder, "sftp", "surveys"), Name: demo.PlacesName,
			Key: demo.Password, HostKey: p.HostKey}
		cabinettest.Run(t, func(t *testing.T) cabinettest.Place {
			p := place(t, s)
			p.Served = true // it does not say where links lead
			return p
		})
	})
}

// What a check left behind that was killed in its midst goes a day later; what others
// try out at this moment stays.
func TestWhatChecksLeftBehindIsTidied(t *testing.T) {
	s := testbed.StartSFTP(t)
	folder := cabinettest.Subfolder(t, s.Folder)
	at := sftp.New(config(t, s, folder))
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	c := tree.New(at, id)
	defer c.Close()
	for name, age := range map[string]time.Duration{"check-old-name": 49 * time.Hour, "check-new-name": time.Hour,
		"mine.txt": 49 * time.Hour} {
		file := filepath.Join(folder, cabinet.Reserved, name)
		if err := errors.Join(os.WriteFile(file, []byte("x"), 0o600),
			os.Chtimes(file, time.Time{}, time.Now().Add(-age))); err != nil {
			t.Fatal(err)
		}
	}
	if left, err := cabinet.Leftovers(t.Context(), c); err != nil || len(left) != 0 {
		t.Errorf("left over: %v, %v", left, err)
	}
	for name, stays := range map[string]bool{"check-old-name": false, "check-new-name": true, "mine.txt": true} {
		if _, err := os.Stat(filepath.Join(folder, cabinet.Reserved, name)); (err == nil) != stays {
			t.Errorf("%s: %v, should stay: %v", name, err, stays)
		}
	}
}

// What a person looks at before there is a cabinet: the account's own folder, the server's root, and a folder within.
func TestAServerIsLookedAt(t *testing.T) {
	s := testbed.StartSFTP(t)
	own, err := os.UserHomeDir()
	if err != nil {
		t.Fatal(err)
	}
	for path, folder := range map[string]string{"/~": own, "": own, "/.": "/", s.Folder: s.Folder} {
		of := config(t, s, s.Folder)
		of.Path = path
		at := sftp.New(of)
		t.Cleanup(func() { at.Close() })
		found, err := tree.Browse(t.Context(), at, "")
		if err != nil {
			t.Errorf("%q: %v", path, err)
			continue
		}
		var names, want []string
		for _, e := range found {
			names = append(names, e.Name)
		}
		entries, err := os.ReadDir(folder)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			want = append(want, e.Name())
		}
		slices.Sort(names)
		if !slices.Equal(names, want) {
			t.Errorf("%q holds %q, want %q", path, names, want)
		}
	}
	of := config(t, s, s.Folder)
	of.Path = s.Folder
	at := sftp.New(of)
	t.Cleanup(func() { at.Close() })
	for range 2 { // the second time it is there
		if found, err := tree.Browse(t.Context(), at, "Quay & 50%"); err != nil || len(found) != 0 {
			t.Errorf("a new folder: %v, %v", found, err)
		}
	}
	if info, err := os.Stat(filepath.Join(s.Folder, "Quay & 50%")); err != nil || !info.IsDir() {
		t.Errorf("it is not there: %v", err)
	}
	if err := os.WriteFile(filepath.Join(s.Folder, "a file"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := tree.Browse(t.Context(), at, "a file"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a file of that name: %v", err)
	}
}
