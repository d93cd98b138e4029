package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// passBatch is how many messages of old mail are planned and filed between two
// moments at which a pass can be paused or stopped.
const passBatch = 50

// Errors that callers tell apart.
var (
	ErrUnderWay = errors.New("old mail of this rule is being filed already")
	ErrEnded    = errors.New("the pass has ended")
)

// oldMail is a running pass over old mail.
type oldMail struct {
	mutex  sync.Mutex
	wanted store.PassState // what a person asked for; "" for going on
}

func (p *oldMail) asked() store.PassState {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.wanted
}

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
	_, err := hours(of.From, of.To)
	return err
}

// FileOldMail begins a pass over the mail that a rule's folders hold already.
func (e *Engine) FileOldMail(of OldMailOf, actor string) (*store.Pass, error) {
	ruleID := of.RuleID
	if err := of.Check(); err != nil {
		return nil, err
	}
	row, err := e.Store.RuleByID(ruleID)
	if err != nil || row.Removed {
		return nil, store.ErrNotFound
	}
	for _, p := range e.underway() {
		if p.RuleID == ruleID {
			return nil, fmt.Errorf("%w: pass %d; stop it first, or wait for its end", ErrUnderWay, p.ID)
		}
	}
	pass := &store.Pass{Kind: "old mail", RuleID: ruleID, MadeBy: actor, State: store.Running, Most: of.Most, PerMinute: of.PerMinute, FromTime: of.From, ToTime: of.To, StartedAt: e.Clock()}
	if !of.Since.IsZero() {
		pass.Since = &of.Since
	}
	if err := e.Store.AddPass(pass); err != nil {
		return nil, err
	}
	e.runPass(pass)
	return pass, nil
}

func (e *Engine) underway() []store.Pass {
	all, err := e.Store.UnfinishedPasses()
	if err != nil {
		e.Log.Error("reading the passes", "error", err)
	}
	return all
}

// SteerPass pauses, stops or goes on with a pass over old mail. What is being
// filed at the moment is finished.
func (e *Engine) SteerPass(v store.Viewer, id int64, wanted store.PassState) error {
	pass, err := e.Store.Pass(v, id)
	if err != nil {
		return err
	}
	if pass.Kind != "old mail" && (pass.Kind != "verification" && pass.Kind != "move" || wanted != store.Stopped) || pass.State == store.Done || pass.State == store.Stopped {
		return fmt.Errorf("%w: pass %d", ErrEnded, id)
	}
	e.mutex.Lock()
	running := e.passes[id]
	e.mutex.Unlock()
	if wanted == store.Running {
		if running == nil {
			pass.State = store.Running
			if err := e.Store.SavePass(&pass); err != nil {
				return err
			}
			e.runPass(&pass)
		}
		return nil
	}
	if running != nil {
		running.mutex.Lock()
		running.wanted = wanted
		running.mutex.Unlock()
		return nil
	}
	ended := e.Clock()
	pass.State, pass.EndedAt = wanted, &ended
	return e.Store.SavePass(&pass)
}

// runPass goes over old mail in the background, from where the pass stands.
func (e *Engine) runPass(pass *store.Pass) {
	ctx, cancel := context.WithCancel(e.ctx)
	p := &oldMail{}
	e.mutex.Lock()
	e.passes[pass.ID] = p
	e.mutex.Unlock()
	e.tasks.Go(func() {
		defer cancel()
		state, note := e.overOldMail(ctx, pass, p)
		e.mutex.Lock()
		delete(e.passes, pass.ID)
		e.mutex.Unlock()
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
			err := e.Store.SavePass(pass)
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
		e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
	})
}

