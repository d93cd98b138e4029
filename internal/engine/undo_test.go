package engine

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// undone takes a pass or a filing back and waits for the end of it.
func (h *house) undone(pass, entry int64) store.Pass {
	h.t.Helper()
	p, err := h.engine.Registry.Undo(h.t.Context(), store.System, pass, entry)
	if err != nil {
		h.t.Fatal(err)
	}
	h.until("it is taken back", func() bool {
		p, _ = h.store.Passes.ByID(h.t.Context(), store.System, p.ID)
		return p.State == store.Done
	})
	return p
}

func month() string { return "Gauges/" + time.Now().Format("2006/01") }

func TestAPassIsTakenBackWhatSomebodyChangedStaysAndMovedMessagesReturn(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	id := h.rule(gaugesRule + "afterwards: [{label: Filed}, {move: Filed}]")
	for i := range 3 {
		box.deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint(i)))
	}
	h.until("all are moved", func() bool { return strings.Count(strings.Join(box.lies(), " "), "Filed [Filed]") == 3 })
	h.until("the moves are recorded", func() bool {
		return strings.Count(h.steps(1)+h.steps(2)+h.steps(3), "move Filed: done") == 3
	})
	changed := filepath.Join(h.files, month(), "r1.csv")
	if err := os.WriteFile(changed, []byte("corrected by hand"), 0o644); err != nil {
		t.Fatal(err)
	}
	passes, err := h.store.Passes.Find(t.Context(), store.System, store.PassQuery{Kind: "live", Filed: true, Most: 10})
	if err != nil || len(passes) == 0 {
		t.Fatal(passes, err)
	}
	for _, p := range passes {
		look, err := h.engine.Registry.PreviewUndo(t.Context(), store.System, p.ID, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range look.Lines {
			if strings.HasSuffix(l.Entry.Path, "r1.csv") == l.Takes {
				t.Errorf("the preview of %s: %v, %s", l.Entry.Path, l.Takes, l.Reason)
			}
		}
		if look.Returns != len(look.Lines) || len(look.Stays) == 0 {
			t.Errorf("the preview says %+v", look)
		}
	}
	if len(h.tree()) != 3 {
		t.Fatal("the preview changed something")
	}
	for _, p := range passes {
		h.undone(p.ID, 0)
	}
	if got := h.tree(); len(got) != 1 || got[month()+"/r1.csv"] != "corrected by hand" {
		t.Errorf("there are still %v", got)
	}
	h.until("the messages of what was taken back return", func() bool {
		return strings.Join(box.lies(), " ") == "Filed [Filed] INBOX [Filed] INBOX [Filed]"
	})
	register, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 10})
	if err != nil || len(register) != 1 || register[0].File != "r1.csv" {
		t.Errorf("the register has %+v, %v", register, err)
	}
	// Nothing files it again by itself, not even a pass over old mail.
	box.deliver("INBOX", raw("later", "later.csv", "x"))
	h.filed(2)
	h.fileOld(id)
	if got := h.tree(); len(got) != 2 {
		t.Errorf("after a pass over old mail there are %v", got)
	}
	n, err := h.engine.Registry.FileAgain(t.Context(), store.System, 1)
	if n != 1 || err != nil {
		t.Fatal(n, err)
	}
	h.until("a person's word files it again", func() bool { return h.tree()[month()+"/r0.csv"] == "0" })
	if _, err := h.engine.Registry.FileAgain(t.Context(), store.System, 2); !errors.Is(err, registry.ErrNotUndone) {
		t.Errorf("what was not taken back is filed again: %v", err)
	}
	if _, err := h.engine.Registry.Undo(t.Context(), store.System, passes[0].ID, 0); !errors.Is(err, registry.ErrNothing) {
		t.Errorf("a second time: %v", err)
	}
}

