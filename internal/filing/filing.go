// Package filing files attachments exactly once: it journals each item before anything is written, stages the content
// in the cabinet, gives it its final name by an operation that cannot overwrite, and enters it into the register. After
// a crash it goes on from the journal. It guarantees that a content is filed once or is accounted for in the tray,
// whatever fails at which moment. It never decides which messages are looked at.
package filing

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Config is what a Filer is given.
type Config struct {
	*base.Base
	Office   *office.Office
	Cabinets *cabinets.Cabinets
	Reader   *reading.Reader
	Faults   *fault.Judge
	Data     string // the folder of the records: contents that wait for a cabinet are kept beside them
	// Waiting opens the folder in which contents wait for a cabinet that is down; nil for one in Data.
	Waiting func() (disk.FS, error)
	// Beside is called when the rest of a message was left to the watchers beside its mailbox's own.
	Beside func(mailboxID string)
}

// Filer files items. Its methods may be called by several goroutines at once.
type Filer struct {
	Config
	working sync.Mutex
	inWork  map[int64]bool // entries that a goroutine is filing
	caps    caps
	kept    disk.FS // what waits for cabinets that are down
	series  series
}

// New makes a filer.
func New(c Config) *Filer { return &Filer{Config: c, inWork: map[int64]bool{}} }

// mostAttempts is how often an item is tried before a person is asked.
const mostAttempts = 8

// Temporary is the name under which an entry's content is staged.
func (fl *Filer) Temporary(entry *store.Entry) string {
	if entry.Temporary != "" {
		return entry.Temporary
	}
	return fl.Installation + "-" + strconv.FormatInt(entry.ID, 10) // staged by an earlier version
}

// BackSuffix ends the names under which cabinets keep files that were taken back.
const BackSuffix = "-back"

// stagedAs names what is to be staged for an entry. The name begins with the service's
// own mark, since others may stage in the same cabinet, and ends with that of this run:
// a copy of the records has the same entries.
func (fl *Filer) stagedAs(entry *store.Entry) string {
	entry.Temporary = fmt.Sprintf("%s-%d-%s", fl.Installation, entry.ID, fl.Run)
	return entry.Temporary
}

// FileNew files an entry that was planned in this visit and committed just now.
func (fl *Filer) FileNew(ctx context.Context, s source.Opener, l *reading.Message, entry *store.Entry) error {
	if !fl.Claim(entry.ID) {
		return nil
	}
	defer fl.Release(entry.ID)
	return fl.fileInHand(ctx, s, l, entry)
}

// File files a planned entry. The error, if any, is the mailbox's: its session is to be given up. Whatever else goes
// wrong is in the journal.
func (fl *Filer) File(ctx context.Context, s source.Opener, l *reading.Message, entry *store.Entry) error {
	if !fl.Claim(entry.ID) {
		return nil
	}
	defer fl.Release(entry.ID)
	fresh, err := fl.Store.Journal.ByID(ctx, store.System, entry.ID)
	if err != nil || fresh.State != store.Planned {
		return err
	}
	*entry = fresh
	return fl.fileInHand(ctx, s, l, entry)
}

// fileInHand files an entry that this goroutine has claimed.
func (fl *Filer) fileInHand(ctx context.Context, s source.Opener, l *reading.Message, entry *store.Entry) error {
	p, err := fl.prepareSafely(ctx, s, l, entry)
	if err == nil && p != nil {
		err = fl.naming().nameSafely(ctx, p)
	}
	return fl.conclude(ctx, l, entry, err)
}