// overOldMail goes over the folders of a rule in every mailbox. A mailbox that
// fails is tried again with growing pauses while the others go on; progress begins
// the pauses again. What is wrong with this machine, such as a full disk, ends no
// pass: it waits.
func (e *Engine) overOldMail(ctx context.Context, pass *store.Pass, p *oldMail) (store.PassState, string) {
	row, err := e.Store.RuleByID(pass.RuleID)
	if err != nil {
		return store.Broken, "the rule is no longer there"
	}
	r, err := e.rule(row.ID, row.Revision)
	if err != nil {
		return store.Broken, "the rule cannot run: " + err.Error()
	}
	mailboxes, err := e.Store.Mailboxes(store.System)
	if err != nil {
		return store.Broken, err.Error()
	}
	mailboxes = slices.DeleteFunc(mailboxes, func(m store.Mailbox) bool { return !r.Rule.Look.Looks(m.Name) })
	var lost []string // mailboxes that cannot be read without a person
	paces := make([]pace, len(mailboxes))
	failures := make([]int, len(mailboxes))
	done := make([]bool, len(mailboxes))
	for {
		left, fewest := 0, 0
		for i := range mailboxes {
			if done[i] {
				continue
			}
			before := pass.Position
			err := e.oldMailOf(ctx, pass, p, r, &mailboxes[i], &paces[i])
			if ctx.Err() != nil {
				return store.Running, ""
			}
			if asked := p.asked(); asked != "" {
				return asked, ""
			}
			if err == nil {
				done[i] = true
				if _, err := e.Store.Settle("pass", noticeOf(pass, &mailboxes[i])); err != nil {
					e.Log.Error("settling a notice", "error", err)
				}
				continue
			}
			if !samePosition(&before, &pass.Position) {
				failures[i] = 0
			}
			failures[i]++
			if whose(ctx, err) != ofMachine && e.givesUp(pass, &mailboxes[i], err, failures[i], &lost) {
				done[i] = true
				continue
			}
			e.notePass(pass, waitsFor(&mailboxes[i], err))
			if left++; left == 1 || failures[i] < fewest {
				fewest = failures[i]
			}
		}
		if left == 0 {
			break
		}
		if !e.rest(ctx, p, e.Pause(fewest-1)) {
			if ctx.Err() != nil {
				return store.Running, ""
			}
			return p.asked(), ""
		}
	}
	if len(lost) > 0 {
		return store.Broken, strings.Join(lost, "; ")
	}
	return store.Done, e.endNote(pass)
}

func samePosition(a, b *store.Position) bool {
	return len(a.Done) == len(b.Done) && a.Current == b.Current && a.UID == b.UID && a.Decided == b.Decided
}

// mostFailures is how often in a row, without any progress, a mailbox may fail
// before a pass goes on without it.
const mostFailures = 20

// noticeOf is the object of the notice about a mailbox that a pass left out.
func noticeOf(pass *store.Pass, m *store.Mailbox) string { return fmt.Sprintf("%d/%s", pass.ID, m.ID) }

// givesUp says whether a pass leaves a mailbox out, and notes why. The tray tells.
func (e *Engine) givesUp(pass *store.Pass, m *store.Mailbox, err error, failures int, lost *[]string) bool {
	var reach *source.Error
	lasting := errors.As(err, &reach) && reach.Lasting
	if !lasting && failures < mostFailures {
		return false
	}
	why := fmt.Sprintf("the mailbox “%s” cannot be read: %s", m.Name, reasonOf(err))
	*lost = append(*lost, why)
	told := e.Store.Tell(&store.Notice{Kind: "pass", Object: noticeOf(pass, m), MailboxID: m.ID, MadeAt: e.Clock(),
		Text:   fmt.Sprintf("Pass %d over old mail stopped before its end: %s.", pass.ID, trimStop(why)),
		Advice: "Check the mailbox, then let the pass go on. It continues where it stopped."})
	if told != nil {
		e.Log.Error("telling of a pass", "error", told)
	}
	e.Log.Warn("a pass over old mail leaves a mailbox out", "pass", pass.ID, "mailbox", m.Name, "error", err)
	e.hub.send(Event{Kind: "tray"})
	return true
}

