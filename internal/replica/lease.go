package replica

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A lease says which machine may work. It is a row of objects with rising numbers, each written once: whoever writes
// the next one, which the place gives to one writer only, holds the lease from then on. Nobody compares clocks of two
// machines: a holder counts the time of his lease from before he wrote, and others count it from after they saw what he
// wrote, each by a clock of his own that never goes back.

// Held is what is known of a lease.
type Held struct {
	Number  int64         `json:"-"`
	Holder  string        `json:"holder"`  // of one run of a program; another one each time
	Machine string        `json:"machine"` // its name, for people
	Folder  string        `json:"folder"`  // names the folder of the records, so that a machine knows its own lease
	History string        `json:"history"` // what the holder writes to; "" before he writes
	For     time.Duration `json:"for"`     // how long it lasts from its writing
	Given   bool          `json:"given"`   // the holder has ended, or gives it away
	To      string        `json:"to"`      // to whom it is given, by Folder; "" to anyone
	At      time.Time     `json:"at"`      // by the holder's clock, for people
	Nonce   string        `json:"nonce"`   // of one writing
}

const leaseFolder = "lease"

// Errors of leases.
var (
	// ErrHeld says that another machine holds the lease.
	ErrHeld = errors.New("another machine holds the lease")
	// ErrLost says that this machine held the lease and does not any more, or cannot know.
	ErrLost = errors.New("this machine no longer holds the lease")
)

// readLease reads the newest lease; a Number of 0 says that there never was one.
func readLease(ctx context.Context, p Place) (l Held, err error) {
	for range 3 { // it may be removed between listing and reading, where there is a newer one by then
		n, _, err := newest(ctx, p)
		if err != nil || n == 0 {
			return Held{}, err
		}
		text, err := read(ctx, p, leaseName(n))
		if isMissing(err) {
			continue
		}
		if err == nil {
			err = json.Unmarshal(text, &l)
		}
		if err != nil {
			return l, fmt.Errorf("reading the lease: %w", err)
		}
		l.Number = n
		return l, nil
	}
	return l, errors.New("reading the lease: it changes all the time")
}

func leaseName(n int64) string { return path.Join(leaseFolder, fmt.Sprintf("%016d", n)) }

// newest is the greatest number of a lease, and all of them.
func newest(ctx context.Context, p Place) (n int64, all []int64, err error) {
	entries, err := p.List(ctx, leaseFolder)
	for _, e := range entries {
		if one, err := strconv.ParseInt(e.Name, 10, 64); err == nil {
			all = append(all, one)
			n = max(n, one)
		}
	}
	return n, all, err
}

// write writes the lease that follows number after. ErrHeld where another wrote it.
func (l *Held) write(ctx context.Context, p Place, after int64) error {
	for {
		l.Nonce = strings.ToLower(rand.Text())
		text, err := json.Marshal(l)
		if err != nil {
			return err
		}
		err = put(ctx, p, leaseName(after+1), text)
		if err == nil {
			break
		}
		if !isTaken(err) {
			return err
		}
		var there Held
		if text, err = read(ctx, p, leaseName(after+1)); err == nil {
			err = json.Unmarshal(text, &there)
		}
		switch {
		case err != nil && !isMissing(err):
			return err
		case there.Holder != l.Holder:
			return ErrHeld
		}
		if there.Nonce == l.Nonce { // by this very request, whose answer was lost
			break
		}
		// By an earlier request of this machine, whose answer was lost: its time began then, so it is renewed now.
		after++
	}
	// A number that was removed meanwhile can be written again, by somebody who slept: the greatest counts.
	n, _, err := newest(ctx, p)
	if err != nil {
		return err
	}
	if n != after+1 {
		return ErrHeld
	}
	l.Number = n
	return nil
}

// kept is how many leases before the newest are kept.
const kept = 5

// Lease is a lease that this machine holds, or held. It may be used by several goroutines at once.
type Lease struct {
	place Place
	clock func() time.Duration
	ended chan struct{} // closed once it is lost or given away

	turn int64 // the number with which it was taken

	renewing sync.Mutex // one at a time renews it
	mutex    sync.Mutex
	held     Held
	until    time.Duration // by clock
	finished bool
	to       string // to whom it is given; "" to anyone
}

// Margin is the part of a lease that its holder does not use, and for which others wait longer: clocks of two machines
// go at different speeds, and an answer is used a moment after it was given.
const Margin = 6 // a sixth

// Take takes the lease after one that was seen: ErrHeld where another was faster. It does not look whether the lease
// that was seen is over: see Watch.
func Take(ctx context.Context, p Place, seen Held, mine Held) (*Lease, error) {
	return takeBy(ctx, p, seen, mine, monotonic)
}

// takeBy takes a lease by a clock.
func takeBy(ctx context.Context, p Place, seen, mine Held, clock func() time.Duration) (*Lease, error) {
	mine.Holder = strings.ToLower(rand.Text())
	l := &Lease{place: p, clock: clock, ended: make(chan struct{})}
	began := l.clock()
	if err := mine.write(ctx, p, seen.Number); err != nil {
		return nil, err
	}
	l.held, l.turn = mine, mine.Number
	l.until = began + mine.For - mine.For/Margin
	return l, nil
}

