package mail

import (
	"bytes"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Field is one header field, its value raw and folded as it came.
type Field struct{ Name, Value string }

// Header is a list of fields in the order in which they came.
type Header []Field

// HeaderFields are the fields that message facts keep.
var HeaderFields = []string{
	"Date", "From", "Sender", "Reply-To", "To", "Cc", "Subject", "Message-ID", "In-Reply-To", "References",
	"Delivered-To", "X-Original-To", "Received", "List-Id", "Auto-Submitted", "Authentication-Results",
	"Return-Path", "Precedence", "List-Post", "List-Unsubscribe", "X-Auto-Response-Suppress",
	"Content-Type", "Content-Disposition", "Content-Transfer-Encoding",
}

// maxHeader bounds what is read of one header, longestField what is read of one field, in octets. RFC 5322 knows no
// limit; a list of two thousand addresses has 80 KB.
const (
	maxHeader    = 1 << 20
	longestField = 256 << 10
)

// Cut names the fields of which only the beginning was read, because they are too long.
func (h Header) Cut() (names []string) {
	for _, f := range h {
		if len(f.Value) >= longestField && !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
		}
	}
	return names
}

// ParseHeader reads fields up to the first empty line and returns what follows.
// Lines that are no field are passed over.
func ParseHeader(data []byte) (Header, []byte) {
	var h Header
	limit := len(data)
	var value []byte // of the field that is being read
	end := func() {
		if len(h) > 0 {
			h[len(h)-1].Value = string(value)
		}
	}
	more := func(s string) { value = append(value, s[:min(len(s), longestField-len(value))]...) }
	for pos := 0; pos < limit; {
		stop, next := limit, limit
		if n := bytes.IndexByte(data[pos:], '\n'); n >= 0 {
			stop, next = pos+n, pos+n+1
		}
		raw := bytes.TrimRight(data[pos:stop], "\r") // some write CR CR LF
		if len(raw) == 0 {
			end()
			return h, data[next:]
		}
		if pos = next; pos > maxHeader {
			continue
		}
		line := string(raw)
		if line[0] == ' ' || line[0] == '\t' {
			if len(h) > 0 {
				more("\r\n")
				more(line)
			}
			continue
		}
		name, first, ok := strings.Cut(line, ":")
		name = strings.TrimRight(name, " \t")
		if !ok || name == "" || strings.ContainsAny(name, " \t") {
			continue
		}
		end()
		h, value = append(h, Field{Name: name}), value[:0]
		more(strings.TrimLeft(first, " \t"))
	}
	end()
	return h, nil
}

// Get is the first field of that name, raw, or "".
func (h Header) Get(name string) string {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

// All are the values of that name, topmost first.
func (h Header) All(name string) []string {
	var all []string
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			all = append(all, f.Value)
		}
	}
	return all
}

// Bytes writes the header as it is sent, with the empty line at its end.
func (h Header) Bytes() []byte {
	var b strings.Builder
	for _, f := range h {
		b.WriteString(f.Name + ": " + f.Value + "\r\n")
	}
	b.WriteString("\r\n")
	return []byte(b.String())
}

// Keep is the header with only the named fields.
func (h Header) Keep(names []string) Header {
	var kept Header
	for _, f := range h {
		for _, n := range names {
			if strings.EqualFold(f.Name, n) {
				kept = append(kept, f)
				break
			}
		}
	}
	return kept
}

// MessageID is the Message-ID without its angle brackets, or "".
func (h Header) MessageID() string { return strings.Trim(unfold(h.Get("Message-ID")), " \t<>") }

// Envelope decodes the fields that people look at.
func (h Header) Envelope() Envelope {
	e := Envelope{
		Subject:   DecodeText(h.Get("Subject")),
		From:      ParseAddresses(h.Get("From")),
		ReplyTo:   ParseAddresses(h.Get("Reply-To")),
		To:        ParseAddresses(strings.Join(h.All("To"), ", ")),
		Cc:        ParseAddresses(strings.Join(h.All("Cc"), ", ")),
		MessageID: h.MessageID(),
	}
	if len(e.From) == 0 {
		e.From = ParseAddresses(h.Get("Sender"))
	}
	for _, name := range []string{"Delivered-To", "X-Original-To"} {
		for _, v := range h.All(name) {
			e.DeliveredTo = append(e.DeliveredTo, ParseAddresses(v)...)
		}
	}
	e.Date, _ = ParseDate(h.Get("Date"))
	return e
}

var dateComment = regexp.MustCompile(`\([^()]*\)`)

