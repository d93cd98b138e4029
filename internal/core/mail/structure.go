package mail

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Structure is one MIME entity as the wire describes it, nothing decoded. A
// source fills it from a body structure (RFC 9051 section 7.5.2), Parse from
// raw bytes; New makes the same message of both.
type Structure struct {
	Type, Subtype     string
	Params            map[string]string `json:",omitempty"` // keys in lower case, values raw
	ID                string            `json:",omitempty"`
	Encoding          string            `json:",omitempty"`
	Size              int64             `json:",omitempty"` // octets as sent, with CRLF line ends
	Disposition       string            `json:",omitempty"`
	DispositionParams map[string]string `json:",omitempty"`
	// of a forwarded message: Date, From, To, Cc, Subject, Message-ID
	Header   Header      `json:",omitempty"`
	Children []Structure `json:",omitempty"` // parts of a multipart, or the body of a forwarded message
	Broken   string      `json:",omitempty"` // of a message: why its parts cannot be told apart
	Bare     bool        `json:",omitempty"` // the server gave no extension data, so no disposition
	Alike    bool        `json:",omitempty"` // of a message: see Message.Alike

	start, end int // where the content is in the raw message
}

// Raw is a message whose bytes are at hand.
type Raw struct {
	Message *Message
	data    []byte
	lines   []byte // data with line ends that can be found; of the same length
	body    int    // where the body begins
	parts   map[string]*Structure
}

// Parse reads a whole message from its bytes. It never fails: what is not a message
// becomes one with a text body. It is lenient as mail programs are: it passes over
// empty lines before the header, takes a bare CR for a line end where the message has
// no other, and finds a boundary that the header does not name. The bytes must not
// change afterwards.
func Parse(data []byte) *Raw {
	lines := lineEnds(data)
	begin := EmptyLines(lines)
	header, body := ParseHeader(lines[begin:])
	p := parser{data: lines}
	r := &Raw{data: data, lines: lines, body: len(data) - len(body), parts: map[string]*Structure{}}
	s := p.entity(header, r.body, len(data), 0, "text", "plain")
	s.Broken = p.broken
	if p.truncated {
		s.Broken = fmt.Sprintf("it has more than %d parts, or parts more than %d deep", MaxParts, MaxDepth)
	}
	m := New(header.Keep(HeaderFields), &s)
	m.Size = int64(len(data) + bareLF(data))
	m.Truncated = m.Truncated || p.truncated
	r.Message = m
	r.index(&s, &m.Root)
	return r
}

// HeaderOf reads the header of a whole message as leniently as Parse does.
func HeaderOf(data []byte) Header {
	lines := lineEnds(data)
	h, _ := ParseHeader(lines[EmptyLines(lines):])
	return h
}

// lineEnds gives the data with line ends that can be found: where its first line ends
// with a bare CR, so do the others, and each becomes a LF.
func lineEnds(data []byte) []byte {
	first := bytes.IndexAny(data[:min(len(data), maxHeader)], "\r\n")
	if first < 0 || bytes.HasPrefix(bytes.TrimLeft(data[first:], "\r"), []byte("\n")) {
		return data
	}
	lines := bytes.Clone(data)
	for i, c := range lines {
		if c == '\r' && (i+1 == len(lines) || lines[i+1] != '\n') {
			lines[i] = '\n'
		}
	}
	return lines
}

// mostEmptyLines bounds the empty lines before a header that are passed over.
const mostEmptyLines = 20

// EmptyLines is the length of the empty lines before a header, in octets. There are none
// where something else than a header follows them.
func EmptyLines(data []byte) int {
	at := 0
	for range mostEmptyLines {
		end := bytes.IndexByte(data[at:min(len(data), at+100)], '\n')
		if end < 0 || len(bytes.TrimSpace(data[at:at+end])) > 0 {
			break
		}
		at += end + 1
	}
	if at == 0 {
		return 0
	}
	line, _, _ := bytes.Cut(data[at:min(len(data), at+1000)], []byte("\n"))
	name, _, ok := bytes.Cut(line, []byte(":"))
	if name = bytes.TrimRight(name, " \t"); !ok || len(name) == 0 || bytes.ContainsAny(name, " \t") {
		return 0
	}
	return at
}

