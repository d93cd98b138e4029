// Package pattern is the language in which folders and file names are made:
// text with fields in angle brackets. It parses, explains its mistakes by
// column, and evaluates over values that it is handed; it reads no clock and
// no message.
//
//	pattern = *( text / "<" choice ">" )
//	choice  = value *( " or " value )
//	value   = [ quoted " " ] field *( " " word ) [ " " quoted ] / quoted
//	word    = date word / as quoted / minus N unit / find quoted / without quoted
//	          / first N [words] / upper / lower / plain / pad N
//	quoted  = '"' *( any but " and \ / '\"' / '\\' ) '"'
package pattern

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"inktray.example/inktray/internal/core/safename"
)

// Shape says what a pattern makes.
type Shape int

// The shapes: Folder makes a path of folders, Name the stem of one file name,
// Prose a text for people.
const (
	Folder Shape = iota
	Name
	Prose
)

// Error is a mistake in a pattern.
type Error struct {
	Pattern string
	Column  int    // in characters, from 1
	Problem string // a sentence without its full stop
	Meant   string // what was probably meant, or ""
}

func (e *Error) Error() string {
	s := fmt.Sprintf("column %d: %s", e.Column, e.Problem)
	if e.Meant != "" {
		s += fmt.Sprintf("; did you mean %q?", e.Meant)
	}
	return s
}

// Pattern is a parsed pattern. It may be used by several goroutines at once.
type Pattern struct {
	source   string
	shape    Shape
	segments [][]piece
	fixed    []string // the name of a segment without fields, else ""
}

type piece struct {
	text   string
	choice []value // nil for text
}

type value struct {
	before, after string // outer quotes, which vanish with an empty field
	literal       bool   // nothing but a quoted text, kept in before
	field         *Field
	argument      string  // of header
	table         string  // of lookup
	of            []value // what is looked up
	words         []word
	column        int
}

type word struct {
	name   string
	number int
	text   string
	unit   string
	find   *regexp.Regexp
}

// String is the pattern as it was written.
func (p *Pattern) String() string { return p.source }

// Parse reads a pattern, which may name more fields than those of every pattern. The error, if any, is an *Error.
func Parse(source string, shape Shape, more ...Field) (*Pattern, error) {
	s := &scanner{source: []rune(source), more: more}
	p := &Pattern{source: source, shape: shape}
	if !utf8.ValidString(source) {
		return nil, s.fail(0, "the pattern is not valid UTF-8")
	}
	if strings.TrimSpace(source) == "" {
		return nil, s.fail(0, "the pattern is empty")
	}
	segment, start, text := []piece{}, 0, []rune{}
	endText := func() {
		if len(text) > 0 {
			segment = append(segment, piece{text: string(text)})
			text = text[:0]
		}
	}
	endSegment := func(at int) error {
		endText()
		if shape == Prose {
			p.segments, p.fixed = append(p.segments, segment), append(p.fixed, "")
			return nil
		}
		if len(segment) == 0 || len(segment) == 1 && segment[0].choice == nil && strings.Trim(segment[0].text, " .") == "" {
			written := strings.TrimSpace(string(s.source[start:at]))
			if written == "" {
				return s.fail(start, "a folder without a name")
			}
			return s.fail(start, "%q cannot be a name: a name does not consist of dots", written)
		}
		name := ""
		if len(segment) == 1 && segment[0].choice == nil {
			name = safename.Segment(segment[0].text)
		}
		p.segments, p.fixed = append(p.segments, segment), append(p.fixed, name)
		segment, start = nil, at+1
		return nil
	}
	for s.pos < len(s.source) {
		at := s.pos
		switch c := s.source[at]; {
		case c == '<':
			endText()
			s.pos++
			choice, err := s.choice('>')
			if err != nil {
				return nil, err
			}
			segment = append(segment, piece{choice: choice})
		case c == '>':
			return nil, s.fail(at, "a > without its <")
		case shape == Prose:
			if c < 0x20 && c != '\n' && c != '\t' && c != '\r' || c == 0x7f {
				return nil, s.fail(at, "a text cannot hold a control character")
			}
			if c != '\r' {
				text = append(text, c)
			}
			s.pos++
		case c == '/' && shape == Folder:
			if err := endSegment(at); err != nil {
				return nil, err
			}
			s.pos++
		case c == '/':
			return nil, s.fail(at, "a file name cannot hold /; folders go into the folder pattern")
		case strings.ContainsRune(safename.Unsafe, c):
			return nil, s.fail(at, "a name cannot hold %c", c)
		case c < 0x20 || c == 0x7f:
			return nil, s.fail(at, "a name cannot hold a control character")
		default:
			text = append(text, c)
			s.pos++
		}
	}
	if err := endSegment(len(s.source)); err != nil {
		return nil, err
	}
	if shape != Prose {
		for _, u := range p.Uses() {
			if f := s.field(u.Field); f != nil && f.Prose {
				return nil, s.fail(u.Column-1, "<%s> is for texts, not for names", u.Field)
			}
		}
	}
	if err := p.checkYears(s); err != nil {
		return nil, err
	}
	return p, nil
}

