// Package proposal proposes patterns for a value that a person shows in one paper, and counts what each pattern finds
// in other papers. It knows texts only, and reads no file.
package proposal

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/value"
)

const (
	// MostSelected bounds the text that a person selects, in characters.
	MostSelected = 200
	mostLabel    = 4 // words before the value that are taken as its label
)

// Finding is what a proposal finds in one paper.
type Finding struct {
	Text    string // the value in the form of its type; "" where nothing was found
	Problem string // why the text that was found is no such value
}

// Proposal is a pattern for a value, with what it finds.
type Proposal struct {
	From     string // the pattern, such as <file.text find "Order: (BK-[0-9]+)">
	Type     value.Type
	Format   value.Format
	How      string // how the pattern knows the value, as a phrase
	Own      string // the value in the paper in which it was selected
	Found    int    // papers in which it finds a value
	Findings []Finding

	way string // its form, and whether a label stands before it
}

// ErrNotThere is returned where the selected text does not occur in the paper.
var ErrNotThere = errors.New("this text does not occur in the paper")

// ErrNoPattern is returned where no pattern finds the selected text as the first of its kind in the paper.
var ErrNoPattern = errors.New("no simple pattern finds this text in the paper; select a part that looks the same in " +
	"every paper, such as a number with its letters")

// Make proposes patterns for a text that was selected in a paper, the best first. field is the field of patterns that
// holds the papers' texts, such as file.text. occurrence says which of several equal texts was selected, from 0. The
// error is ErrNotThere or ErrNoPattern.
func Make(field, paper, selected string, occurrence int, others []string) ([]Proposal, error) {
	if selected = strings.TrimSpace(selected); utf8.RuneCountInString(selected) > MostSelected {
		return nil, ErrNotThere
	}
	at, selected := locate(paper, selected, occurrence)
	if at < 0 {
		return nil, ErrNotThere
	}
	kind, format := typeOf(selected)
	var all []Proposal
	for _, c := range candidates(paper, selected, at, kind) {
		p := Proposal{From: "<" + field + " find " + quoted(c.find) + ">", Type: kind, Format: format, How: c.how, way: c.way}
		compiled, err := pattern.Parse(p.From, pattern.Prose)
		if err != nil || slices.ContainsFunc(all, func(o Proposal) bool { return o.From == p.From }) {
			continue
		}
		own := find(compiled, field, paper, &p)
		if want, err := value.Read(kind, selected, format); err != nil || own.Text != want {
			continue
		}
		p.Own = own.Text
		for _, other := range others {
			f := find(compiled, field, other, &p)
			if f.Text != "" {
				p.Found++
			}
			p.Findings = append(p.Findings, f)
		}
		all = append(all, p)
	}
	if len(all) == 0 {
		return nil, ErrNoPattern
	}
	// Candidates come from the most to the least particular one. A less particular one goes before another only if it
	// finds the value in clearly more papers.
	clearly := max(1, len(others)/10)
	for i := range all {
		for k := i; k > 0 && all[k].Found >= all[k-1].Found+clearly; k-- {
			all[k], all[k-1] = all[k-1], all[k]
		}
	}
	var ways []string // of several labels for the same form, the best one is offered
	return slices.DeleteFunc(all, func(p Proposal) bool {
		same := slices.Contains(ways, p.way)
		ways = append(ways, p.way)
		return same
	}), nil
}

// locate finds a text in a paper, as it is written there: a person who types it may use other spaces and letters of
// another case. at is -1 where it does not occur so often.
func locate(paper, text string, occurrence int) (at int, written string) {
	if text == "" || occurrence < 0 {
		return -1, text
	}
	words := strings.Fields(text)
	for i := range words {
		words[i] = regexp.QuoteMeta(words[i])
	}
	for _, expression := range []string{regexp.QuoteMeta(text), "(?i)" + strings.Join(words, `\s+`)} {
		like, err := regexp.Compile(expression)
		if err != nil { // it is not UTF-8
			return -1, text
		}
		if found := like.FindAllStringIndex(paper, occurrence+1); len(found) > occurrence {
			return found[occurrence][0], paper[found[occurrence][0]:found[occurrence][1]]
		}
	}
	return -1, text
}

func find(p *pattern.Pattern, field, text string, of *Proposal) Finding {
	found, _, ok := p.Find(&paper{field: field, text: text})
	if !ok {
		return Finding{}
	}
	kept, err := value.Read(of.Type, found, of.Format)
	if err != nil {
		return Finding{Problem: err.Error()}
	}
	return Finding{Text: kept}
}

// paper answers the field of a pattern with a text.
type paper struct{ field, text string }

func (p *paper) Value(field, _ string) pattern.Value {
	if field != p.field {
		return pattern.Value{}
	}
	return pattern.Value{Text: p.text}
}

func (p *paper) Language() language.Tag { return language.Und }

func (p *paper) Lookup(string, string) (string, bool) { return "", false }

// candidate is a regular expression that may find the value.
type candidate struct{ find, how, way string }

