package inbound

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// issue writes a certificate with a number, and its key.
func issue(t *testing.T, folder string, number int64) (certificate, key string) {
	t.Helper()
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: "inktray.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"inktray.example"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &secret.PublicKey, secret)
	if err != nil {
		t.Fatal(err)
	}
	hidden, err := x509.MarshalECPrivateKey(secret)
	if err != nil {
		t.Fatal(err)
	}
	certificate, key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	for name, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: der},
		key: {Type: "EC PRIVATE KEY", Bytes: hidden}} {
		if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return certificate, key
}

// A renewed certificate is given without a new start, and the former one as long as the new one cannot be read.
func TestARenewedCertificateIsGivenWithoutANewStart(t *testing.T) {
	folder := t.TempDir()
	if _, err := ReadCertificate(filepath.Join(folder, "none"), filepath.Join(folder, "none")); err == nil {
		t.Error("a certificate was read that is not there")
	}
	certificate, key := issue(t, folder, 1)
	c, err := ReadCertificate(certificate, key)
	if err != nil {
		t.Fatal(err)
	}
	number := func() int64 {
		t.Helper()
		c.mutex.Lock()
		c.looked = time.Time{} // the next one looks
		c.mutex.Unlock()
		pair, err := c.Config().GetCertificate(&tls.ClientHelloInfo{})
		if err != nil {
			t.Fatal(err)
		}
		return pair.Leaf.SerialNumber.Int64()
	}
	if n := number(); n != 1 {
		t.Errorf("the certificate is number %d, want 1", n)
	}
	later := time.Now().Add(time.Minute)
	if err := os.WriteFile(certificate, []byte("half of"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(certificate, later, later); err != nil {
		t.Fatal(err)
	}
	if n := number(); n != 1 || c.Failed() == nil {
		t.Errorf("in the midst of a renewal it is number %d, and the fault is %v", n, c.Failed())
	}
	issue(t, folder, 2)
	if n := number(); n != 2 || c.Failed() != nil {
		t.Errorf("after the renewal it is number %d, and the fault is %v", n, c.Failed())
	}
}
