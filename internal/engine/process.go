package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// batch is what messages are planned for.
type batch struct {
	announced *time.Time // by the server; nil where it did not
	pass      *store.Pass
	takes     func(r *rule.Compiled, uid uint32) bool // whether a rule takes this message
	own       *rule.Compiled                          // the rule of a pass over old mail, which may be switched off
	// through puts into a look how far the folder or the pass has come once the
	// message uid is decided, with n messages decided and matched of them for a
	// rule. last says that no message follows. nil for nothing.
	through  func(look *store.Look, uid uint32, n, matched int, last bool)
	retried  bool                     // the messages are being tried again
	cabinets map[string]store.Cabinet // that were looked up, by name
	pool     *filing.Pool             // files what was planned; nil where nothing else is read meanwhile
	follows  bool                     // something is to be done with a message once it is filed
	cameFrom string                   // the messages are decided as if they lay in this folder; "" for where they are
	behind   *passes.Behind           // commits while the next messages are read, where there is a pool
}

// process plans messages of the open folder, commits plans and progress together,
// and files. A message that cannot be read is kept for another try, and the others
// go on. The error is the mailbox's or the machine's: the session is to be given up.
func (v batchWork) process(ctx context.Context, uids []uint32, b *batch) (err error) {
	e := v.engine
	if b.pass.Kind == "live" && v.lane <= store.MainLane && len(uids) > 0 {
		e.newMail.Begin()
		defer e.newMail.End()
	}
	if b.pass.Kind == "live" {
		defer func() {
			if b.pass.ID == 0 {
				return
			}
			ended := e.Clock()
			b.pass.State, b.pass.EndedAt, b.pass.Total = store.Done, &ended, b.pass.Looked
			if saved := e.Store.Passes.Save(ctx, b.pass); err == nil {
				err = saved
			}
			e.Events.Send(events.Event{Kind: "pass", Mailbox: v.mailbox.ID})
		}()
	}
	retries, err := e.Store.Retries.In(ctx, v.mailbox.ID, v.open, v.state.UIDValidity)
	if err != nil {
		return err
	}
	for len(uids) > 0 {
		n := v.together(uids, retries)
		done, err := v.some(ctx, uids[:n], b, n == len(uids), retries)
		uids = uids[done:]
		if err != nil {
			return err
		}
	}
	return nil
}

// batchRead is what came of messages that were read together.
type batchRead struct {
	look    store.Look
	letters []*reading.Message
	matched int
	upTo    int // how many of the messages are decided, gone or kept for another try
}

// some does what process does for messages that are asked for together. done says
// how many of them, from the first on, need not be read again.
func (v batchWork) some(ctx context.Context, uids []uint32, b *batch, last bool,
	retries map[uint32]store.Retry) (done int, err error) {
	e := v.engine
	if b.pass.ID == 0 && b.pass.StartedAt.IsZero() {
		b.pass.State, b.pass.StartedAt = store.Running, e.Clock()
	}
	r, broken := v.read(ctx, uids, b, retries)
	defer func() {
		for _, l := range r.letters {
			l.Close()
		}
	}()
	if err := b.behind.Wait(); err != nil {
		return 0, err
	}
	if fault.Of(ctx, broken) == fault.Machine && broken != nil || r.upTo == 0 {
		return 0, broken
	}
	look := v.lookOf(&r, uids[:r.upTo], b, last && r.upTo == len(uids))
	commit := func() error { return e.Store.Messages.Commit(ctx, *look) }
	if broken == nil && b.pool != nil {
		letters := r.letters
		r.letters = nil // they are the pool's
		b.behind.Do(func() (func(), error) {
			if err := commit(); err != nil {
				for _, l := range letters {
					l.Close()
				}
				return nil, err
			}
			n := len(letters)
			return func() { v.kept(look, n, r.upTo, b) }, b.pool.Put(letters, look.Entries)
		})
		return r.upTo, nil
	}
	if err := commit(); err != nil {
		return 0, err
	}
	v.kept(look, len(r.letters), r.upTo, b)
	if broken != nil {
		for _, l := range r.letters {
			e.Filer.Announce(l.Row)
		}
		return r.upTo, broken
	}
	return r.upTo, v.fileAll(ctx, r.letters, look.Entries)
}

// lookOf is what is committed of messages: what was decided, and how far that brings the folder or the pass.
func (v batchWork) lookOf(r *batchRead, uids []uint32, b *batch, last bool) *store.Look {
	look := &r.look
	look.In, look.Validity = store.Place{MailboxID: v.mailbox.ID, Folder: v.open}, v.state.UIDValidity
	pass := *b.pass
	pass.Looked += len(r.letters)
	pass.Matched += r.matched
	if b.retried {
		pass.Unread = max(0, pass.Unread-len(r.letters))
	}
	look.Pass = &pass
	if b.pass.Kind == "live" && len(r.letters) == 0 && b.pass.ID == 0 {
		look.Pass = nil
	}
	if b.through != nil {
		b.through(look, uids[len(uids)-1], len(r.letters), r.matched, last)
	}
	return look
}

