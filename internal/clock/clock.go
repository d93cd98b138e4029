// Package clock notices when this machine's clock is wrong. A clock may jump by years, and back. What cannot be undone,
// such as deleting what is old, never follows a jump. What was put off by a wrong clock is not put off for years.
package clock

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

const (
	jump      = 24 * time.Hour   // more than this since the clock was last seen is asked about
	longest   = 10 * time.Minute // more than any pause before something is tried again
	tickEvery = 10 * time.Minute // how often the clock is noted
)

// note is what the records keep about the clock.
type note struct {
	Seen   time.Time `json:"seen"`   // when it was last trusted
	Latest time.Time `json:"latest"` // the latest that it showed
	Asked  time.Time `json:"asked"`  // what it showed when a person was asked; zero where nobody is
}

// Watch notes what the clock shows. Its methods may be called by several goroutines at once.
type Watch struct {
	*base.Base
	mutex sync.Mutex
	noted time.Time // when the clock was last noted in the records
}

// New makes a watch over the clock of a service.
func New(b *base.Base) *Watch { return &Watch{Base: b} }

func (w *Watch) read(ctx context.Context) (note, error) {
	var n note
	text, err := w.Store.Settings.Get(ctx, "clock")
	if err != nil || text == "" {
		return n, err
	}
	err = json.Unmarshal([]byte(text), &n)
	return n, err
}

func (w *Watch) write(ctx context.Context, n note) error {
	text, err := json.Marshal(&n)
	if err != nil {
		return err
	}
	return w.Store.Settings.Set(ctx, "clock", string(text))
}

// Tick notes what the clock shows, every ten minutes and when it jumps. Where the clock shows less than before, what
// was put off by the wrong one is due again.
func (w *Watch) Tick(ctx context.Context) error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	now := w.Clock().UTC().Round(0) // what it shows, not what went by
	if gone := now.Sub(w.noted); !w.noted.IsZero() && gone >= 0 && gone < tickEvery {
		return nil
	}
	n, err := w.read(ctx)
	if err != nil {
		return err
	}
	if n.Latest.Sub(now) > time.Minute {
		w.Log.Warn("the clock shows less than before; what was put off is due again", "before", n.Latest, "now", now)
		since := now
		if !n.Seen.IsZero() && n.Seen.Before(now) {
			since = n.Seen
		}
		if err := w.Store.Settings.Rewind(ctx, now, now.Add(longest), since); err != nil {
			return err
		}
		w.WakeAll()
	}
	n.Latest = now
	if err := w.write(ctx, n); err != nil {
		return err
	}
	w.noted = now
	return nil
}

// Steady says whether the clock may be trusted with what cannot be undone: it was noted within a day, a mail server
// shows the same day, or a person said that the clock is right. Otherwise it asks in the tray.
func (w *Watch) Steady(ctx context.Context) (bool, error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	now := w.Clock().UTC().Round(0)
	n, err := w.read(ctx)
	if err != nil {
		return false, err
	}
	if n.Seen.IsZero() { // of a version that did not note it
		if n.Seen, err = w.Store.Settings.LastSeen(ctx); err != nil {
			return false, err
		}
	}
	trusted := n.Seen.IsZero() || now.Sub(n.Seen) <= jump
	if !trusted {
		if trusted, err = w.Store.Settings.ArrivedAround(ctx, now, jump); err != nil {
			return false, err
		}
	}
	if !trusted && !n.Asked.IsZero() && now.Sub(n.Asked) > -jump {
		asked, err := w.Store.Tray.HasNotice(ctx, "clock", "clock")
		if err != nil {
			return false, err
		}
		trusted = !asked // a person settled it: the clock is right
	}
	if trusted {
		if _, err := w.Store.Tray.Settle(ctx, "clock", "clock"); err != nil {
			return false, err
		}
		n.Seen, n.Asked = now, time.Time{}
		return true, w.write(ctx, n)
	}
	if n.Asked.IsZero() || now.Sub(n.Asked) <= -jump {
		n.Asked = now
		if err := w.write(ctx, n); err != nil {
			return false, err
		}
		const day = "2 January 2006"
		err := w.Store.Tray.Tell(ctx, &store.Notice{Kind: "clock", Object: "clock", MadeAt: now,
			Text: fmt.Sprintf("This machine's clock shows %s, but when Ink Tray last looked it was %s. Until it is sure "+
				"which is right, nothing is let go of because of its age.", now.In(w.Zone).Format(day),
				n.Seen.In(w.Zone).Format(day)),
			Advice: "If the date is right, settle this. If it is wrong, set the clock; this notice then goes by itself."})
		if err != nil {
			return false, err
		}
		w.Changed(events.Tray)
	}
	return false, nil
}

// Move runs move, which moves a simulated clock on purpose, and trusts the clock afterwards.
func (w *Watch) Move(ctx context.Context, move func()) error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	move()
	n, err := w.read(ctx)
	if err != nil {
		return err
	}
	n.Seen = w.Clock().UTC()
	return w.write(ctx, n)
}
