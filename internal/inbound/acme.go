package inbound

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

// ACME gets the certificate from an authority that gives them out by itself (RFC 8555), and a new one before it ends.
// The authority proves that the names lead here over TLS (RFC 8737) or without TLS (RFC 8555, section 8.3).
type ACME struct {
	manager autocert.Manager
	failed  func(name string, err error)

	mutex sync.Mutex
	told  map[string]time.Time // when it was told last that there is none for a name
}

// ACMEConfig says of which authority a certificate is asked for, and for which names.
type ACMEConfig struct {
	Directory string // the address of the authority's directory
	Mail      string // where the authority reaches whoever runs this; "" for nowhere
	Names     []string
	Folder    string // in which the account's key and the certificates are kept
	// Failed is told why there is no certificate for a name, once an hour at most.
	Failed func(name string, err error)
}

// NewACME makes an ACME. Nothing is asked before the first connection. The terms of the authority count as accepted.
func NewACME(c ACMEConfig) (*ACME, error) {
	u, err := url.Parse(c.Directory)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !Loopback(u.Hostname())) {
		return nil, fmt.Errorf("%q is not an address of an authority's directory; it begins with https://", c.Directory)
	}
	if len(c.Names) == 0 {
		return nil, errors.New("say for which name the certificate is: give --address https://…")
	}
	a := &ACME{failed: c.Failed, told: map[string]time.Time{}}
	a.manager = autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(c.Folder), Email: c.Mail,
		HostPolicy: autocert.HostWhitelist(c.Names...), Client: &acme.Client{DirectoryURL: c.Directory,
			HTTPClient: &http.Client{Timeout: time.Minute}, UserAgent: "inktray"}}
	return a, nil
}

// Loopback says whether a name or number of a host is this machine's own, which nobody else reaches.
func Loopback(host string) bool {
	address, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && address.Unmap().IsLoopback()
}

// Config is for a server that speaks TLS 1.2 or later (RFC 8996).
func (a *ACME) Config() *tls.Config {
	c := a.manager.TLSConfig()
	c.MinVersion = tls.VersionTLS12
	c.NextProtos = []string{"http/1.1", acme.ALPNProto}
	get := c.GetCertificate
	c.GetCertificate = func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		found, err := get(hello)
		if err != nil && a.manager.HostPolicy(hello.Context(), hello.ServerName) == nil && a.tells(hello.ServerName) {
			a.failed(hello.ServerName, err)
		}
		return found, err
	}
	return c
}

// tells says whether it is to be told that there is none for a name.
func (a *ACME) tells(name string) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if time.Since(a.told[name]) < time.Hour {
		return false
	}
	a.told[name] = time.Now()
	return true
}

// Answering answers the authority's questions without TLS, and leaves everything else to another handler.
func (a *ACME) Answering(other http.Handler) http.Handler { return a.manager.HTTPHandler(other) }
