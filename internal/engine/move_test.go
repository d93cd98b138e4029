package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// movable is a house whose cabinet can be moved to a WebDAV server and back.
func movable(t *testing.T) (*house, *postbox, *testbed.WebDAV) {
	t.Helper()
	w := testbed.StartWebDAV(t, "apache2")
	h, box := filedHouse(t, 3)
	h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) {
		if c.Kind == "local" {
			return local.New(c.Folder, c.Identity), nil
		}
		return tree.New(davTree(t, c.Folder), c.Identity), nil
	}
	h.restart()
	h.watched()
	return h, box, w
}

func davTree(t testing.TB, folder string) *webdav.Tree {
	server, path := served(t, folder, "http")
	return webdav.New(webdav.Config{Server: server, Path: path, Username: "harbour", Password: "pw"})
}

func (h *house) moved(to store.Cabinet) store.Pass {
	h.t.Helper()
	to.ID, to.Name = "cab", "harbour files"
	p, err := h.engine.Cabinets.MoveCabinet(h.t.Context(), &to, "Ines")
	if err != nil {
		h.t.Fatal(err)
	}
	var now store.Pass
	h.until("it is moved", func() bool {
		now, err = h.store.Passes.ByID(h.t.Context(), store.System, p.ID)
		return err == nil && now.State != store.Running
	})
	return now
}

func TestACabinetIsMovedToAnotherKindAndTheRegisterFollows(t *testing.T) {
	h, box, w := movable(t)
	if err := os.WriteFile(filepath.Join(h.files, "by hand.txt"), []byte("a person's"), 0o644); err != nil {
		t.Fatal(err)
	}
	folder := cabinettest.Subfolder(t, w.Folder)
	place := cabinettest.OnDisk(nil, folder)
	to := store.Cabinet{Kind: "webdav", Folder: w.URL + "/" + filepath.Base(folder)}

	// Another file stands in the way: nothing is changed.
	place.Put(t, "by hand.txt", "another's")
	if p := h.moved(to); p.State != store.Broken || !strings.Contains(p.Note, "already another file at the new "+
		"place: by hand.txt") {
		t.Fatalf("the move is %s: %s", p.State, p.Note)
	}
	if c, err := h.store.Cabinets.ByID(t.Context(), "cab"); err != nil || c.Kind != "local" {
		t.Errorf("the cabinet is %+v, %v", c, err)
	}
	box.deliver("INBOX", raw("still there", "r3.csv", "3"))
	h.filed(4)
	if err := os.Remove(filepath.Join(folder, "by hand.txt")); err != nil {
		t.Fatal(err)
	}

	// While it is moved, mail arrives.
	stop, sent := make(chan struct{}), 4
	ended := make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				ended <- n
				return
			case <-time.After(5 * time.Millisecond):
				box.deliver("INBOX", raw(fmt.Sprint("meanwhile ", n), fmt.Sprintf("m%d.csv", n), fmt.Sprint("m", n)))
				n++
			}
		}
	}()
	p := h.moved(to)
	if p.State != store.Done {
		t.Fatalf("the move is %s: %s", p.State, p.Note)
	}
	<-time.After(50 * time.Millisecond) // some more come at the new place
	close(stop)
	sent += <-ended
	h.filed(sent)
	files := place.Files(t)
	if len(files) != sent+1 || files["by hand.txt"] != "a person's" {
		t.Errorf("%d files are at the new place, want %d", len(files), sent+1)
	}
	if pass := h.verify(); pass.Matched != 0 || pass.Looked != sent {
		t.Errorf("of %d filings, %d are not as they were filed (%s)", pass.Looked, pass.Matched, pass.Note)
	}
	if _, err := os.Stat(filepath.Join(h.files, "by hand.txt")); err != nil {
		t.Errorf("the old place lost its files: %v", err)
	}
	before := len(h.tree())
	box.deliver("INBOX", raw("after", "after.csv", "x"))
	h.filed(sent + 1)
	if len(h.tree()) != before {
		t.Error("something was filed at the old place")
	}
}

// What a rule replaced is kept at the new place as well, so that undoing holds.
func TestWhatWasReplacedMovesAlong(t *testing.T) {
	box := &memory{validity: 1, received: map[int]time.Time{1: may, 2: may.AddDate(0, 0, 1)}}
	h := newHouse(t, box.dial)
	h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) { return local.New(c.Folder, c.Identity), nil }
	h.hurry()
	h.watched()
	h.rule(gaugesRule + "    if name exists: replace\n")
	for i, content := range []string{"first", "second"} {
		box.add(raw(content, "latest.csv", content))
		h.filed(i + 1)
	}
	new := filepath.Join(t.TempDir(), "elsewhere")
	if p := h.moved(store.Cabinet{Kind: "local", Folder: new}); p.State != store.Done {
		t.Fatalf("the move is %s: %s", p.State, p.Note)
	}
	entries, err := h.store.Journal.OfMessage(t.Context(), store.System, 2)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.Registry.Undo(t.Context(), store.System, 0, entries[0].ID); err != nil {
		t.Fatal(err)
	}
	h.files = new
	var name string
	h.until("the first is back", func() bool {
		for n, content := range h.tree() {
			if content == "first" {
				name = n
			}
		}
		return name != ""
	})
	if len(h.tree()) != 1 || !strings.HasSuffix(name, "/latest.csv") {
		t.Errorf("the new place holds %v", h.tree())
	}
}

// One rule files into two cabinets of two kinds; while one is away, the other goes on.
func TestOneRuleFilesIntoTwoCabinetsOfTwoKinds(t *testing.T) {
	h, box, w := movable(t)
	folder := cabinettest.Subfolder(t, w.Folder)
	place := cabinettest.OnDisk(nil, folder)
	share := store.Cabinet{ID: "share", Name: "office share", Kind: "webdav", Folder: w.URL + "/" + filepath.Base(folder),
		MadeAt: time.Now()}
	if err := h.engine.Cabinets.AddCabinet(t.Context(), &share, "test"); err != nil {
		t.Fatal(err)
	}
	h.rule(`{id: two, name: Two, cabinet: harbour files, look: {mailboxes: gauges}, match: {subject: {begins: plan}}, then: stop, attachments: [{take: [{extension: pdf}], cabinet: office share, folder: Plans}, {take: everything, folder: Lists}]}`)
	if err := h.engine.Office.SwitchRule(t.Context(), "tide-gauges", false, "test"); err != nil {
		t.Fatal(err)
	}
	box.deliver("INBOX", raw("plan one", "a.pdf", "%PDF-1.4 a", "a.csv", "a"))
	h.filed(5)
	if files := place.Files(t); len(files) != 1 || files["Plans/a.pdf"] != "%PDF-1.4 a" {
		t.Errorf("the share holds %v", files)
	}
	if h.tree()["Lists/a.csv"] != "a" {
		t.Errorf("the folder holds %v", h.tree())
	}
	gone := folder + "-away"
	if err := os.Rename(folder, gone); err != nil {
		t.Fatal(err)
	}
	box.deliver("INBOX", raw("plan two", "b.pdf", "%PDF-1.4 b", "b.csv", "b"))
	h.until("what the other cabinet takes is filed", func() bool { return h.tree()["Lists/b.csv"] == "b" })
	if err := os.Rename(gone, folder); err != nil {
		t.Fatal(err)
	}
	h.until("the share has it once it is back", func() bool { return place.Files(t)["Plans/b.pdf"] == "%PDF-1.4 b" })
	h.filed(7)
}
