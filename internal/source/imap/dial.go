// Package imap reads mailboxes over IMAP4rev1 and rev2 (RFC 3501, RFC 9051). It
// opens folders for reading only, but for follow-ups.
package imap

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/source"
)

// Encryption is how a connection is protected.
type Encryption string

// The kinds of encryption.
const (
	TLS      Encryption = "tls"      // from the first byte, port 993 (RFC 8314)
	StartTLS Encryption = "starttls" // on port 143, required
	None     Encryption = "none"     // only where it is asked for by name
)

// Config says how to reach a mailbox.
type Config struct {
	Host       string
	Port       int // 0 for the usual one
	Encryption Encryption
	Username   string
	Password   string
	RootCAs    *x509.CertPool // nil for the system's
	Timeout    time.Duration  // of one exchange; 0 for a minute
}

func (c *Config) port() int {
	switch {
	case c.Port > 0:
		return c.Port
	case c.Encryption == TLS:
		return 993
	}
	return 143
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
	c := s.config
	ok := func(step source.Step, format string, args ...any) {
		done(source.Check{Step: step, OK: true, Detail: fmt.Sprintf(format, args...)})
	}
	if c.Host == "" {
		return &source.Error{Step: source.NameLookup, Problem: "no host is given", Advice: "Enter the name of the mail server, such as imap.brackwater.example.", Lasting: true}
	}
	lookup, cancel := context.WithTimeout(ctx, 15*time.Second)
	addresses, err := net.DefaultResolver.LookupHost(lookup, c.Host)
	cancel()
	if err != nil {
		e := &source.Error{Step: source.NameLookup, Problem: fmt.Sprintf("the host %q is not found", c.Host), Advice: "Check the spelling of the host, and that this machine can look up names.", Err: err}
		var dns *net.DNSError
		e.Lasting = errors.As(err, &dns) && dns.IsNotFound
		return e
	}
	ok(source.NameLookup, "%s is %s", c.Host, addresses[0])
	address := net.JoinHostPort(c.Host, strconv.Itoa(c.port()))
	conn, err := (&net.Dialer{Timeout: 15 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return &source.Error{Step: source.Connection, Problem: fmt.Sprintf("no server answers at %s (%v)", address, cause(err)), Advice: "Check host and port, and that the server runs and no firewall is between.", Err: err}
	}
	ok(source.Connection, "a server answers at %s", address)
	tlsConfig := &tls.Config{ServerName: c.Host, RootCAs: c.RootCAs, MinVersion: tls.VersionTLS12}
	if c.Encryption == TLS {
		secured := tls.Client(conn, tlsConfig)
		handshake, cancel := context.WithTimeout(ctx, 15*time.Second)
		err := secured.HandshakeContext(handshake)
		cancel()
		if err != nil {
			conn.Close()
			return encryptionError(err, address)
		}
		conn = secured
	}
	g := &guard{Conn: conn, number: -1}
	g.timeout.Store(int64(c.timeout()))
	options := &imapclient.Options{TLSConfig: tlsConfig, UnilateralDataHandler: s.handler()}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	switch c.Encryption {
	case TLS, None:
		s.client = imapclient.New(g, options)
	case StartTLS:
		s.client, err = imapclient.NewStartTLS(g, options)
		if err != nil {
			conn.Close()
			return encryptionError(err, address)
		}
	default:
		conn.Close()
		return &source.Error{Step: source.Encryption, Problem: fmt.Sprintf("the encryption %q is not known", c.Encryption), Advice: "Choose tls, starttls or none.", Lasting: true}
	}
	s.guard = g
	if err := s.client.WaitGreeting(); err != nil {
		s.Close()
		problem := fmt.Sprintf("the server at %s does not speak IMAP (%v)", address, cause(err))
		advice := "Check the port: 993 goes with tls, 143 with starttls."
		return &source.Error{Step: source.Connection, Problem: problem, Advice: advice, Err: err}
	}
	switch c.Encryption {
	case None:
		ok(source.Encryption, "none, as was asked for: the secret can be read on the way")
	default:
		ok(source.Encryption, "%s; the certificate is valid for %s", c.Encryption, c.Host)
	}
	if err := s.client.Login(c.Username, c.Password).Wait(); err != nil {
		s.Close()
		var answer *imaplib.Error
		if errors.As(err, &answer) {
			e := &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the server refuses the name %q or its password (%s)", c.Username, answer.Text), Advice: "Check both; some providers want a password made for programs.", Err: err}
			e.Lasting = answer.Code != imaplib.ResponseCodeUnavailable && answer.Code != imaplib.ResponseCodeInUse
			return e
		}
		return &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the connection ended while signing in (%v)", cause(err)), Err: err}
	}
	ok(source.SignIn, "signed in as %s", c.Username)
	return nil
}

func encryptionError(err error, address string) error {
	e := &source.Error{Step: source.Encryption, Problem: fmt.Sprintf("no encrypted connection to %s (%v)", address, cause(err)), Err: err,
		Advice: "Check that port and encryption go together: 993 with tls, 143 with starttls."}
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown):
		e.Problem, e.Lasting = "the certificate of "+address+" is signed by nobody that this machine trusts", true
		e.Advice = "Add the authority's certificate to this machine, or correct the host's name."
	case errors.As(err, &name):
		e.Problem, e.Lasting = "the certificate of "+address+" is for another name ("+name.Error()+")", true
		e.Advice = "Enter the host's name as the certificate has it."
	case errors.As(err, &invalid):
		e.Problem, e.Lasting = "the certificate of "+address+" is not valid ("+invalid.Error()+")", true
		e.Advice = "Have the mail server's certificate renewed, and check this machine's clock."
	}
	return e
}

// cause is the innermost error that says something.
func cause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil || inner.Error() == "" {
			return err
		}
		err = inner
	}
}
