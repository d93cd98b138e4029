package reading

import (
	"context"
	"errors"
	"fmt"
	"time"

	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/store"
)

// The budget of one message. A message can be made so that reading it never ends; then one entry in the tray
// says so, and the other messages go on.
const (
	MostSpooled  = 1 << 30         // octets that lie spooled for one message
	mostOpened   = 100             // items of one message that are opened
	MostRounds   = 16              // of reading what a verdict hangs on
	mostReadings = 400             // files of one message that a process reads
	mostTime     = 3 * time.Minute // that these take in all
	mostInside   = 20_000          // files inside of the archives of one message
)

// UsualPatience is how long the processes for one message may take while other new messages of the mailbox wait.
// What takes longer is worked on beside them, and what takes sidePatience times as long beside these.
const (
	UsualPatience = 400 * time.Millisecond
	SidePatience  = 5
)

// ErrSlow says that a message takes longer than the others of its mailbox should wait.
var ErrSlow = errors.New("reading it takes long, so Ink Tray reads it beside the other messages")

// Budget is what was used up of a message's budget.
type Budget struct {
	Began    time.Time     // when it was taken in hand
	Lane     store.Lane    // in which it is worked on
	Patience time.Duration // of the other messages that wait; 0 where none do
	readings int
	spent    time.Duration
	scanning time.Duration // that reading scans took
	inside   int
	broken   map[string]error // items that could not be read as archives: nobody tries again
}

func over(format string, args ...any) error {
	return &unpack.Error{Problem: fmt.Sprintf(format, args...), Limit: true}
}

// Child lets a process work on a message, as far as the message's budget goes.
func (b *Budget) Child(ctx context.Context, work func(ctx context.Context) error) error {
	left := mostTime - b.spent
	switch {
	case b.readings >= mostReadings:
		return over("more than %d files of the message would have to be read, which is the limit", mostReadings)
	case left <= 0:
		return over("reading the message takes longer than %v, which is the limit", mostTime)
	case b.Patience > 0 && b.spent >= b.Patience:
		return ErrSlow
	}
	if b.Patience > 0 {
		left = b.Patience - b.spent
	}
	b.readings++
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	err := work(within)
	b.spent += time.Since(began)
	if err == nil || ctx.Err() != nil || within.Err() == nil {
		return err
	}
	if b.Patience > 0 {
		return ErrSlow
	}
	return over("reading the message takes longer than %v, which is the limit", mostTime)
}

// hurry says that the message has taken longer than the others should wait, if it has.
func (b *Budget) hurry() error {
	if b.Patience > 0 && !b.Began.IsZero() && time.Since(b.Began) > b.Patience {
		return ErrSlow
	}
	return nil
}
