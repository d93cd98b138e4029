package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// maxText bounds how much of a message's text is read for conditions, in octets.
const maxText = 1 << 20

// batch is some messages to plan, commit and file.
type batch struct {
	folder    *store.Folder // committed with the plans; nil leaves it
	announced time.Time
	pass      *store.Pass
	takes     func(r *rule.Compiled, uid uint32) bool // whether a rule takes this message
	own       *rule.Compiled                          // the rule of a pass over old mail, which may be switched off
	advance   func()                                  // moves the pass on, before the commit with which all of the batch is planned; nil for nothing
}

// process reads the facts of messages of the open folder, plans them, commits
// plans and progress at once, and files.
func (v *visit) process(ctx context.Context, uids []uint32, b *batch) error {
	alone, rest, err := v.suspects(uids)
	if err != nil {
		return err
	}
	if b.pass.ID == 0 {
		b.pass.Total = len(alone) + len(rest)
	}
	folder := b.folder
	for _, uid := range alone { // first: the progress is committed with the others
		b.folder = nil
		if err := v.some(ctx, []uint32{uid}, b); err != nil {
			return err
		}
		if err := v.engine.Store.Survived(v.mailbox.ID, v.open, v.state.UIDValidity, uid); err != nil {
			return err
		}
	}
	b.folder = folder
	if b.advance != nil {
		b.advance()
	}
	return v.some(ctx, rest, b)
}

// some does what process does for messages that are read together.
func (v *visit) some(ctx context.Context, uids []uint32, b *batch) error {
	e := v.engine
	if err := v.take(uids); err != nil {
		return err
	}
	facts, err := v.session.Facts(ctx, uids)
	if err != nil {
		v.letGo()
		return err
	}
	if b.pass.ID == 0 {
		b.pass.State, b.pass.StartedAt = store.Running, e.Clock()
	}
	moves, err := e.Store.AnyMoves(v.mailbox.ID)
	if err != nil {
		v.letGo()
		return err
	}
	look := store.Look{Folder: b.folder, Pass: b.pass, Entries: map[*store.Message][]store.Entry{}, After: map[*store.Message][]store.FollowUp{}, Matched: map[*store.Message]bool{}}
	var letters []*letter
	defer func() {
		for _, l := range letters {
			l.close()
		}
	}()
	for i := range facts {
		row, message, err := v.understand(&facts[i])
		if err != nil {
			v.letGo()
			return err
		}
		if row == nil {
			continue
		}
		l := &letter{row: row, facts: &facts[i], message: message, mailbox: v.mailbox.Name}
		if moves {
			if l.from, l.returned, err = e.Store.CameFrom(row); err != nil {
				v.letGo()
				return err
			}
		}
		entries, after, matched, err := v.plan(ctx, l, b)
		if err != nil {
			v.letGo()
			return err
		}
		if matched {
			b.pass.Matched++
		}
		if holding(letters)+l.spooled > mostSpooled {
			l.close() // it is fetched again
		}
		look.Messages = append(look.Messages, row)
		look.Entries[row], look.After[row], look.Matched[row] = entries, after, matched
		letters = append(letters, l)
	}
	v.letGo()
	b.pass.Looked += len(uids)
	v.planned += len(letters)
	v.worked += len(letters)
	if b.pass.Kind == "live" && len(letters) == 0 {
		look.Pass = nil
	}
	if err := e.Store.Commit(look); err != nil {
		return err
	}
	err = v.fileAll(ctx, letters, look.Entries)
	if b.pass.Kind == "live" && look.Pass != nil {
		ended := e.Clock()
		b.pass.State, b.pass.EndedAt = store.Done, &ended
		err = errors.Join(err, e.Store.SavePass(b.pass))
		e.hub.send(Event{Kind: "pass", Mailbox: v.mailbox.ID})
	}
	return err
}

func (v *visit) fileAll(ctx context.Context, letters []*letter, planned map[*store.Message][]store.Entry) error {
	for _, l := range letters {
		entries := planned[l.row]
		for i := range entries {
			if entries[i].ID == 0 || entries[i].State != store.Planned {
				continue
			}
			if err := v.engine.file(ctx, v.session, l, &entries[i]); err != nil {
				return err
			}
		}
		l.close()
		v.engine.told(l.row)
	}
	return nil
}

// holding is how much lies spooled for messages, in octets.
func holding(letters []*letter) (total int64) {
	for _, l := range letters {
		total += l.spooled
	}
	return total
}

// understand makes a row of a message's facts. A message that cannot be
// understood is the message's own trouble: it is nil and waits in the tray.
func (v *visit) understand(f *source.Facts) (row *store.Message, message *mail.Message, err error) {
	defer func() {
		if p := recover(); p != nil {
			row, message, err = nil, nil, v.notUnderstood(f.UID, "", p)
		}
	}()
	return store.NewMessage(v.mailbox.ID, v.open, v.state.UIDValidity, f, v.engine.Clock())
}

// notUnderstood puts a message into the tray whose reading went wrong.
func (v *visit) notUnderstood(uid uint32, subject string, cause any) error {
	e := v.engine
	e.Log.Error("a message could not be understood", "mailbox", v.mailbox.Name, "folder", v.open, "uid", uid, "cause", cause)
	called := fmt.Sprintf("The message “%s”", subject)
	if subject == "" {
		called = fmt.Sprintf("The message with the number %d", uid)
	}
	err := e.Store.Tell(&store.Notice{Kind: "message", Object: fmt.Sprintf("%s/%s/%d", v.mailbox.ID, v.open, uid), MailboxID: v.mailbox.ID, MadeAt: e.Clock(),
		Text: fmt.Sprintf("%s in “%s”, %s, could not be understood, so nothing of it was filed.", called, v.mailbox.Name, v.open), Advice: "File it by hand."})
	e.hub.send(Event{Kind: "tray"})
	return err
}

