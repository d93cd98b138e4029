// Package imap reads mailboxes over IMAP4rev1 and rev2 (RFC 3501, RFC 9051). It
// opens folders for reading only, but for follow-ups.
package imap

import (
	"context"
	"errors"
	"fmt"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

// Config says how to reach a mailbox. Its port may be 0 for the usual one.
type Config struct {
	reach.Server
	Username string
	Password string
	Token    string        // of OAuth 2.0, instead of the password
	Timeout  time.Duration // of one exchange; 0 for a minute
}

func (c *Config) complete() {
	c.Ports = "993 with tls, 143 with starttls"
	switch {
	case c.Port > 0:
	case c.Encryption == reach.TLS:
		c.Port = 993
	default:
		c.Port = 143
	}
}

func (c *Config) timeout() time.Duration {
	if c.Timeout > 0 {
		return c.Timeout
	}
	return time.Minute
}

// Dial signs in. The error, if any, is a *source.Error.
func Dial(ctx context.Context, c Config) (*Session, error) {
	s := &Session{config: c, events: make(chan source.Event, 1)}
	if err := s.connect(ctx, func(source.Check) {}); err != nil {
		return nil, err
	}
	return s, nil
}

// Check goes through the steps of reaching a mailbox and says of each whether
// it works. It stops at the first that does not.
func Check(ctx context.Context, c Config) []source.Check {
	var checks []source.Check
	s := &Session{config: c, events: make(chan source.Event, 1)}
	fail := func(err error) []source.Check {
		e := &source.Error{Step: source.Connection, Problem: err.Error()}
		errors.As(err, &e)
		return append(checks, source.Check{Step: e.Step, Detail: e.Problem, Advice: e.Advice})
	}
	if err := s.connect(ctx, func(done source.Check) { checks = append(checks, done) }); err != nil {
		return fail(err)
	}
	defer s.Close()
	folders, err := s.Folders(ctx)
	if err == nil {
		_, err = s.Open(ctx, "INBOX")
	}
	if err != nil {
		return fail(err)
	}
	checks = append(checks, source.Check{Step: source.Folders, OK: true, Detail: fmt.Sprintf("%d folders; the inbox can be opened", len(folders))})
	push := source.Check{Step: source.Push, OK: true, Detail: "the server announces new mail at once (IDLE)"}
	if !s.Pushes() {
		push.Detail = "the server cannot announce new mail; the mailbox is looked into at the interval"
	}
	return append(checks, push)
}

// connect goes through the steps up to sign-in, telling each that is done.
func (s *Session) connect(ctx context.Context, done func(source.Check)) error {
	s.config.complete()
	c := &s.config
	ok := func(step source.Step, format string, args ...any) {
		done(source.Check{Step: step, OK: true, Detail: fmt.Sprintf(format, args...)})
	}
	conn, tlsConfig, err := c.Connect(ctx, ok)
	if err != nil {
		return err
	}
	g := &guard{Conn: conn, number: -1}
	g.timeout.Store(int64(c.timeout()))
	options := &imapclient.Options{TLSConfig: tlsConfig, UnilateralDataHandler: s.handler()}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	switch c.Encryption {
	case reach.TLS, reach.None:
		s.client = imapclient.New(g, options)
	default:
		s.client, err = imapclient.NewStartTLS(g, options)
		if err != nil {
			conn.Close()
			return c.Explain(err)
		}
	}
	s.guard = g
	if err := s.client.WaitGreeting(); err != nil {
		s.Close()
		problem := fmt.Sprintf("the server at %s does not speak IMAP (%v)", c.Address(), reach.Cause(err))
		advice := "Check the port: " + c.Ports + "."
		return &source.Error{Step: source.Connection, Problem: problem, Advice: advice, Err: err}
	}
	ok(source.Encryption, "%s", c.Secured())
	if err := s.signIn(c); err != nil {
		s.Close()
		return err
	}
	ok(source.SignIn, "signed in as %s", c.Username)
	return nil
}

// signIn signs in by password or token.
func (s *Session) signIn(c *Config) error {
	var err error
	what := "its password"
	advice := "Check both; some providers want a password made for programs."
	if c.Token != "" {
		client := c.Bearer(c.Username, c.Token, func(m string) bool { return s.client.Caps().Has(imaplib.Cap("AUTH=" + m)) })
		if client == nil {
			return &source.Error{Step: source.SignIn, Problem: "the server takes no tokens: it announces neither OAUTHBEARER nor XOAUTH2", Advice: "Sign in with a password instead.", Lasting: true}
		}
		what, advice = "the consent that was given", "Sign in again."
		err = s.client.Authenticate(client)
	} else {
		err = s.client.Login(c.Username, c.Password).Wait()
	}
	if err == nil {
		return nil
	}
	var answer *imaplib.Error
	if !errors.As(err, &answer) {
		return &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the connection ended while signing in (%v)%s", reach.Cause(err), s.guard.farewell()), Err: err}
	}
	e := &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the server refuses the name %q or %s (%s)", c.Username, what, answer.Text), Advice: advice, Err: err}
	switch answer.Code {
	case imaplib.ResponseCodeUnavailable, imaplib.ResponseCodeInUse, imaplib.ResponseCodeLimit, imaplib.ResponseCodeServerBug:
		e.Problem, e.Advice = fmt.Sprintf("the server lets nobody sign in now (%s)", answer.Text), "Ink Tray tries again by itself."
	default:
		e.Lasting = true
		if c.Token != "" {
			e.Err = errors.Join(reach.ErrToken, err)
		}
	}
	return e
}
