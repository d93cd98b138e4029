// Package base holds what every part of the running service works with: the records, the clock, the log, the events and
// the life of the run. It decides nothing and knows no other part of the service.
package base

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// Base is shared by all parts of one running service. The fields are set before the service starts and do not change
// afterwards.
type Base struct {
	Store    *store.Store
	Clock    func() time.Time
	Zone     *time.Location // of the office: dates in folders and texts
	Language language.Tag   // of dates and numbers
	Log      *slog.Logger
	// Pause is how long to wait after so many failures in a row; nil for the usual, from 2 s to 5 min.
	Pause func(failures int) time.Duration
	Beat  time.Duration // how often waiting work is looked at; 0 for a second

	Events       *events.Hub
	Installation string // names this installation: it begins the names of temporary objects in cabinets
	Run          string // of this run: it ends them, since a copy of the records has the same Installation

	WakeAll func()                 // lets every mailbox be looked into now
	Wake    func(mailboxID string) // lets one mailbox be looked into now
	Hasten  func()                 // lets what is to be sent be sent now

	*Life
}

// New fills in what the caller left out.
func New(b Base) *Base {
	if b.Pause == nil {
		b.Pause = Pause
	}
	if b.Beat == 0 {
		b.Beat = time.Second
	}
	b.Events, b.Life = events.NewHub(), newLife()
	b.Run = NewRun()
	nothing := func() {}
	b.WakeAll, b.Wake, b.Hasten = nothing, func(string) {}, nothing
	return &b
}

// NewRun names a run: eight letters or digits that no other run has.
func NewRun() string { return store.NewID()[:8] }

// Now is the present time in the office's zone.
func (b *Base) Now() time.Time { return b.Clock().In(b.Zone) }

// Today is the beginning of this day in the office's zone.
func (b *Base) Today() time.Time {
	y, m, d := b.Now().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, b.Zone)
}

// Changed sends an event of a kind that is about no single object.
func (b *Base) Changed(kind string) { b.Events.Send(events.Event{Kind: kind}) }

// Pause is how long to wait after so many failures in a row. It grows with them, and differs each time by up to half,
// so that not everything comes back at the same moment.
func Pause(failures int) time.Duration {
	d := min(2*time.Second<<min(failures, 8), 5*time.Minute)
	return d/2 + rand.N(d)
}

// Life is the time from the start of the service to its end, and the work that goes on in the background meanwhile.
type Life struct {
	ctx    context.Context
	cancel context.CancelFunc
	tasks  sync.WaitGroup

	mutex   sync.Mutex
	running map[string]int
}

func newLife() *Life {
	ctx, cancel := context.WithCancel(context.Background())
	return &Life{ctx: ctx, cancel: cancel, running: map[string]int{}}
}

// Context ends when the service stops.
func (l *Life) Context() context.Context { return l.ctx }

// Go starts work in the background, with Context: it has to end when that does. The name is for people who look at
// what runs.
func (l *Life) Go(name string, work func(ctx context.Context)) {
	l.count(name, 1)
	l.tasks.Go(func() {
		defer l.count(name, -1)
		work(l.ctx)
	})
}

func (l *Life) count(name string, n int) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.running[name] += n; l.running[name] == 0 {
		delete(l.running, name)
	}
}

// Running says how many pieces of work of each name go on now.
func (l *Life) Running() map[string]int {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	out := make(map[string]int, len(l.running))
	for name, n := range l.running {
		out[name] = n
	}
	return out
}

// End ends Context and waits until no work goes on.
func (l *Life) End() {
	l.cancel()
	l.tasks.Wait()
}
