// Package pop3 reads mailboxes over POP3 (RFC 1939, RFC 2449, RFC 2595, RFC 5034).
// A mailbox can be open once at a time, so a connection lasts no longer than what
// is asked of it; messages are kept in a spool while they are worked on.
package pop3

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

const (
	maxMessage = 256 << 20 // octets of a message
	keepsFor   = 24 * time.Hour
	busyTries  = 5
)

// Config says how to reach a mailbox. Its port may be 0 for the usual one.
type Config struct {
	reach.Server
	Username string
	Password string
	Token    string // of OAuth 2.0, instead of the password
	Timeout  time.Duration
	Spool    string // folder for messages, of this mailbox alone
	Numbers  source.Numbers
}

func (c *Config) timeout() time.Duration {
	if c.Timeout > 0 {
		return c.Timeout
	}
	return time.Minute
}

func (c *Config) complete() {
	c.Ports = "995 with tls, 110 with starttls"
	switch {
	case c.Port > 0:
	case c.Encryption == reach.TLS:
		c.Port = 995
	default:
		c.Port = 110
	}
}

// turns lets one at a time into a mailbox: the server would refuse the second.
var turns sync.Map

func (c *Config) turn() chan struct{} {
	held, _ := turns.LoadOrStore(c.Address()+"\x00"+c.Username, make(chan struct{}, 1))
	return held.(chan struct{})
}

// Session reads one mailbox. It has one folder, the inbox.
type Session struct {
	config  Config
	conn    *conn // nil between the exchanges
	state   source.State
	fresh   bool // the messages were listed a moment ago, by Wait
	uids    map[uint32]string
	numbers source.Numbered
	marking bool // TOP did not give a whole message here, so messages are read by RETR
	last    struct {
		uid uint32
		raw *mail.Raw
	}
}

var _ source.Session = (*Session)(nil)
var _ source.Tidier = (*Session)(nil)

// Dial signs in once, to see that it works. The error, if any, is a *source.Error.
func Dial(ctx context.Context, c Config) (*Session, error) {
	c.complete()
	s := &Session{config: c, uids: map[uint32]string{}, numbers: source.Numbered{Numbers: c.Numbers}}
	if err := os.MkdirAll(c.Spool, 0o700); err != nil {
		return nil, &source.Error{Step: source.Folders, Problem: "the folder for messages cannot be made: " + err.Error(),
			Err: err}
	}
	if err := s.connect(ctx, nil); err != nil {
		return nil, err
	}
	return s, nil
}

// Check goes through the steps of reaching a mailbox.
func Check(ctx context.Context, c Config) []source.Check {
	c.complete()
	var checks []source.Check
	s := &Session{config: c}
	fail := func(err error) []source.Check {
		e := &source.Error{Step: source.Connection, Problem: err.Error()}
		errors.As(err, &e)
		return append(checks, source.Check{Step: e.Step, Detail: e.Problem, Advice: e.Advice})
	}
	err := s.connect(ctx, func(step source.Step, format string, args ...any) {
		checks = slices.DeleteFunc(checks, func(c source.Check) bool { return c.Step == step }) // of an earlier try
		checks = append(checks, source.Check{Step: step, OK: true, Detail: fmt.Sprintf(format, args...)})
	})
	if err != nil {
		return fail(err)
	}
	defer s.Close()
	if err := s.conn.look(); err != nil {
		return fail(err)
	}
	method, err := s.method()
	if err != nil {
		return fail(lost("reading a message", err))
	}
	return append(checks, source.Check{Step: source.Folders, OK: true, Detail: fmt.Sprintf("%d messages, each with a "+
		"lasting identity (UIDL); %s", len(s.conn.order), method)},
		source.Check{Step: source.Push, OK: true,
			Detail: "POP3 cannot announce new mail; Ink Tray checks the mailbox at the interval"})
}

// method tries out, on the smallest of some messages, by which command messages are read.
func (s *Session) method() (string, error) {
	const marked = "messages are read by RETR, and most servers mark as read what is fetched so"
	c := s.conn
	if !c.offersTop() {
		return marked, nil
	}
	number := 0
	for _, id := range c.order[max(0, len(c.order)-20):] {
		if n := c.uidl[id]; number == 0 || c.sizes[n] < c.sizes[number] {
			number = n
		}
	}
	if number == 0 {
		return "whether TOP gives whole messages, which leaves them unread, is seen with the first one", nil
	}
	if c.sizes[number] > 8<<20 {
		return "whether TOP gives whole messages, which leaves them unread, is seen when they are read", nil
	}
	var data bytes.Buffer
	err := c.top(number, &limited{&data, maxMessage})
	var no *refusal
	switch {
	case errors.As(err, &no), err == nil && int64(data.Len()) != c.sizes[number]:
		return marked + " (TOP does not give whole messages here)", nil
	case err != nil:
		return "", err
	}
	return "messages are read by TOP, which gives them whole here and leaves them unread", nil
}

