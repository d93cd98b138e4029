// Package passes knows which passes run in the background, and carries to each of them what a person asked for. It
// guarantees that asking reaches a running pass before its next batch.
package passes

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"inktray.example/inktray/internal/store"
)

// Passes are the passes that run. Its methods may be called by several goroutines at once.
type Passes struct {
	mutex   sync.Mutex
	running map[int64]*Steering
}

// New knows no pass.
func New() *Passes { return &Passes{running: map[int64]*Steering{}} }

// Begin notes that a pass runs.
func (p *Passes) Begin(id int64) *Steering {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.running[id] = &Steering{}
	return p.running[id]
}

// End notes that a pass no longer runs.
func (p *Passes) End(id int64) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	delete(p.running, id)
}

// Of returns the steering of a pass; nil where it does not run.
func (p *Passes) Of(id int64) *Steering {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.running[id]
}

// IDs lists the passes that run.
func (p *Passes) IDs() []int64 {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return slices.Collect(maps.Keys(p.running))
}

// Steering carries what a person asked of one pass.
type Steering struct {
	mutex  sync.Mutex
	wanted store.PassState
}

// Ask asks a pass to pause or to stop.
func (s *Steering) Ask(wanted store.PassState) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.wanted = wanted
}

// Asked is what was asked last; "" for going on.
func (s *Steering) Asked() store.PassState {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.wanted
}

// looked is how long it takes at most until a resting pass notices what it is asked for.
const looked = 200 * time.Millisecond

// Rest waits. It returns false as soon as ctx ends or something is asked of the pass.
func (s *Steering) Rest(ctx context.Context, d time.Duration) bool {
	for d > 0 {
		some := min(d, looked)
		select {
		case <-ctx.Done():
			return false
		case <-time.After(some):
		}
		if s.Asked() != "" {
			return false
		}
		d -= some
	}
	return true
}
