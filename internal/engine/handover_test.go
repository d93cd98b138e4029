package engine

import (
	"errors"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// A mailbox is handed over only once nothing of it is under way or waits, and only
// where its mail lies elsewhere.
func TestOnlyWhatIsSettledIsHandedOver(t *testing.T) {
	h, box := filedHouse(t, 2)
	refused := func(says string) {
		t.Helper()
		_, err := h.engine.HandOver(t.Context(), store.System, "box")
		var not *HandOverError
		if !errors.As(err, &not) || !strings.Contains(not.Problem, says) {
			t.Fatalf("%v, want ...%s...", err, says)
		}
		h.watched()
	}
	box.deliver("INBOX", raw("disguised", "plan.pdf", "MZ\x90\x00 a program"))
	h.until("it waits", func() bool { n, _ := h.store.Tray(store.System, 0, 10); return len(n) == 1 })
	refused("something of this mailbox waits in the tray (1)")
	waiting, err := h.store.Tray(store.System, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.SetAside(store.System, store.Matters{Items: []int64{waiting[0].ID}}, ""); err != nil {
		t.Fatal(err)
	}
	pass := store.Pass{Kind: "old mail", RuleID: "tide-gauges", MadeBy: "test", State: store.Running, StartedAt: time.Now()}
	if err := h.store.AddPass(&pass); err != nil {
		t.Fatal(err)
	}
	refused("goes over this mailbox")
	pass.State = store.Stopped
	if err := h.store.SavePass(&pass); err != nil {
		t.Fatal(err)
	}
	file, err := h.engine.HandOver(t.Context(), store.System, "box")
	if err != nil || !strings.HasSuffix(file, ".mailbox") {
		t.Fatalf("%s, %v", file, err)
	}
	if r, err := h.store.RuleByID("tide-gauges"); err != nil || r.Running {
		t.Errorf("the rule that looked into no other mailbox runs: %v, %v", r.Running, err)
	}
	if h.count("") != 2 {
		t.Error("what was filed is no longer in the register")
	}
}
