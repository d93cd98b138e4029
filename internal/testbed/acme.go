package testbed

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// ACME is a small authority that gives out certificates by itself (RFC 8555), for one account and one name in each
// order. It proves a name by http-01, over the address at which names are reached, or by tls-alpn-01.
type ACME struct {
	OverTLS   string // host and port at which every name is proven by tls-alpn-01 (RFC 8737); "" for http-01
	Directory string
	Roots     *x509.CertPool
	Lasts     time.Duration // how long its certificates are good
	Refuses   bool          // it proves nothing

	t      testing.TB
	reach  string // host and port at which every name is reached without TLS
	ca     *x509.Certificate
	key    *ecdsa.PrivateKey
	server *httptest.Server

	mutex   sync.Mutex
	account *jose.JSONWebKey
	nonces  map[string]bool
	orders  []*acmeOrder
	given   int
}

type acmeOrder struct {
	name, token, status string
	certificate         []byte
}

// StartACME starts the authority on loopback. reach is the host and port at which names are reached without TLS.
func StartACME(t testing.TB, reach string) *ACME {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Brackwater authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	ca, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	a := &ACME{t: t, reach: reach, ca: ca, key: key, Roots: x509.NewCertPool(), nonces: map[string]bool{},
		Lasts: 90 * 24 * time.Hour}
	a.Roots.AddCert(ca)
	a.server = httptest.NewServer(http.HandlerFunc(a.answer))
	a.Directory = a.server.URL + "/directory"
	t.Cleanup(a.server.Close)
	return a
}

// Given counts the certificates that were given out.
func (a *ACME) Given() int { a.mutex.Lock(); defer a.mutex.Unlock(); return a.given }

// PEM is the authority's own certificate.
func (a *ACME) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.ca.Raw})
}

func (a *ACME) answer(w http.ResponseWriter, r *http.Request) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	nonce := rand.Text()
	a.nonces[nonce] = true
	w.Header().Set("Replay-Nonce", nonce)
	at := a.server.URL
	say := func(status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	if r.Method != http.MethodPost {
		say(200, map[string]string{"newNonce": at + "/nonce", "newAccount": at + "/account", "newOrder": at + "/order"})
		return
	}
	payload, err := a.read(r)
	if err != nil {
		say(400, map[string]string{"type": "urn:ietf:params:acme:error:malformed", "detail": err.Error()})
		return
	}
	var n int
	switch {
	case r.URL.Path == "/account":
		w.Header().Set("Location", at+"/account/1")
		say(201, map[string]string{"status": "valid"})
	case r.URL.Path == "/order":
		var asked struct {
			Identifiers []struct{ Value string }
		}
		if json.Unmarshal(payload, &asked) != nil || len(asked.Identifiers) != 1 {
			say(400, map[string]string{"type": "urn:ietf:params:acme:error:malformed"})
			return
		}
		a.orders = append(a.orders, &acmeOrder{name: asked.Identifiers[0].Value, token: rand.Text(), status: "pending"})
		n = len(a.orders) - 1
		w.Header().Set("Location", fmt.Sprint(at, "/order/", n))
		say(201, a.order(n))
	case a.of(r.URL.Path, "/order/%d", &n):
		w.Header().Set("Location", fmt.Sprint(at, "/order/", n))
		say(200, a.order(n))
	case a.of(r.URL.Path, "/proof/%d", &n):
		say(200, a.proof(n))
	case a.of(r.URL.Path, "/challenge/%d", &n):
		a.prove(a.orders[n])
		say(200, a.challenge(n))
	case a.of(r.URL.Path, "/finish/%d", &n):
		a.sign(a.orders[n], payload)
		w.Header().Set("Location", fmt.Sprint(at, "/order/", n))
		say(200, a.order(n))
	case a.of(r.URL.Path, "/certificate/%d", &n):
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		_, _ = w.Write(a.orders[n].certificate)
	default:
		say(404, map[string]string{"type": "urn:ietf:params:acme:error:malformed"})
	}
}

func (a *ACME) of(path, form string, n *int) bool {
	_, err := fmt.Sscanf(path, form, n)
	return err == nil && *n >= 0 && *n < len(a.orders)
}

