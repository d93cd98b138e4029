package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
)

// condition compiles a map of tests, all of which must hold. A map of one test
// is that test.
func (c *compiler) condition(n *Condition, place string) *test {
	var parts []*test
	before := len(c.problems)
	add := func(t *test) { parts = append(parts, t) }
	group := func(kind string, list []Condition) {
		if list == nil {
			return
		}
		g := &test{place: place + "." + kind, group: kind}
		for i := range list {
			g.parts = append(g.parts, c.condition(&list[i], fmt.Sprintf("%s.%s[%d]", place, kind, i)))
		}
		if len(list) == 0 {
			c.fail(g.place, "", "the group is empty")
		}
		add(g)
	}
	leaf := func(key, sentence string, eval func(*Input) (Answer, string)) {
		add(&test{place: place + "." + key, sentence: sentence, eval: eval})
	}
	// The cheap ones first: what the envelope settles spares the body.
	if n.Sender != nil {
		c.address(n.Sender, place+".sender", "from", "sender", add, func(m *mail.Message) []mail.Address { return m.Envelope.From })
	}
	if n.Recipient != nil {
		c.address(n.Recipient, place+".recipient", "to", "recipient", add, func(m *mail.Message) []mail.Address {
			return slices.Concat(m.Envelope.Recipients(), m.Envelope.DeliveredTo)
		})
	}
	if n.Subject != nil {
		c.text(n.Subject, place+".subject", "subject", add, func(m *mail.Message) string { return mail.BareSubject(m.Envelope.Subject) })
	}
	if n.SubjectFull != nil {
		c.text(n.SubjectFull, place+".subject.full", "full subject", add, func(m *mail.Message) string { return m.Envelope.Subject })
	}
	if n.Received != nil {
		c.date(n.Received, place+".received", "received", add, func(m *mail.Message) time.Time { return m.Received })
	}
	if n.Sent != nil {
		c.date(n.Sent, place+".sent", "sent", add, func(m *mail.Message) time.Time { return m.Envelope.Date })
	}
	if n.Size != nil {
		if n.Size.Larger == 0 && n.Size.Smaller == 0 {
			c.fail(place+".size", "", "the size is missing: larger or smaller")
		}
		if limit := n.Size.Larger; limit > 0 {
			leaf("size.larger", "that are larger than "+limit.String(), func(in *Input) (Answer, string) {
				if in.Message.Size > int64(limit) {
					return Yes, "the message has " + About(in.Message.Size) + ", over " + limit.String()
				}
				return No, "the message has " + About(in.Message.Size) + ", not over " + limit.String()
			})
		}
		if limit := n.Size.Smaller; limit > 0 {
			leaf("size.smaller", "that are smaller than "+limit.String(), func(in *Input) (Answer, string) {
				if in.Message.Size < int64(limit) {
					return Yes, "the message has " + About(in.Message.Size) + ", under " + limit.String()
				}
				return No, "the message has " + About(in.Message.Size) + ", not under " + limit.String()
			})
		}
	}
	if len(n.Label) > 0 {
		labels := n.Label
		leaf("label", "with the label "+list(quoteAll(labels), "or"), func(in *Input) (Answer, string) {
			for _, l := range labels {
				if in.Message.HasFlag(strings.ReplaceAll(l, " ", "_")) || in.Message.HasFlag(l) {
					return Yes, "the label " + quote(l) + " is on the message"
				}
			}
			return No, "the label " + list(quoteAll(labels), "or") + " is not on the message"
		})
	}
	flag := func(want *bool, key, name, on, off string) {
		if want == nil {
			return
		}
		said := map[bool]string{true: on, false: off}
		leaf(key, "that are "+said[*want], func(in *Input) (Answer, string) {
			has := in.Message.HasFlag(name)
			if has == *want {
				return Yes, "the message is " + said[has]
			}
			return No, "the message is " + said[has] + ", not " + said[*want]
		})
	}
	flag(n.Read, "read", `\Seen`, "read", "unread")
	flag(n.Flagged, "flagged", `\Flagged`, "flagged", "not flagged")
	if n.Attachments != nil {
		c.count(n.Attachments, place+".attachments", add)
	}
	if n.Attachment != nil {
		t := c.item(n.Attachment, place+".attachment")
		leaf("attachment", "with "+t.sentence, func(in *Input) (Answer, string) {
			items := in.Items()
			for i := range items {
				if ok, text := t.fits(&items[i]); ok {
					return Yes, quote(items[i].Name) + ": " + text
				}
			}
			if len(items) == 0 {
				return No, "there is no attachment"
			}
			return No, "there are no " + t.sentence + " among the attachments"
		})
	}
	if n.Words != nil {
		c.words(n.Words, place+".words", add)
	}
	group("all", n.All)
	group("any", n.Any)
	group("none", n.None)
	switch len(parts) {
	case 0:
		if len(c.problems) == before { // else it was said what is missing
			c.fail(place, everyMessage, "there is no condition here")
		}
		return &test{place: place, eval: func(*Input) (Answer, string) { return No, "" }}
	case 1:
		return parts[0]
	}
	return &test{place: place, group: "all", parts: parts}
}