// candidates are made from the most to the least particular: the value's form after its label, the form alone, and
// whatever follows the label.
func candidates(text, selected string, at int, kind value.Type) (all []candidate) {
	forms := formsOf(selected, kind)
	line, above := before(text, at)
	labels := labelsOf(line)
	if strings.TrimSpace(line) == "" {
		labels = labelsOf(above)
	}
	for _, f := range forms {
		for _, label := range labels {
			all = append(all, candidate{spaced(label) + `\s*(` + f.find + `)`, f.like + " after “" + label + "”",
				"labelled " + f.find})
		}
	}
	for _, f := range forms {
		if f.telling {
			all = append(all, candidate{`(?:^|[^0-9\pL])(` + f.find + `)(?:$|[^0-9\pL])`,
				f.like + ", anywhere", "anywhere " + f.find})
		}
	}
	if kind == value.Text {
		for _, label := range labels {
			all = append(all, candidate{spaced(label) + `\s*(\S.*?)[^\S\n]*(?:  |\t|\n|$)`, "after “" + label + "”", "labelled"})
		}
	}
	return all
}

// before gives the text between the beginning of the line and the value, and the line above.
func before(text string, at int) (line, above string) {
	start := strings.LastIndexByte(text[:at], '\n') + 1
	line = text[start:at]
	above = strings.TrimRight(text[:max(0, start-1)], " \t\n")
	return line, above[strings.LastIndexByte(above, '\n')+1:]
}

// labelsOf are the last words of a line, from the most to the fewest. A wide gap parts columns, and ends a label.
func labelsOf(line string) (all []string) {
	if i := max(strings.LastIndex(strings.TrimRight(line, " \t"), "   "),
		strings.LastIndexByte(strings.TrimRight(line, " \t"), '\t')); i >= 0 {
		line = line[i:]
	}
	words := strings.Fields(line)
	for n := min(len(words), mostLabel); n > 0; n-- {
		label := strings.Join(words[len(words)-n:], " ")
		if strings.ContainsFunc(label, unicode.IsLetter) { // a colon alone is no label
			all = append(all, label)
		}
	}
	return all
}

// spaced is a label as a regular expression that allows any space between its words, and other digits.
func spaced(label string) string {
	words := strings.Fields(label)
	for i := range words {
		words[i] = shape(words[i], false)
	}
	expression := strings.Join(words, `\s+`)
	if first, _ := utf8.DecodeRuneInString(label); unicode.IsLetter(first) && first < utf8.RuneSelf {
		expression = `\b` + expression
	}
	return expression
}

// form is what a value looks like.
type form struct {
	find    string
	like    string // as a phrase
	telling bool   // nothing else in a paper looks like it, most probably
}

// number and unit are the forms of a number with its groups of digits, and of a currency.
const (
	number = `-?[0-9]+(?:[.,'’ \x{a0}\x{202f}]?[0-9]+)*`
	unit   = `(?:[A-Z]{2,3}|\p{Sc})`
)

// formsOf are the forms of a text, from the strictest on.
func formsOf(text string, kind value.Type) []form {
	like := "like “" + text + "”"
	switch kind {
	case value.Date:
		return []form{{shape(text, true), like, true}}
	case value.Number:
		return []form{{number, like, false}}
	case value.Amount:
		if first, _ := utf8.DecodeRuneInString(text); unicode.IsDigit(first) || first == '-' {
			return []form{{number + `\s?` + unit, like, false}}
		}
		return []form{{unit + `\s?` + number, like, false}}
	}
	digits := strings.ContainsFunc(text, unicode.IsDigit)
	if !digits || strings.Count(text, " ") > 2 {
		return nil // words: they differ from paper to paper
	}
	letters := strings.ContainsFunc(text, unicode.IsLetter)
	kept := form{shape(text, false), like, letters || len(text) >= 6}
	if !letters {
		return []form{kept}
	}
	return []form{kept, {shape(text, true), like + " with any letters", false}}
}

// shape is a regular expression of a text: its digits may be others, and with any its letters, too.
func shape(text string, any bool) string {
	var b strings.Builder
	class := func(r rune) string {
		switch {
		case unicode.IsDigit(r):
			return "[0-9]+"
		case unicode.IsSpace(r):
			return `\s+`
		case any && unicode.IsLetter(r):
			return `\pL+`
		}
		return regexp.QuoteMeta(string(r))
	}
	last := ""
	for _, r := range text {
		next := class(r)
		if next == last && strings.HasSuffix(next, "+") {
			continue
		}
		b.WriteString(next)
		last = next
	}
	return b.String()
}

var (
	grouped = regexp.MustCompile(`^` + number + `$`)
	priced  = regexp.MustCompile(`^(?i:` + unit + `\s?` + number + `|` + number + `\s?` + unit + `)$`)
)

// typeOf is what a text most probably is, and how it is written. Digits alone, such as 20441, stay a text: most are the
// names of things.
func typeOf(text string) (value.Type, value.Format) {
	if strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsDigit(r) }) {
		for _, order := range []string{"", value.MonthFirst} {
			f := value.Format{Order: order}
			if _, err := value.Read(value.Date, text, f); err == nil {
				return value.Date, f
			}
		}
	}
	for _, decimal := range []string{"", value.Point, value.Comma} {
		f := value.Format{Decimal: decimal}
		if _, err := value.Read(value.Amount, text, f); err == nil && priced.MatchString(text) {
			return value.Amount, f
		}
		if _, err := value.Read(value.Number, text, f); err == nil && strings.ContainsAny(text, ".,") &&
			grouped.MatchString(text) {
			return value.Number, f
		}
	}
	return value.Text, value.Format{}
}

// quoted is a regular expression as it stands in a pattern.
func quoted(expression string) string {
	return fmt.Sprintf(`"%s"`, strings.NewReplacer(`\\`, `\\\\`, `"`, `\"`).Replace(expression))
}
