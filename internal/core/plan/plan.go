// Package plan decides what becomes of a message: which rules are for it, which
// of its attachments they take, and the exact path of each. A rehearsal and a
// real filing call the same function; it reads nothing but its arguments.
package plan

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/core/value"
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

// maxNesting bounds archives within archives.
const maxNesting = 4

// Setting is what the service knows beside message and rules.
type Setting struct {
	Mailbox  string // its name
	Now      time.Time
	Language language.Tag
	MaxPath  int                 // octets of a whole path in the cabinet; 0 for 1000
	Book     *correspondent.Book // nil is an empty one
	Topics   *topic.Panel        // nil has none
	// Said gives what people said of a message, by the topic's name; nil where nothing was.
	Said            func(m *mail.Message) func(topic string) (about, said bool)
	Pictures        bool // the text in pictures can be read
	VerifiedReplies bool // replies go to verified senders only
	VerifiedBook    bool // correspondents are recognised only where the sender is verified
	Lookup          func(table, key string) (string, bool)
	Explain         bool // reasons also for rules that are not for the message, and rules after one that stops
	Beyond          bool // rules after one that stops, without reasons
}

// Item is one attachment under one rule, a file within an archive, or a copy of
// the message.
type Item struct {
	Item     mail.Item
	Number   int // which attachment of the message, from 1
	Verdict  Verdict
	Reason   reason.Reason
	Segments []string // folders; nil where the item is left out
	Stem     string   // of the file's name
	Ext      string   // with its dot
	Unknown  []string // fields that only contents or a drawn number can settle
	Placed   bool     // folder and name are settled, whatever else is not
	IfExists rule.IfExists
	Target   rule.Target
	Copy     rule.CopyForm // of a copy of the message, else ""
	Held     rule.Cause    // why it is held
	Topic    string        // the topic that is in doubt, so that a decision can teach it
	Values   []value.Value // what is read of it, in the rule's order
}

// Settled says whether nothing but the number that is drawn for it is still to be known of its names and values.
func (i *Item) Settled() bool {
	return !slices.ContainsFunc(i.Unknown, func(field string) bool { return !strings.HasPrefix(field, "register") })
}

// unread says whether there may be a text inside that was not read yet. A copy of the message has none: what it says is
// the message's.
func (i *Item) unread() bool { return i.Copy == "" && i.Item.Readable() && i.Item.Sealed == "" }

// Path is the wanted path, "/" between levels.
func (i *Item) Path() string {
	if i.Segments == nil {
		return ""
	}
	return path.Join(path.Join(i.Segments...), i.Stem+i.Ext)
}

// Rule is one rule's part of the plan.
type Rule struct {
	Rule    *rule.Compiled
	Match   rule.Reason // with its text where it cannot be known, or the setting asks to explain
	Items   []Item      // nil unless the rule matches
	Stopped string      // the earlier rule that lets no later one see the message
	Steps   []Step      // what is done with the message afterwards
}

// Plan is what all rules together do with a message.
type Plan struct {
	Rules []Rule
	Needs rule.Needs // what has to be read before all verdicts are settled
}

