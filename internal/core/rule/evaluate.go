package rule

import (
	"slices"
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/topic"
)

// Answer is what a condition says of a message.
type Answer int

// The four answers. NotYet means that something cheap is missing, Unknowable
// that it cannot be had: the message is encrypted or broken.
const (
	No Answer = iota
	Yes
	NotYet
	Unknowable
)

func yes(is bool) Answer {
	if is {
		return Yes
	}
	return No
}

func (a Answer) String() string { return [...]string{"no", "yes", "not yet", "cannot be known"}[a] }

// MarshalText writes the answer in words.
func (a Answer) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// Reason is an answer and why, naming what was compared.
type Reason struct {
	Answer Answer   `json:"answer"`
	Text   string   `json:"text"`
	Place  string   `json:"place"`           // of the condition in the rule
	Topic  string   `json:"topic,omitempty"` // the one about which it is in doubt, so that a decision can teach it
	Parts  []Reason `json:"parts,omitempty"` // of a group
}

// Needs is what has to be read of a message before a verdict is settled.
type Needs struct {
	Text   bool     // of the body
	Header bool     // all fields
	Open   []string // items that hold others
	Heads  []string // items of which the first bytes are wanted
	Texts  []string // items whose text inside is wanted
	Codes  []string // items whose bar codes and QR codes are wanted
	Proof  bool     // whether it is proven who sent it
}

// Any says whether something is needed.
func (n *Needs) Any() bool {
	return n.Text || n.Header || n.Proof || len(n.Open)+len(n.Heads)+len(n.Texts)+len(n.Codes) > 0
}

// Add takes another's needs over.
func (n *Needs) Add(other *Needs) {
	n.Text, n.Header, n.Proof = n.Text || other.Text, n.Header || other.Header, n.Proof || other.Proof
	for _, id := range other.Texts {
		n.NeedText(id)
	}
	for _, id := range other.Codes {
		n.needCodes(id)
	}
	for _, id := range other.Open {
		n.NeedOpen(id)
	}
	for _, id := range other.Heads {
		n.NeedHead(id)
	}
}

// NeedOpen says that an item has to be opened.
func (n *Needs) NeedOpen(id string) {
	if !slices.Contains(n.Open, id) {
		n.Open = append(n.Open, id)
	}
}

// NeedHead says that the first bytes of an item are wanted.
func (n *Needs) NeedHead(id string) {
	if !slices.Contains(n.Heads, id) {
		n.Heads = append(n.Heads, id)
	}
}

// NeedText says that the text inside an item is wanted.
func (n *Needs) NeedText(id string) {
	if !slices.Contains(n.Texts, id) {
		n.Texts = append(n.Texts, id)
	}
}

func (n *Needs) needCodes(id string) {
	if !slices.Contains(n.Codes, id) {
		n.Codes = append(n.Codes, id)
	}
}

// Fields says which fields of patterns are wanted for an item; those of another kind are nothing that can be read.
func (n *Needs) Fields(id string, fields []string) {
	for _, field := range fields {
		switch {
		case field == "body", strings.HasPrefix(field, "original."):
			n.Text = true
		case field == "header":
			n.Header = true
		case field == "file.text", strings.HasPrefix(field, "invoice."):
			n.NeedText(id)
		case field == "file.code":
			n.needCodes(id)
		}
	}
}

func (n *Needs) open(item *mail.Item) { n.NeedOpen(item.ID) }
func (n *Needs) head(item *mail.Item) { n.NeedHead(item.ID) }

// Input is one message as conditions see it. It caches folded texts, so one
// Input serves all rules; it is for one goroutine.
type Input struct {
	Message      *mail.Message
	Now          time.Time
	Book         *correspondent.Book                   // nil is an empty one
	Topics       *topic.Panel                          // nil has none
	Said         func(topic string) (about, said bool) // what people said of the message; nil for nothing
	VerifiedBook bool                                  // correspondents are recognised only where the sender is verified
	// the first earlier rule that takes something of the message, by its name
	Taken     string
	Zone      *time.Location // set for each rule
	ReadValue ReadValue      // nil where no values can be read

	rule    *Compiled
	needs   Needs // of the rule that was evaluated last
	folded  map[string]string
	items   []mail.Item
	listed  bool
	texts   [2][]string // the subject, bare and full
	lowered [2][]string
	rcpt    []mail.Address
	about   []float64 // by topic, once judged
}

func (in *Input) zone() *time.Location {
	if in.Zone == nil {
		return time.UTC
	}
	return in.Zone
}

