package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/turn"
)

// passBatch is how many messages of old mail are planned between two moments at which a pass can be paused or stopped.
const passBatch = 100

// betweenWakes is how often a pass lets the watcher do what is due: a look costs a server with many messages.
const betweenWakes = 2 * time.Second

// Errors that callers tell apart.
var (
	ErrUnderWay = errors.New("old mail of this rule is being filed already")
	ErrEnded    = errors.New("the pass has ended")
)

// OldMailOf says which old mail is to be filed, and how fast. Zero values limit
// nothing.
type OldMailOf struct {
	RuleID    string
	Since     time.Time // received on this day or later
	Most      int       // the most recent ones of each folder
	PerMinute int       // messages
	From, To  string    // only between these times of the day, "19:00" and "06:00"
}

// Check says what is wrong with it. The error, if any, is rule.Problems.
func (of *OldMailOf) Check() error {
	_, err := passes.ParseHours(of.From, of.To)
	return err
}

// FileOldMail begins a pass over the mail that a rule's folders hold already, in the mailboxes that the viewer may see.
func (e *Engine) FileOldMail(ctx context.Context, of OldMailOf, v store.Viewer) (*store.Pass, error) {
	ruleID := of.RuleID
	if err := of.Check(); err != nil {
		return nil, err
	}
	row, err := e.Store.Rules.ByID(ctx, ruleID)
	if err != nil || row.Removed {
		return nil, store.ErrNotFound
	}
	for _, p := range e.underway(ctx) {
		if p.RuleID == ruleID {
			return nil, fmt.Errorf("%w: pass %d; stop it first, or wait for its end", ErrUnderWay, p.ID)
		}
	}
	pass := &store.Pass{Kind: "old mail", RuleID: ruleID, MadeBy: v.Name, State: store.Running, Most: of.Most,
		PerMinute: of.PerMinute, FromTime: of.From, ToTime: of.To, StartedAt: e.Clock()}
	if !of.Since.IsZero() {
		pass.Since = &of.Since
	}
	if !v.All {
		pass.OnlyIn = append([]string{}, v.Only...)
	}
	if err := e.Store.Passes.Add(ctx, pass); err != nil {
		return nil, err
	}
	running := *pass // what is returned stays as it is
	e.runPass(&running)
	return pass, nil
}

func (e *Engine) underway(ctx context.Context) []store.Pass {
	all, err := e.Store.Passes.Unfinished(ctx)
	if err != nil {
		e.Log.Error("reading the passes", "error", err)
	}
	return all
}

// SteerPass pauses, stops or goes on with a pass over old mail. What is being
// filed at the moment is finished.
func (e *Engine) SteerPass(ctx context.Context, v store.Viewer, id int64, wanted store.PassState) error {
	pass, err := e.Store.Passes.ByID(ctx, v, id)
	if err != nil {
		return err
	}
	if pass.Kind != "old mail" && (!slices.Contains(store.StopOnly, pass.Kind) || wanted != store.Stopped) ||
		pass.State == store.Done || pass.State == store.Stopped {
		return fmt.Errorf("%w: pass %d", ErrEnded, id)
	}
	running := e.passes.Of(id)
	if wanted == store.Running {
		if running == nil {
			pass.State = store.Running
			if err := e.Store.Passes.Save(ctx, &pass); err != nil {
				return err
			}
			e.runPass(&pass)
		}
		return nil
	}
	if running != nil {
		running.Ask(wanted)
		return nil
	}
	ended := e.Clock()
	pass.State, pass.EndedAt = wanted, &ended
	return e.Store.Passes.Save(ctx, &pass)
}

