// Package reach makes connections to servers: through a proxy or not,
// encrypted, and to the right one. Every failure names its step and what to do.
package reach

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/proxy"
)

// Encryption is how a connection is protected.
type Encryption string

// The kinds of encryption.
const (
	TLS      Encryption = "tls"      // from the first byte (RFC 8314)
	StartTLS Encryption = "starttls" // begun on a plain connection, required
	None     Encryption = "none"     // only where it is asked for by name
)

// Server says which server, and how it is reached.
type Server struct {
	Host       string
	Port       int
	Encryption Encryption
	Authority  string         // certificates that are trusted beside the system's, PEM
	Pinned     string         // SHA-256 of the server's own certificate, hexadecimal, which is then all that counts
	Proxy      string         // socks5://host:port or http://host:port
	RootCAs    *x509.CertPool // nil for the system's
	Resolver   *net.Resolver  // nil for the system's
	Ports      string         // which port goes with which encryption, for advice
	Prompt     bool           // what comes is acknowledged at once: see promptly
}

const stepTime = 15 * time.Second

// Address is host and port.
func (s *Server) Address() string { return net.JoinHostPort(s.Host, strconv.Itoa(s.Port)) }

// TLS is how encryption is to be negotiated.
func (s *Server) TLS() (*tls.Config, error) {
	c := &tls.Config{ServerName: s.Host, RootCAs: s.RootCAs, MinVersion: tls.VersionTLS12}
	if s.Authority != "" {
		roots := s.RootCAs
		if roots == nil {
			var err error
			if roots, err = x509.SystemCertPool(); err != nil {
				roots = x509.NewCertPool()
			}
		}
		roots = roots.Clone()
		if !roots.AppendCertsFromPEM([]byte(s.Authority)) {
			return nil, &Error{Step: Encrypting, Problem: "the certificate of the authority cannot be read",
				Advice: "Give it in PEM form: it begins with -----BEGIN CERTIFICATE-----.", Lasting: true}
		}
		c.RootCAs = roots
	}
	if s.Pinned == "" {
		return c, nil
	}
	wanted, err := Fingerprint(s.Pinned)
	if err != nil {
		return nil, &Error{Step: Encrypting, Problem: err.Error(), Lasting: true}
	}
	c.InsecureSkipVerify = true // the one certificate is known: nobody has to vouch for it
	c.VerifyConnection = func(state tls.ConnectionState) error {
		if len(state.PeerCertificates) == 0 {
			return errors.New("the server has no certificate")
		}
		if got := sha256.Sum256(state.PeerCertificates[0].Raw); hex.EncodeToString(got[:]) != wanted {
			return &otherCertificate{hex.EncodeToString(got[:])}
		}
		return nil
	}
	return c, nil
}

type otherCertificate struct{ fingerprint string }

func (e *otherCertificate) Error() string { return "its certificate is another one" }

// Fingerprint brings a certificate's SHA-256 into one form: 64 hexadecimal digits.
// Colons and spaces are passed over.
func Fingerprint(s string) (string, error) {
	clean := strings.ToLower(strings.NewReplacer(":", "", " ", "", "\t", "").Replace(strings.TrimSpace(s)))
	if data, err := hex.DecodeString(clean); err != nil || len(data) != sha256.Size {
		return "", errors.New("a pinned certificate is given by its SHA-256 fingerprint: 64 hexadecimal digits")
	}
	return clean, nil
}

// ParseProxy reads the address of a proxy.
func ParseProxy(s string) (*url.URL, error) {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "socks5" && u.Scheme != "http" || u.Hostname() == "" || u.Port() == "" {
		return nil, errors.New("a proxy is given as socks5://host:port or http://host:port")
	}
	return u, nil
}

// Connect goes through the steps up to encryption, telling each that is done. With
// starttls the connection is still plain: the protocol begins the encryption.
// The error, if any, is a *Error.
func (s *Server) Connect(ctx context.Context, done func(step Step, format string, args ...any)) (net.Conn, *tls.Config,
	error) {
	if s.Host == "" {
		return nil, nil, &Error{Step: NameLookup, Problem: "no host is given", Advice: "Enter the name of the server, such " +
			"as mail.brackwater.example.", Lasting: true}
	}
	config, err := s.TLS()
	if err != nil {
		return nil, nil, err
	}
	var conn net.Conn
	if s.Proxy != "" {
		conn, err = s.throughProxy(ctx, done)
	} else {
		conn, err = s.straight(ctx, done)
	}
	if err != nil {
		return nil, nil, err
	}
	if s.Prompt {
		conn = promptly(conn)
	}
	switch s.Encryption {
	case TLS:
		secured := tls.Client(conn, config)
		handshake, cancel := context.WithTimeout(ctx, stepTime)
		err := secured.HandshakeContext(handshake)
		cancel()
		if err != nil {
			conn.Close()
			return nil, nil, s.Explain(err)
		}
		return secured, config, nil
	case StartTLS, None:
		return conn, config, nil
	}
	conn.Close()
	return nil, nil,
		&Error{Step: Encrypting, Problem: fmt.Sprintf("the encryption %q is not known", s.Encryption),
			Advice: "Choose tls, starttls or none.", Lasting: true}
}

