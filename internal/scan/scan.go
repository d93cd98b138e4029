// Package scan asks a virus scanner about contents while they go by, over the
// protocol of clamd (its command INSTREAM), on a socket of this machine or of
// another.
package scan

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"time"
)

// Scanner is where a scanner listens: "unix:/run/clamav/clamd.ctl" or "host:port".
type Scanner struct{ Address string }

// patience bounds each exchange with the scanner.
const patience = time.Minute

// Error is what a scanner could not do.
type Error struct {
	Problem string
	Lasting bool // asking again will not help
	Err     error
}

func (e *Error) Error() string { return e.Problem }
func (e *Error) Unwrap() error { return e.Err }

func (s *Scanner) dial(ctx context.Context) (net.Conn, error) {
	network, address := "tcp", s.Address
	if path, ok := strings.CutPrefix(s.Address, "unix:"); ok {
		network, address = "unix", path
	}
	d := net.Dialer{Timeout: 10 * time.Second}
	c, err := d.DialContext(ctx, network, address)
	if err != nil {
		return nil, &Error{Problem: fmt.Sprintf("the virus scanner at %s cannot be reached (%v)", s.Address, err), Err: err}
	}
	return c, nil
}

// Ping asks whether the scanner is there, and which it is.
func (s *Scanner) Ping(ctx context.Context) (version string, err error) {
	c, err := s.dial(ctx)
	if err != nil {
		return "", err
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(patience)); err != nil {
		return "", err
	}
	if _, err := io.WriteString(c, "zVERSION\x00"); err != nil {
		return "", &Error{Problem: "the virus scanner does not take a question", Err: err}
	}
	answer, err := bufio.NewReader(c).ReadString(0)
	if err != nil {
		return "", &Error{Problem: "the virus scanner does not answer", Err: err}
	}
	return strings.TrimSuffix(answer, "\x00"), nil
}

// Stream is a content on its way to the scanner.
type Stream struct {
	conn net.Conn
	err  error
}

// Begin begins to ask about a content.
func (s *Scanner) Begin(ctx context.Context) (*Stream, error) {
	c, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	st := &Stream{conn: c}
	st.send([]byte("zINSTREAM\x00"))
	return st, nil
}

func (s *Stream) send(data []byte) {
	if s.err == nil {
		if s.err = s.conn.SetDeadline(time.Now().Add(patience)); s.err == nil {
			_, s.err = s.conn.Write(data)
		}
	}
}

// Write hands a part of the content on. It never fails: what goes wrong is told at
// the end, and a scanner that has seen enough may stop listening.
func (s *Stream) Write(p []byte) (int, error) {
	const most = 1 << 20
	for rest := p; len(rest) > 0; {
		some := rest[:min(len(rest), most)]
		rest = rest[len(some):]
		var length [4]byte
		binary.BigEndian.PutUint32(length[:], uint32(len(some)))
		s.send(length[:])
		s.send(some)
	}
	return len(p), nil
}

// Verdict ends the content and says what was found, "" for nothing.
func (s *Stream) Verdict() (found string, err error) {
	defer s.conn.Close()
	s.send([]byte{0, 0, 0, 0})
	// Also one that stopped listening says why.
	_ = s.conn.SetReadDeadline(time.Now().Add(patience))
	answer, err := bufio.NewReader(io.LimitReader(s.conn, 4096)).ReadString(0)
	answer = strings.TrimSpace(strings.TrimPrefix(strings.TrimSuffix(answer, "\x00"), "stream: "))
	switch what, is := strings.CutSuffix(answer, " FOUND"); {
	case is:
		return what, nil
	case answer == "OK":
		return "", nil
	case strings.Contains(answer, "size limit exceeded"):
		return "", &Error{Problem: "it is larger than the virus scanner takes", Lasting: true}
	case answer != "":
		return "", &Error{Problem: fmt.Sprintf("the virus scanner says: %.200s", answer)}
	}
	if s.err != nil {
		err = s.err
	}
	return "", &Error{Problem: "the virus scanner broke off", Err: err}
}

// Close gives up asking.
func (s *Stream) Close() { _ = s.conn.Close() }
