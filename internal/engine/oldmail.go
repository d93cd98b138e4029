package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
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
		if err := e.Store.SavePass(pass); err != nil {
			e.Log.Error("keeping a pass", "error", err)
		}
		e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
	})
}

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
	for i := range mailboxes {
		m := &mailboxes[i]
		if !r.Rule.Look.Looks(m.Name) {
			continue
		}
		for failures := 0; ; {
			err := e.oldMailOf(ctx, pass, p, r, m)
			if err == nil {
				break
			}
			if ctx.Err() != nil {
				return store.Running, ""
			}
			if asked := p.asked(); asked != "" {
				return asked, ""
			}
			failures++
			var reach *source.Error
			if errors.As(err, &reach) && reach.Lasting || failures > mostAttempts {
				return store.Broken, fmt.Sprintf("the mailbox “%s” is out of reach: %v", m.Name, err)
			}
			pass.Note = fmt.Sprintf("waiting for the mailbox “%s”: %v", m.Name, err)
			e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
			select {
			case <-ctx.Done():
			case <-time.After(e.Pause(failures)):
			}
		}
		if asked := p.asked(); asked != "" {
			return asked, ""
		}
	}
	return store.Done, ""
}

// oldMailOf goes over one mailbox's folders, with a connection of its own.
func (e *Engine) oldMailOf(ctx context.Context, pass *store.Pass, p *oldMail, r *rule.Compiled, m *store.Mailbox) error {
	s, err := e.Reach(ctx, m)
	if err != nil {
		return err
	}
	defer s.Close()
	pass.Note = ""
	v := &visit{engine: e, mailbox: m, session: s}
	defer v.leave()
	folders, _, err := v.lookedInto(ctx, r)
	if err != nil {
		return err
	}
	for _, folder := range folders {
		key := m.ID + "/" + folder
		if slices.Contains(pass.Position.Done, key) {
			continue
		}
		if err := v.enter(ctx, folder, true); err != nil {
			return err
		}
		q := source.Query{}
		if pass.Since != nil {
			q.Since = *pass.Since
		}
		uids, err := s.UIDs(ctx, q)
		if err != nil {
			return err
		}
		if pass.Most > 0 && len(uids) > pass.Most {
			uids = uids[len(uids)-pass.Most:]
		}
		if pass.Position.Current != key {
			pass.Position.Current, pass.Position.UID = key, 0
			pass.Total += len(uids)
		}
		uids = slices.DeleteFunc(uids, func(u uint32) bool { return u <= pass.Position.UID })
		for len(uids) > 0 {
			if p.asked() != "" {
				return nil
			}
			size := passBatch
			if pass.PerMinute > 0 {
				size = max(1, min(size, pass.PerMinute/4))
			}
			if !e.allowed(ctx, pass, p) {
				return ctx.Err()
			}
			began := e.Clock()
			some := uids[:min(size, len(uids))]
			uids = uids[len(some):]
			err := v.process(ctx, some, &batch{pass: pass, own: r, advance: func() { pass.Position.UID = some[len(some)-1] }, takes: func(c *rule.Compiled, _ uint32) bool { return c.Rule.ID == r.Rule.ID }})
			if err != nil {
				return err
			}
			e.hub.send(Event{Kind: "pass", ID: strconv.FormatInt(pass.ID, 10)})
			e.rouse(m.ID) // what is done afterwards is the watcher's
			if pass.PerMinute > 0 && len(uids) > 0 {
				due := began.Add(time.Duration(len(some)) * time.Minute / time.Duration(pass.PerMinute))
				if !e.rest(ctx, p, due.Sub(e.Clock())) {
					return ctx.Err()
				}
			}
		}
		pass.Position.Done = append(pass.Position.Done, key)
		pass.Position.Current = ""
	}
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
