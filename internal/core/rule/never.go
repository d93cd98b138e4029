package rule

import (
	"fmt"
	"strings"
)

// Never lists contradictions: conditions that exclude each other, so that the rule can match no message, or an entry no
// attachment. It finds only some of them, and reports none that is not one.
func (c *Compiled) Never() Problems {
	var found Problems
	say := func(place, format string, args ...any) {
		found = append(found, Problem{Place: place, Text: fmt.Sprintf(format, args...)})
	}
	if !c.Rule.Match.Every {
		contradictions([]*Condition{&c.Rule.Match.Condition}, "match", say)
		for i := range c.Rule.Unless {
			if same(&c.Rule.Match.Condition, &c.Rule.Unless[i]) {
				say(fmt.Sprintf("unless[%d]", i), "the exception is the rule's own condition, so the rule is never for a message")
			}
		}
	}
	for i := range c.entries {
		if i > 0 && c.entries[i-1].all {
			say(fmt.Sprintf("attachments[%d]", i), "the entry before takes every attachment, so nothing is left for this one")
			break
		}
	}
	for i := range c.Rule.Attachments {
		s := &c.Rule.Attachments[i]
		tests := s.Leave
		if s.Take != nil {
			tests = s.Take.Any
		}
		for _, t := range tests {
			if t.Larger > 0 && t.Smaller > 0 && t.Smaller <= t.Larger+1 {
				say(fmt.Sprintf("attachments[%d]", i), "no attachment is larger than %s and smaller than %s", t.Larger, t.Smaller)
			}
		}
	}
	return found
}

func same(a, b *Condition) bool {
	x, errX := YAML(a)
	y, errY := YAML(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

// contradictions looks through conditions that must all hold.
func contradictions(conditions []*Condition, place string, say func(place, format string, args ...any)) {
	var all []*Condition // with those of nested "all" groups
	var gather func(c *Condition)
	gather = func(c *Condition) {
		all = append(all, c)
		for i := range c.All {
			gather(&c.All[i])
		}
	}
	for _, c := range conditions {
		gather(c)
	}
	var d demands
	for _, c := range all {
		d.add(c, place, say)
	}
	d.judge(place, say)
	// Of a group of alternatives every one has to contradict itself.
	for _, c := range all {
		if len(c.Any) == 0 {
			continue
		}
		var first Problems
		possible := false
		for i := range c.Any {
			before := len(first)
			contradictions([]*Condition{&c.Any[i]}, place+".any", func(place, format string, args ...any) {
				first = append(first, Problem{Place: place, Text: fmt.Sprintf(format, args...)})
			})
			possible = possible || len(first) == before
		}
		if !possible {
			say(first[0].Place, "%s", first[0].Text)
		}
	}
}

func overlap(a, b Names, fits func(x, y string) bool) bool {
	for _, x := range a {
		for _, y := range b {
			if fits(x, y) {
				return true
			}
		}
	}
	return false
}

func follows(a, b Day) bool {
	return a.Year > b.Year || a.Year == b.Year && (a.Month > b.Month || a.Month == b.Month && a.Day > b.Day)
}

// demands are what conditions that must all hold ask of a message.
type demands struct {
	is              []Names
	domains         []Names
	after, before   Day
	larger, smaller Size
	least, most     *int
	flags           map[string]*bool
}

// add adds what a condition asks.
func (d *demands) add(c *Condition, place string, say func(place, format string, args ...any)) {
	if d.flags == nil {
		d.flags = map[string]*bool{}
	}
	if c.Subject != nil && len(c.Subject.Is) > 0 {
		d.is = append(d.is, c.Subject.Is)
	}
	if c.Sender != nil {
		var of Names
		for _, a := range c.Sender.Address {
			of = append(of, a[strings.LastIndexByte(a, '@')+1:])
		}
		if len(of) > 0 {
			d.domains = append(d.domains, of)
		}
		if len(c.Sender.Domain) > 0 {
			d.domains = append(d.domains, c.Sender.Domain)
		}
	}
	if r := c.Received; r != nil {
		if !r.After.IsZero() && (d.after.IsZero() || follows(r.After, d.after)) {
			d.after = r.After
		}
		if !r.Before.IsZero() && (d.before.IsZero() || follows(d.before, r.Before)) {
			d.before = r.Before
		}
	}
	if c.Size != nil {
		d.larger = max(d.larger, c.Size.Larger)
		if c.Size.Smaller > 0 && (d.smaller == 0 || c.Size.Smaller < d.smaller) {
			d.smaller = c.Size.Smaller
		}
	}
	if n := c.Attachments; n != nil {
		if n.AtLeast != nil && (d.least == nil || *n.AtLeast > *d.least) {
			d.least = n.AtLeast
		}
		if n.AtMost != nil && (d.most == nil || *n.AtMost < *d.most) {
			d.most = n.AtMost
		}
	}
	for name, value := range map[string]*bool{"read": c.Read, "flagged": c.Flagged, "taken earlier": c.Taken} {
		if value == nil {
			continue
		}
		if was := d.flags[name]; was != nil && *was != *value {
			say(place, "%q is asked to be both true and false", name)
		}
		d.flags[name] = value
	}
}

// judge says which of the demands cannot hold together.
func (d *demands) judge(place string, say func(place, format string, args ...any)) {
	for i := range d.is {
		for k := range d.is[:i] {
			if !overlap(d.is[i], d.is[k],
				func(a, b string) bool { return fold(strings.TrimSpace(a)) == fold(strings.TrimSpace(b)) }) {
				say(place+".subject", "a subject cannot be %s and %s", list(quoteAll(d.is[k]), "or"),
					list(quoteAll(d.is[i]), "or"))
			}
		}
	}
	within := func(a, b string) bool {
		a, b = strings.ToLower(strings.Trim(a, ".")), strings.ToLower(strings.Trim(b, "."))
		return a == b || strings.HasSuffix(a, "."+b) || strings.HasSuffix(b, "."+a)
	}
	for i := range d.domains {
		for k := range d.domains[:i] {
			if !overlap(d.domains[i], d.domains[k], within) {
				say(place+".sender", "a sender cannot be at %s and at %s at the same time", list(d.domains[k], "or"),
					list(d.domains[i], "or"))
			}
		}
	}
	if !d.after.IsZero() && !d.before.IsZero() && !follows(d.before, d.after) {
		say(place+".received", "no message is received on or after %s and before %s", d.after, d.before)
	}
	if d.larger > 0 && d.smaller > 0 && d.smaller <= d.larger+1 {
		say(place+".size", "no message is larger than %s and smaller than %s", d.larger, d.smaller)
	}
	if d.least != nil && d.most != nil && *d.least > *d.most {
		say(place+".attachments", "no message has at least %d and at most %d attachments", *d.least, *d.most)
	}
}