func (in *Input) fold(s string) string {
	if in.folded == nil {
		in.folded = map[string]string{}
	}
	f, ok := in.folded[s]
	if !ok {
		f = fold(s)
		in.folded[s] = f
	}
	return f
}

// Items are the message's attachments.
func (in *Input) Items() []mail.Item {
	if !in.listed {
		in.items, in.listed = in.Message.Items(), true
	}
	return in.items
}

func (in *Input) originals() []mail.Address {
	senders, _ := in.Message.Originals()
	return senders
}

func (in *Input) senders() []mail.Address { return in.Message.Envelope.From }

func (in *Input) recipients() []mail.Address {
	if in.rcpt == nil {
		e := &in.Message.Envelope
		in.rcpt = slices.Concat(e.To, e.Cc, e.DeliveredTo)
	}
	return in.rcpt
}

func (in *Input) subject(full bool) (texts, folded []string, answer Answer) {
	i := 0
	if full {
		i = 1
	}
	if in.texts[i] == nil {
		s := in.Message.Envelope.Subject
		if !full {
			s = mail.BareSubject(s)
		}
		in.texts[i], in.lowered[i] = []string{s}, []string{fold(s)}
	}
	return in.texts[i], in.lowered[i], Yes
}

// header gives the decoded values of a field.
func (in *Input) header(name string) (texts, folded []string, answer Answer) {
	values, known := in.Message.Field(name)
	if !known {
		if in.Message.TextError != "" {
			return nil, nil, Unknowable
		}
		in.needs.Header = true
		return nil, nil, NotYet
	}
	for _, v := range values {
		texts, folded = append(texts, v), append(folded, in.fold(v))
	}
	return texts, folded, Yes
}

// counted counts the attachments that people would count, and says whether
// there are items that were not opened yet, or that nobody can open.
func (in *Input) counted() (n int, closed, sealed bool) {
	items := in.Items()
	for k := range items {
		switch i := &items[k]; {
		case i.Opens && i.Sealed == "":
			if in.Message.Inside[i.ID] == nil {
				in.needs.open(i)
				closed = true
			}
		case i.Inline && i.Size < SignaturePictureSize, i.Detached, i.Kind == mail.Report:
		default:
			sealed = sealed || i.Sealed != ""
			n++
		}
	}
	return n, closed, sealed
}

// fold makes texts comparable: NFKC and full case folding.
func fold(s string) string { return cases.Fold().String(norm.NFKC.String(s)) }

// Short is a text cut to what a sentence can hold.
func Short(s string) string {
	const most = 160
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	return string(r[:most]) + "…"
}

// test is one compiled condition: what it says of a message, why, and how it
// reads in the rule's sentence. The reason is worked out only where it is asked
// for: most rules are not for most messages.
type test struct {
	place    string
	sentence string
	answer   func(*Input) Answer
	why      func(*Input, Answer) string
	doubt    func(*Input) string // the topic that is in doubt
	parts    []*test             // of a group
	group    string              // "all", "any" or "none"
}

// decide answers. A group stops at the part that settles it: nothing is looked
// at that cannot change the answer.
func (t *test) decide(in *Input) Answer {
	if t.group == "" {
		return t.answer(in)
	}
	settles, answer := t.ends()
	for _, part := range t.parts {
		p := part.decide(in)
		if p == settles {
			answer = settles
			break
		}
		if p == Unknowable || p == NotYet && answer != Unknowable {
			answer = p
		}
	}
	return t.turned(answer)
}

// ends are the answer of a part that settles the group, and the group's answer
// where none does.
func (t *test) ends() (settles, otherwise Answer) {
	if t.group == "all" {
		return No, Yes
	}
	return Yes, No
}

func (t *test) turned(a Answer) Answer {
	if t.group == "none" && a <= Yes {
		return Yes - a
	}
	return a
}

// reason answers as decide does, and says why.
func (t *test) reason(in *Input) Reason {
	r := Reason{Place: t.place}
	if t.group == "" {
		r.Answer = t.answer(in)
		r.Text = t.why(in, r.Answer)
		if t.doubt != nil && r.Answer == Unknowable {
			r.Topic = t.doubt(in)
		}
		return r
	}
	settles, otherwise := t.ends()
	r.Answer = otherwise
	for _, part := range t.parts {
		p := part.reason(in)
		r.Parts = append(r.Parts, p)
		if p.Answer == settles {
			r.Answer, r.Text, r.Topic = settles, p.Text, ""
			break
		}
		if p.Answer == Unknowable || p.Answer == NotYet && r.Answer != Unknowable {
			r.Answer, r.Text, r.Topic = p.Answer, p.Text, p.Topic
		}
	}
	if r.Text == "" {
		r.Text = join(r.Parts)
	}
	r.Answer = t.turned(r.Answer)
	return r
}

