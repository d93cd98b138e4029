// Package memory gives back to the machine what the service needed for a moment only: for its start, for checking a
// password, for reading a large message. It guarantees nothing but that; what is needed again is there again.
package memory

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// What is given back, and how often that is looked at.
const (
	AfterStart = 5 * time.Second
	Every      = 30 * time.Second
	mostUnused = 8 << 20 // octets that the program has from the machine and does not use, before they are given back
)

// Keep gives back once the start is over, and then now and again, until ctx ends.
func Keep(ctx context.Context) {
	for next, began := AfterStart, true; ; next, began = Every, false {
		select {
		case <-ctx.Done():
			return
		case <-time.After(next):
		}
		if began || unused() > mostUnused {
			debug.FreeOSMemory()
		}
	}
}

// unused is how much the Go runtime holds without using it, in octets.
func unused() uint64 {
	s := []metrics.Sample{{Name: "/memory/classes/heap/free:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64() + s[1].Value.Uint64()
}
