package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/turn"
)

const (
	batchSize     = turn.MostAtOnce  // messages planned and committed at once
	fewSmallest   = 4                // messages read beside the others before it is asked again which are the smallest
	firstLook     = 200              // messages known from a folder's first look, for rehearsals
	longestIdle   = 10 * time.Minute // before IDLE is renewed, well within RFC 2177's 29 minutes
	announcedLook = 5 * time.Minute  // between looks into a folder in which the server announces
	soonAfter     = 2 * time.Second  // after anything happened: servers may not announce what came between a look and IDLE
	lookAgain     = 15 * time.Minute // how long a look may go unrecorded
)

// Status is how a mailbox does.
type Status = mailboxes.Status

// watcher watches one mailbox.
type watcher struct {
	engine  *Engine
	mailbox string
	cancel  context.CancelFunc
	done    chan struct{}
	wake    chan struct{}
	now     chan struct{} // somebody asks to try the mailbox now
	pace    turn.Pace
	gaveUp  time.Time        // when a connection was last given up for others; only run's
	slow    [2]chan struct{} // something is to be read or filed in the side lane, in the last lane

	mutex sync.Mutex
	state Status
	last  store.Lane // the last lane for which the server allows a connection
}

func (w *watcher) status() Status {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.state
}

func (w *watcher) set(s Status) {
	w.mutex.Lock()
	changed := w.state.State != s.State || w.state.Problem != s.Problem
	if !changed {
		s.Since = w.state.Since
	}
	w.state = s
	w.mutex.Unlock()
	if changed {
		w.engine.Events.Send(events.Event{Kind: "mailbox", ID: w.mailbox, Mailbox: w.mailbox})
	}
}

// rouse lets the mailbox be looked into now, and what takes long be worked on.
func (w *watcher) rouse() {
	signal(w.wake)
	w.beside()
}

// signal wakes who waits, unless that was done already.
func signal(wake chan struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}

// run connects again and again, until ctx ends. The pauses grow with the failures
// in a row; a connection over which anything was read or done begins them again.
func (w *watcher) run(ctx context.Context) {
	e := w.engine
	for failures := 0; ctx.Err() == nil; {
		progress, err := w.session(ctx)
		if ctx.Err() != nil {
			return
		}
		if progress {
			failures = 0
		}
		if errors.Is(err, connections.ErrTurn) {
			w.gaveUp = e.Clock()
			w.set(Status{State: mailboxes.InTurns, Since: e.Clock(), Looked: w.status().Looked})
			continue
		}
		failures++
		s := mailboxes.StatusAfter(ctx, err, e.Clock(), w.status().Looked)
		ours := s.State == mailboxes.Waits
		w.set(s)
		if !ours {
			if err := e.Store.Alarms.BeginOutage(ctx, "mailbox", w.mailbox, e.Clock()); err != nil {
				e.Log.Error("recording what is out of reach", "error", err)
			}
		}
		e.Log.Warn("a mailbox cannot be watched", "mailbox", w.mailbox, "error", err, "failures", failures)
		if !ours && (s.Lasting || failures >= 3) {
			w.tell(ctx, s)
		}
		select {
		case <-ctx.Done():
		case <-time.After(e.Mailboxes.PauseAfter(err, failures-1)):
		case <-w.now:
		}
	}
}

func (w *watcher) tell(ctx context.Context, s Status) {
	e := w.engine
	m, err := e.Store.Mailboxes.ByID(ctx, store.System, w.mailbox)
	if err != nil {
		return
	}
	n := store.Notice{Kind: "mailbox", Object: w.mailbox, MailboxID: w.mailbox, MadeAt: e.Clock(),
		Text:   s.Told(m.Name),
		Advice: strings.TrimSpace(s.Advice + " Once it is back, Ink Tray files what arrived meanwhile.")}
	if s.SignIn {
		n.Kind = "consent"
	}
	err = e.Store.Tray.Tell(ctx, &n)
	if err != nil {
		e.Log.Error("telling of a mailbox", "error", err)
	}
	e.Events.Send(events.Event{Kind: "tray"})
}

