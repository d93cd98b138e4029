package imap

import (
	"bytes"
	"encoding/base64"
	"slices"
	"sync"
	"sync/atomic"
	"unicode/utf16"
	"unicode/utf8"
)

// mender changes what a server sends so that the parser behind it goes on where
// the server is legal, or nearly so:
//   - "nil" in any letters becomes "NIL" (RFC 9051 section 9: it is case-insensitive);
//   - a LIST line with a name that no encoding explains is left out and noted, so
//     the other folders can still be listed;
//   - answers to commands of ours are left out, and what the server announces of other folders: Dovecot 2.3 writes
//     their names without encoding (see raw.go).
type mender struct {
	line    []byte // what is held back of the line
	holding bool   // the line is held back to its end
	start   bool   // at the beginning of a line
	literal int64  // octets of a literal still to come
	number  int64  // digits after "{", -1 where none are open
	closed  bool   // "}" was seen
	quoted  bool
	escaped bool
	before  byte // the octet before

	switched  bool           // what follows is compressed
	told      func()         // tells who asked for it
	hears     atomic.Bool    // the server announces what comes into any folder
	elsewhere func(n string) // is told of what the server announces of folders that are not open; nil for nobody

	mutex       sync.Mutex
	names       []string        // of folders that were left out
	states      map[string]bool // folders whose states were asked for and came; nil while they are not asked for
	answered    chan<- answer   // for the answer to a command of ours
	compressing bool            // it is the command to compress
}

func newMender() *mender { return &mender{start: true, number: -1} }

// maxHeld bounds what is held back of a line, in octets. A longer line is passed on
// as it is.
const maxHeld = 64 << 10

// unreadable gives the names of folders that were left out since it was asked last.
func (m *mender) unreadable() []string {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	names := m.names
	m.names = nil
	return names
}

// feed takes what came from the server and appends what the parser is to see to out.
func (m *mender) feed(in, out []byte) []byte {
	for len(in) > 0 {
		if m.literal > 0 {
			n := min(m.literal, int64(len(in)))
			if m.holding {
				m.line = append(m.line, in[:n]...)
			} else {
				out = append(out, in[:n]...)
			}
			m.literal -= n
			in = in[n:]
			continue
		}
		c := in[0]
		in = in[1:]
		m.line = append(m.line, c)
		ended := m.follow(c)
		switch {
		case m.start:
			// Nine octets tell whether the line is held back.
			if len(m.line) < len("* STATUS ") && !ended {
				continue
			}
			m.start = false
			m.holding = begins(m.line, "* LIST ", "* LSUB ", "* STATUS ", "* OK [NOT", "X1 ")
			if !m.holding {
				out = m.pass(out)
			}
		case m.holding:
			if len(m.line) > maxHeld {
				m.holding = false
				out = m.pass(out)
			}
		default:
			out = m.mend(out, c)
		}
		if ended {
			if m.holding {
				m.held()
			}
			out = m.pass(out)
			m.start, m.holding = true, false
		}
	}
	return out
}

// begins says whether a line begins in one of these ways, in any letters.
func begins(line []byte, ways ...string) bool {
	return slices.ContainsFunc(ways, func(w string) bool {
		return len(line) >= len(w) && bytes.EqualFold(line[:len(w)], []byte(w))
	})
}

// held understands a line that was held back to its end.
func (m *mender) held() {
	switch {
	case begins(m.line, "X1 "):
		m.ours(m.line)
		m.line = m.line[:0]
	case begins(m.line, "* STATUS "):
		if !m.heard(m.line) {
			m.line = m.line[:0]
		}
	case begins(m.line, "* OK "):
		m.overflowed(m.line)
	default:
		m.mendSeparator()
		if name, known := listedName(m.line); known && !readable(name) {
			m.mutex.Lock()
			m.names = append(m.names, name)
			m.mutex.Unlock()
			m.line = m.line[:0]
		}
	}
}

// mendSeparator writes "NIL" in a LIST line that names no hierarchy separator.
func (m *mender) mendSeparator() {
	at := bytes.Index(m.line, []byte(") "))
	if at < 0 || len(m.line) < at+6 {
		return
	}
	if word := m.line[at+2 : at+5]; bytes.EqualFold(word, []byte("nil")) && m.line[at+5] == ' ' {
		copy(word, "NIL")
	}
}

// pass passes on what is held back.
func (m *mender) pass(out []byte) []byte {
	if n := len(m.line); n > 0 {
		m.before = m.line[n-1]
	}
	out = append(out, m.line...)
	m.line = m.line[:0]
	return out
}

