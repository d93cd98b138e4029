// Package turn says who goes first where messages of one mailbox, and those that take long beside them, want the same
// machine: how long each may take while others wait, and when what is done beside new messages gives way to them. It
// guarantees that nobody waits for ever.
package turn

import (
	"context"
	"sync"
	"time"
)

// Precedence lets what is worked on beside other messages give way while new ones are in hand: both want the same
// processors and the same disk. Its methods may be called by several goroutines at once.
type Precedence struct {
	mutex  sync.Mutex
	inHand int           // batches of new messages
	idle   chan struct{} // is closed once there is none; nil while there is none
}

// Begin says that new messages are in hand.
func (p *Precedence) Begin() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.inHand++; p.idle == nil {
		p.idle = make(chan struct{})
	}
}

// End says that they are no longer in hand.
func (p *Precedence) End() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.inHand--; p.inHand == 0 {
		close(p.idle)
		p.idle = nil
	}
}

// What gives way waits so many times as long as it worked before, and no longer than mostWay: it must come to an end,
// too, where new messages never do.
const (
	wayOf   = 4
	mostWay = 100 * time.Millisecond
)

// GiveWay waits while new messages are in hand, and says how long it waited; worked is how long the last piece of work
// took, without what it waited before.
func (p *Precedence) GiveWay(ctx context.Context, worked time.Duration) (waited time.Duration) {
	p.mutex.Lock()
	idle := p.idle
	p.mutex.Unlock()
	if idle == nil || worked <= 0 {
		return 0
	}
	began := time.Now()
	late := time.NewTimer(min(mostWay, wayOf*worked))
	defer late.Stop()
	select {
	case <-idle:
	case <-late.C:
	case <-ctx.Done():
	}
	return time.Since(began)
}