// session watches over one connection, until it fails. progress says whether a
// look was completed or a message was read over it.
func (w *watcher) session(ctx context.Context) (progress bool, err error) {
	e := w.engine
	m, err := e.Store.Mailboxes.ByID(ctx, store.System, w.mailbox)
	if err != nil {
		return false, err
	}
	s, err := e.Mailboxes.Reach(ctx, &m, connections.Watch)
	if err != nil {
		return false, err
	}
	defer s.Close()
	defer func() { e.Mailboxes.Slowed(&m, err) }()
	e.arrived(m.ID)
	for _, kind := range []string{"mailbox", "consent"} {
		if settled, err := e.Store.Tray.Settle(ctx, kind, m.ID); err != nil {
			return false, err
		} else if settled {
			e.Events.Send(events.Event{Kind: "tray"})
		}
	}
	if err := e.Store.Alarms.EndOutage(ctx, "mailbox", m.ID); err != nil {
		return false, err
	}
	v := &visit{engine: e, mailbox: &m, session: s.Session, wake: w.wake, pace: &w.pace,
		allowance: turn.NewAllowance(e.Patience)}
	defer v.hand.Leave()
	defer func() { progress = progress || v.worked > 0 }()
	rested := false // nothing happened for a while, and nothing was to be done
	for announced := (source.Event{}); ; {
		before := v.worked
		w.lanes(v)
		if err := v.news(ctx, announced); err != nil {
			return progress, err
		}
		if err := v.work(ctx, announced.Moment()); err != nil {
			return progress, err
		}
		progress = true
		rested = rested && v.worked == before
		status := Status{State: mailboxes.Live, Since: e.Clock(), Looked: e.Clock()}
		if !s.Pushes() {
			status.State = mailboxes.AtInterval
		}
		if e.Clock().Sub(w.gaveUp) < lookAgain {
			status.State = mailboxes.InTurns
		}
		w.set(status)
		longest, err := v.longest(ctx, rested)
		if err != nil {
			return progress, err
		}
		began := e.Clock()
		if announced, err = s.Wait(ctx, longest, w.wake); err != nil {
			return progress, err
		}
		rested = announced.At.IsZero() && e.Clock().Sub(began) >= longest
	}
}

// longest is how long to wait for an announcement before the next look.
func (v *visit) longest(ctx context.Context, rested bool) (time.Duration, error) {
	e := v.engine
	var err error
	if v.heard, err = listen(ctx, v); err != nil {
		return 0, err
	}
	longest := min(v.interval(), longestIdle)
	if v.session.Pushes() && len(v.folders) == 1 && !v.expects { // all is announced; but an announcement can be missed
		longest = max(longest, announcedLook)
	}
	if !rested && v.session.Pushes() {
		longest = min(longest, soonAfter)
	}
	underway := e.passes.IDs()
	for _, next := range []func() (time.Time, bool, error){
		func() (time.Time, bool, error) {
			return e.Store.Journal.NextDue(ctx, v.mailbox.ID, underway, v.lane)
		},
		func() (time.Time, bool, error) {
			return e.Store.Retries.Next(ctx, v.mailbox.ID, underway, v.lane)
		},
		func() (time.Time, bool, error) { return e.Store.FollowUps.Next(ctx, v.mailbox.ID) },
	} {
		due, waits, err := next()
		if err != nil {
			return 0, err
		}
		if waits {
			longest = min(longest, max(due.Sub(e.Clock()), 50*time.Millisecond))
		}
	}
	return longest, nil
}

// visit is a watcher's work over one connection. The first of its folders is
// the one on which the server announces.
type visit struct {
	engine  *Engine
	mailbox *store.Mailbox
	session source.Session
	wake    chan struct{}

	listed    []source.Folder
	looks     map[string][]string // the folders that a rule looks into, by its id and revision
	met       map[string]bool     // rules all of whose folders were looked into once, by id and revision
	folders   []string
	swept     time.Time    // when all of the folders were looked through
	planned   int          // messages so far
	worked    int          // messages and follow-ups so far
	seen      source.State // of the first folder when it was looked through
	open      string
	state     source.State
	hand      fault.Hand // names what is being read
	pace      *turn.Pace
	patience  time.Duration   // of other new messages: what takes longer is left for the watcher beside; 0 where none wait
	allowance *turn.Allowance // how that is shared out among several messages; nil where each may take all of it
	lane      store.Lane      // what is tried again here
	slow      bool            // something was left for the watcher beside
	shared    bool            // a rule looks into a folder of others
	heard     bool            // the server announces what comes into any folder
	expects   bool            // a rule waits for a folder that is not there, or looks into folders that it does not name
}

// interval is how often folders are looked into that the server does not announce.
func (v *visit) interval() time.Duration {
	if v.heard {
		return longestIdle // an announcement can be missed
	}
	return time.Duration(max(v.mailbox.IntervalSeconds, 1)) * time.Second
}

// work does what is due, and goes back to the folder on which the server announces.
func (v *visit) work(ctx context.Context, announced *time.Time) error {
	for {
		if err := v.due(ctx); err != nil {
			return err
		}
		if err := v.retry(ctx); err != nil {
			return err
		}
		if err := v.follow(ctx); err != nil {
			return err
		}
		if err := v.tidy(ctx); err != nil {
			return err
		}
		if v.open == v.folders[0] && v.state == v.seen {
			return nil
		}
		before := v.planned
		if err := v.folder(ctx, v.folders[0], announced); err != nil || v.planned == before { // filing had to open another
			return err
		}
	}
}