var dateLayouts = []string{
	"Mon, 2 Jan 2006 15:04:05 -0700", "2 Jan 2006 15:04:05 -0700", "Mon, 2 Jan 2006 15:04 -0700", "2 Jan 2006 15:04 -0700",
	"Mon, 2 Jan 2006 15:04:05 MST", "2 Jan 2006 15:04:05 MST", "Mon, 2 Jan 06 15:04:05 -0700", "2 Jan 06 15:04:05 -0700",
	"Mon Jan 2 15:04:05 2006", "Mon, 2 Jan 2006 15:04:05", "2 Jan 2006 15:04:05", time.RFC3339,
	"2006-01-02 15:04:05 -0700",
}

// ParseDate reads a date field (RFC 5322 section 3.3) and the forms that come
// instead of it. Without a zone it is UTC.
func ParseDate(s string) (time.Time, bool) {
	s = strings.TrimSpace(unfold(s))
	if s == "" || len(s) > 200 {
		return time.Time{}, false
	}
	if t, err := time.Parse(dateLayouts[0], s); err == nil { // as nearly all write it
		return t, true
	}
	if t, err := mail.ParseDate(s); err == nil {
		return t, true
	}
	s = strings.Join(strings.Fields(dateComment.ReplaceAllString(s, " ")), " ")
	for _, layout := range dateLayouts {
		if t, err := time.Parse(layout, s); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// maxAddresses bounds one address list.
const maxAddresses = 1000

// ParseAddresses reads an address list (RFC 5322 section 3.4) without ever
// failing: what is in angle brackets is the address, whatever is around it.
func ParseAddresses(s string) []Address {
	s = unfold(s)
	var (
		list                  []Address
		name, address, bare   strings.Builder
		quoted, angle, closed bool
		comment               int
		comments              strings.Builder
	)
	flush := func() {
		addr := strings.TrimSpace(address.String())
		display := strings.TrimSpace(name.String())
		if !closed {
			addr = strings.TrimSpace(bare.String())
			display = ""
			if !strings.Contains(addr, "@") && strings.TrimSpace(name.String()) != "" && addr == "" {
				display = strings.TrimSpace(name.String())
			}
			if c := strings.TrimSpace(comments.String()); c != "" {
				display = c
			}
		}
		if addr != "" || display != "" {
			list = append(list, makeAddress(display, addr))
		}
		name.Reset()
		address.Reset()
		bare.Reset()
		comments.Reset()
		angle, closed = false, false
	}
	for i := 0; i < len(s) && len(list) < maxAddresses; i++ {
		c := s[i]
		if c == '=' && !angle && comment == 0 && strings.HasPrefix(s[i:], "=?") {
			// An encoded word is one piece, also where a sender left a comma in it
			// (against RFC 2047 section 5).
			if n := encodedWord(s[i:min(len(s), i+longestWord)]); n > 0 {
				if !closed {
					name.WriteString(s[i : i+n])
					bare.WriteString(s[i : i+n])
				}
				i += n - 1
				continue
			}
		}
		switch {
		case quoted:
			if c == '\\' && i+1 < len(s) {
				i++
				c = s[i]
			} else if c == '"' {
				quoted = false
				if angle {
					address.WriteByte(c)
				} else {
					bare.WriteByte(c)
				}
				continue
			}
			if angle {
				address.WriteByte(c)
			} else {
				name.WriteByte(c)
				bare.WriteByte(c)
			}
		case comment > 0:
			switch c {
			case '(':
				comment++
			case ')':
				comment--
			default:
				comments.WriteByte(c)
			}
		case c == '"':
			quoted = true
			if angle {
				address.WriteByte(c)
			} else {
				bare.WriteByte(c)
			}
		case angle:
			if c == '>' {
				angle, closed = false, true
			} else {
				address.WriteByte(c)
			}
		case c == '(':
			comment++
		case c == '<':
			address.Reset()
			angle = true
		case c == ',' || c == ';':
			flush()
		case c == ':' && !strings.Contains(bare.String(), "@"):
			name.Reset() // the name of a group
			bare.Reset()
		default:
			if !closed {
				name.WriteByte(c)
				bare.WriteByte(c)
			}
		}
	}
	if angle {
		closed = true // "<" without ">"
	}
	flush()
	return list
}

func makeAddress(display, addr string) Address {
	a := Address{Name: DecodeText(display)}
	if i := strings.LastIndexByte(addr, '@'); i >= 0 {
		a.Local, a.Domain = DecodeText(strings.Trim(addr[:i], ` "`)),
			strings.ToLower(strings.TrimRight(tidy(strings.TrimSpace(addr[i+1:])), ". "))
		if strings.HasPrefix(a.Local, "@") { // RFC 5322 section 4.4: route
			if _, local, ok := strings.Cut(a.Local, ":"); ok {
				a.Local = local
			}
		}
	} else {
		a.Local = DecodeText(addr)
	}
	return a
}