func TestASharedFileGoesWithItsLastFilingAndAForeignOneNever(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	if err := os.MkdirAll(filepath.Join(h.files, month()), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(h.files, month(), "mine.csv"), []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.rule(gaugesRule)
	box.deliver("INBOX", raw("one", "a.csv", "same", "mine.csv", "mine"))
	box.deliver("INBOX", raw("two", "a.csv", "same"))
	h.until("all is decided", func() bool {
		s, _ := h.store.Journal.StateCounts(t.Context(), store.System)
		return s[store.Filed]+s[store.There] == 3
	})
	first, _ := h.store.Journal.OfMessage(t.Context(), store.System, 1)
	second, _ := h.store.Journal.OfMessage(t.Context(), store.System, 2)
	h.undone(0, first[0].ID)
	if h.tree()[month()+"/a.csv"] != "same" {
		t.Error("a file went that is another filing's too")
	}
	h.undone(0, first[1].ID)
	if h.tree()[month()+"/mine.csv"] != "mine" {
		t.Error("a file went that Ink Tray did not file")
	}
	h.undone(0, second[0].ID)
	if _, there := h.tree()[month()+"/a.csv"]; there {
		t.Error("the file outlives its last filing")
	}
}

// What a pass made is gone when it is taken back, and only that; and it is filed again as a whole.
func TestTakingAPassBackRemovesItsFoldersAndItIsFiledAgainAsAWhole(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	for _, folder := range []string{"Gauges", "Prepared/For later"} { // a person made these
		if err := os.MkdirAll(filepath.Join(h.files, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	want := map[string]string{}
	for i := range 3 {
		name := fmt.Sprintf("r%d.csv", i)
		box.deliver("INBOX", raw(fmt.Sprint("reading ", i), name, fmt.Sprint(i)))
		want[fmt.Sprintf("Gauges/%s/reading %d/%s", time.Now().Format("2006"), i, name)] = fmt.Sprint(i)
	}
	h.ahead.Store(int64(2 * arrivalMargin))
	id := h.rule(strings.Replace(gaugesRule, "Gauges/<received year>/<received month>", "Gauges/<received year>/<subject>",
		1))
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("the pass is done",
		func() bool {
			p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			return p.State == store.Done
		})
	h.ahead.Store(0) // before, a watcher that comes to the messages late would file them as new
	h.expect(want)
	kept := filepath.Join(h.files, "Gauges", time.Now().Format("2006"), "reading 1", "a person's own.txt")
	if err := os.WriteFile(kept, []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.engine.Registry.FilePassAgain(t.Context(), store.System, pass.ID); !errors.Is(err,
		registry.ErrNothingAgain) {
		t.Errorf("what was not taken back was filed again: %v", err)
	}
	undo := h.undone(pass.ID, 0)
	var left []string
	err = filepath.WalkDir(h.files, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == ".inktray" {
			return filepath.SkipDir
		}
		name, _ = filepath.Rel(h.files, name)
		left = append(left, filepath.ToSlash(name))
		return err
	})
	year := "Gauges/" + time.Now().Format("2006")
	if wanted := []string{".", "Gauges", year, year + "/reading 1", year + "/reading 1/a person's own.txt", "Prepared",
		"Prepared/For later"}; err != nil || !slices.Equal(left, wanted) {
		t.Errorf("there is left %q, want %q (%v)", left, wanted, err)
	}
	if !strings.Contains(undo.Note, "2 folders that were made for it are removed") {
		t.Errorf("the pass says %q", undo.Note)
	}
	if err := os.Remove(kept); err != nil {
		t.Fatal(err)
	}
	counts, err := h.store.Undoing.Of(t.Context(), pass.ID, undo.ID)
	if err != nil || counts[pass.ID].Again != 3 || counts[undo.ID].Again != 3 {
		t.Errorf("to be filed again: %+v, %v", counts, err)
	}
	// A verification expects nothing of what was taken back, whatever states are asked for.
	if _, err := h.engine.Registry.Verify(t.Context(), store.System,
		register.Query{Search: register.Search{States: register.All}}); err == nil {
		t.Error("what was taken back is verified")
	}
	items, messages, err := h.engine.Registry.FilePassAgain(t.Context(), store.System, undo.ID)
	if err != nil || items != 3 || messages != 3 {
		t.Fatalf("%d items of %d messages are filed again, %v", items, messages, err)
	}
	if all, err := h.store.Passes.Find(t.Context(), store.System, store.PassQuery{Kind: "again", Most: 10}); err != nil ||
		len(all) != 1 || all[0].Total != 3 {
		t.Errorf("the history has it as %+v, %v", all, err)
	}
	h.expect(want)
	if _, _, err := h.engine.Registry.FilePassAgain(t.Context(), store.System, pass.ID); !errors.Is(err,
		registry.ErrNothingAgain) {
		t.Errorf("filed again twice: %v", err)
	}
}

// A message whose attachment was there already is found in the register like any other.
func TestAnAttachmentThatIsThereAlreadyHasALineInTheRegister(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	box.deliver("INBOX", raw("the first letter", "a.csv", "same"))
	h.filed(1)
	box.deliver("INBOX", raw("the second letter", "a.csv", "same"))
	h.until("both have a line",
		func() bool {
			n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
			return n == 2
		})
	h.expect(map[string]string{month() + "/a.csv": "same"})
	search, err := register.ParseSearch("second letter", time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	found, err := h.store.Register.Find(t.Context(), store.System, register.Query{Search: search})
	if err != nil || found.Total != 1 {
		t.Fatalf("the second letter is found %d times, %v", found.Total, err)
	}
	rows, err := h.store.Register.Numbered(t.Context(), store.System, found.Numbers)
	if err != nil || len(rows) != 1 || rows[0].File != "a.csv" || rows[0].Void != "" || rows[0].FiledAt == nil {
		t.Errorf("its line: %+v, %v", rows, err)
	}
}

// A replacement is taken back while the power goes at every operation: the
// earlier file has its place again, and the later one is kept.
func TestThePowerMayGoAtAnyMomentOfAnUndo(t *testing.T) {
	run := func(cut int) (steps int) {
		box := &memory{validity: 1, received: map[int]time.Time{1: may, 2: may.AddDate(0, 0, 1)}}
		h := newHouse(t, box.dial)
		defer func() { h.engine.Stop() }()
		f := faultfs.New()
		prepareFault(t, f)
		h.open = func(*store.Cabinet) (cabinet.Cabinet, error) {
			return local.On("memory", "x", func() (disk.FS, error) { return f, nil }), nil
		}
		h.hurry()
		h.watched()
		h.rule(gaugesRule + "    if name exists: replace\n")
		for i, content := range []string{"first", "second"} {
			box.add(raw(content, "latest.csv", content))
			h.until("it is filed",
				func() bool {
					n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
					return n == i+1
				})
		}
		entries, _ := h.store.Journal.OfMessage(t.Context(), store.System, 2)
		before := f.Steps()
		if cut > 0 {
			f.CutAt(cut)
		}
		p, err := h.engine.Registry.Undo(t.Context(), store.System, 0, entries[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		done := func() bool {
			p, _ := h.store.Passes.ByID(t.Context(), store.System, p.ID)
			return p.State == store.Done
		}
		if cut > 0 {
			h.until("the power goes or it is done", func() bool {
				n, _ := h.store.Tray.Notices(t.Context(), store.System)
				return done() || len(n) > 0 || f.Steps()-before >= cut
			})
			h.engine.Stop()
			f.PowerUp()
			h.start()
		}
		h.until("it is taken back", done)
		steps = f.Steps() - before
		h.engine.Stop()
		f.PowerUp()
		kept := ""
		for name, content := range f.Files() {
			switch {
			case strings.HasPrefix(name, ".inktray/replaced/"):
				kept += content
			case name == "Gauges/2026/05/latest.csv" && content == "first" || strings.HasPrefix(name, ".inktray/cabinet"):
			case strings.HasPrefix(name, ".inktray/staging/"): // swept at the next start
			default:
				t.Errorf("cut at %d: %s holds %q", cut, name, content)
			}
		}
		register, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 5})
		if kept != "second" || err != nil || len(register) != 1 || register[0].Number != 1 || register[0].ReplacedBy != "" {
			t.Errorf("cut at %d: kept is %q, the register has %+v (%v)", cut, kept, register, err)
		}
		h.start()
		return steps
	}
	total := run(0)
	for cut := 1; cut <= total; cut++ {
		run(cut)
	}
}

func TestKeptFilesAndHistoryGoAfterTheirTime(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.filed(1)
	entries, _ := h.store.Journal.OfMessage(t.Context(), store.System, 1)
	h.undone(0, entries[0].ID)
	c, err := h.engine.Cabinets.Cabinet(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	name := h.engine.Filer.Temporary(&entries[0]) + "-back"
	if r, err := cabinet.Kept(t.Context(), c, name); err != nil {
		t.Fatal("what was taken back is not kept:", err)
	} else if data, _ := io.ReadAll(r); string(data) != "1" || r.Close() != nil {
		t.Errorf("kept is %q", data)
	}
	h.later(89 * 24 * time.Hour)
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := cabinet.Kept(t.Context(), c, name); err != nil {
		t.Error("it went too early")
	}
	h.later(400 * 24 * time.Hour)
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	if f, err := h.store.Register.OfEntry(t.Context(), entries[0].ID); err != nil || f.KeptAs != "" {
		t.Errorf("the register still names it: %+v, %v", f, err)
	}
	if _, err := cabinet.Kept(t.Context(), c, name); !errors.Is(err, cabinet.ErrMissing) {
		t.Errorf("it is kept for ever: %v", err)
	}
	if left, err := h.store.Passes.Find(t.Context(), store.System, store.PassQuery{Most: 10}); err != nil ||
		slices.ContainsFunc(left, func(p store.Pass) bool { return p.StartedAt.Before(time.Now().Add(24 * time.Hour)) }) {
		t.Errorf("the history keeps %+v, %v", left, err)
	}
	if _, err := h.store.Messages.ByID(t.Context(), store.System, 1); err != nil {
		t.Error("the facts of a message that was filed went with the history:", err)
	}
}
