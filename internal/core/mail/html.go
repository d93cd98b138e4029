package mail

import (
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// ownLine are the elements that stand on lines of their own.
var ownLine = map[atom.Atom]bool{
	atom.Address: true, atom.Article: true, atom.Blockquote: true, atom.Br: true, atom.Dd: true, atom.Div: true,
	atom.Dl: true, atom.Dt: true, atom.Footer: true, atom.Form: true,
	atom.H1: true, atom.H2: true, atom.H3: true, atom.H4: true, atom.H5: true, atom.H6: true, atom.Header: true,
	atom.Hr: true, atom.Li: true, atom.Ol: true, atom.P: true, atom.Pre: true,
	atom.Section: true, atom.Table: true, atom.Title: true, atom.Tr: true, atom.Ul: true,
}

// HTMLText keeps what a person would read of an HTML text, line by line.
func HTMLText(s string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(s))
	hidden := 0
	apart := "" // what goes before the next word
	for {
		kind := z.Next()
		switch kind {
		case html.ErrorToken:
			return b.String()
		case html.TextToken:
			if hidden > 0 {
				continue
			}
			text := string(z.Text())
			words := strings.Fields(text)
			if apart == "" && strings.TrimLeft(text, " \t\r\n\f") != text {
				apart = " "
			}
			for _, word := range words {
				if b.Len() > 0 {
					b.WriteString(apart)
				}
				b.WriteString(word)
				apart = " "
			}
			if len(words) > 0 && strings.TrimRight(text, " \t\r\n\f") == text {
				apart = ""
			}
		case html.StartTagToken, html.EndTagToken, html.SelfClosingTagToken:
			name, _ := z.TagName()
			switch tag := atom.Lookup(name); {
			case tag == atom.Style || tag == atom.Script:
				if kind == html.StartTagToken {
					hidden++
				} else if kind == html.EndTagToken && hidden > 0 {
					hidden--
				}
			case ownLine[tag]:
				apart = "\n"
			case (tag == atom.Td || tag == atom.Th) && apart != "\n":
				apart = " "
			}
		}
	}
}
