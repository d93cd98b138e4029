package engine

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/store"
)

// slow is a cabinet whose calls take a while; it counts how many of a kind are
// under way at once.
type slow struct {
	*local.Cabinet
	mutex sync.Mutex
	kind  string // of calls that are slow
	takes time.Duration
	now   int
	most  int
	calls int
}

func (s *slow) take(kind string) func() {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if kind != s.kind {
		return func() {}
	}
	s.calls++
	s.now++
	s.most = max(s.most, s.now)
	return func() {
		<-time.After(s.takes)
		s.mutex.Lock()
		defer s.mutex.Unlock()
		s.now--
	}
}

func (s *slow) Stage(ctx context.Context, id string, received time.Time, r io.Reader) (cabinet.Content, error) {
	defer s.take("stage")()
	return s.Cabinet.Stage(ctx, id, received, r)
}

func (s *slow) Sum(ctx context.Context, name string) (cabinet.Content, error) {
	defer s.take("sum")()
	return s.Cabinet.Sum(ctx, name)
}

func (s *slow) Retire(ctx context.Context, name, kept string) error {
	defer s.take("retire")()
	return s.Cabinet.Retire(ctx, name, kept)
}

// slowly is a house with such a cabinet.
func slowly(t *testing.T, kind string) (*house, *postbox, *slow) {
	t.Helper()
	box := newPostbox()
	h := newHouse(t, box.dial)
	s := &slow{kind: kind, takes: 50 * time.Millisecond}
	h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) {
		s.Cabinet = local.New(c.Folder, c.Identity)
		return s, nil
	}
	h.hurry()
	h.watched()
	return h, box, s
}

func (s *slow) counted(t *testing.T, calls int) {
	t.Helper()
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.most != 1 || s.calls < calls {
		t.Errorf("%d %s calls, up to %d at once; want at least %d, one at a time", s.calls, s.kind, s.most, calls)
	}
}

func TestAnItemIsInTheHandsOfOneWorkerAtATime(t *testing.T) {
	h, box, s := slowly(t, "stage")
	h.rule(gaugesRule)
	away := h.files + "-away"
	move := func(from, to string) {
		t.Helper()
		if err := os.Rename(from, to); err != nil {
			t.Fatal(err)
		}
	}
	move(h.files, away)
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	if err := h.store.Settings.SetLimits(t.Context(), store.Limits{SpoolMB: 0}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	var entry store.Entry
	h.until("it waits", func() bool {
		all, _ := h.store.Journal.OfMessage(t.Context(), store.System, 1)
		if len(all) == 1 {
			entry = all[0]
		}
		return len(all) == 1 && entry.NextAt != nil
	})
	row, err := h.store.Messages.ByID(t.Context(), store.System, 1)
	if err != nil {
		t.Fatal(err)
	}
	facts, err := row.Facts()
	if err != nil {
		t.Fatal(err)
	}
	move(away, h.files)
	if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err != nil {
		t.Fatal(err)
	}
	var workers sync.WaitGroup
	for range 4 { // as a watcher, a pass over old mail and the tray may
		workers.Go(func() {
			session, err := box.dial(t.Context(), nil, "")
			if err != nil {
				t.Error(err)
				return
			}
			if _, err := session.Open(t.Context(), "INBOX"); err != nil {
				t.Error(err)
				return
			}
			mine := entry
			l := &reading.Message{Row: &row, Facts: facts, Mail: facts.Message("INBOX"), Mailbox: "gauges"}
			defer l.Close()
			if err := h.engine.Filer.File(t.Context(), session, l, &mine); err != nil {
				t.Error(err)
			}
		})
	}
	workers.Wait()
	h.filed(1)
	s.counted(t, 1)
	if s.calls != 1 {
		t.Errorf("it was staged %d times", s.calls)
	}
}

func TestAKeptContentIsInTheHandsOfOneWorkerAtATime(t *testing.T) {
	h, box, s := slowly(t, "stage")
	h.rule(gaugesRule)
	away := h.files + "-away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.until("it is kept", func() bool { e, _ := h.store.Journal.Spooled(t.Context()); return len(e) == 1 })
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	var workers sync.WaitGroup
	for range 4 {
		workers.Go(func() { h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); h.engine.Filer.FileKept(t.Context()) })
	}
	workers.Wait()
	h.filed(1)
	s.counted(t, 1)
	if s.calls != 1 {
		t.Errorf("it was staged %d times", s.calls)
	}
}

