package jmap

import (
	"cmp"
	"context"
	"sync"
	"time"

	"inktray.example/inktray/internal/source"
)

// Shared is what the sessions of one mailbox know together: the lists of its folders, and the state of each account
// since which changes are asked for. A folder of a million messages is listed once, not once for each session. It is
// kept for a while after the last session: where mailboxes take turns, each comes back soon. The zero Shared is ready
// to use.
type Shared struct {
	Keep time.Duration // how long it is kept after the last session; 0 for 15 minutes

	mutex    sync.Mutex
	sessions int
	known    *knowledge
	forget   *time.Timer // nil while there are sessions
}

const usualKeep = 15 * time.Minute

// knowledge is used by one session at a time: the one that has the turn.
type knowledge struct {
	turn     chan struct{} // holds one element while a session has the turn
	accounts map[string]*account
	numbers  source.Numbered
}

func newKnowledge(numbers source.Numbers) *knowledge {
	return &knowledge{turn: make(chan struct{}, 1), accounts: map[string]*account{},
		numbers: source.Numbered{Numbers: numbers}}
}

// join adds a session and returns what the others know.
func (sh *Shared) join(numbers source.Numbers) *knowledge {
	sh.mutex.Lock()
	defer sh.mutex.Unlock()
	if sh.forget != nil {
		sh.forget.Stop()
		sh.forget = nil
	}
	if sh.sessions++; sh.known == nil {
		sh.known = newKnowledge(numbers)
	}
	return sh.known
}

// leave takes a session away.
func (sh *Shared) leave() {
	sh.mutex.Lock()
	defer sh.mutex.Unlock()
	if sh.sessions--; sh.sessions > 0 {
		return
	}
	sh.forget = time.AfterFunc(cmp.Or(sh.Keep, usualKeep), func() {
		sh.mutex.Lock()
		defer sh.mutex.Unlock()
		if sh.sessions == 0 {
			sh.known = nil
		}
	})
}

// alone runs f while no other session of the mailbox reads or changes what they know together.
func (s *Session) alone(ctx context.Context, f func() error) error {
	select {
	case s.known.turn <- struct{}{}:
	case <-ctx.Done():
		return s.client.explain(source.Connection, "waiting for another session of the mailbox", ctx.Err())
	}
	defer func() { <-s.known.turn }()
	return f()
}
