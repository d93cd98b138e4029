// Package render writes a message in another form: as plain text, as a web page
// that loads nothing, as a PDF with its pictures. It counts and reports what it
// cannot draw. It fetches nothing: pictures on other servers are left out.
package render

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"strings"
	"time"

	"github.com/microcosm-cc/bluemonday"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

// maxBody bounds the text that is drawn, in octets.
const maxBody = 4 << 20

// maxPicture bounds one picture within the text, in octets.
const maxPicture = 20 << 20

// Request says in what form.
type Request struct {
	Form rule.CopyForm `json:"form"` // html, text or pdf
	Zone string        `json:"zone"` // IANA name, for the dates
}

// Report says what could not be drawn.
type Report struct {
	Undrawn int    `json:"undrawn"` // characters without a shape in the typeface
	Such    string `json:"such"`    // the first of them
	Remote  int    `json:"remote"`  // pictures that lie elsewhere
	Broken  int    `json:"broken"`  // pictures that cannot be read
	Cut     bool   `json:"cut"`     // the text is longer than what is drawn
}

// Sentence says it in words, "" where all was drawn.
func (r Report) Sentence() string {
	var parts []string
	if r.Undrawn > 0 {
		parts = append(parts, fmt.Sprintf("%s could not be drawn here (such as %s)", number(r.Undrawn, "character"), r.Such))
	}
	if r.Broken > 0 {
		parts = append(parts, number(r.Broken, "picture")+" could not be read")
	}
	if r.Remote > 0 {
		parts = append(parts, number(r.Remote, "picture")+" on another server: not fetched")
	}
	if r.Cut {
		parts = append(parts, "the text is too long to be drawn in full")
	}
	if len(parts) == 0 {
		return ""
	}
	return strings.ToUpper(parts[0][:1]) + strings.Join(parts, "; ")[1:] + "."
}

// Whole says whether the message's own text was drawn in full.
func (r Report) Whole() bool { return r.Undrawn == 0 && r.Broken == 0 && !r.Cut }

