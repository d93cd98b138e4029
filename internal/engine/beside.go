package engine

import (
	"context"
	"time"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/store"
)

// What takes long in one message does not let the others of its mailbox wait: it is read and filed over a second
// connection. Within one message the order stays; between messages it is promised for old mail only, which has a
// connection of its own.

// lanes lets a visit leave what takes long to the watcher beside, unless there can be none.
func (w *watcher) lanes(v *visit) {
	v.patience, v.lane = w.engine.Patience, store.MainLane
	if v.mailbox.Kind == "pop3" || w.alone.Load() { // POP3 servers lock the mailbox (RFC 1939 section 3)
		v.patience, v.lane = 0, store.AnyLane
	}
}

// beside lets a mailbox's second watcher look.
func (e *Engine) beside(mailbox string) {
	e.mutex.Lock()
	w := e.watchers[mailbox]
	e.mutex.Unlock()
	if w == nil {
		return
	}
	select {
	case w.slow <- struct{}{}:
	default:
	}
}

// mostRefusals is how often in a row a second connection may fail before all is done over one.
const mostRefusals = 3

// runBeside works on what takes long, until ctx ends.
func (w *watcher) runBeside(ctx context.Context) {
	e := w.engine
	if m, err := e.Store.MailboxByID(store.System, w.mailbox); err == nil && m.Kind == "pop3" {
		return
	}
	for refusals := 0; ctx.Err() == nil; {
		next, err := w.nextSlow()
		switch {
		case err != nil:
			e.Log.Warn("looking for what takes long", "mailbox", w.mailbox, "error", err)
			next = e.Pause(refusals)
		case next <= 0:
			if err = w.slowly(ctx); err == nil {
				refusals = 0
				w.rouse() // what is to be done after the filing is the other's
				continue
			}
			if ctx.Err() != nil {
				return
			}
			e.Log.Warn("what takes long could not be worked on", "mailbox", w.mailbox, "error", err)
			if refusals++; refusals >= mostRefusals && w.status().State == Live {
				w.alone.Store(true)
				w.rouse()
				return
			}
			next = e.Pause(refusals)
		}
		select {
		case <-ctx.Done():
		case <-time.After(next):
		case <-w.slow:
		}
	}
}

// nextSlow is how long it is until something is to be worked on beside the rest.
func (w *watcher) nextSlow() (time.Duration, error) {
	e, next := w.engine, time.Hour
	passes := e.passesUnderway()
	for _, of := range []func(string, []int64, store.Lane) (time.Time, bool, error){e.Store.NextDue, e.Store.NextRetry} {
		at, waits, err := of(w.mailbox, passes, store.SideLane)
		if err != nil {
			return 0, err
		}
		if waits {
			next = min(next, at.Sub(e.Clock()))
		}
	}
	return next, nil
}

// slowly works on what takes long over a connection of its own.
func (w *watcher) slowly(ctx context.Context) error {
	e := w.engine
	m, err := e.Store.MailboxByID(store.System, w.mailbox)
	if err != nil {
		return err
	}
	s, err := e.Reach(ctx, &m)
	if err != nil {
		return err
	}
	defer s.Close()
	v := &visit{engine: e, mailbox: &m, session: s, wake: make(chan struct{}, 1), pace: &pace{}, lane: store.SideLane}
	defer v.leave()
	ctx = child.Patiently(ctx) // the processes of the other watcher come first
	if err := v.retry(ctx); err != nil {
		return err
	}
	return v.due(ctx)
}