// Structure is what a body structure of the same message would say.
func (r *Raw) Structure() Structure { return *r.parts[""] }

func (r *Raw) index(s *Structure, p *Part) {
	if r.parts[""] == nil {
		r.parts[""] = s
	}
	if p.Media() != "multipart" {
		r.parts[p.Item] = s
	}
	for i := range p.Children {
		r.index(&s.Children[i], &p.Children[i])
	}
}

// Open gives the content of an item as it was sent, still encoded; "header" is
// the message's header and "whole" all of it.
func (r *Raw) Open(item string) (io.Reader, error) {
	switch item {
	case "whole":
		return bytes.NewReader(r.data), nil
	case "header":
		return bytes.NewReader(r.lines[:r.body]), nil
	}
	s := r.parts[item]
	if s == nil || item == "" {
		return nil, fmt.Errorf("the message has no part %q", item)
	}
	switch strings.ToLower(s.Encoding) { // what is decoded line by line needs lines
	case "quoted-printable", "x-uuencode", "uuencode", "x-uue":
		return bytes.NewReader(r.lines[s.start:s.end]), nil
	}
	return bytes.NewReader(r.data[s.start:s.end]), nil
}

// Doubtful says whether a body structure cannot be what the message is: the header is
// empty, or it says that there are several parts and the structure knows of none.
// Then only the message itself tells.
func Doubtful(header Header, s *Structure) bool {
	const usual = "Date From Sender Subject Message-ID Received To"
	if !slices.ContainsFunc(strings.Fields(usual), func(name string) bool { return header.Get(name) != "" }) {
		return true
	}
	// where lines end with CR, one field holds the others
	if slices.ContainsFunc(header, func(f Field) bool { return bareCR(f.Value) }) {
		return true
	}
	if t, _ := parseParams(header.Get("Content-Type")); strings.HasPrefix(t, "multipart/") &&
		!strings.EqualFold(s.Type, "multipart") {
		return true
	}
	return s.childless(0)
}

func bareCR(s string) bool {
	return strings.Count(s, "\r") > strings.Count(s, "\r\n")
}

// childless says whether there is a multipart without parts in the structure. Some
// servers give it one part without any octet.
func (s *Structure) childless(depth int) bool {
	if strings.EqualFold(s.Type, "multipart") && depth < MaxDepth {
		if n := len(s.Children); n == 0 || n == 1 && s.Children[0].Size == 0 &&
			strings.EqualFold(s.Children[0].Type, "text") {
			return true
		}
	}
	return slices.ContainsFunc(s.Children, func(c Structure) bool { return depth < MaxDepth && c.childless(depth+1) })
}

// Unnamed lists the parts, by item number, whose name the structure does not tell for
// certain: it has none, or no extension that is known. The part's own header tells.
// The part of a message without a multipart is not among them: its header is the
// message's own.
func (s *Structure) Unnamed() map[string]*Structure {
	found := map[string]*Structure{}
	var walk func(s *Structure, item, prefix string, depth int)
	// whether it is not the first part of a multipart that holds parts of any kind
	further := false
	body := func(s *Structure, prefix string, depth int) { // as builder.body numbers
		if strings.EqualFold(s.Type, "multipart") {
			walk(s, strings.TrimSuffix(prefix, "/"), prefix, depth)
			return
		}
		walk(s, prefix+"1", "", depth)
	}
	walk = func(s *Structure, item, prefix string, depth int) {
		if depth > MaxDepth || len(found) >= mostUnnamed {
			return
		}
		switch media := strings.ToLower(s.Type); {
		case media == "multipart":
			mixed := !strings.EqualFold(s.Subtype, "alternative") && !strings.EqualFold(s.Subtype, "related")
			for i := range s.Children {
				id := prefix + strconv.Itoa(i+1)
				further = mixed && i > 0
				walk(&s.Children[i], id, id+".", depth+1)
			}
		case len(s.Children) == 1:
			further = false
			body(&s.Children[0], item+"/", depth+1)
		case s.nameInDoubt(further):
			found[item] = s
		}
	}
	body(s, "", 0)
	if !strings.EqualFold(s.Type, "multipart") {
		delete(found, "1")
	}
	return found
}

