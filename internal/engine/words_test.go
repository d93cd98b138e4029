package engine

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// inside counts what a search for words inside of files finds.
func (h *house) inside(words ...string) int {
	h.t.Helper()
	n, err := h.store.Register.Count(h.t.Context(), store.System, register.Query{Search: register.Search{Inside: words}})
	if err != nil {
		h.t.Fatal(err)
	}
	return n
}

func (h *house) wordsRead(files int) {
	h.t.Helper()
	h.until("the words are read", func() bool {
		s, err := h.store.Words.Stats(h.t.Context())
		return err == nil && s.Files == files && s.Waiting == 0
	})
}

// The words inside of files are found once their rule keeps them: of what was filed before, of what comes, until it is
// taken back, changed or erased, or the rule keeps them no longer.
func TestTheWordsInsideOfFilesAreFound(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	document := bundles("  - {take: everything, folder: All}\n")
	id := h.rule(document)
	box.add(enclosed(oda, "first", "x", "a.csv", "oily water;14 Größe", "b.csv", "glass;water", "c.bin", "\x00\x01"))
	h.filed(3)
	if n := h.inside("water"); n != 0 {
		t.Errorf("without a rule that keeps words, %d are found", n)
	}
	save := func(revision int, more string) {
		t.Helper()
		r, err := rule.ParseRule([]byte("id: " + id + "\n" + document + more))
		if err == nil {
			_, err = h.engine.Office.SaveRule(t.Context(), r, revision, "test")
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	save(1, "full text: true\n")
	h.wordsRead(3)
	for words, want := range map[string]int{"water": 2, "WATER": 2, "oily water": 1, "water oily": 0, "groesse": 0,
		"größe": 1,
		"GROßE": 1, "glas*": 1, "glas": 0, `"`: 0, `a" OR "b`: 0, "": 0, "*": 0, "-": 0, "\x00": 0} {
		if n := h.inside(words); n != want {
			t.Errorf("%q finds %d, want %d", words, n, want)
		}
	}
	if n := h.inside("water", "glass"); n != 1 {
		t.Errorf("both find %d", n)
	}
	nobody := store.Viewer{Only: []string{"another"}, AllCabinets: true}
	if n, err := h.store.Register.Count(t.Context(), nobody, register.Query{Search: register.Search{Inside: []string{
		"water"}}}); n != 0 || err != nil {
		t.Errorf("somebody without the right to the mailbox finds %d, %v", n, err)
	}
	box.add(enclosed("Bob <bob@marram.example>", "second", "x", "d.csv", "levy;water"))
	h.until("the new one is found", func() bool { return h.inside("levy") == 1 })
	s, err := h.store.Words.Stats(t.Context())
	if err != nil || s.Unread != 1 || len(s.Problems) != 1 || s.Octets == 0 {
		t.Errorf("the words are %+v, %v", s, err)
	}

	// Taken back, it is found no longer; nor is what a person's traces were erased of.
	lines, err := h.store.Register.List(t.Context(), store.System, register.Query{Search: register.Search{Inside: []string{
		"oily"}}})
	if err != nil || len(lines) != 1 {
		t.Fatal(lines, err)
	}
	parts, err := h.store.Words.Snippets(t.Context(), []string{"oily"}, []register.Number{lines[0].Entry()})
	if said := parts[lines[0].Entry()]; err != nil || len(said) != 2 || !said[0].Hit || said[0].Text != "oily" {
		t.Errorf("it stands at %+v, %v", parts, err)
	}
	h.undone(0, lines[0].JournalID)
	h.until("it is found no longer", func() bool {
		h.inside("water")
		s, err := h.store.Words.Stats(t.Context())
		return err == nil && s.Files == 3
	})
	if _, _, err := h.engine.Registry.Erase(t.Context(), store.System, "bob@marram.example", false); err != nil {
		t.Fatal(err)
	}
	if n := h.inside("levy"); n != 0 {
		t.Errorf("of an erased person %d are found", n)
	}
	for _, end := range []string{"", "-wal"} {
		data, err := os.ReadFile(filepath.Join(filepath.Dir(h.engine.Spool), "words.db"+end))
		if err != nil || strings.Contains(string(data), "levy") {
			t.Errorf("what was erased is still in the file %s (%v)", end, err)
		}
	}
	save(2, "")
	h.until("nothing is kept any more", func() bool {
		s, err := h.store.Words.Stats(t.Context())
		return err == nil && s.Files == 0 && h.inside("water") == 0
	})
	save(3, "full text: true\n")
	h.wordsRead(2)
}

// What waits for a cabinet is read once that is back, a damaged file of words is made anew, and a file that somebody
// changed is not read.
func TestTheWordsInsideOfFilesAreFoundAgain(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n") + "full text: true\n")
	box.add(enclosed(oda, "first", "x", "a.csv", "oily water", "b.csv", "glass"))
	h.wordsRead(2)
	h.engine.Stop()
	folder := filepath.Dir(h.engine.Spool)
	h.store.Interrupt(func(bool) error { return nil })
	damaged := []byte(strings.Repeat("x", 9000))
	if err := errors.Join(h.store.Close(), os.WriteFile(filepath.Join(folder, "words.db"), damaged, 0o600),
		os.WriteFile(filepath.Join(h.files, "All", "b.csv"), []byte("changed glass"), 0o600)); err != nil {
		t.Fatal(err)
	}
	var err error
	if h.store, err = store.Open(folder); err != nil {
		t.Fatal(err)
	}
	h.start()
	h.wordsRead(2)
	if h.inside("oily") != 1 || h.inside("glass") != 0 {
		t.Errorf("found are %d and %d", h.inside("oily"), h.inside("glass"))
	}
	away := h.files + ".away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
	if err != nil {
		t.Fatal(err)
	}
	if err := h.store.Words.Drop(t.Context(), lines[0].Entry()); err != nil {
		t.Fatal(err)
	}
	h.crashed("UPDATE register SET subject = subject || '.'")
	h.until("one waits", func() bool {
		s, err := h.store.Words.Stats(t.Context())
		return err == nil && s.Waiting == 1 && s.Files == 1
	})
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.later(2 * time.Minute)
	h.wordsRead(2)
}