// conclude keeps what became of an entry that somebody was filing. The error, if any, is the mailbox's or the
// machine's.
func (fl *Filer) conclude(ctx context.Context, l *reading.Message, entry *store.Entry, err error) error {
	if err == nil {
		fl.Log.Info("decided", "state", entry.State, "item", entry.Name, "path", entry.Path, "reason", entry.Reason.String())
		return nil
	}
	var closed *cabinets.ClosedError
	var inCabinet *cabinet.Error
	var unopened *unpack.Error
	var unscanned *scan.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err() // it stays planned
	case errors.As(err, &unopened):
		if unopened.Encrypted {
			return fl.Finish(ctx, entry, store.Held, reason.Encrypted(unopened.Problem))
		}
		return fl.Finish(ctx, entry, store.Held, reason.Unreadable(unopened.Problem))
	case errors.As(err, &closed):
		entry.NextAt, entry.Reason = &closed.Until, reason.WaitsForCabinet(closed.Error())
		return fl.Store.Journal.Postpone(ctx, entry)
	case errors.As(err, &inCabinet) && inCabinet.Lasting:
		return fl.Finish(ctx, entry, store.Failed, reason.CabinetRefuses(inCabinet.Problem, inCabinet.Advice))
	case errors.As(err, &inCabinet):
		g, gateErr := fl.Cabinets.Gate(ctx, entry.CabinetID)
		if gateErr != nil {
			return gateErr
		}
		if fl.refuses(ctx, g, entry, err) {
			return fl.notTaken(ctx, entry, err)
		}
		errors.As(g.Trip(ctx, err), &closed)
		if entry.State == store.Staged {
			return nil // recover goes on with it
		}
		entry.NextAt, entry.Reason = &closed.Until, reason.WaitsForCabinet(closed.Error())
		return fl.Store.Journal.Postpone(ctx, entry)
	case errors.As(err, &unscanned):
		// Nothing is filed unscanned: it waits until the scanner answers.
		fl.Log.Warn("asking the virus scanner", "cause", err)
		fl.Reader.ScannerFailed()
		entry.Attempts++
		next := fl.Now().Add(fl.Pause(entry.Attempts))
		entry.NextAt, entry.Reason = &next, reason.WaitsForScanner(unscanned.Problem)
		if err := fl.Store.Journal.Postpone(ctx, entry); err != nil {
			return err
		}
		return fl.Store.Tray.Tell(ctx, &store.Notice{Kind: "scanner", Object: "scanner", Text: unscanned.Problem,
			Advice: "Start it, or let Ink Tray start without one. Attachments wait until it answers.",
			MadeAt: fl.Clock().UTC()})
	case errors.Is(err, reading.ErrSlow):
		defer fl.Beside(entry.MailboxID)
		return fl.Store.Journal.LetWait(ctx, entry.MessageID, l.Lane.Next())
	case errors.Is(err, source.ErrGone):
		return fl.Finish(ctx, entry, store.Failed, reason.MessageGone(l.Row.Folder))
	}
	// The mailbox failed, or this machine did, or the attachment cannot be read.
	if fresh, err := fl.Store.Journal.ByID(ctx, store.System, entry.ID); err == nil {
		*entry = fresh // what was not recorded is not so
	}
	if entry.State != store.Planned {
		return err // recover goes on with it
	}
	how := fl.Faults.Of(ctx, fmt.Sprintf("entry %d", entry.ID), err)
	if how != fault.Machine { // a full disk is no fault of the attachment
		entry.Attempts++
	}
	fl.Log.Warn("an attachment could not be filed", "item", entry.Name, "attempt", entry.Attempts, "error", err)
	if entry.Attempts >= mostAttempts {
		fails := reason.MailboxFails(fault.Reason(err), strconv.Itoa(entry.Attempts))
		if finished := fl.Finish(ctx, entry, store.Failed, fails); finished != nil {
			return finished
		}
	} else {
		next := fl.Now().Add(fl.Pause(entry.Attempts))
		entry.NextAt, entry.Reason = &next, reason.Failing(fault.Reason(err))
		if postponed := fl.Store.Journal.Postpone(ctx, entry); postponed != nil {
			return postponed
		}
	}
	if how == fault.Message {
		return nil // the connection is in order, and the other attachments go on
	}
	return err
}

// refuses says whether a cabinet takes all others but not this one, again and again: a file that is larger than a
// server allows, say. That is no fault of the cabinet.
func (fl *Filer) refuses(ctx context.Context, g *cabinets.Gate, entry *store.Entry, err error) bool {
	return entry.State == store.Planned && !fault.IsDisk(err) && cabinets.OnlyOf(ctx, g.Cabinet, err) &&
		fl.Faults.Again(fmt.Sprintf("staging %d", entry.ID)) >= fault.MostTries
}