// mend passes the line on octet by octet, but for a "nil", which is held back until
// it is known to be one.
func (m *mender) mend(out []byte, c byte) []byte {
	const word = "nil"
	n := len(m.line)
	if m.quoted || c == '"' {
		return m.pass(out)
	}
	if n <= len(word) && c|0x20 == word[n-1] && (n > 1 || m.before == ' ' || m.before == '(') {
		return out
	}
	if n == len(word)+1 && (c == ' ' || c == ')' || c == '\r' || c == '\n') {
		copy(m.line, "NIL")
	}
	return m.pass(out)
}

// follow follows the grammar as far as to tell literals and quoted strings, and says
// whether c ends the line.
func (m *mender) follow(c byte) (ended bool) {
	if c == '\n' {
		if m.closed && m.number > 0 {
			m.literal = m.number
		}
		ended = !m.closed
		m.number, m.closed, m.quoted, m.escaped = -1, false, false, false
		return ended
	}
	if c == '\r' {
		return false
	}
	if m.quoted {
		switch {
		case m.escaped:
			m.escaped = false
		case c == '\\':
			m.escaped = true
		case c == '"':
			m.quoted = false
		}
		return false
	}
	was := m.number
	m.closed, m.number = false, -1
	switch {
	case c == '"':
		m.quoted = true
	case c == '{':
		m.number = 0
	case c >= '0' && c <= '9' && was >= 0 && was < 1<<40:
		m.number = was*10 + int64(c-'0')
	case c == '}' && was >= 0:
		m.number, m.closed = was, true
	}
	return false
}

// listedName finds the folder's name in a LIST line (RFC 9051 section 7.3.1).
func listedName(line []byte) (name string, ok bool) {
	rest := line[len("* LIST "):]
	if len(rest) == 0 || rest[0] != '(' {
		return "", false
	}
	end := bytes.IndexByte(rest, ')')
	if end < 0 {
		return "", false
	}
	rest = bytes.TrimLeft(rest[end+1:], " ")
	if _, rest, ok = nextString(rest); !ok { // the hierarchy separator
		return "", false
	}
	name, _, ok = nextString(bytes.TrimLeft(rest, " "))
	return name, ok
}

// nextString reads one astring or NIL.
func nextString(b []byte) (s string, rest []byte, ok bool) {
	switch {
	case len(b) == 0:
		return "", nil, false
	case b[0] == '"':
		var out []byte
		for i := 1; i < len(b); i++ {
			switch {
			case b[i] == '\\' && i+1 < len(b):
				i++
				out = append(out, b[i])
			case b[i] == '"':
				return string(out), b[i+1:], true
			default:
				out = append(out, b[i])
			}
		}
		return "", nil, false
	case b[0] == '{':
		head, body, found := bytes.Cut(b[1:], []byte("}\r\n"))
		if !found {
			return "", nil, false
		}
		n := 0
		for _, c := range head {
			if c < '0' || c > '9' || n > maxHeld {
				return "", nil, false
			}
			n = n*10 + int(c-'0')
		}
		if n > len(body) {
			return "", nil, false
		}
		return string(body[:n]), body[n:], true
	}
	end := bytes.IndexAny(b, " \r\n")
	if end < 0 {
		end = len(b)
	}
	return string(b[:end]), b[end:], end > 0
}

var modifiedBase64 = base64.NewEncoding("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+,").WithPadding(
	base64.NoPadding)

// readable says whether a folder's name is valid in modified UTF-7 (RFC 9051 appendix
// A.1), or in UTF-8.
func readable(name string) bool {
	if !utf8.ValidString(name) {
		return false
	}
	shifted := false // a shift ended just before
	for i := 0; i < len(name); i++ {
		c := name[i]
		if c < 0x20 || c == 0x7f {
			return false
		}
		if c != '&' {
			shifted = false
			continue
		}
		end := i + 1
		for end < len(name) && name[end] != '-' {
			end++
		}
		if end == len(name) {
			return false
		}
		if end == i+1 { // "&-" is "&"
			shifted, i = false, end
			continue
		}
		if shifted || !readableShift(name[i+1:end]) {
			return false
		}
		shifted, i = true, end
	}
	return true
}

func readableShift(encoded string) bool {
	data, err := modifiedBase64.DecodeString(encoded)
	if err != nil || len(data) == 0 || len(data)%2 == 1 {
		return false
	}
	for i := 0; i < len(data); i += 2 {
		r := rune(data[i])<<8 | rune(data[i+1])
		if utf16.IsSurrogate(r) {
			if i += 2; i == len(data) {
				return false
			}
			if utf16.DecodeRune(r, rune(data[i])<<8|rune(data[i+1])) == utf8.RuneError {
				return false
			}
		} else if r >= 0x20 && r <= 0x7e { // what is printable represents itself
			return false
		}
	}
	return true
}
