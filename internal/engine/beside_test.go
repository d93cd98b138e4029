package engine

import (
	"testing"
	"time"
)

func TestABurstOfSlowMessagesDoesNotAddUp(t *testing.T) {
	a := newAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	begin := now
	for n := range 20 { // each takes all that it may
		share := a.share(now)
		if n == 0 && share != 400*time.Millisecond {
			t.Errorf("the first may take %v, want 400ms", share)
		}
		a.spend(share)
		now = now.Add(share)
	}
	if took := now.Sub(begin); took > 2200*time.Millisecond {
		t.Errorf("20 slow messages took %v together", took)
	}
	if got := a.share(now.Add(2 * time.Second)); got != 400*time.Millisecond {
		t.Errorf("after a quiet time a message may take %v, want 400ms", got)
	}
}

func TestQuickMessagesDoNotUseTheAllowanceUp(t *testing.T) {
	a := newAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	for range 1000 {
		a.share(now)
		a.spend(20 * time.Millisecond)
		now = now.Add(20 * time.Millisecond)
	}
	if got := a.share(now); got != 400*time.Millisecond {
		t.Errorf("after 1000 quick messages one may take %v, want 400ms", got)
	}
}