func (c *compiler) address(t *AddressTest, place, preposition, noun string, add func(*test), get func(*mail.Message) []mail.Address) {
	before := len(c.problems)
	one := func(key, sentence string, wanted []string, fits func(a mail.Address, want string) bool) {
		if len(wanted) == 0 {
			return
		}
		add(&test{place: place + "." + key, sentence: sentence, eval: func(in *Input) (Answer, string) {
			addresses := get(in.Message)
			for _, a := range addresses {
				for _, w := range wanted {
					if fits(a, w) {
						if key == "name" {
							return Yes, noun + " is called " + quote(a.Name)
						}
						return Yes, noun + " is " + a.String()
					}
				}
			}
			if len(addresses) == 0 {
				return No, "the message names no " + noun
			}
			is := addresses[0].String()
			if key == "domain" && addresses[0].Domain != "" && len(addresses) == 1 {
				is = addresses[0].Domain
			}
			if key == "name" {
				is = "called " + quote(addresses[0].Name)
			}
			if len(addresses) > 1 {
				is += fmt.Sprintf(" and %d more", len(addresses)-1)
			}
			return No, noun + " is " + is + ", not " + list(wanted, "or")
		}})
	}
	for _, a := range t.Address {
		if !strings.Contains(a, "@") {
			c.fail(place+".address", "", "%q is no address: an @ is missing; for a whole domain use the key domain", a)
		}
	}
	for _, d := range t.Domain {
		if strings.ContainsAny(d, "@ ") {
			c.fail(place+".domain", d[strings.LastIndexAny(d, "@ ")+1:], "%q is no domain", d)
		}
	}
	one("address", preposition+" "+list(t.Address, "or"), t.Address, func(a mail.Address, w string) bool {
		at := strings.LastIndexByte(w, '@')
		return at >= 0 && strings.EqualFold(a.Local, w[:at]) && strings.EqualFold(a.Domain, w[at+1:])
	})
	exactly := ""
	if t.Exactly {
		exactly = " (without subdomains)"
	}
	one("domain", preposition+" "+list(t.Domain, "or")+exactly, t.Domain, func(a mail.Address, w string) bool {
		w = strings.ToLower(strings.Trim(w, "."))
		return a.Domain == w || !t.Exactly && strings.HasSuffix(a.Domain, "."+w)
	})
	one("name", preposition+" someone called "+list(quoteAll(t.Name), "or"), t.Name, func(a mail.Address, w string) bool {
		return strings.Contains(fold(a.Name), fold(w))
	})
	one("detail", preposition+" an address with +"+list(t.Detail, "or +"), t.Detail, func(a mail.Address, w string) bool { return strings.EqualFold(a.Detail(), w) })
	if len(t.Address)+len(t.Domain)+len(t.Name)+len(t.Detail) == 0 && before == len(c.problems) {
		c.fail(place, "", "it is not said who: address, domain or name is missing")
	}
}

