package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// alike is how much of two rules is the same where it is asked whether one is
// the other renamed.
const alike = 0.6

// recent is how many of the last messages are looked through for what occurs in them.
const recent = 1000

// RuleChange is what an import would do with one rule.
type RuleChange struct {
	Kind     string // "add", "change" or "same"
	Rule     *rule.Rule
	Was      *store.Rule // the rule as it is, nil for a new one
	Lines    []rule.Line // where it changes
	Renamed  *store.Rule // a rule that this one may be under a new name
	Problems rule.Problems
}

// CompareRules says what it would take to have rules as they stand in a file.
// A rule is recognised by its id, else by its name; renames says which are rules
// of another name: from the new name to the id, or to "" for a new rule.
func (o *Office) CompareRules(ctx context.Context, rules []rule.Rule, renames map[string]string) ([]RuleChange, error) {
	rows, err := o.Store.Rules.All(ctx)
	if err != nil {
		return nil, err
	}
	find := func(fits func(*store.Rule) bool) *store.Rule {
		for i := range rows {
			if fits(&rows[i]) {
				return &rows[i]
			}
		}
		return nil
	}
	named := map[string]bool{} // rules that the file speaks of
	for i := range rules {
		r := &rules[i]
		if row := find(func(row *store.Rule) bool {
			return r.ID != "" && row.ID == r.ID || r.ID == "" && strings.EqualFold(row.Name, r.Name)
		}); row != nil {
			named[row.ID] = true
		}
	}
	var changes []RuleChange
	for i := range rules {
		r := rules[i]
		c := RuleChange{Kind: "add", Rule: &r}
		id, told := renames[r.Name]
		c.Was = find(func(row *store.Rule) bool {
			return told && id != "" && row.ID == id || r.ID != "" && row.ID == r.ID || r.ID == "" &&
				strings.EqualFold(row.Name, r.Name)
		})
		if told && id != "" && c.Was == nil {
			return nil, fmt.Errorf("%w: no rule with the identity %q", store.ErrNotFound, id)
		}
		if c.Was != nil {
			from := r.Revision
			r.ID, r.Revision = c.Was.ID, 0
			was, err := c.Was.Parsed()
			if err != nil {
				was = &rule.Rule{}
			}
			c.Kind = "change"
			data, err := json.Marshal(&r)
			if err != nil {
				return nil, err
			}
			if string(data) == c.Was.Document {
				c.Kind = "same"
			} else {
				c.Lines = rule.Compare(was, &r)
				if from > 0 && from != c.Was.Revision {
					c.Problems = rule.Problems{{Place: "revision", Text: fmt.Sprintf("the rule was changed since this file was "+
						"made: the file is from revision %d, and the rule has %d. Make your change in a file of the present state, or "+
						"take the line “revision” out of the file to write over it", from, c.Was.Revision)}}
				}
			}
		} else if !told {
			best := alike
			for k := range rows {
				was, err := rows[k].Parsed()
				if err != nil || named[rows[k].ID] {
					continue
				}
				if a := rule.Alike(was, &r); a >= best {
					best, c.Renamed = a, &rows[k]
				}
			}
		}
		if c.Kind != "same" {
			other := find(func(row *store.Rule) bool { return strings.EqualFold(row.Name, r.Name) && row.ID != r.ID })
			twice := slices.ContainsFunc(changes,
				func(before RuleChange) bool { return strings.EqualFold(before.Rule.Name, r.Name) })
			if other != nil || twice {
				c.Problems = append(c.Problems,
					rule.Problem{Place: "name", Text: fmt.Sprintf("there is another rule called “%s”", r.Name)})
			}
			var wrong rule.Problems
			if _, err := o.CheckRule(ctx, store.System, &r); err != nil && !errors.As(err, &wrong) {
				return nil, err
			}
			c.Problems = append(c.Problems, wrong...)
		}
		changes = append(changes, c)
	}
	return changes, nil
}