func (fl *Filer) notTaken(ctx context.Context, entry *store.Entry, err error) error {
	return fl.Finish(ctx, entry, store.Failed, reason.NotTaken(phrase.TrimStop(err.Error())))
}

// prepareSafely prepares an entry. Whatever goes wrong while its content is understood is its own trouble.
func (fl *Filer) prepareSafely(ctx context.Context, s source.Opener, l *reading.Message,
	entry *store.Entry) (p *prepared, err error) {
	defer recovered(fl.Log, entry, &err)
	return fl.prepare(ctx, s, l, entry)
}

// recovered makes a panic into an error of the entry.
func recovered(log *slog.Logger, entry *store.Entry, err *error) {
	if p := recover(); p != nil {
		log.Error("an attachment could not be understood", "item", entry.Name, "cause", p, "stack", string(debug.Stack()))
		*err = &fault.PanicError{Cause: p}
	}
}

// prepare plans an entry, and stages its content. It returns nil where the entry is decided without that.
func (fl *Filer) prepare(ctx context.Context, s source.Opener, l *reading.Message, entry *store.Entry) (*prepared,
	error) {
	r, err := fl.Office.Rule(ctx, entry.RuleID, entry.RuleRevision)
	if err != nil {
		return nil, err
	}
	if entry.Wanted == "" { // tried again: planned again
		if r, err = fl.planAgain(ctx, s, l, entry); err != nil || entry.State != store.Planned {
			return nil, err
		}
	}
	item, ok, err := fl.planItem(ctx, s, l, r, entry)
	if err != nil {
		return nil, err
	}
	if !ok || item.Segments == nil {
		return nil, fl.Finish(ctx, entry, store.Failed, reason.AttachmentGone())
	}
	g, err := fl.Cabinets.Gate(ctx, entry.CabinetID)
	if err != nil {
		return nil, fl.Finish(ctx, entry, store.Failed, reason.CabinetRemoved())
	}
	if over, err := fl.overCap(ctx, l, r, entry, &item); err != nil || !over.IsZero() {
		if err != nil {
			return nil, err
		}
		return nil, fl.Finish(ctx, entry, store.Held, over)
	}
	if err := g.Ready(ctx); err != nil {
		var closed *cabinets.ClosedError
		if !errors.As(err, &closed) {
			return nil, err
		}
		repeats, hold, failed := repeated(ctx, fl, r, entry, &item, nil)
		if failed != nil {
			return nil, failed
		}
		if hold {
			return nil, fl.Finish(ctx, entry, store.Held, repeats)
		}
		if kept := fl.keepHere(ctx, s, l, r, entry, &item, repeats); kept != nil {
			fl.Log.Warn("an attachment could not be kept for its cabinet", "item", entry.Name, "error", kept)
			if fault.Of(ctx, kept) == fault.Mailbox {
				return nil, kept
			}
		}
		return nil, err
	}
	remark := reason.Remark(item.Item.Remark)
	if item.Copy != "" && item.Copy != rule.CopyEML {
		report, err := fl.Reader.Draw(ctx, s, l, &item, r)
		var undrawn *unpack.Error
		if errors.As(err, &undrawn) {
			if err := fl.besideIt(ctx, s, l, r, entry); err != nil { // else it would be said, and not be so
				return nil, err
			}
			return nil, fl.Finish(ctx, entry, store.Failed, reason.Undrawn(undrawn.Problem))
		}
		if err != nil {
			return nil, err
		}
		drawn := strings.TrimSuffix(report.Sentence(), ".")
		if remark = reason.Remark(drawn); !report.Whole() {
			if err := fl.besideIt(ctx, s, l, r, entry); err != nil {
				return nil, err
			}
			remark = reason.DrawnInPart(drawn)
		}
	}
	content, said, err := fl.stage(ctx, s, l, r, entry, &item, g.Cabinet)
	if err != nil {
		return nil, err
	}
	if said.Cause() != "" {
		return nil, fl.Finish(ctx, entry, store.Held, reason.NotWritten(said))
	}
	if remark.IsZero() {
		remark = said
	}
	entry.Size, entry.SHA256 = content.Size, content.SHA256[:]
	entry.Values = item.Values
	repeats, hold, err := repeated(ctx, fl, r, entry, &item, entry.SHA256)
	if err != nil {
		return nil, err
	}
	if hold {
		if err := g.Cabinet.Discard(ctx, fl.Temporary(entry)); err != nil {
			return nil, err
		}
		return nil, fl.Finish(ctx, entry, store.Held, repeats)
	}
	remark = reason.And(remark, repeats)
	return &prepared{l: l, rule: r, entry: entry, item: item, cabinet: g.Cabinet, remark: remark}, nil
}

