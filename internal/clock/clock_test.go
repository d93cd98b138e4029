package clock

import (
	"io"
	"log/slog"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/store"
)

// office is a watch over a clock that a test moves, with records of its own.
type office struct {
	*Watch
	t     *testing.T
	shows time.Time
}

func watched(t *testing.T) *office {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	o := &office{t: t, shows: time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)}
	o.Watch = New(base.New(base.Base{Store: s, Clock: func() time.Time { return o.shows }, Zone: time.UTC,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))}))
	return o
}

func (o *office) expect(what string, steady, asked bool) {
	o.t.Helper()
	got, err := o.Steady(o.t.Context())
	if err != nil || got != steady {
		o.t.Errorf("%s: steady is %v (%v), want %v", what, got, err, steady)
	}
	is, err := o.Store.Tray.HasNotice(o.Context(), "clock", "clock")
	if err != nil || is != asked {
		o.t.Errorf("%s: a person is asked: %v (%v), want %v", what, is, err, asked)
	}
}

func TestAJumpIsTrustedOnlyOnceAPersonSaysSo(t *testing.T) {
	o := watched(t)
	o.expect("at first", true, false)
	o.shows = o.shows.Add(20 * time.Hour)
	o.expect("within a day", true, false)
	o.shows = o.shows.AddDate(2, 0, 0)
	o.expect("after two years", false, true)
	o.expect("asked once only", false, true)
	if _, err := o.Store.Tray.Settle(t.Context(), "clock", "clock"); err != nil {
		t.Fatal(err)
	}
	o.expect("a person settled it", true, false)
}

func TestAClockThatIsSetRightIsTrustedAgain(t *testing.T) {
	o := watched(t)
	o.expect("at first", true, false)
	right := o.shows
	o.shows = right.AddDate(10, 0, 0)
	o.expect("far ahead", false, true)
	o.shows = right.Add(time.Hour)
	o.expect("set right", true, false)
}

func TestWhatAWrongClockPutOffIsDueOnceTheClockGoesBack(t *testing.T) {
	o := watched(t)
	woken := 0
	o.WakeAll = func() { woken++ }
	if err := o.Tick(t.Context()); err != nil {
		t.Fatal(err)
	}
	o.shows = o.shows.AddDate(1, 0, 0)
	if err := o.Tick(t.Context()); err != nil || woken != 0 {
		t.Fatalf("ahead: woken %d times (%v), want never", woken, err)
	}
	o.shows = o.shows.AddDate(-1, 0, 1)
	if err := o.Tick(t.Context()); err != nil || woken != 1 {
		t.Errorf("back again: woken %d times (%v), want once", woken, err)
	}
}

func TestASimulatedClockMayBeMoved(t *testing.T) {
	o := watched(t)
	o.expect("at first", true, false)
	if err := o.Move(t.Context(), func() { o.shows = o.shows.AddDate(3, 0, 0) }); err != nil {
		t.Fatal(err)
	}
	o.expect("moved on purpose", true, false)
}