// news looks at what has come, in every folder that rules watch. What was announced is looked at alone: the other
// folders have their time.
func (v *visit) news(ctx context.Context, announced source.Event) error {
	moment := announced.Moment()
	if moment != nil {
		v.engine.newMail.Begin() // from the announcement on the others give way
		defer v.engine.newMail.End()
	}
	all := moment == nil || announced.All || v.engine.Clock().Sub(v.swept) >= v.interval()
	for folder := range announced.Folders { // one that was made just now is found among all of them
		all = all || v.expects && !slices.Contains(v.folders, folder)
	}
	if all {
		return v.sweep(ctx, moment)
	}
	for _, folder := range v.folders[1:] {
		if !announced.Folders[folder] {
			continue
		}
		if err := v.folder(ctx, folder, moment); err != nil && !v.passesOver(folder, err) {
			return err
		}
	}
	return v.folder(ctx, v.folders[0], moment)
}

// listen has the server announce what comes into any folder, where there is more than one. It says whether the server
// announces all that rules look at: folders of others are not announced.
func listen(ctx context.Context, v *visit) (all bool, err error) {
	h, ok := v.session.(source.Herald)
	if !ok || len(v.folders) < 2 && !v.expects {
		return false, nil
	}
	labels := len(v.engine.Office.Settings().LabelsIn(v.mailbox.Name)) > 0
	if err := h.Announce(ctx, labels); err != nil {
		return false, err
	}
	return h.Announces() && !v.shared, nil
}

// sweep looks through every folder that rules watch.
func (v *visit) sweep(ctx context.Context, announced *time.Time) error {
	rules := v.engine.Office.Settings().Rules
	if err := v.places(ctx, rules); err != nil {
		return err
	}
	began := v.engine.Clock()
	quiet, err := v.quiet(ctx)
	if err != nil {
		return err
	}
	looked, err := restoredVisit{v}.takeUpMoved(ctx)
	if err != nil {
		return err
	}
	for i := len(v.folders) - 1; i >= 0; i-- { // the first one last: it stays open for waiting
		if quiet[v.folders[i]] {
			continue
		}
		err := v.folder(ctx, v.folders[i], announced)
		if err != nil && (i == 0 || !v.passesOver(v.folders[i], err)) {
			return err
		}
	}
	if err := looked(); err != nil {
		return err
	}
	v.swept = v.engine.Clock()
	return v.meet(ctx, rules, began)
}

// passesOver says whether only a folder cannot be looked into, so that the others are. The folders are asked for again.
func (v *visit) passesOver(folder string, err error) bool {
	var gone *source.Error
	if !errors.As(err, &gone) || gone.Step != source.Folders {
		return false
	}
	v.engine.Log.Warn("a folder cannot be looked into", "folder", folder, "error", err)
	v.relist()
	return true
}

// meet records when the folders of rules were all looked into for the first time. A folder that Ink Tray sees only
// after that moment must have been made later, so its messages are new.
func (v *visit) meet(ctx context.Context, rules []*rule.Compiled, began time.Time) error {
	met := map[string]bool{}
	for _, r := range rules {
		if wide(&r.Rule.Look) && r.Rule.Look.Looks(v.mailbox.Name) {
			met[version(r)] = true
		}
	}
	before := v.met
	v.met = met
	for one := range met {
		if before[one] {
			continue
		}
		inbox, err := v.engine.Store.Mailboxes.Folder(ctx, v.mailbox.ID, "INBOX")
		if err != nil {
			return err
		}
		inbox.LookedAt = began
		return v.engine.Store.Messages.Commit(ctx, store.Look{Folder: &inbox})
	}
	return nil
}

// wide says whether a rule looks into folders that it does not name.
func wide(l *rule.Look) bool { return l.Subfolders || l.Every() }

// version names a rule as it is now.
func version(r *rule.Compiled) string { return fmt.Sprintf("%s/%d", r.Rule.ID, r.Revision) }

// relist lets the folders be asked for again.
func (v *visit) relist() { v.listed, v.looks = nil, nil }

// tidy takes messages off a server that are to be left there for some days only, once
// nothing of them waits.
func (v *visit) tidy(ctx context.Context) error {
	t, ok := v.session.(source.Tidier)
	days := v.mailbox.Particulars.LeaveDays
	if !ok || days == 0 || v.open == "" {
		return nil
	}
	if steady, err := v.engine.clock.Steady(ctx); err != nil || !steady {
		return err
	}
	settled, err := v.engine.Store.Messages.LongSettled(ctx, v.mailbox.ID, v.open, v.state.UIDValidity,
		v.engine.Clock().AddDate(0, 0, -days))
	if err != nil || len(settled) == 0 {
		return err
	}
	there, err := v.session.UIDs(ctx, source.Query{})
	if err != nil {
		return err
	}
	settled = slices.DeleteFunc(settled, func(uid uint32) bool { return !slices.Contains(there, uid) })
	if len(settled) == 0 {
		return nil
	}
	v.engine.Log.Info("messages are taken off the server", "mailbox", v.mailbox.Name, "messages", len(settled))
	return t.Tidy(ctx, settled)
}

