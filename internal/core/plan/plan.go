// Package plan decides what becomes of a message: which rules are for it, which
// of its attachments they take, and the exact path of each. A rehearsal and a
// real filing call the same function; it reads nothing but its arguments.
package plan

import (
	"path"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
)

// Verdict is what is decided for an item.
type Verdict string

// The verdicts. A plan uses Filed for what is to be filed.
const (
	Filed   Verdict = "filed"
	LeftOut Verdict = "left out"
	Held    Verdict = "held"
	Failed  Verdict = "failed"
	There   Verdict = "already there"
)

// Setting is what the service knows beside message and rules.
type Setting struct {
	Mailbox  string // its name
	Now      time.Time
	Language language.Tag
	MaxPath  int // octets of a whole path in the cabinet; 0 for 1000
}

// Item is one attachment under one rule.
type Item struct {
	Item     mail.Item
	Number   int // which attachment of the message, from 1
	Verdict  Verdict
	Reason   string
	Segments []string // folders; nil where the item is left out
	Stem     string   // of the file's name
	Ext      string   // with its dot
	Unknown  []string // fields that only contents or a drawn number can settle
	IfExists rule.IfExists
	Target   rule.Target
}

// Path is the wanted path, "/" between levels.
func (i *Item) Path() string {
	if i.Segments == nil {
		return ""
	}
	return path.Join(path.Join(i.Segments...), i.Stem+i.Ext)
}

// Rule is one rule's part of the plan.
type Rule struct {
	Rule  *rule.Compiled
	Match rule.Reason
	Items []Item // nil unless the rule matches
}

// Plan is what all rules together do with a message.
type Plan struct {
	Rules     []Rule
	NeedsText bool // a verdict hangs on the text of the message, which was not read yet
}

// Make plans a message over rules in their order. Rules after one that stops
// are not in the plan.
func Make(rules []*rule.Compiled, m *mail.Message, s Setting) Plan {
	var p Plan
	in := &rule.Input{Message: m, Now: s.Now}
	for _, r := range rules {
		one := Rule{Rule: r, Match: r.Matches(in)}
		switch one.Match.Answer {
		case rule.NotYet:
			p.NeedsText = true
		case rule.Yes:
			one.Items = items(r, in, s, 0, 0)
		case rule.Unknowable:
			// What the rule would take is held until a person has looked.
			one.Items = items(r, in, s, 0, 0)
			for i := range one.Items {
				if one.Items[i].Verdict == Filed {
					one.Items[i].Verdict, one.Items[i].Reason = Held, one.Match.Text
				}
			}
		}
		p.Rules = append(p.Rules, one)
		if one.Match.Answer == rule.Yes && r.Rule.Then == "stop" {
			break
		}
	}
	return p
}

// One plans a single item under a rule that is known to be for the message. ok
// is false where the message has no such item.
func One(r *rule.Compiled, m *mail.Message, s Setting, item string) (one Item, ok bool) {
	for _, i := range items(r, &rule.Input{Message: m, Now: s.Now}, s, 0, 0) {
		if i.Item.ID == item {
			return i, true
		}
	}
	return Item{}, false
}

// Number makes an item's names anew with the register number that was drawn.
func Number(i *Item, r *rule.Compiled, m *mail.Message, s Setting, year, number int) {
	place(i, r, m, s, year, number)
}

func items(r *rule.Compiled, in *rule.Input, s Setting, year, number int) []Item {
	all := in.Items()
	out := make([]Item, len(all))
	for k := range all {
		i := &out[k]
		i.Item, i.Number = all[k], k+1
		choice := r.Choose(&i.Item)
		i.Reason = choice.Text
		if choice.Leave {
			i.Verdict = LeftOut
			continue
		}
		i.Verdict = Filed
		i.Target = r.Target(choice)
		i.IfExists = i.Target.IfExists
		place(i, r, in.Message, s, year, number)
	}
	return out
}

func place(i *Item, r *rule.Compiled, m *mail.Message, s Setting, year, number int) {
	v := &values{item: i, rule: r, message: m, setting: s, year: year, number: number}
	folder := i.Target.Folder.Make(v)
	name := i.Target.Name.Make(v)
	ext := i.Item.Ext()
	limit := s.MaxPath
	if limit == 0 {
		limit = 1000
	}
	file := safename.File(name.Segments[0], ext)
	fitted := safename.Fit(append(folder.Segments, file), ext, limit)
	i.Segments = fitted[:len(fitted)-1]
	file = fitted[len(fitted)-1]
	i.Ext = safename.Ext(ext)
	i.Stem = strings.TrimSuffix(file, i.Ext)
	i.Unknown = append(folder.Unknown, name.Unknown...)
}

// values answers a pattern's fields for one item.
type values struct {
	item    *Item
	rule    *rule.Compiled
	message *mail.Message
	setting Setting
	year    int
	number  int
}

func (v *values) Language() language.Tag { return v.setting.Language }

func (v *values) Lookup(string, string) (string, bool) { return "", false }

func (v *values) Value(field, _ string) pattern.Value {
	text := func(s string) pattern.Value { return pattern.Value{Text: s} }
	at := func(t time.Time) pattern.Value {
		if t.IsZero() {
			return pattern.Value{}
		}
		return pattern.Value{Time: t.In(v.rule.Zone)}
	}
	e := &v.message.Envelope
	if rest, ok := strings.CutPrefix(field, "original.sender."); ok {
		if v.item.Item.Forward == nil {
			return pattern.Value{}
		}
		return text(addressField(v.item.Item.Forward.Sender(), rest))
	}
	if rest, ok := strings.CutPrefix(field, "sender."); ok {
		return text(addressField(e.Sender(), rest))
	}
	if rest, ok := strings.CutPrefix(field, "recipient."); ok {
		all := e.Recipients()
		if len(all) == 0 {
			all = e.DeliveredTo
		}
		if len(all) == 0 {
			return pattern.Value{}
		}
		return text(addressField(all[0], rest))
	}
	switch field {
	case "received":
		return at(v.message.Received)
	case "sent":
		if e.Date.Year() < 1990 || e.Date.After(v.setting.Now.AddDate(0, 0, 1)) {
			return pattern.Value{}
		}
		return at(e.Date)
	case "filed":
		return at(v.setting.Now)
	case "subject":
		return text(mail.BareSubject(e.Subject))
	case "subject.full":
		return text(e.Subject)
	case "mailbox":
		return text(v.setting.Mailbox)
	case "folder":
		return text(v.message.Folder)
	case "rule":
		return text(v.rule.Rule.Name)
	case "message.key":
		return text(v.message.Key())
	case "message.id":
		return text(e.MessageID)
	case "file.stem":
		return text(v.item.Item.Stem())
	case "file.ext":
		return text(strings.TrimPrefix(v.item.Item.Ext(), "."))
	case "file.kind":
		return text(string(v.item.Item.Kind))
	case "file.number":
		return text(strconv.Itoa(v.item.Number))
	case "file.size":
		return text(strconv.FormatInt(v.item.Item.Size, 10))
	case "register", "register.year":
		if v.number == 0 {
			return pattern.Value{Unknown: true}
		}
		if field == "register" {
			return text(strconv.Itoa(v.number))
		}
		return text(strconv.Itoa(v.year))
	}
	return pattern.Value{}
}

func addressField(a mail.Address, part string) string {
	switch part {
	case "name":
		return a.Label()
	case "address":
		return a.String()
	case "local":
		return a.Local
	case "domain":
		return a.Domain
	case "detail":
		return a.Detail()
	}
	return ""
}
