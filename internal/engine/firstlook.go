package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// arrivalMargin is by how much the mail server's clock may be behind this
// machine's: a message that arrived so long before a rule was switched on still
// counts as new where nobody looked into the folder then.
const arrivalMargin = 5 * time.Minute

// newTo says for which rules messages of a folder are new: rule ids by UID.
type newTo map[uint32]map[string]bool

func (n newTo) add(uid uint32, ruleID string) {
	if n[uid] == nil {
		n[uid] = map[string]bool{}
	}
	n[uid][ruleID] = true
}

func (n newTo) uids() []uint32 {
	uids := make([]uint32, 0, len(n))
	for uid := range n {
		uids = append(uids, uid)
	}
	slices.Sort(uids)
	return uids
}

func (n newTo) takes(r *rule.Compiled, uid uint32) bool { return n[uid][r.Rule.ID] }

// first looks into a folder for the first time. What is in it is old to a rule,
// except where the rule waited for the folder, where the message arrived after the
// rule was switched on, and where the folder itself was made since. The last
// messages are kept for rehearsals.
func (v firstMeeting) first(ctx context.Context, folder string, marks map[string]store.StartMark) error {
	if was, err := v.renamedFrom(ctx, folder); err != nil {
		return err
	} else if was != "" {
		if err := v.engine.Store.Mailboxes.RenameFolder(ctx, v.mailbox.ID, was, folder); err != nil {
			return err
		}
		return v.folder(ctx, folder, nil)
	}
	uids, err := v.session.UIDs(ctx, source.Query{})
	if err != nil {
		return err
	}
	met, err := v.meetFolder(ctx, folder, uids, marks)
	if err != nil {
		return err
	}
	if fresh := met.fresh.uids(); len(fresh) > 0 {
		if err := v.batches().process(ctx, fresh, &batch{pass: v.livePass(), takes: met.fresh.takes}); err != nil {
			return err
		}
	}
	look := store.Look{Notice: met.notice,
		Folder: &store.Folder{MailboxID: v.mailbox.ID, Path: folder, UIDValidity: v.state.UIDValidity,
			UIDNext: v.state.UIDNext, ModSeq: v.state.ModSeq, LookedAt: v.engine.Clock()}}
	facts, _, err := v.facts(ctx, uids[max(0, len(uids)-firstLook):])
	if err != nil {
		return err
	}
	for i := range facts {
		if m, _ := v.batches().understand(&facts[i]); m != nil {
			look.Messages = append(look.Messages, m)
		}
	}
	if met.notice != nil {
		v.engine.Events.Send(events.Event{Kind: "tray"})
	}
	return v.engine.Store.Messages.Commit(ctx, look)
}

// metFolder is what a first look found.
type metFolder struct {
	fresh  newTo
	notice *store.Notice // what a person has to decide, nil for nothing
}

// meetFolder finds out which messages of a folder are new to which rules.
func (v firstMeeting) meetFolder(ctx context.Context, folder string, uids []uint32,
	marks map[string]store.StartMark) (metFolder, error) {
	met := metFolder{fresh: newTo{}}
	if mailboxes.OwnMail(v.mailbox) { // everything in it came after the mailbox was made
		for _, uid := range uids {
			for _, m := range marks {
				if m.Folder == folder {
					met.fresh.add(uid, m.RuleID)
				}
			}
		}
		return met, nil
	}
	since := map[string]time.Time{} // by rule: what arrived from then on is new
	for _, m := range marks {
		switch {
		case m.Folder != folder:
		case m.Awaited:
			for _, uid := range uids {
				met.fresh.add(uid, m.RuleID)
			}
		case m.UIDValidity == 0:
			since[m.RuleID] = m.MadeAt.Add(-arrivalMargin)
		}
	}
	if last, made, err := v.madeSince(ctx, folder); err != nil {
		return met, err
	} else if made {
		err = v.meetMadeFolder(ctx, folder, uids, since, last, &met)
		return met, err
	}
	err := v.meetArrivals(ctx, folder, uids, since, &met)
	return met, err
}