// Nameless says whether there is a part that may be a file and of which the structure tells no name at all.
func (s *Structure) Nameless() bool {
	for _, part := range s.Unnamed() {
		if decodeParam(part.DispositionParams, "filename") == "" && decodeParam(part.Params, "name") == "" {
			return true
		}
	}
	return false
}

// mostUnnamed bounds the parts of a message whose headers are asked for.
const mostUnnamed = 200

// nameInDoubt says whether the name of a part is not certain. A further text may be a file whose type the server does
// not understand.
func (s *Structure) nameInDoubt(further bool) bool {
	name := firstNonEmpty(decodeParam(s.DispositionParams, "filename"), decodeParam(s.Params, "name"))
	if s.Bare {
		return true
	}
	t := strings.ToLower(s.Type + "/" + s.Subtype)
	if name == "" && s.Disposition == "" && !further && (t == "text/plain" || t == "text/html") {
		return false // the text of the message
	}
	// A colon is what an unescaped path of Windows leaves of its folders.
	return name == "" || strings.Contains(name, ":") || KindOf("", Extension(baseName(name))) == Other
}

// Describe takes type, its parameters and disposition from the part's own header, as Parse
// reads them. What the header does not say stays, and so does a type that holds others.
func (s *Structure) Describe(h Header) {
	if v := h.Get("Content-Type"); v != "" {
		full, params := parseParams(v)
		if len(params) > 0 {
			s.Params = params
		}
		holds := func(t string) bool { return strings.EqualFold(t, "multipart") || strings.EqualFold(t, "message") }
		if t, sub, ok := strings.Cut(full, "/"); ok && t != "" && sub != "" && !holds(t) && !holds(s.Type) {
			s.Type, s.Subtype = t, sub
		}
	}
	if v := h.Get("Content-Disposition"); v != "" {
		s.Disposition, s.DispositionParams = parseParams(v)
	}
	if v := strings.TrimSpace(unfold(h.Get("Content-ID"))); v != "" {
		s.ID = v
	}
}

type parser struct {
	data      []byte
	count     int
	truncated bool
	broken    string   // why parts cannot be told apart
	open      []string // boundaries of the multiparts around
	marks     []int    // where lines begin that may part something: they begin with two hyphens
	marked    bool     // marks is there
	bareTo    []int    // how many bare line feeds lie before each block
}

// block is how many octets lie between two counts of bare line feeds.
const block = 4 << 10

// bare counts the line feeds in data[start:end] without a carriage return before them. All are counted once, so that
// nested multiparts do not count the same ones again.
func (p *parser) bare(start, end int) int {
	if end-start < 2*block {
		return bareLF(p.data[start:end])
	}
	count := func(from, to int) int { // one after a carriage return that is before from is not bare
		n := bareLF(p.data[from:to])
		if from < to && from > start && p.data[from] == '\n' && p.data[from-1] == '\r' {
			n--
		}
		return n
	}
	if p.bareTo == nil {
		p.bareTo = make([]int, 1, len(p.data)/block+2)
		for from := 0; from+block <= len(p.data); from += block {
			n := bareLF(p.data[from : from+block])
			if from > 0 && p.data[from] == '\n' && p.data[from-1] == '\r' {
				n--
			}
			p.bareTo = append(p.bareTo, p.bareTo[len(p.bareTo)-1]+n)
		}
	}
	first, last := (start+block-1)/block, end/block
	n := 0
	if start > 0 && start == first*block && p.data[start] == '\n' && p.data[start-1] == '\r' {
		n = 1 // in the data from start on it has none before it
	}
	return n + bareLF(p.data[start:first*block]) + p.bareTo[last] - p.bareTo[first] + count(last*block, end)
}

// mark finds the lines that may part something, all at once: nested multiparts then do not look at every line again.
func (p *parser) mark() {
	p.marked = true
	for pos := 0; pos < len(p.data); {
		if bytes.HasPrefix(p.data[pos:], []byte("--")) {
			p.marks = append(p.marks, pos)
		}
		n := bytes.IndexByte(p.data[pos:], '\n')
		if n < 0 {
			return
		}
		pos += n + 1
	}
}