// runPass goes over old mail in the background, from the pass's position.
func (e *Engine) runPass(pass *store.Pass) {
	p := e.passes.Begin(pass.ID)
	e.Go("filing old mail", func(ctx context.Context) {
		ctx = store.Unhurried(ctx) // new mail goes first
		state, note := e.overOldMail(ctx, pass, p)
		e.passes.End(pass.ID)
		e.WakeAll() // what a crash left of this pass is the watchers' now
		if ctx.Err() != nil {
			return // it goes on after the restart
		}
		pass.State, pass.Note = state, note
		if state != store.Paused {
			ended := e.Clock()
			pass.EndedAt = &ended
		}
		for failures := 0; ; failures++ { // a full disk must not leave it running for ever
			err := e.Store.Passes.Save(ctx, pass)
			if err == nil {
				break
			}
			e.Log.Error("keeping a pass", "pass", pass.ID, "error", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(e.Pause(failures)):
			}
		}
		e.Events.Send(events.Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
	})
}

// overOldMail goes over the folders of a rule in every mailbox. A mailbox that
// fails is tried again with growing pauses while the others go on; progress begins
// the pauses again. Nothing that may pass ends a pass: it waits until the mailbox
// answers, the disk has room, or a person stops it.
func (e *Engine) overOldMail(ctx context.Context, pass *store.Pass, p *passes.Steering) (store.PassState, string) {
	row, err := e.Store.Rules.ByID(ctx, pass.RuleID)
	if err != nil {
		return store.Broken, "the rule is no longer there"
	}
	r, err := e.Office.Rule(ctx, row.ID, row.Revision)
	if err != nil {
		return store.Broken, "the rule cannot run: " + err.Error()
	}
	mailboxes, err := e.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return store.Broken, err.Error()
	}
	var left []*passMailbox
	for i := range mailboxes {
		if r.Rule.Look.Looks(mailboxes[i].Name) && (pass.OnlyIn == nil || slices.Contains(pass.OnlyIn, mailboxes[i].ID)) {
			left = append(left, &passMailbox{row: &mailboxes[i]})
		}
	}
	for len(left) > 0 {
		var waiting []*passMailbox
		for _, m := range left {
			if e.Clock().Before(m.next) && e.arrivals(m.row.ID) == m.arrivals {
				waiting = append(waiting, m)
				continue
			}
			before := pass.Position
			m.arrivals = e.arrivals(m.row.ID)
			err := e.oldMailOf(ctx, pass, p, r, m)
			if ctx.Err() != nil {
				return store.Running, ""
			}
			if asked := p.Asked(); asked != "" {
				return asked, ""
			}
			if err == nil {
				continue
			}
			if !pass.Position.Same(&before) {
				m.failures = 0
			}
			m.failures++
			m.next = e.Clock().Add(e.Mailboxes.PauseAfter(err, m.failures-1))
			e.notePass(ctx, pass, waitsFor(m.row, err))
			waiting = append(waiting, m)
		}
		if left = waiting; len(left) == 0 {
			break
		}
		if !p.Rest(ctx, e.shortest(left)) {
			if ctx.Err() != nil {
				return store.Running, ""
			}
			return p.Asked(), ""
		}
	}
	return store.Done, passes.EndNote(pass)
}

// passMailbox is a mailbox that a pass goes over.
type passMailbox struct {
	row      *store.Mailbox
	pace     turn.Pace
	failures int       // in a row, without any progress
	next     time.Time // when it is tried again
	arrivals int       // how often the mailbox had been reached when it was tried last
}

// shortest is how long a pass waits for its mailboxes: at most a second, since a watcher may reach one of them sooner.
func (e *Engine) shortest(left []*passMailbox) time.Duration {
	d := time.Second
	for _, m := range left {
		d = min(d, m.next.Sub(e.Clock()))
	}
	return max(d, time.Millisecond)
}

// waitsFor says what a pass waits for.
func waitsFor(m *store.Mailbox, err error) string {
	if t := store.TroubleOf(err); t != nil {
		return "waits: " + t.Problem
	}
	return fmt.Sprintf("waits for the mailbox “%s”: %s", m.Name, fault.Reason(err))
}

