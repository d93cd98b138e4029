package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/value"
)

// ValueTest is a test on a value that the rule reads of a file.
type ValueTest struct {
	Name     string `json:"name" doc:"the value, as the rule calls it"`
	Found    *bool  `json:"found,omitempty" doc:"whether it is found at all"`
	Is       Names  `json:"is,omitempty" doc:"any of these: texts without regard to case, numbers by their size, of dates also a month or a year"`
	Like     Names  `json:"like,omitempty" doc:"texts with wildcards: * for any text, ? for one character"`
	AtLeast  string `json:"at least,omitempty" doc:"this number or amount, or more; of amounts the currency counts where it is named"`
	AtMost   string `json:"at most,omitempty" doc:"this number or amount, or less"`
	MoreThan string `json:"more than,omitempty" doc:"more than this number or amount"`
	LessThan string `json:"less than,omitempty" doc:"less than this number or amount"`
	After    Day    `json:"after,omitzero" doc:"dates on or after this day, 2026-05-12"`
	Before   Day    `json:"before,omitzero" doc:"dates before this day"`
}

// ReadValue reads a value for an attachment. unknown are the fields that it needs and that are not known yet.
type ReadValue func(c *Compiled, item *mail.Item, v *Value) (found value.Value, unknown []string)

// looking is a look at one attachment. It reads each value once, and gathers what was not known.
type looking struct {
	rule    *Compiled
	read    ReadValue
	values  map[int]value.Value // by their index, as far as they were read
	unknown []string
	missed  string // which value did not fit, where nothing else was in the way
}

// value reads a value of the rule.
func (l *looking) value(index int, item *mail.Item) (found value.Value, unknown []string) {
	if found, known := l.values[index]; known {
		return found, nil
	}
	found, unknown = l.read(l.rule, item, &l.rule.values[index])
	if len(unknown) == 0 {
		if l.values == nil {
			l.values = map[int]value.Value{}
		}
		l.values[index] = found
	}
	return found, unknown
}

func (l *looking) miss(fields ...string) {
	for _, f := range fields {
		if !slices.Contains(l.unknown, f) {
			l.unknown = append(l.unknown, f)
		}
	}
}

// valueCheck is one compiled comparison of a value.
type valueCheck struct {
	of    int // index into the rule's values
	wants string
	is    bool                   // the value itself says it where it fits
	fits  func(text string) bool // a text that was found
	none  bool                   // it fits where nothing is found
}

// judge says whether the value fits that is read of an attachment.
func (k *valueCheck) judge(item *mail.Item, l *looking) (is Answer, found value.Value) {
	of := &l.rule.values[k.of]
	if l.read == nil {
		return Unknowable, value.Value{Name: of.Name}
	}
	found, unknown := l.value(k.of, item)
	switch {
	case found.Text != "":
		return yes(k.fits(found.Text)), found
	case len(unknown) > 0:
		l.miss(unknown...)
		return NotYet, found
	case of.Missing(item) != "":
		return Unknowable, found // it may stand where nobody can read it
	}
	return yes(k.none), found
}

// why says what was compared, and what came of it.
func (k *valueCheck) why(item *mail.Item, l *looking) string {
	answer, found := k.judge(item, l)
	switch {
	case found.Text == "" && found.Problem != "":
		return "no " + found.Name + " is found: " + found.Problem
	case found.Text == "":
		return "no " + found.Name + " is found"
	case k.wants == "" || k.is && answer == Yes:
		return found.Name + " is " + quote(Short(found.Text))
	case answer == Yes:
		return found.Name + " is " + quote(Short(found.Text)) + ", " + k.wants
	}
	return found.Name + " is " + quote(Short(found.Text)) + ", not " + k.wants
}

// values compiles tests on values, all of which must hold.
func (c *compiler) valueTests(tests []ValueTest, place string) (checks [][]valueCheck, sentence string) {
	var said []string
	for i := range tests {
		at := place
		if len(tests) > 1 {
			at += fmt.Sprintf("[%d]", i)
		}
		of := slices.IndexFunc(c.values, func(v Value) bool { return v.Name == tests[i].Name })
		if of < 0 {
			c.fail(at+".name", c.only(), "the rule reads no value called “%s”", tests[i].Name)
			continue
		}
		one, says := c.valueTest(&tests[i], of, at)
		checks, said = append(checks, one), append(said, says)
	}
	return checks, list(said, "or")
}

// only is the name of the rule's value, where it reads but one.
func (c *compiler) only() string {
	if len(c.values) == 1 {
		return c.values[0].Name
	}
	return ""
}

