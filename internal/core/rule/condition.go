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
	// The cheap ones first: what the envelope settles spares the body.
	if n.Sender != nil {
		if n.Sender.Verified == nil || !n.Sender.AddressTest.empty() {
			c.address(&n.Sender.AddressTest, place+".sender", "from", "sender", add, (*Input).senders)
		}
	}
	if n.Recipient != nil {
		c.address(n.Recipient, place+".recipient", "to", "recipient", add, (*Input).recipients)
	}
	if n.DeliveredTo != nil {
		c.address(n.DeliveredTo, place+".delivered to", "delivered to", "address of delivery", add,
			func(in *Input) []mail.Address { return in.Message.Envelope.DeliveredTo })
	}
	if n.Subject != nil {
		c.text(n.Subject, place+".subject", "subject", nil, add,
			func(in *Input) (texts, folded []string, answer Answer) { return in.subject(false) })
	}
	if n.SubjectFull != nil {
		c.text(n.SubjectFull, place+".subject.full", "full subject", nil, add,
			func(in *Input) (texts, folded []string, answer Answer) { return in.subject(true) })
	}
	if n.Received != nil {
		c.date(n.Received, place+".received", "received", add, func(m *mail.Message) time.Time { return m.Received })
	}
	if n.Sent != nil {
		c.date(n.Sent, place+".sent", "sent", add, func(m *mail.Message) time.Time { return m.Envelope.Date })
	}
	if n.Size != nil {
		c.size(n.Size, place+".size", add)
	}
	if len(n.Folder) > 0 {
		c.folder(n.Folder, place+".folder", add)
	}
	if len(n.Label) > 0 {
		c.label(n.Label, place+".label", add)
	}
	c.flag(n.Read, place+".read", `\Seen`, "read", "unread", add)
	c.flag(n.Flagged, place+".flagged", `\Flagged`, "flagged", "not flagged", add)
	if n.Taken != nil {
		c.taken(*n.Taken, place+".taken earlier", add)
	}
	if n.Attachments != nil {
		c.count(n.Attachments, place+".attachments", add)
	}
	if n.Attachment != nil {
		c.attachment(n.Attachment, place+".attachment", add)
	}
	if n.Header != nil {
		c.header(n.Header, place+".header", add)
	}
	if n.OriginalSender != nil {
		c.address(n.OriginalSender, place+".original sender", "originally from", "original sender",
			func(t *test) { add(ofForward(t)) }, (*Input).originals)
	}
	if n.Words != nil {
		c.words(n.Words, place+".words", add)
	}
	if n.Sender != nil && n.Sender.Verified != nil {
		c.verified(*n.Sender.Verified, place+".sender.verified", add)
	}
	if n.Topic != nil {
		c.topic(n.Topic, place+".topic", add)
	}
	group("all", n.All)
	group("any", n.Any)
	group("none", n.None)
	switch len(parts) {
	case 0:
		if len(c.problems) == before { // else it was said what is missing
			c.fail(place, everyMessage, "there is no condition here")
		}
		return &test{place: place, answer: func(*Input) Answer { return No }, why: func(*Input, Answer) string { return "" }}
	case 1:
		return parts[0]
	}
	return &test{place: place, group: "all", parts: parts}
}

// ofForward lets a test on original senders wait until they are known.
func ofForward(t *test) *test {
	answer, why := t.answer, t.why
	t.answer = func(in *Input) Answer {
		senders, known := in.Message.Originals()
		switch m := in.Message; {
		case len(senders) > 0:
			return answer(in)
		case !known:
			in.needs.Text = true
			return NotYet
		case m.Text == nil && (m.Encrypted() || m.TextError != ""):
			return Unknowable
		}
		return No
	}
	t.why = func(in *Input, is Answer) string {
		senders, known := in.Message.Originals()
		switch {
		case len(senders) > 0:
			return why(in, is)
		case !known:
			return "the text has not been read yet"
		case is == Unknowable:
			return "the text cannot be read, so it is not known whether a message is forwarded in it"
		}
		return "the message forwards no other"
	}
	return t
}

// empty says whether it is not said who.
func (t *AddressTest) empty() bool {
	return len(t.Correspondent)+len(t.Address)+len(t.Domain)+len(t.Name)+len(t.Detail) == 0
}

