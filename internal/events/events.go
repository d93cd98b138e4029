// Package events carries what happens in the service to everyone who watches: the console's event stream and tests.
// It never carries contents: an event names what changed, and the listener asks for it with their own rights.
package events

import "sync"

// The kinds of events.
const (
	Message  = "message"  // a message was decided; ID is its number in the records
	Pass     = "pass"     // a pass began, went on or ended
	Mailbox  = "mailbox"  // the state of a mailbox changed
	Tray     = "tray"     // something came into the tray or left it
	Rules    = "rules"    // rules or what they refer to changed
	Cabinet  = "cabinet"  // the state of a cabinet changed
	Machine  = "machine"  // another machine of the office: it answers or not, or its records changed; ID is its name
	Sessions = "sessions" // a session or token ended, or rights changed: listeners check whether they may still listen
)

// Event says that something changed.
type Event struct {
	Kind    string `json:"kind"`
	ID      string `json:"id,omitempty"`
	Mailbox string `json:"mailbox,omitempty"` // the mailbox that the event is about; "" for the whole office
}

// buffered is how many events wait for a listener that is busy.
const buffered = 64

// Hub sends each event to all listeners. A listener that does not keep up misses events: each is only a hint to look
// again. A Hub may be used by several goroutines at once.
type Hub struct {
	mutex     sync.Mutex
	listeners map[chan Event]bool
	closed    bool
}

// NewHub makes a hub without listeners.
func NewHub() *Hub { return &Hub{listeners: map[chan Event]bool{}} }

// Send sends an event to all listeners. It never waits.
func (h *Hub) Send(e Event) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	for l := range h.listeners {
		select {
		case l <- e:
		default:
		}
	}
}

// Close ends all listening. Later events go nowhere.
func (h *Hub) Close() {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	h.closed = true
	for l := range h.listeners {
		close(l)
		delete(h.listeners, l)
	}
}

// Listen returns the events from now on. The channel is closed when stop is called or the hub is closed.
func (h *Hub) Listen() (events <-chan Event, stop func()) {
	l := make(chan Event, buffered)
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if h.closed {
		close(l)
		return l, func() {}
	}
	h.listeners[l] = true
	return l, func() {
		h.mutex.Lock()
		defer h.mutex.Unlock()
		if h.listeners[l] {
			delete(h.listeners, l)
			close(l)
		}
	}
}
