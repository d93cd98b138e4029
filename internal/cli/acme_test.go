package cli

import (
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// The service gets its certificate from an authority by itself, uses it again after a start, answers under no other
// name, and says in the log where it gets none.
func TestACertificateIsAskedForAndKept(t *testing.T) {
	const name = "inktray.brackwater.example"
	redirect := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	authority := testbed.StartACME(t, redirect)
	log := &sharedLog{}
	o := openOffice(t, empty, func(s *serviceOptions) {
		s.acme, s.redirect, s.reached = authority.Directory, redirect, []string{"https://" + name}
		s.log = slog.New(slog.NewTextHandler(log, nil))
	})
	at := strings.TrimPrefix(o.service.address(), "https://")
	dial := func(as string) (*tls.Conn, error) {
		return tls.Dial("tcp", at, &tls.Config{ServerName: as, RootCAs: authority.Roots, MinVersion: tls.VersionTLS12})
	}
	authority.Refuses = true
	if c, err := dial(name); err == nil {
		c.Close()
		t.Fatal("there is a certificate though the authority gives none")
	}
	until(t, "the log says so", func() bool { return strings.Contains(log.String(), "there is no certificate") })
	if err := o.service.stop(); err != nil { // which forgets that it was refused
		t.Fatal(err)
	}
	authority.Refuses = false
	again := func() {
		t.Helper()
		var err error
		if o.service, err = start(o.options); err != nil {
			t.Fatal(err)
		}
		at = strings.TrimPrefix(o.service.address(), "https://")
		c, err := dial(name)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		fmt.Fprintf(c, "GET /api/v1/health HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", name)
		if said, err := io.ReadAll(c); err != nil || !strings.Contains(string(said), "200 OK") {
			t.Errorf("it answers %s, %v", said, err)
		}
	}
	again()
	if authority.Given() != 1 {
		t.Errorf("%d certificates were asked for", authority.Given())
	}
	if c, err := dial("other.example"); err == nil {
		c.Close()
		t.Error("a certificate is given for a name that is not ours")
	}
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	led, err := browser.Get("http://" + redirect + "/register")
	if err != nil {
		t.Fatal(err)
	}
	led.Body.Close()
	if led.Header.Get("Location") != "https://"+name+"/register" {
		t.Errorf("browsers are led to %s", led.Header.Get("Location"))
	}
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	again()
	if authority.Given() != 1 {
		t.Errorf("after a start %d certificates were asked for", authority.Given())
	}
	kept, err := filepath.Glob(filepath.Join(o.options.data, "acme", "*"))
	if err != nil || len(kept) < 2 {
		t.Errorf("kept are %v, %v", kept, err)
	}
}

// Without an address that is reached without TLS, the name is proven over TLS.
func TestACertificateIsProvenOverTLS(t *testing.T) {
	const name = "inktray.brackwater.example"
	authority := testbed.StartACME(t, "")
	o := openOffice(t, empty, func(s *serviceOptions) {
		s.acme, s.reached = authority.Directory, []string{"https://" + name}
	})
	at := strings.TrimPrefix(o.service.address(), "https://")
	authority.OverTLS = at
	c, err := tls.Dial("tcp", at, &tls.Config{ServerName: name, RootCAs: authority.Roots, MinVersion: tls.VersionTLS12})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if names := c.ConnectionState().PeerCertificates[0].DNSNames; authority.Given() != 1 || names[0] != name {
		t.Errorf("%d certificates were given, one for %v", authority.Given(), names)
	}
}

func TestWhatIsNoAuthorityForCertificates(t *testing.T) {
	for want, o := range map[string]serviceOptions{
		"say for which name":         {acme: "https://acme.example/directory"},
		"begins with https://":       {acme: "http://acme.example/directory", reached: []string{"https://a.example"}},
		"is a file or comes from":    {acme: "https://acme.example", certificate: "c", key: "k"},
		"for which name the":         {acme: "https://acme.example", reached: []string{"https://192.0.2.1"}},
		"is not an address by which": {acme: "https://acme.example", reached: []string{"a.example"}},
		"certificate or --acme":      {redirect: "127.0.0.1:80", listen: "127.0.0.1:0"},
	} {
		if o.certificate != "" {
			o.certificate, o.key = signed(t)
		}
		o.listen, o.log = "127.0.0.1:0", slog.New(slog.DiscardHandler)
		if _, _, err := o.transport(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}
