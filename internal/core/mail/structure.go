package mail

import (
	"bytes"
	"fmt"
	"io"
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
	Header            Header            `json:",omitempty"` // of a forwarded message: Date, From, To, Cc, Subject, Message-ID
	Children          []Structure       `json:",omitempty"` // parts of a multipart, or the body of a forwarded message

	start, end int // where the content lies in the raw message
}

// Raw is a message whose bytes are at hand.
type Raw struct {
	Message *Message
	data    []byte
	parts   map[string]*Structure
}

// Parse reads a whole message from its bytes. It never fails: what is not a
// message becomes one with a text body. The bytes must not change afterwards.
func Parse(data []byte) *Raw {
	header, body := ParseHeader(data)
	p := parser{data: data}
	s := p.entity(header, len(data)-len(body), len(data), 0, "text", "plain")
	m := New(header.Keep(HeaderFields), &s)
	m.Size = int64(len(data) + bareLF(data))
	m.Truncated = m.Truncated || p.truncated
	r := &Raw{Message: m, data: data, parts: map[string]*Structure{}}
	r.index(&s, &m.Root)
	return r
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
		_, body := ParseHeader(r.data)
		return bytes.NewReader(r.data[:len(r.data)-len(body)]), nil
	}
	s := r.parts[item]
	if s == nil || item == "" {
		return nil, fmt.Errorf("the message has no part %q", item)
	}
	return bytes.NewReader(r.data[s.start:s.end]), nil
}

type parser struct {
	data      []byte
	count     int
	truncated bool
}

// entity reads the MIME entity whose content lies in data[start:end].
func (p *parser) entity(h Header, start, end, depth int, defaultType, defaultSubtype string) Structure {
	p.count++
	s := Structure{Type: defaultType, Subtype: defaultSubtype, start: start, end: end}
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
	content := p.data[start:end]
	s.Size = int64(len(content) + bareLF(content))
	if depth >= MaxDepth || p.count >= MaxParts {
		p.truncated = true
		return s
	}
	switch {
	case s.Type == "multipart":
		boundary := s.Params["boundary"]
		if boundary == "" {
			s.Type, s.Subtype = "text", "plain"
			break
		}
		child := "plain"
		childType := "text"
		if s.Subtype == "digest" {
			childType, child = "message", "rfc822"
		}
		p.split(start, end, boundary, func(from, to int) bool {
			if p.count >= MaxParts {
				p.truncated = true
				return false
			}
			header, body := ParseHeader(p.data[from:to])
			s.Children = append(s.Children, p.entity(header, to-len(body), to, depth+1, childType, child))
			return true
		})
		if len(s.Children) == 0 {
			s.Type, s.Subtype = "text", "plain"
		}
	case s.Type == "message" && (s.Subtype == "rfc822" || s.Subtype == "global"):
		enc := strings.ToLower(s.Encoding)
		if enc == "base64" || enc == "quoted-printable" {
			break // forbidden by RFC 2046 section 5.2.1; kept as a file
		}
		header, body := ParseHeader(content)
		s.Header = header.Keep(forwardFields)
		s.Children = []Structure{p.entity(header, end-len(body), end, depth+1, "text", "plain")}
	}
	return s
}

var forwardFields = []string{"Date", "From", "To", "Cc", "Subject", "Message-ID"}

// split calls f with the bounds of each part of a multipart (RFC 2046 section
// 5.1.1). The line end before a boundary belongs to the boundary. A missing
// last boundary ends the last part at the end of the data.
func (p *parser) split(start, end int, boundary string, f func(from, to int) bool) {
	mark := []byte("--" + boundary)
	from := -1
	for pos := start; pos < end; {
		lineEnd := bytes.IndexByte(p.data[pos:end], '\n')
		next := end
		if lineEnd >= 0 {
			next = pos + lineEnd + 1
		}
		line := bytes.TrimRight(p.data[pos:next], " \t\r\n")
		if bytes.HasPrefix(line, mark) {
			rest := line[len(mark):]
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
					if !f(from, to) {
						return
					}
				}
				from = next
				if last {
					return
				}
			}
		}
		pos = next
	}
	if from >= 0 && from < end {
		f(from, end)
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
		key, after, ok := strings.Cut(rest, "=")
		if !ok {
			break
		}
		if i := strings.IndexByte(key, ';'); i >= 0 { // "inline; odd; name=x"
			rest = rest[i+1:]
			continue
		}
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
		if _, twice := params[key]; !twice && key != "" {
			params[key] = v
		}
	}
	return value, params
}

// bareLF counts line feeds without a carriage return before them.
func bareLF(data []byte) int {
	return bytes.Count(data, []byte{'\n'}) - bytes.Count(data, []byte{'\r', '\n'})
}