// ImportRules saves the rules of a file; new ones are off. Either all of them are saved, or none.
func (o *Office) ImportRules(ctx context.Context, rules []rule.Rule, renames map[string]string,
	actor string) ([]RuleChange, error) {
	changes, err := o.CompareRules(ctx, rules, renames)
	if err != nil {
		return nil, err
	}
	var problems rule.Problems
	for i := range changes {
		for _, p := range changes[i].Problems {
			p.Place = fmt.Sprintf("rules[%d].%s", i, p.Place)
			problems = append(problems, p)
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	for i := range changes {
		if changes[i].Kind == "same" {
			continue
		}
		if _, err := o.SaveRule(ctx, changes[i].Rule, 0, actor); err != nil {
			return nil, err
		}
	}
	return changes, nil
}

// CopyRule makes a rule like another, off, under a name of its own.
func (o *Office) CopyRule(ctx context.Context, id, actor string) (store.Rule, error) {
	row, err := o.Store.Rules.ByID(ctx, id)
	if err != nil || row.Removed {
		return row, store.ErrNotFound
	}
	document, err := row.Parsed()
	if err != nil {
		return row, err
	}
	rows, err := o.Store.Rules.All(ctx)
	if err != nil {
		return row, err
	}
	document.ID = ""
	for n := 1; ; n++ {
		document.Name = row.Name + " (copy)"
		if n > 1 {
			document.Name = fmt.Sprintf("%s (copy %d)", row.Name, n)
		}
		if !slices.ContainsFunc(rows, func(r store.Rule) bool { return strings.EqualFold(r.Name, document.Name) }) {
			return o.SaveRule(ctx, document, 0, actor)
		}
	}
}

// BringBack makes an earlier state of a rule the present one, as a revision of
// its own.
func (o *Office) BringBack(ctx context.Context, id string, number int, actor string) (store.Rule, error) {
	row, err := o.Store.Rules.ByID(ctx, id)
	if err != nil || row.Removed {
		return row, store.ErrNotFound
	}
	old, err := o.Store.Rules.Revision(ctx, id, number)
	if err != nil {
		return row, err
	}
	document, err := rule.ParseRule([]byte(old.Document))
	if err != nil {
		return row, err
	}
	document.ID = id
	return o.SaveRule(ctx, document, row.Revision, actor)
}

// Remains is what stays when a rule is removed.
type Remains struct {
	Filed     int      // filings in the register, with their files
	Waiting   int      // items in the tray
	Underway  int      // items that are staged and will be finished
	Dropped   int      // items that are planned and will not be filed
	NamedBy   []string // rules that would see more messages, as this one stops
	Revisions int
}

// RemainsOf says what remains when a rule is removed, before it is.
func (o *Office) RemainsOf(ctx context.Context, v store.Viewer, id string) (Remains, error) {
	var out Remains
	row, err := o.Store.Rules.ByID(ctx, id)
	if err != nil || row.Removed {
		return out, store.ErrNotFound
	}
	counts, err := o.Store.Rules.StatesOf(ctx, id)
	if err != nil {
		return out, err
	}
	out.Waiting = counts[store.Held] + counts[store.Failed]
	out.Underway, out.Dropped = counts[store.Staged], counts[store.Planned]
	if out.Filed, err = o.Store.Register.Count(ctx, v, register.Query{RuleID: id}); err != nil {
		return out, err
	}
	revisions, err := o.Store.Rules.Revisions(ctx, id)
	if err != nil {
		return out, err
	}
	out.Revisions = len(revisions)
	document, err := row.Parsed()
	if err != nil {
		return out, nil
	}
	if row.Running && document.Then == "stop" {
		after := false
		for _, r := range o.Settings().Rules {
			if after {
				out.NamedBy = append(out.NamedBy, r.Rule.Name)
			}
			after = after || r.Rule.ID == id
		}
	}
	return out, nil
}

// RuleFrom drafts a rule from a message: its sender, the words of its subject
// that are not a date or a number, and the kinds of its attachments.
func (o *Office) RuleFrom(ctx context.Context, v store.Viewer, messageID int64) (*rule.Rule, error) {
	row, err := o.Store.Messages.ByID(ctx, v, messageID)
	if err != nil {
		return nil, err
	}
	box, err := o.Store.Mailboxes.ByID(ctx, v, row.MailboxID)
	if err != nil {
		return nil, err
	}
	facts, err := row.Facts()
	if err != nil {
		return nil, err
	}
	m := facts.Message(row.Folder)
	cabinets, err := o.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	r := &rule.Rule{Name: "Mail from " + m.Envelope.Sender().Label(), Look: rule.Look{Mailboxes: rule.Names{box.Name}}}
	if len(cabinets) > 0 {
		r.Cabinet = cabinets[0].Name
	}
	if row.Folder != "INBOX" {
		r.Look.Folders = rule.Names{row.Folder}
	}
	sender := m.Envelope.Sender()
	who, place := &rule.SenderTest{}, "<sender.domain>"
	switch of := o.Settings().Book.Find(sender); {
	case of != nil:
		who.Correspondent, place = rule.Names{of.Name}, "<correspondent>"
		r.Name = "Mail from " + of.Name
	case sender.Domain != "":
		who.Domain = rule.Names{sender.Domain}
	}
	c := rule.Condition{}
	if len(who.Correspondent)+len(who.Domain) > 0 {
		c.Sender = who
	}
	if words := SubjectWords(m.Envelope.Subject); len(words) > 0 {
		c.Subject = &rule.TextTest{Contains: rule.Names{words[0]}}
	}
	r.Match = rule.Match{Condition: c}
	if c.Sender == nil && c.Subject == nil {
		r.Match = rule.Match{Every: true}
	}
	take := rule.Take{}
	var kinds []rule.KindName
	for _, i := range m.Items() {
		k := rule.KindName(i.Kind)
		if !i.Inline && !i.Detached && !i.Active && i.Kind != mail.Report && !slices.Contains(kinds, k) &&
			i.Type != "message/rfc822" {
			kinds = append(kinds, k)
		}
	}
	if len(kinds) == 0 {
		take.Everything = true
	} else {
		take.Any = []rule.ItemTest{{Kind: kinds}}
	}
	r.Attachments = []rule.Selection{{Take: &take, Folder: "Mail/" + place + "/<received year>"}}
	return r, nil
}

// SubjectWords are the words of a subject by which a person would know mail of
// its kind again: no numbers, no dates, nothing short.
func SubjectWords(subject string) []string {
	var words []string
	for _, w := range strings.FieldsFunc(mail.BareSubject(subject),
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '-' }) {
		w = strings.Trim(w, "-")
		if len([]rune(w)) < 4 || strings.ContainsFunc(w, unicode.IsDigit) || commonWords[strings.ToLower(w)] {
			continue
		}
		words = append(words, strings.ToLower(w))
	}
	return words
}

// commonWords say nothing of what a message is about.
var commonWords = map[string]bool{"january": true, "february": true, "march": true, "april": true, "june": true,
	"july": true, "august": true, "september": true, "october": true, "november": true, "december": true,
	"monday": true, "tuesday": true, "wednesday": true, "thursday": true, "friday": true, "saturday": true, "sunday": true,
	"with": true, "from": true, "your": true, "please": true, "this": true, "that": true, "attached": true}

// Choices are what occurs in mailboxes, for the blanks of a rule, the most
// frequent first.
type Choices struct {
	Domains, Addresses, Words, Kinds, Folders, Labels, Recipients []store.Seen
}

// ChoicesIn counts what occurs in the last messages of mailboxes.
func (o *Office) ChoicesIn(ctx context.Context, v store.Viewer, mailboxes []string) (*Choices, error) {
	rows, err := o.Store.Messages.Find(ctx, v, store.MessageQuery{Mailboxes: mailboxes, Most: recent})
	if err != nil {
		return nil, err
	}
	counts := [7]map[string]int{}
	for i := range counts {
		counts[i] = map[string]int{}
	}
	for i := range rows {
		facts, err := rows[i].Facts()
		if err != nil {
			return nil, err
		}
		m := facts.Message(rows[i].Folder)
		if s := m.Envelope.Sender(); s.Domain != "" {
			counts[0][s.Domain]++
			counts[1][strings.ToLower(s.String())]++
		}
		words := SubjectWords(m.Envelope.Subject)
		for k, w := range words {
			if slices.Index(words, w) == k {
				counts[2][w]++
			}
		}
		for _, item := range m.Items() {
			if !item.Inline && !item.Detached {
				counts[3][string(item.Kind)]++
			}
		}
		counts[4][rows[i].Folder]++
		for _, f := range rows[i].Flags {
			if !strings.HasPrefix(f, `\`) && !strings.HasPrefix(f, "$") {
				counts[5][f]++
			}
		}
		for _, a := range slices.Concat(m.Envelope.Recipients(), m.Envelope.DeliveredTo) {
			if a.Domain != "" {
				counts[6][strings.ToLower(a.String())]++
			}
		}
	}
	out := &Choices{}
	for i, into := range []*[]store.Seen{&out.Domains, &out.Addresses, &out.Words, &out.Kinds, &out.Folders, &out.Labels,
		&out.Recipients} {
		for value, n := range counts[i] {
			if i == 2 && n < 2 {
				continue // a word that came once says nothing
			}
			*into = append(*into, store.Seen{Value: value, Count: n})
		}
		slices.SortFunc(*into, func(a, b store.Seen) int {
			if a.Count != b.Count {
				return b.Count - a.Count
			}
			return strings.Compare(a.Value, b.Value)
		})
		*into = (*into)[:min(len(*into), 60)]
	}
	return out, nil
}

// Proposal is somebody who writes and is in no book yet.
type Proposal struct {
	Name   string // as the display names say, which is only a proposal
	Domain string
	Count  int
	Known  []string // some of the addresses
}

// Proposals lists domains that write to the mailboxes and belong to no
// correspondent, the most frequent first.
func (o *Office) Proposals(ctx context.Context, v store.Viewer) ([]Proposal, error) {
	rows, err := o.Store.Messages.Find(ctx, v, store.MessageQuery{Most: recent})
	if err != nil {
		return nil, err
	}
	book := o.Settings().Book
	found := map[string]*Proposal{}
	for i := range rows {
		local, domain, ok := strings.Cut(rows[i].SenderAddress, "@")
		if !ok || book.Find(mail.Address{Local: local, Domain: strings.ToLower(domain)}) != nil {
			continue
		}
		domain = strings.ToLower(domain)
		p := found[domain]
		if p == nil {
			label, _, _ := strings.Cut(domain, ".")
			p = &Proposal{Domain: domain, Name: strings.ToUpper(label[:min(1, len(label))]) + label[min(1, len(label)):]}
			found[domain] = p
		}
		p.Count++
		if a := strings.ToLower(rows[i].SenderAddress); len(p.Known) < 3 && !slices.Contains(p.Known, a) {
			p.Known = append(p.Known, a)
		}
	}
	var all []Proposal
	for _, p := range found {
		all = append(all, *p)
	}
	slices.SortFunc(all, func(a, b Proposal) int {
		if a.Count != b.Count {
			return b.Count - a.Count
		}
		return strings.Compare(a.Domain, b.Domain)
	})
	return all[:min(len(all), 50)], nil
}
