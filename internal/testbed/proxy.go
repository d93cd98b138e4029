package testbed

import (
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
)

// Serve starts an HTTP server on loopback and gives its address.
func Serve(t testing.TB, h http.Handler) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}

// StartProxy starts a proxy that gives connections to anyone who knows the password:
// "http" by CONNECT, "socks5" by RFC 1928 and RFC 1929. It tells how often it gave one.
func StartProxy(t testing.TB, kind, name, password string) (given func() int, address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var count atomic.Int64
	join := func(a, b net.Conn) {
		count.Add(1)
		go func() { io.Copy(a, b); a.Close() }()
		io.Copy(b, a)
		b.Close()
	}
	if kind == "http" {
		s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("Proxy-Authorization") != "Basic "+base64.StdEncoding.EncodeToString([]byte(name+":"+password)) {
				w.WriteHeader(http.StatusProxyAuthRequired)
				return
			}
			to, err := net.Dial("tcp", r.Host)
			if err != nil || r.Method != http.MethodConnect {
				w.WriteHeader(http.StatusBadGateway)
				return
			}
			// The answer is written only once the connection is taken over: else the
			// server may read the first byte of what follows it, and keep it.
			from, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				to.Close()
				return
			}
			io.WriteString(from, "HTTP/1.1 200 OK\r\n\r\n")
			join(from, to)
		})}
		go s.Serve(l)
		t.Cleanup(func() { s.Close() })
		return func() int { return int(count.Load()) }, l.Addr().String()
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				if to := socks(c, name, password); to != nil {
					join(c, to)
					return
				}
				c.Close()
			}()
		}
	}()
	return func() int { return int(count.Load()) }, l.Addr().String()
}

// socks goes through the greeting of a SOCKS client and gives the connection that it
// asks for; nil where it gets none.
func socks(c net.Conn, name, password string) net.Conn {
	read := func(n int) []byte {
		b := make([]byte, n)
		if _, err := io.ReadFull(c, b); err != nil {
			return make([]byte, n)
		}
		return b
	}
	read(int(read(2)[1]))
	c.Write([]byte{5, 2})
	read(1)
	who := string(read(int(read(1)[0])))
	if secret := string(read(int(read(1)[0]))); who != name || secret != password {
		c.Write([]byte{1, 1})
		return nil
	}
	c.Write([]byte{1, 0})
	host := ""
	switch read(4)[3] {
	case 1:
		host = net.IP(read(4)).String()
	case 3:
		host = string(read(int(read(1)[0])))
	default:
		return nil
	}
	port := read(2)
	to, err := net.Dial("tcp", net.JoinHostPort(host, fmt.Sprint(int(port[0])<<8|int(port[1]))))
	if err != nil {
		c.Write([]byte{5, 5, 0, 1, 0, 0, 0, 0, 0, 0})
		return nil
	}
	c.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
	return to
}
