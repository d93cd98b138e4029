package imap

import (
	"bytes"
	"compress/flate"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"
	"unicode/utf16"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/source"
)

// The library has no commands of one's own. Commands that it does not know are written past it, while it writes
// nothing, and their answers are kept from it: they alone have a tag that begins with an X.

// answer is a tagged answer to a command of ours.
type answer struct{ status, text string }

// say sends a command past the library and waits for its answer. An error says that the connection is of no more use.
func say(ctx context.Context, s *Session, command string) (answer, error) {
	var a answer
	err := s.run(ctx, func() error {
		answered := s.guard.expect()
		if _, err := s.guard.Write([]byte("X1 " + command + "\r\n")); err != nil {
			return err
		}
		select {
		case a = <-answered:
			return nil
		case <-s.client.Closed():
			if err := s.guard.lost(); err != nil {
				return err
			}
			return io.ErrUnexpectedEOF
		}
	})
	if err != nil && ctx.Err() == nil {
		blame(s, command)
	}
	return a, err
}

// blamed are commands over which a server ended the connection though it says that it knows them, and since when. It is
// not asked again for a while, so that the mailbox is read as before it had them.
var blamed sync.Map // of a server's address and the command's first word: time.Time

const forgiven = time.Hour

func blame(s *Session, command string) { blamed.Store(blamable(s, command), time.Now()) }

func blamable(s *Session, command string) string {
	word, _, _ := strings.Cut(command, " ")
	return s.config.Address() + " " + word
}

// blames says whether the server ended a connection over a command lately.
func blames(s *Session, command string) bool {
	since, is := blamed.Load(blamable(s, command))
	return is && time.Since(since.(time.Time)) < forgiven
}

// expect prepares for the answer to a command of ours.
func (g *guard) expect() <-chan answer {
	answered := make(chan answer, 1)
	g.mender.mutex.Lock()
	g.mender.answered = answered
	g.mender.mutex.Unlock()
	return answered
}

// awaits says whether the answer to a command of ours is still to come.
func (m *mender) awaits() bool {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	return m.answered != nil
}

// ours takes an answer to a command of ours.
func (m *mender) ours(line []byte) {
	words := strings.SplitN(strings.TrimRight(string(line), "\r\n"), " ", 3)
	a := answer{}
	if len(words) > 1 {
		a.status = strings.ToUpper(words[1])
	}
	if len(words) > 2 {
		a.text = words[2]
	}
	m.mutex.Lock()
	answered, compressing := m.answered, m.compressing
	m.answered = nil
	m.compressing = false
	m.mutex.Unlock()
	m.switched = compressing && a.status == "OK"
	if answered != nil {
		if m.switched {
			m.told = func() { answered <- a } // once the connection is another one
			return
		}
		answered <- a
	}
}

// deflated is a connection whose content is compressed (RFC 4978). What goes out is in blocks that are stored as they
// are: commands are short, and a compressor needs a megabyte of memory.
type deflated struct {
	net.Conn
	in io.Reader
}

func newDeflated(conn net.Conn, begun []byte) *deflated {
	return &deflated{conn, flate.NewReader(io.MultiReader(bytes.NewReader(bytes.Clone(begun)), conn))}
}

func (d *deflated) Read(p []byte) (int, error) { return d.in.Read(p) }

// mostStored is the most octets that one stored block has (RFC 1951 section 3.2.4).
const mostStored = 1<<16 - 1

func (d *deflated) Write(p []byte) (int, error) {
	var out []byte
	for rest := p; len(rest) > 0; {
		n := min(len(rest), mostStored)
		out = append(out, 0, byte(n), byte(n>>8), byte(^n), byte(^n>>8))
		out = append(out, rest[:n]...)
		rest = rest[n:]
	}
	if _, err := d.Conn.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// far is how long a server takes to answer from which on it is thought to be at the end of a slow line.
const far = 10 * time.Millisecond

// compress has the server compress what it sends, where it can and where it is far. Over a fast line compressing takes
// the server longer than sending: eight times as long for attachments that cannot be made smaller (BenchmarkBacklog).
func compress(ctx context.Context, s *Session) error {
	if !s.client.Caps().Has("COMPRESS=DEFLATE") || blames(s, "COMPRESS") ||
		!s.config.Compress && isHere(s.guard.Conn) && !s.config.measured {
		return nil
	}
	if !s.config.Compress {
		began := time.Now()
		if err := news(ctx, s); err != nil {
			return err
		}
		if time.Since(began) < far {
			return nil
		}
	}
	s.guard.mender.mutex.Lock()
	s.guard.mender.compressing = true
	s.guard.mender.mutex.Unlock()
	a, err := say(ctx, s, "COMPRESS DEFLATE")
	if err != nil || a.status != "OK" { // a server that does not, though it says that it can, goes on without
		return err
	}
	if err := news(ctx, s); err != nil {
		blame(s, "COMPRESS")
		return err
	}
	return nil
}

// isHere says whether a connection leads to this machine.
func isHere(conn net.Conn) bool {
	host, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	ip := net.ParseIP(host)
	return err == nil && ip != nil && ip.IsLoopback()
}

// Announce has the server announce what comes into any folder of the account, and with labels also which flags change
// (RFC 5465). Where the server cannot, nothing changes. Folders of others are not announced.
func (s *Session) Announce(ctx context.Context, labels bool) error {
	if !s.client.Caps().Has("NOTIFY") || blames(s, "NOTIFY") || s.refused ||
		s.guard.mender.hears.Load() && s.labels == labels {
		return nil
	}
	elsewhere := "MessageNew MessageExpunge"
	if labels {
		elsewhere += " FlagChange"
	}
	s.guard.mender.hears.Store(true) // it may be too much right after the answer
	a, err := say(ctx, s,
		"NOTIFY SET (SELECTED-DELAYED (MessageNew MessageExpunge FlagChange)) (PERSONAL ("+elsewhere+"))")
	if err != nil {
		s.guard.mender.hears.Store(false)
		return s.lost("", "asking for announcements of all folders", err)
	}
	if s.labels, s.refused = labels, a.status != "OK"; s.refused {
		s.guard.mender.hears.Store(false)
	}
	return nil
}

// Announces says whether the server announces what comes into any folder of the account.
func (s *Session) Announces() bool { return s.guard.mender.hears.Load() && s.Pushes() }

// asks notes that the states of folders are asked for, or are no longer.
func (m *mender) asks(now bool) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if m.states = nil; now {
		m.states = map[string]bool{}
	}
}

