package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Error is why something was not sent, or may have been.
type Error struct {
	Problem string // a sentence without its full stop
	Advice  string
	Passing bool // it can be tried again
	Unsure  bool // it may have arrived
	Server  bool // the server is out of reach: nothing else gets through either
	Sender  bool // it is the sender that is refused
	Err     error
}

func (e *Error) Error() string { return e.Problem }

func (e *Error) Unwrap() error { return e.Err }

// Server is where mail is handed in (RFC 6409).
type Server struct {
	Host       string
	Port       int    // 0 for the usual one
	Encryption string // "tls" (RFC 8314), "starttls" or "none"
	Username   string // "" where the server wants no sign-in
	Password   string
	RootCAs    *x509.CertPool // nil for the system's
	Timeout    time.Duration  // of one exchange; 0 for a minute
}

// Send hands a message in. Until the last line of its content is sent nothing
// has arrived; after that, without the server's answer, it may have. The error,
// if any, is an *Error.
func (s *Server) Send(ctx context.Context, from string, to []string, message []byte) error {
	c, err := s.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.Mail(from, nil); err != nil {
		e := refused("the mail server refuses the sender “"+from+"”",
			"Check the sender's address in Settings, Notifications, Outgoing mail.", err)
		e.Sender = true
		return e
	}
	for _, a := range to {
		if err := c.Rcpt(a, nil); err != nil {
			return refused("the mail server refuses the recipient “"+a+"”", "Check the address.", err)
		}
	}
	w, err := c.Data()
	if err != nil {
		return refused("the mail server takes no content", "Try again later.", err)
	}
	if _, err := bytes.NewReader(message).WriteTo(w); err != nil {
		return &Error{Problem: fmt.Sprintf("the connection to the mail server ended while sending (%v)", err), Passing: true,
			Server: true, Err: err}
	}
	if err := w.Close(); err != nil {
		var answer *smtp.SMTPError
		if errors.As(err, &answer) {
			return refused("the mail server refuses the mail", "Look at what it says.", err)
		}
		return &Error{Problem: "the connection to the mail server ended before it said whether it has the mail, so it may " +
			"have been sent", Advice: "Ask the recipient; if it did not arrive, try again.", Unsure: true, Err: err}
	}
	_ = c.Quit() // the server has it
	return nil
}

// Check goes as far as signing in.
func (s *Server) Check(ctx context.Context) error {
	c, err := s.connect(ctx)
	if err != nil {
		return err
	}
	if err := c.Quit(); err != nil {
		return c.Close() // it let us in
	}
	return nil
}

func refused(problem, advice string, err error) *Error {
	var answer *smtp.SMTPError
	if !errors.As(err, &answer) {
		return &Error{Problem: fmt.Sprintf("%s (%v)", problem, err), Advice: advice, Passing: true, Server: true, Err: err}
	}
	return &Error{Problem: fmt.Sprintf("%s (%d %s)", problem, answer.Code, answer.Message), Advice: advice,
		Passing: answer.Code/100 == 4, Err: err}
}

func (s *Server) port() int {
	switch {
	case s.Port > 0:
		return s.Port
	case s.Encryption == "tls":
		return 465
	}
	return 587
}

// timed gives each read and write a deadline of its own.
type timed struct {
	net.Conn
	timeout time.Duration
}

func (t *timed) Read(p []byte) (int, error) {
	if err := t.Conn.SetReadDeadline(time.Now().Add(t.timeout)); err != nil {
		return 0, err
	}
	return t.Conn.Read(p)
}

func (t *timed) Write(p []byte) (int, error) {
	if err := t.Conn.SetWriteDeadline(time.Now().Add(t.timeout)); err != nil {
		return 0, err
	}
	return t.Conn.Write(p)
}

func (t *timed) SetDeadline(time.Time) error      { return nil }
func (t *timed) SetReadDeadline(time.Time) error  { return nil }
func (t *timed) SetWriteDeadline(time.Time) error { return nil }

func (s *Server) connect(ctx context.Context) (*smtp.Client, error) {
	timeout := s.Timeout
	if timeout == 0 {
		timeout = time.Minute
	}
	address := net.JoinHostPort(s.Host, strconv.Itoa(s.port()))
	unreached := func(problem, advice string, err error) error {
		return &Error{Problem: fmt.Sprintf("%s (%v)", problem, err), Advice: advice, Passing: true, Server: true, Err: err}
	}
	raw, err := (&net.Dialer{Timeout: min(timeout, 15*time.Second)}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, unreached("no mail server answers at "+address,
			"Check host and port in Settings, Notifications, Outgoing mail.", err)
	}
	conn := net.Conn(&timed{Conn: raw, timeout: timeout})
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	config := &tls.Config{ServerName: s.Host, RootCAs: s.RootCAs, MinVersion: tls.VersionTLS12}
	var c *smtp.Client
	switch s.Encryption {
	case "tls":
		secured := tls.Client(conn, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			raw.Close()
			return nil, unreached("no encrypted connection to "+address, "Port 465 goes with tls, 587 with starttls; the "+
				"certificate must be for this host.", err)
		}
		c = smtp.NewClient(secured)
	case "starttls":
		if c, err = smtp.NewClientStartTLS(conn, config); err != nil {
			raw.Close()
			return nil, unreached("no encrypted connection to "+address, "Port 465 goes with tls, 587 with starttls; the "+
				"certificate must be for this host.", err)
		}
	case "none":
		c = smtp.NewClient(conn)
	default:
		raw.Close()
		return nil, &Error{Problem: fmt.Sprintf("the encryption %q is not known", s.Encryption),
			Advice: "Choose tls, starttls or none."}
	}
	if err := c.Hello("localhost"); err != nil {
		c.Close()
		return nil, unreached("the server at "+address+" does not speak SMTP", "Check host and port.", err)
	}
	if s.Username != "" {
		if err := c.Auth(sasl.NewPlainClient("", s.Username, s.Password)); err != nil {
			c.Close()
			return nil, refused(fmt.Sprintf("the mail server refuses the name “%s” or its password", s.Username),
				"Check both in Settings, Notifications, Outgoing mail.", err)
		}
	}
	return c, nil
}