// plan decides what becomes of a message, fetching its text where a verdict
// hangs on it. Whatever goes wrong while a message is understood is the
// message's own trouble: it waits in the tray.
func (v *visit) plan(ctx context.Context, l *letter, b *batch) (entries []store.Entry, after []store.FollowUp, matched bool, err error) {
	e := v.engine
	defer func() {
		if p := recover(); p != nil {
			entries, after, matched, err = nil, nil, false, v.notUnderstood(l.row.UID, l.row.Subject, p)
		}
	}()
	var rules []*rule.Compiled
	for _, r := range e.running() {
		if r.Rule.Look.Looks(v.mailbox.Name) && v.watches(ctx, r) {
			rules = append(rules, r)
		}
	}
	if rules = b.with(rules); b.pass.Kind == "live" {
		rules = v.unseen(ctx, l, rules)
	}
	for len(rules) > 0 && !b.takes(rules[len(rules)-1], l.row.UID) {
		rules = rules[:len(rules)-1] // nothing is read for a rule that takes no part
	}
	setting := e.setting(l.mailbox, e.now())
	now := e.Clock().UTC()
	if b.pass.Since != nil && l.message.Received.Before(*b.pass.Since) {
		return nil, nil, false, nil // the server's search is wide by a day
	}
	p, err := e.settle(ctx, v.session, l, rules, setting)
	if err != nil {
		return nil, nil, false, err
	}
	for _, pr := range p.Rules {
		if !b.takes(pr.Rule, l.row.UID) || pr.Match.Answer == rule.No || pr.Match.Answer == rule.NotYet {
			continue
		}
		matched = true
		cabinets := map[string]store.Cabinet{}
		for i := range pr.Items {
			item := &pr.Items[i]
			entry, err := e.entryOf(pr.Rule, item, cabinets, now)
			if err != nil {
				return nil, nil, false, err
			}
			if !b.announced.IsZero() {
				entry.AnnouncedAt = &b.announced
			}
			entries = append(entries, entry)
		}
		after = append(after, afterOf(&pr, b.pass.Kind == "old mail", now)...)
	}
	return entries, after, matched, nil
}

// entryOf makes the journal's line of an item as it was planned.
// cabinets keeps those that were looked up for other items.
func (e *Engine) entryOf(r *rule.Compiled, item *plan.Item, cabinets map[string]store.Cabinet, now time.Time) (store.Entry, error) {
	name := r.Rule.Cabinet
	if item.Target.Cabinet != "" {
		name = item.Target.Cabinet
	}
	c, ok := cabinets[name]
	if !ok {
		var err error
		if c, err = e.Store.CabinetNamed(name); err != nil && !errors.Is(err, store.ErrNotFound) {
			return store.Entry{}, err
		}
		cabinets[name] = c
	}
	entry := store.Entry{RuleID: r.Rule.ID, RuleRevision: r.Revision, Item: item.Item.ID, CabinetID: c.ID, State: store.Planned,
		Name: item.Item.Name, Kind: string(item.Item.Kind), Wanted: item.Path(), Size: item.Item.Size, PlannedAt: now, Reason: item.Reason}
	switch {
	case item.Verdict != plan.Filed:
		entry.State, entry.DoneAt = store.State(item.Verdict), &now
	case c.ID == "":
		entry.State, entry.DoneAt = store.Failed, &now
		entry.Reason, entry.Advice = fmt.Sprintf("there is no cabinet called “%s”", name), "Choose a cabinet in the rule, then try again."
	}
	switch {
	case c.ID == "" && entry.State == store.Failed:
		entry.Cause = store.CauseSetting
	case entry.State == store.Held:
		entry.Cause, entry.Topic = causeOf(item), item.Topic
		entry.Advice = "Look at the message and decide: release it, try again or set it aside."
		if item.Topic != "" {
			entry.Advice = fmt.Sprintf("Say whether it is about “%s”: it is filed or left accordingly, and the topic learns from it.", item.Topic)
		}
	}
	return entry, nil
}

// causeOf is why a plan holds an item.
func causeOf(item *plan.Item) store.Cause {
	switch text := strings.ToLower(item.Reason); {
	case item.Topic != "":
		return store.CauseTopic
	case item.Doubt:
		return store.CauseDoubtful
	case strings.Contains(text, "encrypted") || strings.Contains(text, "password"):
		return store.CauseEncrypted
	}
	return store.CauseUnreadable
}

// unseen keeps the rules to which a message is new: one that Ink Tray moved is
// new to none that looked at it where it was.
func (v *visit) unseen(ctx context.Context, l *letter, rules []*rule.Compiled) []*rule.Compiled {
	if l.returned {
		return nil
	}
	if l.from == "" {
		return rules
	}
	return slices.DeleteFunc(slices.Clone(rules), func(r *rule.Compiled) bool {
		paths, _, err := v.lookedInto(ctx, r)
		return err == nil && slices.Contains(paths, l.from)
	})
}

// with puts the rule of a pass over old mail among the running ones.
func (b *batch) with(rules []*rule.Compiled) []*rule.Compiled {
	if b.own == nil || slices.ContainsFunc(rules, func(r *rule.Compiled) bool { return r.Rule.ID == b.own.Rule.ID }) {
		return rules
	}
	return append(rules, b.own)
}

// watches says whether a rule looks into the folder that is open.
func (v *visit) watches(ctx context.Context, r *rule.Compiled) bool {
	paths, _, err := v.lookedInto(ctx, r)
	return err == nil && slices.Contains(paths, v.open)
}
