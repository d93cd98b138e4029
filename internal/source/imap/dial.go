// Package imap reads mailboxes over IMAP4rev1 and rev2 (RFC 3501, RFC 9051). It
// opens folders for reading only, but for follow-ups.
package imap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
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
	Compress bool          // what the server sends is compressed, where it can, however near it is

	measured bool // how near it is counts on this machine, too
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
	checks = append(checks,
		source.Check{Step: source.Folders, OK: true,
			Detail: fmt.Sprintf("%d folders; the inbox can be opened", len(folders))})
	push := source.Check{Step: source.Push, OK: true, Detail: "the server announces new mail immediately (IDLE)"}
	if s.Pushes() && s.client.Caps().Has("NOTIFY") {
		push.Detail = "the server announces new mail in every folder immediately (IDLE, NOTIFY)"
	}
	if !s.Pushes() {
		push.Detail = "the server cannot announce new mail; Ink Tray checks the mailbox at the interval"
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
	if c.Encryption == reach.StartTLS {
		if conn, err = c.startTLS(ctx, conn, tlsConfig); err != nil {
			return err
		}
	}
	g := newGuard(conn, c.timeout())
	if c.Encryption == reach.StartTLS {
		// What the server said before the encryption counts for nothing, also not
		// what it can do (RFC 9051 section 6.2.1).
		g.mended = []byte("* OK encrypted\r\n")
	}
	options := &imapclient.Options{TLSConfig: tlsConfig, UnilateralDataHandler: s.handler()}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	g.mender.elsewhere = s.elsewhere
	s.client, s.guard = imapclient.New(g, options), g
	if err := s.client.WaitGreeting(); err != nil {
		s.Close()
		e := &source.Error{Step: source.Connection, Err: err, Advice: "Check the port: " + c.Ports + ".",
			Problem: fmt.Sprintf("the server at %s does not speak IMAP (%v)", c.Address(), reach.Cause(err))}
		if words := s.guard.farewell(); words != "" { // it speaks IMAP, and does not let anybody in now
			e.Problem, e.Advice = fmt.Sprintf("the server at %s lets nobody in now%s", c.Address(), words),
				"Ink Tray tries again by itself."
			e.Slow, e.After = reach.SlowDown(words)
		}
		return e
	}
	ok(source.Encryption, "%s", c.Secured())
	if err := s.signIn(c); err != nil {
		s.Close()
		return err
	}
	ok(source.SignIn, "signed in as %s", c.Username)
	if err := compress(ctx, s); err != nil {
		s.Close()
		if ctx.Err() == nil && blames(s, "COMPRESS") {
			return s.connect(ctx, func(source.Check) {}) // plain
		}
		return s.lost(source.Connection, "asking for compression", err)
	}
	g.end()
	return nil
}

// maxPlain bounds a line of a server before the encryption, in octets.
const maxPlain = 8 << 10

