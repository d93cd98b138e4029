package webdav_test

import (
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

var now = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

// config is how a folder within the one that is served is reached.
func config(t testing.TB, w *testbed.WebDAV, folder string) webdav.Config {
	t.Helper()
	server, path, err := reach.ParseURL(w.URL+"/"+filepath.Base(folder), "https", "http")
	if err != nil {
		t.Fatal(err)
	}
	return webdav.Config{Server: server, Path: path, Username: "harbour", Password: w.Password}
}

func place(t *testing.T, w *testbed.WebDAV) cabinettest.Place {
	t.Helper()
	folder := cabinettest.Subfolder(t, w.Folder)
	at := webdav.New(config(t, w, folder))
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	c := tree.New(at, id)
	t.Cleanup(func() { c.Close() })
	p := cabinettest.OnDisk(c, folder)
	p.Served = true
	p.Modified = nil // no WebDAV server lets a client say when a file was made
	return p
}

func TestConformance(t *testing.T) {
	for _, kind := range []string{"apache2", "lighttpd"} {
		t.Run(kind, func(t *testing.T) {
			w := testbed.StartWebDAV(t, kind)
			cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, w) })
		})
	}
	t.Run("the demo", func(t *testing.T) {
		folder := t.TempDir()
		p, err := demo.StartPlaces(folder)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		w := &testbed.WebDAV{URL: p.WebDAV, Folder: filepath.Join(folder, "webdav"), Password: demo.Password}
		cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, w) })
	})
}
