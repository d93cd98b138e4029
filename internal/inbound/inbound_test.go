package inbound

import (
	"io"
	"net"
	"sync"
	"testing"
	"time"
)

// from gives connections an address of their own.
type from struct {
	net.Listener
	mutex sync.Mutex
	hosts []string
}

type at struct {
	net.Conn
	addr net.Addr
}

func (a at) RemoteAddr() net.Addr { return a.addr }

func (f *from) Accept() (net.Conn, error) {
	c, err := f.Listener.Accept()
	if err != nil {
		return nil, err
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	host := f.hosts[0]
	f.hosts = f.hosts[1:]
	return at{c, &net.TCPAddr{IP: net.ParseIP(host), Port: 1}}, nil
}

func TestOneHostDoesNotTakeAllConnections(t *testing.T) {
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	f := &from{Listener: plain}
	l := Limit(f, Limits{Total: 5, PerHost: 2, Refusal: "421 too many\r\n"})
	taken := make(chan net.Conn, 10)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			taken <- c
		}
	}()
	come := func(host string, in bool) net.Conn {
		t.Helper()
		f.mutex.Lock()
		f.hosts = append(f.hosts, host)
		f.mutex.Unlock()
		c, err := net.Dial("tcp", plain.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		if in {
			select {
			case one := <-taken:
				return one
			case <-time.After(10 * time.Second):
				t.Fatalf("%s is not let in", host)
			}
		}
		c.SetReadDeadline(time.Now().Add(10 * time.Second))
		if said, err := io.ReadAll(c); err != nil || string(said) != "421 too many\r\n" {
			t.Errorf("%s is told %q, %v", host, said, err)
		}
		return nil
	}
	first := come("192.0.2.1", true)
	come("192.0.2.1", true)
	come("192.0.2.1", false)
	come("2001:db8::1", true)
	come("2001:db8::2", true)
	come("2001:db8::3", false) // the same network
	come("127.0.0.1", true)
	come("192.0.2.9", false) // the total
	first.Close()
	first.Close() // counts once
	come("192.0.2.9", true)
	come("192.0.2.7", false)
}

func TestSharesAreGivenBackOnce(t *testing.T) {
	s := Shares{Total: 3, Each: 2}
	a, ok := s.Take("a")
	_, again := s.Take("a")
	_, third := s.Take("a")
	_, other := s.Take("b")
	_, full := s.Take("c")
	if !ok || !again || third || !other || full {
		t.Error(ok, again, third, other, full)
	}
	a()
	a()
	if _, ok := s.Take("c"); !ok {
		t.Error("what was given back is not there")
	}
	if _, ok := s.Take("c"); ok {
		t.Error("it was given back twice")
	}
}