// Make plans a message over rules in their order. Rules after one that stops
// are not in the plan.
func Make(rules []*rule.Compiled, m *mail.Message, s Setting) Plan {
	var p Plan
	in := s.input(m)
	stopped, mover := "", ""
	for _, r := range rules {
		if stopped != "" {
			p.Rules = append(p.Rules,
				Rule{Rule: r, Stopped: stopped, Match: rule.Reason{Text: fmt.Sprintf("the earlier rule “%s” lets no later rule "+
					"see the message", stopped)}})
			continue
		}
		answer, needs := r.Answer(in)
		if answer == rule.No && !s.Explain {
			continue
		}
		one := Rule{Rule: r, Match: rule.Reason{Answer: answer}}
		if s.Explain || answer == rule.Unknowable {
			one.Match = r.Matches(in)
		}
		switch answer {
		case rule.NotYet:
			p.Needs.Add(&needs)
		case rule.Yes:
			one.Items = items(r, in, s, &p.Needs)
		case rule.Unknowable:
			// What the rule would take is held until a person has looked.
			one.Items = items(r, in, s, &p.Needs)
			for i := range one.Items {
				// What is held for its own sake waits for the answer first.
				if v := one.Items[i].Verdict; v == Filed || v == Held && one.Match.Topic != "" {
					held := rule.Doubtful
					if one.Match.Topic != "" {
						held = rule.OfTopic
					}
					one.Items[i].Verdict, one.Items[i].Held, one.Items[i].Topic = Held, held, one.Match.Topic
					one.Items[i].Reason = waits(held, one.Match.Text, one.Match.Topic)
				}
			}
		}
		for i := range one.Items {
			if one.Items[i].Verdict == Filed && in.Taken == "" {
				in.Taken = r.Rule.Name
			}
		}
		if answer == rule.Yes {
			one.Steps = steps(r, &one, m, s, &mover, &p.Needs)
		}
		p.Rules = append(p.Rules, one)
		if answer == rule.Yes && r.Rule.Then == "stop" {
			if !s.Explain && !s.Beyond {
				break
			}
			stopped = r.Rule.Name
		}
	}
	return p
}

func (s *Setting) input(m *mail.Message) *rule.Input {
	m.Pictures = s.Pictures
	in := &rule.Input{Message: m, Now: s.Now, Book: s.Book, Topics: s.Topics, VerifiedBook: s.VerifiedBook}
	if s.Said != nil {
		in.Said = s.Said(m)
	}
	in.ReadValue = s.reader(m)
	return in
}

// reader reads values of a message's attachments, for conditions.
func (s *Setting) reader(m *mail.Message) rule.ReadValue {
	return func(r *rule.Compiled, item *mail.Item, of *rule.Value) (found value.Value, unknown []string) {
		v := &values{item: &Item{Item: *item}, rule: r, message: m, setting: *s}
		return v.one(of)
	}
}

// Value reads a value of an item outside of a plan, as of a file that was filed before. unknown are the fields that it
// needs and that are not known yet.
func Value(r *rule.Compiled, m *mail.Message, s Setting, item *mail.Item, of *rule.Value) (found value.Value,
	unknown []string) {
	item.Legible = s.Pictures
	return s.reader(m)(r, item, of)
}

// All plans all items under a rule that is known to be for the message, by their ids.
func All(r *rule.Compiled, m *mail.Message, s Setting) (all map[string]Item, needs rule.Needs) {
	all = map[string]Item{}
	for _, i := range items(r, s.input(m), s, &needs) {
		if _, twice := all[i.Item.ID]; !twice {
			all[i.Item.ID] = i
		}
	}
	return all, needs
}

// One plans a single item under a rule that is known to be for the message. ok
// is false where the message has no such item.
func One(r *rule.Compiled, m *mail.Message, s Setting, item string) (one Item, needs rule.Needs, ok bool) {
	for _, i := range items(r, s.input(m), s, &needs) {
		if i.Item.ID == item {
			return i, needs, true
		}
	}
	return Item{}, needs, false
}

// Released plans a single item as it is, because a person says so, whatever the
// rule would hold or leave: an archive is not opened. ok is false where the
// message has no such item, or needs says what to read first.
func Released(r *rule.Compiled, m *mail.Message, s Setting, id string) (one Item, needs rule.Needs, ok bool) {
	if form, isCopy := strings.CutPrefix(id, "copy:"); isCopy {
		r.CopyTargets(func(f rule.CopyForm, t rule.Target) {
			if string(f) == form {
				one, ok = Copy(r, m, s, f, t, 1), true
				need(&one, &needs)
			}
		})
		return one, needs, ok
	}
	item, ok := m.Find(id)
	if !ok {
		if at := strings.LastIndex(id, "!"); at > 0 && m.Inside[id[:at]] == nil {
			needs.NeedOpen(id[:at])
		}
		return one, needs, false
	}
	t, ok := r.AnyTarget(&item, s.reader(m))
	if !ok {
		return one, needs, false
	}
	t.Unpack = "archive"
	one = Item{Item: item, Number: 1, Verdict: Filed, Reason: reason.Released(), Target: t, IfExists: t.IfExists}
	place(&one, r, m, s, 0, 0)
	need(&one, &needs)
	return one, needs, true
}