// meetArrivals finds the messages that arrived after rules were switched on. Where
// a mailbox does not know when a message arrived, a person is asked.
func (v firstMeeting) meetArrivals(ctx context.Context, folder string, uids []uint32, since map[string]time.Time,
	met *metFolder) error {
	if len(since) == 0 || len(uids) == 0 {
		return nil
	}
	var earliest time.Time
	for _, at := range since {
		if earliest.IsZero() || at.Before(earliest) {
			earliest = at
		}
	}
	candidates, err := v.session.UIDs(ctx, source.Query{Since: earliest})
	if err != nil {
		return err
	}
	if v.mailbox.Kind == "pop3" { // which cannot be searched: a message is fetched to learn its date
		candidates = candidates[max(0, len(candidates)-firstLook):]
	}
	facts, unread, err := v.facts(ctx, candidates)
	if err != nil {
		return err
	}
	for _, uid := range unread {
		for id := range since {
			met.fresh.add(uid, id) // when it arrived cannot be read: it may be new
		}
	}
	var inDoubt []string
	for i := range facts {
		f := &facts[i]
		arrived := f.Arrived()
		_, message := v.batches().understand(f)
		doubt := false
		for id, at := range since {
			switch {
			case !arrived.IsZero() && !arrived.Before(at):
				met.fresh.add(f.UID, id)
			case !arrived.IsZero() || message == nil:
			case message.Received.IsZero() || !message.Received.Before(at):
				doubt = true
			}
		}
		if doubt {
			inDoubt = append(inDoubt, message.Envelope.Subject)
		}
	}
	if len(inDoubt) > 0 {
		met.notice = &store.Notice{Kind: "arrival", Object: v.mailbox.ID + "/" + folder, MailboxID: v.mailbox.ID,
			MadeAt: v.engine.Clock(),
			Text: fmt.Sprintf("%s in “%s” may have arrived after a rule was switched on, and the mailbox does not say when. "+
				"Nothing was filed: %s.",
				phrase.Count(len(inDoubt), "message", "messages"), v.mailbox.Name, phrase.List(inDoubt, 5)),
			Advice: "If they should be filed, let the rule file old mail."}
	}
	return nil
}

// meetMadeFolder looks into a folder that was made while a rule looked into
// everything around it, last being the moment of the last look. A message that
// Ink Tray knows from another folder was moved in, and one that arrived since the
// last look is new; about others a person is asked.
func (v firstMeeting) meetMadeFolder(ctx context.Context, folder string, uids []uint32, since map[string]time.Time,
	last time.Time, met *metFolder) error {
	facts, unread, err := v.facts(ctx, uids)
	if err != nil {
		return err
	}
	for _, uid := range unread {
		for id := range since {
			met.fresh.add(uid, id)
		}
	}
	older := 0
	for i := range facts {
		m, message := v.batches().understand(&facts[i])
		fresh := m == nil || message.Received.After(last.Add(-arrivalMargin))
		if !fresh {
			if fresh, err = v.engine.Store.Messages.Known(ctx, m, folder, v.state.UIDValidity); err != nil {
				return err
			}
		}
		if !fresh {
			if len(met.fresh[facts[i].UID]) == 0 { // else a rule that waited for the folder takes it
				older++
			}
			continue
		}
		for id := range since {
			met.fresh.add(facts[i].UID, id)
		}
	}
	if older > 0 {
		met.notice = &store.Notice{Kind: "appeared", Object: v.mailbox.ID + "/" + folder, MailboxID: v.mailbox.ID,
			MadeAt: v.engine.Clock(),
			Text: fmt.Sprintf("The folder “%s” of “%s” is new. %s in it arrived before the last look and were not filed.",
				folder, v.mailbox.Name, phrase.Count(older, "message", "messages")),
			Advice: "If they should be filed, let the rule file old mail."}
	}
	return nil
}

