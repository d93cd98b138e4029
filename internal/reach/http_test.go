package reach

import (
	"errors"
	"io"
	"net"
	"os"
	"testing"
	"time"
)

// Whoever sends for long waits for the answer as long, and not for ever once nothing
// is sent any more.
func TestPatienceLastsWhileSomethingIsSent(t *testing.T) {
	a, b := net.Pipe()
	defer b.Close()
	p := NewPatient(a, 100*time.Millisecond)
	defer p.Close()
	go io.Copy(io.Discard, b)
	read := make(chan error, 1)
	began := time.Now()
	go func() {
		_, err := p.Read(make([]byte, 1))
		read <- err
	}()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for range 20 { // four times as long as the patience
		<-tick.C
		if _, err := p.Write([]byte("x")); err != nil {
			t.Fatal(err)
		}
	}
	sent := time.Since(began)
	if err := <-read; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("the reading ended with %v", err)
	}
	if waited := time.Since(began); waited < sent {
		t.Errorf("it was given up after %v, though something was sent for %v", waited, sent)
	}
}

func TestAddressesOfServers(t *testing.T) {
	for in, want := range map[string]string{
		"https://files.brackwater.example/dav/harbour/": "files.brackwater.example:443 tls /dav/harbour " +
			"https://files.brackwater.example",
		"http://127.0.0.1:8080": "127.0.0.1:8080 none  http://127.0.0.1:8080",
		"sftp://files.brackwater.example:2222/~/h%C3%A4fen": "files.brackwater.example:2222 none /~/h\u00e4fen " +
			"http://files.brackwater.example:2222",
		"https://[::1]/x": "[::1]:443 tls /x https://[::1]",
		"ftp://files.brackwater.example": "the address begins with ftp://, but must begin with https:// or " +
			"http:// or sftp://",
		"files.brackwater.example/dav": `"files.brackwater.example/dav" is not an address of a server; write it as https://files.brackwater.example/folder`,
		"https://ines:pw@files.brackwater.example/": "name and password have fields of their own: leave them out of the " +
			"address",
		"https://files.brackwater.example/?x=1":   "the address ends with ? or #: leave out what follows",
		"https://files.brackwater.example:99999/": `"99999" is not a port`,
	} {
		server, path, err := ParseURL(in, "https", "http", "sftp")
		u := server.URL()
		got := server.Address() + " " + string(server.Encryption) + " " + path + " " + u.String()
		if err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
}