// kept goes on from a commit, in which n of read messages were decided.
func (v batchWork) kept(look *store.Look, n, read int, b *batch) {
	if look.Pass != nil {
		*b.pass = *look.Pass
	}
	v.planned += n
	v.worked += read
	if len(look.Retries) > 0 {
		v.engine.Events.Send(events.Event{Kind: "tray"})
	}
	if v.slow {
		v.slow = false
		v.engine.beside(v.mailbox.ID)
	}
}

// read reads and plans messages. The error, if any, is the mailbox's or the
// machine's; what was read before it counts.
func (v batchWork) read(ctx context.Context, uids []uint32, b *batch, retries map[uint32]store.Retry) (r batchRead,
	err error) {
	e := v.engine
	r.look = store.Look{Entries: map[*store.Message][]store.Entry{}, After: map[*store.Message][]store.FollowUp{},
		Matched: map[*store.Message]bool{}}
	if len(uids) == 1 && retries[uids[0]].Crashes >= mostCrashes {
		v.unread(&r, uids[0], nil, b, retries, &fault.CrashError{Times: retries[uids[0]].Crashes})
		r.upTo = 1
		return r, nil
	}
	if err := v.take(uids); err != nil {
		return r, err
	}
	defer v.hand.LetGo()
	facts, err := v.session.Facts(ctx, uids)
	if err != nil {
		how := fault.Of(ctx, err)
		if how == fault.Machine {
			return r, err
		}
		v.pace.Slower()
		if len(uids) == 1 {
			v.unread(&r, uids[0], nil, b, retries, err)
			r.upTo = 1
		}
		if how == fault.Message {
			err = nil // asked again for fewer at once
		}
		return r, err
	}
	v.pace.Faster()
	moves, err := e.Store.Messages.AnyMoves(ctx, v.mailbox.ID)
	if err != nil {
		return r, err
	}
	if len(retries) > 0 {
		r.look.Read = map[uint32][]string{}
		for _, uid := range uids {
			if kept, is := retries[uid]; is {
				r.look.Read[uid] = kept.Rules
				if there := slices.ContainsFunc(facts, func(f source.Facts) bool { return f.UID == uid }); there && !b.retried {
					r.look.Read[uid] = v.takers(b, uid)
				}
			}
		}
	}
	began := time.Now()
	for i := range facts {
		f := &facts[i]
		// what was read is filed before the rest is read
		if i > 0 && v.patience > 0 && b.pass.Kind == "live" && time.Since(began) > v.patience {
			r.upTo = slices.Index(uids, f.UID)
			return r, nil
		}
		l, p, err := v.one(ctx, f, b, moves)
		if l != nil && holding(r.letters)+l.Spooled > reading.MostSpooled {
			l.Close() // it is fetched again
		}
		switch how := e.faults.Of(ctx, fmt.Sprintf("%s/%s/%d/%d", v.mailbox.ID, v.open, v.state.UIDValidity, f.UID), err); {
		case err == nil:
			if p.matched {
				r.matched++
			}
			r.look.Messages = append(r.look.Messages, l.Row)
			r.look.Entries[l.Row], r.look.After[l.Row], r.look.Matched[l.Row] = p.entries, p.after, p.matched
			r.letters = append(r.letters, l)
			b.follows = b.follows || len(p.after) > 0
		case how == fault.Machine:
			return r, err
		default:
			var row *store.Message
			if l != nil {
				l.Close()
				row = l.Row
			}
			delete(r.look.Read, f.UID)
			v.unread(&r, f.UID, row, b, retries, err)
			if how == fault.Mailbox {
				r.upTo = slices.Index(uids, f.UID) + 1
				return r, err
			}
		}
	}
	r.upTo = len(uids)
	return r, nil
}

