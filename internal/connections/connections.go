// Package connections counts the connections to mail servers. An account, and a host, has only so many: those who want
// one take turns, in the order in which they came. A server that asks an account to do less is left alone for a while.
package connections

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/reach"
)

// Use is what a connection is wanted for.
type Use int

// The uses.
const (
	Work  Use = iota // somebody or something waits for what is done over it
	Watch            // a mailbox is watched over it: while nothing happens there, others may have it
	Spare            // a further one, which only makes work faster: not worth waiting for
)

// Limits say how many connections there may be at once; 0 is any number.
type Limits struct{ Account, Host int }

const (
	usualTurn   = 20 * time.Second // signing in again costs the server
	longestWait = 30 * time.Second // for what somebody waits for
)

// ErrTurn says that a connection over which nothing happened was given up, so that others may have it.
var ErrTurn = errors.New("the connection was given up for others that wait for one")

// Counter counts connections. Its methods may be called by several goroutines at once.
type Counter struct {
	Limits func(ctx context.Context) (Limits, error)
	Clock  func() time.Time
	Turn   time.Duration // how long a watched mailbox keeps its connection though others wait; 0 for 20 s

	mutex   sync.Mutex
	limits  Limits // as they were asked for last
	held    []*Held
	waiting []*Held
	slowed  map[place]time.Time
	timer   *time.Timer
}

// place is an account of a server; with an empty account, the server itself.
type place struct{ host, account string }

// at is the place of an account: hosts are the same in any letters, and with the dot of a whole name.
func at(host, account string) place {
	return place{strings.ToLower(strings.TrimSuffix(host, ".")), account}
}

// Held is the right to one connection. It is given back by Close.
type Held struct {
	counter *Counter
	place   place
	use     Use
	since   time.Time
	rests   bool          // nothing happens over it
	asked   bool          // others want it
	granted chan struct{} // closed when it is given
	wanted  chan struct{} // closed when it is to be given up
}

// Take waits for its turn to open a connection. The error, if any, is a *reach.Error, or that of ctx.
func (c *Counter) Take(ctx context.Context, host, account string, use Use) (*Held, error) {
	limits, err := c.Limits(ctx)
	if err != nil {
		return nil, err
	}
	h := &Held{counter: c, place: at(host, account), use: use, granted: make(chan struct{}),
		wanted: make(chan struct{})}
	c.mutex.Lock()
	c.limits = limits
	if until, slow := c.slowed[h.place]; slow && until.After(c.Clock()) && use != Watch {
		c.mutex.Unlock()
		return nil, &reach.Error{Step: reach.Connection, Slow: true, After: until.Sub(c.Clock()),
			Problem: fmt.Sprintf("the mail server asked to do less for the account %q, until %s", account,
				until.Format("15:04")), Advice: "Ink Tray goes on by itself then."}
	}
	c.waiting = append(c.waiting, h)
	c.settle()
	given := h.isGiven()
	if !given && use == Spare {
		c.leave(h)
	}
	c.mutex.Unlock()
	switch {
	case given:
		return h, nil
	case use == Spare:
		return nil, c.busy(h)
	}
	patience := make(<-chan time.Time)
	if use == Work {
		t := time.NewTimer(longestWait)
		defer t.Stop()
		patience = t.C
	}
	select {
	case <-h.granted:
		return h, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-patience:
		err = c.busy(h)
	}
	c.mutex.Lock()
	c.leave(h)
	c.settle()
	c.mutex.Unlock()
	return nil, err
}

func (c *Counter) busy(h *Held) error {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	what, most := fmt.Sprintf("the account %q", h.place.account), c.limits.Account
	if c.limits.Host > 0 && c.count(c.held, place{host: h.place.host}, false) >= c.limits.Host-1 {
		what, most = "the host "+h.place.host, c.limits.Host
	}
	return &reach.Error{Step: reach.Connection, Problem: fmt.Sprintf("all connections that %s may have are in use (%d)",
		what, most), Advice: "Try again in a moment, or allow more connections in Settings, Safety, Limits."}
}

func (h *Held) isGiven() bool {
	select {
	case <-h.granted:
		return true
	default:
		return false
	}
}