func (c *compiler) text(t *TextTest, place, noun string, add func(*test), get func(*mail.Message) string) {
	before := len(c.problems)
	any := 0
	one := func(key, verb, negated string, wanted []string, all bool, fits func(text, want string) bool) {
		if len(wanted) == 0 {
			return
		}
		any++
		folded := make([]string, len(wanted))
		for i, w := range wanted {
			folded[i] = fold(w)
		}
		joint := "or"
		if all {
			joint = "and"
		}
		add(&test{place: place + "." + key, sentence: "whose " + noun + " " + verb + " " + list(quoteAll(wanted), joint), eval: func(in *Input) (Answer, string) {
			text := get(in.Message)
			f := in.fold(text)
			for i, w := range folded {
				fit := fits(f, w)
				if fit && !all {
					return Yes, noun + " is " + quote(text) + ", which " + verb + " " + quote(wanted[i])
				}
				if !fit && all {
					return No, noun + " is " + quote(text) + ", which " + negated + " " + quote(wanted[i])
				}
			}
			if all {
				return Yes, noun + " is " + quote(text) + ", which " + verb + " " + list(quoteAll(wanted), joint)
			}
			return No, noun + " is " + quote(text) + ", which " + negated + " " + list(quoteAll(wanted), joint)
		}})
	}
	one("contains", "contains", "does not contain", t.Contains, false, strings.Contains)
	one("contains all", "contains", "does not contain", t.ContainsAll, true, strings.Contains)
	one("is", "is", "is not", t.Is, false, func(a, b string) bool { return a == strings.TrimSpace(b) })
	one("begins", "begins with", "does not begin with", t.Begins, false, strings.HasPrefix)
	one("ends", "ends with", "does not end with", t.Ends, false, strings.HasSuffix)
	wild := map[string]*regexp.Regexp{}
	for _, l := range t.Like {
		wild[fold(l)] = wildcard(l)
	}
	one("like", "is like", "is not like", t.Like, false, func(a, b string) bool { return wild[b].MatchString(a) })
	if re := c.expressions(t.Matches, place+".matches"); len(t.Matches) > 0 {
		any++
		add(&test{place: place + ".matches", sentence: "whose " + noun + " matches " + list(quoteAll(t.Matches), "or"), eval: func(in *Input) (Answer, string) {
			text := get(in.Message)
			for _, r := range re {
				if r.MatchString(text) {
					return Yes, noun + " is " + quote(text) + ", which matches"
				}
			}
			return No, noun + " is " + quote(text) + ", which does not match " + list(quoteAll(t.Matches), "or")
		}})
	}
	if any == 0 && before == len(c.problems) {
		c.fail(place, "", "the %s is compared with nothing: contains, is, begins, ends, like or matches is missing", noun)
	}
}

func (c *compiler) date(t *DateTest, place, noun string, add func(*test), get func(*mail.Message) time.Time) {
	one := func(key, sentence string, fits func(at time.Time, in *Input) bool) {
		add(&test{place: place + "." + key, sentence: noun + " " + sentence, eval: func(in *Input) (Answer, string) {
			at := get(in.Message)
			if at.IsZero() {
				return No, "the message has no readable date"
			}
			zone := in.Zone
			if zone == nil {
				zone = time.UTC
			}
			text := noun + " on " + at.In(zone).Format(time.DateOnly)
			if fits(at, in) {
				return Yes, text + ", " + sentence
			}
			return No, text + ", not " + sentence
		}})
	}
	zone := func(in *Input) *time.Location {
		if in.Zone == nil {
			return time.UTC
		}
		return in.Zone
	}
	if !t.After.IsZero() {
		one("after", "on or after "+t.After.String(), func(at time.Time, in *Input) bool { return !at.Before(t.After.In(zone(in))) })
	}
	if !t.Before.IsZero() {
		one("before", "before "+t.Before.String(), func(at time.Time, in *Input) bool { return at.Before(t.Before.In(zone(in))) })
	}
	if !t.Within.IsZero() {
		one("within", "in the last "+t.Within.String(), func(at time.Time, in *Input) bool { return !at.Before(t.Within.Before(in.Now)) })
	}
	if t.After.IsZero() && t.Before.IsZero() && t.Within.IsZero() {
		c.fail(place, "", "the date is compared with nothing: after, before or within is missing")
	}
}

