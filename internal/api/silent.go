package api

import (
	"net"
	"sync"
	"sync/atomic"
)

// listener knows the connections over which nothing was asked yet. Browsers open
// such ones in advance; the server takes them for busy ones, and its end would wait
// for them.
type listener struct {
	net.Listener
	mu    sync.Mutex
	conns map[*conn]struct{}
}

type conn struct {
	net.Conn
	of   *listener
	said atomic.Bool
}

func listen(l net.Listener) *listener { return &listener{Listener: l, conns: map[*conn]struct{}{}} }

func (l *listener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	ours := &conn{Conn: c, of: l}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.conns[ours] = struct{}{}
	return ours, nil
}

func (c *conn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if n > 0 && !c.said.Swap(true) {
		c.of.forget(c)
	}
	return n, err
}

func (c *conn) Close() error {
	c.of.forget(c)
	return c.Conn.Close()
}

func (l *listener) forget(c *conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.conns, c)
}

// closeSilent closes the connections over which nothing was asked.
func (l *listener) closeSilent() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		_ = c.Conn.Close() // the server reads the end of it
	}
}
