package engine

import "sync"

// Event is something that happened, for those who look on. It says what to look
// at; what is there is asked for with the looker's own rights.
type Event struct {
	Kind    string `json:"kind"` // "message", "pass", "mailbox", "tray", "rules", "cabinet"
	ID      string `json:"id,omitempty"`
	Mailbox string `json:"mailbox,omitempty"`
}

// OfSessions is the kind of an event that asks who listens whether he still may.
const OfSessions = "sessions"

// SessionsChanged says that a session or a token ended, or what somebody may see changed.
func (e *Engine) SessionsChanged() { e.hub.send(Event{Kind: OfSessions}) }

// hub hands events to all who listen. A listener that does not keep up misses
// some: each is only a hint to look again.
type hub struct {
	mutex     sync.Mutex
	listeners map[chan Event]bool
	closed    bool
}

func newHub() *hub { return &hub{listeners: map[chan Event]bool{}} }

func (h *hub) send(e Event) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	for l := range h.listeners {
		select {
		case l <- e:
		default:
		}
	}
}

func (h *hub) close() {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	h.closed = true
	for l := range h.listeners {
		close(l)
		delete(h.listeners, l)
	}
}

// Listen gives the events from now on, until stop is called or the engine ends.
func (e *Engine) Listen() (events <-chan Event, stop func()) {
	l := make(chan Event, 64)
	e.hub.mutex.Lock()
	defer e.hub.mutex.Unlock()
	if e.hub.closed {
		close(l)
		return l, func() {}
	}
	e.hub.listeners[l] = true
	return l, func() {
		e.hub.mutex.Lock()
		defer e.hub.mutex.Unlock()
		if e.hub.listeners[l] {
			delete(e.hub.listeners, l)
			close(l)
		}
	}
}
