package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/store"
)

// The budget of one message. What lies in it may be made so that reading it never ends; then one entry in the tray
// says so, and the other messages go on.
const (
	mostSpooled  = 1 << 30         // octets that lie spooled for one message
	mostOpened   = 100             // items of one message that are opened
	mostRounds   = 16              // of reading what a verdict hangs on
	mostChildren = 400             // processes that are started for one message
	mostTime     = 3 * time.Minute // that these take in all
	mostInside   = 20_000          // files inside of the archives of one message
	mostInTray   = 50              // entries in the tray of one message for one rule
)

// usualPatience is how long the processes for one message may take while other new messages of the mailbox wait.
// What takes longer is worked on beside them, and what takes sidePatience times as long beside these.
const (
	usualPatience = 400 * time.Millisecond
	sidePatience  = 5
)

// errSlow says that a message takes longer than the others of its mailbox should wait.
var errSlow = errors.New("reading it takes long, so it is read beside the other messages")

// budget is what was used up of a message's budget.
type budget struct {
	began    time.Time     // when it was taken in hand
	lane     store.Lane    // in which it is worked on
	patience time.Duration // of the other messages that wait; 0 where none do
	children int
	spent    time.Duration
	inside   int
	broken   map[string]error // items that could not be read as archives: nobody tries again
}

func over(format string, args ...any) error {
	return &unpack.Error{Problem: fmt.Sprintf(format, args...), Limit: true}
}

// child lets a process work on a message, as far as the message's budget goes.
func (b *budget) child(ctx context.Context, work func(ctx context.Context) error) error {
	left := mostTime - b.spent
	switch {
	case b.children >= mostChildren:
		return over("reading the message takes more than %d processes, which is the limit", mostChildren)
	case left <= 0:
		return over("reading the message takes longer than %v, which is the limit", mostTime)
	case b.patience > 0 && b.spent >= b.patience:
		return errSlow
	}
	if b.patience > 0 {
		left = b.patience - b.spent
	}
	b.children++
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	err := work(within)
	b.spent += time.Since(began)
	if err == nil || ctx.Err() != nil || within.Err() == nil {
		return err
	}
	if b.patience > 0 {
		return errSlow
	}
	return over("reading the message takes longer than %v, which is the limit", mostTime)
}

// hurry says that the message has taken longer than the others should wait, if it has.
func (b *budget) hurry() error {
	if b.patience > 0 && !b.began.IsZero() && time.Since(b.began) > b.patience {
		return errSlow
	}
	return nil
}

// inTray keeps the entries of one message and rule that go to the tray within bounds: where there are too many, the
// first stands for all of them.
func inTray(entries []store.Entry) []store.Entry {
	waits := func(e *store.Entry) bool { return e.State == store.Held || e.State == store.Failed }
	n := 0
	for i := range entries {
		if waits(&entries[i]) {
			n++
		}
	}
	if n <= mostInTray {
		return entries
	}
	kept, first := entries[:0:0], true
	for i := range entries {
		e := entries[i]
		if !waits(&e) {
			kept = append(kept, e)
			continue
		}
		if first {
			e.Reason = fmt.Sprintf("%d files of this message wait for a person, more than the tray takes of one message; this one stands for all of them. It says: %s", n, e.Reason)
			e.Advice = "Look at the message in the mail program. To file what it holds, save its files and sort them by hand."
			kept, first = append(kept, e), false
		}
	}
	return kept
}
