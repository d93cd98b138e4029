package pattern

import (
	"errors"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"golang.org/x/text/language"
)

// sample answers for one berth request received on 12 May 2026.
type sample map[string]string

func (s sample) Value(field, argument string) Value {
	switch field {
	case "received":
		return Value{Time: time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)}
	case "filed":
		return Value{Time: time.Date(2027, 1, 2, 0, 0, 0, 0, time.UTC)} // lies in week 53 of 2026
	case "sent":
		return Value{}
	case "register":
		return Value{Unknown: true}
	case "header":
		field += " " + argument
	}
	return Value{Text: s[field]}
}
func (s sample) Lookup(table, key string) (string, bool) {
	v, ok := map[string]string{"B07": "North quay"}[key]
	return v, ok && table == "stations"
}
func (s sample) Language() language.Tag { return language.English }

var berth = sample{
	"subject": "Berth request BK-20417: MV Corrin/Sandling", "sender.name": "Zoë Ørsted",
	"sender.domain": "marram.example",
	"file.stem":     "scan berth plan", "file.ext": "pdf", "header X-Ref": "0042", "file.number": "3",
}

func TestMake(t *testing.T) {
	for _, c := range []struct{ pattern, want string }{
		{"Berths/<received year>/<received month> <received month name>/<correspondent or sender.domain>",
			"Berths/2026/05 May/marram.example"},
		{"Readings/<received week year>-W<received week>", "Readings/2026-W20"},
		{"<filed week year>-W<filed week>", "2026-W53"},
		{"<sent year or received year>", "2026"},
		{`<subject find "BK-[0-9]{4,6}" or file.stem find "BK-[0-9]{4,6}" or "no number"> <file.stem>`,
			"BK-20417 scan berth plan"},
		{`<file.stem find "BK-[0-9]{4,6}" or "no number">`, "no number"},
		{`Waste/<received minus 1 month as "yyyy-MM">`, "Waste/2026-04"},
		{`<sender.domain><" - " subject find "BK-[0-9]+">`, "marram.example - BK-20417"},
		{`<sender.domain><" - " subject find "NONE-[0-9]+">`, "marram.example"},
		{`<"(" sender.name plain upper ")">`, "(ZOE ORSTED)"},
		{"a/<subject>", "a/Berth request BK-20417- MV Corrin-Sandling"},
		{"<subject first 2 words>", "Berth request"},
		{"<subject first 5>", "Berth"},
		{`<file.stem without "^scan ">`, "berth plan"},
		{`<header "X-Ref">`, "0042"},
		{`<header "X-None">`, "None"},
		{"<file.number pad 4>", "0003"},
		{"<register pad 4>", "…"},
		{"<received>", "2026-05-12"},
		{"<received quarter> <received time>", "Q2 06.02"},
		{`<received as "EEEE d MMMM yy 'at' HH.mm">`, "Tuesday 12 May 26 at 06.02"},
		{`<lookup stations of (subject find "B[0-9]+" or "B07")>`, "North quay"},
		{"<sent year>", "undated"},
		{`<subject find "(\d+)">`, "20417"},
	} {
		p, err := Parse(c.pattern, Folder)
		if err != nil {
			t.Errorf("Parse(%q): %v", c.pattern, err)
			continue
		}
		if got := strings.Join(p.Make(berth).Segments, "/"); got != c.want {
			t.Errorf("%q makes %q, want %q", c.pattern, got, c.want)
		}
	}
}

func TestMistakesHaveColumns(t *testing.T) {
	for _, c := range []struct {
		pattern string
		column  int
		says    string
		meant   string
	}{
		{"Gauges/<recieved year>", 9, "no field", "received"},
		{"Gauges/<received yeer>", 18, "no word", "year"},
		{"Gauges/<received", 17, "not closed", ""},
		{"a:b", 2, "cannot hold :", ""},
		{"a//b", 3, "without a name", ""},
		{"a/../b", 3, "does not consist of dots", ""},
		{"<>", 1, "empty field", "<received year>"},
		{`<subject find "(">`, 15, "regular expression", ""},
		{"<subject year>", 10, "belongs after a date", ""},
		{`<received as "yyyy-'W'ww">`, 15, "calendar year", "YYYY-'W'ww"},
		{"<received year> <received week>", 2, "calendar year", "<received week year>"},
		{"<header>", 8, "header", `header "X-Reference"`},
		{"<subject or >", 13, "missing after", ""},
		{"<file.number pad x>", 18, "number", "pad 4"},
		{"", 1, "empty", ""},
		{"a>", 2, "without its <", ""},
	} {
		_, err := Parse(c.pattern, Folder)
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("Parse(%q) = %v, want an *Error", c.pattern, err)
			continue
		}
		if e.Column != c.column || !strings.Contains(e.Problem, c.says) || e.Meant != c.meant {
			t.Errorf("Parse(%q): column %d, %q, meant %q; want column %d, ...%q..., meant %q", c.pattern, e.Column, e.Problem,
				e.Meant, c.column, c.says, c.meant)
		}
	}
	if _, err := Parse("a/b", Name); err == nil {
		t.Error("a name pattern with a slash was taken")
	}
}

func TestMinusKeepsWithinTheMonth(t *testing.T) {
	got := minus(time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC), 1, "month").Format(time.DateOnly)
	if got != "2026-02-28" {
		t.Errorf("a month before 31 March 2026 is %s, want 2026-02-28", got)
	}
}

func TestMonthNames(t *testing.T) {
	for _, c := range []struct{ lang, want string }{{"en", "March"}, {"de-AT", "März"}, {"fi", "maaliskuu"},
		{"zz", "March"}} {
		if got := MonthName(time.March, language.Make(c.lang)); got != c.want {
			t.Errorf("March in %s is %q, want %q", c.lang, got, c.want)
		}
	}
	for i, line := range names {
		if n := len(strings.Fields(line)); n != 19 {
			t.Errorf("%v has %d names, want 19", Languages[i], n)
		}
	}
}

func TestEveryWordOfTheTableIsParsed(t *testing.T) {
	for _, w := range Words {
		if !w.Dates {
			if _, err := Parse("<"+w.Example+">", Name); err != nil {
				t.Errorf("example %q: %v", w.Example, err)
			}
		} else if _, err := Parse("<"+w.Example+">", Name); err != nil && w.Name != "week" {
			t.Errorf("example %q: %v", w.Example, err)
		}
	}
	for _, f := range Fields {
		source := "<" + f.Name + ">"
		if f.Argument {
			source = "<" + f.Name + ` "X">`
		}
		shape := Name
		if f.Prose {
			shape = Prose
			if _, err := Parse(source, Name); err == nil {
				t.Errorf("%s is taken for a name", source)
			}
		}
		if p, err := Parse(source, shape); err != nil || len(p.Uses()) != 1 || p.Uses()[0].Field != f.Name {
			t.Errorf("%s: %v", source, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`Berths/<received minus 1 month as "yyyy-'W'MM">/<"(" subject find "BK-\d+" ")" or lookup a of (file.stem)>`)
	f.Add(`<header "a\"b\\">`)
	f.Fuzz(func(t *testing.T, source string) {
		p, err := Parse(source, Folder)
		if err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Column < 1 || e.Column > utf8.RuneCountInString(source)+1 {
				t.Fatalf("Parse(%q): %v has no column within the pattern", source, err)
			}
			return
		}
		for _, s := range p.Make(berth).Segments {
			if s == "" || s == "." || s == ".." || strings.ContainsAny(s, `/\<>:"|?*`) || len(s) > 255 {
				t.Fatalf("%q made the unsafe name %q", source, s)
			}
		}
	})
}