// madeSince says whether a folder was made while a rule looked into everything
// within another, and when the last look was.
func (v firstMeeting) madeSince(ctx context.Context, folder string) (last time.Time, made bool, err error) {
	e := v.engine
	if folder == "INBOX" {
		return last, false, nil
	}
	inbox, err := e.Store.Mailboxes.Folder(ctx, v.mailbox.ID, "INBOX")
	if errors.Is(err, store.ErrNotFound) {
		return last, false, nil
	}
	if err != nil {
		return last, false, err
	}
	listed, err := v.list(ctx)
	if err != nil {
		return last, false, err
	}
	for _, r := range e.Office.Settings().Rules {
		l := &r.Rule.Look
		named := slices.ContainsFunc(l.In(), func(name string) bool { return strings.EqualFold(name, folder) })
		if !wide(l) || named || !l.Looks(v.mailbox.Name) || !l.LooksInto(listed, folder) {
			continue
		}
		at, err := v.atWork(ctx, r, inbox.LookedAt)
		if err != nil || at {
			return inbox.LookedAt, at, err
		}
	}
	return last, false, nil
}

// atWork says whether a rule, as it is now, looked into the mailbox at a moment: a
// folder that it did not know then was made later.
func (v firstMeeting) atWork(ctx context.Context, r *rule.Compiled, at time.Time) (bool, error) {
	revision, err := v.engine.Store.Rules.Revision(ctx, r.Rule.ID, r.Revision)
	if err != nil || !revision.MadeAt.Before(at) {
		return false, err
	}
	marks, err := v.engine.Store.Rules.Marks(ctx, v.mailbox.ID)
	return err == nil &&
		slices.ContainsFunc(marks, func(m store.StartMark) bool { return m.RuleID == r.Rule.ID && m.MadeAt.Before(at) }), err
}

// renamedFrom finds the former name of a folder that was renamed: a folder that is
// gone, has the same UIDVALIDITY, and holds the same messages under the same UIDs.
func (v firstMeeting) renamedFrom(ctx context.Context, folder string) (string, error) {
	if folder == "INBOX" {
		return "", nil
	}
	rows, err := v.engine.Store.Mailboxes.FoldersOf(ctx, v.mailbox.ID)
	if err != nil {
		return "", err
	}
	listed, err := v.list(ctx)
	if err != nil {
		return "", err
	}
	for _, row := range rows {
		there := slices.ContainsFunc(listed, func(f source.Folder) bool { return f.Path == row.Path })
		if there || row.UIDValidity != v.state.UIDValidity || row.UIDNext > v.state.UIDNext || row.Path == "INBOX" {
			continue
		}
		known, err := v.engine.Store.Messages.Last(ctx, v.mailbox.ID, row.Path, row.UIDValidity, 5)
		if err != nil {
			return "", err
		}
		var uids []uint32
		for uid := range known {
			uids = append(uids, uid)
		}
		slices.Sort(uids)
		facts, _, err := v.facts(ctx, uids)
		if err != nil {
			return "", err
		}
		same := 0
		for i := range facts {
			if m, _ := v.batches().understand(&facts[i]); m != nil && slices.Equal(m.Fingerprint, known[m.UID].Fingerprint) {
				same++
			}
		}
		if same > 0 && same == len(facts) {
			return row.Path, nil
		}
	}
	return "", nil
}

