package rule

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
)

// Step is what is done with a message once its attachments are filed. One step
// may say several things.
type Step struct {
	Mark        Marks   `json:"mark,omitempty" doc:"read, unread, flagged or not flagged"`
	Label       Names   `json:"label,omitempty" doc:"labels (IMAP keywords) to put on"`
	RemoveLabel Names   `json:"remove label,omitempty" doc:"labels to take off"`
	Reply       *Letter `json:"reply,omitempty" doc:"a reply to the sender, sent; never to lists and robots (RFC 3834)"`
	Draft       *Letter `json:"draft,omitempty" doc:"the same, left among the mailbox's drafts for a person to send"`
	Tell        *Tell   `json:"tell,omitempty" doc:"somebody to be told, by mail or by an HTTP call"`
	Move        string  `json:"move,omitempty" doc:"pattern of the mail folder to move the message to; it is made if missing"`
}

// Marks is one mark or a list of them.
type Marks []Mark

// Mark is a flag of a message that mail programs show.
type Mark string

// The marks.
const (
	Read       Mark = "read"
	Unread     Mark = "unread"
	Flagged    Mark = "flagged"
	NotFlagged Mark = "not flagged"
)

func (Mark) choices() []string {
	return []string{string(Read), string(Unread), string(Flagged), string(NotFlagged)}
}

// Flag is the system flag of a mark (RFC 9051 section 2.3.2) and whether it is set.
func (m Mark) Flag() (flag string, on bool) {
	switch m {
	case Read, Unread:
		return `\Seen`, m == Read
	}
	return `\Flagged`, m == Flagged
}

// Letter is a reply of the office's own.
type Letter struct {
	Subject string `json:"subject,omitempty" doc:"pattern; Re: and the subject where nothing is said"`
	Text    string `json:"text" doc:"the text, with fields"`
	Once    Age    `json:"once in,omitzero" doc:"at most one to a sender in: 7 days, which holds where nothing is said"`
}

// Tell is a message to somebody who is kept in Settings.
type Tell struct {
	Who     Names  `json:"who" doc:"addressees, as kept in Settings"`
	Subject string `json:"subject,omitempty" doc:"pattern of the subject"`
	Text    string `json:"text,omitempty" doc:"the text, with fields; a list of what was filed where nothing is said"`
}

// StepKind is what a follow-up does.
type StepKind string

// The kinds of follow-ups, in the order in which they are done.
const (
	DoMark    StepKind = "mark"
	DoLabel   StepKind = "label"
	DoUnlabel StepKind = "remove label"
	DoReply   StepKind = "reply"
	DoDraft   StepKind = "draft"
	DoTell    StepKind = "tell"
	DoMove    StepKind = "move"
)

// FollowUp is one thing to do, made ready.
type FollowUp struct {
	Kind    StepKind
	Words   []string // the marks, the labels, or who is told
	Folder  *pattern.Pattern
	Subject *pattern.Pattern
	Text    *pattern.Pattern
	Once    Age // of replies
}

// What is said where a rule says nothing.
const (
	replySubject = `Re: <subject>`
	tellSubject  = `<filed.count> filed from <sender.name>`
	tellText     = "From <sender.name>, received <received date>: <subject>\n\n<filed.list>\n"
)

var replyOnce = Age{7, "day"}

// In gives the step with what is said where the rule says nothing, in the language that say speaks.
func (f FollowUp) In(say func(english string) string) FollowUp {
	if f.Kind != DoTell {
		return f
	}
	for _, p := range []struct {
		is    **pattern.Pattern
		usual string
	}{{&f.Subject, tellSubject}, {&f.Text, tellText}} {
		if (*p.is).String() != p.usual {
			continue
		}
		// A pattern that cannot be read stays in English; a test reads those of every language.
		if said, err := pattern.Parse(say(p.usual), pattern.Prose); err == nil {
			*p.is = said
		}
	}
	return f
}