func join(parts []Reason) string {
	var texts []string
	for _, p := range parts {
		texts = append(texts, p.Text)
	}
	return strings.Join(texts, "; ")
}

// Answer says whether the rule is for the message, and what has to be read
// first where it cannot tell yet. An exception that cannot be known leaves the
// whole unknown: it must be asked, not guessed.
func (c *Compiled) Answer(in *Input) (Answer, Needs) {
	in.rule, in.Zone, in.needs = c, c.Zone, Needs{}
	a := c.match.decide(in)
	if a == No {
		return a, Needs{}
	}
	for _, u := range c.unless {
		switch e := u.decide(in); e {
		case Yes:
			return No, Needs{}
		case NotYet, Unknowable:
			if a == Yes || e == Unknowable {
				a = e
			}
		}
	}
	return a, in.needs
}

// Matches gives the same answer with its reason.
func (c *Compiled) Matches(in *Input) Reason {
	in.rule, in.Zone = c, c.Zone
	r := c.match.reason(in)
	if r.Answer == No || len(c.unless) == 0 {
		return r
	}
	for _, u := range c.unless {
		e := u.reason(in)
		switch e.Answer {
		case Yes:
			return Reason{Answer: No, Text: "an exception fits: " + e.Text, Place: e.Place, Parts: []Reason{r, e}}
		case NotYet, Unknowable:
			if r.Answer == Yes || e.Answer == Unknowable {
				r = Reason{Answer: e.Answer, Text: "an exception: " + e.Text, Place: e.Place, Topic: e.Topic, Parts: []Reason{r, e}}
			}
		}
	}
	return r
}

// Cause is why an attachment is held.
type Cause string

// The causes.
const (
	Encrypted  Cause = "encrypted"  // nobody can look into it without a password
	Unreadable Cause = "unreadable" // it is broken, or beyond a limit
	Careful    Cause = "caution"    // it is a program, or may hold one
	Doubtful   Cause = "doubtful"   // whether the rule is for it cannot be known
	OfTopic    Cause = "topic"      // it is not sure what the message is about
	NoValue    Cause = "value"      // a value that the rule asks for is not found in it
	Repeated   Cause = "repeated"   // an earlier message had a file with the same value
)

// sealedCause is why nobody can look into an item.
func sealedCause(locked bool) Cause {
	if locked {
		return Encrypted
	}
	return Unreadable
}

// Choice says what a rule does with one attachment.
type Choice struct {
	Entry  int // index into the rule's attachments, len for the rest, -1 where it is left out unasked
	Leave  bool
	Hold   Cause    // why a person has to decide; "" where nobody has to
	Text   string   // the reason
	Unsure bool     // the answer hangs on the first bytes, or on fields
	Fields []string // that were not read yet, as those of patterns
}

// Choose finds the first entry that fits an attachment.
func (c *Compiled) Choose(item *mail.Item, read ReadValue) Choice {
	return c.choose(item, read, len(c.entries))
}

// AnyTarget is where an item goes that a person releases: the place of the entry
// that fits it, else of the rest, else of the first entry that takes.
func (c *Compiled) AnyTarget(item *mail.Item, read ReadValue) (Target, bool) {
	l := &looking{rule: c, read: read}
	for i := range c.entries {
		if e := &c.entries[i]; !e.leave && e.judge(item, l) == Yes {
			return e.target, true
		}
	}
	if c.rest != nil {
		return *c.rest, true
	}
	for i := range c.entries {
		if e := &c.entries[i]; !e.leave {
			return e.target, true
		}
	}
	return Target{}, false
}

// ChooseWithin finds the entry for a file within an archive that an entry
// unpacks: an earlier entry that fits the file has it, else the unpacking one.
func (c *Compiled) ChooseWithin(item *mail.Item, read ReadValue, entry int) Choice {
	choice := c.choose(item, read, entry)
	if choice.Entry == len(c.entries) && entry < len(c.entries) {
		return Choice{Entry: entry, Text: "in the archive " + quote(item.Archive)}
	}
	return choice
}

// notRead says which of the fields were not read yet.
func notRead(fields []string) string {
	var needs Needs
	needs.Fields("", fields)
	switch {
	case len(needs.Texts) > 0 || len(fields) == 0:
		return "the text inside was not read yet"
	case len(needs.Codes) > 0:
		return "its codes were not read yet"
	case needs.Text:
		return "the text of the message was not read yet"
	case needs.Header:
		return "the header of the message was not read yet"
	}
	return "it is not known yet: " + list(fields, "and")
}