// quiet names folders in which nothing has changed since the last look, asked all
// at once. The one in which the server announces is none of them.
func (v *visit) quiet(ctx context.Context) (map[string]bool, error) {
	g, ok := v.session.(source.Glancer)
	if !ok || len(v.folders) < 2 {
		return nil, nil
	}
	states, err := g.Glance(ctx, v.folders[1:])
	if err != nil {
		return nil, err
	}
	labels := len(v.engine.Office.Settings().LabelsIn(v.mailbox.Name)) > 0
	rows, err := v.engine.Store.Mailboxes.FoldersOf(ctx, v.mailbox.ID)
	if err != nil {
		return nil, err
	}
	quiet := map[string]bool{}
	for _, row := range rows {
		now := states[row.Path]
		// Without mod-sequences a label that was put on shows in nothing else.
		quiet[row.Path] = row.UIDValidity == now.UIDValidity && now.UIDNext > 0 && row.UIDNext == now.UIDNext &&
			(!labels || now.ModSeq > 0 && row.ModSeq == now.ModSeq)
	}
	return quiet, nil
}

// sameNumbering finds a new folder with the UIDVALIDITY and UIDNEXT of a folder that is gone, which was probably
// renamed.
func (v *visit) sameNumbering(ctx context.Context, validity, next uint32) string {
	g, ok := v.session.(source.Glancer)
	if !ok {
		return ""
	}
	var paths []string
	for _, f := range v.listed {
		if f.Selectable && !f.Shared {
			paths = append(paths, f.Path)
		}
	}
	states, err := g.Glance(ctx, paths)
	if err != nil {
		return ""
	}
	for path, state := range states {
		if state.UIDValidity == validity && state.UIDNext >= next {
			if _, err := v.engine.Store.Mailboxes.Folder(ctx, v.mailbox.ID, path); errors.Is(err, store.ErrNotFound) {
				return path
			}
		}
	}
	return ""
}

// enter opens a folder unless it is open. fresh asks the server again.
func (v *visit) enter(ctx context.Context, folder string, fresh bool) error {
	if v.open == folder && !fresh {
		return nil
	}
	state, err := v.session.Open(ctx, folder)
	if err != nil {
		v.open = ""
		return err
	}
	v.open, v.state = folder, state
	return nil
}

// places finds the folders to look into: the inbox, for it is there that
// rehearsals look, and those that rules name by path or role. A rule gets a start
// mark in each of its folders; where a folder is not there, the mark waits for it.
func (v *visit) places(ctx context.Context, rules []*rule.Compiled) error {
	folders := []string{"INBOX"}
	if slices.ContainsFunc(rules, func(r *rule.Compiled) bool {
		return r.Rule.Look.Looks(v.mailbox.Name) && wide(&r.Rule.Look)
	}) {
		v.relist() // folders may have been made since
	}
	v.expects = false
	again := false // the folders are asked for again at the next look
	for _, r := range rules {
		if !r.Rule.Look.Looks(v.mailbox.Name) {
			continue
		}
		paths, gone, err := v.lookedInto(ctx, r)
		if err != nil {
			return err
		}
		v.expects = v.expects || wide(&r.Rule.Look) || len(gone) > 0
		again = again || len(gone) > 0
		if err := v.await(ctx, r, gone); err != nil {
			return err
		}
		for _, path := range paths {
			if !slices.Contains(folders, path) {
				folders = append(folders, path)
			}
		}
		if err := v.mark(ctx, r, paths); err != nil {
			return err
		}
	}
	v.folders = folders
	v.shared = slices.ContainsFunc(v.listed,
		func(f source.Folder) bool { return f.Shared && slices.Contains(folders, f.Path) })
	if again {
		v.relist()
	}
	return nil
}

// await makes a notice for each folder that a rule names and the mailbox does not have, and notes that the rule waits
// for it. It removes the notices of folders that exist now.
func (v *visit) await(ctx context.Context, r *rule.Compiled, gone []string) error {
	e := v.engine
	for _, name := range gone {
		if err := e.Store.Rules.AwaitFolder(ctx, r.Rule.ID, store.Place{MailboxID: v.mailbox.ID, Folder: name},
			e.Clock().UTC()); err != nil {
			return err
		}
		if err := v.tellGone(ctx, r, name); err != nil {
			return err
		}
	}
	for _, name := range r.Rule.Look.In() {
		if slices.Contains(gone, name) {
			continue
		}
		if _, err := e.Store.Tray.Settle(ctx, "folder", v.mailbox.ID+"/"+name); err != nil {
			return err
		}
	}
	return nil
}