// MovesInto lists the folders into which the rule may move messages, as far as that can be said without a message: of a
// pattern, all that begin as it does.
func (c *Compiled) MovesInto(listed []mail.Folder) (into []string) {
	for _, step := range c.follow {
		if step.Kind != DoMove {
			continue
		}
		text := step.Folder.String()
		fixed, _, varies := strings.Cut(text, "<") // what stands before its first field
		for _, f := range listed {
			is := varies && len(f.Path) >= len(fixed) && strings.EqualFold(f.Path[:len(fixed)], fixed) ||
				!varies && f.Path == mail.FindFolder(listed, text)
			if is && f.Selectable && !slices.Contains(into, f.Path) {
				into = append(into, f.Path)
			}
		}
	}
	return into
}

// FollowUps are what the rule does with a message, in the order in which it is done.
func (c *Compiled) FollowUps() []FollowUp { return c.follow }

// Addressees lists who is told, with the places where they are named.
func (r *Rule) Addressees() []CorrespondentUse {
	var uses []CorrespondentUse
	for i := range r.Afterwards {
		if t := r.Afterwards[i].Tell; t != nil {
			for _, name := range t.Who {
				uses = append(uses, CorrespondentUse{name, fmt.Sprintf("afterwards[%d].tell.who", i)})
			}
		}
	}
	return uses
}

// Keyword is a label as servers keep it: IMAP keywords have no spaces.
func Keyword(label string) string { return strings.ReplaceAll(strings.TrimSpace(label), " ", "_") }