func (c *compiler) address(t *AddressTest, place, preposition, noun string, add func(*test),
	get func(*Input) []mail.Address) {
	before := len(c.problems)
	one := func(key, sentence string, wanted []string, fits func(in *Input, a mail.Address, want string) bool) {
		if len(wanted) == 0 {
			return
		}
		folded := make([]string, len(wanted))
		for i, w := range wanted {
			folded[i] = strings.ToLower(strings.TrimSpace(w))
			if key == "name" {
				folded[i] = fold(w)
			}
		}
		find := func(in *Input) (mail.Address, bool) {
			for _, a := range get(in) {
				for _, w := range folded {
					if fits(in, a, w) {
						return a, true
					}
				}
			}
			return mail.Address{}, false
		}
		// A correspondent is anyone who writes from his address; where that is not enough,
		// it has to be proven.
		asks := func(in *Input) bool { return in.VerifiedBook && key == "correspondent" && noun == "sender" }
		add(&test{place: place + "." + key, sentence: sentence,
			answer: func(in *Input) Answer {
				_, ok := find(in)
				if ok && asks(in) {
					return in.proven(true)
				}
				return yes(ok)
			},
			why: func(in *Input, answer Answer) string {
				if a, ok := find(in); ok {
					if asks(in) && answer != Yes {
						return noun + " " + a.String() + " would belong to " + quote(in.Book.Find(a).Name) + ", but " + in.proof()
					}
					switch key {
					case "name":
						return noun + " is called " + quote(a.Name)
					case "correspondent":
						return noun + " " + a.String() + " belongs to " + quote(in.Book.Find(a).Name)
					}
					return noun + " is " + a.String()
				}
				addresses := get(in)
				if len(addresses) == 0 {
					return "the message names no " + noun
				}
				is := addresses[0].String()
				if key == "domain" && addresses[0].Domain != "" && len(addresses) == 1 {
					is = addresses[0].Domain
				}
				if key == "name" {
					is = "called " + quote(addresses[0].Name)
				}
				if key == "correspondent" {
					if of := in.Book.Find(addresses[0]); of != nil {
						is += ", who belongs to " + quote(of.Name)
					}
				}
				if len(addresses) > 1 {
					is += fmt.Sprintf(" and %d more", len(addresses)-1)
				}
				return noun + " is " + is + ", not " + list(wanted, "or")
			}})
	}
	for _, a := range t.Address {
		if !strings.Contains(a, "@") {
			c.fail(place+".address", "", "%q is not an address: an @ is missing; for a whole domain use the key domain", a)
		}
	}
	for _, d := range t.Domain {
		if strings.ContainsAny(d, "@ ") {
			c.fail(place+".domain", d[strings.LastIndexAny(d, "@ ")+1:], "%q is not a domain", d)
		}
	}
	if t.Exactly && len(t.Domain) == 0 {
		c.fail(place+".exactly", "", "“exactly” needs a domain, and there is none")
	}
	one("correspondent", preposition+" "+list(quoteAll(t.Correspondent), "or"), t.Correspondent,
		func(in *Input, a mail.Address, w string) bool {
			of := in.Book.Find(a)
			return of != nil && of.Is(w)
		})
	one("address", preposition+" "+list(t.Address, "or"), t.Address, func(_ *Input, a mail.Address, w string) bool {
		at := strings.LastIndexByte(w, '@')
		return at >= 0 && a.Domain == w[at+1:] && strings.EqualFold(a.Local, w[:at])
	})
	exactly := ""
	if t.Exactly {
		exactly = " (without subdomains)"
	}
	one("domain", preposition+" "+list(t.Domain, "or")+exactly, t.Domain, func(_ *Input, a mail.Address, w string) bool {
		w = strings.Trim(w, ".")
		return a.Domain == w || !t.Exactly && len(a.Domain) > len(w) && a.Domain[len(a.Domain)-len(w)-1] == '.' &&
			strings.HasSuffix(a.Domain, w)
	})
	one("name", preposition+" someone called "+list(quoteAll(t.Name), "or"), t.Name,
		func(in *Input, a mail.Address, w string) bool {
			return strings.Contains(in.fold(a.Name), w)
		})
	one("detail", preposition+" an address with +"+list(t.Detail, "or +"), t.Detail,
		func(_ *Input, a mail.Address, w string) bool { return strings.EqualFold(a.Detail(), w) })
	if t.empty() && before == len(c.problems) {
		c.fail(place, "", "the sender is missing: correspondent, address, domain or name")
	}
}