// Declared is what the header of a MIME entity says of it (RFC 2045): everything but its size and its parts.
func Declared(h Header, defaultType, defaultSubtype string) Structure {
	s := Structure{Type: defaultType, Subtype: defaultSubtype}
	if v := h.Get("Content-Type"); v != "" {
		full, params := parseParams(v)
		if t, sub, ok := strings.Cut(full, "/"); ok && t != "" && sub != "" {
			s.Type, s.Subtype, s.Params = t, sub, params
		} else {
			s.Params = params
		}
	}
	if v := h.Get("Content-Disposition"); v != "" {
		s.Disposition, s.DispositionParams = parseParams(v)
	}
	if s.Encoding, _ = parseParams(h.Get("Content-Transfer-Encoding")); s.Encoding == "" {
		s.Encoding = "7bit" // RFC 2045 section 6.1
	}
	s.ID = strings.TrimSpace(unfold(h.Get("Content-ID")))
	return s
}

// entity reads the MIME entity whose content is in data[start:end].
func (p *parser) entity(h Header, start, end, depth int, defaultType, defaultSubtype string) Structure {
	p.count++
	s := Declared(h, defaultType, defaultSubtype)
	s.start, s.end = start, end
	content := p.data[start:end]
	s.Size = int64(len(content) + p.bare(start, end))
	if depth >= MaxDepth || p.count >= MaxParts {
		p.truncated = true
		return s
	}
	switch {
	case s.Type == "multipart":
		boundary := s.Params["boundary"]
		if slices.Contains(p.open, boundary) {
			break // its parts are among those of the multipart around it
		}
		p.parts(&s, start, end, depth, boundary)
		if len(s.Children) == 0 {
			if guess := guessBoundary(content); guess != "" && guess != boundary {
				p.parts(&s, start, end, depth, guess)
			}
		}
		if len(s.Children) == 0 {
			if len(bytes.TrimSpace(content)) > 0 {
				p.broken = "it says that it has several parts, and no line parts them"
			}
			s.Type, s.Subtype = "text", "plain"
		}
	case s.Type == "message" && (s.Subtype == "rfc822" || s.Subtype == "global"):
		if Wrapped(s.Encoding) {
			break // forbidden by RFC 2046 section 5.2.1; it is opened like an archive
		}
		header, body := ParseHeader(content)
		s.Header = header.Keep(forwardFields)
		s.Children = []Structure{p.entity(header, end-len(body), end, depth+1, "text", "plain")}
	}
	return s
}

// Wrapped says whether a transfer encoding hides the structure of what it encodes.
func Wrapped(encoding string) bool {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "base64", "quoted-printable", "x-uuencode", "uuencode", "x-uue":
		return true
	}
	return false
}

// parts reads the parts of a multipart. Some programs give a multipart the boundary of
// the one around it: then the parts up to the next end are the inner one's.
func (p *parser) parts(s *Structure, start, end, depth int, boundary string) {
	if boundary == "" {
		return
	}
	childType, child := "text", "plain"
	if s.Subtype == "digest" {
		childType, child = "message", "rfc822"
	}
	p.open = append(p.open, boundary)
	defer func() { p.open = p.open[:len(p.open)-1] }()
	adopts := false // the last child takes the parts that follow
	p.split(start, end, boundary, func(from, to int, last bool) bool {
		if p.count >= MaxParts {
			p.truncated = true
			return false
		}
		header, body := ParseHeader(p.data[from:to])
		c := p.entity(header, to-len(body), to, depth+1, childType, child)
		if adopts {
			inner := &s.Children[len(s.Children)-1]
			inner.Children = append(inner.Children, c)
			adopts = !last
			return true
		}
		s.Children = append(s.Children, c)
		adopts = c.Type == "multipart" && c.Params["boundary"] == boundary && len(c.Children) == 0 && !last
		return true
	})
}

// maxGuess bounds how far a boundary is looked for, in octets.
const maxGuess = 1 << 20