// planItem plans the item of an entry, opening what holds it.
func (fl *Filer) planItem(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled,
	entry *store.Entry) (plan.Item, bool, error) {
	setting := fl.Office.Settings().For(l.Mailbox, entry.PlannedAt.In(fl.Zone))
	for range reading.MostRounds {
		if entry.Given == "release" || entry.Given == "elsewhere" {
			item, needs, ok := plan.Released(r, l.Mail, setting, entry.Item)
			if ok && item.Settled() || !needs.Any() {
				return item, ok, nil
			}
			if err := fl.Reader.Read(ctx, s, l, &needs); err != nil {
				return item, false, err
			}
			continue
		}
		item, needs, ok := l.Item(r, setting, entry.Item)
		if ok && item.Settled() || !needs.Any() {
			if !ok && entry.Item == "copy:"+string(rule.CopyEML) { // beside a PDF that lacks something
				r.CopyTargets(func(form rule.CopyForm, t rule.Target) {
					if form == rule.CopyPDF {
						item, ok = plan.Copy(r, l.Mail, setting, rule.CopyEML, t, 1), true
					}
				})
			}
			if !ok {
				return item, false, notOpened(l, entry)
			}
			return item, ok, nil
		}
		if err := fl.Reader.Read(ctx, s, l, &needs); err != nil {
			return item, false, err
		}
	}
	return plan.Item{}, false, nil
}

// notOpened says why an item is not found that is inside another one: it was found when it was planned, so that opening
// is tried again. It is nil for other items.
func notOpened(l *reading.Message, entry *store.Entry) error {
	for at := entry.Item; ; {
		end := strings.LastIndexByte(at, '!')
		if end < 0 {
			return nil
		}
		at = at[:end]
		if o := l.Mail.Inside[at]; o != nil && o.Problem != "" {
			return fmt.Errorf("what holds it could not be opened again: %s", o.Problem)
		}
	}
}

// besideIt files the EML copy beside one that could not be drawn in full.
func (fl *Filer) besideIt(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled,
	drawn *store.Entry) error {
	entry := *drawn
	entry.ID, entry.Temporary, entry.Item, entry.State = 0, "", "copy:"+string(rule.CopyEML), store.Planned
	item, ok, err := fl.planItem(ctx, s, l, r, &entry)
	if err != nil || !ok {
		return err
	}
	entry.Name, entry.Kind, entry.Wanted, entry.Size, entry.SHA256 = item.Item.Name, string(item.Item.Kind), item.Path(),
		item.Item.Size, nil
	entry.Path, entry.Displaced, entry.Reason, entry.RegisterYear, entry.RegisterNumber = "", "",
		reason.CopyBeside(), 0, 0
	if err := fl.Store.Journal.Add(ctx, &entry); err != nil || entry.State != store.Planned {
		return err
	}
	return fl.File(ctx, s, l, &entry)
}

// stage streams an item's content into the cabinet. What must not be filed unseen is
// not written: said says what it is, and has a cause where a person has to decide.
func (fl *Filer) stage(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled, entry *store.Entry,
	item *plan.Item, c cabinet.Cabinet) (content cabinet.Content, said reason.Reason, err error) {
	w, said, err := fl.Reader.Inspect(ctx, s, l, r, entry, item)
	if err != nil || said.Cause() != "" {
		return content, said, err
	}
	content, err = c.Stage(ctx, fl.stagedAs(entry), l.Mail.Received, w)
	if err != nil {
		return content, said, errors.Join(err, w.Close())
	}
	found, err := fl.Reader.End(ctx, s, l, item, w)
	if err == nil && empty(item, content.Size) {
		err = source.ErrNothing
	}
	if err != nil || !found.IsZero() {
		return content, found, errors.Join(err, c.Discard(ctx, fl.Temporary(entry)))
	}
	return content, said, nil
}