// text compiles tests on texts of which one has to fit. noun is what they are
// called; get gives them as they are and folded, or an answer why it cannot.
func (c *compiler) text(t *TextTest, place, noun string, there *bool, add func(*test),
	get func(*Input) (texts, folded []string, answer Answer)) {
	before := len(c.problems)
	any := 0
	is := func(in *Input) (string, bool) {
		texts, _, _ := get(in)
		if len(texts) == 0 {
			return "there is no " + noun, false
		}
		more := ""
		if len(texts) > 1 {
			more = fmt.Sprintf(" and %d more", len(texts)-1)
		}
		return noun + " is " + quote(Short(texts[0])) + more, true
	}
	unread := func(in *Input, answer Answer) (string, bool) {
		switch {
		case answer == NotYet:
			return "the " + noun + " has not been read yet", true
		case answer == Unknowable:
			return "the " + noun + " cannot be read (" + in.Message.TextError + ")", true
		}
		return "", false
	}
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
		// fit finds the text and the wanted one that settle the answer.
		fit := func(in *Input) (text, want int, answer Answer) {
			_, texts, answer := get(in)
			if answer != Yes {
				return 0, 0, answer
			}
			miss := 0
			for k, f := range texts {
				settled := true
				for i, w := range folded {
					switch ok := fits(f, w); {
					case ok && !all:
						return k, i, Yes
					case !ok && all && settled:
						settled, miss = false, i
					}
				}
				if all && settled {
					return k, 0, Yes
				}
			}
			return 0, miss, No
		}
		add(&test{place: place + "." + key, sentence: "whose " + noun + " " + verb + " " + list(quoteAll(wanted), joint),
			answer: func(in *Input) Answer {
				_, _, answer := fit(in)
				return answer
			},
			why: func(in *Input, answer Answer) string {
				if said, ok := unread(in, answer); ok {
					return said
				}
				k, i, _ := fit(in)
				texts, _, _ := get(in)
				said, some := is(in)
				switch {
				case !some:
					return said
				case answer == Yes && all:
					return noun + " is " + quote(Short(texts[k])) + ", which " + verb + " " + list(quoteAll(wanted), joint)
				case answer == Yes:
					return noun + " is " + quote(Short(texts[k])) + ", which " + verb + " " + quote(wanted[i])
				case all:
					return said + ", which " + negated + " " + quote(wanted[i])
				}
				return said + ", which " + negated + " " + list(quoteAll(wanted), joint)
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
		fit := func(in *Input) (string, Answer) {
			texts, _, answer := get(in)
			if answer != Yes {
				return "", answer
			}
			for _, text := range texts {
				for _, r := range re {
					if r.MatchString(text) {
						return text, Yes
					}
				}
			}
			return "", No
		}
		add(&test{place: place + ".matches", sentence: "whose " + noun + " matches " + list(quoteAll(t.Matches), "or"),
			answer: func(in *Input) Answer {
				_, answer := fit(in)
				return answer
			},
			why: func(in *Input, answer Answer) string {
				if said, ok := unread(in, answer); ok {
					return said
				}
				if text, a := fit(in); a == Yes {
					return noun + " is " + quote(Short(text)) + ", which matches"
				}
				said, some := is(in)
				if !some {
					return said
				}
				return said + ", which does not match " + list(quoteAll(t.Matches), "or")
			}})
	}
	if any == 0 && there == nil && before == len(c.problems) {
		c.fail(place, "", "the %s has no comparison: contains, is, begins, ends, like or matches is missing", noun)
	}
}

func (c *compiler) header(t *HeaderTest, place string, add func(*test)) {
	name := strings.TrimSuffix(strings.TrimSpace(t.Name), ":")
	if name == "" || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r > '~' || r == ':' }) {
		c.fail(place+".name", "X-Reference", "%q is not the name of a header field", t.Name)
		return
	}
	noun := "header field " + name
	get := func(in *Input) (texts, folded []string, answer Answer) { return in.header(name) }
	if t.There != nil {
		want := *t.There
		sentence := "with a " + noun
		if !want {
			sentence = "without a " + noun
		}
		add(&test{place: place + ".there", sentence: sentence,
			answer: func(in *Input) Answer {
				texts, _, answer := get(in)
				if answer != Yes {
					return answer
				}
				return yes(len(texts) > 0 == want)
			},
			why: func(in *Input, answer Answer) string {
				texts, _, _ := get(in)
				switch {
				case answer == NotYet:
					return "the " + noun + " has not been read yet"
				case answer == Unknowable:
					return "the " + noun + " cannot be read (" + in.Message.TextError + ")"
				case len(texts) > 0:
					return noun + " is " + quote(Short(texts[0]))
				}
				return "there is no " + noun
			}})
	}
	c.text(&t.TextTest, place, noun, t.There, add, get)
}