func TestOfTwoReplacementsEachLooksAtWhatTheOtherLeft(t *testing.T) {
	h, box, s := slowly(t, "sum")
	h.rule(gaugesRule + "    if name exists: replace\n")
	box.deliver("INBOX", raw("one", "latest.csv", "first"))
	h.filed(1)
	h.rule(strings.NewReplacer("id: tide-gauges", "id: second", "name: Tide gauge readings",
		"name: Second").Replace(gaugesRule) + "    if name exists: replace\n")
	// Two passes over old mail, each with a later message of its own.
	for _, id := range []string{"tide-gauges", "second"} {
		if err := h.engine.Office.SwitchRule(t.Context(), id, false, "test"); err != nil {
			t.Fatal(err)
		}
	}
	box.deliver("INBOX", raw("two", "latest.csv", "second"))
	box.deliver("INBOX", raw("three", "latest.csv", "third"))
	for _, id := range []string{"tide-gauges", "second"} {
		if _, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester); err != nil {
			t.Fatal(err)
		}
	}
	h.until("both passes are done", func() bool {
		p, _ := h.store.Passes.Find(t.Context(), store.System, store.PassQuery{Kind: "old mail", Most: 5})
		return len(p) == 2 && p[0].State == store.Done && p[1].State == store.Done
	})
	s.counted(t, 2)
}

func TestTwoUndoingsTakeTurns(t *testing.T) {
	h, box, s := slowly(t, "retire")
	h.rule(gaugesRule)
	box.deliver("INBOX", raw("one", "a.csv", "1", "b.csv", "2"))
	h.filed(2)
	entries, _ := h.store.Journal.OfMessage(t.Context(), store.System, 1)
	var ids []int64
	for _, e := range entries {
		ids = append(ids, e.ID)
	}
	var workers sync.WaitGroup
	for _, id := range ids {
		workers.Go(func() {
			if _, err := h.engine.Registry.Undo(t.Context(), store.System, 0, id); err != nil {
				t.Error(err)
			}
			h.engine.Registry.TakeBack(t.Context())
		})
	}
	workers.Wait()
	h.until("both are taken back",
		func() bool { open, _ := h.store.Undoing.Open(t.Context()); return len(open) == 0 && len(h.tree()) == 0 })
	s.counted(t, 2)
	if s.calls != 2 {
		t.Errorf("%d files were moved, want 2", s.calls)
	}
}

// dying lets every commit fail from a moment on, as the end of the process does.
func (h *house) dying() (die func()) {
	var mutex sync.Mutex
	dead := false
	h.store.Interrupt(func(bool) error {
		mutex.Lock()
		defer mutex.Unlock()
		if dead {
			return errDead
		}
		return nil
	})
	h.t.Cleanup(func() { h.store.Interrupt(func(bool) error { return nil }) })
	return func() { mutex.Lock(); defer mutex.Unlock(); dead = true }
}

func TestAMailIsSentAtMostOnceAlsoWhenTheProcessEndsRightAfter(t *testing.T) {
	h, box, out := sendingHouse(t, gaugesRule+"afterwards: {reply: {text: Thank you}}")
	die := h.dying()
	out.mutex.Lock()
	out.taken = die
	out.mutex.Unlock()
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.until("it is sent", func() bool { return len(out.got("oda@tidewatch.example")) == 1 })
	h.engine.Stop()
	h.store.Interrupt(func(bool) error { return nil })
	h.start()
	h.until("a person is asked", func() bool {
		p, _ := h.store.Tray.Post(t.Context(), store.System, 5)
		return len(p) == 1 && p[0].State == store.Unsure
	})
	if n := len(out.got("oda@tidewatch.example")); n != 1 {
		t.Errorf("it was sent %d times", n)
	}
}

func TestADraftIsLeftOnceAlsoWhenTheProcessEndsRightAfter(t *testing.T) {
	h, box, _ := sendingHouse(t, gaugesRule+"afterwards: {draft: {text: Please look}}")
	die := h.dying()
	box.mutex.Lock()
	box.step = func(op string) error {
		if op == "appended" {
			die()
			return errDead
		}
		return nil
	}
	box.mutex.Unlock()
	drafts := func() (n int) {
		for _, where := range box.lies() {
			if strings.HasPrefix(where, "Drafts") {
				n++
			}
		}
		return n
	}
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.until("it is left", func() bool { return drafts() == 1 })
	h.engine.Stop()
	h.store.Interrupt(func(bool) error { return nil })
	box.mutex.Lock()
	box.step = func(string) error { return nil }
	box.mutex.Unlock()
	h.start()
	h.until("it is recorded", func() bool { return strings.Contains(h.steps(1), "draft oda@tidewatch.example: done") })
	if n := drafts(); n != 1 {
		t.Errorf("%d drafts are left", n)
	}
}

func TestAnotherFileAtThePlaceOfWhatWasStagedIsNotTakenForIt(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("reading", "a.csv", "a"))
	box.announce()
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a"})
	h.until("it is in the register", func() bool { return h.numbers() == 1 })
	h.engine.Stop()
	// As after a crash: it was staged, the temporary object went, and somebody put
	// another file where it was to go.
	filings, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 1})
	if err != nil {
		t.Fatal(err)
	}
	h.crashed("UPDATE journal SET state = 'staged' WHERE id = ?", filings[0].JournalID)
	if err := os.WriteFile(filepath.Join(h.files, "Gauges/2026/05/a.csv"), []byte("a stranger's"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.start()
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a stranger's", "Gauges/2026/05/a (2).csv": "a"})
	h.until("the register names the right one", func() bool {
		filings, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 5})
		return err == nil && len(filings) == 1 && filings[0].File == "a (2).csv"
	})
}
