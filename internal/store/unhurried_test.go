package store

import (
	"sync"
	"testing"
	"time"

	"gorm.io/gorm"
)

func TestWhatHasTimeIsCommittedAfterTheOthersAndStillComesToAnEnd(t *testing.T) {
	s := opened(t)
	slow := func(tx *gorm.DB) error { time.Sleep(2 * time.Millisecond); return nil }
	var mutex sync.Mutex
	var order []string
	var wait sync.WaitGroup
	change := func(who string, hurried bool) {
		wait.Go(func() {
			ctx := t.Context()
			if !hurried {
				ctx = Unhurried(ctx)
			}
			if err := s.change(ctx, slow); err != nil {
				t.Error(err)
			}
			mutex.Lock()
			order = append(order, who)
			mutex.Unlock()
		})
	}
	for range 40 {
		change("later", false)
	}
	time.Sleep(5 * time.Millisecond)
	for range 10 {
		change("now", true)
	}
	wait.Wait()
	last := 0
	for i, who := range order {
		if who == "now" {
			last = i
		}
	}
	if last > 30 {
		t.Errorf("what is urgent came as number %d of %d", last+1, len(order))
	}
	// where urgent changes never end
	stop := make(chan struct{})
	for range 4 {
		wait.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					_ = s.change(t.Context(), slow)
				}
			}
		})
	}
	done := make(chan error, 1)
	go func() { done <- s.change(Unhurried(t.Context()), slow) }()
	select {
	case err := <-done:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(10 * time.Second):
		t.Error("what has time never comes")
	}
	close(stop)
	wait.Wait()
}