// checkYears refuses a week counted with the calendar year: the first days of
// January can lie in a week of the year before.
func (p *Pattern) checkYears(s *scanner) error {
	type seen struct{ week, weekYear, year *value }
	dates := map[string]*seen{}
	p.each(func(v *value) {
		if v.field == nil || v.field.Type != Date {
			return
		}
		d := dates[v.field.Name]
		if d == nil {
			d = &seen{}
			dates[v.field.Name] = d
		}
		for _, w := range v.words {
			switch w.name {
			case "week":
				d.week = v
			case "week year":
				d.weekYear = v
			case "year":
				d.year = v
			}
		}
	})
	for name, d := range dates {
		if d.week != nil && d.year != nil && d.weekYear == nil {
			return s.failMeant(d.year.column, "<"+name+" week year>", "a week does not go with the calendar year: days around "+
				"New Year would land in the wrong folder")
		}
	}
	return nil
}

func (p *Pattern) each(f func(*value)) {
	var walk func([]value)
	walk = func(choice []value) {
		for i := range choice {
			f(&choice[i])
			walk(choice[i].of)
		}
	}
	for _, segment := range p.segments {
		for _, piece := range segment {
			walk(piece.choice)
		}
	}
}

// Use is one field of a pattern and where it is.
type Use struct {
	Field    string
	Argument string // the header's name, or the lookup's table
	Column   int
}

// Uses lists the fields that the pattern names, in order.
func (p *Pattern) Uses() []Use {
	var uses []Use
	p.each(func(v *value) {
		switch {
		case v.table != "":
			uses = append(uses, Use{"lookup", v.table, v.column + 1})
		case v.field != nil:
			uses = append(uses, Use{v.field.Name, v.argument, v.column + 1})
		}
	})
	return uses
}

// scanner reads the inside of a field.
type scanner struct {
	source []rune
	pos    int
	more   []Field
}

// field finds a field by its name; nil where there is none.
func (s *scanner) field(name string) *Field {
	for i := range s.more {
		if s.more[i].Name == name {
			return &s.more[i]
		}
	}
	return fieldNamed(name)
}

func (s *scanner) fail(at int, format string, args ...any) *Error {
	return s.failMeant(at, "", format, args...)
}

func (s *scanner) failMeant(at int, meant, format string, args ...any) *Error {
	return &Error{Pattern: string(s.source), Column: at + 1, Problem: fmt.Sprintf(format, args...), Meant: meant}
}

type token struct {
	text   string
	quoted bool
	at     int
}

// next reads one token; end is true at the closing character, which is consumed.
func (s *scanner) next(closing rune) (t token, end bool, err error) {
	for s.pos < len(s.source) && s.source[s.pos] == ' ' {
		s.pos++
	}
	t.at = s.pos
	if s.pos >= len(s.source) {
		return t, false, s.fail(len(s.source), "the field is not closed: %c is missing", closing)
	}
	switch c := s.source[s.pos]; c {
	case closing:
		s.pos++
		return t, true, nil
	case '"':
		t.quoted = true
		var b strings.Builder
		for s.pos++; s.pos < len(s.source); s.pos++ {
			c := s.source[s.pos]
			if c == '\\' && s.pos+1 < len(s.source) && (s.source[s.pos+1] == '"' || s.source[s.pos+1] == '\\') {
				s.pos++
				c = s.source[s.pos]
			} else if c == '"' {
				s.pos++
				t.text = b.String()
				return t, false, nil
			}
			b.WriteRune(c)
		}
		return t, false, s.fail(t.at, "the quoted text is not closed: \" is missing")
	case '(':
		s.pos++
		t.text = "("
		return t, false, nil
	case '<', '>', ')':
		return t, false, s.fail(t.at, "%c cannot stand inside a field", c)
	}
	for s.pos < len(s.source) && !strings.ContainsRune(" \"<>()", s.source[s.pos]) {
		s.pos++
	}
	t.text = string(s.source[t.at:s.pos])
	return t, false, nil
}

