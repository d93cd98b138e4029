package filing

import (
	"context"
	"slices"
	"sync"
	"time"

	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// A Pool files the planned messages of a pass over old mail while the next ones are read and planned: parts are read
// ahead over one connection, and several goroutines stage them beside one another. Names and numbers follow the order
// of the messages (Line). What is in hand is bounded by octets (reading.Ahead) and by messages.
type Pool struct {
	filer    *Filer
	ahead    *reading.Ahead
	beside   bool // the session is the pool's own
	line     *Line
	staging  chan struct{} // holds one for each that is being staged
	giveWay  func(ctx context.Context, worked time.Duration) time.Duration
	planned  chan *filing // whose parts are to be read ahead
	ready    chan *filing
	inHand   sync.WaitGroup
	workers  sync.WaitGroup
	mutex    sync.Mutex
	err      error
	filedAll func(l *reading.Message)
}

// filing is a message in a pool.
type filing struct {
	l       *reading.Message
	entries []store.Entry
	turn    *Turn
	wanted  []source.Wanted
}

// How many messages are in a pool.
const (
	poolWorkers = 128 // are staged, or wait for their names: these share commits
	poolStaging = 8   // are staged beside one another
	poolPlanned = 256 // wait for their parts
	windowParts = 32  // are read by one exchange
	windowSize  = 4 << 20
)

// NewPool files over a session. beside says that it is the pool's until Close; else Put returns only once the pool does
// not use it any more. giveWay lets others go first; filed is called with each message once nothing of it is left to
// be done here.
func (fl *Filer) NewPool(ctx context.Context, s source.Session, beside bool,
	giveWay func(ctx context.Context, worked time.Duration) time.Duration, filed func(l *reading.Message)) *Pool {
	p := &Pool{filer: fl, ahead: reading.NewAhead(s), beside: beside, line: fl.NewLine(), giveWay: giveWay,
		filedAll: filed, planned: make(chan *filing, poolPlanned), ready: make(chan *filing, poolStaging),
		staging: make(chan struct{}, poolStaging)}
	p.workers.Go(func() { p.feed(ctx) })
	for range poolWorkers {
		p.workers.Go(func() { p.work(ctx) })
	}
	return p
}

// Put hands messages over with what is planned of them, and waits where many are in hand. The pool closes them. The
// error is why nothing is filed any more: the mailbox's, or the machine's.
func (p *Pool) Put(messages []*reading.Message, planned map[*store.Message][]store.Entry) (err error) {
	for _, l := range messages {
		entries := planned[l.Row]
		if err = p.failure(); err != nil || !slices.ContainsFunc(entries, isPlanned) {
			l.Close()
			continue
		}
		p.inHand.Add(1)
		p.planned <- &filing{l: l, entries: entries, turn: p.line.Turn()}
	}
	if !p.beside {
		return p.Wait()
	}
	return err
}

func isPlanned(e store.Entry) bool { return e.ID != 0 && e.State == store.Planned }

// Wait waits until everything that was handed over is filed, or nothing is filed any more.
func (p *Pool) Wait() error {
	p.inHand.Wait()
	return p.failure()
}

// Close ends the pool once what is in hand is done.
func (p *Pool) Close() error {
	close(p.planned)
	p.workers.Wait()
	return p.failure()
}

func (p *Pool) failure() error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.err
}

func (p *Pool) fail(err error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.err == nil {
		p.err = err
	}
}

// feed reads parts ahead, for several messages at once.
func (p *Pool) feed(ctx context.Context) {
	defer close(p.ready)
	last := time.Duration(0)
	for first := range p.planned {
		window := []*filing{first}
		wanted, size := p.want(first)
	more:
		for len(wanted) < windowParts && size < windowSize {
			select {
			case next, open := <-p.planned:
				if !open {
					break more
				}
				these, octets := p.want(next)
				window, wanted, size = append(window, next), append(wanted, these...), size+octets
			default:
				break more
			}
		}
		if len(wanted) > 0 && p.failure() == nil {
			p.giveWay(ctx, last)
			began := time.Now()
			if err := p.ahead.Fetch(ctx, wanted, size); err != nil {
				p.fail(err)
			}
			last = time.Since(began)
		}
		for _, f := range window {
			p.ready <- f
		}
	}
}

func (p *Pool) want(f *filing) (wanted []source.Wanted, size int64) {
	f.wanted, size = p.ahead.Want(f.l, f.entries)
	return f.wanted, size
}

// work files messages, until nothing follows.
func (p *Pool) work(ctx context.Context) {
	last := time.Duration(0)
	for f := range p.ready {
		if err := p.failure(); err != nil {
			f.turn.End(ctx) // it stays planned
		} else {
			p.giveWay(ctx, last)
			began := time.Now()
			if err := p.filer.FileInTurn(ctx, p.ahead, f.l, f.entries, f.turn, p.staging); err != nil {
				p.fail(err)
			}
			last = time.Since(began)
		}
		f.l.Close()
		p.ahead.Forget(f.wanted)
		p.filedAll(f.l)
		p.inHand.Done()
	}
}