// waitsFor says what a pass waits for.
func waitsFor(m *store.Mailbox, err error) string {
	if t := store.TroubleOf(err); t != nil {
		return "waits: " + t.Problem
	}
	return fmt.Sprintf("waits for the mailbox “%s”: %s", m.Name, reasonOf(err))
}

// notePass shows what a pass waits for. Where the records cannot keep the note, the
// log has it.
func (e *Engine) notePass(pass *store.Pass, note string) {
	pass.Note = note
	e.Log.Warn("a pass over old mail waits", "pass", pass.ID, "note", note)
	if err := e.Store.SavePass(pass); err != nil {
		e.Log.Error("keeping a pass", "pass", pass.ID, "error", err)
	}
	e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
}

// endNote names the difference between the messages that were there when the pass
// began and those that were decided.
func (e *Engine) endNote(pass *store.Pass) string {
	var parts []string
	if pass.Unread > 0 {
		parts = append(parts, counted(pass.Unread, "message", "messages")+" could not be read and wait in the tray")
	}
	if pass.Gone > 0 {
		parts = append(parts, counted(pass.Gone, "message", "messages")+" left the mailbox before Ink Tray read them")
	}
	return strings.Join(parts, "; ")
}

// oldMailOf goes over one mailbox's folders, with a connection of its own.
func (e *Engine) oldMailOf(ctx context.Context, pass *store.Pass, p *oldMail, r *rule.Compiled, m *store.Mailbox, pace *pace) error {
	s, err := e.Reach(ctx, m)
	if err != nil {
		return err
	}
	defer s.Close()
	pass.Note = ""
	v := &visit{engine: e, mailbox: m, session: s, pace: pace}
	defer v.leave()
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
		if p.asked() != "" {
			return nil
		}
	}
	return nil
}

// overFolder is a pass over one folder.
type overFolder struct {
	visit  *visit
	pass   *store.Pass
	steer  *oldMail
	rule   *rule.Compiled
	folder string
	key    string // the folder in the pass's position
}

