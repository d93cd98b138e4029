package engine

import (
	"context"
	"errors"
	"time"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/turn"
)

// What takes long in one message does not let the others of its mailbox wait: it is read and filed over a second
// connection, and what takes very long over a third one. Within one message the order stays; between messages it is
// promised for old mail only, which has a connection of its own.

// lanes lets a visit leave what takes long to the watchers beside, unless there can be none.
func (w *watcher) lanes(v *visit) {
	v.patience, v.lane = w.engine.Patience, store.MainLane
	if w.most(v.mailbox) == store.MainLane {
		v.patience, v.lane = 0, store.AnyLane
	}
}

// most is the last lane that has a connection of its own.
func (w *watcher) most(m *store.Mailbox) store.Lane {
	if m.Kind == "pop3" { // POP3 servers lock the mailbox (RFC 1939 section 3)
		return store.MainLane
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.last
}

// beside lets a mailbox's watchers beside look.
func (e *Engine) beside(mailbox string) {
	if w := e.watcherOf(mailbox); w != nil {
		w.beside()
	}
}

func (w *watcher) beside() {
	for _, slow := range w.slow {
		signal(slow)
	}
}

// mostRefusals is how often in a row a further connection may fail before all is done over one connection less.
const mostRefusals = 3

// runBeside works on what is in a lane, until ctx ends or the server allows no connection for it.
func (w *watcher) runBeside(ctx context.Context, lane store.Lane) {
	e := w.engine
	for refusals := 0; ctx.Err() == nil; {
		next, err := w.workBeside(ctx, lane)
		switch {
		case errors.Is(err, errNoLane):
			return // the watcher of the lane before does it
		case err == nil:
			refusals = 0
		case ctx.Err() == nil:
			e.Log.Warn("what takes long could not be worked on", "mailbox", w.mailbox, "error", err)
			refusals++
			var reach *source.Error
			if errors.As(err, &reach) && refusals >= mostRefusals && w.status().State == mailboxes.Live {
				w.refuse(lane)
				return
			}
			next = e.Pause(refusals)
		}
		select {
		case <-ctx.Done():
		case <-time.After(next):
		case <-w.slow[lane-store.SideLane]:
		}
	}
}

// errNoLane says that a lane has no connection of its own.
var errNoLane = errors.New("there is no connection for this")

// refuse leaves what is in a lane, and in those after it, to the watcher of the lane before.
func (w *watcher) refuse(lane store.Lane) {
	w.mutex.Lock()
	w.last = min(w.last, lane-1)
	w.mutex.Unlock()
	w.rouse()
}

// workBeside works on what is in a lane, if there is anything. next is how long it is until there is more.
func (w *watcher) workBeside(ctx context.Context, lane store.Lane) (next time.Duration, err error) {
	m, err := w.engine.Store.Mailboxes.ByID(ctx, store.System, w.mailbox)
	if err != nil {
		return 0, err
	}
	last := w.most(&m)
	if lane > last {
		return 0, errNoLane
	}
	if lane == store.SideLane && last == lane {
		lane = store.BesideLane
	}
	if next, err = w.nextSlow(ctx, lane); err != nil || next > 0 {
		return next, err
	}
	if worked, err := w.slowly(ctx, &m, lane); worked > 0 || err != nil {
		return 0, err
	}
	return w.engine.Pause(1), nil // another has it in hand
}

// nextSlow is how long it is until something is to be worked on in a lane.
func (w *watcher) nextSlow(ctx context.Context, lane store.Lane) (time.Duration, error) {
	e, next := w.engine, time.Hour
	underway := e.passes.IDs()
	for _, of := range []func(context.Context, string, []int64, store.Lane) (time.Time, bool, error){
		e.Store.Journal.NextDue, e.Store.Retries.Next} {
		at, waits, err := of(ctx, w.mailbox, underway, lane)
		if err != nil {
			return 0, err
		}
		if waits {
			next = min(next, at.Sub(e.Clock()))
		}
	}
	return next, nil
}

// slowly works on what is in a lane over a connection of its own. worked is how many messages that was.
func (w *watcher) slowly(ctx context.Context, m *store.Mailbox, lane store.Lane) (worked int, err error) {
	e := w.engine
	s, err := e.Mailboxes.Reach(ctx, m, connections.Work)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	v := &visit{engine: e, mailbox: m, session: s.Session, wake: make(chan struct{}, 1), pace: &turn.Pace{}, lane: lane}
	if lane == store.SideLane { // not where it is the last
		v.patience = reading.SidePatience * e.Patience
	}
	defer v.hand.Leave()
	ctx = child.Patiently(ctx) // the processes of the mailbox's own watcher come first
	for again := true; again && err == nil; {
		before := v.worked
		if err = v.retry(ctx); err == nil {
			err = v.due(ctx)
		}
		if again = v.worked > before; again {
			w.rouse() // what is to be done after the filing is the other's
		}
	}
	return v.worked, err
}

// share is how long the next message may take in this visit; 0 where no others wait.
func (v *visit) share() time.Duration {
	if v.allowance == nil || v.patience == 0 {
		return v.patience
	}
	return v.allowance.Share(time.Now())
}

// filingShare is how long filing the items of the next message may take in this visit; 0 where no others wait. Where
// messages are read beside others it is less than reading them may take: what has many items is the last lane's.
func (v *visit) filingShare() time.Duration {
	if v.lane == store.SideLane && v.patience > 0 {
		return v.engine.Patience
	}
	return v.share()
}

// giveWay lets new messages go first in what is done beside them, and says how long that took; worked is how long the
// last piece of work took.
func (v *visit) giveWay(ctx context.Context, worked time.Duration) (waited time.Duration) {
	if v.lane <= store.MainLane {
		return 0
	}
	return v.engine.newMail.GiveWay(ctx, worked)
}