// Number makes an item's names again with the register number that was drawn.
func Number(i *Item, r *rule.Compiled, m *mail.Message, s Setting, year, number int) {
	place(i, r, m, s, year, number)
}

// Archive says whether an item is an archive that can be looked into.
func Archive(i *mail.Item) bool { return i.Kind == mail.Archive && i.Sealed == "" }

// planner plans the items of one message under one rule.
type planner struct {
	rule    *rule.Compiled
	message *mail.Message
	setting Setting
	needs   *rule.Needs
	out     []Item
	takes   bool
}

func items(r *rule.Compiled, in *rule.Input, s Setting, needs *rule.Needs) []Item {
	p := &planner{rule: r, message: in.Message, setting: s, needs: needs}
	all := in.Items()
	p.out = make([]Item, 0, len(all))
	for k := range all {
		p.add(&all[k], r.Choose(&all[k], s.reader(in.Message)), 0)
	}
	p.copies()
	p.settle()
	return p.out
}

// add plans one item as it was chosen.
func (p *planner) add(item *mail.Item, choice rule.Choice, depth int) {
	p.out = append(p.out, Item{Item: *item, Number: len(p.out) + 1, Reason: reason.Conditions(choice.Text)})
	i := &p.out[len(p.out)-1]
	if choice.Hold != "" {
		i.Reason = waits(choice.Hold, choice.Text, "")
	}
	i.Reason = reason.And(i.Reason, reason.Remark(item.Remark))
	switch {
	case choice.Unsure:
		if choice.Fields != nil {
			p.needs.Fields(item.ID, choice.Fields)
		} else {
			p.needs.NeedHead(item.ID)
		}
		i.Verdict, i.Unknown = LeftOut, []string{"contents"}
		return
	case choice.Leave:
		i.Verdict = LeftOut
		if item.Opens && item.Sealed == "" && p.message.Inside[item.ID] == nil {
			p.needs.NeedOpen(item.ID)
			i.Unknown = []string{"contents"}
		}
		return
	case choice.Hold != "":
		i.Verdict, i.Held = Held, choice.Hold
		return
	case item.Spoiled != "":
		i.Verdict, i.Held, i.Reason = Held, rule.Unreadable, reason.Unreadable(item.Spoiled)
		return
	}
	i.Verdict = Filed
	i.Target = p.rule.Target(choice)
	i.IfExists = i.Target.IfExists
	if i.Target.Unpack == "archive" || !Archive(item) {
		p.takes = true
		place(i, p.rule, p.message, p.setting, 0, 0)
		p.ask(i)
		return
	}
	opened := p.message.Inside[item.ID]
	switch {
	case depth >= maxNesting:
		i.Verdict, i.Held, i.Reason = Held, rule.Unreadable, reason.Unreadable(fmt.Sprintf("an archive within archives, "+
			"more than %d deep, is not opened", maxNesting))
		return
	case opened == nil:
		p.needs.NeedOpen(item.ID)
		i.Unknown = []string{"contents"}
		p.takes = true
	case opened.Problem != "":
		i.Verdict, i.Held = Held, rule.Unreadable
		if opened.Locked {
			i.Held = rule.Encrypted
		}
		i.Reason = waits(i.Held, opened.Problem, "")
		return
	}
	if i.Target.Unpack == "both" {
		unknown := i.Unknown
		p.takes = true
		place(i, p.rule, p.message, p.setting, 0, 0)
		i.Unknown = append(i.Unknown, unknown...)
		p.ask(i)
	} else {
		i.Verdict = LeftOut
		i.Reason = reason.Unpacked()
		if opened == nil {
			i.Reason = reason.ToUnpack()
		} else if len(opened.Items) == 0 {
			i.Reason = reason.UnpackedEmpty()
		}
	}
	if opened == nil {
		return
	}
	for _, inner := range p.message.Known(item) {
		if inner.Parent == item.ID { // what an inner item holds comes with that item
			p.add(&inner, p.rule.ChooseWithin(&inner, p.setting.reader(p.message), choice.Entry), depth+1)
		}
	}
}

