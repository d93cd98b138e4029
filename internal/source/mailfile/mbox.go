package mailfile

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"regexp"
	"strings"
	"time"
)

// ErrNoMbox says that a file is none.
var ErrNoMbox = errors.New("this is not an mbox file: it does not begin with a line that begins with “From ”")

// A line that parts messages: "From", an address, and a date as asctime writes it or as
// mail does, with or without a zone before or after the year (RFC 4155 appendix A, and
// older forms).
var (
	asctimeLine = regexp.MustCompile(
		`^From .*?\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun),? +([A-Z][a-z]{2}) +(\d{1,2}) +(\d{1,2}:\d\d(?::\d\d)?)(?: +([A-Z]{1,5}|[+-]\d{4}))?(?: +([A-Z]{1,5}|[+-]\d{4}))? +(\d{4})(?: +([A-Z]{1,5}|[+-]\d{4}))?(?: .*)?\s*$`)
	rfc5322Line = regexp.MustCompile(
		`^From .*?\b(?:(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun), +)?(\d{1,2}) +([A-Z][a-z]{2}) +(\d{4}) +(\d{1,2}:\d\d(?::\d\d)?)(?: +([A-Z]{1,5}|[+-]\d{4}))?\s*$`)
)

// postmark reads a line that may part messages. The time is zero where its date cannot
// be understood.
func postmark(line []byte) (at time.Time, parts bool) {
	text := strings.TrimRight(string(line), "\r\n")
	if len(text) > 500 {
		return at, false
	}
	if m := asctimeLine.FindStringSubmatch(text); m != nil {
		zone := ""
		for _, z := range []string{m[7], m[5], m[4]} {
			if zone == "" || strings.ContainsAny(z, "+-") {
				zone = z
			}
		}
		return stamp(m[2], m[1], m[6], m[3], zone), true
	}
	if m := rfc5322Line.FindStringSubmatch(text); m != nil {
		return stamp(m[1], m[2], m[3], m[4], m[5]), true
	}
	return at, false
}

// stamp puts a date together. Without a zone that can be read it is UTC.
func stamp(day, month, year, clock, zone string) time.Time {
	if strings.Count(clock, ":") == 1 {
		clock += ":00"
	}
	text, layout := day+" "+month+" "+year+" "+clock, "2 Jan 2006 15:04:05"
	if strings.ContainsAny(zone, "+-") {
		text, layout = text+" "+zone, layout+" -0700"
	}
	at, err := time.Parse(layout, text)
	if err != nil {
		return time.Time{}
	}
	return at
}

// Boxed is one message of an mbox file.
type Boxed struct {
	Raw      []byte    // without the line before it; nil where it is too large
	Received time.Time // of the line before it; zero where that has no date
	Offset   int64     // where the line before it begins in the file, in octets
	Size     int64     // octets in the file, with the line before it
	Begun    bool      // there is such a line: what is before the first one is no message
}

// field says whether a line begins a header field (RFC 5322 section 2.2).
func field(line []byte) bool {
	name, _, ok := bytes.Cut(line, []byte(":"))
	name = bytes.TrimRight(name, " \t")
	return ok && len(name) > 0 && !bytes.ContainsAny(name, " \t\r\n")
}

// Mbox reads an mbox file message by message, in the form in which lines that begin
// with "From " are quoted by ">" (mboxrd), which reads the others, too. A line parts
// messages where a header field follows it, whether or not an empty line is before
// it. Every octet of the file belongs to what each is called with, in order. An error
// of each ends the reading and is returned.
func Mbox(r io.Reader, each func(m Boxed) error) error {
	in := bufio.NewReaderSize(r, 64<<10)
	b := &boxReader{each: each, blank: true}
	for {
		line, err := in.ReadSlice('\n')
		whole := !errors.Is(err, bufio.ErrBufferFull)
		if err != nil && whole && err != io.EOF {
			return err
		}
		if len(line) > 0 {
			line = bytes.Clone(line) // looking ahead may overwrite it
			if problem := b.line(in, line, whole); problem != nil {
				return problem
			}
		}
		if err == io.EOF {
			return b.flush()
		}
	}
}

// boxReader collects the lines of one message.
type boxReader struct {
	each    func(m Boxed) error
	now     Boxed
	message bytes.Buffer
	blank   bool // the line before was empty
	inside  bool // within a line that is longer than the buffer
	offset  int64
}

// line takes one line, or a piece of one that is longer than the buffer.
func (b *boxReader) line(in *bufio.Reader, line []byte, whole bool) error {
	first := !b.inside
	b.inside = !whole
	if first && bytes.HasPrefix(line, []byte("From ")) {
		if at, ok := postmark(line); ok && headerFollows(in, b.blank) {
			if err := b.flush(); err != nil {
				return err
			}
			b.now = Boxed{Received: at, Offset: b.offset, Size: int64(len(line)), Begun: true}
			b.offset += int64(len(line))
			b.blank = false
			return nil
		}
	}
	b.offset += int64(len(line))
	b.now.Size += int64(len(line))
	b.blank = first && whole && len(bytes.TrimRight(line, "\r\n")) == 0
	if first {
		if quoted := bytes.TrimLeft(line, ">"); len(quoted) < len(line) && bytes.HasPrefix(quoted, []byte("From ")) {
			line = line[1:]
		}
	}
	if b.message.Len() <= maxMessage { // what is larger is told, and not kept in memory
		b.message.Write(line)
	}
	return nil
}

// headerFollows says whether a message follows: a header field, or after an empty line
// an empty header. Else the line is in a text.
func headerFollows(in *bufio.Reader, blank bool) bool {
	next, _ := in.Peek(1000)
	line, _, _ := bytes.Cut(next, []byte("\n"))
	return field(line) || blank && len(bytes.TrimSpace(line)) == 0
}

// flush gives the message that was collected.
func (b *boxReader) flush() error {
	if b.now.Size == 0 {
		return nil
	}
	raw := b.message.Bytes()
	if b.message.Len() > maxMessage {
		raw = nil
	}
	for _, end := range []string{"\r\n\r\n", "\n\n"} { // the empty line before the next separator
		if bytes.HasSuffix(raw, []byte(end)) {
			raw = raw[:len(raw)-len(end)/2]
			break
		}
	}
	m := b.now
	m.Raw = raw
	if raw == nil && b.message.Len() <= maxMessage {
		m.Raw = []byte{}
	}
	err := b.each(m)
	b.message.Reset()
	b.now = Boxed{Offset: b.offset}
	return err
}