// peek reads the next token without moving on.
func (s *scanner) peek(closing rune) (token, bool) {
	pos := s.pos
	t, end, err := s.next(closing)
	s.pos = pos
	return t, !end && err == nil
}

func (s *scanner) choice(closing rune) ([]value, error) {
	var choice []value
	opened := s.pos - 1
	for {
		v, end, err := s.value(closing)
		if err != nil {
			return nil, err
		}
		if v == nil {
			if len(choice) > 0 {
				return nil, s.fail(s.pos-1, "a field is missing after \"or\"")
			}
			return nil, s.failMeant(opened, "<received year>", "an empty field")
		}
		choice = append(choice, *v)
		if end {
			return choice, nil
		}
	}
}

// value reads up to "or" or the closing character. It is nil where nothing is.
func (s *scanner) value(closing rune) (*value, bool, error) {
	t, end, err := s.next(closing)
	if err != nil || end {
		return nil, end, err
	}
	v := &value{column: t.at}
	if t.quoted {
		v.before = t.text
		next, more := s.peek(closing)
		if !more || next.text == "or" && !next.quoted {
			v.literal = true
			_, end, err := s.next(closing)
			return v, end, err
		}
		if t, end, err = s.next(closing); err != nil || end {
			return v, end, err
		}
		if t.quoted {
			return nil, false, s.fail(t.at, "a field is missing between two quoted texts")
		}
	}
	if t.text == "or" {
		return nil, false, s.fail(t.at, "a field is missing before \"or\"")
	}
	v.column = t.at
	if t.text == "lookup" {
		if err := s.lookup(v, closing); err != nil {
			return nil, false, err
		}
	} else if v.field = s.field(t.text); v.field == nil {
		names := fieldNames()
		for _, f := range s.more {
			names = append(names, f.Name)
		}
		return nil, false, s.failMeant(t.at, nearest(t.text, names), "there is no field %q", t.text)
	}
	if v.field != nil && v.field.Argument {
		a, end, err := s.next(closing)
		if err != nil {
			return nil, false, err
		}
		if end || !a.quoted || a.text == "" {
			return nil, false, s.failMeant(a.at, `header "X-Reference"`, "the name of the header field is missing, in quotes")
		}
		v.argument = a.text
	}
	date := v.field != nil && v.field.Type == Date
	for {
		t, end, err := s.next(closing)
		if err != nil {
			return nil, false, err
		}
		if end || t.text == "or" && !t.quoted {
			return v, end, nil
		}
		if t.quoted {
			v.after = t.text
			t, end, err = s.next(closing)
			if err != nil {
				return nil, false, err
			}
			if !end && (t.quoted || t.text != "or") {
				return nil, false, s.fail(t.at, "nothing can follow the closing quoted text but \"or\"")
			}
			return v, end, nil
		}
		w, err := s.word(t, closing, date)
		if err != nil {
			return nil, false, err
		}
		if w.name != "minus" {
			date = false
		}
		v.words = append(v.words, w)
	}
}

func (s *scanner) lookup(v *value, closing rune) error {
	t, end, err := s.next(closing)
	if err != nil {
		return err
	}
	if end || t.text == "" || t.text == "(" {
		return s.fail(t.at, "the name of the table is missing after lookup")
	}
	v.table = t.text
	if t, end, err = s.next(closing); err != nil {
		return err
	}
	if end || t.text != "of" || t.quoted {
		return s.fail(t.at, "\"of\" is missing after the table's name")
	}
	if t, end, err = s.next(closing); err != nil {
		return err
	}
	if end || t.text != "(" || t.quoted {
		return s.fail(t.at, "write what to look up in brackets: lookup %s of (file.stem)", v.table)
	}
	v.of, err = s.choice(')')
	return err
}

