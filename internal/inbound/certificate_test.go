package inbound

import (
	"bytes"
	"crypto/tls"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/testbed"
)

// issue writes a certificate and its key into files, which are then as old as said, and gives the certificate.
func issue(t *testing.T, folder string, changed time.Time) (certificate []byte) {
	t.Helper()
	text, key, _ := testbed.Certificate(t, net.IPv4(127, 0, 0, 1))
	for name, content := range map[string][]byte{"cert.pem": text, "key.pem": key} {
		name = filepath.Join(folder, name)
		if err := os.WriteFile(name, content, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(name, changed, changed); err != nil {
			t.Fatal(err)
		}
	}
	block, _ := pem.Decode(text)
	return block.Bytes
}

// A renewed certificate is given without a new start, and the former one as long as the new one cannot be read, which
// is told once.
func TestARenewedCertificateIsGivenWithoutANewStart(t *testing.T) {
	folder, now, told := t.TempDir(), time.Now(), 0
	failed := func(error) { told++ }
	file, key := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	if _, err := ReadCertificate(file, key, failed); err == nil {
		t.Error("a certificate was read that is not there")
	}
	first := issue(t, folder, now)
	c, err := ReadCertificate(file, key, failed)
	if err != nil {
		t.Fatal(err)
	}
	given := func() []byte {
		t.Helper()
		c.mutex.Lock()
		c.looked = time.Time{} // the next one looks
		c.mutex.Unlock()
		pair, err := c.Config().GetCertificate(&tls.ClientHelloInfo{})
		if err != nil {
			t.Fatal(err)
		}
		return pair.Certificate[0]
	}
	if !bytes.Equal(given(), first) {
		t.Error("it is not the certificate that lies there")
	}
	if err := os.WriteFile(file, []byte("half of"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, now.Add(time.Minute), now.Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if again, more := given(), given(); !bytes.Equal(again, first) || !bytes.Equal(more, first) || told != 1 {
		t.Errorf("in the midst of a renewal it is another one, or that was told %d times", told)
	}
	second := issue(t, folder, now.Add(2*time.Minute))
	if !bytes.Equal(given(), second) || told != 1 {
		t.Errorf("after the renewal it is the former one; it was told %d times", told)
	}
}