// mark gives a rule its start marks in folders where it has none.
func (v *visit) mark(ctx context.Context, r *rule.Compiled, paths []string) error {
	e := v.engine
	marks, err := v.marks(ctx)
	if err != nil {
		return err
	}
	for _, name := range r.Rule.Look.In() { // a folder that the rule waited for, by its role or in other letters
		was, waits := marks[r.Rule.ID+"\x00"+name]
		if !waits || !was.Awaited {
			continue
		}
		path, err := v.find(ctx, name)
		if err != nil {
			return err
		}
		for _, at := range paths {
			if _, there := marks[r.Rule.ID+"\x00"+at]; there ||
				!(at == path || r.Rule.Look.Subfolders && strings.HasPrefix(at, path+"/") || path == "" &&
					strings.HasPrefix(strings.ToLower(at), strings.ToLower(name)+"/")) {
				continue
			}
			if err := e.Store.Rules.AwaitFolder(ctx, r.Rule.ID, store.Place{MailboxID: v.mailbox.ID, Folder: at},
				was.MadeAt); err != nil {
				return err
			}
		}
	}
	if marks, err = v.marks(ctx); err != nil {
		return err
	}
	for _, path := range paths {
		if _, there := marks[r.Rule.ID+"\x00"+path]; there {
			continue
		}
		began, err := v.beganToLook(ctx, r, path)
		if err != nil {
			return err
		}
		if err := e.Store.Rules.AddMarks(ctx, r.Rule.ID, []store.Place{{MailboxID: v.mailbox.ID, Folder: path}},
			began); err != nil {
			return err
		}
	}
	return nil
}

// beganToLook is since when a rule looks into a folder: since it was switched on,
// since the mailbox was added, or since the change by which the rule looks there,
// whichever came last.
func (v *visit) beganToLook(ctx context.Context, r *rule.Compiled, folder string) (time.Time, error) {
	e, m := v.engine, v.mailbox
	began := m.MadeAt
	listed, err := v.list(ctx)
	if err != nil {
		return began, err
	}
	row, err := e.Store.Rules.ByID(ctx, r.Rule.ID)
	if err != nil {
		return began, err
	}
	if row.OnAt != nil && row.OnAt.After(began) {
		began = *row.OnAt
	}
	revisions, err := e.Store.Rules.Revisions(ctx, r.Rule.ID)
	if err != nil {
		return began, err
	}
	since := time.Time{}
	for i := range revisions { // the newest first
		document, err := rule.ParseRule([]byte(revisions[i].Document))
		if err != nil || !document.Look.Looks(m.Name) || !document.Look.LooksInto(listed, folder) {
			break
		}
		since = revisions[i].MadeAt
	}
	if since.After(began) {
		began = since
	}
	return began.UTC(), nil
}

// tellGone tells that a folder is not there that a rule looks into. A folder with
// the same numbering is the same one under another name.
func (v *visit) tellGone(ctx context.Context, r *rule.Compiled, name string) error {
	e := v.engine
	n := &store.Notice{Kind: "folder", Object: v.mailbox.ID + "/" + name, MailboxID: v.mailbox.ID, MadeAt: e.Clock(),
		Text: fmt.Sprintf("The rule “%s” looks into the folder “%s” of “%s”, which is not there.", r.Rule.Name, name,
			v.mailbox.Name),
		Advice: "Make the folder in the mail program, or correct it in the rule."}
	if was, err := e.Store.Mailboxes.Folder(ctx, v.mailbox.ID, name); err == nil {
		if now := v.sameNumbering(ctx, was.UIDValidity, was.UIDNext); now != "" {
			n.Text = fmt.Sprintf("The folder “%s” of “%s” was renamed: it seems to be “%s” now. The rule “%s” looks for it "+
				"under its former name.", name, v.mailbox.Name, now, r.Rule.Name)
			n.Advice = "Correct the folder in the rule. To file what arrived meanwhile, let the rule file old mail."
		}
	}
	return e.Store.Tray.Tell(ctx, n)
}