// empty says whether nothing came of a part that has content.
func empty(item *plan.Item, size int64) bool {
	return size == 0 && item.Copy == "" && item.Item.Parent == "" && item.Item.Encoded > 2
}

// Finish commits the verdict on an entry: its state, and why.
func (fl *Filer) Finish(ctx context.Context, entry *store.Entry, state store.State, why reason.Reason) error {
	entry.State, entry.Reason = state, why
	return fl.Store.Journal.Finish(ctx, entry, fl.Now())
}

// planReleased plans an entry that a person releases, under the rule that held it.
func (fl *Filer) planReleased(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled,
	entry *store.Entry) error {
	item, ok, err := fl.planItem(ctx, s, l, r, entry)
	if err != nil {
		return err
	}
	if !ok {
		return fl.Finish(ctx, entry, store.Failed, reason.AttachmentGone())
	}
	c, err := fl.Store.Cabinets.Named(ctx, item.Target.Cabinet)
	if err != nil {
		return fl.Finish(ctx, entry, store.Failed, reason.NoCabinet(item.Target.Cabinet))
	}
	entry.CabinetID, entry.Wanted = c.ID, item.Path()
	return fl.Store.Journal.Replan(ctx, entry)
}

// planAgain plans an entry under its rule as it is now, after the rules before it.
func (fl *Filer) planAgain(ctx context.Context, session source.Opener, l *reading.Message,
	entry *store.Entry) (*rule.Compiled, error) {
	if entry.Given == "release" {
		r, err := fl.Office.Rule(ctx, entry.RuleID, entry.RuleRevision)
		if err != nil {
			return nil, err
		}
		return r, fl.planReleased(ctx, session, l, r, entry)
	}
	row, err := fl.Store.Rules.ByID(ctx, entry.RuleID)
	if err != nil || row.Removed {
		return nil, fl.Finish(ctx, entry, store.LeftOut, reason.RuleRemoved())
	}
	r, err := fl.Office.Rule(ctx, row.ID, row.Revision)
	if err != nil {
		return nil, err
	}
	listing, err := fl.Store.Mailboxes.Listing(ctx, l.Row.MailboxID)
	if err != nil {
		return nil, err
	}
	var rules []*rule.Compiled
	for _, other := range fl.Office.Settings().Rules {
		if other.Rule.ID == row.ID {
			break
		}
		if other.Rule.Look.Looks(l.Mailbox) && other.Rule.Look.LooksInto(listing, l.Row.Folder) {
			rules = append(rules, other)
		}
	}
	setting := fl.Office.Settings().For(l.Mailbox, entry.PlannedAt.In(fl.Zone))
	setting.Explain = true
	p, err := fl.Reader.Plan(ctx, session, l, append(rules, r), setting)
	if err != nil {
		return nil, err
	}
	mine := p.Rules[len(p.Rules)-1]
	if mine.Match.Answer != rule.Yes {
		state, why := store.LeftOut, reason.Conditions(mine.Match.Text)
		if mine.Match.Answer != rule.No {
			state, why = store.Held, reason.Doubtful(mine.Match.Text)
			if entry.Topic = mine.Match.Topic; entry.Topic != "" {
				why = reason.Topic(entry.Topic, mine.Match.Text)
			}
		}
		return nil, fl.Finish(ctx, entry, state, reason.Replanned(why))
	}
	for i := range mine.Items {
		item := &mine.Items[i]
		if item.Item.ID != entry.Item {
			continue
		}
		cabinets := map[string]store.Cabinet{}
		var within []store.Entry
		for k := i + 1; k < len(mine.Items); k++ { // what it holds can be seen now
			inner := &mine.Items[k]
			if !strings.HasPrefix(inner.Item.ID, entry.Item+"!") {
				continue
			}
			found, err := fl.EntryOf(ctx, r, inner, cabinets, fl.Clock().UTC())
			if err != nil {
				return nil, err
			}
			within = append(within, found)
		}
		for _, found := range InTray(within) {
			found.MessageID, found.MailboxID, found.PassID, found.Round = entry.MessageID, entry.MailboxID, entry.PassID,
				entry.Round
			if err := fl.Store.Journal.Add(ctx, &found); err != nil {
				return nil, err
			}
		}
		if item.Verdict != plan.Filed {
			return nil, fl.Finish(ctx, entry, store.State(item.Verdict), reason.Replanned(item.Reason))
		}
		c, err := fl.Store.Cabinets.Named(ctx, item.Target.Cabinet)
		if err != nil {
			return nil, fl.Finish(ctx, entry, store.Failed, reason.NoCabinet(item.Target.Cabinet))
		}
		entry.RuleRevision, entry.CabinetID, entry.Wanted = row.Revision, c.ID, item.Path()
		return r, fl.Store.Journal.Replan(ctx, entry)
	}
	return nil, fl.Finish(ctx, entry, store.Failed, reason.AttachmentGone())
}

