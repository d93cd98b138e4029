// Package inbound keeps anyone who connects from taking all connections: each host has a share of them, and so has the
// service as a whole.
package inbound

import (
	"net"
	"net/netip"
	"sync"
)

// Limits bound open connections.
type Limits struct {
	Total   int
	PerHost int    // of one address, or one network of IPv6 (/64); this machine itself counts only in Total
	Refusal string // what is said to one too many before its connection is closed
}

// Limit gives a listener that closes what is too much at once. Others go on being taken.
func Limit(l net.Listener, limits Limits) net.Listener {
	return &listener{Listener: l, limits: limits, hosts: map[string]int{}}
}

type listener struct {
	net.Listener
	limits Limits
	mutex  sync.Mutex
	total  int
	hosts  map[string]int
}

// Accept waits for a connection that may be taken.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, own := Host(c.RemoteAddr())
		if l.take(host, own) {
			return &conn{Conn: c, of: l, host: host}, nil
		}
		if l.limits.Refusal != "" {
			_, _ = c.Write([]byte(l.limits.Refusal)) // it fits into what the system buffers
		}
		_ = c.Close()
	}
}

// Host is what counts as one place of an address; own says that it is this machine.
func Host(a net.Addr) (host string, own bool) {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return a.String(), false
	}
	ip := at.Addr().Unmap().WithZone("")
	if ip.Is6() && !ip.IsLoopback() {
		if network, err := ip.Prefix(64); err == nil {
			return network.String(), false
		}
	}
	return ip.String(), ip.IsLoopback()
}

func (l *listener) take(host string, own bool) bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.total >= l.limits.Total || !own && l.hosts[host] >= l.limits.PerHost {
		return false
	}
	l.total++
	l.hosts[host]++
	return true
}

func (l *listener) leave(host string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.total--
	if l.hosts[host]--; l.hosts[host] == 0 {
		delete(l.hosts, host)
	}
}

type conn struct {
	net.Conn
	of   *listener
	host string
	once sync.Once
}

func (c *conn) Close() error {
	c.once.Do(func() { c.of.leave(c.host) })
	return c.Conn.Close()
}

// Shares bounds what several people do at once: each of them, and all together.
type Shares struct {
	Total, Each int
	mutex       sync.Mutex
	taken       int
	of          map[string]int
}

// Take takes a share for somebody; ok is false where there is none left. give gives it back; it may be called again.
func (s *Shares) Take(who string) (give func(), ok bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.taken >= s.Total || s.of[who] >= s.Each {
		return func() {}, false
	}
	if s.of == nil {
		s.of = map[string]int{}
	}
	s.taken++
	s.of[who]++
	return sync.OnceFunc(func() {
		s.mutex.Lock()
		defer s.mutex.Unlock()
		s.taken--
		if s.of[who]--; s.of[who] == 0 {
			delete(s.of, who)
		}
	}), true
}
