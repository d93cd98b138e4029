package inbound

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// Certificate gives the certificate that lies in two files, and the new one once they have changed. While the new one
// cannot be read, such as in the midst of its renewal, the former stays. Its methods may be called by several
// goroutines at once.
type Certificate struct {
	certificate, key string // files, PEM

	mutex   sync.Mutex
	pair    *tls.Certificate
	changed [2]time.Time // when the files were changed that were read
	looked  time.Time
	failed  func(error) // is told why the files cannot be used
	told    bool        // that they cannot
}

// between is how often it is looked at most whether the files have changed.
const between = time.Second

// ReadCertificate reads a certificate and its key. The error says what is wrong with them; failed is told once where
// they cannot be used later.
func ReadCertificate(certificate, key string, failed func(error)) (*Certificate, error) {
	c := &Certificate{certificate: certificate, key: key, failed: failed}
	if err := c.read(); err != nil {
		return nil, err
	}
	return c, nil
}

// Config is for a server that speaks TLS 1.2 or later (RFC 8996).
func (c *Certificate) Config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		c.mutex.Lock()
		defer c.mutex.Unlock()
		if time.Since(c.looked) > between {
			c.look()
		}
		return c.pair, nil
	}}
}

// look reads the files if they have changed. The mutex is held.
func (c *Certificate) look() {
	err := c.read()
	if err != nil && !c.told {
		c.failed(err)
	}
	c.told = err != nil
}

// read reads the files if they have changed. The mutex is held, or nobody else knows c yet.
func (c *Certificate) read() error {
	c.looked = time.Now()
	var changed [2]time.Time
	for i, name := range []string{c.certificate, c.key} {
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		changed[i] = info.ModTime()
	}
	if c.pair != nil && changed == c.changed {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.certificate, c.key)
	if err != nil {
		return fmt.Errorf("reading %s and %s: %w", c.certificate, c.key, err)
	}
	c.pair, c.changed = &pair, changed
	return nil
}
