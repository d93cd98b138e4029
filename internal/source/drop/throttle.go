package drop

import (
	"net"
	"sync"
	"time"
)

const (
	mostWrong   = 5                // unknown addresses
	wrongWithin = 10 * time.Minute // and for so long nobody listens to who asked for them
	mostWatched = 10_000           // networks that are remembered
)

// throttle counts unknown addresses by the network that asks for them.
type throttle struct {
	clock func() time.Time
	mutex sync.Mutex
	seen  map[string]*guesses
}

type guesses struct {
	count int
	until time.Time
}

// network is what one sender has: an IPv4 address, or the half of an IPv6 address
// that is one customer's.
func network(ip net.IP) string {
	if four := ip.To4(); four != nil {
		return four.String()
	}
	if len(ip) == net.IPv6len {
		return ip.Mask(net.CIDRMask(64, 128)).String()
	}
	return ""
}

func (t *throttle) wrong(ip net.IP) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	now := t.clock()
	if len(t.seen) >= mostWatched {
		for n, g := range t.seen {
			if now.After(g.until) {
				delete(t.seen, n)
			}
		}
	}
	if t.seen == nil || len(t.seen) >= mostWatched {
		t.seen = map[string]*guesses{}
	}
	g := t.seen[network(ip)]
	if g == nil || now.After(g.until) {
		g = &guesses{}
		t.seen[network(ip)] = g
	}
	g.count++
	g.until = now.Add(wrongWithin)
}

func (t *throttle) barred(ip net.IP) bool {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	g := t.seen[network(ip)]
	return g != nil && g.count >= mostWrong && !t.clock().After(g.until)
}