// Recover goes on with what was staged: after a crash, or when a cabinet is back.
func (fl *Filer) Recover(ctx context.Context, cabinetID string) {
	entries, err := fl.Store.Journal.Staged(ctx, cabinetID)
	if err != nil || len(entries) == 0 {
		return
	}
	g, err := fl.Cabinets.Gate(ctx, cabinetID)
	if err != nil || g.Ready(ctx) != nil {
		return
	}
	for i := range entries {
		entry := &entries[i]
		if !fl.Claim(entry.ID) {
			continue
		}
		err := func() error {
			if entry.Displaced != "" {
				g.Replacing.Lock()
				defer g.Replacing.Unlock()
			}
			return fl.recoverOne(ctx, g.Cabinet, entry)
		}()
		fl.Release(entry.ID)
		fl.Wake(entry.MailboxID)
		fl.Hasten()
		if err != nil {
			fl.Log.Warn("going on with what was staged", "item", entry.Name, "error", err)
			var inCabinet *cabinet.Error
			switch {
			case !errors.As(err, &inCabinet):
			case inCabinet.Lasting: // of this item
				if err := errors.Join(g.Cabinet.Discard(ctx, fl.Temporary(entry)),
					fl.Finish(ctx, entry, store.Failed, reason.CabinetRefuses(inCabinet.Problem, inCabinet.Advice))); err != nil {
					fl.Log.Warn("going on with what was staged", "item", entry.Name, "error", err)
				}
			case !cabinets.OnlyName(ctx, g.Cabinet, err):
				_ = g.Trip(ctx, err)
				return
			}
		}
	}
}