func (s *Server) straight(ctx context.Context, done func(step Step, format string, args ...any)) (net.Conn, error) {
	resolver := s.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	lookup, cancel := context.WithTimeout(ctx, stepTime)
	addresses, err := resolver.LookupHost(lookup, s.Host)
	cancel()
	if err != nil {
		e := &Error{Step: NameLookup, Problem: fmt.Sprintf("the host %q is not found", s.Host),
			Advice: "Check the spelling of the host, and that this machine can look up names.", Err: err}
		var dns *net.DNSError
		e.Lasting = errors.As(err, &dns) && dns.IsNotFound
		return nil, e
	}
	done(NameLookup, "%s is %s", s.Host, addresses[0])
	conn, err := (&net.Dialer{Timeout: stepTime, Resolver: resolver}).DialContext(ctx, "tcp", s.Address())
	if err != nil {
		return nil, &Error{Step: Connection, Problem: fmt.Sprintf("no server answers at %s (%v)", s.Address(), Cause(err)),
			Advice: "Check host and port, and that the server runs and no firewall blocks it.", Err: err}
	}
	done(Connection, "a server answers at %s", s.Address())
	return conn, nil
}

// throughProxy asks a proxy for a connection; the proxy looks the name up.
func (s *Server) throughProxy(ctx context.Context, done func(step Step, format string, args ...any)) (net.Conn, error) {
	via, err := ParseProxy(s.Proxy)
	if err != nil {
		return nil, &Error{Step: Connection, Problem: err.Error(), Lasting: true}
	}
	ctx, cancel := context.WithTimeout(ctx, 2*stepTime)
	defer cancel()
	fail := func(err error) error {
		return &Error{Step: Connection,
			Problem: fmt.Sprintf("the proxy %s gives no connection to %s (%v)", via.Host, s.Address(), Cause(err)),
			Advice:  "Check the proxy's address, and that it allows connections to this host and port.", Err: err}
	}
	var conn net.Conn
	if via.Scheme == "socks5" {
		dialer, err := proxy.FromURL(via, &net.Dialer{Timeout: stepTime})
		if err != nil {
			return nil, fail(err)
		}
		if conn, err = dialer.(proxy.ContextDialer).DialContext(ctx, "tcp", s.Address()); err != nil {
			return nil, fail(err)
		}
	} else if conn, err = tunnel(ctx, via, s.Address()); err != nil {
		return nil, fail(err)
	}
	done(Connection, "a server answers at %s, through the proxy %s", s.Address(), via.Host)
	return conn, nil
}

// tunnel asks an HTTP proxy for a connection (RFC 9110 section 9.3.6).
func tunnel(ctx context.Context, via *url.URL, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{Timeout: stepTime}).DialContext(ctx, "tcp", via.Host)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address,
		Header: http.Header{}}
	if via.User != nil {
		password, _ := via.User.Password()
		basic := &http.Request{Header: http.Header{}}
		basic.SetBasicAuth(via.User.Username(), password)
		request.Header.Set("Proxy-Authorization", basic.Header.Get("Authorization"))
	}
	if err := request.Write(conn); err != nil {
		conn.Close()
		return nil, err
	}
	in := bufio.NewReader(conn)
	answer, err := http.ReadResponse(in, request)
	if err != nil {
		conn.Close()
		return nil, err
	}
	if answer.StatusCode/100 != 2 {
		conn.Close()
		return nil, errors.New("it answers " + answer.Status)
	}
	if in.Buffered() > 0 { // the server's greeting came with the proxy's answer
		return &begun{conn, in}, nil
	}
	return conn, nil
}

// begun is a connection of which something was read already.
type begun struct {
	net.Conn
	in *bufio.Reader
}

func (b *begun) Read(p []byte) (int, error) { return b.in.Read(p) }

// Explain says why a connection could not be encrypted.
func (s *Server) Explain(err error) error {
	address := s.Address()
	e := &Error{Step: Encrypting, Problem: fmt.Sprintf("no encrypted connection to %s (%v)", address, Cause(err)),
		Err: err, Advice: "Check that port and encryption go together: " + s.Ports + "."}
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var other *otherCertificate
	print := func(c *x509.Certificate) string {
		sum := sha256.Sum256(c.Raw)
		return hex.EncodeToString(sum[:])
	}
	switch {
	case errors.As(err, &other):
		e.Problem, e.Lasting = "the certificate of "+address+" is not the one that is pinned: its fingerprint is "+
			other.fingerprint, true
		e.Advice = "If the server's certificate was renewed, ask its administrator for the new fingerprint and pin that. " +
			"If not, another server may answer in its place."
	case errors.As(err, &unknown):
		e.Problem, e.Lasting = "the certificate of "+address+" is signed by nobody that this machine trusts", true
		e.Advice = "Give the authority's certificate, or correct the host's name."
		if unknown.Cert != nil {
			var chain *tls.CertificateVerificationError
			own := unknown.Cert
			if errors.As(err, &chain) && len(chain.UnverifiedCertificates) > 0 {
				own = chain.UnverifiedCertificates[0]
			}
			e.Advice = "Give the authority's certificate, or pin this one once you have compared its fingerprint with the " +
				"server's: " + print(own)
		}
	case errors.As(err, &name):
		e.Problem, e.Lasting = "the certificate of "+address+" is for another name ("+name.Error()+")", true
		e.Advice = "Enter the host's name as the certificate has it."
	case errors.As(err, &invalid):
		e.Problem, e.Lasting = "the certificate of "+address+" is not valid ("+invalid.Error()+")", true
		e.Advice = "Ask the administrator of the server to renew its certificate, and check this machine's clock."
	}
	return e
}

// Secured says how a connection is protected, in words.
func (s *Server) Secured() string {
	switch {
	case s.Encryption == None:
		return "none, as was asked for: the secret can be read on the way"
	case s.Pinned != "":
		return string(s.Encryption) + "; the certificate is the one that is pinned"
	}
	return string(s.Encryption) + "; the certificate is valid for " + s.Host
}

// Cause is the innermost error that says something.
func Cause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil || inner.Error() == "" {
			return err
		}
		err = inner
	}
}
