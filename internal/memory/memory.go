// Package memory gives back to the machine what the service needed for a moment only: for its start, for checking a
// password, for reading a large message. It guarantees nothing but that; what is needed again is there again.
package memory

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// afterStart is when the start is over.
var afterStart = 5 * time.Second

// How often it is looked at what is not used, and how much of that is given back, in octets.
const (
	every      = 30 * time.Second
	mostUnused = 8 << 20
)

// Keep gives back once the start is over, and then now and again, until ctx ends.
func Keep(ctx context.Context) {
	for next, began := afterStart, true; ; next, began = every, false {
		select {
		case <-ctx.Done():
			return
		case <-time.After(next):
		}
		if began || unused() > mostUnused {
			debug.FreeOSMemory()
			letGoOfPages()
		}
	}
}

// unused is how much the Go runtime holds without using it, in octets.
func unused() uint64 {
	s := []metrics.Sample{{Name: "/memory/classes/heap/free:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64() + s[1].Value.Uint64()
}