// connect opens the mailbox unless it is open.
func (s *Session) connect(ctx context.Context, ok func(source.Step, string, ...any)) error {
	if s.conn != nil {
		return nil
	}
	if ok == nil {
		ok = func(source.Step, string, ...any) {}
	}
	select {
	case s.config.turn() <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	for try := 1; ; try++ {
		c, err := open(ctx, &s.config, ok)
		if err == nil {
			s.conn = c
			return nil
		}
		var no *refusal
		if !errors.As(err, &no) || no.code != "IN-USE" || try == busyTries {
			<-s.config.turn()
			return err
		}
		select { // the server has not yet noticed that the last session ended
		case <-time.After(time.Duration(try) * 200 * time.Millisecond):
		case <-ctx.Done():
			<-s.config.turn()
			return ctx.Err()
		}
	}
}

// leave ends the connection, so that others can open the mailbox.
func (s *Session) leave(properly bool) error {
	if s.conn == nil {
		return nil
	}
	var err error
	if properly {
		err = s.conn.quit()
	} else {
		s.conn.net.Close()
	}
	s.conn = nil
	<-s.config.turn()
	return err
}

// run does something on an open connection; when ctx ends, it is cut.
func (s *Session) run(ctx context.Context, f func(c *conn) error) error {
	if err := s.connect(ctx, nil); err != nil {
		return err
	}
	c := s.conn
	stop := context.AfterFunc(ctx, func() { c.net.Close() })
	err := f(c)
	if !stop() && ctx.Err() != nil {
		err = ctx.Err()
	}
	var no *refusal
	if err != nil && !errors.As(err, &no) {
		_ = s.leave(false)
	}
	return err
}

// Folders lists the one folder.
func (s *Session) Folders(context.Context) ([]source.Folder, error) {
	return []source.Folder{{Path: "INBOX", Role: "inbox", Selectable: true}}, nil
}

// Open lists the messages that are there now, in a session of its own: the server
// shows new ones to new sessions only.
func (s *Session) Open(ctx context.Context, folder string) (source.State, error) {
	if !strings.EqualFold(folder, "INBOX") {
		return source.State{}, &source.Error{Step: source.Folders, Problem: fmt.Sprintf("there is no folder %q in the "+
			"mailbox: POP3 has the inbox only", folder),
			Advice: "Let the rule look into the inbox, or use IMAP for this mailbox.", Lasting: true}
	}
	if s.fresh && s.conn != nil {
		s.fresh = false
		return s.state, nil
	}
	if s.conn != nil && s.conn.uidl != nil {
		if err := s.leave(true); err != nil {
			return source.State{}, lost("ending a session", err)
		}
	}
	var state source.State
	err := s.run(ctx, func(c *conn) error {
		if err := c.look(); err != nil {
			return err
		}
		numbering, err := s.numbers.Of(ctx, "INBOX", c.order)
		if err != nil {
			return err
		}
		state = source.State{UIDValidity: numbering.UIDValidity, UIDNext: numbering.UIDNext, Messages: uint32(len(c.order))}
		s.uids = map[uint32]string{}
		for _, id := range c.order {
			s.uids[numbering.UIDs[id]] = id
		}
		return nil
	})
	if err == nil {
		s.forget()
	}
	s.state = state
	return state, err
}

// forget removes from the spool what is no longer on the server or has lain there
// for a day.
func (s *Session) forget() {
	there := map[string]bool{}
	for _, id := range s.uids {
		there[spoolName(id)] = true
	}
	entries, err := os.ReadDir(s.config.Spool)
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && (!there[e.Name()] || time.Since(info.ModTime()) > keepsFor) {
			_ = os.Remove(filepath.Join(s.config.Spool, e.Name()))
		}
	}
}

// spoolName is the name of a message's file. What a server calls it is no name of
// a file.
func spoolName(id string) string {
	sum := sha256.Sum256([]byte(id))
	return hex.EncodeToString(sum[:16]) + ".eml"
}

// UIDs lists messages. POP3 has neither dates nor labels to look for.
func (s *Session) UIDs(_ context.Context, q source.Query) ([]uint32, error) {
	if len(q.Keywords) > 0 {
		return nil, nil
	}
	var uids []uint32
	for uid := range s.uids {
		if uid >= q.From && (q.To == 0 || uid <= q.To) {
			uids = append(uids, uid)
		}
	}
	slices.Sort(uids)
	return uids, nil
}

