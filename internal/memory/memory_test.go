package memory

import (
	"context"
	"runtime"
	"testing"
	"time"
)

func TestMemoryThatIsNotUsedIsGivenBack(t *testing.T) {
	defer func(d time.Duration) { afterStart = d }(afterStart)
	afterStart = time.Millisecond
	const size = 256 << 20
	large := make([]byte, size)
	for i := 0; i < len(large); i += 4096 {
		large[i] = 1
	}
	runtime.KeepAlive(large)
	large = nil
	runtime.GC()
	if held := unused(); held < size/2 {
		t.Fatalf("the runtime gave it back by itself: %d MB are held", held>>20)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { Keep(ctx); close(done) }()
	defer func() { cancel(); <-done }()
	for until := time.Now().Add(20 * time.Second); unused() > size/4; {
		if time.Now().After(until) {
			t.Fatalf("%d MB are held without use", unused()>>20)
		}
		<-time.After(time.Millisecond)
	}
}