// read proves a request: signed by the account's key, with a nonce that was not used before (RFC 8555, section 6).
func (a *ACME) read(r *http.Request) ([]byte, error) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	signed, err := jose.ParseSigned(string(body), []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
	if err != nil {
		return nil, err
	}
	head := signed.Signatures[0].Protected
	if !a.nonces[head.Nonce] {
		return nil, fmt.Errorf("the nonce %q is not known, or was used", head.Nonce)
	}
	delete(a.nonces, head.Nonce)
	if head.JSONWebKey != nil {
		a.account = head.JSONWebKey
	}
	if a.account == nil {
		return nil, fmt.Errorf("there is no account")
	}
	return signed.Verify(a.account)
}

func (a *ACME) order(n int) map[string]any {
	o := a.orders[n]
	out := map[string]any{"status": o.status, "identifiers": []map[string]string{{"type": "dns", "value": o.name}},
		"authorizations": []string{fmt.Sprint(a.server.URL, "/proof/", n)},
		"finalize":       fmt.Sprint(a.server.URL, "/finish/", n)}
	if o.status == "valid" {
		out["certificate"] = fmt.Sprint(a.server.URL, "/certificate/", n)
	}
	return out
}

func (a *ACME) proof(n int) map[string]any {
	o := a.orders[n]
	status := map[string]string{"pending": "pending", "invalid": "invalid"}[o.status]
	if status == "" {
		status = "valid"
	}
	return map[string]any{"status": status, "identifier": map[string]string{"type": "dns", "value": o.name},
		"challenges": []any{a.challenge(n)}}
}

func (a *ACME) challenge(n int) map[string]any {
	o := a.orders[n]
	status := map[string]string{"pending": "pending", "invalid": "invalid"}[o.status]
	if status == "" {
		status = "valid"
	}
	kind := "http-01"
	if a.OverTLS != "" {
		kind = "tls-alpn-01"
	}
	return map[string]any{"type": kind, "url": fmt.Sprint(a.server.URL, "/challenge/", n), "token": o.token,
		"status": status}
}

// prove fetches the answer that only whoever holds the account's key, at the name, can give (section 8.3).
func (a *ACME) prove(o *acmeOrder) {
	o.status = "invalid"
	if a.Refuses {
		return
	}
	sum, err := a.account.Thumbprint(crypto.SHA256)
	if err != nil {
		return
	}
	if a.OverTLS != "" {
		if a.provenOverTLS(o.name, o.token+"."+base64.RawURLEncoding.EncodeToString(sum)) {
			o.status = "ready"
		}
		return
	}
	r, err := http.NewRequestWithContext(a.t.Context(), http.MethodGet, "http://"+a.reach+"/.well-known/acme-challenge/"+
		o.token, nil)
	if err != nil {
		return
	}
	r.Host = o.name
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	if err == nil && string(said) == o.token+"."+base64.RawURLEncoding.EncodeToString(sum) {
		o.status = "ready"
	}
}

// provenOverTLS looks at the certificate that whoever holds the account's key shows for a name (RFC 8737, section 3).
func (a *ACME) provenOverTLS(name, authorization string) bool {
	c, err := tls.Dial("tcp", a.OverTLS, &tls.Config{ServerName: name, NextProtos: []string{"acme-tls/1"},
		InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}) // it is signed by itself
	if err != nil {
		return false
	}
	defer c.Close()
	state := c.ConnectionState()
	if state.NegotiatedProtocol != "acme-tls/1" || len(state.PeerCertificates) != 1 {
		return false
	}
	shown := state.PeerCertificates[0]
	sum := sha256.Sum256([]byte(authorization))
	want, err := asn1.Marshal(sum[:])
	return err == nil && slices.Equal(shown.DNSNames, []string{name}) &&
		slices.ContainsFunc(shown.Extensions, func(e pkix.Extension) bool {
			return e.Critical && e.Id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}) && bytes.Equal(e.Value, want)
		})
}

func (a *ACME) sign(o *acmeOrder, payload []byte) {
	var asked struct{ CSR string }
	if o.status != "ready" || json.Unmarshal(payload, &asked) != nil {
		return
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.CSR)
	if err != nil {
		return
	}
	request, err := x509.ParseCertificateRequest(der)
	if err != nil || request.CheckSignature() != nil {
		return
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(int64(a.given) + 2), DNSNames: []string{o.name},
		NotBefore: time.Now().Add(-time.Minute), NotAfter: time.Now().Add(a.Lasts), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	leaf, err := x509.CreateCertificate(rand.Reader, template, a.ca, request.PublicKey, a.key)
	if err != nil {
		return
	}
	a.given++
	o.status = "valid"
	o.certificate = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf}), a.PEM()...)
}