func (c *compiler) date(t *DateTest, place, noun string, add func(*test), get func(*mail.Message) time.Time) {
	one := func(key, sentence string, fits func(at time.Time, in *Input) bool) {
		add(&test{place: place + "." + key, sentence: noun + " " + sentence,
			answer: func(in *Input) Answer {
				at := get(in.Message)
				return yes(!at.IsZero() && fits(at, in))
			},
			why: func(in *Input, answer Answer) string {
				at := get(in.Message)
				if at.IsZero() {
					return "the message has no readable date"
				}
				text := noun + " on " + at.In(in.zone()).Format(time.DateOnly)
				if answer == Yes {
					return text + ", " + sentence
				}
				return text + ", not " + sentence
			}})
	}
	if !t.After.IsZero() {
		one("after", "on or after "+t.After.String(),
			func(at time.Time, in *Input) bool { return !at.Before(t.After.In(in.zone())) })
	}
	if !t.Before.IsZero() {
		one("before", "before "+t.Before.String(),
			func(at time.Time, in *Input) bool { return at.Before(t.Before.In(in.zone())) })
	}
	if !t.Within.IsZero() {
		one("within", "in the last "+t.Within.String(),
			func(at time.Time, in *Input) bool { return !at.Before(t.Within.Before(in.Now)) })
	}
	if !t.Older.IsZero() {
		one("older", "more than "+t.Older.String()+" ago",
			func(at time.Time, in *Input) bool { return at.Before(t.Older.Before(in.Now)) })
	}
	if t.After.IsZero() && t.Before.IsZero() && t.Within.IsZero() && t.Older.IsZero() {
		c.fail(place, "", "the date has no comparison: after, before, within or older is missing")
	}
}

func (c *compiler) size(t *SizeTest, place string, add func(*test)) {
	if t.Larger == 0 && t.Smaller == 0 {
		c.fail(place, "", "the size is missing: larger or smaller")
	}
	one := func(key, than, side string, limit Size, fits func(size int64) bool) {
		if limit == 0 {
			return
		}
		add(&test{place: place + "." + key, sentence: "that are " + than + " than " + limit.String(),
			answer: func(in *Input) Answer { return yes(fits(in.Message.Size)) },
			why: func(in *Input, answer Answer) string {
				text := "the message has " + About(in.Message.Size) + ", "
				if answer == No {
					text += "not "
				}
				return text + side + " " + limit.String()
			}})
	}
	one("larger", "larger", "over", t.Larger, func(size int64) bool { return size > int64(t.Larger) })
	one("smaller", "smaller", "under", t.Smaller, func(size int64) bool { return size < int64(t.Smaller) })
}

func (c *compiler) folder(folders Names, place string, add func(*test)) {
	var like []*regexp.Regexp
	for _, f := range folders {
		like = append(like, wildcard(strings.Trim(f, "/")))
	}
	add(&test{place: place, sentence: "in the mail folder " + list(quoteAll(folders), "or"),
		answer: func(in *Input) Answer {
			f := in.fold(in.Message.Folder)
			return yes(slices.ContainsFunc(like, func(re *regexp.Regexp) bool { return re.MatchString(f) }))
		},
		why: func(in *Input, answer Answer) string {
			text := "the message is in " + quote(in.Message.Folder)
			if answer == No {
				text += ", not in " + list(quoteAll(folders), "or")
			}
			return text
		}})
}

func (c *compiler) label(labels Names, place string, add func(*test)) {
	has := func(in *Input) string {
		for _, l := range labels {
			if in.Message.HasFlag(strings.ReplaceAll(l, " ", "_")) || in.Message.HasFlag(l) {
				return l
			}
		}
		return ""
	}
	add(&test{place: place, sentence: "with the label " + list(quoteAll(labels), "or"),
		answer: func(in *Input) Answer { return yes(has(in) != "") },
		why: func(in *Input, answer Answer) string {
			if l := has(in); l != "" {
				return "the label " + quote(l) + " is on the message"
			}
			return "the label " + list(quoteAll(labels), "or") + " is not on the message"
		}})
}

