package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

const century = 73 * 365 * 24 * time.Hour

// aged is a house in which something is old enough to be let go of once a year is over.
func aged(t *testing.T, box *memory) *house {
	t.Helper()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	if err := h.store.Settings.SetLimits(t.Context(), store.Limits{HistoryDays: 300, RegisterDays: 300, KeptDays: 30}, 0,
		"test"); err != nil {
		t.Fatal(err)
	}
	box.add(raw("reading", "a.csv", "a"))
	box.announce()
	h.until("it is in the register", func() bool { return h.numbers() == 1 })
	return h
}

func (h *house) sender() string {
	h.t.Helper()
	all, err := h.store.Register.List(h.t.Context(), store.System, register.Query{Most: 1})
	if err != nil || len(all) != 1 {
		h.t.Fatalf("the register has %d lines (%v)", len(all), err)
	}
	return all[0].SenderAddress
}

func (h *house) passes() int {
	h.t.Helper()
	all, err := h.store.Passes.Find(h.t.Context(), store.System, store.PassQuery{Most: 100})
	if err != nil {
		h.t.Fatal(err)
	}
	return len(all)
}

func (h *house) letGo() {
	h.t.Helper()
	if err := h.engine.Registry.RemoveOld(h.t.Context()); err != nil {
		h.t.Fatal(err)
	}
}

func TestAStartFarInTheFutureLetsGoOfNothing(t *testing.T) {
	h := aged(t, &memory{})
	h.letGo() // the clock is seen
	passes := h.passes()
	h.engine.Stop()
	h.ahead.Store(int64(century))
	h.start()
	for range 3 {
		h.letGo()
		h.ahead.Add(int64(90 * time.Minute)) // and it runs on
	}
	if got := h.passes(); got < passes || h.sender() != "oda@tidewatch.example" {
		t.Errorf("%d passes, before %d, and the sender is %q", got, passes, h.sender())
	}
	if h.notice("clock") == nil {
		t.Fatal("nobody was asked")
	}
	h.restart()
	h.letGo()
	if h.sender() == "" {
		t.Error("a restart took the jump for confirmed")
	}
	h.ahead.Store(0)
	h.letGo()
	if h.notice("clock") != nil {
		t.Error("the notice stays although the clock is right again")
	}
}

func TestAPersonSaysThatTheClockIsRight(t *testing.T) {
	h := aged(t, &memory{})
	h.letGo()
	h.ahead.Store(int64(400 * 24 * time.Hour)) // it was off for a year
	h.letGo()
	n := h.notice("clock")
	if n == nil || h.sender() == "" {
		t.Fatalf("notice %v, sender %q", n, h.sender())
	}
	if err := h.store.Tray.SettleByID(t.Context(), store.System, n.ID); err != nil {
		t.Fatal(err)
	}
	h.letGo()
	if got := h.sender(); got != "" {
		t.Errorf("the sender is still %q", got)
	}
	if h.notice("clock") != nil {
		t.Error("it was asked again")
	}
}

func TestAMailServerSaysThatTheClockIsRight(t *testing.T) {
	box := &memory{received: map[int]time.Time{2: time.Now().Add(400*24*time.Hour - time.Hour)}}
	h := aged(t, box)
	h.letGo()
	h.ahead.Store(int64(400 * 24 * time.Hour))
	box.add(raw("another", "b.csv", "b"))
	box.announce()
	h.until("it is in the register", func() bool { return h.numbers() == 2 })
	h.letGo()
	all, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 2})
	if err != nil || len(all) != 2 || all[1].SenderAddress != "" {
		t.Errorf("the register says %+v (%v)", all, err)
	}
	if h.notice("clock") != nil {
		t.Error("somebody was asked")
	}
}

func TestWhatAWrongClockPutOffIsDueOnceItIsRight(t *testing.T) {
	box := &memory{}
	h := aged(t, box)
	if err := h.store.Alarms.SaveAddressee(t.Context(), &store.Addressee{Name: "Ines", Kind: "mail",
		Addresses: []string{"ines@brackwater.example"}, Tray: "daily", DailyAt: "00:00",
		MadeAt: time.Now().AddDate(0, 0, -3)}, nil, "test"); err != nil {
		t.Fatal(err)
	}
	h.engine.Stop()
	h.ahead.Store(int64(century))
	h.beat = 0
	away := h.files + " away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.start()
	box.add(raw("another", "b.csv", "b"))
	box.announce()
	h.until("it is put off", func() bool {
		at, waits, err := h.store.Journal.NextDue(t.Context(), "box", nil, store.AnyLane)
		return err == nil && waits && at.After(time.Now().Add(century/2))
	})
	h.until("a digest was looked at", func() bool {
		all, err := h.store.Alarms.Addressees(t.Context())
		return err == nil && len(all) == 1 && all[0].ToldAt != nil && all[0].ToldAt.After(time.Now().Add(century/2))
	})
	h.engine.Stop()
	h.ahead.Store(0)
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.start()
	if at, waits, err := h.store.Journal.NextDue(t.Context(), "box", nil, store.AnyLane); err != nil || waits &&
		at.After(time.Now().Add(10*time.Minute)) {
		t.Errorf("it is due at %v (%v)", at, err)
	}
	all, err := h.store.Alarms.Addressees(t.Context())
	if err != nil || len(all) != 1 || all[0].ToldAt.After(time.Now()) {
		t.Errorf("the digest was told at %v (%v)", all[0].ToldAt, err)
	}
	h.until("it is filed",
		func() bool { _, err := os.Stat(filepath.Join(h.files, "Gauges/2026/05/b.csv")); return err == nil })
}