// ask holds an item of which a value is not found that the rule asks for. What is not known yet is read first.
func (p *planner) ask(i *Item) {
	if !i.Settled() {
		return
	}
	for k, of := range p.rule.Values() {
		if v := &i.Values[k]; of.Ask && v.Text == "" {
			i.Verdict, i.Held, i.Reason = Held, rule.NoValue, reason.NoValue(v.Name, v.Problem)
			return
		}
	}
}

// waits is why an item is held, by what holds it.
func waits(held rule.Cause, text, topic string) reason.Reason {
	switch held {
	case rule.OfTopic:
		return reason.Topic(topic, text)
	case rule.Doubtful:
		return reason.Doubtful(text)
	case rule.Encrypted:
		return reason.Encrypted(text)
	case rule.Careful:
		return reason.Caution(text)
	}
	return reason.Unreadable(text)
}

// copies plans the copies of the message: beside attachments that are filed, or
// alone where the rule takes nothing else.
func (p *planner) copies() {
	if !p.takes && p.rule.TakesAttachments() {
		return
	}
	p.rule.CopyTargets(func(form rule.CopyForm, t rule.Target) {
		p.out = append(p.out, Copy(p.rule, p.message, p.setting, form, t, len(p.out)+1))
	})
}

// Copy plans a copy of the message in one form.
func Copy(r *rule.Compiled, m *mail.Message, s Setting, form rule.CopyForm, t rule.Target, number int) Item {
	name := strings.ReplaceAll(mail.BareSubject(m.Envelope.Subject), "/", "-")
	if strings.TrimSpace(name) == "" {
		name = "No subject"
	}
	i := Item{Item: mail.Item{ID: "copy:" + string(form), Name: name + form.Ext(), Named: true, Type: "message/rfc822",
		Size: m.Size, Kind: mail.KindOf("", form.Ext())},
		Number: number, Verdict: Filed, Reason: reason.MessageCopy(), Target: t, IfExists: t.IfExists, Copy: form}
	place(&i, r, m, s, 0, 0)
	return i
}

func place(i *Item, r *rule.Compiled, m *mail.Message, s Setting, year, number int) {
	v := &values{item: i, rule: r, message: m, setting: s, year: year, number: number}
	unknown := v.read()
	folder := i.Target.Folder.Make(v)
	name := i.Target.Name.Make(v)
	i.Unknown = slices.Concat(unknown, folder.Unknown, name.Unknown)
	i.Placed = len(folder.Unknown)+len(name.Unknown) == 0
	segments := folder.Segments
	if i.Target.Own != nil {
		own := i.Target.Own.Make(v)
		segments = append(segments, own.Segments...)
	}
	if i.Target.Unpack != "archive" && !i.Target.Drop && i.Item.Folder != "" {
		for _, f := range strings.Split(i.Item.Folder, "/") {
			if f = strings.TrimSpace(f); f != "" && f != "." && f != ".." {
				segments = append(segments, safename.Segment(f))
			}
		}
	}
	ext := i.Item.Ext()
	if i.Copy != "" {
		ext = i.Copy.Ext()
	}
	limit := s.MaxPath
	if limit == 0 {
		limit = 1000
	}
	file := safename.File(name.Segments[0], ext)
	fitted := safename.Fit(append(segments, file), ext, limit)
	i.Segments = fitted[:len(fitted)-1]
	file = fitted[len(fitted)-1]
	i.Ext = safename.Ext(ext)
	i.Stem = strings.TrimSuffix(file, i.Ext)
}

