package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/text/currency"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/value"
)

// ValueOf is a value that a rule reads of each file it takes.
type ValueOf struct {
	Name     string    `json:"name" doc:"small letters, digits and dashes, such as order; in patterns it is <value.order>, in searches order:"`
	Type     ValueType `json:"type,omitempty" doc:"text, number, amount, date or yes or no; text where nothing is said"`
	From     Names     `json:"from" doc:"patterns of where it stands, such as <subject find \"BK-[0-9]+\">; the first that finds it counts"`
	Decimal  Decimal   `json:"decimal,omitempty" doc:"how fractions are written: comma or point; told by each number where nothing is said"`
	Order    Order     `json:"order,omitempty" doc:"in what order dates are written: day month year, month day year or year month day; day month year where nothing is said"`
	Currency string    `json:"currency,omitempty" doc:"of amounts that name none, such as EUR (ISO 4217)"`
	Again    Again     `json:"again,omitempty" doc:"what is done where an earlier message had a file with the same, such as the number of an invoice: file it, say so with the filing, or ask, which holds the file in the tray; file it where nothing is said"`
	Missing  Missing   `json:"missing,omitempty" doc:"what is done where it is not found: leave empty, or ask, which holds the file in the tray; leave empty where nothing is said"`
}

// ValueType is the type of a value, as a document names it.
type ValueType string

func (ValueType) choices() (all []string) {
	for _, t := range value.Types {
		all = append(all, string(t))
	}
	return all
}

// Decimal says how fractions are written.
type Decimal string

func (Decimal) choices() []string { return []string{value.Comma, value.Point} }

// Order says in what order dates are written.
type Order string

func (Order) choices() []string { return []string{value.DayFirst, value.MonthFirst, value.YearFirst} }

// Missing says what is done where a value is not found.
type Missing string

// Again says what is done where an earlier message had a file with the same value.
type Again string

// What else than filing can be done with what is there again.
const (
	SayAgain Again = "say so"
	AskAgain Again = "ask"
)

func (Again) choices() []string { return []string{"file it", string(SayAgain), string(AskAgain)} }

// Ask holds a file in the tray where a value is not found.
const Ask Missing = "ask"

func (Missing) choices() []string { return []string{"leave empty", string(Ask)} }

// Value is a value that a rule reads, ready to be read.
type Value struct {
	Name   string
	Type   value.Type
	Format value.Format
	From   []*pattern.Pattern
	Ask    bool // the file waits in the tray where it is not found
	Again  Again
	Inside bool // it may stand in the text inside
	Codes  bool // it may stand in a bar code or a QR code
}

// Missing says where nobody could look in a file that was read, and why; "" where somebody looked everywhere.
func (v *Value) Missing(item *mail.Item) string {
	if v.Inside && item.Inside != nil && item.Inside.Missing() != "" {
		return item.Inside.Missing()
	}
	if v.Codes && item.Codes != nil {
		return item.Codes.Missing()
	}
	return ""
}

// Values are the values that the rule reads of each file.
func (c *Compiled) Values() []Value { return c.values }

// FromInside says whether a pattern names something that stands inside of the file.
func FromInside(p *pattern.Pattern) bool {
	return slices.ContainsFunc(p.Uses(), func(u pattern.Use) bool {
		return u.Field == "file.text" || strings.HasPrefix(u.Field, "invoice.")
	})
}

// FromCodes says whether a pattern names the codes of the file.
func FromCodes(p *pattern.Pattern) bool {
	return slices.ContainsFunc(p.Uses(), func(u pattern.Use) bool { return u.Field == "file.code" })
}

// ValueName is what values can be called.
var ValueName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,29}$`)

// Taken are names that values cannot have: searches and tables of the register have them.
var Taken = []string{"sender", "subject", "file", "folder", "rule", "mailbox", "machine", "cabinet", "note", "kind",
	"inside", "since", "before", "on", "filed", "larger", "smaller", "state", "without", "number", "received", "size",
	"address", "place", "revision", "checksum", "remark", "notes", "message", "rights"}

// mostValues bounds the values of a rule.
const mostValues = 30

// read compiles the values of a rule. Their names are fields of the rule's patterns from then on.
func (c *compiler) read(r *Rule, out *Compiled) {
	if len(r.Values) > mostValues {
		c.fail("values", "", "a rule reads %d values at most", mostValues)
		return
	}
	var fields []pattern.Field
	for i := range r.Values {
		v, place := &r.Values[i], fmt.Sprintf("values[%d]", i)
		one := Value{Name: v.Name, Type: value.Type(v.Type), Ask: v.Missing == Ask, Again: v.Again,
			Format: value.Format{Decimal: string(v.Decimal), Order: string(v.Order), Currency: v.Currency}}
		if one.Type == "" {
			one.Type = value.Text
		}
		switch {
		case !ValueName.MatchString(v.Name):
			c.fail(place+".name", "", "a value's name has small letters, digits and dashes, and begins with a letter")
		case slices.Contains(Taken, v.Name):
			c.fail(place+".name", "", "searches know “%s:” already; choose another name", v.Name)
		case slices.ContainsFunc(out.values, func(o Value) bool { return o.Name == v.Name }):
			c.fail(place+".name", "", "there are two values called “%s”", v.Name)
		}
		if _, err := currency.ParseISO(v.Currency); v.Currency != "" && err != nil {
			c.fail(place+".currency", "EUR", "there is no currency “%s”", v.Currency)
		}
		if len(v.From) == 0 {
			c.fail(place+".from", "", "where the value stands is missing")
		}
		for k, source := range v.From {
			at := place + ".from"
			if len(v.From) > 1 {
				at += fmt.Sprintf("[%d]", k)
			}
			p := c.pattern(source, pattern.Prose, at)
			if p == nil {
				continue
			}
			uses := p.Uses()
			if len(uses) == 0 {
				c.fail(at, "", "a text without a field is the same for every file; name a field, such as <subject>")
			}
			for _, u := range uses {
				if strings.HasPrefix(u.Field, "register") || strings.HasPrefix(u.Field, "filed.") {
					c.fail(at, "", "<%s> is not known before the file is filed", u.Field)
				}
			}
			one.From = append(one.From, p)
			one.Inside, one.Codes = one.Inside || FromInside(p), one.Codes || FromCodes(p)
		}
		out.values = append(out.values, one)
		field := pattern.Field{Name: "value." + v.Name, Type: pattern.Text, Doc: "the rule's value “" + v.Name + "”",
			Fallback: "No " + v.Name}
		if one.Type == value.Date {
			field.Type, field.Fallback = pattern.Date, "undated"
		}
		fields = append(fields, field)
	}
	c.fields = fields
}

// reading says in words which values a rule reads; "" where it reads none.
func (c *Compiled) reading() string {
	if len(c.values) == 0 {
		return ""
	}
	var all []string
	asks := false
	for i := range c.values {
		name := c.values[i].Name
		if c.values[i].Ask {
			name, asks = name+"*", true
		}
		all = append(all, name)
	}
	text := " Of each file it reads: " + list(all, "and") + "."
	if asks {
		text += " Where one with * is not found, the file waits in the tray."
	}
	for i := range c.values {
		switch c.values[i].Again {
		case AskAgain:
			text += " Where an earlier message had the same " + c.values[i].Name + ", the file waits in the tray."
		case SayAgain:
			text += " Where an earlier message had the same " + c.values[i].Name + ", that is said."
		}
	}
	return text
}
