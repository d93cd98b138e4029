package pattern

import (
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/rivo/uniseg"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"inktray.example/inktray/internal/core/safename"
)

// Value is what a field holds for one item.
type Value struct {
	Text    string    // of text and number fields
	Time    time.Time // of date fields, in the zone to be shown; zero is empty
	Unknown bool      // not known yet: only contents or a drawn number can tell
}

// Values gives the field's value for one item.
type Values interface {
	// Value is asked for every field but lookup.
	Value(field, argument string) Value
	// Lookup finds a key in a table kept in Settings.
	Lookup(table, key string) (string, bool)
	// Language is the language of month and day names.
	Language() language.Tag
}

// Made is what a pattern makes of values.
type Made struct {
	Segments []string // safe names; one for a name pattern
	Unknown  []string // fields that were not known yet, shown as "…"
}

// Make evaluates the pattern. Every segment is a safe name.
func (p *Pattern) Make(v Values) Made {
	var made Made
	made.Segments = make([]string, 0, len(p.segments)+1)
	for i, segment := range p.segments {
		if p.fixed[i] != "" {
			made.Segments = append(made.Segments, p.fixed[i])
			continue
		}
		var b strings.Builder
		for _, piece := range segment {
			if piece.choice == nil {
				b.WriteString(piece.text)
				continue
			}
			b.WriteString(made.choose(piece.choice, v))
		}
		made.Segments = append(made.Segments, safename.Segment(b.String()))
	}
	return made
}

// Text evaluates a pattern of the shape Prose. Fields that were not known are
// shown as "…".
func (p *Pattern) Text(v Values) string {
	var made Made
	var b strings.Builder
	for _, segment := range p.segments {
		for _, piece := range segment {
			if piece.choice == nil {
				b.WriteString(piece.text)
				continue
			}
			b.WriteString(made.choose(piece.choice, v))
		}
	}
	return b.String()
}

// Find evaluates a pattern of the shape Prose without what stands for an empty field: found is false where one is
// empty. unknown are the fields that are not known yet.
func (p *Pattern) Find(v Values) (text string, unknown []string, found bool) {
	var made Made
	var b strings.Builder
	for _, segment := range p.segments {
		for _, piece := range segment {
			if piece.choice == nil {
				b.WriteString(piece.text)
				continue
			}
			one, open := made.first(piece.choice, v)
			if open || one == "" {
				return "", made.Unknown, false
			}
			b.WriteString(one)
		}
	}
	return b.String(), nil, true
}

// first takes the first value that is not empty. unknown says that it is not known yet.
func (m *Made) first(choice []value, v Values) (text string, unknown bool) {
	for i := range choice {
		if text, unknown = choice[i].make(m, v); text != "" || unknown {
			break
		}
	}
	return text, unknown
}

// choose takes the first value that is not empty, else the first field's fallback.
func (m *Made) choose(choice []value, v Values) string {
	text, unknown := m.first(choice, v)
	if unknown {
		return "…"
	}
	if text != "" {
		return text
	}
	for i := range choice {
		if c := &choice[i]; c.before != "" && !c.literal || c.after != "" {
			return "" // outer quotes ask for nothing where the field is empty
		}
	}
	for i := range choice {
		if f := choice[i].field; f != nil {
			return f.Fallback
		}
	}
	return "Unlisted"
}

func (c *value) make(m *Made, v Values) (text string, unknown bool) {
	if c.literal {
		return c.before, false
	}
	var at time.Time
	if c.table != "" {
		key, unknown := "", false
		for i := range c.of {
			if key, unknown = c.of[i].make(m, v); key != "" || unknown {
				break
			}
		}
		if unknown {
			return "", true
		}
		text, _ = v.Lookup(c.table, key)
	} else {
		got := v.Value(c.field.Name, c.argument)
		if got.Unknown {
			m.Unknown = append(m.Unknown, c.field.Name)
			return "", true
		}
		if c.field.Type == Date {
			if got.Time.IsZero() {
				return "", false
			}
			at = got.Time
			formatted := false
			for _, w := range c.words {
				switch {
				case w.name == "minus":
					at = minus(at, w.number, w.unit)
				case formatted:
					text = w.apply(text)
				default:
					if t, ok := w.date(at, v.Language()); ok {
						text = t
					} else {
						text = w.apply(at.Format(time.DateOnly))
					}
					formatted = true
				}
			}
			if !formatted {
				text = at.Format(time.DateOnly)
			}
			return c.quote(text), false
		}
		text = got.Text
	}
	for _, w := range c.words {
		text = w.apply(text)
	}
	return c.quote(text), false
}

// quote puts the outer quotes around a text that is not empty. A value's own
// slash must not part folders; Segment replaces it with the other unsafe ones.
func (c *value) quote(text string) string {
	text = strings.TrimSpace(text)
	if text == "" {
		return ""
	}
	return c.before + text + c.after
}

// apply applies a text word.
func (w *word) apply(s string) string {
	switch w.name {
	case "upper":
		return cases.Upper(language.Und).String(s)
	case "lower":
		return cases.Lower(language.Und).String(s)
	case "plain":
		return Plain(s)
	case "pad":
		if n := w.number - len([]rune(s)); n > 0 && s != "" {
			return strings.Repeat("0", n) + s
		}
	case "find":
		found := w.find.FindStringSubmatch(s)
		switch {
		case found == nil:
			return ""
		case len(found) > 1:
			return found[1]
		}
		return found[0]
	case "without":
		return strings.Join(strings.Fields(w.find.ReplaceAllLiteralString(s, "")), " ")
	case "first":
		if w.unit == "words" {
			words := strings.Fields(s)
			return strings.Join(words[:min(w.number, len(words))], " ")
		}
		end, state, rest := 0, -1, s
		for i := 0; i < w.number && rest != ""; i++ {
			var cluster string
			cluster, rest, _, state = uniseg.FirstGraphemeClusterInString(rest, state)
			end += len(cluster)
		}
		return s[:end]
	}
	return s
}

var plainLetters = strings.NewReplacer("ß", "ss", "ẞ", "SS", "æ", "ae", "Æ", "Ae", "œ", "oe", "Œ", "Oe", "ø", "o", "Ø",
	"O",
	"đ", "d", "Đ", "D", "ł", "l", "Ł", "L", "þ", "th", "Þ", "Th", "ð", "d", "Ð", "D", "ı", "i", "’", "'", "‘", "'", "–",
	"-", "—", "-")

// Plain writes Latin letters without their marks; other scripts stay.
func Plain(s string) string {
	out, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC),
		plainLetters.Replace(s))
	if err != nil {
		return s
	}
	return out
}

// minus goes back by whole units. The day is kept within the shorter month:
// a month before 31 March is the last day of February.
func minus(t time.Time, n int, unit string) time.Time {
	switch unit {
	case "day":
		return t.AddDate(0, 0, -n)
	case "week":
		return t.AddDate(0, 0, -7*n)
	case "year":
		n *= 12
	}
	first := time.Date(t.Year(), t.Month()-time.Month(n), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(),
		t.Location())
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(t.Day(), last)-1)
}

func two(n int) string {
	if n < 10 {
		return "0" + strconv.Itoa(n)
	}
	return strconv.Itoa(n)
}
