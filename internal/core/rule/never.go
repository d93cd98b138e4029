package rule

import (
	"fmt"
	"strings"
)

// Never lists why the rule can never be for a message, or an entry never have
// an attachment: conditions that exclude each other. What it does not see may
// still never happen; what it says never does.
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
	var is []Names
	domains := []Names{}
	var after, before Day
	var larger, smaller Size
	var least, most *int
	flags := map[string]*bool{}
	for _, c := range all {
		if c.Subject != nil && len(c.Subject.Is) > 0 {
			is = append(is, c.Subject.Is)
		}
		if c.Sender != nil {
			var of Names
			for _, a := range c.Sender.Address {
				of = append(of, a[strings.LastIndexByte(a, '@')+1:])
			}
			if len(of) > 0 {
				domains = append(domains, of)
			}
			if len(c.Sender.Domain) > 0 {
				domains = append(domains, c.Sender.Domain)
			}
		}
		if d := c.Received; d != nil {
			if !d.After.IsZero() && (after.IsZero() || follows(d.After, after)) {
				after = d.After
			}
			if !d.Before.IsZero() && (before.IsZero() || follows(before, d.Before)) {
				before = d.Before
			}
		}
		if c.Size != nil {
			larger = max(larger, c.Size.Larger)
			if c.Size.Smaller > 0 && (smaller == 0 || c.Size.Smaller < smaller) {
				smaller = c.Size.Smaller
			}
		}
		if n := c.Attachments; n != nil {
			if n.AtLeast != nil && (least == nil || *n.AtLeast > *least) {
				least = n.AtLeast
			}
			if n.AtMost != nil && (most == nil || *n.AtMost < *most) {
				most = n.AtMost
			}
		}
		for name, value := range map[string]*bool{"read": c.Read, "flagged": c.Flagged, "taken earlier": c.Taken} {
			if value == nil {
				continue
			}
			if was := flags[name]; was != nil && *was != *value {
				say(place, "%q is asked to be both true and false", name)
			}
			flags[name] = value
		}
	}
	for i := range is {
		for k := range is[:i] {
			if !overlap(is[i], is[k],
				func(a, b string) bool { return fold(strings.TrimSpace(a)) == fold(strings.TrimSpace(b)) }) {
				say(place+".subject", "a subject cannot be %s and %s", list(quoteAll(is[k]), "or"), list(quoteAll(is[i]), "or"))
			}
		}
	}
	within := func(a, b string) bool {
		a, b = strings.ToLower(strings.Trim(a, ".")), strings.ToLower(strings.Trim(b, "."))
		return a == b || strings.HasSuffix(a, "."+b) || strings.HasSuffix(b, "."+a)
	}
	for i := range domains {
		for k := range domains[:i] {
			if !overlap(domains[i], domains[k], within) {
				say(place+".sender", "a sender is not at %s and at %s at once", list(domains[k], "or"), list(domains[i], "or"))
			}
		}
	}
	if !after.IsZero() && !before.IsZero() && !follows(before, after) {
		say(place+".received", "no message is received on or after %s and before %s", after, before)
	}
	if larger > 0 && smaller > 0 && smaller <= larger+1 {
		say(place+".size", "no message is larger than %s and smaller than %s", larger, smaller)
	}
	if least != nil && most != nil && *least > *most {
		say(place+".attachments", "no message has at least %d and at most %d attachments", *least, *most)
	}
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