func (c *compiler) flag(want *bool, place, name, on, off string, add func(*test)) {
	if want == nil {
		return
	}
	wanted, said := *want, map[bool]string{true: on, false: off}
	add(&test{place: place, sentence: "that are " + said[wanted],
		answer: func(in *Input) Answer { return yes(in.Message.HasFlag(name) == wanted) },
		why: func(in *Input, answer Answer) string {
			return "the message is " + said[in.Message.HasFlag(name)]
		}})
}

func (c *compiler) taken(want bool, place string, add func(*test)) {
	sentence := "of which an earlier rule takes something"
	if !want {
		sentence = "of which no earlier rule takes anything"
	}
	add(&test{place: place, sentence: sentence,
		answer: func(in *Input) Answer { return yes((in.Taken != "") == want) },
		why: func(in *Input, answer Answer) string {
			if in.Taken != "" {
				return "the earlier rule " + quote(in.Taken) + " takes something of it"
			}
			return "no earlier rule takes anything of it"
		}})
}

func (c *compiler) count(t *CountTest, place string, add func(*test)) {
	if t.AtLeast == nil && t.AtMost == nil {
		c.fail(place, "", "the number is missing: at least or at most")
		return
	}
	sentence := "with attachments"
	switch {
	case t.AtLeast != nil && t.AtMost != nil && *t.AtLeast == *t.AtMost && *t.AtLeast == 1:
		sentence = "with exactly 1 attachment"
	case t.AtLeast != nil && t.AtMost != nil && *t.AtLeast == *t.AtMost:
		sentence = fmt.Sprintf("with exactly %d attachments", *t.AtLeast)
	case t.AtLeast != nil && t.AtMost != nil:
		sentence = fmt.Sprintf("with %d to %d attachments", *t.AtLeast, *t.AtMost)
	case t.AtMost != nil && *t.AtMost == 0:
		sentence = "without attachments"
	case t.AtMost != nil:
		sentence = fmt.Sprintf("with at most %d attachments", *t.AtMost)
	case *t.AtLeast > 1:
		sentence = fmt.Sprintf("with at least %d attachments", *t.AtLeast)
	}
	add(&test{place: place, sentence: sentence,
		answer: func(in *Input) Answer {
			n, closed, sealed := in.counted()
			switch {
			case t.AtMost != nil && n > *t.AtMost:
				return No
			case closed: // there may be more
				return NotYet
			case sealed:
				return Unknowable
			}
			return yes(t.AtLeast == nil || n >= *t.AtLeast)
		},
		why: func(in *Input, answer Answer) string {
			n, _, _ := in.counted()
			text := fmt.Sprintf("the message has %d attachments", n)
			if n == 1 {
				text = "the message has 1 attachment"
			}
			switch answer {
			case NotYet:
				text += " and one that was not opened yet"
			case Unknowable:
				text += " and one that nobody can look into"
			}
			return text
		}})
}

// unread says which electronic invoice among items cannot be read; "" where there is none.
func unread(items []mail.Item) string {
	for i := range items {
		if in := items[i].Inside; in != nil && in.Unread != "" {
			return quote(items[i].Name) + ": " + in.Unread
		}
	}
	return ""
}