// heard takes a STATUS line, and says whether it is for the library: an answer to what was asked. What the server
// announces of a folder that is not open looks the same. While states are asked for, the first line of a folder is the
// answer, or an announcement before it, which the answer includes; each further one is an announcement.
func (m *mender) heard(line []byte) (asked bool) {
	name, _, ok := nextString(bytes.TrimLeft(line[len("* STATUS "):], " "))
	if !ok || !m.hears.Load() {
		return true
	}
	m.mutex.Lock()
	asked = m.states != nil && readable(name)
	news := !asked || m.states[name]
	if asked {
		m.states[name] = true
	}
	m.mutex.Unlock()
	if news {
		m.elsewhere(decoded(name))
	}
	return asked
}

// overflowed notes that a server announces no longer because there was too much of it (RFC 5465 section 5.8).
func (m *mender) overflowed(line []byte) {
	if bytes.Contains(bytes.ToUpper(line), []byte("[NOTIFICATIONOVERFLOW]")) {
		m.hears.Store(false)
	}
}

// decoded reads a folder's name from modified UTF-7 (RFC 9051 appendix A.1). What is not in it stays as it is.
func decoded(name string) string {
	if !strings.Contains(name, "&") || !readable(name) {
		return name
	}
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] != '&' {
			b.WriteByte(name[i])
			continue
		}
		end := i + strings.IndexByte(name[i:], '-')
		if end == i+1 {
			b.WriteByte('&')
		} else if data, err := modifiedBase64.DecodeString(name[i+1 : end]); err == nil {
			units := make([]uint16, len(data)/2)
			for j := range units {
				units[j] = uint16(data[2*j])<<8 | uint16(data[2*j+1])
			}
			b.WriteString(string(utf16.Decode(units)))
		}
		i = end
	}
	return b.String()
}

// glanceAll asks for the state of all folders in one exchange (RFC 5819).
func glanceAll(ctx context.Context, s *Session,
	options *imaplib.StatusOptions) (byName map[string]*imaplib.StatusData, err error) {
	byName = map[string]*imaplib.StatusData{}
	err = s.run(ctx, func() error {
		list := s.client.List("", "*", &imaplib.ListOptions{ReturnStatus: options})
		for d := list.Next(); d != nil; d = list.Next() {
			if d.Status != nil {
				byName[d.Mailbox] = d.Status
			}
		}
		return list.Close()
	})
	if errors.As(err, new(*imaplib.Error)) {
		return nil, fmt.Errorf("the server refuses: %w", err)
	}
	return byName, err
}

// The most UIDs that are taken from an answer: so many more than the folder had messages when it was opened, and so
// many in any case.
const (
	spareNumbers = 1 << 20
	mostNumbers  = 50 << 20
	mostInLine   = 500_000 // asked for at once where each comes as a number: such an answer is one line
)

func unlikely(problem string) error {
	return &source.Error{Step: source.Folders, Problem: problem,
		Advice: "Ask the administrator of the mail server. Ink Tray checks the other folders meanwhile."}
}

// numbersIn lists the numbers of a set from one number to another. A server can name four billion of them in a few
// octets, so more than most are an error.
func numbersIn(set imaplib.NumSet, from, to uint32, most int) ([]uint32, error) {
	ranges, _ := set.(imaplib.UIDSet)
	var all []uint32
	for _, r := range ranges {
		first, last := min(r.Start, r.Stop), max(r.Start, r.Stop)
		if first == 0 { // "*"
			return nil, unlikely("the server answers a search with “*”, which is not a number")
		}
		low, high := max(uint32(first), from), min(uint32(last), to)
		if low > high {
			continue
		}
		if uint64(high-low)+uint64(len(all)) >= uint64(most) {
			return nil, unlikely("the server names many more messages than the folder has")
		}
		for u := uint64(low); u <= uint64(high); u++ {
			all = append(all, uint32(u))
		}
	}
	return all, nil
}