// list gives the mailbox's folders, asking the server once. Folders whose names
// cannot be read are told.
func (v *visit) list(ctx context.Context) ([]source.Folder, error) {
	if v.listed != nil {
		return v.listed, nil
	}
	listed, err := v.session.Folders(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	v.listed = make([]source.Folder, 0, len(listed))
	for _, f := range listed {
		if f.Unreadable {
			names = append(names, f.Path)
			continue
		}
		v.listed = append(v.listed, f)
	}
	if err := v.engine.Store.Mailboxes.SaveListing(ctx, v.mailbox.ID, v.listed); err != nil {
		return nil, err
	}
	return v.listed, v.tellUnreadable(ctx, names)
}

// tellUnreadable tells of folders whose names cannot be read, or settles that.
func (v *visit) tellUnreadable(ctx context.Context, names []string) error {
	e := v.engine
	if len(names) == 0 {
		_, err := e.Store.Tray.Settle(ctx, "folder name", v.mailbox.ID)
		return err
	}
	text := fmt.Sprintf("The mailbox “%s” has a folder whose name Ink Tray cannot read: %s. No rule looks into it.",
		v.mailbox.Name, phrase.List(names, 5))
	if len(names) > 1 {
		text = fmt.Sprintf("The mailbox “%s” has folders whose names Ink Tray cannot read: %s. No rule looks into them.",
			v.mailbox.Name, phrase.List(names, 5))
	}
	return e.Store.Tray.Tell(
		ctx,
		&store.Notice{Kind: "folder name", Object: v.mailbox.ID, MailboxID: v.mailbox.ID,
			MadeAt: e.Clock(), Text: text, Advice: "Rename it in the mail program."},
	)
}

// find gives a folder's path by its path or role, "" where there is none.
func (v *visit) find(ctx context.Context, name string) (string, error) {
	if strings.EqualFold(name, "inbox") {
		return "INBOX", nil
	}
	listed, err := v.list(ctx)
	return mail.FindFolder(listed, name), err
}

// lookedInto gives the folders that a rule looks into, and the names of those that
// are not there.
func (v *visit) lookedInto(ctx context.Context, r *rule.Compiled) (paths, missing []string, err error) {
	l := &r.Rule.Look
	if !l.Subfolders && len(l.Folders) == 0 { // nothing has to be asked
		return []string{"INBOX"}, nil, nil
	}
	key := version(r)
	if paths, ok := v.looks[key]; ok {
		return paths, nil, nil
	}
	listed, err := v.list(ctx)
	if err != nil {
		return nil, nil, err
	}
	paths, missing = l.Resolve(listed)
	if len(missing) == 0 {
		if v.looks == nil {
			v.looks = map[string][]string{}
		}
		v.looks[key] = paths
	}
	return paths, missing, nil
}

// marks are the mailbox's start marks by rule and folder.
func (v *visit) marks(ctx context.Context) (map[string]store.StartMark, error) {
	list, err := v.engine.Store.Rules.Marks(ctx, v.mailbox.ID)
	marks := map[string]store.StartMark{}
	for _, m := range list {
		marks[m.RuleID+"\x00"+m.Folder] = m
	}
	return marks, err
}

// folder looks through what came into a folder since the last look.
func (v *visit) folder(ctx context.Context, folder string, announced *time.Time) error {
	e := v.engine
	if err := v.enter(ctx, folder, true); err != nil {
		return err
	}
	if folder == v.folders[0] {
		v.seen = v.state
	}
	marks, err := v.marks(ctx)
	if err != nil {
		return err
	}
	row, err := e.Store.Mailboxes.Folder(ctx, v.mailbox.ID, folder)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return v.meetings().first(ctx, folder, marks)
	case err != nil:
		return err
	case row.UIDValidity != v.state.UIDValidity:
		return v.meetings().renumbered(ctx, row, marks)
	}
	for _, m := range marks {
		if m.Folder == folder && m.Awaited && m.UIDValidity == row.UIDValidity { // it was away for a while, and is the same
			if err := e.Store.Rules.EndAwaiting(ctx, store.Place{MailboxID: v.mailbox.ID, Folder: folder}); err != nil {
				return err
			}
			break
		}
	}
	if v.state.UIDNext > row.UIDNext {
		uids, err := v.session.UIDs(ctx, source.Query{From: row.UIDNext})
		if err != nil {
			return err
		}
		if len(uids) > 0 {
			err = v.batches().process(ctx, uids, &batch{announced: announced, pass: v.livePass(), takes: v.byMarks(marks),
				through: func(look *store.Look, uid uint32, _, _ int, last bool) {
					row.UIDNext, row.LookedAt = uid+1, e.Clock()
					if last {
						row.UIDNext = max(row.UIDNext, v.state.UIDNext)
					}
					now := row
					look.Folder = &now
				}})
			if err != nil {
				return err
			}
		}
	}
	if err := v.relabelled(ctx, &row, announced); err != nil {
		return err
	}
	if e.Clock().Sub(row.LookedAt) > lookAgain {
		row.LookedAt, row.ModSeq = e.Clock(), max(row.ModSeq, v.state.ModSeq)
		return e.Store.Messages.Commit(ctx, store.Look{Folder: &row})
	}
	return nil
}

// livePass is a pass over new mail.
func (v *visit) livePass() *store.Pass {
	return &store.Pass{Kind: "live", MailboxID: v.mailbox.ID, MadeBy: store.System.Name}
}

// byMarks says which rules take a message of the open folder: those whose start
// mark is before it.
func (v *visit) byMarks(marks map[string]store.StartMark) func(*rule.Compiled, uint32) bool {
	folder, validity := v.open, v.state.UIDValidity
	return func(r *rule.Compiled, uid uint32) bool {
		m, ok := marks[r.Rule.ID+"\x00"+folder]
		return ok && m.UIDValidity == validity && uid >= m.UIDNext
	}
}

// retry reads messages again that could not be read before.
func (v *visit) retry(ctx context.Context) error {
	e := v.engine
	most, last := batchSize, time.Duration(0)
	if v.lane == store.SideLane {
		most = fewSmallest // smaller ones can come meanwhile
	}
	for {
		rows, err := e.Store.Retries.Due(ctx, v.mailbox.ID, e.Clock(), e.passes.IDs(), v.lane, most)
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			v.giveWay(ctx, last)
			began := time.Now()
			if err := v.retryOne(ctx, &rows[i]); err != nil {
				return err
			}
			last = time.Since(began)
		}
	}
}