func (c *compiler) count(t *CountTest, place string, add func(*test)) {
	if t.AtLeast == nil && t.AtMost == nil {
		c.fail(place, "", "the number is missing: at least or at most")
		return
	}
	sentence := "with attachments"
	switch {
	case t.AtLeast != nil && t.AtMost != nil:
		sentence = fmt.Sprintf("with %d to %d attachments", *t.AtLeast, *t.AtMost)
	case t.AtMost != nil && *t.AtMost == 0:
		sentence = "without attachments"
	case t.AtMost != nil:
		sentence = fmt.Sprintf("with at most %d attachments", *t.AtMost)
	case *t.AtLeast > 1:
		sentence = fmt.Sprintf("with at least %d attachments", *t.AtLeast)
	}
	add(&test{place: place, sentence: sentence, eval: func(in *Input) (Answer, string) {
		n := 0
		for _, i := range in.Items() {
			if !(i.Inline && i.Size < SignaturePictureSize) && !i.Detached {
				n++
			}
		}
		text := fmt.Sprintf("the message has %d attachments", n)
		if n == 1 {
			text = "the message has 1 attachment"
		}
		if t.AtLeast != nil && n < *t.AtLeast || t.AtMost != nil && n > *t.AtMost {
			return No, text
		}
		return Yes, text
	}})
}

func (c *compiler) words(t *WordsTest, place string, add func(*test)) {
	in := t.In
	if len(in) == 0 {
		in = []Place{"subject", "body", "names"}
	}
	where := make([]string, len(in))
	for i, p := range in {
		where[i] = map[Place]string{"subject": "subject", "body": "text", "names": "attachments' names"}[p]
	}
	places := list(where, "or")
	if len(t.Any)+len(t.All) == 0 {
		c.fail(place, "", "the words are missing: any or all")
		return
	}
	find := func(input *Input, wanted string) (Answer, string) {
		folded := fold(wanted)
		unknown, why := No, ""
		for i, p := range in {
			switch p {
			case "subject":
				if strings.Contains(input.fold(mail.BareSubject(input.Message.Envelope.Subject)), folded) {
					return Yes, quote(wanted) + " stands in the subject"
				}
			case "names":
				for _, item := range input.Items() {
					if strings.Contains(input.fold(item.Name), folded) {
						return Yes, quote(wanted) + " stands in the name " + quote(item.Name)
					}
				}
			case "body":
				switch {
				case input.Message.Encrypted():
					unknown, why = Unknowable, "the message is encrypted, so its text cannot be searched for "+quote(wanted)
				case input.Message.TextError != "":
					unknown, why = Unknowable, "the text cannot be read ("+input.Message.TextError+")"
				case input.Message.Text == nil:
					unknown, why = NotYet, "the text has not been read yet"
				case strings.Contains(input.fold(*input.Message.Text), folded):
					return Yes, quote(wanted) + " stands in the " + where[i]
				}
			}
		}
		if unknown != No {
			return unknown, why
		}
		return No, quote(wanted) + " does not stand in the " + places
	}
	if len(t.Any) > 0 {
		add(&test{place: place + ".any", sentence: "with " + list(quoteAll(t.Any), "or") + " in the " + places, eval: func(in *Input) (Answer, string) {
			answer, text := No, ""
			for _, w := range t.Any {
				switch a, said := find(in, w); {
				case a == Yes:
					return a, said
				case a != No:
					answer, text = a, said
				}
			}
			if answer == No {
				text = list(quoteAll(t.Any), "or") + " does not stand in the " + places
			}
			return answer, text
		}})
	}
	if len(t.All) > 0 {
		add(&test{place: place + ".all", sentence: "with " + list(quoteAll(t.All), "and") + " in the " + places, eval: func(in *Input) (Answer, string) {
			answer, text := Yes, ""
			for _, w := range t.All {
				switch a, said := find(in, w); {
				case a == No:
					return a, said
				case a != Yes:
					answer, text = a, said
				}
			}
			if answer == Yes {
				text = list(quoteAll(t.All), "and") + " stand in the " + places
			}
			return answer, text
		}})
	}
}
