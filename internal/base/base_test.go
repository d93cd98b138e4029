package base

import (
	"context"
	"testing"
	"time"
)

func TestWorkInTheBackgroundHasANameAndEndsWithTheService(t *testing.T) {
	b := New(Base{Clock: time.Now, Zone: time.UTC})
	begun := make(chan bool)
	ended := false
	b.Go("waiting", func(ctx context.Context) {
		begun <- true
		<-ctx.Done()
		ended = true
	})
	<-begun
	if got := b.Running(); len(got) != 1 || got["waiting"] != 1 {
		t.Errorf("running: %v, want one of the name waiting", got)
	}
	b.End()
	if !ended {
		t.Error("End returned before the work had ended")
	}
	if got := b.Running(); len(got) != 0 {
		t.Errorf("still running after the end: %v", got)
	}
}

func TestPausesGrowToFiveMinutesAndVary(t *testing.T) {
	for failures, want := range map[int]time.Duration{0: 2 * time.Second, 3: 16 * time.Second, 20: 5 * time.Minute} {
		for range 100 {
			if got := Pause(failures); got < want/2 || got > want*3/2 {
				t.Fatalf("after %d failures: a pause of %v, want %v, half of it more or less", failures, got, want)
			}
		}
	}
}

func TestTodayBeginsAtMidnightOfTheOffice(t *testing.T) {
	zone := time.FixedZone("office", 10*3600)
	b := New(Base{Zone: zone, Clock: func() time.Time { return time.Date(2026, 3, 1, 20, 30, 0, 0, time.UTC) }})
	if got, want := b.Today(), time.Date(2026, 3, 2, 0, 0, 0, 0, zone); !got.Equal(want) {
		t.Errorf("got %v, want %v", got, want)
	}
}