// afterwards compiles the follow-ups.
func (c *compiler) afterwards(r *Rule, out *Compiled) {
	seen := map[string]string{} // what a label or a mark is to become
	once := func(place, what, how string) {
		if before, ok := seen[what]; ok && before != how {
			c.fail(place, "", "the rule wants both: %s %s, and %s", before, what, how)
		}
		seen[what] = how
	}
	moved := false
	for i := range r.Afterwards {
		s, at := &r.Afterwards[i], fmt.Sprintf("afterwards[%d]", i)
		for _, m := range s.Mark {
			flag, on := m.Flag()
			once(at+".mark", strings.ToLower(strings.TrimPrefix(flag, `\`)), fmt.Sprintf("marked %s (%v)", m, on))
			out.follow = append(out.follow, FollowUp{Kind: DoMark, Words: []string{string(m)}})
		}
		for _, l := range []struct {
			kind  StepKind
			names Names
		}{{DoLabel, s.Label}, {DoUnlabel, s.RemoveLabel}} {
			if len(l.names) == 0 {
				continue
			}
			for _, name := range l.names {
				c.keyword(name, at+"."+string(l.kind))
				once(at+"."+string(l.kind), "“"+Keyword(name)+"”", string(l.kind))
			}
			out.follow = append(out.follow, FollowUp{Kind: l.kind, Words: l.names})
		}
		for _, l := range []struct {
			kind   StepKind
			letter *Letter
		}{{DoReply, s.Reply}, {DoDraft, s.Draft}} {
			if l.letter == nil {
				continue
			}
			f := FollowUp{Kind: l.kind, Once: l.letter.Once}
			if f.Once.IsZero() {
				f.Once = replyOnce
			}
			f.Subject = c.prose(orElse(l.letter.Subject, replySubject), at+"."+string(l.kind)+".subject")
			f.Text = c.prose(l.letter.Text, at+"."+string(l.kind)+".text")
			out.follow = append(out.follow, f)
		}
		if t := s.Tell; t != nil {
			if len(t.Who) == 0 {
				c.fail(at+".tell.who", "", "the notification is missing")
			}
			out.follow = append(out.follow,
				FollowUp{Kind: DoTell, Words: t.Who, Subject: c.prose(orElse(t.Subject, tellSubject), at+".tell.subject"),
					Text: c.prose(orElse(t.Text, tellText), at+".tell.text")})
		}
		if s.Move != "" {
			if moved {
				c.fail(at+".move", "", "the rule moves the message twice")
			}
			moved = true
			f := FollowUp{Kind: DoMove, Folder: c.pattern(s.Move, pattern.Folder, at+".move")}
			c.ofMessage(f.Folder, at+".move")
			out.follow = append(out.follow, f)
		}
		if len(s.Mark)+len(s.Label)+len(s.RemoveLabel) == 0 && s.Reply == nil && s.Draft == nil && s.Tell == nil &&
			s.Move == "" {
			c.fail(at, "", "the entry says nothing to do")
		}
	}
	order := []StepKind{DoMark, DoLabel, DoUnlabel, DoReply, DoDraft, DoTell, DoMove}
	slices.SortStableFunc(out.follow,
		func(a, b FollowUp) int { return slices.Index(order, a.Kind) - slices.Index(order, b.Kind) })
}

func orElse(s, other string) string {
	if strings.TrimSpace(s) == "" {
		return other
	}
	return s
}

// keyword refuses labels that no IMAP server can keep.
func (c *compiler) keyword(label, place string) {
	if meant, text := unfit(label); text != "" {
		c.fail(place, meant, "%s", text)
	}
}

// CheckLabel says why a label cannot be put on messages.
func CheckLabel(label string) error {
	if _, text := unfit(label); text != "" {
		return errors.New(text)
	}
	return nil
}

// unfit says why no IMAP server can keep a label (RFC 9051 section 9, flag-keyword).
func unfit(label string) (meant, text string) {
	k := Keyword(label)
	if k == "" {
		return "Filed", "the label is empty"
	}
	if strings.HasPrefix(k, `\`) {
		return "mark: read", "a label cannot begin with \\; for what mail programs show as read or flagged, write mark"
	}
	for _, r := range k {
		if r <= 0x20 || r >= 0x7f || strings.ContainsRune(`(){%*"\]`, r) {
			return "Filed", fmt.Sprintf("mail servers keep labels of plain letters, digits, - and _ only; “%s” has %q", label, r)
		}
	}
	return "", ""
}

func (c *compiler) prose(source, place string) *pattern.Pattern {
	p := c.pattern(source, pattern.Prose, place)
	c.ofMessage(p, place)
	return p
}

// ofMessage refuses fields that are not known of a message as a whole once it is filed.
func (c *compiler) ofMessage(p *pattern.Pattern, place string) {
	if p == nil {
		return
	}
	for _, u := range p.Uses() {
		switch {
		case strings.HasPrefix(u.Field, "file."), u.Field == "archive.stem", strings.HasPrefix(u.Field, "register"),
			strings.HasPrefix(u.Field, "original."):
			c.problems = append(c.problems, Problem{Place: place, At: u.Column, Text: fmt.Sprintf("<%s> belongs to one "+
				"attachment, but this is about the whole message", u.Field)})
		case u.Field == "body", u.Field == "header":
			c.problems = append(c.problems, Problem{Place: place, At: u.Column, Text: fmt.Sprintf("<%s> is no longer known "+
				"when the attachments are filed", u.Field)})
		}
	}
}

// saySteps says the follow-ups in words.
func (c *Compiled) saySteps() string {
	var parts []string
	for i := range c.follow {
		f := &c.follow[i]
		switch f.Kind {
		case DoMark:
			parts = append(parts, "mark the message "+f.Words[0])
		case DoLabel:
			parts = append(parts, "label it "+list(quoteAll(f.Words), "and"))
		case DoUnlabel:
			parts = append(parts, "take off the label "+list(quoteAll(f.Words), "and"))
		case DoReply:
			parts = append(parts, "reply to the sender, at most once in "+f.Once.String())
		case DoDraft:
			parts = append(parts, "leave a reply to the sender among the drafts")
		case DoTell:
			parts = append(parts, "tell "+list(f.Words, "and"))
		case DoMove:
			parts = append(parts, "move it to "+quote(f.Folder.String()))
		}
	}
	return list(parts, "and")
}