func (c *compiler) valueTest(t *ValueTest, index int, place string) (checks []valueCheck, sentence string) {
	of := &c.values[index]
	var said []string
	add := func(says string, fits func(text string) bool) {
		said = append(said, says)
		checks = append(checks, valueCheck{of: index, wants: says, fits: fits})
	}
	before := len(c.problems)
	c.numbers(t, of, place, add)
	c.days(t, of, place, add)
	if len(t.Is) > 0 {
		add(list(quoteAll(t.Is), "or"), c.equal(t.Is, of, place+".is"))
		checks[len(checks)-1].is = true
	}
	if len(t.Like) > 0 {
		if of.Type != value.Text {
			c.fail(place+".like", "", "“%s” is not text; like compares texts", of.Name)
		}
		var like []*regexp.Regexp
		for _, l := range t.Like {
			like = append(like, wildcard(l))
		}
		add("like "+list(quoteAll(t.Like), "or"), func(text string) bool {
			return slices.ContainsFunc(like, func(re *regexp.Regexp) bool { return re.MatchString(fold(text)) })
		})
	}
	switch {
	case t.Found != nil && len(checks) > 0:
		c.fail(place+".found", "", "“found” stands alone: a comparison needs a found value in any case")
	case t.Found != nil:
		want := *t.Found
		checks = []valueCheck{{of: index, fits: func(string) bool { return want }, none: !want}}
		return checks, map[bool]string{true: "in which a value is found: ", false: "in which no value is found: "}[want] +
			of.Name
	case len(checks) == 0 && before == len(c.problems):
		c.fail(place, "", "“%s” has no comparison: found, is, like, at least, at most, more than, less than, after or "+
			"before is missing", of.Name)
	}
	return checks, "whose " + of.Name + " is " + list(said, "and")
}

// numbers compiles comparisons of numbers and amounts.
func (c *compiler) numbers(t *ValueTest, of *Value, place string, add func(string, func(string) bool)) {
	for _, one := range []struct {
		key, than string
		holds     func(is int) bool
	}{
		{"at least", t.AtLeast, func(is int) bool { return is >= 0 }},
		{"at most", t.AtMost, func(is int) bool { return is <= 0 }},
		{"more than", t.MoreThan, func(is int) bool { return is > 0 }},
		{"less than", t.LessThan, func(is int) bool { return is < 0 }},
	} {
		if one.than == "" {
			continue
		}
		at := place + "." + one.key
		if of.Type != value.Number && of.Type != value.Amount {
			c.fail(at, "", "“%s” is not a number or amount; %s compares those", of.Name, one.key)
			continue
		}
		want, currency, ok := c.number(one.than, of, at)
		if !ok {
			continue
		}
		add(one.key+" "+one.than, func(text string) bool {
			number, in, _ := strings.Cut(text, " ")
			return (currency == "" || currency == in) && one.holds(value.Compare(value.Number, number, want))
		})
	}
}

// number reads what a number or an amount is compared with. The currency is "" where none is named.
func (c *compiler) number(text string, of *Value, place string) (number, currency string, ok bool) {
	format := of.Format
	format.Currency = ""
	kept, err := value.Read(of.Type, text, format)
	if err != nil {
		c.fail(place, "", "%s", err)
		return "", "", false
	}
	number, currency, _ = strings.Cut(kept, " ")
	return number, currency, true
}

// days compiles comparisons of dates.
func (c *compiler) days(t *ValueTest, of *Value, place string, add func(string, func(string) bool)) {
	for _, one := range []struct {
		key, says string
		day       Day
		holds     func(text, day string) bool
	}{
		{"after", "on or after ", t.After, func(text, day string) bool { return text >= day }},
		{"before", "before ", t.Before, func(text, day string) bool { return text < day }},
	} {
		if one.day.IsZero() {
			continue
		}
		if of.Type != value.Date {
			c.fail(place+"."+one.key, "", "“%s” is not a date; %s compares dates", of.Name, one.key)
		}
		day := one.day.String()
		add(one.says+day, func(text string) bool { return one.holds(text, day) })
	}
}

// equal compiles a comparison with several values.
func (c *compiler) equal(wanted []string, of *Value, place string) func(text string) bool {
	var tests []func(text string) bool
	for _, w := range wanted {
		switch {
		case of.Type == value.Number || of.Type == value.Amount:
			want, currency, ok := c.number(w, of, place)
			if !ok {
				continue
			}
			tests = append(tests, func(text string) bool {
				number, in, _ := strings.Cut(text, " ")
				return (currency == "" || currency == in) && value.Compare(value.Number, number, want) == 0
			})
		case of.Type == value.Date && aMonth.MatchString(w):
			tests = append(tests, func(text string) bool { return strings.HasPrefix(text, w+"-") })
		case of.Type == value.Text:
			folded := fold(strings.TrimSpace(w))
			tests = append(tests, func(text string) bool { return fold(text) == folded })
		default:
			kept, err := value.Read(of.Type, w, of.Format)
			if err != nil {
				c.fail(place, "", "%s", err)
				continue
			}
			tests = append(tests, func(text string) bool { return text == kept })
		}
	}
	return func(text string) bool {
		return slices.ContainsFunc(tests, func(fits func(string) bool) bool { return fits(text) })
	}
}

// aMonth is a year, or a month of one.
var aMonth = regexp.MustCompile(`^[0-9]{4}(-[0-9]{2})?$`)
