package rehearsal

import (
	"context"
	"errors"
	"slices"
	"time"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Explanation is one rule's verdict on a message.
type Explanation struct {
	Rule  string // its name
	Off   bool   // the rule is switched off
	Looks bool   // whether the rule looks into the message's mailbox and folder
	Note  string // why the rule does nothing with the message though it is for it; else ""
	Match rule.Reason
	Items []plan.Item
	Steps []plan.Step
}

// Explain says for each rule what it makes of a message and why. It is computed
// again from what is known of the message; thorough reads what is missing.
func (rh *Rehearser) Explain(ctx context.Context, v store.Viewer, messageID int64, thorough bool) (store.Message,
	[]Explanation, error) {
	row, err := rh.Store.Messages.ByID(ctx, v, messageID)
	if err != nil {
		return row, nil, err
	}
	box, err := rh.Store.Mailboxes.ByID(ctx, v, row.MailboxID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return row, nil, err
	}
	facts, err := row.Facts()
	if err != nil {
		return row, nil, err
	}
	m := facts.Message(row.Folder)
	listing, err := rh.Store.Mailboxes.Listing(ctx, row.MailboxID)
	if err != nil {
		return row, nil, err
	}
	var looking []*rule.Compiled
	for _, r := range rh.office.Settings().Rules {
		if r.Rule.Look.Looks(box.Name) && r.Rule.Look.LooksInto(listing, row.Folder) {
			looking = append(looking, r)
		}
	}
	setting := rh.office.Settings().For(box.Name, rh.Now())
	setting.Explain = true
	rh.office.Settings().NoteReport(m)
	p := plan.Make(looking, m, setting)
	if thorough && p.Needs.Any() {
		err := rh.reader.WithMessage(ctx, v, &row, func(s source.Session, l *reading.Message) (err error) {
			p, err = rh.reader.Plan(ctx, s, l, looking, setting)
			return err
		})
		if err != nil {
			return row, nil, err
		}
	}
	marks, err := rh.Store.Rules.Marks(ctx, row.MailboxID)
	if err != nil {
		return row, nil, err
	}
	rows, err := rh.Store.Rules.Seen(ctx, v)
	if err != nil {
		return row, nil, err
	}
	entries, err := rh.Store.Journal.OfMessage(ctx, v, row.ID)
	if err != nil {
		return row, nil, err
	}
	decided := map[string]bool{}
	for i := range entries {
		decided[entries[i].RuleID] = true
	}
	passes, err := rh.Store.Passes.OfMessage(ctx, row.ID)
	if err != nil {
		return row, nil, err
	}
	for i := range rows {
		decided[rows[i].ID] = decided[rows[i].ID] || tookPart(&rows[i], passes, marks, &row)
	}
	var all []Explanation
	for i := range rows {
		x := Explanation{Rule: rows[i].Name, Off: !rows[i].Running}
		for k := range p.Rules {
			if pr := &p.Rules[k]; pr.Rule.Rule.ID == rows[i].ID {
				x.Looks, x.Match, x.Items, x.Steps = true, pr.Match, pr.Items, pr.Steps
				if !decided[rows[i].ID] {
					x.Note = before(marks, rows[i].ID, &row, rh.Zone, pr)
				}
			}
		}
		all = append(all, x)
	}
	return row, all, nil
}

// tookPart says whether a rule took part in a pass over a message: in one over its
// old mail, or in one over new mail since the rule's start mark.
func tookPart(r *store.Rule, passes []store.Pass, marks []store.StartMark, m *store.Message) bool {
	for i := range passes {
		switch p := &passes[i]; p.Kind {
		case "old mail":
			if p.RuleID == r.ID {
				return true
			}
		case "live":
			if slices.ContainsFunc(marks, func(mark store.StartMark) bool {
				return mark.RuleID == r.ID && mark.Folder == m.Folder && !p.StartedAt.Before(mark.MadeAt)
			}) {
				return true
			}
		}
	}
	return false
}

// before says that a message was there before its rule began.
func before(marks []store.StartMark, ruleID string, m *store.Message, zone *time.Location, pr *plan.Rule) string {
	if pr.Match.Answer != rule.Yes || len(pr.Rule.Rule.Labels()) > 0 {
		return ""
	}
	for _, mark := range marks {
		if mark.RuleID == ruleID && mark.Folder == m.Folder && mark.UIDValidity == m.UIDValidity && m.UID < mark.UIDNext {
			return "the message was there before the rule was switched on, on " + mark.MadeAt.In(zone).Format(time.DateOnly) +
				"; let the rule file old mail to have it filed, too"
		}
	}
	return ""
}