// run goes over the folder from where the pass stands. The folder is finished once
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
	if err := o.over(ctx, uids); err != nil || o.steer.asked() != "" {
		return err
	}
	if err := o.again(ctx); err != nil || o.steer.asked() != "" {
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
	if at.Current == o.key && at.Validity != 0 { // numbered anew meanwhile: the folder is gone over again
		if err := e.Store.RestartFolder(o.pass, v.mailbox.ID, o.folder); err != nil {
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
	if err := e.Store.SavePass(&next); err != nil {
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

// over reads messages in batches, between which the pass can be paused or stopped.
func (o *overFolder) over(ctx context.Context, uids []uint32) error {
	v, e, pass := o.visit, o.visit.engine, o.pass
	for len(uids) > 0 {
		if o.steer.asked() != "" {
			return nil
		}
		size := passBatch
		if pass.PerMinute > 0 {
			size = max(1, min(size, pass.PerMinute/4))
		}
		if !e.allowed(ctx, pass, o.steer) {
			return ctx.Err()
		}
		began := e.Clock()
		some := uids[:min(size, len(uids))]
		uids = uids[len(some):]
		if err := v.process(ctx, some, &batch{pass: pass, own: o.rule, takes: o.takes, through: o.through}); err != nil {
			return err
		}
		e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
		e.rouse(v.mailbox.ID) // what is done afterwards is the watcher's
		if pass.PerMinute > 0 && len(uids) > 0 {
			due := began.Add(time.Duration(len(some)) * time.Minute / time.Duration(pass.PerMinute))
			if !e.rest(ctx, o.steer, due.Sub(e.Clock())) {
				return ctx.Err()
			}
		}
	}
	return nil
}

// again reads messages of the folder that could not be read, until each is read
// or waits in the tray.
func (o *overFolder) again(ctx context.Context) error {
	v, e := o.visit, o.visit.engine
	for {
		rows, err := e.Store.RetriesOf(store.System, o.pass.ID)
		if err != nil {
			return err
		}
		var next *store.Retry
		for i := range rows {
			r := &rows[i]
			if r.State != store.RetryWaiting || r.MailboxID != v.mailbox.ID || r.Folder != o.folder || r.UIDValidity != v.state.UIDValidity {
				continue
			}
			if next == nil || r.NextAt == nil || next.NextAt != nil && r.NextAt.Before(*next.NextAt) {
				next = r
			}
		}
		if next == nil {
			return nil
		}
		if next.NextAt != nil && !e.rest(ctx, o.steer, next.NextAt.Sub(e.Clock())) {
			return ctx.Err()
		}
		if err := v.process(ctx, []uint32{next.UID}, &batch{pass: o.pass, own: o.rule, takes: o.takes, through: o.through}); err != nil {
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
	decided, err := e.Store.DecidedIn(o.pass.ID, v.mailbox.ID, o.folder, v.state.UIDValidity)
	if err != nil {
		return err
	}
	if missed := slices.DeleteFunc(there, func(uid uint32) bool { return decided[uid] }); len(missed) > 0 {
		e.Log.Warn("messages of a pass are read once more", "pass", o.pass.ID, "folder", o.folder, "messages", len(missed))
		if err := v.process(ctx, missed, &batch{pass: o.pass, own: o.rule, takes: o.takes, through: o.through}); err != nil {
			return err
		}
	}
	rows, err := e.Store.RetriesOf(store.System, o.pass.ID)
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
	if err := e.Store.SavePass(&next); err != nil {
		return err
	}
	*o.pass = next
	return nil
}

// hours reads a span of the day in minutes from midnight; from and to are equal
// where nothing is limited.
func hours(from, to string) (span [2]int, err error) {
	if from == "" && to == "" {
		return span, nil
	}
	for i, s := range []string{from, to} {
		at, err := time.Parse("15:04", s)
		if err != nil {
			return span, rule.Problems{{Place: []string{"from", "to"}[i], Text: "a time of the day is written as 19:00, and both are needed"}}
		}
		span[i] = at.Hour()*60 + at.Minute()
	}
	if span[0] == span[1] {
		return span, rule.Problems{{Place: "to", Text: "the two times are the same, so there is no time between them"}}
	}
	return span, nil
}

// withinHours says whether a moment lies in a span of the day, which may go over
// midnight.
func withinHours(span [2]int, at time.Time) bool {
	now := at.Hour()*60 + at.Minute()
	if span[0] <= span[1] {
		return span[0] == span[1] || now >= span[0] && now < span[1]
	}
	return now >= span[0] || now < span[1]
}

// allowed waits until a pass may go on at this time of the day. It is false
// where the pass is to end instead.
func (e *Engine) allowed(ctx context.Context, pass *store.Pass, p *oldMail) bool {
	span, err := hours(pass.FromTime, pass.ToTime)
	if err != nil {
		return true // it was checked when the pass began
	}
	for told := false; !withinHours(span, e.now()); {
		if !told {
			pass.Note = fmt.Sprintf("goes on at %s", pass.FromTime)
			if err := e.Store.SavePass(pass); err != nil {
				e.Log.Error("keeping a pass", "error", err)
			}
			e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
			told = true
		}
		if !e.rest(ctx, p, 10*time.Second) {
			return false
		}
	}
	pass.Note = ""
	return true
}

// rest waits, unless the pass is to end.
func (e *Engine) rest(ctx context.Context, p *oldMail, d time.Duration) bool {
	for d > 0 {
		some := min(d, 200*time.Millisecond)
		select {
		case <-ctx.Done():
			return false
		case <-time.After(some):
		}
		if p.asked() != "" {
			return false
		}
		d -= some
	}
	return true
}