// values answers a pattern's fields for one item.
type values struct {
	item    *Item
	rule    *rule.Compiled
	message *mail.Message
	setting Setting
	year    int
	number  int
	filed   []string // paths, in texts about the whole message
	open    []string // values that are not known yet
}

// read reads the values of the item, and says which fields they need that are not known yet.
func (v *values) read() (unknown []string) {
	all := v.rule.Values()
	if len(all) == 0 {
		return nil
	}
	v.item.Values = make([]value.Value, len(all))
	for i := range all {
		one, needs := v.one(&all[i])
		if v.item.Values[i] = one; len(needs) > 0 {
			v.open, unknown = append(v.open, one.Name), append(unknown, needs...)
		}
	}
	return unknown
}

// one reads a value of the item, and says which fields it needs that are not known yet.
func (v *values) one(of *rule.Value) (one value.Value, unknown []string) {
	one = value.Value{Name: of.Name, Type: of.Type}
	for _, from := range of.From {
		text, needs, found := from.Find(v)
		if len(needs) > 0 {
			one.Problem = ""
			return one, needs
		}
		if !found {
			continue
		}
		kept, err := value.Read(of.Type, text, of.Format)
		if err == nil {
			one.Text, one.Problem = kept, ""
			if inside := v.item.Item.Inside; inside != nil && rule.FromInside(from) {
				one.Sure, one.As = inside.Sure, value.Written(text, kept)
			} else if rule.FromCodes(from) {
				one.As = value.Written(text, kept)
			}
			return one, nil
		}
		one.Problem = err.Error()
	}
	if one.Problem == "" {
		one.Problem = of.Missing(&v.item.Item)
	}
	return one, nil
}

// value is one of the values that were read of the item.
func (v *values) value(name string) pattern.Value {
	if slices.Contains(v.open, name) {
		return pattern.Value{Unknown: true}
	}
	for _, one := range v.item.Values {
		if one.Name != name || one.Text == "" {
			continue
		}
		if one.Type == value.Date {
			at, err := time.ParseInLocation(time.DateOnly, one.Text, v.rule.Zone)
			if err != nil {
				return pattern.Value{}
			}
			return pattern.Value{Time: at}
		}
		return pattern.Value{Text: one.Text}
	}
	return pattern.Value{}
}

func (v *values) Language() language.Tag { return v.setting.Language }

func (v *values) Lookup(table, key string) (string, bool) {
	if v.setting.Lookup == nil {
		return "", false
	}
	return v.setting.Lookup(table, key)
}