func (c *Compiled) choose(item *mail.Item, read ReadValue, before int) Choice {
	l := &looking{rule: c, read: read}
	named := false // an entry that asks for such attachments by name takes them all the same
	for i := range c.entries[:before] {
		e := &c.entries[i]
		if item.Unsure && e.kinds {
			return Choice{Entry: i, Unsure: true, Text: "its first bytes were not read yet"}
		}
		is := e.judge(item, l)
		if is == No {
			continue
		}
		if is != Yes { // signature pictures and such are not read
			if why := c.leftUnasked(item, e.names); why != "" {
				return Choice{Entry: -1, Leave: true, Text: why}
			}
			if is == NotYet && item.Sealed == "" {
				return Choice{Entry: i, Unsure: true, Fields: l.unknown, Text: notRead(l.unknown)}
			}
			problem, locked := item.Sealed, item.Locked
			if item.Inside != nil && problem == "" {
				problem, locked = item.Inside.Problem, item.Inside.Locked
			}
			if problem == "" {
				return Choice{Entry: i, Hold: Unreadable, Text: "Ink Tray cannot say whether the rule takes it: " + item.Unseen()}
			}
			return Choice{Entry: i, Hold: sealedCause(locked),
				Text: "whether the rule takes it depends on the text inside, which cannot be read: " + problem}
		}
		text := e.reason(item, l)
		if e.leave {
			return Choice{Entry: i, Leave: true, Text: text}
		}
		named = e.names && (item.Kind == mail.MessageKind || item.Kind == mail.Report || item.Opens || item.Sealed != "")
		if why := c.leftUnasked(item, named); why != "" {
			return Choice{Entry: -1, Leave: true, Text: why}
		}
		if item.Sealed != "" && !named {
			return Choice{Entry: i, Hold: sealedCause(item.Locked), Text: item.Sealed}
		}
		if why := c.caution(item); why != "" {
			return Choice{Entry: i, Hold: Careful, Text: why}
		}
		return Choice{Entry: i, Text: text}
	}
	if why := c.leftUnasked(item, named); why != "" {
		return Choice{Entry: -1, Leave: true, Text: why}
	}
	if item.Sealed != "" {
		return Choice{Entry: -1, Hold: sealedCause(item.Locked), Text: item.Sealed}
	}
	if c.rest == nil {
		text := "the rest is left"
		if l.missed != "" {
			text += ": " + l.missed
		}
		return Choice{Entry: len(c.entries), Leave: true, Text: text}
	}
	if why := c.caution(item); why != "" {
		return Choice{Entry: len(c.entries), Hold: Careful, Text: why}
	}
	return Choice{Entry: len(c.entries), Text: "the rest"}
}

// Holds says whether the rule holds something for a person to look at.
func (c *Compiled) Holds(what Caution) bool { return c.holds[what] }

// caution says why an item has to be looked at before it is filed, as far as its
// name tells.
func (c *Compiled) caution(item *mail.Item) string {
	switch {
	case c.holds[ActiveNames] && item.Active:
		return "a name that makes a computer act as soon as a person looks into the folder"
	case c.holds[Macros] && item.Macros():
		return "an office file with macros, which are programs"
	}
	return ""
}

func (c *Compiled) leftUnasked(item *mail.Item, named bool) string {
	switch {
	case item.Left != "":
		return item.Left
	case c.leaves[SignaturePictures] && item.Inline && item.Size < SignaturePictureSize:
		return "inline picture of " + About(item.Size) + ", under " + Size(SignaturePictureSize).String()
	case c.leaves[DetachedSignatures] && item.Detached:
		return "a detached signature"
	case c.leaves[ActiveFiles] && item.Active:
		return "a name that makes a computer act as soon as a person looks into the folder"
	case c.leaves[ForwardedMessages] && (item.Type == "message/rfc822" || item.Type == "message/global") &&
		item.Sealed == "" && !named:
		return "a forwarded message; its attachments are looked at instead"
	case c.leaves[DeliveryReports] && item.Kind == mail.Report && !named:
		return "part of a delivery report"
	case item.Opens && item.Sealed == "" && !named:
		return "opened; what is in it is looked at instead"
	}
	return ""
}

// About is a size in round figures, for sentences.
func About(octets int64) string {
	switch {
	case octets >= 10e6:
		return (Size(octets) / 1e6 * 1e6).String()
	case octets >= 1e6:
		return (Size(octets) / 1e5 * 1e5).String()
	case octets >= 1e3:
		return (Size(octets) / 1e3 * 1e3).String()
	}
	return Size(octets).String()
}
