package turn

import (
	"testing"
	"time"
)

func TestABurstOfSlowMessagesDoesNotAddUp(t *testing.T) {
	a := NewAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	begin := now
	for n := range 20 { // each takes all that it may
		share := a.Share(now)
		if n == 0 && share != 400*time.Millisecond {
			t.Errorf("the first may take %v, want 400ms", share)
		}
		a.Spend(share)
		now = now.Add(share)
	}
	if took := now.Sub(begin); took > 2200*time.Millisecond {
		t.Errorf("20 slow messages took %v together", took)
	}
	if got := a.Share(now.Add(2 * time.Second)); got != 400*time.Millisecond {
		t.Errorf("after a quiet time a message may take %v, want 400ms", got)
	}
}

func TestQuickMessagesDoNotUseTheAllowanceUp(t *testing.T) {
	a := NewAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	for range 1000 {
		a.Share(now)
		a.Spend(20 * time.Millisecond)
		now = now.Add(20 * time.Millisecond)
	}
	if got := a.Share(now); got != 400*time.Millisecond {
		t.Errorf("after 1000 quick messages one may take %v, want 400ms", got)
	}
}

func TestWhatIsBesideGivesWayToNewMessagesButNotForEver(t *testing.T) {
	var p Precedence
	ctx := t.Context()
	began := time.Now()
	p.GiveWay(ctx, time.Hour) // nothing is in hand
	if took := time.Since(began); took > mostWay/2 {
		t.Errorf("with nothing in hand it waited %v", took)
	}
	p.Begin()
	p.Begin()
	began = time.Now()
	p.GiveWay(ctx, time.Hour)
	if took := time.Since(began); took < mostWay {
		t.Errorf("it waited %v, want %v", took, mostWay)
	}
	p.End()
	ended := make(chan struct{})
	go func() {
		p.GiveWay(ctx, time.Hour)
		close(ended)
	}()
	p.End()
	<-ended
	began = time.Now()
	p.Begin()
	p.GiveWay(ctx, time.Microsecond) // a short piece of work waits a short time
	p.End()
	if took := time.Since(began); took > mostWay/2 {
		t.Errorf("after a microsecond of work it waited %v", took)
	}
}
