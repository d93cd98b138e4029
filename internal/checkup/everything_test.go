package checkup

import (
	"crypto/tls"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/inbound"
	"inktray.example/inktray/internal/testbed"
)

// Looking at a certificate that an authority gives out by itself asks for no other than browsers get.
func TestTheCertificateIsTheOneThatBrowsersGet(t *testing.T) {
	const name = "inktray.brackwater.example"
	web := httptest.NewUnstartedServer(nil)
	authority := testbed.StartACME(t, strings.TrimPrefix(web.Listener.Addr().String(), "http://"))
	a, err := inbound.NewACME(inbound.ACMEConfig{Directory: authority.Directory, Names: []string{name},
		Folder: filepath.Join(t.TempDir(), "acme"), Failed: func(string, error) {}})
	if err != nil {
		t.Fatal(err)
	}
	web.Config.Handler = a.Answering(http.NotFoundHandler())
	web.Start()
	defer web.Close()
	l, err := tls.Listen("tcp", "127.0.0.1:0", a.Config())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_ = c.(*tls.Conn).Handshake()
			c.Close()
		}
	}()
	visitor, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{ServerName: name, RootCAs: authority.Roots,
		MinVersion: tls.VersionTLS12})
	if err != nil {
		t.Fatal(err)
	}
	visitor.Close()
	in := &Installation{TLS: a.Config(), Clock: time.Now, Reached: []*url.URL{{Scheme: "https", Host: name}}}
	if f := in.checkCertificate(t.Context()); f.State != Works {
		t.Errorf("%+v", f)
	}
	if authority.Given() != 1 {
		t.Errorf("%d certificates were given out", authority.Given())
	}
	in.Reached = append(in.Reached, &url.URL{Scheme: "https", Host: "other.example"})
	if f := in.checkCertificate(t.Context()); f.State != Wrong || !strings.Contains(f.Text, "other.example") {
		t.Errorf("a name that it is not for: %+v", f)
	}
	in.TLS = &tls.Config{MinVersion: tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return nil, errors.New("none is left") }}
	if f := in.checkCertificate(t.Context()); f.State != Wrong || !strings.Contains(f.Text, "none is left") ||
		f.Advice == "" {
		t.Errorf("no certificate: %+v", f)
	}
	in.TLS = nil
	if f := in.checkCertificate(t.Context()); f.State != Unused {
		t.Errorf("no TLS: %+v", f)
	}
}

func TestWhereMailForDropAddressesGoes(t *testing.T) {
	resolver, _ := testbed.StartDNS(t, testbed.Names{MX: map[string][]string{
		"drop.brackwater.example.": {"mail.brackwater.example.", "second.example."}, "none.example.": {"."}},
		A: map[string][4]byte{"alone.example.": {192, 0, 2, 7}}, Failing: map[string]bool{"ill.example.": true}})
	for domain, want := range map[string]Finding{
		"":                        {State: Unused, Text: "does not receive mail"},
		"drop.brackwater.example": {State: Works, Text: "goes to mail.brackwater.example"},
		"alone.example":           {State: Works, Text: "goes to 192.0.2.7"},
		"none.example":            {State: Wrong, Text: "receives no mail"},
		"nowhere.example":         {State: Wrong, Text: "no mail server can be found"},
		"ill.example":             {State: Wrong, Text: "no mail server can be found"},
	} {
		in := &Installation{DropDomain: domain, Resolver: resolver}
		f := in.checkDrop(t.Context())
		if f.State != want.State || !strings.Contains(f.Text, want.Text) || f.State == Wrong && f.Advice == "" {
			t.Errorf("%q: %+v, want %+v", domain, f, want)
		}
	}
}
