package mailboxes

import (
	"context"
	"errors"
	"fmt"
	"time"

	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/consent"
	"inktray.example/inktray/internal/store"
)

// The states of a mailbox.
const (
	Connecting = "connecting"
	Live       = "watched live"
	AtInterval = "checked at an interval"
	InTurns    = "checked in turns" // the account or the host has fewer connections than there are mailboxes
	Slowed     = "slowed down"      // the server asks to do less for a while
	OutOfReach = "out of reach"
	Waits      = "waits" // for something on this machine, such as room on the disk
	NotWatched = "not watched"
)

// Status is how a mailbox does.
type Status struct {
	State   string    `json:"state"`
	Since   time.Time `json:"since"`
	Problem string    `json:"problem,omitempty"`
	Advice  string    `json:"advice,omitempty"`
	Looked  time.Time `json:"looked"`            // the last completed look
	SignIn  bool      `json:"sign_in,omitempty"` // somebody has to give consent

	Refused string `json:"-"` // why the sign-in was refused, where SignIn is set
	Lasting bool   `json:"-"` // trying again without a change will not help
}

// StatusAfter is how a mailbox does after a failure. Its state is Waits where this machine is to blame.
func StatusAfter(ctx context.Context, err error, now, looked time.Time) Status {
	s := Status{State: OutOfReach, Since: now, Problem: err.Error(), Looked: looked,
		SignIn: errors.Is(err, consent.ErrLost)}
	var server *source.Error
	if errors.As(err, &server) {
		s.Problem, s.Advice, s.Lasting = string(server.Step)+": "+server.Problem, server.Advice, server.Lasting
		if s.SignIn {
			s.Refused = server.Problem
		}
		if server.Slow {
			s.State = Slowed
		}
	}
	if fault.Of(ctx, err) == fault.Machine { // the mail server is not to blame
		s.State, s.Problem, s.Advice = Waits, err.Error(), ""
		if t := store.TroubleOf(err); t != nil {
			s.Problem, s.Advice = t.Problem, t.Advice
		}
	}
	return s
}

// Told is what people are told of a mailbox with this status.
func (s *Status) Told(name string) string {
	problem := phrase.TrimStop(s.Problem)
	switch {
	case s.SignIn && s.Refused != "":
		return fmt.Sprintf("Ink Tray may not read the mailbox “%s”: %s.", name, phrase.TrimStop(s.Refused))
	case s.SignIn:
		return fmt.Sprintf("Ink Tray may not read the mailbox “%s”: %s.", name, problem)
	case s.State == Slowed:
		return fmt.Sprintf("The mail server lets Ink Tray read the mailbox “%s” more slowly for a while: %s.", name, problem)
	}
	return fmt.Sprintf("The mailbox “%s” is out of reach: %s.", name, problem)
}

// Refused is how long to wait after a failure that lasts until somebody changes something, such as a wrong password: a
// server may lock a client that tries too often.
const Refused = 5 * time.Minute

// slower is how many times as long the pauses are after a server asked to do less.
const slower = 8

// PauseAfter is how long to wait after so many failures in a row, the last being err.
func (ms *Mailboxes) PauseAfter(err error, failures int) time.Duration {
	var server *source.Error
	switch {
	case !errors.As(err, &server):
	case server.Lasting:
		return Refused
	case server.Slow:
		return max(server.After, min(slower*ms.Pause(failures), 15*time.Minute))
	}
	return ms.Pause(failures)
}

// Slowed notes whether the server of a mailbox asked to do less: nothing but its watcher opens connections for a while.
func (ms *Mailboxes) Slowed(m *store.Mailbox, err error) {
	if server := (*source.Error)(nil); errors.As(err, &server) && server.Slow && counted(m) {
		ms.Counter.Slow(m.Host, m.Username, max(server.After, slower*ms.Pause(0)))
	}
}

// Connection is a session whose connection is counted.
type Connection struct {
	source.Session
	held *connections.Held // nil where connections are not counted
}

// Close ends the session.
func (c *Connection) Close() error {
	if c.held != nil {
		defer c.held.Close()
	}
	return c.Session.Close()
}

// Wait is as for every session, but ends with connections.ErrTurn where others need the connection.
func (c *Connection) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	if c.held == nil {
		return c.Session.Wait(ctx, longest, wake)
	}
	wanted := c.held.Rest()
	defer c.held.Busy()
	either, done, ended := make(chan struct{}, 1), make(chan struct{}), make(chan struct{})
	defer func() { // a wake that comes after this is the next one's
		close(done)
		<-ended
	}()
	go func() {
		defer close(ended)
		select {
		case <-wake:
		case <-wanted:
		case <-done:
		}
		either <- struct{}{}
	}()
	event, err := c.Session.Wait(ctx, longest, either)
	if err == nil && c.held.Asked() {
		err = connections.ErrTurn
	}
	return event, err
}

// counted says whether a mailbox's connections are counted: those to mail servers. A session over JMAP counts as one,
// though it opens a few more for a moment while it reads several attachments.
func counted(m *store.Mailbox) bool { return m.OnServer() }

// open waits for its turn and opens a session.
func (ms *Mailboxes) open(ctx context.Context, m *store.Mailbox, secret string, use connections.Use) (*Connection,
	error) {
	ms.connections.Add(1)
	c := &Connection{}
	var err error
	if counted(m) {
		if c.held, err = ms.Counter.Take(ctx, m.Host, m.Username, use); err != nil {
			return nil, err
		}
	}
	if c.Session, err = ms.Dial(ctx, m, secret); err != nil {
		if c.held != nil {
			c.held.Close()
		}
		ms.Slowed(m, err)
		return nil, err
	}
	if use == connections.Watch {
		ms.Counter.Well(m.Host, m.Username)
	}
	return c, nil
}

// InUse counts the connections that a mailbox's account has just now.
func (ms *Mailboxes) InUse(m *store.Mailbox) int {
	if !counted(m) || m.Username == "" {
		return 0
	}
	return ms.Counter.InUse(m.Host, m.Username)
}
