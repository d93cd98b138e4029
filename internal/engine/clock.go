package engine

import (
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"inktray.example/inktray/internal/store"
)

// A machine's clock may jump by years, and back. What cannot be undone, such as
// letting go of what is old, never follows a jump; and what was put off by a wrong
// clock is not put off for years.

const (
	jump      = 24 * time.Hour   // more than this since the clock was last seen is asked about
	longest   = 10 * time.Minute // more than any pause before something is tried again
	tickEvery = 10 * time.Minute // how often the clock is noted
)

// clockNote is what is known of the clock.
type clockNote struct {
	Seen   time.Time `json:"seen"`   // when it was last trusted
	Latest time.Time `json:"latest"` // the latest that it showed
	Asked  time.Time `json:"asked"`  // what it showed when a person was asked; zero where nobody is
}

// clockWatch notes jumps while this runs.
type clockWatch struct {
	mutex sync.Mutex
	noted time.Time
}

func (e *Engine) clockNote() (clockNote, error) {
	var n clockNote
	text, err := e.Store.Setting("clock")
	if err != nil || text == "" {
		return n, err
	}
	return n, json.Unmarshal([]byte(text), &n)
}

func (e *Engine) keepClock(n clockNote) error {
	text, err := json.Marshal(&n)
	if err != nil {
		return err
	}
	return e.Store.SetSetting("clock", string(text))
}

// tick notes what the clock shows, now and then and when it jumps. Where it shows less
// than before, what was put off by the wrong one is due again.
func (e *Engine) tick() error {
	w := &e.clock
	w.mutex.Lock()
	defer w.mutex.Unlock()
	now := e.Clock().UTC().Round(0) // what it shows, not what went by
	if gone := now.Sub(w.noted); !w.noted.IsZero() && gone >= 0 && gone < tickEvery {
		return nil
	}
	n, err := e.clockNote()
	if err != nil {
		return err
	}
	if n.Latest.Sub(now) > time.Minute {
		e.Log.Warn("the clock shows less than before; what was put off is due again", "before", n.Latest, "now", now)
		since := now
		if !n.Seen.IsZero() && n.Seen.Before(now) {
			since = n.Seen
		}
		if err := e.Store.Rewind(now, now.Add(longest), since); err != nil {
			return err
		}
		e.WakeAll()
	}
	n.Latest = now
	if err := e.keepClock(n); err != nil {
		return err
	}
	w.noted = now
	return nil
}

// steady says whether the clock is to be trusted with what cannot be undone: it was seen
// within a day, a mail server shows the same day, or a person said so.
func (e *Engine) steady() (bool, error) {
	w := &e.clock
	w.mutex.Lock()
	defer w.mutex.Unlock()
	now := e.Clock().UTC().Round(0)
	n, err := e.clockNote()
	if err != nil {
		return false, err
	}
	if n.Seen.IsZero() { // of a version that did not note it
		if n.Seen, err = e.Store.LastSeen(); err != nil {
			return false, err
		}
	}
	trusted := n.Seen.IsZero() || now.Sub(n.Seen) <= jump
	if !trusted {
		if trusted, err = e.Store.ArrivedAround(now, jump); err != nil {
			return false, err
		}
	}
	if !trusted && !n.Asked.IsZero() && now.Sub(n.Asked) > -jump {
		asked, err := e.Store.HasNotice("clock", "clock")
		if err != nil {
			return false, err
		}
		trusted = !asked // a person settled it: the clock is right
	}
	if trusted {
		if _, err := e.Store.Settle("clock", "clock"); err != nil {
			return false, err
		}
		n.Seen, n.Asked = now, time.Time{}
		return true, e.keepClock(n)
	}
	if n.Asked.IsZero() || now.Sub(n.Asked) <= -jump {
		n.Asked = now
		if err := e.keepClock(n); err != nil {
			return false, err
		}
		const day = "2 January 2006"
		err := e.Store.Tell(&store.Notice{Kind: "clock", Object: "clock", MadeAt: now,
			Text:   fmt.Sprintf("This machine's clock shows %s, but when Ink Tray last looked it was %s. Until it is sure which is right, nothing is let go of because of its age.", now.In(e.Zone).Format(day), n.Seen.In(e.Zone).Format(day)),
			Advice: "If the date is right, settle this. If it is wrong, set the clock; this notice then goes by itself."})
		if err != nil {
			return false, err
		}
		e.hub.send(Event{Kind: "tray"})
	}
	return false, nil
}