// renumbered meets a folder whose messages got new numbers (RFC 9051 section
// 2.3.1.1). What is recognised was seen before. What is not recognised is new if
// it arrived after the last look, or if a message of the folder was still to be
// read; else a person decides.
func (v firstMeeting) renumbered(ctx context.Context, row store.Folder, marks map[string]store.StartMark) error {
	e := v.engine
	for _, m := range marks {
		if m.Folder == row.Path && m.Awaited { // it was away: this is another folder of the same name
			return v.replaced(ctx, row, marks)
		}
	}
	last := row.LookedAt.Add(-arrivalMargin)
	retries, err := e.Store.Retries.In(ctx, v.mailbox.ID, row.Path, row.UIDValidity)
	if err != nil {
		return err
	}
	pending, err := e.Store.Messages.PendingPrints(ctx, v.mailbox.ID, row.Path, row.UIDValidity)
	if err != nil {
		return err
	}
	row.UIDValidity, row.UIDNext, row.ModSeq = v.state.UIDValidity, v.state.UIDNext, v.state.ModSeq
	uids, err := v.session.UIDs(ctx, source.Query{})
	if err != nil {
		return err
	}
	older := 0
	fresh := newTo{}
	allRules := func(uid uint32) {
		for _, m := range marks {
			if m.Folder == row.Path {
				fresh.add(uid, m.RuleID)
			}
		}
	}
	for len(uids) > 0 {
		some := uids[:min(batchSize, len(uids))]
		uids = uids[len(some):]
		facts, unread, err := v.facts(ctx, some)
		if err != nil {
			return err
		}
		for _, uid := range unread {
			allRules(uid)
		}
		var look store.Look
		for i := range facts {
			m, message := v.batches().understand(&facts[i])
			if m == nil {
				allRules(facts[i].UID)
				continue
			}
			known, err := e.Store.Messages.Known(ctx, m, row.Path, row.UIDValidity)
			if err != nil {
				return err
			}
			switch {
			case pending[string(m.Fingerprint)], pending[string(m.Likeness)]:
				allRules(m.UID)
			case known:
				look.Messages = append(look.Messages, m)
			case message.Received.After(last) || len(retries) > 0:
				allRules(m.UID)
			default:
				older++
				look.Messages = append(look.Messages, m)
			}
		}
		if err := e.Store.Messages.Commit(ctx, look); err != nil {
			return err
		}
	}
	if uids := fresh.uids(); len(uids) > 0 {
		if err := v.batches().process(ctx, uids, &batch{pass: v.livePass(), takes: fresh.takes}); err != nil {
			return err
		}
	}
	row.LookedAt = e.Clock()
	look := store.Look{Folder: &row}
	if older > 0 {
		look.Notice = &store.Notice{Kind: "renumbered", Object: v.mailbox.ID + "/" + row.Path, MailboxID: v.mailbox.ID,
			MadeAt: e.Clock(),
			Text: fmt.Sprintf("The mail server gave the messages in the folder “%s” of “%s” new numbers. %s in it arrived "+
				"before the last look and are not known to Ink Tray. They were not filed.",
				row.Path, v.mailbox.Name, phrase.Count(older, "message", "messages")),
			Advice: "If they should be filed, let the rule file old mail."}
		e.Events.Send(events.Event{Kind: "tray"})
	}
	return e.Store.Messages.Renumber(ctx, look)
}

// replaced meets a folder that was away and is there again with other numbers.
// Everything in it is new to the rules that waited for it.
func (v firstMeeting) replaced(ctx context.Context, row store.Folder, marks map[string]store.StartMark) error {
	uids, err := v.session.UIDs(ctx, source.Query{})
	if err != nil {
		return err
	}
	fresh := newTo{}
	for _, m := range marks {
		if m.Folder != row.Path {
			continue
		}
		for _, uid := range uids {
			fresh.add(uid, m.RuleID)
		}
	}
	if len(uids) > 0 {
		if err := v.batches().process(ctx, uids, &batch{pass: v.livePass(), takes: fresh.takes}); err != nil {
			return err
		}
	}
	row.UIDValidity, row.UIDNext, row.ModSeq, row.LookedAt = v.state.UIDValidity, v.state.UIDNext, v.state.ModSeq,
		v.engine.Clock()
	return v.engine.Store.Messages.Renumber(ctx, store.Look{Folder: &row})
}

// firstMeeting is the part of a visit that meets folders which are new, renamed, renumbered or replaced.
type firstMeeting struct{ *visit }

func (v *visit) meetings() firstMeeting { return firstMeeting{v} }
