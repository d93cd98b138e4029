package engine

import (
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

func TestHoursOfTheDay(t *testing.T) {
	at := func(clock string) time.Time {
		d, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	for _, c := range []struct {
		from, to, now string
		want          bool
	}{
		{"", "", "12:00", true}, {"19:00", "06:00", "18:59", false}, {"19:00", "06:00", "19:00", true}, {"19:00", "06:00", "03:00", true}, {"19:00", "06:00", "06:00", false},
		{"08:00", "17:00", "12:00", true}, {"08:00", "17:00", "17:00", false}, {"08:00", "17:00", "07:59", false},
	} {
		span, err := hours(c.from, c.to)
		if err != nil {
			t.Fatal(err)
		}
		if got := withinHours(span, at(c.now)); got != c.want {
			t.Errorf("%s from %s to %s: %v", c.now, c.from, c.to, got)
		}
	}
	for _, bad := range [][2]string{{"19:00", ""}, {"7 pm", "06:00"}, {"19:00", "19:00"}, {"25:00", "06:00"}} {
		if _, err := hours(bad[0], bad[1]); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func TestAPassOutsideItsHoursWaitsAndCanBeStopped(t *testing.T) {
	box := &memory{validity: 1}
	box.add(raw("one", "a.csv", "1"))
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	now := h.engine.now()
	pass, err := h.engine.FileOldMail(OldMailOf{RuleID: id, From: now.Add(2 * time.Hour).Format("15:04"), To: now.Add(3 * time.Hour).Format("15:04")}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("it says when it goes on", func() bool {
		p, err := h.store.Pass(store.System, pass.ID)
		return err == nil && p.Note == "goes on at "+pass.FromTime && p.State == store.Running
	})
	if err := h.engine.SteerPass(store.System, pass.ID, store.Stopped); err != nil {
		t.Fatal(err)
	}
	h.until("it has stopped", func() bool {
		p, err := h.store.Pass(store.System, pass.ID)
		return err == nil && p.State == store.Stopped
	})
	h.expect(map[string]string{})
	slow, err := h.engine.FileOldMail(OldMailOf{RuleID: id, PerMinute: 6000}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("a slow pass ends", func() bool {
		p, err := h.store.Pass(store.System, slow.ID)
		return err == nil && p.State == store.Done
	})
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1"})
}