// retryOne reads one message again.
func (v *visit) retryOne(ctx context.Context, r *store.Retry) error {
	e := v.engine
	err := v.enter(ctx, r.Folder, false)
	var gone *source.Error
	if errors.As(err, &gone) && gone.Step == source.Folders && gone.Lasting {
		return e.Store.Retries.Drop(ctx, r.ID) // the folder is gone, and the message with it
	}
	if err != nil {
		return err
	}
	if v.state.UIDValidity != r.UIDValidity {
		if v.folders != nil && r.State == store.RetryWaiting && slices.Contains(v.folders, r.Folder) {
			return v.folder(ctx, r.Folder, nil) // all of it is decided under the new numbers
		}
		return e.Store.Retries.Fail(ctx, r.ID, reason.RenumberedUnread(), e.Clock())
	}
	marks, err := v.marks(ctx)
	if err != nil {
		return err
	}
	b := &batch{announced: r.AnnouncedAt, pass: v.livePass(), retried: true}
	byMarks := v.byMarks(marks)
	b.takes = func(c *rule.Compiled, uid uint32) bool {
		return slices.Contains(r.Rules, c.Rule.ID) || slices.Contains(r.Rules, store.ByStartMarks) && byMarks(c, uid)
	}
	if r.PassID > 0 { // the rule of a pass files old mail though it is off
		pass, err := e.Store.Passes.ByID(ctx, store.System, r.PassID)
		switch {
		case err == nil:
			b.pass = &pass
			if row, err := e.Store.Rules.ByID(ctx, pass.RuleID); err == nil && !row.Removed {
				if b.own, err = e.Office.Rule(ctx, row.ID, row.Revision); err != nil {
					return err
				}
			}
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
	}
	return v.batches().process(ctx, []uint32{r.UID}, b)
}

// relabelled looks at messages on which a label was put that a rule asks for,
// however old they are.
func (v *visit) relabelled(ctx context.Context, row *store.Folder, announced *time.Time) error {
	e := v.engine
	var labels []string
	asking := map[string]bool{}
	for _, r := range e.Office.Settings().Rules {
		if l := r.Rule.Labels(); len(l) > 0 && r.Rule.Look.Looks(v.mailbox.Name) {
			labels = append(labels, l...)
			asking[r.Rule.ID] = true
		}
	}
	since := row.ModSeq
	row.ModSeq = max(row.ModSeq, v.state.ModSeq)
	if len(labels) == 0 {
		return nil
	}
	var uids []uint32
	var err error
	if since > 0 && v.state.ModSeq > 0 {
		uids, err = v.session.Changed(ctx, since)
	} else {
		uids, err = v.session.UIDs(ctx, source.Query{Keywords: labels})
	}
	if err != nil {
		return err
	}
	uids = slices.DeleteFunc(uids, func(u uint32) bool { return u >= row.UIDNext })
	if uids, err = v.newlyLabelled(ctx, uids, labels); err != nil || len(uids) == 0 {
		return err
	}
	row.LookedAt = e.Clock()
	return v.batches().process(ctx, uids, &batch{announced: announced, pass: v.livePass(),
		takes: func(r *rule.Compiled, _ uint32) bool { return asking[r.Rule.ID] },
		through: func(look *store.Look, _ uint32, _, _ int, last bool) {
			if last { // before that, some of them would not be asked for again
				look.Folder = row
			}
		}})
}

// newlyLabelled keeps the messages on which one of the labels was not when they
// were last seen: what Ink Tray put on itself wakes nothing, nor does becoming
// unread.
func (v *visit) newlyLabelled(ctx context.Context, uids []uint32, labels []string) ([]uint32, error) {
	e := v.engine
	var news []uint32
	for len(uids) > 0 {
		some := uids[:min(batchSize, len(uids))]
		uids = uids[len(some):]
		facts, unread, err := v.facts(ctx, some)
		if err != nil {
			return nil, err
		}
		news = append(news, unread...)
		known, err := e.Store.Messages.ByUID(ctx, v.mailbox.ID, v.open, v.state.UIDValidity, some)
		if err != nil {
			return nil, err
		}
		changed := map[int64][]string{}
		for i := range facts {
			f := &facts[i]
			before, seen := known[f.UID]
			has := func(flags []string, label string) bool {
				return slices.ContainsFunc(flags, func(x string) bool { return strings.EqualFold(x, label) })
			}
			if slices.ContainsFunc(labels, func(l string) bool { return has(f.Flags, l) && !(seen && has(before.Flags, l)) }) {
				news = append(news, f.UID)
			} else if seen && !slices.Equal(f.Flags, before.Flags) {
				changed[before.ID] = append([]string{}, f.Flags...)
			}
		}
		if err := e.Store.Messages.SetFlags(ctx, changed); err != nil {
			return nil, err
		}
	}
	return news, nil
}

// due files what the journal says is to be filed now: tried again, or left
// over from before a restart.
func (v *visit) due(ctx context.Context) error {
	e, began := v.engine, time.Now()
	for {
		entries, err := e.Store.Journal.Due(ctx, v.mailbox.ID, e.Clock(), e.passes.IDs(), v.lane, batchSize)
		if err != nil {
			return err
		}
		mine := slices.DeleteFunc(entries, func(en store.Entry) bool { return e.Filer.Working(en.ID) })
		if len(mine) == 0 {
			return nil
		}
		if err := v.batches().fileDue(ctx, mine); err != nil {
			return err
		}
		if v.lane == store.SideLane && v.patience > 0 && time.Since(began) > e.Patience {
			return nil // messages that are to be read wait, too
		}
	}
}

// fileDue files entries, those of the same message with one plan.
func (v batchWork) fileDue(ctx context.Context, entries []store.Entry) (err error) {
	var l *reading.Message // the last one
	defer func() {
		if l != nil {
			l.Close()
		}
	}()
	for i := 0; i < len(entries); {
		j := i
		for j < len(entries) && entries[j].MessageID == entries[i].MessageID {
			j++
		}
		if l, err = v.again(ctx, entries[i:j], l); err != nil {
			return err
		}
		i = j
	}
	return nil
}

// again files entries of one message that was planned before. was is the message that was in hand before, nil for none;
// it is closed where it is another one. next is the one that is in hand then.
func (v *visit) again(ctx context.Context, entries []store.Entry, was *reading.Message) (next *reading.Message,
	err error) {
	e := v.engine
	v.worked++
	row, err := e.Store.Messages.ByID(ctx, store.System, entries[0].MessageID)
	if err != nil {
		return was, err
	}
	lost := func(why reason.Reason) error {
		for i := range entries {
			if !e.Filer.Claim(entries[i].ID) {
				continue
			}
			err := e.Filer.Finish(ctx, &entries[i], store.Failed, why)
			e.Filer.Release(entries[i].ID)
			if err != nil {
				return err
			}
		}
		e.Events.Send(events.Event{Kind: "tray"})
		return nil
	}
	if err := v.enter(ctx, row.Folder, false); err != nil {
		var gone *source.Error
		if errors.As(err, &gone) && gone.Step == source.Folders {
			return was, lost(reason.FolderGone(row.Folder))
		}
		return was, err
	}
	if row.UIDValidity != v.state.UIDValidity {
		if row, err = e.Store.Messages.Moved(ctx, &row, row.Folder, v.state.UIDValidity); err != nil {
			return was, lost(reason.NumberedAnew())
		}
	}
	l := was
	if was == nil || was.Row.ID != row.ID || was.Row.UID != row.UID || was.Row.Folder != row.Folder ||
		was.Row.UIDValidity != row.UIDValidity {
		facts, err := row.Facts()
		if err != nil {
			return was, err
		}
		if was != nil {
			was.Close()
		}
		l = &reading.Message{Row: &row, Facts: facts, Mail: facts.Message(row.Folder), Mailbox: v.mailbox.Name,
			Budget: reading.Budget{Lane: v.lane, Began: time.Now()}}
	}
	l.Patience = v.filingShare()
	began, last := time.Now(), time.Duration(0)
	for i := range entries {
		l.Began = l.Began.Add(v.giveWay(ctx, last)) // waiting is not the message's own time
		if waits, err := v.batches().letWait(ctx, l, i, l.Began); waits || err != nil {
			return l, err
		}
		filing := time.Now()
		if err := e.Filer.File(ctx, v.session, l, &entries[i]); err != nil {
			return l, err
		}
		last = time.Since(filing)
	}
	v.allowance.Spend(time.Since(began))
	e.Filer.Announce(&row)
	return l, nil
}

// follow does what is to be done in the mailbox with messages whose items have
// their verdicts.
func (v *visit) follow(ctx context.Context) error {
	e := v.engine
	tried := map[int64]bool{}
	for {
		rows, err := e.Store.FollowUps.Ready(ctx, v.mailbox.ID, e.Clock(), batchSize)
		if err != nil {
			return err
		}
		rows = slices.DeleteFunc(rows, func(f store.FollowUp) bool { return tried[f.ID] })
		if len(rows) == 0 {
			return nil
		}
		for i := range rows {
			f := &rows[i]
			tried[f.ID] = true
			v.worked++
			s, _ := v.session.(source.Changer)
			c := outbox.Changes{Mailbox: v.mailbox, Session: s, Find: v.find, Begin: func() { v.open = "" }}
			if err := e.Outbox.FollowOne(ctx, &c, f); err != nil {
				return err
			}
			e.Events.Send(events.Event{Kind: "message", ID: fmt.Sprint(f.MessageID), Mailbox: f.MailboxID})
		}
	}
}
