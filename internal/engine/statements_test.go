package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// statementsOf files old mail and returns how many SQL statements each message took.
func statementsOf(t *testing.T, message func(n int) []byte) float64 {
	t.Helper()
	const messages = 100
	box := &memory{}
	for n := range messages {
		box.add(message(n))
	}
	h := newHouse(t, box.dial)
	h.beat = time.Hour // nothing else runs meanwhile
	h.restart()
	h.watched()
	id := h.rule(gaugesRule)
	h.watched()
	before := h.store.Statements()
	pass, err := h.engine.FileOldMail(OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	var p store.Pass
	asked := int64(0)
	h.until("the pass is done", func() bool {
		asked++
		p, _ = h.store.Passes.ByID(store.System, pass.ID)
		return p.State == store.Done
	})
	if p.Looked != messages {
		t.Fatalf("the pass looked at %d messages, want %d", p.Looked, messages)
	}
	return float64(h.store.Statements()-before-asked) / messages
}

// The bounds hold what was measured, so that a statement more is noticed. docs/scaling.md has the numbers.
func TestStatementsOfAMessageAndOfAFiledItemStayFew(t *testing.T) {
	other := statementsOf(t, func(n int) []byte {
		return []byte(strings.ReplaceAll(string(raw(fmt.Sprint("note ", n), "a.csv", fmt.Sprint(n))), "tidewatch.example",
			"elsewhere.example"))
	})
	one := statementsOf(t,
		func(n int) []byte { return raw(fmt.Sprint("reading ", n), fmt.Sprintf("%d.csv", n), fmt.Sprint(n)) })
	t.Logf("a message that no rule takes: %.2f statements; one with one filed item: %.2f more", other, one-other)
	if other > 4 {
		t.Errorf("a message takes %.2f statements, want 4 at most", other)
	}
	if one-other > 13 {
		t.Errorf("a filed item takes %.2f statements, want 13 at most", one-other)
	}
}