// startTLS begins the encryption on a plain connection (RFC 9051 section 6.2.1). It
// reads octet by octet, so nothing that was sent in plain is taken for encrypted. The
// error, if any, is a *source.Error, and the connection is closed then.
func (c *Config) startTLS(ctx context.Context, conn net.Conn, config *tls.Config) (net.Conn, error) {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	fail := func(err error) (net.Conn, error) {
		conn.Close()
		return nil, err
	}
	line := func() (string, error) {
		var text []byte
		for one := make([]byte, 1); len(text) < maxPlain; {
			if _, err := conn.Read(one); err != nil {
				return "", err
			}
			if text = append(text, one[0]); one[0] == '\n' {
				return strings.TrimRight(string(text), "\r\n"), nil
			}
		}
		return "", errors.New("its line has no end")
	}
	if err := conn.SetDeadline(time.Now().Add(c.timeout())); err != nil {
		return fail(c.Explain(err))
	}
	greeting, err := line()
	if kind, _, _ := strings.Cut(strings.TrimPrefix(greeting, "* "), " "); err == nil && !strings.EqualFold(kind, "OK") {
		err = fmt.Errorf("it greets with %q", greeting)
	}
	if err != nil {
		return fail(&source.Error{Step: source.Connection,
			Problem: fmt.Sprintf("the server at %s does not speak IMAP (%v)", c.Address(), reach.Cause(err)),
			Advice:  "Check the port: " + c.Ports + ".", Err: err})
	}
	if _, err := conn.Write([]byte("S1 STARTTLS\r\n")); err != nil {
		return fail(c.Explain(err))
	}
	for {
		answer, err := line()
		if err != nil {
			return fail(c.Explain(err))
		}
		tagged, ours := strings.CutPrefix(answer, "S1 ")
		if !ours {
			continue // something that the server says unasked
		}
		if kind, text, _ := strings.Cut(tagged, " "); !strings.EqualFold(kind, "OK") {
			return fail(&source.Error{Step: source.Encryption, Problem: fmt.Sprintf("the server at %s does not begin an "+
				"encrypted connection (%s)", c.Address(), text),
				Advice: "Check that port and encryption go together: " + c.Ports + ".", Lasting: true})
		}
		break
	}
	secured := tls.Client(conn, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		return fail(c.Explain(err))
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return fail(c.Explain(err))
	}
	return secured, nil
}

// signIn signs in by password or token.
func (s *Session) signIn(c *Config) error {
	var err error
	what := "its password"
	advice := "Check both; some providers want a password made for programs."
	if c.Token != "" {
		client := c.Bearer(c.Username, c.Token, func(m string) bool { return s.client.Caps().Has(imaplib.Cap("AUTH=" + m)) })
		if client == nil {
			return &source.Error{Step: source.SignIn,
				Problem: "the server takes no tokens: it announces neither OAUTHBEARER nor XOAUTH2",
				Advice:  "Sign in with a password instead.", Lasting: true}
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
		e := &source.Error{Step: source.SignIn,
			Problem: fmt.Sprintf("the connection ended while signing in (%v)%s", reach.Cause(err), s.guard.farewell()), Err: err}
		e.Slow, e.After = reach.SlowDown(s.guard.farewell())
		return e
	}
	e := &source.Error{Step: source.SignIn,
		Problem: fmt.Sprintf("the server refuses the name %q or %s (%s)", c.Username, what, answer.Text), Advice: advice,
		Err: err}
	if slow, _ := slowDown(answer); !refusesForGood(answer.Code) || slow && answer.Code == "" {
		e.Problem, e.Advice = fmt.Sprintf("the server lets nobody sign in now (%s)", answer.Text),
			"Ink Tray tries again by itself."
		e.Slow, e.After = slowDown(answer)
		return e
	}
	e.Lasting = true
	if c.Token != "" {
		e.Err = errors.Join(reach.ErrToken, err)
	}
	return e
}

// refusesForGood says whether a refused sign-in is about the name or the secret, by
// its response code (RFC 5530 section 3; RFC 9051 section 7.1). Most servers give
// none in that case. Every other code, such as THROTTLED, is about this moment.
func refusesForGood(code imaplib.ResponseCode) bool {
	switch code {
	case "", imaplib.ResponseCodeAuthenticationFailed, imaplib.ResponseCodeAuthorizationFailed,
		imaplib.ResponseCodeExpired,
		imaplib.ResponseCodePrivacyRequired, imaplib.ResponseCodeContactAdmin, imaplib.ResponseCodeNoPerm:
		return true
	}
	return false
}

// slowDown says whether a server's refusal asks to do less for a while, and how long.
func slowDown(answer *imaplib.Error) (slow bool, after time.Duration) {
	slow, after = reach.SlowDown(string(answer.Code) + " " + answer.Text)
	return slow || answer.Code == imaplib.ResponseCodeLimit, after
}
