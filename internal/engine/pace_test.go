package engine

import (
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

func TestAPassOutsideItsHoursWaitsAndCanBeStopped(t *testing.T) {
	box := &memory{validity: 1}
	box.add(raw("one", "a.csv", "1"))
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	now := h.engine.Now()
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id, From: now.Add(2 * time.Hour).Format("15:04"),
		To: now.Add(3 * time.Hour).Format("15:04")}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("it says when it goes on", func() bool {
		p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return err == nil && p.Note == "goes on at "+pass.FromTime && p.State == store.Running
	})
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Stopped); err != nil {
		t.Fatal(err)
	}
	h.until("it has stopped", func() bool {
		p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return err == nil && p.State == store.Stopped
	})
	h.expect(map[string]string{})
	slow, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id, PerMinute: 6000}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("a slow pass ends", func() bool {
		p, err := h.store.Passes.ByID(t.Context(), store.System, slow.ID)
		return err == nil && p.State == store.Done
	})
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1"})
}
