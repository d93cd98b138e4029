package engine

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
)

// What a rehearsal shows is what filing then does, path by path: with names that come
// again, spelled differently, with files of others in the way, messages that were
// received in another order than they lie there, copies of one message in the folder,
// and with every way of treating a name that is there.
func TestARehearsalShowsEveryPathThatFilingThenGives(t *testing.T) {
	for _, ifExists := range []string{"number", "keep", "replace"} {
		for seed := range uint64(2) {
			t.Run(fmt.Sprint(ifExists, " ", seed), func(t *testing.T) {
				random := rand.New(rand.NewPCG(seed, 7))
				box := &memory{validity: 1, received: map[int]time.Time{}}
				names := []string{"a.csv", "A.CSV", "b.txt", "cafe\u0301.txt", "caf\u00e9.txt", "long name.csv", "a (2).csv"}
				var last []byte
				for i := range 60 {
					var attachments []string
					for k := range 1 + random.IntN(3) {
						attachments = append(attachments, names[random.IntN(len(names))], fmt.Sprintf("content %d of %d", k, i))
					}
					message := raw(fmt.Sprint("reading ", i), attachments...)
					if random.IntN(10) == 0 && last != nil {
						message = last // the same message once more
					}
					last = message
					box.add(message)
					box.received[i+1] = may.Add(time.Duration(random.IntN(40)) * time.Hour * 12)
				}
				h := newHouse(t, box.dial)
				h.watched()
				for _, there := range []string{"GAUGES/2026/05/A.csv", "Gauges/2026/05/b (2).txt", "Gauges/2026/05/b.txt"} {
					name := filepath.Join(h.files, there)
					if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(name, []byte("somebody else's"), 0o644); err != nil {
						t.Fatal(err)
					}
				}
				id := h.rule(gaugesRule + "    if name exists: " + ifExists + "\n")
				h.compare(id, 60)
				// Once more: now everything was decided before.
				r := h.rehearsed(id, 60)
				if r.Files != 0 {
					t.Errorf("after filing %d files would be filed", r.Files)
				}
				// Another rule wants the same names.
				other := h.rule(strings.NewReplacer("tide-gauges", "others", "Tide gauge readings", "Others").Replace(gaugesRule) +
					"    if name exists: " + ifExists + "\n")
				h.compare(other, 60)
			})
		}
	}
}

func (h *house) rehearsed(ruleID string, n int) *rehearsal.Rehearsal {
	h.t.Helper()
	row, err := h.store.Rules.ByID(h.t.Context(), ruleID)
	if err != nil {
		h.t.Fatal(err)
	}
	document, err := row.Parsed()
	if err != nil {
		h.t.Fatal(err)
	}
	r, err := h.engine.Rehearser.Rehearse(h.t.Context(), store.System,
		rehearsal.RehearsalOf{Rule: document, Last: n, Show: n})
	if err != nil {
		h.t.Fatal(err)
	}
	if r.NotShown != 0 || r.Hidden != 0 || len(r.Messages) != n {
		h.t.Errorf("%d messages are shown; %d and %d files are not", len(r.Messages), r.NotShown, r.Hidden)
	}
	return r
}

// compare rehearses a rule, lets it file, and compares.
func (h *house) compare(ruleID string, n int) {
	h.t.Helper()
	r := h.rehearsed(ruleID, n)
	pass, err := h.engine.FileOldMail(h.t.Context(), OldMailOf{RuleID: ruleID}, tester)
	if err != nil {
		h.t.Fatal(err)
	}
	h.until("the pass is done", func() bool {
		p, _ := h.store.Passes.ByID(h.t.Context(), store.System, pass.ID)
		_, waits, _ := h.store.Journal.NextDue(h.t.Context(), "box", nil, store.AnyLane)
		return p.State == store.Done && !waits
	})
	filed, bad := 0, 0
	for _, m := range r.Messages {
		known, err := h.store.Messages.ByUID(h.t.Context(), "box", "INBOX", m.Message.UIDValidity, []uint32{m.Message.UID})
		if err != nil {
			h.t.Fatal(err)
		}
		entries, err := h.store.Journal.OfMessage(h.t.Context(), store.System, known[m.Message.UID].ID)
		if err != nil {
			h.t.Fatal(err)
		}
		for _, i := range m.Items {
			var e *store.Entry
			for k := range entries {
				if entries[k].RuleID == ruleID && entries[k].Item == i.Item.Item.ID {
					e = &entries[k]
				}
			}
			if i.Verdict == plan.Filed {
				filed++
			}
			before := e != nil && e.PassID != pass.ID && i.Verdict == plan.There // and stays as it is
			if e == nil {
				h.t.Fatalf("message %d, %s has no decision", m.Message.UID, i.Item.Item.Name)
			}
			if string(e.State) != string(i.Verdict) && !before || i.Verdict == plan.Filed && e.Path != i.As {
				if bad++; bad < 5 {
					h.t.Errorf("message %d, %s: shown as %s %q (%s; %s), and became %s %q (%s)", m.Message.UID, i.Item.Item.Name,
						i.Verdict, i.As, i.Reason, i.Clash, e.State, e.Path, e.Reason)
				}
			}
		}
	}
	if filed != r.Files {
		h.t.Errorf("%d files were announced, %d are shown", r.Files, filed)
	}
}

func TestARehearsalSaysWhatItDoesNotShow(t *testing.T) {
	box := &memory{validity: 1}
	for i := range 30 {
		box.add(raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), "x"))
	}
	for i := range 10 {
		box.add([]byte(fmt.Sprintf("From: a@b.example\r\nSubject: other %d\r\n\r\nx", i)))
	}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	row, err := h.store.Rules.ByID(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	document, err := row.Parsed()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ show, shown, notShown, hidden int }{{0, 40, 0, 0}, {10, 10, 30, 20}, {33, 33, 7, 0}} {
		r, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
			rehearsal.RehearsalOf{Rule: document, Last: 40, Show: c.show})
		if err != nil {
			t.Fatal(err)
		}
		if r.Files != 30 || len(r.Messages) != c.shown || r.NotShown != c.notShown || r.Hidden != c.hidden {
			t.Errorf("show %d: %d files, %d messages shown, %d messages and %d files not", c.show, r.Files, len(r.Messages),
				r.NotShown, r.Hidden)
		}
		if r.Messages[0].Message.UID < r.Messages[len(r.Messages)-1].Message.UID {
			t.Error("the newest is not the first")
		}
	}
}

func TestWhatAnEarlierStateOfARuleLeftOutIsFiledByItsPresentOne(t *testing.T) {
	box := &memory{validity: 1}
	box.add(raw("reading", "a.csv", "a", "b.txt", "b"))
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(strings.Replace(gaugesRule, "take: everything", "take: {extension: csv}", 1))
	h.compare(id, 1)
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a"})
	h.rule(gaugesRule)
	h.compare(id, 1)
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a", "Gauges/2026/05/b.txt": "b"})
}
