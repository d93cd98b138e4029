package passes

import (
	"context"
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
		{"", "", "12:00", true}, {"19:00", "06:00", "18:59", false}, {"19:00", "06:00", "19:00", true},
		{"19:00", "06:00", "03:00", true}, {"19:00", "06:00", "06:00", false},
		{"08:00", "17:00", "12:00", true}, {"08:00", "17:00", "17:00", false}, {"08:00", "17:00", "07:59", false},
	} {
		span, err := ParseHours(c.from, c.to)
		if err != nil {
			t.Fatal(err)
		}
		if got := span.Include(at(c.now)); got != c.want {
			t.Errorf("%s from %s to %s: %v", c.now, c.from, c.to, got)
		}
	}
	for _, bad := range [][2]string{{"19:00", ""}, {"7 pm", "06:00"}, {"19:00", "19:00"}, {"25:00", "06:00"}} {
		if _, err := ParseHours(bad[0], bad[1]); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func TestWhatIsAskedReachesARestingPass(t *testing.T) {
	p := New()
	s := p.Begin(3)
	if ids := p.IDs(); len(ids) != 1 || ids[0] != 3 {
		t.Errorf("running: %v, want [3]", ids)
	}
	p.Of(3).Ask(store.Paused)
	if s.Rest(t.Context(), time.Hour) {
		t.Error("the pass rested though it was asked to pause")
	}
	if got := s.Asked(); got != store.Paused {
		t.Errorf("asked: %q, want %q", got, store.Paused)
	}
	p.End(3)
	if p.Of(3) != nil || len(p.IDs()) != 0 {
		t.Error("the pass runs after its end")
	}
}

func TestRestEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if new(Steering).Rest(ctx, time.Hour) {
		t.Error("the pass rested to the end")
	}
	if !new(Steering).Rest(t.Context(), time.Millisecond) {
		t.Error("the pass did not rest to the end")
	}
}
