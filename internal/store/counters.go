package store

import (
	"sync/atomic"
	"time"
)

// DelayBounds are the upper bounds of the delays that are counted, in seconds.
var DelayBounds = []float64{.05, .1, .25, .5, 1, 2, 5, 15, 60, 300, 3600}

// CommitBounds are those of how long commits took.
var CommitBounds = []float64{.001, .002, .005, .01, .025, .05, .1, .25, 1, 5}

// timings is a distribution of times, as it grew since the start.
type timings struct {
	bounds []float64
	within []atomic.Int64 // by bound, those not above it and above the one before
	n      atomic.Int64
	nanos  atomic.Int64
}

func newTimings(bounds []float64) *timings {
	return &timings{bounds: bounds, within: make([]atomic.Int64, len(bounds))}
}

func (c *timings) add(d time.Duration) {
	c.n.Add(1)
	c.nanos.Add(int64(d))
	for i, b := range c.bounds {
		if d.Seconds() <= b {
			c.within[i].Add(1)
			return
		}
	}
}

// Distribution is how often something took how long since the start.
type Distribution struct {
	Count   int64
	Seconds float64           // all together
	UpTo    map[float64]int64 // how many took at most so many seconds, by bound
}

func (c *timings) distribution() Distribution {
	d := Distribution{Count: c.n.Load(), Seconds: time.Duration(c.nanos.Load()).Seconds(), UpTo: map[float64]int64{}}
	sum := int64(0)
	for i, b := range c.bounds {
		sum += c.within[i].Load()
		d.UpTo[b] = sum
	}
	return d
}

// counters count what the records saw since they were opened.
type counters struct {
	filed, octets atomic.Int64
	delays        *timings // from the announcement of a message to the filing of its item
	commits       *timings
}

func newCounters() *counters {
	return &counters{delays: newTimings(DelayBounds), commits: newTimings(CommitBounds)}
}

// wasFiled counts an item that was filed.
func (c *counters) wasFiled(e *Entry) {
	c.filed.Add(1)
	c.octets.Add(e.Size)
	if e.AnnouncedAt != nil && e.DoneAt != nil {
		if d := e.DoneAt.Sub(*e.AnnouncedAt); d >= 0 {
			c.delays.add(d)
		}
	}
}

// Work is what the records saw since they were opened.
type Work struct {
	Filed, Octets   int64
	Delays, Commits Distribution
}

// Work is what was filed and committed since the records were opened.
func (s *Journal) Work() Work {
	c := s.counters
	return Work{c.filed.Load(), c.octets.Load(), c.delays.distribution(), c.commits.distribution()}
}
