package render

import (
	"strings"

	"golang.org/x/net/html"
)

// run is a piece of text in one style.
type run struct {
	text         string
	bold, italic bool
	link         string
}

// block is a paragraph, or a picture.
type block struct {
	runs    []run
	heading int    // 1 to 6
	indent  int    // of lists and quotations
	mark    string // before the first line of a list's item
	fixed   bool   // line ends are kept
	line    bool   // a rule across the page
	picture string // the source of a picture
	alt     string
}

// maxBlocks bounds what one message is taken apart into.
const maxBlocks = 20_000

func (b *block) plain() string {
	switch {
	case b.line:
		return strings.Repeat("-", 40)
	case b.picture != "":
		return "[picture: " + b.alt + "]"
	}
	var s strings.Builder
	s.WriteString(strings.Repeat("  ", b.indent) + b.mark)
	for _, r := range b.runs {
		s.WriteString(r.text)
		if r.link != "" && !strings.Contains(r.text, r.link) {
			s.WriteString(" <" + r.link + ">")
		}
	}
	if b.heading > 0 {
		s.WriteString("\n")
	}
	return s.String()
}

func blocksOfText(s string) []block {
	var all []block
	s = strings.ReplaceAll(strings.TrimRight(s, "\r\n \t"), "\r\n", "\n")
	for _, p := range strings.Split(s, "\n\n") {
		if len(all) < maxBlocks {
			all = append(all, block{runs: []run{{text: strings.Trim(p, "\n")}}, fixed: true})
		}
	}
	return all
}

// blocksOf takes a web text apart. What it does not know it takes as text.
func blocksOf(source string) []block {
	p := &taker{}
	z := html.NewTokenizer(strings.NewReader(source))
	for len(p.all) < maxBlocks {
		switch z.Next() {
		case html.ErrorToken:
			p.end()
			return p.all
		case html.TextToken:
			p.text(string(z.Text()))
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			p.open(t.Data, attribute(t, "src"), attribute(t, "href"), attribute(t, "alt"))
		case html.EndTagToken:
			name, _ := z.TagName()
			p.close(string(name))
		}
	}
	p.end()
	return p.all
}

func attribute(t html.Token, name string) string {
	for _, a := range t.Attr {
		if a.Key == name {
			return strings.TrimSpace(a.Val)
		}
	}
	return ""
}

type taker struct {
	all          []block
	now          block
	bold, italic int
	link         string
	hidden       int
	pre          int
	indent       int
	lists        []int // the number of the item, -1 in a list without numbers
	cells        int
}

// end closes the paragraph in hand.
func (p *taker) end() {
	if n := len(p.now.runs); n > 0 && !p.now.fixed {
		p.now.runs[n-1].text = strings.TrimRight(p.now.runs[n-1].text, " ")
	}
	content := false
	for _, r := range p.now.runs {
		content = content || strings.TrimSpace(r.text) != ""
	}
	if content {
		p.all = append(p.all, p.now)
	}
	p.now = block{indent: p.indent, fixed: p.pre > 0}
}

func (p *taker) text(s string) {
	if p.hidden > 0 {
		return
	}
	if p.pre == 0 {
		lead := strings.TrimLeft(s, " \t\r\n\u00a0") != s
		trail := strings.TrimRight(s, " \t\r\n\u00a0") != s
		s = strings.Join(strings.Fields(s), " ")
		if lead && len(p.now.runs) > 0 && !strings.HasSuffix(p.now.runs[len(p.now.runs)-1].text, " ") &&
			!strings.HasSuffix(p.now.runs[len(p.now.runs)-1].text, "\n") {
			s = " " + s
		}
		if trail && s != "" && s != " " {
			s += " "
		}
	}
	if s == "" || s == " " && len(p.now.runs) == 0 {
		return
	}
	p.now.runs = append(p.now.runs, run{s, p.bold > 0, p.italic > 0, p.link})
}

func (p *taker) open(tag, src, href, alt string) {
	switch tag {
	case "style", "script", "head", "title", "template":
		p.hidden++
	case "p", "div", "section", "article", "header", "footer", "table", "center", "address", "dl", "dt", "dd", "form",
		"fieldset":
		p.end()
	case "tr":
		p.end()
		p.cells = 0
	case "td", "th":
		if p.cells++; p.cells > 1 && len(p.now.runs) > 0 {
			p.now.runs = append(p.now.runs, run{text: "   "})
		}
		if tag == "th" {
			p.bold++
		}
	case "h1", "h2", "h3", "h4", "h5", "h6":
		p.end()
		p.now.heading = int(tag[1] - '0')
	case "br":
		p.now.runs = append(p.now.runs, run{text: "\n"})
	case "hr":
		p.end()
		p.all = append(p.all, block{line: true})
	case "b", "strong":
		p.bold++
	case "i", "em", "cite":
		p.italic++
	case "a":
		if p.link = href; !strings.HasPrefix(href, "http") && !strings.HasPrefix(href, "mailto:") {
			p.link = ""
		}
	case "pre":
		p.pre++
		p.end()
	case "blockquote":
		p.end()
		p.indent = min(p.indent+1, 8)
		p.now.indent = p.indent
	case "ul", "ol":
		p.end()
		number := -1
		if tag == "ol" {
			number = 0
		}
		p.lists = append(p.lists, number)
		p.indent = min(p.indent+1, 8)
		p.now.indent = p.indent
	case "li":
		p.end()
		p.now.mark = "• "
		if n := len(p.lists); n > 0 && p.lists[n-1] >= 0 {
			p.lists[n-1]++
			p.now.mark = numbered(p.lists[n-1])
		}
	case "img":
		if p.hidden == 0 && src != "" {
			p.end()
			p.all = append(p.all, block{picture: src, alt: alt, indent: p.indent})
		}
	}
}

func numbered(n int) string {
	digits := ""
	for ; n > 0; n /= 10 {
		digits = string(rune('0'+n%10)) + digits
	}
	return digits + ". "
}

func (p *taker) close(tag string) {
	less := func(n *int) { *n = max(0, *n-1) }
	switch tag {
	case "style", "script", "head", "title", "template":
		less(&p.hidden)
	case "b", "strong":
		less(&p.bold)
	case "th":
		less(&p.bold)
	case "i", "em", "cite":
		less(&p.italic)
	case "a":
		p.link = ""
	case "pre":
		p.end()
		less(&p.pre)
		p.now.fixed = p.pre > 0
	case "p", "div", "li", "tr", "h1", "h2", "h3", "h4", "h5", "h6", "table", "section", "article":
		p.end()
	case "blockquote":
		p.end()
		less(&p.indent)
		p.now.indent = p.indent
	case "ul", "ol":
		p.end()
		less(&p.indent)
		p.now.indent = p.indent
		if n := len(p.lists); n > 0 {
			p.lists = p.lists[:n-1]
		}
	}
}

// inlined gives every picture of a web text another source; "" takes it out.
func inlined(source string, to func(src string) string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(source))
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			return b.String()
		}
		raw := string(z.Raw())
		if kind != html.StartTagToken && kind != html.SelfClosingTagToken {
			b.WriteString(raw)
			continue
		}
		t := z.Token()
		if t.Data != "img" {
			b.WriteString(raw)
			continue
		}
		src := to(attribute(t, "src"))
		if src == "" {
			b.WriteString("[picture]")
			continue
		}
		b.WriteString(`<img src="` + html.EscapeString(src) + `" alt="` + html.EscapeString(attribute(t, "alt")) + `">`)
	}
}
