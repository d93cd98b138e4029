package disk

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestEveryoneGetsAFlushThatBeganAfterAsking(t *testing.T) {
	var f Flushes
	var written, flushed atomic.Int64 // how much was written, and how much of it is certain to last
	var flushes atomic.Int64
	var wait sync.WaitGroup
	for range 50 {
		wait.Go(func() {
			for range 20 {
				mine := written.Add(1)
				err := f.Do("folder", func() error {
					flushes.Add(1)
					upTo := written.Load()
					time.Sleep(100 * time.Microsecond)
					for now := flushed.Load(); now < upTo && !flushed.CompareAndSwap(now, upTo); now = flushed.Load() {
					}
					return nil
				})
				if err != nil || flushed.Load() < mine {
					t.Errorf("what was written as %d is not flushed (%v)", mine, err)
					return
				}
			}
		})
	}
	wait.Wait()
	if n := flushes.Load(); n >= 500 {
		t.Errorf("%d flushes for 1,000 that asked: none is shared", n)
	}
}

func TestAFlushThatFailsFailsForAllWhoShareIt(t *testing.T) {
	var f Flushes
	broken := errors.New("the disk is full")
	began, end := make(chan struct{}), make(chan struct{})
	first := make(chan error)
	go func() { first <- f.Do("a", func() error { close(began); <-end; return nil }) }()
	<-began
	failed := make(chan error, 10)
	for range 10 {
		go func() { failed <- f.Do("a", func() error { return broken }) }()
	}
	if err := f.Do("b", func() error { return nil }); err != nil { // another folder does not wait
		t.Fatal(err)
	}
	close(end)
	if err := <-first; err != nil {
		t.Error(err)
	}
	for range 10 {
		if err := <-failed; !errors.Is(err, broken) {
			t.Errorf("it says %v", err)
		}
	}
	if err := f.Do("a", func() error { return nil }); err != nil {
		t.Errorf("after a failure: %v", err)
	}
}
