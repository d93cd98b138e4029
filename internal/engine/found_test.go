package engine

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

// An older copy of the records is put back: that is noticed, messages that are still there get
// the lines of their files again, and files that no message brings are found and entered.
func TestAfterAnOlderCopyOfTheRecordsFilesAreFoundAndEntered(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(strings.Replace(gaugesRule, "Gauges/<received year>/<received month>", "Gauges", 1))
	box.deliver("INBOX", raw("before the copy", "a.csv", "1"))
	h.filed(1)
	h.engine.Stop()
	reopen := func() {
		t.Helper()
		var err error
		if h.store, err = store.Open(h.data); err != nil {
			t.Fatal(err)
		}
		believe(t, h.store)
		h.start()
	}
	records := filepath.Join(h.data, "inktray.db")
	if err := h.store.Close(); err != nil {
		t.Fatal(err)
	}
	copied, err := os.ReadFile(records)
	if err != nil {
		t.Fatal(err)
	}
	reopen()
	box.deliver("INBOX", raw("after it", "b.csv", "2"))
	box.deliver("INBOX", raw("deleted since", "c.csv", "3"))
	h.filed(3)
	h.engine.Stop()
	if err := h.store.Close(); err != nil {
		t.Fatal(err)
	}
	box.mutex.Lock()
	inbox := box.folders["INBOX"]
	inbox.letters = slices.DeleteFunc(inbox.letters,
		func(l *boxLetter) bool { return strings.Contains(string(l.raw), "deleted since") })
	box.mutex.Unlock()
	if err := os.WriteFile(filepath.Join(h.files, "Gauges", "mine.txt"), []byte("a person's own"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{records, records + "-wal", records + "-shm"} {
		if err := os.Remove(name); err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(records, copied, 0o600); err != nil {
		t.Fatal(err)
	}
	reopen()
	want := map[string]string{"Gauges/a.csv": "1", "Gauges/b.csv": "2", "Gauges/c.csv": "3",
		"Gauges/mine.txt": "a person's own"}
	h.until("the message that is there has its line again", func() bool {
		n, err := h.store.Register.Count(t.Context(), store.System, register.Query{})
		return err == nil && n == 2
	})
	h.expect(want)
	h.until("it is told", func() bool {
		notices, err := h.store.Tray.Notices(t.Context(), store.System)
		return err == nil && slices.ContainsFunc(notices, func(n store.Notice) bool {
			return n.Kind == "older records" && strings.Contains(n.Text, "harbour files")
		})
	})
	paths := func() (all []string) {
		files, looked, more, err := h.engine.Registry.UnknownFiles(t.Context(), "cab", 10)
		if err != nil || looked != 4 || more {
			t.Fatal(files, looked, more, err)
		}
		for _, f := range files {
			all = append(all, f.Path)
		}
		return all
	}
	if got := paths(); !slices.Equal(got, []string{"Gauges/c.csv", "Gauges/mine.txt"}) {
		t.Fatalf("unknown are %q", got)
	}
	for _, wrong := range []string{"../a", ".inktray/cabinet.json", ""} {
		if n, err := h.engine.Registry.EnterFiles(t.Context(), store.System, "cab", []string{wrong}); err == nil {
			t.Errorf("%q was entered %d times", wrong, n)
		}
	}
	n, err := h.engine.Registry.EnterFiles(t.Context(), store.System, "cab",
		[]string{"Gauges/c.csv", "Gauges/c.csv", "Gauges/a.csv", "Gauges/gone.csv"})
	if err != nil || n != 1 {
		t.Fatalf("%d files were entered, %v", n, err)
	}
	if got := paths(); !slices.Equal(got, []string{"Gauges/mine.txt"}) {
		t.Errorf("unknown are still %q", got)
	}
	rows, err := h.store.Register.List(t.Context(), store.System,
		register.Query{Search: register.Search{States: register.All}})
	if err != nil || len(rows) != 3 {
		t.Fatal(rows, err)
	}
	at := slices.IndexFunc(rows, func(f store.Filing) bool { return f.File == "c.csv" })
	if at < 0 || rows[at].Folder != "Gauges" || rows[at].Size != 1 || len(rows[at].SHA256) != 32 {
		t.Fatalf("the line of what was found: %+v", rows)
	}
	story, err := h.engine.Registry.StoryOf(t.Context(), store.System, rows[at])
	if err != nil || !strings.Contains(story.Verdict, "found in the cabinet") {
		t.Errorf("its story: %+v, %v", story, err)
	}
	if pass, err := h.engine.Registry.Verify(t.Context(), store.System, register.Query{}); err != nil {
		t.Error(err)
	} else {
		h.until("it is verified", func() bool {
			p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			return p.State == store.Done && p.Matched == 0
		})
	}
}
