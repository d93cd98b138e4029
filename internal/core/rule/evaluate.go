package rule

import (
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"inktray.example/inktray/internal/core/mail"
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

func (a Answer) String() string { return [...]string{"no", "yes", "not yet", "cannot be known"}[a] }

// MarshalText writes the answer in words.
func (a Answer) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// Reason is an answer and why, naming what was compared.
type Reason struct {
	Answer Answer   `json:"answer"`
	Text   string   `json:"text"`
	Place  string   `json:"place"`           // of the condition in the rule
	Parts  []Reason `json:"parts,omitempty"` // of a group
}

// Input is one message as conditions see it. It caches folded texts, so one
// Input serves all rules; it is for one goroutine.
type Input struct {
	Message *mail.Message
	Now     time.Time
	Zone    *time.Location // of the rule; UTC where nil

	folded map[string]string
	items  []mail.Item
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
	if in.items == nil {
		in.items = in.Message.Items()
	}
	return in.items
}

// fold makes texts comparable: NFKC and full case folding.
func fold(s string) string { return cases.Fold().String(norm.NFKC.String(s)) }

// test is one compiled condition: what it says of a message, and how it reads
// in the rule's sentence.
type test struct {
	place    string
	sentence string
	eval     func(*Input) (Answer, string)
	parts    []*test // of a group
	group    string  // "all", "any" or "none"
}

func (t *test) reason(in *Input) Reason {
	r := Reason{Place: t.place}
	if t.group == "" {
		r.Answer, r.Text = t.eval(in)
		return r
	}
	// A group stops at the part that settles it: nothing is looked at that
	// cannot change the answer.
	settles, otherwise := No, Yes
	if t.group != "all" {
		settles, otherwise = Yes, No
	}
	r.Answer = otherwise
	for _, part := range t.parts {
		p := part.reason(in)
		r.Parts = append(r.Parts, p)
		if p.Answer == settles {
			r.Answer, r.Text = settles, p.Text
			break
		}
		if p.Answer == Unknowable || p.Answer == NotYet && r.Answer != Unknowable {
			r.Answer, r.Text = p.Answer, p.Text
		}
	}
	if r.Text == "" {
		r.Text = join(r.Parts)
	}
	if t.group == "none" {
		switch r.Answer {
		case Yes:
			r.Answer = No
		case No:
			r.Answer = Yes
		}
	}
	return r
}

func join(parts []Reason) string {
	var texts []string
	for _, p := range parts {
		texts = append(texts, p.Text)
	}
	return strings.Join(texts, "; ")
}

// Matches says whether the rule is for the message. An exception that cannot be
// known leaves the whole unknown: it must be asked, not guessed.
func (c *Compiled) Matches(in *Input) Reason {
	in.Zone = c.Zone
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
				r = Reason{Answer: e.Answer, Text: "an exception: " + e.Text, Place: e.Place, Parts: []Reason{r, e}}
			}
		}
	}
	return r
}

// Choice says what a rule does with one attachment.
type Choice struct {
	Entry  int // index into the rule's attachments, len for the rest, -1 where it is left out unasked
	Leave  bool
	Text   string // the reason
	Folder string // place of the entry in the document
}

// Choose finds the first entry that fits an attachment.
func (c *Compiled) Choose(item *mail.Item) Choice {
	explicit := false // a kind named by the entry takes what is left out unasked only for forwarded messages
	for i := range c.entries {
		e := &c.entries[i]
		fits, text := e.fits(item)
		if !fits {
			continue
		}
		if e.leave {
			return Choice{Entry: i, Leave: true, Text: text}
		}
		explicit = e.names && item.Kind == mail.MessageKind
		if why := c.leftUnasked(item, explicit); why != "" {
			return Choice{Entry: -1, Leave: true, Text: why}
		}
		return Choice{Entry: i, Text: text}
	}
	if why := c.leftUnasked(item, explicit); why != "" {
		return Choice{Entry: -1, Leave: true, Text: why}
	}
	if c.rest == nil {
		return Choice{Entry: len(c.entries), Leave: true, Text: "the rest is left"}
	}
	return Choice{Entry: len(c.entries), Text: "the rest"}
}

func (c *Compiled) leftUnasked(item *mail.Item, named bool) string {
	switch {
	case c.leaves[SignaturePictures] && item.Inline && item.Size < SignaturePictureSize:
		return "inline picture of " + About(item.Size) + ", under " + Size(SignaturePictureSize).String()
	case c.leaves[DetachedSignatures] && item.Detached:
		return "a detached signature"
	case c.leaves[ActiveFiles] && item.Active:
		return "a name that a computer acts upon when it is only looked at"
	case c.leaves[ForwardedMessages] && item.Type == "message/rfc822" && !named:
		return "a forwarded message; its attachments are looked at instead"
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
