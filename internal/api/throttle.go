package api

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/store"
)

// How many wrong tries are free, before each further one doubles the time to wait.
const (
	freeTries       = 2   // of one name from one place
	freeTriesByName = 30  // of one name from anywhere
	freeTriesFrom   = 100 // of any names from one place: an office may share one
)

// longestWait is the longest time to wait after wrong tries; what is older is forgotten.
const longestWait = 15 * time.Minute

// mostTries bounds how many names and places are remembered.
const mostTries = 10_000

// throttle slows down guessing: each wrong try after the free ones doubles the time to wait.
type throttle struct {
	clock func() time.Time
	mutex sync.Mutex
	tries map[string]*tries
}

type tries struct {
	failures int
	last     time.Time
	until    time.Time
}

func newThrottle(clock func() time.Time) *throttle {
	return &throttle{clock: clock, tries: map[string]*tries{}}
}

func (t *throttle) wait(key string) time.Duration {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if one := t.tries[key]; one != nil {
		return min(one.until.Sub(t.clock()), longestWait) // also where the clock was put back
	}
	return 0
}

func (t *throttle) failed(key string, free int) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	now := t.clock()
	if len(t.tries) >= mostTries { // somebody tries many names, or from many places
		for k, one := range t.tries {
			if one.until.Before(now) && now.Sub(one.last) > longestWait {
				delete(t.tries, k)
			}
		}
		for k := range t.tries { // any: who fills the memory forgets his own as well
			if len(t.tries) < mostTries {
				break
			}
			delete(t.tries, k)
		}
	}
	one := t.tries[key]
	if one == nil || now.Sub(one.last) > time.Hour {
		one = &tries{}
		t.tries[key] = one
	}
	one.last = now
	if one.failures++; one.failures > free {
		one.until = now.Add(min(time.Second<<min(one.failures-free, 20), longestWait))
	}
}

func (t *throttle) succeeded(key string) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	delete(t.tries, key)
}

func tooMany(wait time.Duration) error {
	return &problem{status: 429, kind: "too-many-tries", text: "there were too many wrong tries",
		advice: fmt.Sprintf("Wait %d seconds, then try again.", int(wait.Seconds())+1)}
}

// turns lets few do what takes much memory, lets some wait for a short time, and refuses more.
type turns struct {
	free    chan struct{}
	waiting atomic.Int64
	queue   int64
	most    time.Duration
}

func newTurns(atOnce, queue int, most time.Duration) *turns {
	return &turns{free: make(chan struct{}, atOnce), queue: int64(queue), most: most}
}

func (t *turns) do(ctx context.Context, f func()) error {
	busy := &problem{status: 429, kind: "busy", text: "too many people sign in at the same moment",
		advice: "Try again in a few seconds."}
	if t.waiting.Add(1) > t.queue {
		t.waiting.Add(-1)
		return busy
	}
	patience := time.NewTimer(t.most)
	defer patience.Stop()
	select {
	case t.free <- struct{}{}:
		t.waiting.Add(-1)
	case <-patience.C:
		t.waiting.Add(-1)
		return busy
	case <-ctx.Done():
		t.waiting.Add(-1)
		return ctx.Err()
	}
	defer func() { <-t.free }()
	f()
	return nil
}

// browserLife is for how long a browser in which somebody signed in is known again.
const browserLife = 180 * 24 * time.Hour

// browserKey is the setting with the key under which such browsers are marked.
const browserKey = "browser-key"

// markOf makes the mark of a browser in which a person signed in. It lets nobody in: wrong tries count apart.
func (s *Server) markOf(ctx context.Context, p store.Person) (string, error) {
	key, err := s.Store.Settings.GetOr(ctx, browserKey, func() string { return rand.Text() + rand.Text() })
	if err != nil {
		return "", err
	}
	nonce := rand.Text()
	return nonce + "." + mark(key, nonce, p), nil
}

// knows says whether a mark was made for a person, with the password she has now.
func (s *Server) knows(ctx context.Context, shown string, p store.Person) (bool, error) {
	nonce, signed, ok := strings.Cut(shown, ".")
	if !ok || p.ID == "" {
		return false, nil
	}
	key, err := s.Store.Settings.Get(ctx, browserKey)
	return err == nil && key != "" && hmac.Equal([]byte(signed), []byte(mark(key, nonce, p))), err
}

func mark(key, nonce string, p store.Person) string {
	h := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(h, "%q %q %q", nonce, p.ID, p.Password)
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil))
}

// from is the place that a request came from: an address, or the network of one home or office (RFC 6177: /64).
// A web server in front that passes requests on says for whom: one that was named, or one on this machine.
func (s *Server) from(c fiber.Ctx) string {
	peer, err := netip.ParseAddr(c.IP())
	if err != nil {
		return c.IP()
	}
	peer = peer.Unmap()
	for _, said := range slices.Backward(forwarded(c.Get("Forwarded"), c.Get("X-Forwarded-For"))) {
		if !s.trusts(peer) {
			break
		}
		one, err := netip.ParseAddr(said)
		if err != nil { // "unknown", or a name of its own (RFC 7239, section 6)
			break
		}
		peer = one.Unmap()
	}
	if peer.Is6() {
		if network, err := peer.WithZone("").Prefix(64); err == nil {
			return network.String()
		}
	}
	return peer.String()
}

// trusts says whether an address is that of a web server in front.
func (s *Server) trusts(peer netip.Addr) bool {
	return peer.IsLoopback() && len(s.Reached) > 0 ||
		slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(peer) })
}

// forwarded lists for whom web servers in front say that they ask, the nearest last: by the field Forwarded (RFC 7239),
// else by X-Forwarded-For. Ports and brackets are left out.
func forwarded(standard, usual string) (all []string) {
	list := strings.Split(usual, ",")
	if standard != "" {
		list = nil
		for element := range strings.SplitSeq(standard, ",") {
			said := ""
			for pair := range strings.SplitSeq(element, ";") {
				if name, value, ok := strings.Cut(strings.TrimSpace(pair), "="); ok && strings.EqualFold(name, "for") {
					said = strings.Trim(value, `"`)
				}
			}
			list = append(list, said)
		}
	}
	for _, said := range list {
		said = strings.TrimSpace(said)
		if host, _, err := net.SplitHostPort(said); err == nil {
			said = host
		}
		if said = strings.Trim(said, "[]"); said != "" {
			all = append(all, said)
		}
	}
	return all
}

// failures counts failed sign-ins within an hour.
type failures struct {
	mutex sync.Mutex
	since time.Time
	n     int
}

// mostFailures is how many failed sign-ins of an hour stand in the audit trail: nobody may take lines out of it, so
// strangers must not fill the disk with them. The log has the others.
const mostFailures = 1000

// next counts one more.
func (f *failures) next(now time.Time) int {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if now.Sub(f.since).Abs() > time.Hour {
		f.since, f.n = now, 0
	}
	f.n++
	return f.n
}

// noteFailure writes down that somebody did not get in.
func (s *Server) noteFailure(ctx context.Context, name string) {
	from, object := decisionOf(ctx).from, ""
	s.Log.Info("somebody did not get in", "name", name, "place", from)
	switch n := s.failures.next(s.Clock()); {
	case n > mostFailures:
		s.Log.Warn("a failed sign-in", "name", name, "place", from)
		return
	case n == mostFailures:
		object = "more of this hour are in the log"
	}
	if err := s.Store.Trail.Note(ctx, name, "failed sign-in", object); err != nil {
		s.Log.Error("a failed sign-in is not in the audit trail", "name", name, "from", from, "error", err)
	}
}
