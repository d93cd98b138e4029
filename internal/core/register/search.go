package register

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

// Search is what a person looks for. Every entry of every list must fit.
type Search struct {
	Words       []string // each is in number, sender, subject, file, folder, rule or a note
	Without     []string // none of these is there
	Sender      []string // name or address
	Subject     []string
	File        []string
	InFolder    []string
	Rule        []string
	Mailbox     []string
	Machine     []string // of the office; one register does not know it, so whoever asks several looks at it
	InCabinet   []string
	Note        []string
	Inside      []string    // words or phrases inside of the file; whoever keeps them makes a Query's Within of it
	Values      []ValueTest // what was read of the file
	Kinds       []string    // one of these
	Since       time.Time
	Before      time.Time
	FiledSince  time.Time
	FiledBefore time.Time
	Larger      rule.Size // more octets than this
	Smaller     rule.Size
	States      []State // one of these; nil is There
}

// Filter is one thing that can be looked for by its name, as "sender:corrin".
type Filter struct {
	Name    string
	Means   string
	Example string
}

// Filters are all of them. The words since, before, on, larger and smaller mean
// what they mean in IMAP SEARCH (RFC 9051, section 6.4.4).
var Filters = []Filter{
	{"sender", "is in the sender's name or address", "sender:tidewatch"},
	{"subject", "is in the subject", `subject:"water level"`},
	{"file", "is in the file's name", "file:.csv"},
	{"folder", "is in the folder's path", "folder:gauges/2026"},
	{"rule", "is in the rule's name", "rule:invoices"},
	{"mailbox", "is in the mailbox's name", "mailbox:office"},
	{"machine", "name of the machine of the office", "machine:north"},
	{"cabinet", "is in the cabinet's name", "cabinet:harbour"},
	{"note", "is in a note that a person wrote", "note:signed"},
	{"inside", "words inside the file, if its rule keeps them; inside:levy* for words that begin so",
		`inside:"oily water"`},
	{"kind", "the kind of file", "kind:pdf"},
	{"since", "received on this day or later", "since:2026-05-12"},
	{"before", "received before this day", "before:2026-06"},
	{"on", "received on this day, in this month or year", "on:2026-05"},
	{"filed", "filed on this day, in this month or year", "filed:2026-05-12"},
	{"larger", "larger than this", "larger:2MB"},
	{"smaller", "smaller than this", "smaller:20KB"},
	{"state", "by state: " + strings.Join(States[1:], ", ") + " or all", `state:"taken back"`},
	{"without", "is nowhere", "without:draft"},
}

// SearchError says what in a search cannot be understood.
type SearchError struct{ Text string }

func (e *SearchError) Error() string { return e.Text }

// ParseSearch reads what a person typed: words, texts in quotes, and filters of
// the form name:value. Days are those of the zone. A SearchError says what is
// wrong in words; what looks like no filter is a word. values are the names of values that rules read.
func ParseSearch(text string, zone *time.Location, values ...string) (Search, error) {
	var s Search
	for _, t := range split(text) {
		name, value, ok := strings.Cut(t.text, ":")
		name = strings.ToLower(name)
		if ok && !t.quoted && value != "" && slices.Contains(values, name) {
			s.Values = append(s.Values, ParseValueTest(name, value))
			continue
		}
		if !ok || t.quoted || !slices.ContainsFunc(Filters, func(f Filter) bool { return f.Name == name }) {
			if t.text != "" {
				s.Words = append(s.Words, t.text)
			}
			continue
		}
		if value == "" {
			return s, &SearchError{fmt.Sprintf("write what to look for after “%s:”, such as %s", name, example(name))}
		}
		if err := s.add(name, value, zone); err != nil {
			return s, err
		}
	}
	return s, nil
}

// MayNameValue says whether a search may ask for a value of another name than these, so that it is worth asking where
// more of them may be known.
func MayNameValue(text string, values []string) bool {
	return slices.ContainsFunc(split(text), func(t token) bool {
		name, value, ok := strings.Cut(t.text, ":")
		name = strings.ToLower(name)
		return ok && !t.quoted && value != "" && rule.ValueName.MatchString(name) && !slices.Contains(rule.Taken, name) &&
			!slices.Contains(values, name)
	})
}