// leave takes one that waits out of the queue, and one that has its connection out of the count.
func (c *Counter) leave(h *Held) {
	is := func(o *Held) bool { return o == h }
	c.waiting = slices.DeleteFunc(c.waiting, is)
	c.held = slices.DeleteFunc(c.held, is)
}

// count counts those at a place; work leaves out those that watch.
func (c *Counter) count(of []*Held, where place, work bool) (n int) {
	for _, h := range of {
		if h.place.host == where.host && (where.account == "" || h.place.account == where.account) &&
			!(work && h.use == Watch) {
			n++
		}
	}
	return n
}

// full says whether a place has no connection for h: the last one is kept for watching.
func (c *Counter) full(h *Held, where place, limit int) bool {
	if limit <= 0 {
		return false
	}
	return c.count(c.held, where, false) >= limit || h.use != Watch && c.count(c.held, where, true) >= limit-1
}

// fits says whether h may open a connection now.
func (c *Counter) fits(h *Held) bool {
	return !c.full(h, h.place, c.limits.Account) && !c.full(h, place{host: h.place.host}, c.limits.Host)
}

// settle gives connections to those that wait, in their order, and asks for as many as are missing.
func (c *Counter) settle() {
	now := c.Clock()
	for again := true; again; {
		again = false
		for _, h := range c.waiting {
			if c.fits(h) {
				c.leave(h)
				h.since = now
				c.held = append(c.held, h)
				close(h.granted)
				again = true
				break
			}
		}
	}
	soonest := time.Duration(0)
	asked := map[*Held]bool{} // for one of those that wait
	for _, h := range c.held {
		asked[h] = !h.asked
	}
	for _, h := range c.waiting {
		if h.use == Spare {
			continue
		}
		for _, o := range c.held {
			if o.use != Watch || o.place.host != h.place.host ||
				o.place.account != h.place.account && !c.full(h, place{host: h.place.host}, c.limits.Host) {
				continue
			}
			if o.asked {
				if !asked[o] { // it is on its way for h
					asked[o] = true
					break
				}
				continue
			}
			if !o.rests {
				continue
			}
			if left := cmp.Or(c.Turn, usualTurn) - now.Sub(o.since); left > 0 && h.use == Watch {
				if soonest == 0 || left < soonest {
					soonest = left
				}
				continue
			}
			o.asked, asked[o] = true, true
			close(o.wanted)
			break
		}
	}
	if c.timer != nil {
		c.timer.Stop()
		c.timer = nil
	}
	if soonest > 0 {
		c.timer = time.AfterFunc(soonest, func() {
			c.mutex.Lock()
			defer c.mutex.Unlock()
			c.settle()
		})
	}
}

// Slow notes that a server asks an account to do less for so long.
func (c *Counter) Slow(host, account string, long time.Duration) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.slowed == nil {
		c.slowed = map[place]time.Time{}
	}
	c.slowed[at(host, account)] = c.Clock().Add(long)
}

// Well notes that a server lets an account in again.
func (c *Counter) Well(host, account string) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	delete(c.slowed, at(host, account))
}

// Rest says that nothing happens over the connection; Busy that something does again. Wanted ends when others want it.
func (h *Held) Rest() (wanted <-chan struct{}) {
	h.set(true)
	return h.wanted
}

// Busy is the opposite of Rest.
func (h *Held) Busy() { h.set(false) }

func (h *Held) set(rests bool) {
	h.counter.mutex.Lock()
	defer h.counter.mutex.Unlock()
	if h.rests = rests; rests && len(h.counter.waiting) > 0 {
		h.counter.settle()
	}
}

// Asked says whether others want the connection.
func (h *Held) Asked() bool {
	h.counter.mutex.Lock()
	defer h.counter.mutex.Unlock()
	return h.asked
}

// Close gives the right back, once.
func (h *Held) Close() {
	h.counter.mutex.Lock()
	defer h.counter.mutex.Unlock()
	h.counter.leave(h)
	h.counter.settle()
}

// InUse counts the connections that an account has; with an empty account, those of the host.
func (c *Counter) InUse(host, account string) int {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.count(c.held, at(host, account), false)
}