// guessBoundary finds the boundary of a multipart whose header does not name it, "" for
// none: a line that begins with two hyphens, that a part's header follows, and that
// comes again.
func guessBoundary(content []byte) string {
	content = content[:min(len(content), maxGuess)]
	candidates := map[string]bool{} // lines that may be one
	for pos := 0; pos < len(content); {
		end := bytes.IndexByte(content[pos:], '\n')
		if end < 0 {
			return ""
		}
		line := bytes.TrimRight(content[pos:pos+end], " \t\r")
		pos += end + 1
		mark, ok := bytes.CutPrefix(line, []byte("--"))
		if !ok || len(mark) == 0 || len(mark) > 200 {
			continue
		}
		if candidates[string(bytes.TrimSuffix(mark, []byte("--")))] {
			return string(bytes.TrimSuffix(mark, []byte("--")))
		}
		if bytes.HasSuffix(mark, []byte("--")) {
			continue
		}
		next, _, _ := bytes.Cut(content[pos:], []byte("\n"))
		name, _, field := bytes.Cut(next, []byte(":"))
		if len(bytes.TrimSpace(next)) > 0 && !(field && bytes.HasPrefix(bytes.ToLower(name), []byte("content-"))) {
			continue
		}
		candidates[string(mark)] = true
	}
	return ""
}

var forwardFields = []string{"Date", "From", "To", "Cc", "Subject", "Message-ID"}

// split calls f with the bounds of each part of a multipart (RFC 2046 section
// 5.1.1); last says that a closing boundary ends the part. The line end before a
// boundary belongs to the boundary. A missing last boundary ends the last part at the
// end of the data. Parts that follow a closing boundary are parts all the same.
func (p *parser) split(start, end int, boundary string, f func(from, to int, last bool) bool) {
	mark := []byte("--" + strings.TrimRight(boundary, " \t")) // it may not end with a space (RFC 2046 section 5.1.1)
	from := -1
	if !p.marked {
		p.mark()
	}
	first, _ := slices.BinarySearch(p.marks, start)
	for _, pos := range p.marks[first:] {
		if pos >= end {
			break
		}
		lineEnd := bytes.IndexByte(p.data[pos:end], '\n')
		next := end
		if lineEnd >= 0 {
			next = pos + lineEnd + 1
		}
		line := bytes.TrimRight(p.data[pos:next], " \t\r\n")
		if bytes.HasPrefix(line, mark) {
			rest := bytes.TrimSpace(line[len(mark):])
			last := string(rest) == "--"
			if len(rest) == 0 || last {
				if from >= 0 {
					to := pos
					if to > from && p.data[to-1] == '\n' {
						to--
						if to > from && p.data[to-1] == '\r' {
							to--
						}
					}
					if !f(from, to, last) {
						return
					}
				}
				if from = next; last {
					from = -1
				}
			}
		}
	}
	if from >= 0 && from < end {
		f(from, end, true)
	}
}

// parseParams reads "value; key=value; key="quoted"" (RFC 2045 section 5.1),
// lower-casing the value and the keys. Values stay raw.
func parseParams(s string) (string, map[string]string) {
	s = unfold(s)
	value, rest, _ := strings.Cut(s, ";")
	if i := strings.IndexByte(value, '('); i >= 0 {
		value = value[:i]
	}
	value = strings.ToLower(strings.TrimSpace(value))
	var params map[string]string
	for rest != "" && len(params) < 200 {
		rest = strings.TrimLeft(rest, " \t;")
		i := strings.IndexAny(rest, "=;")
		if i < 0 {
			break
		}
		if rest[i] == ';' { // "inline; odd; name=x"
			rest = rest[i+1:]
			continue
		}
		key, after := rest[:i], rest[i+1:]
		key = strings.ToLower(strings.TrimSpace(key))
		after = strings.TrimLeft(after, " \t")
		var v string
		if strings.HasPrefix(after, `"`) {
			var b strings.Builder
			i := 1
			for ; i < len(after) && after[i] != '"'; i++ {
				if after[i] == '\\' && i+1 < len(after) && (after[i+1] == '"' || after[i+1] == '\\') {
					i++
				}
				b.WriteByte(after[i])
			}
			v = b.String()
			rest = ""
			if i < len(after) {
				_, rest, _ = strings.Cut(after[i+1:], ";")
			}
		} else {
			v, rest, _ = strings.Cut(after, ";")
			if i := strings.Index(v, " ("); i >= 0 {
				v = v[:i]
			}
			v = strings.TrimSpace(v)
		}
		if params == nil {
			params = map[string]string{}
		}
		if key != "" {
			params[key] = v // of two the last counts, as mail servers have it
		}
	}
	return value, params
}

// bareLF counts line feeds without a carriage return before them.
func bareLF(data []byte) int {
	return bytes.Count(data, []byte{'\n'}) - bytes.Count(data, []byte{'\r', '\n'})
}