func number(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Write writes a message, given as its raw bytes, to w.
func Write(w io.Writer, raw []byte, r Request) (Report, error) {
	l := read(raw, r.Zone)
	switch r.Form {
	case rule.CopyText:
		_, err := io.WriteString(w, l.text())
		return l.report, err
	case rule.CopyHTML:
		_, err := io.WriteString(w, l.page())
		return l.report, err
	case rule.CopyPDF:
		return l.pdf(w)
	}
	return Report{}, fmt.Errorf("there is no form %q", r.Form)
}

// letter is a message taken apart for drawing.
type letter struct {
	message  *mail.Message
	raw      *mail.Raw
	zone     *time.Location
	head     [][2]string
	plain    string
	html     string
	pictures map[string]picture // by Content-ID
	files    []mail.Item
	report   Report
}

type picture struct {
	mediaType string
	data      []byte
}

func read(data []byte, zone string) *letter {
	raw := mail.Parse(data)
	l := &letter{message: raw.Message, raw: raw, pictures: map[string]picture{}, zone: time.UTC}
	if z, err := time.LoadLocation(zone); err == nil {
		l.zone = z
	}
	e := &raw.Message.Envelope
	add := func(name, value string) {
		if value = strings.TrimSpace(value); value != "" {
			l.head = append(l.head, [2]string{name, value})
		}
	}
	add("From", addresses(e.From))
	add("To", addresses(e.To))
	add("Cc", addresses(e.Cc))
	if !e.Date.IsZero() {
		add("Date", e.Date.In(l.zone).Format("2006-01-02 15:04 -0700"))
	}
	add("Subject", e.Subject)
	inline := map[string]bool{}
	raw.Message.Walk(func(p *mail.Part) bool {
		if p.Media() == "image" && p.ContentID != "" && p.Size < maxPicture*3/2 {
			if in, err := raw.Open(p.Item); err == nil {
				if data, err := io.ReadAll(io.LimitReader(mail.Decode(p.Encoding, in), maxPicture)); err == nil {
					l.pictures[p.ContentID] = picture{p.Type, data}
					inline[p.Item] = true
				}
			}
		}
		return true
	})
	for _, i := range raw.Message.Items() {
		if !inline[i.ID] && !i.Detached {
			l.files = append(l.files, i)
		}
	}
	l.bodies(&raw.Message.Root)
	return l
}

// bodies gathers the text of the message; of alternatives both the plain and
// the web form.
func (l *letter) bodies(p *mail.Part) {
	switch {
	case p.Media() == "multipart":
		for i := range p.Children {
			l.bodies(&p.Children[i])
		}
	case (p.Type == "text/plain" || p.Type == "text/html") && p.Disposition != "attachment" && p.Name == "":
		in, err := l.raw.Open(p.Item)
		if err != nil {
			return
		}
		data, err := io.ReadAll(io.LimitReader(mail.Decode(p.Encoding, in), maxBody))
		if err != nil {
			return
		}
		text := mail.ConvertText(data, p.Charset)
		if p.Type == "text/html" {
			l.html += text
		} else {
			l.plain += text + "\n"
		}
	}
}

func addresses(list []mail.Address) string {
	var all []string
	for _, a := range list {
		if a.Name != "" && a.String() != "" {
			all = append(all, a.Name+" <"+a.String()+">")
		} else {
			all = append(all, a.Label())
		}
	}
	return strings.Join(all, ", ")
}

// enclosed says which files came with the message.
func (l *letter) enclosed() string {
	var all []string
	for _, f := range l.files {
		all = append(all, f.Name+" ("+rule.About(f.Size)+")")
	}
	return strings.Join(all, ", ")
}

func (l *letter) text() string {
	var b strings.Builder
	for _, h := range l.head {
		b.WriteString(h[0] + ": " + h[1] + "\n")
	}
	if files := l.enclosed(); files != "" {
		b.WriteString("Attachments: " + files + "\n")
	}
	b.WriteString("\n")
	if strings.TrimSpace(l.plain) != "" || l.html == "" {
		b.WriteString(strings.ReplaceAll(strings.TrimRight(l.plain, "\r\n \t"), "\r\n", "\n") + "\n")
		return b.String()
	}
	for _, block := range blocksOf(l.html) {
		b.WriteString(block.plain() + "\n")
	}
	return b.String()
}

// page is a web page that loads nothing.
func (l *letter) page() string {
	var b strings.Builder
	title := html.EscapeString(l.message.Envelope.Subject)
	b.WriteString("<!doctype html>\n<html><head><meta charset=\"utf-8\">\n<meta http-equiv=\"Content-Security-Policy\" " +
		"content=\"default-src 'none'; img-src data:; style-src 'unsafe-inline'\">\n<title>" +
		title + "</title>\n<style>body{font:16px/1.5 sans-serif;max-width:48rem;margin:2rem auto;padding:0 " +
		"1rem}dl{display:grid;grid-template-columns:auto 1fr;gap:0 " +
		"1rem}dt{color:#555}dd{margin:0}img{max-width:100%}pre{white-space:pre-wrap}</style></head>\n<body>\n<dl>\n")
	for _, h := range l.head {
		b.WriteString("<dt>" + h[0] + "</dt><dd>" + html.EscapeString(h[1]) + "</dd>\n")
	}
	if files := l.enclosed(); files != "" {
		b.WriteString("<dt>Attachments</dt><dd>" + html.EscapeString(files) + "</dd>\n")
	}
	b.WriteString("</dl>\n<hr>\n")
	if l.html == "" {
		b.WriteString("<pre>" + html.EscapeString(strings.TrimRight(l.plain, "\r\n \t")) + "</pre>\n")
	} else {
		b.WriteString(l.harmless() + "\n")
	}
	if said := l.report.Sentence(); said != "" {
		b.WriteString("<hr><p>" + html.EscapeString(said) + "</p>\n")
	}
	b.WriteString("</body></html>\n")
	return b.String()
}

// harmless is the message's web form without anything that acts or loads.
func (l *letter) harmless() string {
	source := inlined(l.html, func(src string) string {
		if id, ok := strings.CutPrefix(strings.ToLower(src[:min(4, len(src))])+src[min(4, len(src)):], "cid:"); ok {
			if p, there := l.pictures[id]; there &&
				(p.mediaType == "image/png" || p.mediaType == "image/jpeg" || p.mediaType == "image/gif") {
				return "data:" + p.mediaType + ";base64," + base64.StdEncoding.EncodeToString(p.data)
			}
			l.report.Broken++
			return ""
		}
		if strings.HasPrefix(src, "data:") {
			return src
		}
		l.report.Remote++
		return ""
	})
	policy := bluemonday.UGCPolicy()
	policy.AllowDataURIImages()
	policy.RequireNoReferrerOnLinks(true)
	return policy.Sanitize(source)
}

// pdf draws the message.
func (l *letter) pdf(w io.Writer) (Report, error) {
	var blocks []block
	if l.html != "" {
		blocks = blocksOf(l.html)
	} else {
		blocks = blocksOfText(l.plain)
	}
	var out bytes.Buffer
	if err := l.draw(&out, blocks); err != nil {
		return l.report, fmt.Errorf("the message could not be drawn: %w", err)
	}
	_, err := w.Write(out.Bytes())
	return l.report, err
}