func (fl *Filer) recoverOne(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	fresh, err := fl.Store.Journal.ByID(ctx, store.System, entry.ID)
	if err != nil || fresh.State != store.Staged {
		return err
	}
	*entry = fresh
	refused := map[string]bool{}
	failed := 0 // attempts to give a name, while the cabinet was in order
	for again := false; ; {
		waits, err := c.Staged(ctx, fl.Temporary(entry))
		if err != nil {
			return err
		}
		if !waits { // the temporary object is gone, so it has got its name, or somebody took it away
			there, _, err := cabinets.LookAt(ctx, c, entry.Path)
			if errors.Is(err, cabinet.ErrMissing) {
				if again {
					return fl.stageAgain(ctx, c, entry)
				}
				again = true
				if err := c.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
					return err
				}
				continue
			} else if err != nil {
				return err
			}
			if !IsContent(there, entry) {
				return fl.stageAgain(ctx, c, entry) // another's file has the name
			}
			if err := c.Discard(ctx, fl.Temporary(entry)); err != nil { // a second name that was left over
				return err
			}
			return fl.Store.Journal.File(ctx, entry, fl.Now())
		}
		there, isFile, err := cabinets.LookAt(ctx, c, entry.Path)
		if err == nil && isFile && IsContent(there, entry) {
			// Another's file with the same content came first, or this one has both names.
			if err := c.Discard(ctx, fl.Temporary(entry)); err != nil {
				return err
			}
			return fl.Store.Journal.File(ctx, entry, fl.Now())
		}
		if err != nil && !errors.Is(err, cabinet.ErrMissing) {
			return err
		}
		if err == nil && isFile {
			if err := fl.displaceAgain(ctx, c, entry, &there); err != nil {
				return err
			}
		}
		err = c.Commit(ctx, fl.Temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			if err := fl.naming().renameStaged(ctx, c, entry, refused); err != nil || entry.State != store.Staged {
				return err
			}
			continue
		}
		if err != nil && cabinets.OnlyName(ctx, c, err) {
			switch failed++; {
			case failed%cabinets.MostLooks > 0: // perhaps it was done, and the answer got lost
				continue
			case failed/cabinets.MostLooks >= cabinets.MostLooks:
				if err := c.Discard(ctx, fl.Temporary(entry)); err != nil {
					return err
				}
				return fl.Finish(ctx, entry, store.Failed, reason.NoName(phrase.TrimStop(err.Error())))
			}
			if err := fl.naming().renameStaged(ctx, c, entry, refused); err != nil || entry.State != store.Staged {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		return fl.Store.Journal.File(ctx, entry, fl.Now())
	}
}

// IsContent says whether a content is an entry's.
func IsContent(there cabinet.Content, entry *store.Entry) bool {
	return there.Size == entry.Size && string(there.SHA256[:]) == string(entry.SHA256)
}

// stageAgain makes an entry planned again when its staged content is gone and nothing has its name: a person emptied
// the cabinet's own folder, or removed the file before it was entered in the register.
func (fl *Filer) stageAgain(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	fl.Log.Warn("what was staged is gone; it is read again", "item", entry.Name)
	if entry.Displaced != "" { // what was moved out of the way for it has its place again
		if err := cabinet.Restore(ctx, c, entry.Displaced, entry.Path); err != nil && !errors.Is(err, cabinet.ErrMissing) &&
			!errors.Is(err, cabinet.ErrTaken) {
			return err
		}
	}
	entry.State, entry.NextAt = store.Planned, nil
	return fl.Store.Journal.Postpone(ctx, entry)
}

// displaceAgain goes on with a replacement that was interrupted: the file that
// is there is moved out of the way only if it is still the one that may be.
func (fl *Filer) displaceAgain(ctx context.Context, c cabinet.Cabinet, entry *store.Entry,
	there *cabinet.Content) error {
	if entry.Displaced == "" {
		return nil
	}
	if kept, err := cabinet.Kept(ctx, c, entry.Displaced); err == nil {
		// Done before: what is there now came after, or a power cut brought its
		// first name back.
		return errors.Join(kept.Close(), fl.naming().displace(ctx, c, entry))
	} else if !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	m, err := fl.Store.Messages.ByID(ctx, store.System, entry.MessageID)
	if err != nil {
		return err
	}
	_, because, err := fl.naming().mayReplace(ctx, entry.CabinetID, entry.Path, there, m.ReceivedAt)
	if err != nil || because != nil {
		return err
	}
	return fl.naming().displace(ctx, c, entry)
}

// Sweep removes temporary objects that the journal does not know.
func (fl *Filer) Sweep(ctx context.Context, cabinetID string) {
	g, err := fl.Cabinets.Gate(ctx, cabinetID)
	if err != nil || g.Ready(ctx) != nil {
		return
	}
	left, err := cabinet.Leftovers(ctx, g.Cabinet)
	if err != nil {
		fl.Log.Warn("looking for unfinished files", "cabinet", g.Row.Name, "error", err)
		return
	}
	for _, name := range left {
		rest, mine := strings.CutPrefix(name, fl.Installation+"-")
		if !mine && !strings.HasPrefix(name, cabinet.Probe) {
			continue
		}
		number, _, _ := strings.Cut(rest, "-")
		if id, err := strconv.ParseInt(number, 10, 64); err == nil {
			entry, err := fl.Store.Journal.ByID(ctx, store.System, id)
			if err == nil && entry.State == store.Staged && fl.Temporary(&entry) == name {
				continue
			}
		}
		if err := g.Cabinet.Discard(ctx, name); err != nil {
			fl.Log.Warn("removing an unfinished file", "cabinet", g.Row.Name, "name", name, "error", err)
		}
	}
}