func (v *values) Value(field, argument string) pattern.Value {
	text := func(s string) pattern.Value { return pattern.Value{Text: s} }
	at := func(t time.Time) pattern.Value {
		if t.IsZero() {
			return pattern.Value{}
		}
		return pattern.Value{Time: t.In(v.rule.Zone)}
	}
	e := &v.message.Envelope
	if rest, ok := strings.CutPrefix(field, "original.sender."); ok {
		if f := v.item.Item.Forward; f != nil {
			return text(addressField(f.Sender(), rest))
		}
		senders, known := v.message.Originals()
		if len(senders) == 0 {
			return pattern.Value{Unknown: !known}
		}
		return text(addressField(senders[0], rest))
	}
	if rest, ok := strings.CutPrefix(field, "sender."); ok {
		return text(addressField(e.Sender(), rest))
	}
	if rest, ok := strings.CutPrefix(field, "invoice."); ok {
		return v.invoice(rest)
	}
	if rest, ok := strings.CutPrefix(field, "file."); ok {
		return v.file(rest)
	}
	if name, ok := strings.CutPrefix(field, "value."); ok {
		return v.value(name)
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
	case "correspondent":
		if c := v.setting.Book.Find(e.Sender()); c != nil {
			return text(c.Name)
		}
	case "subject":
		return text(mail.BareSubject(e.Subject))
	case "subject.full":
		return text(e.Subject)
	case "header":
		values, known := v.message.Field(argument)
		if !known {
			return pattern.Value{Unknown: v.message.TextError == ""}
		}
		if len(values) > 0 {
			return text(values[0])
		}
	case "body":
		if v.message.Text == nil {
			return pattern.Value{Unknown: v.message.TextError == "" && !v.message.Encrypted()}
		}
		return text(*v.message.Text)
	case "mailbox":
		return text(v.setting.Mailbox)
	case "folder":
		return text(v.message.Folder)
	case "rule":
		return text(v.rule.Rule.Name)
	case "filed.list":
		return text(strings.Join(v.filed, "\n"))
	case "filed.count":
		return text(strconv.Itoa(len(v.filed)))
	case "message.key":
		return text(v.message.Key())
	case "message.id":
		return text(e.MessageID)
	case "archive.stem":
		name := v.item.Item.Archive
		if name == "" && v.item.Item.Kind == mail.Archive {
			name = v.item.Item.Name
		}
		return text(strings.TrimSuffix(name, mail.Extension(name)))
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

// file is what a field of the attachment holds.
func (v *values) file(field string) pattern.Value {
	item := &v.item.Item
	switch field {
	case "text":
		if item.Inside == nil {
			return pattern.Value{Unknown: v.item.unread()}
		}
		return pattern.Value{Text: item.Inside.Text}
	case "code":
		if item.Codes == nil {
			return pattern.Value{Unknown: v.item.Copy == "" && item.Coded() && item.Sealed == ""}
		}
		return pattern.Value{Text: item.Codes.Text}
	}
	return pattern.Value{Text: map[string]string{"stem": item.Stem(), "ext": strings.TrimPrefix(item.Ext(), "."),
		"kind": string(item.Kind), "number": strconv.Itoa(v.item.Number), "size": strconv.FormatInt(item.Size, 10),
		"path": item.Folder}[field]}
}

// invoice is what a field of an electronic invoice holds.
func (v *values) invoice(field string) pattern.Value {
	item := &v.item.Item
	if item.Inside == nil {
		return pattern.Value{Unknown: v.item.unread()}
	}
	in := item.Inside.Invoice
	if in == nil {
		return pattern.Value{}
	}
	day := func(s string) pattern.Value {
		at, ok := invoice.Day(s)
		if !ok {
			return pattern.Value{}
		}
		y, m, d := at.Date()
		return pattern.Value{Time: time.Date(y, m, d, 0, 0, 0, 0, v.rule.Zone)}
	}
	switch field {
	case "issued":
		return day(in.Issued)
	case "due":
		return day(in.Due)
	case "type":
		if in.CreditNote() {
			return pattern.Value{Text: "credit note"}
		}
		return pattern.Value{Text: "invoice"}
	case "faults":
		var rules []string
		for _, f := range in.Faults {
			rules = append(rules, f.Rule)
		}
		return pattern.Value{Text: strings.Join(rules, ", ")}
	}
	return pattern.Value{Text: map[string]string{"number": in.Number, "seller": in.Seller, "vat": in.SellerVAT,
		"buyer": in.Buyer, "order": in.Order, "reference": in.Reference, "currency": in.Currency, "net": string(in.Net),
		"tax": string(in.Tax), "total": string(in.Total), "payable": string(in.Payable)}[field]}
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

// settle adds what the fields of a filed item's names still need.
func (p *planner) settle() {
	for i := range p.out {
		if p.out[i].Verdict == Filed {
			need(&p.out[i], p.needs)
		}
	}
}

// need adds what the fields of an item's names and its values still need.
func need(i *Item, needs *rule.Needs) { needs.Fields(i.Item.ID, i.Unknown) }
