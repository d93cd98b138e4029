package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// silence is how long a server may say nothing in the midst of an exchange.
const silence = time.Minute

// Patient is a connection that ends where nothing goes over it for a while, in either
// direction; how long an exchange lasts as a whole is not bounded by it. HTTP waits for
// an answer all the while it sends, so what is sent counts for the waiting as well.
type Patient struct {
	net.Conn
	silence time.Duration
	wrote   atomic.Int64 // Unix nanoseconds
}

// NewPatient gives a connection so much patience.
func NewPatient(c net.Conn, silence time.Duration) *Patient {
	return &Patient{Conn: c, silence: silence}
}

// Read reads for as long as something is sent meanwhile.
func (p *Patient) Read(b []byte) (int, error) {
	for {
		if err := p.SetReadDeadline(time.Now().Add(p.silence)); err != nil {
			return 0, err
		}
		n, err := p.Conn.Read(b)
		if n == 0 && errors.Is(err, os.ErrDeadlineExceeded) && time.Since(time.Unix(0, p.wrote.Load())) < p.silence {
			continue
		}
		return n, err
	}
}

// Write writes with a deadline of its own.
func (p *Patient) Write(b []byte) (int, error) {
	if err := p.SetWriteDeadline(time.Now().Add(p.silence)); err != nil {
		return 0, err
	}
	n, err := p.Conn.Write(b)
	p.wrote.Store(time.Now().UnixNano())
	return n, err
}

// Transport carries HTTP to this server and to no other.
func (s *Server) Transport() *http.Transport { return s.TransportWith(silence) }

// TransportWith is a transport whose connections end where nothing goes over them for so long.
func (s *Server) TransportWith(silence time.Duration) *http.Transport {
	dial := func(ctx context.Context, _, address string) (net.Conn, error) {
		if address != s.Address() {
			return nil, fmt.Errorf("the answer leads to another server, %s", address)
		}
		conn, _, err := s.Connect(ctx, func(Step, string, ...any) {})
		if err != nil {
			return nil, err
		}
		return NewPatient(conn, silence), nil
	}
	return &http.Transport{
		DialContext: dial, DialTLSContext: dial, MaxIdleConnsPerHost: 16, MaxConnsPerHost: 32,
		ResponseHeaderTimeout: 2 * silence,
		IdleConnTimeout:       3 * time.Second, // before servers end them, so that no request meets an end
		DisableCompression:    true, WriteBufferSize: 128 << 10, ReadBufferSize: 64 << 10,
	}
}

// URL is the address of the server itself, such as https://files.brackwater.example.
func (s *Server) URL() url.URL {
	u := url.URL{Scheme: "https", Host: s.Address()}
	if s.Encryption == None {
		u.Scheme = "http"
	}
	if strings.HasSuffix(u.Host, ":443") && u.Scheme == "https" || strings.HasSuffix(u.Host, ":80") && u.Scheme == "http" {
		u.Host = s.Host
		if strings.Contains(s.Host, ":") {
			u.Host = "[" + s.Host + "]"
		}
	}
	return u
}

// schemes are the addresses of servers that are given as one line.
var schemes = map[string]struct {
	port       int
	encryption Encryption
}{"https": {443, TLS}, "http": {80, None}, "sftp": {22, None}}

// ParseURL reads where a server is and the path on it, such as
// sftp://files.brackwater.example:2222/srv/harbour. Names and passwords have fields of
// their own and are refused.
func ParseURL(s string, allowed ...string) (server Server, path string, err error) {
	u, err := url.Parse(strings.TrimSpace(s))
	if err != nil || u.Hostname() == "" {
		return server, "",
			fmt.Errorf("%q is not an address of a server; write it as %s://files.brackwater.example/folder", s, allowed[0])
	}
	scheme, ok := schemes[u.Scheme]
	switch {
	case !ok || !slices.Contains(allowed, u.Scheme):
		return server, "",
			fmt.Errorf("the address begins with %s://, but must begin with %s://", u.Scheme, strings.Join(allowed, ":// or "))
	case u.User != nil:
		return server, "", errors.New("name and password have fields of their own: leave them out of the address")
	case u.RawQuery != "" || u.Fragment != "":
		return server, "", errors.New("the address ends with ? or #: leave out what follows")
	}
	server = Server{Host: u.Hostname(), Port: scheme.port, Encryption: scheme.encryption,
		Ports: "https mostly has port 443, http port 80"}
	if u.Port() != "" {
		if server.Port, err = strconv.Atoi(u.Port()); err != nil || server.Port < 1 || server.Port > 65535 {
			return server, "", fmt.Errorf("%q is not a port", u.Port())
		}
	}
	return server, strings.TrimSuffix(u.Path, "/"), nil
}

// RetryAfter reads how long the server asks to be left alone (RFC 9110 section 10.2.3), at most LongestAfter; 0 where
// it does not say.
func RetryAfter(answer *http.Response) time.Duration {
	s := answer.Header.Get("Retry-After")
	if n, err := strconv.Atoi(s); err == nil && n > 0 {
		return Bounded(time.Duration(min(n, int(LongestAfter/time.Second))) * time.Second)
	}
	at, err := http.ParseTime(s)
	now, err2 := http.ParseTime(answer.Header.Get("Date"))
	if err == nil && err2 == nil && at.After(now) {
		return Bounded(at.Sub(now))
	}
	return 0
}