func example(name string) string {
	return Filters[slices.IndexFunc(Filters, func(f Filter) bool { return f.Name == name })].Example
}

func (s *Search) add(name, value string, zone *time.Location) error {
	lists := map[string]*[]string{"sender": &s.Sender, "subject": &s.Subject, "file": &s.File, "folder": &s.InFolder,
		"rule": &s.Rule, "mailbox": &s.Mailbox, "machine": &s.Machine, "cabinet": &s.InCabinet, "note": &s.Note,
		"inside":  &s.Inside,
		"without": &s.Without}
	if list := lists[name]; list != nil {
		*list = append(*list, value)
		return nil
	}
	switch name {
	case "kind":
		k, ok := kind(value)
		if !ok {
			return &SearchError{fmt.Sprintf("there is no kind “%s”; kinds are %s", value, strings.Join(Kinds(), ", "))}
		}
		s.Kinds = append(s.Kinds, k)
	case "larger", "smaller":
		var octets rule.Size
		if err := octets.UnmarshalText([]byte(value)); err != nil {
			return &SearchError{fmt.Sprintf("“%s:%s”: %s", name, value, err)}
		}
		if name == "larger" {
			s.Larger = octets
		} else {
			s.Smaller = octets
		}
	case "state":
		if value == "all" {
			s.States = All
			return nil
		}
		state, ok := StateNamed(strings.ToLower(value))
		if !ok || state == Waiting {
			return &SearchError{
				fmt.Sprintf("there is no state “%s”; states are %s and all", value, strings.Join(States[1:], ", "))}
		}
		s.States = append(s.States, state)
	default:
		from, to, ok := period(value, zone)
		if !ok {
			return &SearchError{
				fmt.Sprintf("“%s:%s”: a day is written as 2026-05-12, a month as 2026-05, a year as 2026", name, value)}
		}
		switch name {
		case "since":
			s.Since = from
		case "before":
			s.Before = from
		case "on":
			s.Since, s.Before = from, to
		case "filed":
			s.FiledSince, s.FiledBefore = from, to
		}
	}
	return nil
}

func kind(value string) (string, bool) {
	for _, k := range mail.Kinds {
		if strings.EqualFold(string(k.Kind), value) || strings.EqualFold(k.Plural, value) {
			return string(k.Kind), true
		}
	}
	return "", false
}

// Kinds are the words for the kinds of files.
func Kinds() []string {
	var all []string
	for _, k := range mail.Kinds {
		all = append(all, string(k.Kind))
	}
	return all
}

// period reads a day, month or year: its first moment and the first after it.
func period(value string, zone *time.Location) (from, to time.Time, ok bool) {
	for _, f := range []struct {
		layout              string
		years, months, days int
	}{{time.DateOnly, 0, 0, 1}, {"2006-01", 0, 1, 0}, {"2006", 1, 0, 0}} {
		if at, err := time.ParseInLocation(f.layout, value, zone); err == nil {
			return at, at.AddDate(f.years, f.months, f.days), true
		}
	}
	return from, to, false
}

type token struct {
	text   string
	quoted bool // it begins with a quote
}

// split cuts a search at spaces that stand in no quotes. A quote that is never
// closed reaches to the end, as while it is typed.
func split(text string) []token {
	var all []token
	var b strings.Builder
	var quote, begun, quoted bool
	end := func() {
		if begun {
			all = append(all, token{b.String(), quoted})
		}
		b.Reset()
		begun, quoted = false, false
	}
	for _, r := range text {
		switch {
		case r == '"' || r == '“' || r == '”':
			if !begun {
				quoted = true
			}
			quote, begun = !quote, true
		case !quote && unicode.IsSpace(r):
			end()
		default:
			b.WriteRune(r)
			begun = true
		}
	}
	end()
	return all
}