// read gives a message, fetching it unless it is in the spool.
func (s *Session) read(ctx context.Context, uid uint32) (*mail.Raw, error) {
	if s.last.uid == uid && s.last.raw != nil {
		return s.last.raw, nil
	}
	id, ok := s.uids[uid]
	if !ok {
		return nil, source.ErrGone
	}
	name := filepath.Join(s.config.Spool, spoolName(id))
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		if data, err = s.fetch(ctx, id, name); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, err
	}
	s.last.uid, s.last.raw = uid, mail.Parse(data)
	return s.last.raw, nil
}

// fetch downloads a message into the spool. The file gets its final name once it is complete.
func (s *Session) fetch(ctx context.Context, id, name string) ([]byte, error) {
	var data bytes.Buffer
	err := s.run(ctx, func(c *conn) error {
		if c.uidl == nil {
			if err := c.look(); err != nil {
				return err
			}
		}
		number, ok := c.uidl[id]
		if !ok {
			return source.ErrGone
		}
		if size := c.sizes[number]; size > maxMessage {
			return fmt.Errorf("the message has %d MB; the most that is read is %d", size>>20, maxMessage>>20)
		}
		if c.offersTop() && !s.marking {
			err := c.top(number, &limited{&data, maxMessage})
			var no *refusal
			if err != nil && !errors.As(err, &no) {
				return err
			}
			if err == nil && int64(data.Len()) == c.sizes[number] { // it is whole
				return nil
			}
			s.marking = true
			data.Reset()
		}
		return c.retrieve(number, &limited{&data, maxMessage})
	})
	var known *source.Error
	switch {
	case errors.Is(err, source.ErrGone), errors.As(err, &known), ctx.Err() != nil:
		return nil, err
	case err != nil:
		return nil, lost("reading a message", err)
	}
	temporary := name + ".part"
	if err := os.WriteFile(temporary, data.Bytes(), 0o600); err != nil {
		return nil, err
	}
	return data.Bytes(), os.Rename(temporary, name)
}

type limited struct {
	w    io.Writer
	left int64
}

func (l *limited) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, fmt.Errorf("the message has more than %d MB", maxMessage>>20)
	}
	return l.w.Write(p)
}

// Facts reads messages whole and understands them here. The mailbox is given back
// afterwards: what is done with them may take long.
func (s *Session) Facts(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	var all []source.Facts
	defer func() { _ = s.leave(true) }()
	for _, uid := range uids {
		raw, err := s.read(ctx, uid)
		if errors.Is(err, source.ErrGone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all,
			source.Facts{UID: uid, Size: raw.Message.Size, Header: raw.Message.Header, Structure: raw.Structure(), Whole: true})
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, nil
}

// Part opens one part's content.
func (s *Session) Part(ctx context.Context, facts *source.Facts, item string) (io.ReadCloser, error) {
	raw, err := s.read(ctx, facts.UID)
	if err != nil {
		return nil, err
	}
	r, err := raw.Open(item)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(r), nil
}

// Head reads the first octets of a part.
func (s *Session) Head(ctx context.Context, facts *source.Facts, item string, octets int64) ([]byte, error) {
	r, err := s.Part(ctx, facts, item)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, octets))
}

// Changed knows of nothing: POP3 has no labels.
func (s *Session) Changed(context.Context, uint64) ([]uint32, error) { return nil, nil }

// Pushes says that POP3 does not announce.
func (s *Session) Pushes() bool { return false }

// Wait closes the connection, so that others can use the mailbox, and waits; then it asks whether mail has arrived.
func (s *Session) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	_ = s.leave(true) // nothing is lost if the server has ended the session before
	timer := time.NewTimer(longest)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return source.Event{}, ctx.Err()
	case <-wake:
		return source.Event{}, nil
	case <-timer.C:
	}
	before := s.uids
	if _, err := s.Open(ctx, "INBOX"); err != nil {
		return source.Event{}, err
	}
	s.fresh = true
	for uid := range s.uids {
		if _, old := before[uid]; !old {
			return source.Event{At: time.Now(), Arrived: true}, nil
		}
	}
	return source.Event{}, nil
}

// Tidy deletes messages on the server. They are gone once the session ended
// properly (RFC 1939 section 6), which it does here.
func (s *Session) Tidy(ctx context.Context, uids []uint32) error {
	err := s.run(ctx, func(c *conn) error {
		if c.uidl == nil {
			if err := c.look(); err != nil {
				return err
			}
		}
		for _, uid := range uids {
			number, there := c.uidl[s.uids[uid]]
			if !there {
				continue
			}
			if _, err := c.do("DELE %d", number); err != nil {
				return lost("taking a message off the server", err)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := s.leave(true); err != nil {
		return lost("taking messages off the server", err)
	}
	for _, uid := range uids {
		delete(s.uids, uid)
	}
	return nil
}

// Close gives the mailbox back.
func (s *Session) Close() error { return s.leave(true) }