// notePass shows what a pass waits for. Where the records cannot keep the note, the log has it.
func (e *Engine) notePass(ctx context.Context, pass *store.Pass, note string) {
	pass.Note = note
	e.Log.Warn("a pass over old mail waits", "pass", pass.ID, "note", note)
	if err := e.Store.Passes.Save(ctx, pass); err != nil {
		e.Log.Error("keeping a pass", "pass", pass.ID, "error", err)
	}
	e.Events.Send(events.Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
}

// oldMailOf goes over one mailbox's folders, with a connection of its own.
func (e *Engine) oldMailOf(ctx context.Context, pass *store.Pass, p *passes.Steering, r *rule.Compiled,
	box *passMailbox) error {
	m := box.row
	s, err := e.Mailboxes.Reach(ctx, m, connections.Work)
	if err != nil {
		return err
	}
	defer s.Close()
	pass.Note = ""
	v := &visit{engine: e, mailbox: m, session: s.Session, pace: &box.pace}
	defer v.hand.Leave()
	folders, missing, err := v.lookedInto(ctx, r)
	if err != nil {
		return err
	}
	for _, name := range missing {
		e.Log.Warn("a pass over old mail misses a folder", "pass", pass.ID, "mailbox", m.Name, "folder", name)
	}
	for _, folder := range folders {
		if slices.Contains(pass.Position.Done, m.ID+"/"+folder) {
			continue
		}
		over := &overFolder{visit: v, pass: pass, steer: p, rule: r, folder: folder, key: m.ID + "/" + folder}
		if err := over.run(ctx); err != nil {
			return err
		}
		if p.Asked() != "" {
			return nil
		}
	}
	return nil
}

// overFolder is a pass over one folder.
type overFolder struct {
	visit  *visit
	pass   *store.Pass
	steer  *passes.Steering
	rule   *rule.Compiled
	folder string
	key    string // the folder in the pass's position
}

// run goes over the folder from the pass's position. The folder is finished once
// every message that was in it at the beginning is decided, gone, or in the tray.
func (o *overFolder) run(ctx context.Context) error {
	v := o.visit
	if err := v.enter(ctx, o.folder, true); err != nil {
		return err
	}
	if err := o.begin(ctx); err != nil {
		return err
	}
	uids, err := o.uids(ctx, o.pass.Position.UID+1)
	if err != nil {
		return err
	}
	if err := o.leftOver(ctx); err != nil {
		return err
	}
	if err := v.enter(ctx, o.folder, false); err != nil {
		return err
	}
	if err := o.over(ctx, uids); err != nil || o.steer.Asked() != "" {
		return err
	}
	if err := o.again(ctx); err != nil || o.steer.Asked() != "" {
		return err
	}
	return o.finish(ctx)
}

// uids lists the messages of the pass from a UID on.
func (o *overFolder) uids(ctx context.Context, from uint32) ([]uint32, error) {
	at := &o.pass.Position
	if at.Last == 0 || from > at.Last {
		return nil, nil
	}
	q := source.Query{From: max(from, at.First), To: at.Last}
	if o.pass.Since != nil {
		q.Since = *o.pass.Since
	}
	return o.visit.session.UIDs(ctx, q)
}

// begin notes which messages the folder holds, unless that is noted.
func (o *overFolder) begin(ctx context.Context) error {
	v, e := o.visit, o.visit.engine
	at := &o.pass.Position
	if at.Current == o.key && at.Validity == v.state.UIDValidity {
		return nil
	}
	if at.Current == o.key && at.Validity != 0 { // renumbered meanwhile: the folder is gone over again
		if err := e.Store.Passes.RestartFolder(ctx, o.pass, v.mailbox.ID, o.folder); err != nil {
			return err
		}
	}
	q := source.Query{}
	if o.pass.Since != nil {
		q.Since = *o.pass.Since
	}
	uids, err := v.session.UIDs(ctx, q)
	if err != nil {
		return err
	}
	if o.pass.Most > 0 && len(uids) > o.pass.Most {
		uids = uids[len(uids)-o.pass.Most:]
	}
	next := *o.pass
	next.Position = store.Position{Done: at.Done, Current: o.key, Validity: v.state.UIDValidity, Count: len(uids)}
	if at.Current == o.key { // begun by an earlier version, which noted less
		next.Position.UID = at.UID
		next.Position.Decided, _ = slices.BinarySearch(uids, at.UID+1)
	} else {
		next.Total += len(uids)
	}
	if len(uids) > 0 {
		next.Position.First, next.Position.Last = uids[0], uids[len(uids)-1]
	}
	if err := e.Store.Passes.Save(ctx, &next); err != nil {
		return err
	}
	*o.pass = next
	return nil
}

// takes says that only the rule of the pass takes part.
func (o *overFolder) takes(c *rule.Compiled, _ uint32) bool { return c.Rule.ID == o.rule.Rule.ID }

// through moves the pass on, in the commit that keeps what was decided.
func (o *overFolder) through(look *store.Look, uid uint32, n, matched int, _ bool) {
	look.Pass.Position.UID = max(look.Pass.Position.UID, uid)
	look.Pass.Position.Decided += n
	look.Pass.Position.Matched += matched
}

// leftOver files what was planned by this pass and not filed, because the connection ended, or the program.
func (o *overFolder) leftOver(ctx context.Context) error {
	v, e := o.visit, o.visit.engine
	for o.steer.Asked() == "" {
		entries, err := e.Store.Journal.DueOfPass(ctx, v.mailbox.ID, o.pass.ID, e.Clock(), passBatch)
		if err != nil {
			return err
		}
		entries = slices.DeleteFunc(entries, func(en store.Entry) bool { return e.Filer.Working(en.ID) })
		if len(entries) == 0 {
			return nil
		}
		if err := v.batches().fileDue(ctx, entries); err != nil {
			return err
		}
	}
	return nil
}

// pool files what is planned: over one more connection where the account allows it, beside what is read next.
func (o *overFolder) pool(ctx context.Context) (pool *filing.Pool, done func()) {
	v, e := o.visit, o.visit.engine
	s, beside, done := v.session, false, func() {}
	if second := o.second(ctx); second != nil {
		s, beside, done = second.Session, true, func() { second.Close() }
	}
	return e.Filer.NewPool(ctx, s, beside, e.newMail.GiveWay, func(l *reading.Message) { e.Filer.Announce(l.Row) }), done
}

// second opens the folder over one more connection; nil where that cannot be.
func (o *overFolder) second(ctx context.Context) *mailboxes.Connection {
	v, e := o.visit, o.visit.engine
	if v.mailbox.Kind == "pop3" { // POP3 servers lock the mailbox (RFC 1939 section 3)
		return nil
	}
	s, err := e.Mailboxes.Reach(ctx, v.mailbox, connections.Spare)
	if err != nil {
		e.Log.Info("a pass over old mail has one connection only", "mailbox", v.mailbox.Name, "error", err)
		return nil
	}
	if state, err := s.Open(ctx, o.folder); err == nil && state.UIDValidity == v.state.UIDValidity {
		return s
	}
	s.Close()
	return nil
}

// over reads messages in batches, between which the pass can be paused or stopped.
func (o *overFolder) over(ctx context.Context, uids []uint32) (err error) {
	v, e, pass := o.visit, o.visit.engine, o.pass
	if len(uids) == 0 {
		return nil
	}
	pool, done := o.pool(ctx)
	behind, woken := &passes.Behind{}, time.Time{}
	defer func() {
		if kept := behind.Wait(); err == nil {
			err = kept
		}
		if closed := pool.Close(); err == nil { // what is in hand is finished
			err = closed
		}
		done()
		e.Wake(v.mailbox.ID)
	}()
	for len(uids) > 0 {
		if o.steer.Asked() != "" {
			return nil
		}
		size := passBatch
		if pass.PerMinute > 0 {
			size = max(1, min(size, pass.PerMinute/4))
		}
		if pass.FromTime != "" { // where it has to wait, it says so beside its position
			if err := behind.Wait(); err != nil {
				return err
			}
		}
		if !e.allowed(ctx, pass, o.steer) {
			return ctx.Err()
		}
		e.newMail.GiveWay(ctx, time.Second)
		began := e.Clock()
		some := uids[:min(size, len(uids))]
		uids = uids[len(some):]
		b := &batch{pass: pass, own: o.rule, takes: o.takes, through: o.through, pool: pool, behind: behind}
		if err := v.batches().process(ctx, some, b); err != nil {
			return err
		}
		if pass.PerMinute > 0 {
			if err := behind.Wait(); err != nil {
				return err
			}
			if err := pool.Wait(); err != nil {
				return err
			}
		}
		e.Events.Send(events.Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
		if b.follows && time.Since(woken) > betweenWakes { // what is done afterwards is the watcher's
			e.Wake(v.mailbox.ID)
			woken = time.Now()
		}
		if pass.PerMinute > 0 && len(uids) > 0 {
			due := began.Add(time.Duration(len(some)) * time.Minute / time.Duration(pass.PerMinute))
			if !o.steer.Rest(ctx, due.Sub(e.Clock())) {
				return ctx.Err()
			}
		}
	}
	return nil
}

// again reads messages of the folder that could not be read, until each is read or waits in the tray.
func (o *overFolder) again(ctx context.Context) error {
	v, e := o.visit, o.visit.engine
	for {
		rows, err := e.Store.Retries.OfPass(ctx, store.System, o.pass.ID)
		if err != nil {
			return err
		}
		var next *store.Retry
		for i := range rows {
			r := &rows[i]
			if r.State != store.RetryWaiting || r.MailboxID != v.mailbox.ID || r.Folder != o.folder ||
				r.UIDValidity != v.state.UIDValidity {
				continue
			}
			if next == nil || r.NextAt == nil || next.NextAt != nil && r.NextAt.Before(*next.NextAt) {
				next = r
			}
		}
		if next == nil {
			return nil
		}
		if next.NextAt != nil && !o.steer.Rest(ctx, next.NextAt.Sub(e.Clock())) {
			return ctx.Err()
		}
		if err := v.batches().process(ctx, []uint32{next.UID},
			&batch{pass: o.pass, own: o.rule, takes: o.takes, through: o.through}); err != nil {
			return err
		}
	}
}

// finish counts what was decided against what was there. A message that the server
// lists and that has no decision is read once more.
func (o *overFolder) finish(ctx context.Context) error {
	v, e := o.visit, o.visit.engine
	there, err := o.uids(ctx, 1)
	if err != nil {
		return err
	}
	decided, err := e.Store.Passes.DecidedIn(ctx, o.pass.ID, v.mailbox.ID, o.folder, v.state.UIDValidity)
	if err != nil {
		return err
	}
	if missed := slices.DeleteFunc(there, func(uid uint32) bool { return decided[uid] }); len(missed) > 0 {
		e.Log.Warn("messages of a pass are read once more", "pass", o.pass.ID, "folder", o.folder, "messages", len(missed))
		if err := v.batches().process(ctx, missed,
			&batch{pass: o.pass, own: o.rule, takes: o.takes, through: o.through}); err != nil {
			return err
		}
	}
	rows, err := e.Store.Retries.OfPass(ctx, store.System, o.pass.ID)
	if err != nil {
		return err
	}
	next := *o.pass
	next.Unread = len(rows)
	here := 0
	for i := range rows {
		if rows[i].MailboxID == v.mailbox.ID && rows[i].Folder == o.folder && rows[i].UIDValidity == v.state.UIDValidity {
			here++
		}
	}
	next.Gone += max(0, next.Position.Count-next.Position.Decided-here)
	next.Position = store.Position{Done: append(slices.Clone(next.Position.Done), o.key)}
	if err := e.Store.Passes.Save(ctx, &next); err != nil {
		return err
	}
	*o.pass = next
	return nil
}

// allowed waits until a pass may go on at this time of the day. It is false
// where the pass is to end instead.
func (e *Engine) allowed(ctx context.Context, pass *store.Pass, p *passes.Steering) bool {
	hours, err := passes.ParseHours(pass.FromTime, pass.ToTime)
	if err != nil {
		return true // it was checked when the pass began
	}
	for told := false; !hours.Include(e.Now()); {
		if !told {
			pass.Note = fmt.Sprintf("goes on at %s", pass.FromTime)
			if err := e.Store.Passes.Save(ctx, pass); err != nil {
				e.Log.Error("keeping a pass", "error", err)
			}
			e.Events.Send(events.Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
			told = true
		}
		if !p.Rest(ctx, 10*time.Second) {
			return false
		}
	}
	pass.Note = ""
	return true
}