// Valid says whether this machine still holds the lease, by its own clock.
func (l *Lease) Valid() bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return !l.finished && l.clock() < l.until
}

// Turn numbers the turns of machines, as long as it is this machine's turn; 0 afterwards.
func (l *Lease) Turn() int64 {
	if !l.Valid() {
		return 0
	}
	return l.turn
}

// Held is the lease as it was written last.
func (l *Lease) Held() Held {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.held
}

// Ended is closed once the lease is lost, or given away.
func (l *Lease) Ended() <-chan struct{} { return l.ended }

// SetHistory says what the holder writes to, from the next renewal on, which is made at once.
func (l *Lease) SetHistory(ctx context.Context, history string) error {
	return l.renewAs(ctx, func(h *Held) { h.History = history })
}

// Keep renews the lease until it is given away or lost, or ctx ends.
func (l *Lease) Keep(ctx context.Context, log *slog.Logger) {
	every := time.NewTicker(l.Held().For / 4)
	defer every.Stop()
	for {
		l.mutex.Lock()
		left := l.until - l.clock()
		l.mutex.Unlock()
		if left <= 0 {
			l.finish()
			return
		}
		expired := time.NewTimer(left)
		select {
		case <-ctx.Done():
			expired.Stop()
			return
		case <-l.ended:
			expired.Stop()
			return
		case <-expired.C: // looked at again: it may have been renewed
			continue
		case <-every.C:
		}
		expired.Stop()
		within, cancel := context.WithTimeout(ctx, max(left, time.Millisecond))
		err := l.renew(within)
		cancel()
		if ctx.Err() != nil {
			return
		}
		if err != nil && !errors.Is(err, ErrLost) {
			log.Warn("the lease could not be renewed", "problem", err)
		}
		if errors.Is(err, ErrHeld) || errors.Is(err, ErrLost) {
			l.finish()
			return
		}
	}
}

func (l *Lease) finish() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if !l.finished {
		l.finished = true
		close(l.ended)
	}
}

// renew writes the next lease.
func (l *Lease) renew(ctx context.Context) error { return l.renewAs(ctx, func(*Held) {}) }

// renewAs writes the next lease with something changed in it, which holds once it is written. One at a time does.
func (l *Lease) renewAs(ctx context.Context, change func(*Held)) error {
	l.renewing.Lock()
	defer l.renewing.Unlock()
	l.mutex.Lock()
	next, finished := l.held, l.finished
	l.mutex.Unlock()
	if finished {
		return ErrLost
	}
	change(&next)
	next.At = time.Now().UTC()
	began := l.clock()
	if err := next.write(ctx, l.place, next.Number); err != nil {
		return err
	}
	l.mutex.Lock()
	l.held = next
	l.until = began + next.For - next.For/Margin
	l.mutex.Unlock()
	l.tidy(ctx, next.Number)
	return nil
}

// tidy removes old leases; what is not removed now is removed later.
func (l *Lease) tidy(ctx context.Context, now int64) {
	if now%kept != 0 {
		return
	}
	_, all, err := newest(ctx, l.place)
	if err != nil {
		return
	}
	for _, n := range all {
		if n < now-kept {
			_ = l.place.Remove(ctx, leaseName(n))
		}
	}
}

// To says to whom the lease is given away: the records in a folder, by its name; "" is anyone.
func (l *Lease) To(folder string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.to = folder
}

// Give gives the lease away. This machine does not hold it from the beginning of the call on.
func (l *Lease) Give(ctx context.Context) error {
	l.finish()
	l.renewing.Lock() // a renewal that was begun comes first
	defer l.renewing.Unlock()
	l.mutex.Lock()
	next := l.held
	next.Given, next.To, next.At = true, l.to, time.Now().UTC()
	l.mutex.Unlock()
	err := next.write(ctx, l.place, next.Number)
	if errors.Is(err, ErrHeld) {
		return nil // others have it
	}
	return err
}

// Watch looks at the lease of a place, by a clock of its own.
type Watch struct {
	place Place
	clock func() time.Duration
	seen  Held
	since time.Duration // when seen was seen first
	begun bool
}

// NewWatch begins to look at the lease of a place.
func NewWatch(p Place) *Watch { return &Watch{place: p, clock: monotonic} }

// Look reads the lease, and says whether it may be taken by the records in a folder: there is none, it was given away,
// or it was not renewed for longer than it lasts.
func (w *Watch) Look(ctx context.Context, folder string) (l Held, free bool, err error) {
	if l, err = readLease(ctx, w.place); err != nil {
		return l, false, err
	}
	now := w.clock() // after the reading
	if !w.begun || l.Number != w.seen.Number {
		w.seen, w.since, w.begun = l, now, true
	}
	switch {
	case l.Number == 0:
		return l, true, nil
	case l.Given && (l.To == "" || l.To == folder):
		return l, true, nil
	}
	return l, now-w.since > l.For+l.For/Margin, nil
}

// newName is a name that nothing else has.
func newName() string { return rand.Text() }

func isTaken(err error) bool   { return errors.Is(err, fs.ErrExist) }
func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