// unread keeps a message for another try, or puts it into the tray after too many.
func (v batchWork) unread(r *batchRead, uid uint32, row *store.Message, b *batch, retries map[uint32]store.Retry,
	cause error) {
	e := v.engine
	now := e.Clock().UTC()
	kept := retries[uid]
	kept.MailboxID, kept.Folder, kept.UIDValidity, kept.UID = v.mailbox.ID, v.open, v.state.UIDValidity, uid
	if kept.MadeAt.IsZero() {
		kept.MadeAt = now
	}
	kept.AnnouncedAt, kept.PassID = cmp.Or(kept.AnnouncedAt, b.announced), 0
	if b.pass.Kind == "old mail" {
		kept.PassID = b.pass.ID
	}
	for _, id := range v.takers(b, uid) {
		if !slices.Contains(kept.Rules, id) {
			kept.Rules = append(kept.Rules, id)
		}
	}
	if row != nil {
		kept.Subject, kept.Sender = row.Subject, row.SenderAddress
		r.look.Messages = append(r.look.Messages, row)
	}
	kept.State, kept.Cause, kept.DoneAt = store.RetryWaiting, "", nil
	kept.Reason = reason.NotReadYet(fault.Reason(cause))
	if errors.Is(cause, reading.ErrSlow) {
		kept.Slow, kept.NextAt = v.lane.Next().Slow(), &now
		r.look.Retries = append(r.look.Retries, store.UnreadMessage{Retry: kept, Message: row})
		v.slow = true
		return
	}
	kept.Attempts++
	next := now.Add(e.Pause(kept.Attempts - 1))
	kept.NextAt = &next
	if kept.Attempts >= fault.MostTries || fault.Lasts(cause) {
		kept.State, kept.NextAt, kept.DoneAt = store.RetryFailed, nil, &now
		kept.Reason = reason.Unread(fault.Reason(cause))
		kept.Cause = kept.Reason.Cause()
	}
	e.Log.Warn("a message could not be read", "mailbox", v.mailbox.Name, "folder", v.open, "uid", uid, "attempt",
		kept.Attempts, "state", kept.State, "error", cause)
	var panicked *fault.PanicError
	if errors.As(cause, &panicked) {
		e.Log.Error("a message could not be understood", "mailbox", v.mailbox.Name, "folder", v.open, "uid", uid, "cause",
			panicked.Cause)
	}
	r.look.Retries = append(r.look.Retries, store.UnreadMessage{Retry: kept, Message: row})
}

// takers lists the rules that take a message, by id.
func (v batchWork) takers(b *batch, uid uint32) []string {
	ids := []string{}
	for _, r := range b.with(v.engine.Office.Settings().Rules) {
		if r.Rule.Look.Looks(v.mailbox.Name) && b.takes(r, uid) {
			ids = append(ids, r.Rule.ID)
		}
	}
	return ids
}

// verdict is what becomes of one message.
type verdict struct {
	entries []store.Entry
	after   []store.FollowUp
	matched bool
}

// one reads and plans one message. Whatever goes wrong while it is understood is
// the message's own trouble.
func (v batchWork) one(ctx context.Context, f *source.Facts, b *batch, moves bool) (l *reading.Message, out verdict,
	err error) {
	defer func() {
		if p := recover(); p != nil {
			out, err = verdict{}, &fault.PanicError{Cause: p}
		}
	}()
	row, message, err := store.NewMessage(v.mailbox.ID, v.open, v.state.UIDValidity, f, v.engine.Clock())
	if err != nil {
		return nil, out, err
	}
	l = &reading.Message{Row: row, Facts: f, Mail: message, Mailbox: v.mailbox.Name, PassKind: b.pass.Kind,
		Budget: reading.Budget{Lane: v.lane, Patience: v.share(), Began: time.Now()}}
	defer func() { v.allowance.Spend(time.Since(l.Began)) }()
	if b.pass.Kind != "live" {
		l.Patience = 0
	}
	if moves {
		if l.From, l.Returned, err = v.engine.Store.Messages.CameFrom(ctx, row); err != nil {
			return l, out, err
		}
	}
	if out, err = v.plan(ctx, l, b); err == nil && out.matched && message.Broken != "" {
		// its structure is not known, so none of its items is decided
		return l, verdict{}, &fault.StructureError{Why: message.Broken}
	}
	return l, out, err
}

func (v batchWork) fileAll(ctx context.Context, letters []*reading.Message,
	planned map[*store.Message][]store.Entry) error {
	for _, l := range letters {
		entries := planned[l.Row]
		began := time.Now()
		if l.Patience > 0 {
			l.Patience = v.filingShare()
		}
		last := time.Duration(0)
		for i := range entries {
			began = began.Add(v.giveWay(ctx, last)) // waiting is not the message's own time
			if waits, err := v.letWait(ctx, l, i, began); err != nil {
				return err
			} else if waits {
				break
			}
			if entries[i].ID == 0 || entries[i].State != store.Planned {
				continue
			}
			filing := time.Now()
			if err := v.engine.Filer.FileNew(ctx, v.session, l, &entries[i]); err != nil {
				return err
			}
			last = time.Since(filing)
		}
		v.allowance.Spend(time.Since(began))
		l.Close()
		v.engine.Filer.Announce(l.Row)
	}
	return nil
}

