package store

import (
	"slices"
	"sync"
	"testing"
	"time"

	"gorm.io/gorm"
)

func TestWhatHasTimeIsCommittedAfterTheOthersAndStillComesToAnEnd(t *testing.T) {
	s := opened(t)
	var order []string // is written by the one who commits
	var wait sync.WaitGroup
	change := func(who string, hurried bool, meanwhile func()) {
		wait.Go(func() {
			ctx := t.Context()
			if !hurried {
				ctx = Unhurried(ctx)
			}
			if err := s.change(ctx, func(*gorm.DB) error {
				meanwhile()
				order = append(order, who)
				return nil
			}); err != nil {
				t.Error(err)
			}
		})
	}
	// all wait while one is being made
	begun, release := make(chan struct{}), make(chan struct{})
	change("first", true, func() { close(begun); <-release })
	<-begun
	const later, now = 40, 10
	for range later {
		change("later", false, func() {})
	}
	for len(s.later) < later {
		<-time.After(time.Millisecond)
	}
	for range now {
		change("now", true, func() {})
	}
	for len(s.jobs) < now {
		<-time.After(time.Millisecond)
	}
	close(release)
	wait.Wait()
	want := slices.Concat([]string{"first"}, slices.Repeat([]string{"now"}, now), slices.Repeat([]string{"later"}, later))
	if !slices.Equal(order, want) {
		t.Errorf("they were made in the order %v", order)
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
					_ = s.change(t.Context(), func(*gorm.DB) error { return nil })
				}
			}
		})
	}
	done := make(chan error, 1)
	go func() { done <- s.change(Unhurried(t.Context()), func(*gorm.DB) error { return nil }) }()
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
