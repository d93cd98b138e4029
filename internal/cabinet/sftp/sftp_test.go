package sftp_test

import (
	"errors"
	"os"
	"path/filepath"
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
