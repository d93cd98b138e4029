package testbed

import (
	"io"
	"net"
	"sync"
	"testing"
)

// Wire is a connection to a server that can be cut: then nothing gets through, and nobody is told.
type Wire struct {
	Address string

	mutex sync.Mutex
	way   *sync.Cond
	cut   bool
}

// StartWire leads to a server.
func StartWire(t testing.TB, to string) *Wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &Wire{Address: l.Addr().String()}
	w.way = sync.NewCond(&w.mutex)
	t.Cleanup(func() { l.Close(); w.Cut(false) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				s, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer s.Close()
				go w.carry(s, c)
				w.carry(c, s)
			}()
		}
	}()
	return w
}

// Cut lets nothing through any more, or everything again.
func (w *Wire) Cut(is bool) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.cut = is
	w.way.Broadcast()
}

func (w *Wire) carry(to, from net.Conn) {
	defer to.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		w.mutex.Lock()
		for w.cut {
			w.way.Wait()
		}
		w.mutex.Unlock()
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			if err != io.EOF {
				from.Close()
			}
			return
		}
	}
}