func (c *compiler) attachment(t *ItemTest, place string, add func(*test)) {
	one := c.item(t, place)
	find := func(in *Input) (fit *mail.Item, answer Answer) {
		items := in.Items()
		for i := range items {
			l := &looking{rule: in.rule, read: in.ReadValue}
			switch item := &items[i]; {
			case item.Opens && item.Sealed == "" && in.Message.Inside[item.ID] == nil:
				in.needs.open(item)
				answer = NotYet
			case item.Unsure && len(t.Kind) > 0:
				in.needs.head(item)
				answer = NotYet
			default:
				switch is := one.judge(item, l); {
				case is == Yes:
					return item, Yes
				case is == NotYet && item.Sealed == "":
					in.needs.Fields(item.ID, l.unknown)
					answer = NotYet
				case (is == Unknowable || item.Sealed != "") && answer == No:
					answer = Unknowable
				}
			}
		}
		return nil, answer
	}
	add(&test{place: place, sentence: "with " + one.sentence,
		answer: func(in *Input) Answer { _, answer := find(in); return answer },
		why: func(in *Input, answer Answer) string {
			fit, _ := find(in)
			items := in.Items()
			switch {
			case fit != nil:
				return quote(fit.Name) + ": " + one.reason(fit, &looking{rule: in.rule, read: in.ReadValue})
			case answer == NotYet:
				return "an attachment was not looked into yet"
			case answer == Unknowable && t.Invoice != "" && unread(items) != "":
				return unread(items)
			case answer == Unknowable:
				return "an attachment is encrypted, broken or without readable text, so its contents are not known"
			case len(items) == 0:
				return "there is no attachment"
			}
			text := "there are no " + one.sentence + " among the attachments"
			for i := range items {
				l := &looking{rule: in.rule, read: in.ReadValue}
				if one.judge(&items[i], l); l.missed != "" {
					return text + "; in " + quote(items[i].Name) + " " + l.missed
				}
			}
			return text
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
	// find says where a word is: the index of the place, and the name that
	// holds it.
	find := func(input *Input, folded string) (at int, name string, answer Answer) {
		for i, p := range in {
			switch p {
			case "subject":
				if _, f, _ := input.subject(false); strings.Contains(f[0], folded) {
					return i, "", Yes
				}
			case "names":
				items := input.Items()
				for k := range items {
					if strings.Contains(input.fold(items[k].Name), folded) {
						return i, items[k].Name, Yes
					}
					if item := &items[k]; item.Opens && item.Sealed == "" && input.Message.Inside[item.ID] == nil {
						input.needs.open(item)
						answer = NotYet
					}
				}
			case "body":
				switch m := input.Message; {
				case m.Encrypted() || m.TextError != "":
					answer = Unknowable
				case m.Text == nil:
					input.needs.Text = true
					if answer != Unknowable {
						answer = NotYet
					}
				case strings.Contains(input.fold(*m.Text), folded):
					return i, "", Yes
				}
			}
		}
		return 0, "", answer
	}
	unread := func(input *Input, answer Answer, wanted string) string {
		switch {
		case answer == NotYet:
			return "the text has not been read yet"
		case input.Message.TextError != "":
			return "the text cannot be read (" + input.Message.TextError + ")"
		}
		return "the message is encrypted, so its text cannot be searched for " + wanted
	}
	folded := func(words []string) []string {
		out := make([]string, len(words))
		for i, w := range words {
			out[i] = fold(w)
		}
		return out
	}
	if len(t.Any) > 0 {
		wanted := folded(t.Any)
		look := func(in *Input) (word, at int, name string, answer Answer) {
			for i, w := range wanted {
				at, name, a := find(in, w)
				if a == Yes {
					return i, at, name, Yes
				}
				if a != No {
					answer = a
				}
			}
			return 0, 0, "", answer
		}
		add(&test{place: place + ".any", sentence: "with " + list(quoteAll(t.Any), "or") + " in the " + places,
			answer: func(in *Input) Answer { _, _, _, answer := look(in); return answer },
			why: func(in *Input, answer Answer) string {
				switch i, at, name, _ := look(in); {
				case answer == No:
					return list(quoteAll(t.Any), "or") + " does not stand in the " + places
				case answer != Yes:
					return unread(in, answer, list(quoteAll(t.Any), "or"))
				case name != "":
					return quote(t.Any[i]) + " stands in the name " + quote(name)
				default:
					return quote(t.Any[i]) + " stands in the " + where[at]
				}
			}})
	}
	if len(t.All) > 0 {
		wanted := folded(t.All)
		look := func(in *Input) (missing int, answer Answer) {
			answer = Yes
			for i, w := range wanted {
				switch _, _, a := find(in, w); {
				case a == No:
					return i, No
				case a != Yes:
					answer = a
				}
			}
			return 0, answer
		}
		add(&test{place: place + ".all", sentence: "with " + list(quoteAll(t.All), "and") + " in the " + places,
			answer: func(in *Input) Answer { _, answer := look(in); return answer },
			why: func(in *Input, answer Answer) string {
				switch i, _ := look(in); answer {
				case Yes:
					return list(quoteAll(t.All), "and") + " stand in the " + places
				case No:
					return quote(t.All[i]) + " does not stand in the " + places
				}
				return unread(in, answer, list(quoteAll(t.All), "and"))
			}})
	}
}