// letWait leaves what is still to be filed of a message to the watcher beside, where that has taken long: the others
// of the mailbox go on.
func (v batchWork) letWait(ctx context.Context, l *reading.Message, done int, began time.Time) (bool, error) {
	if done == 0 || l.Patience == 0 || time.Since(began) <= l.Patience {
		return false, nil
	}
	defer v.engine.beside(v.mailbox.ID)
	return true, v.engine.Store.Journal.LetWait(ctx, l.Row.ID, l.Lane.Next())
}

// holding is how much is spooled for messages, in octets.
func holding(letters []*reading.Message) (total int64) {
	for _, l := range letters {
		total += l.Spooled
	}
	return total
}

// understand makes a row of a message's facts, nil where that goes wrong.
func (v batchWork) understand(f *source.Facts) (row *store.Message, message *mail.Message) {
	row, message, err := reading.Understand(v.mailbox.ID, v.open, v.state.UIDValidity, f, v.engine.Clock())
	if err != nil {
		v.engine.Log.Error("a message could not be understood", "mailbox", v.mailbox.Name, "folder", v.open, "uid", f.UID,
			"cause", err)
		return nil, nil
	}
	return row, message
}

// plan decides what becomes of a message, fetching its text where a verdict
// hangs on it.
func (v batchWork) plan(ctx context.Context, l *reading.Message, b *batch) (out verdict, err error) {
	e := v.engine
	settings := e.Office.Settings() // one state for the whole plan
	var rules []*rule.Compiled
	for _, r := range settings.Rules {
		if r.Rule.Look.Looks(v.mailbox.Name) && v.watches(ctx, r, b) {
			rules = append(rules, r)
		}
	}
	if rules = b.with(rules); b.pass.Kind == "live" {
		rules = v.unseen(ctx, l, rules)
	}
	for len(rules) > 0 && !b.takes(rules[len(rules)-1], l.Row.UID) {
		rules = rules[:len(rules)-1] // nothing is read for a rule that takes no part
	}
	at := e.Now()
	setting, now := settings.For(l.Mailbox, at), at.UTC()
	if b.pass.Since != nil && l.Mail.Received.Before(*b.pass.Since) {
		return out, nil // the server's search is wide by a day
	}
	p, err := e.Reader.Plan(ctx, v.session, l, rules, setting)
	if err != nil {
		return out, err
	}
	if b.cameFrom != "" {
		if moved, err := restoredVisit(v).movedHere(ctx, &p); err != nil || !moved {
			return out, err
		}
	}
	for _, pr := range p.Rules {
		if !b.takes(pr.Rule, l.Row.UID) || pr.Match.Answer == rule.No || pr.Match.Answer == rule.NotYet {
			continue
		}
		out.matched = true
		if b.cabinets == nil {
			b.cabinets = map[string]store.Cabinet{}
		}
		l.CarryPlan(pr.Rule, at, pr.Items)
		var entries []store.Entry
		for i := range pr.Items {
			item := &pr.Items[i]
			entry, err := e.Filer.EntryOf(ctx, pr.Rule, item, b.cabinets, now)
			if err != nil {
				return out, err
			}
			entry.Slow = v.lane.Slow() // else another watcher would file it, too
			if b.cameFrom != "" {
				entry.Given = filing.Recognise
			}
			entry.AnnouncedAt = b.announced
			entries = append(entries, entry)
		}
		out.entries = append(out.entries, filing.InTray(entries)...)
		out.after = append(out.after, outbox.FollowUps(&pr, b.pass.Kind == "old mail", now)...)
	}
	return out, nil
}

// unseen keeps the rules that have not seen a message yet. A message that Ink Tray moved was seen by the rules that
// look into its former folder.
func (v batchWork) unseen(ctx context.Context, l *reading.Message, rules []*rule.Compiled) []*rule.Compiled {
	if l.Returned {
		return nil
	}
	if l.From == "" {
		return rules
	}
	return slices.DeleteFunc(slices.Clone(rules), func(r *rule.Compiled) bool {
		paths, _, err := v.lookedInto(ctx, r)
		return err == nil && slices.Contains(paths, l.From)
	})
}

// with puts the rule of a pass over old mail among the running ones.
func (b *batch) with(rules []*rule.Compiled) []*rule.Compiled {
	if b.own == nil || slices.ContainsFunc(rules, func(r *rule.Compiled) bool { return r.Rule.ID == b.own.Rule.ID }) {
		return rules
	}
	return append(rules, b.own)
}

// watches says whether a rule looks into the folder from which a batch is.
func (v batchWork) watches(ctx context.Context, r *rule.Compiled, b *batch) bool {
	paths, _, err := v.lookedInto(ctx, r)
	return err == nil && slices.Contains(paths, cmp.Or(b.cameFrom, v.open))
}

// batchWork is the part of a visit that decides messages: it reads and plans them in batches and files what was
// planned.
type batchWork struct{ *visit }

func (v *visit) batches() batchWork { return batchWork{v} }