var units = []string{"day", "days", "week", "weeks", "month", "months", "year", "years"}

// word reads one word and what belongs to it. date says that the value is
// still a date, so that the date words are allowed.
func (s *scanner) word(t token, closing rune, date bool) (word, error) {
	w := word{name: t.text}
	number := func(example string) error {
		n, _, err := s.next(closing)
		if err != nil {
			return err
		}
		if _, err := fmt.Sscanf(n.text, "%d", &w.number); err != nil || w.number < 1 || w.number > 9999 || n.quoted ||
			fmt.Sprint(w.number) != n.text {
			return s.failMeant(n.at, example, "a number from 1 to 9999 is missing after %s", t.text)
		}
		return nil
	}
	quoted := func(example string) (token, error) {
		q, _, err := s.next(closing)
		if err == nil && (!q.quoted || q.text == "") {
			err = s.failMeant(q.at, example, "a text in quotes is missing after %s", t.text)
		}
		return q, err
	}
	switch t.text {
	case "upper", "lower", "plain":
		return w, nil
	case "pad":
		if err := number("pad 4"); err != nil {
			return w, err
		}
		if w.number > 32 {
			return w, s.fail(t.at, "pad takes at most 32 digits")
		}
		return w, nil
	case "first":
		if err := number("first 3 words"); err != nil {
			return w, err
		}
		if next, ok := s.peek(closing); ok && !next.quoted && (next.text == "words" || next.text == "word") {
			w.unit = "words"
			_, _, err := s.next(closing)
			return w, err
		}
		return w, nil
	case "find", "without":
		q, err := quoted(t.text + ` "[0-9]+"`)
		if err != nil {
			return w, err
		}
		w.text = q.text
		if w.find, err = regexp.Compile("(?i)" + q.text); err != nil {
			return w, s.fail(q.at, "the regular expression %q cannot be read: %s", q.text,
				strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
		return w, nil
	}
	if slices.Contains(dateWords, t.text) || t.text == "as" || t.text == "minus" || t.text == "month" || t.text == "week" {
		if !date {
			return w, s.fail(t.at, "%q belongs after a date: received, sent or filed", t.text)
		}
	}
	switch t.text {
	case "minus":
		if err := number("minus 1 month"); err != nil {
			return w, err
		}
		u, _, err := s.next(closing)
		if err != nil {
			return w, err
		}
		if !slices.Contains(units, u.text) {
			return w, s.failMeant(u.at, nearest(u.text, units), "a unit is missing after the number: day, week, month or year")
		}
		w.unit = strings.TrimSuffix(u.text, "s")
		return w, nil
	case "as":
		q, err := quoted(`as "yyyy-MM-dd"`)
		if err != nil {
			return w, err
		}
		w.text = q.text
		if at, problem, meant := checkCLDR(q.text); problem != "" {
			return w, s.failMeant(q.at+1+at, meant, "%s", problem)
		}
		return w, nil
	case "month", "week":
		second := map[string]string{"month": "name", "week": "year"}[t.text]
		if next, ok := s.peek(closing); ok && !next.quoted && next.text == second {
			w.name += " " + second
			_, _, err := s.next(closing)
			return w, err
		}
		return w, nil
	}
	if slices.Contains(dateWords, t.text) {
		return w, nil
	}
	all := slices.Concat(textWords)
	if date {
		all = slices.Concat(textWords, dateWords, []string{"as", "minus"})
	}
	return w, s.failMeant(t.at, nearest(t.text, all), "there is no word %q here", t.text)
}

// nearest is the candidate that differs least from what was written, or "".
func nearest(written string, candidates []string) string {
	best, least := "", max(2, len(written)/2)
	if len(written) < 3 {
		least = 2
	}
	for _, c := range candidates {
		if d := distance(strings.ToLower(written), c); d < least {
			best, least = c, d
		}
	}
	if best == "" {
		for _, c := range candidates {
			if len(written) > 2 && strings.Contains(c, strings.ToLower(written)) {
				return c
			}
		}
	}
	return best
}

// Nearest suggests which of the candidates was probably meant, or "".
func Nearest(written string, candidates []string) string { return nearest(written, candidates) }

// distance counts the single changes between two texts; two neighbours
// exchanged count as one.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	if len(x) > 64 || len(y) > 64 {
		return 64
	}
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}
