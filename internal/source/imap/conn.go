package imap

import (
	"errors"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Bounds on what a server may send outside literals before its answer reaches
// the parser, which recurses and can exhaust the stack.
const (
	maxNesting = 100
	maxLine    = 8 << 20
)

var errHostile = errors.New("the server's answer is nested too deeply or has no end")

// guard wraps a connection: each write, and each read during an exchange, has a deadline of its own, errors stick, and
// what is outside literals is bounded. Between exchanges the connection may rest for as long as its user takes.
type guard struct {
	net.Conn
	mutex   sync.Mutex   // over the deadline of reads, which an exchange sets while a read waits
	running int          // exchanges
	timeout atomic.Int64 // of one read, in nanoseconds
	failed  atomic.Pointer[error]
	read    atomic.Int64 // octets, for measurements
	mender  *mender
	raw     []byte // where octets are read into
	mended  []byte // what the parser has not read yet

	head    []byte // how the line begins
	bye     atomic.Pointer[string]
	line    int
	depth   int
	quoted  bool
	escaped bool
	number  int64 // digits after "{", -1 where none are open
	closed  bool  // "}" was seen
	literal int64 // octets of a literal still to come
}

// newGuard wraps a connection; timeout is that of one read.
func newGuard(conn net.Conn, timeout time.Duration) *guard {
	g := &guard{Conn: conn, number: -1, mender: newMender(), running: 1} // the greeting and signing in
	g.timeout.Store(int64(timeout))
	return g
}

// begin says that the server has to answer from now on.
func (g *guard) begin() { g.count(1) }

// end says that an exchange is over.
func (g *guard) end() { g.count(-1) }

func (g *guard) count(by int) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.running += by
	_ = g.limit() // a connection that is closed says so when it is read
}

// limit sets the deadline of the read that waits, or of the next one. The mutex is held.
func (g *guard) limit() error {
	if g.running == 0 {
		return g.Conn.SetReadDeadline(time.Time{})
	}
	return g.Conn.SetReadDeadline(time.Now().Add(time.Duration(g.timeout.Load())))
}

func (g *guard) Read(p []byte) (int, error) {
	for len(g.mended) == 0 {
		if err := g.failed.Load(); err != nil {
			return 0, *err
		}
		if err := g.fill(len(p)); err != nil {
			g.failed.CompareAndSwap(nil, &err)
			if len(g.mended) == 0 {
				return 0, err
			}
		}
	}
	n := copy(p, g.mended)
	g.mended = g.mended[n:]
	return n, nil
}

// fill reads from the connection and mends what came.
func (g *guard) fill(most int) error {
	g.mutex.Lock()
	err := g.limit()
	g.mutex.Unlock()
	if err != nil {
		return err
	}
	if cap(g.raw) < most {
		g.raw = make([]byte, most)
	}
	raw := g.raw[:max(most, 1)]
	n, err := g.Conn.Read(raw)
	g.read.Add(int64(n))
	raw, g.mended = raw[:n], g.mended[:0]
	step := len(raw)
	if g.mender.awaits() { // after the answer it may go on otherwise, in the midst of what was read
		step = 1
	}
	for len(raw) > 0 {
		some := raw[:min(step, len(raw))]
		raw = raw[len(some):]
		if hostile := g.scan(some); hostile != nil {
			return hostile
		}
		g.mended = g.mender.feed(some, g.mended)
		if g.mender.switched {
			g.mender.switched = false
			g.Conn = newDeflated(g.Conn, raw)
			g.mender.told()
			return err
		}
	}
	return err
}

// lost says why the connection ended, nil where it did not, or where only this side
// ended it, as the parser does with an answer that it cannot read.
func (g *guard) lost() error {
	err := g.failed.Load()
	if err == nil || errors.Is(*err, net.ErrClosed) || errors.Is(*err, errHostile) {
		return nil
	}
	return *err
}

func (g *guard) Write(p []byte) (int, error) {
	if err := g.Conn.SetWriteDeadline(time.Now().Add(time.Minute)); err != nil {
		return 0, err
	}
	return g.Conn.Write(p)
}

// The deadlines are the guard's own.
func (g *guard) SetDeadline(time.Time) error      { return nil }
func (g *guard) SetReadDeadline(time.Time) error  { return nil }
func (g *guard) SetWriteDeadline(time.Time) error { return nil }

// scan follows the grammar just as far as to tell literals from lines
// (RFC 9051 section 4.3).
func (g *guard) scan(p []byte) error {
	for len(p) > 0 {
		if g.literal > 0 {
			n := min(g.literal, int64(len(p)))
			g.literal -= n
			p = p[n:]
			continue
		}
		c := p[0]
		p = p[1:]
		if len(g.head) < 200 && c != '\r' && c != '\n' {
			g.head = append(g.head, c)
		}
		if g.line++; g.line > maxLine {
			return errHostile
		}
		if c == '\n' {
			if g.closed && g.number > 0 {
				g.literal = g.number
			}
			if !g.closed {
				g.depth = 0
				if text, ok := strings.CutPrefix(string(g.head), "* BYE "); ok {
					g.bye.Store(&text)
				}
			}
			g.head = g.head[:0]
			g.line, g.quoted, g.number, g.closed = 0, false, -1, false
			continue
		}
		if c == '\r' {
			continue
		}
		if g.quoted {
			switch {
			case g.escaped:
				g.escaped = false
			case c == '\\':
				g.escaped = true
			case c == '"':
				g.quoted = false
			}
			continue
		}
		wasNumber := g.number
		g.closed = false
		g.number = -1
		switch {
		case c == '"':
			g.quoted = true
		case c == '(':
			if g.depth++; g.depth > maxNesting {
				return errHostile
			}
		case c == ')':
			g.depth = max(0, g.depth-1)
		case c == '{':
			g.number = 0
		case c >= '0' && c <= '9' && wasNumber >= 0 && wasNumber < 1<<40:
			g.number = wasNumber*10 + int64(c-'0')
		case c == '+' && wasNumber >= 0:
			g.number = wasNumber
		case c == '}' && wasNumber >= 0:
			g.number, g.closed = wasNumber, true
		}
	}
	return nil
}

// farewell is what the server said when it ended the connection, for the end of a
// sentence.
func (g *guard) farewell() string {
	if text := g.bye.Load(); text != nil {
		return "; it said: " + strings.TrimSpace(*text)
	}
	return ""
}
