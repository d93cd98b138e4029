package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// mostAttempts is how often an item is tried before a person is asked.
const mostAttempts = 8

// temporary is the name under which an entry's content is staged.
func (e *Engine) temporary(entry *store.Entry) string {
	if entry.Temporary != "" {
		return entry.Temporary
	}
	return e.mark + "-" + strconv.FormatInt(entry.ID, 10) // staged by an earlier version
}

// stagedAs names what is to be staged for an entry. The name begins with the service's
// own mark, since others may stage in the same cabinet, and ends with that of this run:
// a copy of the records has the same entries.
func (e *Engine) stagedAs(entry *store.Entry) string {
	entry.Temporary = fmt.Sprintf("%s-%d-%s", e.mark, entry.ID, e.run)
	return entry.Temporary
}

// setting is what plans are made with.
func (e *Engine) setting(mailbox string, now time.Time) plan.Setting {
	k, trust := e.known(), e.Trust()
	return plan.Setting{Mailbox: mailbox, Now: now, Language: e.Language, Book: e.Book(), Lookup: e.lookup, Topics: k.panel, Said: k.saidOf, VerifiedReplies: trust.Replies, VerifiedBook: trust.Correspondents}
}

// file takes one planned entry all the way. The error, if any, is the mailbox's:
// its session is to be given up. Whatever else goes wrong is in the journal.
func (e *Engine) file(ctx context.Context, s source.Session, l *letter, entry *store.Entry) error {
	if !e.claim(entry.ID) {
		return nil
	}
	defer e.release(entry.ID)
	fresh, err := e.Store.EntryByID(store.System, entry.ID)
	if err != nil || fresh.State != store.Planned {
		return err
	}
	*entry = fresh
	err = e.fileSafely(ctx, s, l, entry)
	if err == nil {
		e.Log.Info("decided", "state", entry.State, "item", entry.Name, "path", entry.Path, "reason", entry.Reason)
		return nil
	}
	var closed *closedError
	var inCabinet *cabinet.Error
	var unopened *unpack.Error
	var unscanned *scan.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err() // it stays planned
	case errors.As(err, &unopened):
		entry.State, entry.Reason, entry.Advice = store.Held, unopened.Problem, "Look at the message and decide: release it, try again or set it aside."
		entry.Cause = store.CauseUnreadable
		if unopened.Encrypted {
			entry.Cause = store.CauseEncrypted
		}
		return e.Store.Finish(entry, e.now())
	case errors.As(err, &closed):
		entry.NextAt, entry.Reason = &closed.until, "waits for the cabinet: "+closed.Error()
		return e.Store.Postpone(entry)
	case errors.As(err, &inCabinet) && inCabinet.Lasting:
		entry.State, entry.Reason, entry.Advice, entry.Cause = store.Failed, inCabinet.Problem, inCabinet.Advice, store.CauseCabinet
		return e.Store.Finish(entry, e.now())
	case errors.As(err, &inCabinet):
		g, gateErr := e.gate(entry.CabinetID)
		if gateErr != nil {
			return gateErr
		}
		if e.refuses(ctx, g, entry, err) {
			return e.notTaken(entry, err)
		}
		errors.As(g.trip(err), &closed)
		if entry.State == store.Staged {
			return nil // recover goes on with it
		}
		entry.NextAt, entry.Reason = &closed.until, "waits for the cabinet: "+closed.Error()
		return e.Store.Postpone(entry)
	case errors.As(err, &unscanned):
		// Nothing is filed unscanned: it waits until the scanner answers.
		e.Log.Warn("asking the virus scanner", "cause", err)
		e.scannerAway.Store(true)
		entry.Attempts++
		next := e.now().Add(e.Pause(entry.Attempts))
		entry.NextAt, entry.Reason = &next, "waits: "+unscanned.Problem
		if err := e.Store.Postpone(entry); err != nil {
			return err
		}
		return e.Store.Tell(&store.Notice{Kind: "scanner", Object: "scanner", Text: unscanned.Problem, Advice: "Start it, or let Ink Tray start without one. What is to be filed waits until it answers.", MadeAt: e.Clock().UTC()})
	case errors.Is(err, errSlow):
		defer e.beside(entry.MailboxID)
		return e.Store.LetWait(entry.MessageID, l.lane.Next())
	case errors.Is(err, source.ErrGone):
		entry.State, entry.Reason, entry.Cause = store.Failed, "the message is no longer in the folder “"+l.row.Folder+"”", store.CauseGone
		entry.Advice = "If it was moved, put it back or let a rule look where it is now; then try again."
		return e.Store.Finish(entry, e.now())
	}
	// The mailbox failed, or this machine did, or the attachment cannot be read.
	if fresh, err := e.Store.EntryByID(store.System, entry.ID); err == nil {
		*entry = fresh // what was not recorded is not so
	}
	if entry.State != store.Planned {
		return err // recover goes on with it
	}
	how := e.whoseOf(ctx, fmt.Sprintf("entry %d", entry.ID), err)
	if how != ofMachine { // a full disk is no fault of the attachment
		entry.Attempts++
	}
	entry.Reason = reasonOf(err)
	e.Log.Warn("an attachment could not be filed", "item", entry.Name, "attempt", entry.Attempts, "error", err)
	if entry.Attempts >= mostAttempts {
		entry.State, entry.Cause = store.Failed, store.CauseMailbox
		entry.Advice = fmt.Sprintf("Ink Tray tried %d times. Look at the mailbox, then try again.", entry.Attempts)
		if finished := e.Store.Finish(entry, e.now()); finished != nil {
			return finished
		}
	} else {
		next := e.now().Add(e.Pause(entry.Attempts))
		entry.NextAt = &next
		if postponed := e.Store.Postpone(entry); postponed != nil {
			return postponed
		}
	}
	if how == ofMessage {
		return nil // the connection is in order, and the other attachments go on
	}
	return err
}

// refuses says whether a cabinet takes all others but not this one, again and again: a file that is larger than a
// server allows, say. That is no fault of the cabinet.
func (e *Engine) refuses(ctx context.Context, g *gate, entry *store.Entry, err error) bool {
	return entry.State == store.Planned && !ofDisk(err) && only(ctx, g.cabinet, err) &&
		e.culprits.again(fmt.Sprintf("staging %d", entry.ID)) >= mostReadings
}

func (e *Engine) notTaken(entry *store.Entry, err error) error {
	entry.Cause = store.CauseCabinet
	return e.finish(entry, store.Failed, "the cabinet does not take it: "+trimStop(err.Error()),
		"Look at the cabinet and at the file, then try again.")
}

// fileSafely files an entry. Whatever goes wrong while its content is understood is its own trouble.
func (e *Engine) fileSafely(ctx context.Context, s source.Session, l *letter, entry *store.Entry) (err error) {
	defer func() {
		if p := recover(); p != nil {
			e.Log.Error("an attachment could not be understood", "item", entry.Name, "cause", p, "stack", string(debug.Stack()))
			err = &panicError{p}
		}
	}()
	return e.fileClaimed(ctx, s, l, entry)
}

// pause grows with the attempts, and is a little different each time, so that
// not everything comes back at the same moment.
func pause(attempts int) time.Duration {
	d := min(2*time.Second<<min(attempts, 8), 5*time.Minute)
	return d/2 + rand.N(d)
}

func (e *Engine) now() time.Time { return e.Clock().In(e.Zone) }

func (e *Engine) fileClaimed(ctx context.Context, s source.Session, l *letter, entry *store.Entry) error {
	r, err := e.rule(entry.RuleID, entry.RuleRevision)
	if err != nil {
		return err
	}
	if entry.Wanted == "" { // tried again: planned anew
		if r, err = e.planAgain(ctx, s, l, entry); err != nil || entry.State != store.Planned {
			return err
		}
	}
	item, ok, err := e.one(ctx, s, l, r, entry)
	if err != nil {
		return err
	}
	if !ok || item.Segments == nil {
		entry.Cause = store.CauseGone
		return e.finish(entry, store.Failed, "the message no longer has this attachment", "Look at the message; perhaps the mail server changed it.")
	}
	g, err := e.gate(entry.CabinetID)
	if err != nil {
		entry.Cause = store.CauseSetting
		return e.finish(entry, store.Failed, "the rule's cabinet is no longer there", "Choose a cabinet in the rule, then try again.")
	}
	if over, err := e.overCap(l, r, entry, &item); err != nil || over != "" {
		if err != nil {
			return err
		}
		entry.Cause = store.CauseCap
		return e.finish(entry, store.Held, over, "If it is meant, try all of them again; if not, look at the rule and at the sender.")
	}
	if err := g.ready(ctx); err != nil {
		var closed *closedError
		if !errors.As(err, &closed) {
			return err
		}
		if kept := e.keepHere(ctx, s, l, r, entry, &item); kept != nil {
			e.Log.Warn("an attachment could not be kept for its cabinet", "item", entry.Name, "error", kept)
			if whose(ctx, kept) == ofMailbox {
				return kept
			}
		}
		return err
	}
	remark := item.Item.Remark
	if item.Copy != "" && item.Copy != rule.CopyEML {
		report, err := e.drawn(ctx, s, l, &item, r)
		var undrawn *unpack.Error
		if errors.As(err, &undrawn) {
			if err := e.besideIt(ctx, s, l, r, entry); err != nil { // else it would be said, and not be so
				return err
			}
			entry.Cause = store.CauseUnreadable
			return e.finish(entry, store.Failed, "the message could not be drawn: "+undrawn.Problem, "Its EML copy is filed instead.")
		}
		if err != nil {
			return err
		}
		if remark = strings.TrimSuffix(report.Sentence(), "."); !report.Whole() {
			if err := e.besideIt(ctx, s, l, r, entry); err != nil {
				return err
			}
			remark += "; the EML copy beside it has all"
		}
	}
	content, said, hold, err := e.stage(ctx, s, l, r, entry, &item, g.cabinet)
	if err != nil {
		return err
	}
	if hold != "" {
		entry.Cause = hold
		return e.finish(entry, store.Held, said+". Nothing was written", "Ask the sender whether it is meant. If it is, release it; if not, set it aside.")
	}
	if remark == "" {
		remark = said
	}
	entry.Size, entry.SHA256 = content.Size, content.SHA256[:]
	return e.commit(ctx, g.cabinet, l, r, entry, &item, remark)
}

// one plans the item of an entry, opening what holds it.
func (e *Engine) one(ctx context.Context, s source.Session, l *letter, r *rule.Compiled, entry *store.Entry) (plan.Item, bool, error) {
	setting := e.setting(l.mailbox, entry.PlannedAt.In(e.Zone))
	for range mostRounds {
		if entry.Given == "release" || entry.Given == "elsewhere" {
			item, needs, ok := plan.Released(r, l.message, setting, entry.Item)
			if ok && settled(&item) || !needs.Any() {
				return item, ok, nil
			}
			if err := e.read(ctx, s, l, &needs); err != nil {
				return item, false, err
			}
			continue
		}
		item, needs, ok := l.item(r, setting, entry.Item)
		if ok && settled(&item) || !needs.Any() {
			if !ok && entry.Item == "copy:"+string(rule.CopyEML) { // beside a PDF that lacks something
				r.CopyTargets(func(form rule.CopyForm, t rule.Target) {
					if form == rule.CopyPDF {
						item, ok = plan.Copy(r, l.message, setting, rule.CopyEML, t, 1), true
					}
				})
			}
			return item, ok, nil
		}
		if err := e.read(ctx, s, l, &needs); err != nil {
			return item, false, err
		}
	}
	return plan.Item{}, false, nil
}

// settled says whether only a register number is missing from an item's names.
func settled(item *plan.Item) bool {
	for _, field := range item.Unknown {
		if !strings.HasPrefix(field, "register") {
			return false
		}
	}
	return true
}

// besideIt files the EML copy beside one that could not be drawn in full.
func (e *Engine) besideIt(ctx context.Context, s source.Session, l *letter, r *rule.Compiled, drawn *store.Entry) error {
	entry := *drawn
	entry.ID, entry.Temporary, entry.Item, entry.State = 0, "", "copy:"+string(rule.CopyEML), store.Planned
	item, ok, err := e.one(ctx, s, l, r, &entry)
	if err != nil || !ok {
		return err
	}
	entry.Name, entry.Kind, entry.Wanted, entry.Size, entry.SHA256 = item.Item.Name, string(item.Item.Kind), item.Path(), item.Item.Size, nil
	entry.Path, entry.Displaced, entry.Reason, entry.RegisterYear, entry.RegisterNumber = "", "", "a copy of the message, beside the PDF that could not be drawn in full", 0, 0
	if err := e.Store.AddEntry(&entry); err != nil || entry.State != store.Planned {
		return err
	}
	return e.file(ctx, s, l, &entry)
}

// stage streams an item's content into the cabinet. What must not be filed unseen is
// not written: said says what it is, hold why a person has to decide, "" where not.
func (e *Engine) stage(ctx context.Context, s source.Session, l *letter, r *rule.Compiled, entry *store.Entry, item *plan.Item, c cabinet.Cabinet) (content cabinet.Content, said string, hold store.Cause, err error) {
	w, said, hold, err := e.watched(ctx, s, l, r, entry, item)
	if err != nil || hold != "" {
		return content, said, hold, err
	}
	content, err = c.Stage(ctx, e.stagedAs(entry), l.message.Received, w)
	if err != nil {
		return content, "", "", errors.Join(err, w.close())
	}
	found, hold, err := e.verdict(w)
	if err == nil && empty(item, content.Size) {
		err = source.ErrNothing
	}
	err = errors.Join(err, w.close())
	if err != nil || hold != "" {
		return content, found, hold, errors.Join(err, c.Discard(ctx, e.temporary(entry)))
	}
	return content, said, "", nil
}

// empty says whether nothing came of a part that has content.
func empty(item *plan.Item, size int64) bool {
	return size == 0 && item.Copy == "" && item.Item.Parent == "" && item.Item.Encoded > 2
}

func disagreement(item *plan.Item, what string) string {
	switch {
	case what == "":
		return ""
	case what == "empty":
		return "the file is empty"
	case item.Ext == "":
		return "sent as " + item.Item.Type + ", but it is " + what
	}
	return "named " + item.Ext + ", but it is " + what
}

// commit gives the staged content its name.
func (e *Engine) commit(ctx context.Context, c cabinet.Cabinet, l *letter, r *rule.Compiled, entry *store.Entry, item *plan.Item, remark string) error {
	drop := func(state store.State, reason string) error {
		if err := c.Discard(ctx, e.temporary(entry)); err != nil {
			return err
		}
		return e.finish(entry, state, reason, "")
	}
	if before, found, err := e.Store.FiledBefore(entry, l.row.Fingerprint, entry.SHA256); err != nil {
		return err
	} else if found && before.Undo == store.Undone {
		return drop(store.LeftOut, "the same attachment of the same message was filed before and taken back by a person")
	} else if found {
		entry.Path = before.Path
		return drop(store.There, "the same attachment of the same message was filed before, as "+before.Path)
	}
	if entry.Given == "elsewhere" {
		folder, file := path.Split(entry.Wanted)
		item.Segments, item.Ext = nil, mail.Extension(file)
		if folder != "" {
			item.Segments = strings.Split(strings.TrimSuffix(folder, "/"), "/")
		}
		item.Stem = strings.TrimSuffix(file, item.Ext)
	} else if item.Target.NeedsRegister() {
		if err := e.Store.Draw(entry, e.now()); err != nil {
			return err
		}
		plan.Number(item, r, l.message, e.setting(l.mailbox, entry.PlannedAt.In(e.Zone)), entry.RegisterYear, entry.RegisterNumber)
	} else if folder, file := path.Split(entry.Wanted); folder != "" { // the path that was planned is frozen
		item.Segments = strings.Split(strings.TrimSuffix(folder, "/"), "/")
		item.Stem = strings.TrimSuffix(file, item.Ext)
	}
	refused := map[string]bool{} // names that nothing may have though they seem free
	if item.IfExists == "replace" {
		g, err := e.gate(entry.CabinetID)
		if err != nil {
			return err
		}
		g.replacing.Lock()
		defer g.replacing.Unlock()
	}
	for {
		done, reason, err := e.name(ctx, c, entry, item.Segments, item.Stem, item.Ext, item.IfExists, l.message.Received, refused)
		if err != nil {
			return err
		}
		if done == store.There { // the register has this message, too
			if err := c.Discard(ctx, e.temporary(entry)); err != nil {
				return err
			}
			entry.Reason = reason
			return e.Store.FoundThere(entry, e.now())
		}
		if done != "" {
			return drop(done, reason)
		}
		entry.Reason = reason
		if remark != "" {
			entry.Reason = strings.TrimPrefix(reason+"; "+remark, "; ")
		}
		if entry.State != store.Staged {
			err = e.Store.Stage(entry, e.now())
		} else {
			err = e.Store.Rename(entry)
		}
		if err != nil {
			return err
		}
		if err := e.displace(ctx, c, entry); err != nil {
			return err
		}
		err = c.Commit(ctx, e.temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			refused[entry.Path] = true
			continue // somebody was quicker: the next name
		}
		if errors.Is(err, cabinet.ErrMissing) {
			return &cabinet.Error{Problem: "what was staged is not there any more", Advice: "Look whether the cabinet is still mounted.", Err: err}
		}
		if err != nil && onlyName(ctx, c, err) { // perhaps what has the name already does not show, or the answer got lost
			if err := e.recoverOne(ctx, c, entry); err != nil || entry.State != store.Filed {
				return err
			}
			return e.tallied(l, entry)
		}
		if err != nil {
			return err
		}
		if err := e.Store.File(entry, e.now()); err != nil {
			return err
		}
		return e.tallied(l, entry)
	}
}

// displace moves the file that an entry replaces out of the way, unless that was
// done before.
func (e *Engine) displace(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	if entry.Displaced == "" {
		return nil
	}
	err := c.Retire(ctx, entry.Path, entry.Displaced)
	if errors.Is(err, cabinet.ErrMissing) || errors.Is(err, cabinet.ErrTaken) {
		return nil // it is out of the way; what lies there now is another's
	}
	return err
}

// name finds the exact path for an entry. done is a verdict where nothing is to
// be written.
func (e *Engine) name(ctx context.Context, c cabinet.Cabinet, entry *store.Entry, folders []string, stem, ext string, ifExists rule.IfExists, received time.Time, refused map[string]bool) (done store.State, reason string, err error) {
	file := stem + ext
	first, why := "", "was taken by another content"
	displaced := entry.Displaced
	entry.Displaced = ""
	for n, tries := 2, 0; ; n++ {
		if tries++; tries > mostNames {
			return "", "", &cabinet.Error{Problem: fmt.Sprintf("more than %d names like %s are taken", mostNames, path.Join(path.Join(folders...), stem+ext)), Advice: "Tidy up the folder, or let the rule make other names; then try again.", Lasting: true}
		}
		spot, err := resolve(ctx, c, folders, file)
		if err != nil {
			return "", "", err
		}
		if !spot.Taken && refused[spot.Path] { // what is there is not shown, and yet nothing else may have the name
			spot.Taken, spot.Other, spot.By = true, true, spot.Path
		}
		if !spot.Taken {
			if entry.Path = spot.Path; spot.New != "" || !strings.HasPrefix(entry.Path, entry.Made+"/") { // else made before a crash
				entry.Made = spot.New
			}
			if first != "" {
				reason = "the name " + path.Base(first) + " " + why
			}
			return "", reason, nil
		}
		there, isFile := cabinet.Content{}, false
		if !spot.Other {
			there, isFile, err = lookAt(ctx, c, spot.By)
		}
		switch {
		case errors.Is(err, cabinet.ErrMissing):
			n-- // it went away meanwhile
			continue
		case err != nil:
			return "", "", err
		case !isFile && ifExists == "keep":
			return store.LeftOut, "something of that name is there and is kept: " + spot.By, nil
		case !isFile:
			if first == "" {
				why = "was taken by something that is no file, or that cannot be read"
			}
		case isContent(there, entry):
			entry.Path = spot.By
			return store.There, "a file with the same content is there already: " + spot.By, nil
		case ifExists == "keep":
			return store.LeftOut, "a file of that name is there and is kept: " + spot.By, nil
		case ifExists == "replace" && first == "" && displaced == "":
			var may bool
			if may, why, err = e.mayReplace(entry.CabinetID, spot.By, &there, received); err != nil {
				return "", "", err
			}
			if may {
				entry.Path, entry.Displaced = spot.By, e.temporary(entry)
				return "", why, nil
			}
		}
		if first == "" {
			first = spot.By
		}
		file = safename.Numbered(stem, ext, n)
	}
}

// mostNames bounds how many names are tried for one file.
const mostNames = 10_000

// mostLooks is how often a cabinet that is in order is asked for something that it does not give, before the fault
// counts as that of what lies there.
const mostLooks = 3

// resolve finds the place for a name. Where it cannot be found though the cabinet is in order, this is no fault of the
// cabinet: other files are filed in it.
func resolve(ctx context.Context, c cabinet.Cabinet, folders []string, file string) (spot cabinet.Spot, err error) {
	for range mostLooks {
		if spot, err = c.Resolve(ctx, folders, file); err == nil || !only(ctx, c, err) {
			return spot, err
		}
	}
	return spot, &cabinet.Error{Problem: "the folder " + path.Join(folders...) + " cannot be looked into: " + trimStop(err.Error()), Advice: "Look at the folder in the cabinet, then try again.", Lasting: true, Err: err}
}

// lookAt measures what has a name. isFile is false where that cannot be read though the cabinet is in order.
func lookAt(ctx context.Context, c cabinet.Cabinet, name string) (there cabinet.Content, isFile bool, err error) {
	for range mostLooks {
		if there, err = c.Sum(ctx, name); err == nil || !only(ctx, c, err) {
			return there, err == nil, err
		}
	}
	return cabinet.Content{}, false, nil
}

// only says whether an error is about one name only: the cabinet itself is in order, as its own check says.
func only(ctx context.Context, c cabinet.Cabinet, err error) bool {
	var known *cabinet.Error
	if ctx.Err() != nil || errors.Is(err, cabinet.ErrMissing) || !errors.As(err, &known) || known.Lasting {
		return false
	}
	return c.Check(ctx) == nil
}

// onlyName says the same of an error that came when a file was to get its name: giving others theirs works.
func onlyName(ctx context.Context, c cabinet.Cabinet, err error) bool {
	if ofDisk(err) || !only(ctx, c, err) {
		return false
	}
	_, err = c.Prove(ctx)
	return err == nil
}

// mayReplace says whether a file may be replaced: it was filed here from an
// earlier message and nobody changed it since. why is said in either case.
func (e *Engine) mayReplace(cabinetID, name string, there *cabinet.Content, received time.Time) (may bool, why string, err error) {
	folder := path.Dir(name)
	if folder == "." {
		folder = ""
	}
	f, err := e.Store.FilingAt(cabinetID, folder, path.Base(name))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return false, "belongs to a file that Ink Tray did not file, so it was not replaced", nil
	case err != nil:
		return false, "", err
	case string(f.SHA256) != string(there.SHA256[:]):
		return false, "belongs to a file that somebody changed since it was filed, so it was not replaced", nil
	case !received.After(f.ReceivedAt):
		return false, "belongs to a file of a message that was received later, so it was not replaced", nil
	}
	return true, fmt.Sprintf("takes the place of number %d-%d, received on %s, which is kept", f.Year, f.Number, f.ReceivedAt.In(e.Zone).Format(time.DateOnly)), nil
}

func (e *Engine) finish(entry *store.Entry, state store.State, reason, advice string) error {
	entry.State, entry.Reason, entry.Advice = state, reason, advice
	return e.Store.Finish(entry, e.now())
}

// planReleased plans an entry that a person releases, under the rule that held it.
func (e *Engine) planReleased(ctx context.Context, s source.Session, l *letter, r *rule.Compiled, entry *store.Entry) error {
	item, ok, err := e.one(ctx, s, l, r, entry)
	if err != nil {
		return err
	}
	if !ok {
		entry.Cause = store.CauseGone
		return e.finish(entry, store.Failed, "the message no longer has this attachment", "")
	}
	c, err := e.Store.CabinetNamed(item.Target.Cabinet)
	if err != nil {
		entry.Cause = store.CauseSetting
		return e.finish(entry, store.Failed, fmt.Sprintf("there is no cabinet called “%s”", item.Target.Cabinet), "Choose a cabinet in the rule, then try again.")
	}
	entry.CabinetID, entry.Wanted = c.ID, item.Path()
	return e.Store.Replan(entry)
}

// planAgain plans an entry under its rule as it is now, after the rules before it.
func (e *Engine) planAgain(ctx context.Context, session source.Session, l *letter, entry *store.Entry) (*rule.Compiled, error) {
	if entry.Given == "release" {
		r, err := e.rule(entry.RuleID, entry.RuleRevision)
		if err != nil {
			return nil, err
		}
		return r, e.planReleased(ctx, session, l, r, entry)
	}
	row, err := e.Store.RuleByID(entry.RuleID)
	if err != nil || row.Removed {
		return nil, e.finish(entry, store.LeftOut, "the rule was removed", "")
	}
	r, err := e.rule(row.ID, row.Revision)
	if err != nil {
		return nil, err
	}
	var rules []*rule.Compiled
	for _, other := range e.running() {
		if other.Rule.ID == row.ID {
			break
		}
		if other.Rule.Look.Looks(l.mailbox) && inFolders(&other.Rule.Look, l.row.Folder) {
			rules = append(rules, other)
		}
	}
	setting := e.setting(l.mailbox, entry.PlannedAt.In(e.Zone))
	setting.Explain = true
	p, err := e.settle(ctx, session, l, append(rules, r), setting)
	if err != nil {
		return nil, err
	}
	mine := p.Rules[len(p.Rules)-1]
	if mine.Match.Answer != rule.Yes {
		state := store.LeftOut
		if mine.Match.Answer != rule.No {
			state, entry.Cause = store.Held, store.CauseDoubtful
			if entry.Topic = mine.Match.Topic; entry.Topic != "" {
				entry.Cause = store.CauseTopic
			}
		}
		return nil, e.finish(entry, state, "tried again under the rule as it is now: "+mine.Match.Text, "")
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
			found, err := e.entryOf(r, inner, cabinets, e.Clock().UTC())
			if err != nil {
				return nil, err
			}
			within = append(within, found)
		}
		for _, found := range inTray(within) {
			found.MessageID, found.MailboxID, found.PassID, found.Round = entry.MessageID, entry.MailboxID, entry.PassID, entry.Round
			if err := e.Store.AddEntry(&found); err != nil {
				return nil, err
			}
		}
		if item.Verdict == plan.Held {
			entry.Cause = causeOf(item)
		}
		if item.Verdict != plan.Filed {
			return nil, e.finish(entry, store.State(item.Verdict), "tried again under the rule as it is now: "+item.Reason, "")
		}
		c, err := e.Store.CabinetNamed(item.Target.Cabinet)
		if err != nil {
			entry.Cause = store.CauseSetting
			return nil, e.finish(entry, store.Failed, fmt.Sprintf("there is no cabinet called “%s”", item.Target.Cabinet), "Choose a cabinet in the rule, then try again.")
		}
		entry.RuleRevision, entry.CabinetID, entry.Wanted = row.Revision, c.ID, item.Path()
		return r, e.Store.Replan(entry)
	}
	entry.Cause = store.CauseGone
	return nil, e.finish(entry, store.Failed, "the message no longer has this attachment", "")
}

// recover goes on with what was staged: after a crash, or when a cabinet is back.
func (e *Engine) recover(ctx context.Context, cabinetID string) {
	entries, err := e.Store.StagedEntries(cabinetID)
	if err != nil || len(entries) == 0 {
		return
	}
	g, err := e.gate(cabinetID)
	if err != nil || g.ready(ctx) != nil {
		return
	}
	for i := range entries {
		entry := &entries[i]
		if !e.claim(entry.ID) {
			continue
		}
		err := func() error {
			if entry.Displaced != "" {
				g.replacing.Lock()
				defer g.replacing.Unlock()
			}
			return e.recoverOne(ctx, g.cabinet, entry)
		}()
		e.release(entry.ID)
		e.rouse(entry.MailboxID)
		e.hasten()
		if err != nil {
			e.Log.Warn("going on with what was staged", "item", entry.Name, "error", err)
			var inCabinet *cabinet.Error
			switch {
			case !errors.As(err, &inCabinet):
			case inCabinet.Lasting: // of this item
				entry.Cause = store.CauseCabinet
				if err := errors.Join(g.cabinet.Discard(ctx, e.temporary(entry)), e.finish(entry, store.Failed, inCabinet.Problem, inCabinet.Advice)); err != nil {
					e.Log.Warn("going on with what was staged", "item", entry.Name, "error", err)
				}
			case !onlyName(ctx, g.cabinet, err):
				g.trip(err)
				return
			}
		}
	}
}

func (e *Engine) recoverOne(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	fresh, err := e.Store.EntryByID(store.System, entry.ID)
	if err != nil || fresh.State != store.Staged {
		return err
	}
	*entry = fresh
	refused := map[string]bool{}
	failed := 0 // attempts to give a name, while the cabinet was in order
	for again := false; ; {
		waits, err := c.Staged(ctx, e.temporary(entry))
		if err != nil {
			return err
		}
		if !waits { // the temporary object is gone, so it has got its name, or somebody took it away
			there, _, err := lookAt(ctx, c, entry.Path)
			if errors.Is(err, cabinet.ErrMissing) {
				if again {
					return e.stageAgain(ctx, c, entry)
				}
				again = true
				if err := c.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
					return err
				}
				continue
			} else if err != nil {
				return err
			}
			if !isContent(there, entry) {
				return e.stageAgain(ctx, c, entry) // another's file has the name
			}
			if err := c.Discard(ctx, e.temporary(entry)); err != nil { // a second name that was left over
				return err
			}
			return e.Store.File(entry, e.now())
		}
		there, isFile, err := lookAt(ctx, c, entry.Path)
		if err == nil && isFile && isContent(there, entry) {
			// Another's file with the same content came first, or this one has both names.
			if err := c.Discard(ctx, e.temporary(entry)); err != nil {
				return err
			}
			return e.Store.File(entry, e.now())
		}
		if err != nil && !errors.Is(err, cabinet.ErrMissing) {
			return err
		}
		if err == nil && isFile {
			if err := e.displaceAgain(ctx, c, entry, &there); err != nil {
				return err
			}
		}
		err = c.Commit(ctx, e.temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			if err := e.renameStaged(ctx, c, entry, refused); err != nil || entry.State != store.Staged {
				return err
			}
			continue
		}
		if err != nil && onlyName(ctx, c, err) {
			switch failed++; {
			case failed%mostLooks > 0: // perhaps it was done, and the answer got lost
				continue
			case failed/mostLooks >= mostLooks:
				if err := c.Discard(ctx, e.temporary(entry)); err != nil {
					return err
				}
				entry.Cause = store.CauseCabinet
				return e.finish(entry, store.Failed, "the file could not get a name in its folder: "+trimStop(err.Error()), "Look at the folder in the cabinet, then try again.")
			}
			if err := e.renameStaged(ctx, c, entry, refused); err != nil || entry.State != store.Staged {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		return e.Store.File(entry, e.now())
	}
}

// renameStaged finds the next name for what is staged: nothing may have the one it was to get. Where a file with the
// same content is there already, that is the end of it.
func (e *Engine) renameStaged(ctx context.Context, c cabinet.Cabinet, entry *store.Entry, refused map[string]bool) error {
	refused[entry.Path] = true
	folder, file := path.Split(entry.Path)
	ext := mail.Extension(file)
	done, reason, err := e.name(ctx, c, entry, strings.Split(strings.TrimSuffix(folder, "/"), "/"), strings.TrimSuffix(file, ext), ext, "number", time.Time{}, refused)
	if err != nil {
		return err
	}
	if done != "" {
		if err := c.Discard(ctx, e.temporary(entry)); err != nil {
			return err
		}
		return e.finish(entry, done, reason, "")
	}
	entry.Reason = reason
	return e.Store.Rename(entry)
}

// isContent says whether a content is an entry's.
func isContent(there cabinet.Content, entry *store.Entry) bool {
	return there.Size == entry.Size && string(there.SHA256[:]) == string(entry.SHA256)
}

// stageAgain lets an entry begin anew whose staged content is neither there nor
// under its name: somebody emptied the cabinet's own folder, or took the file
// away before it was entered.
func (e *Engine) stageAgain(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	e.Log.Warn("what was staged is gone; it is read again", "item", entry.Name)
	if entry.Displaced != "" { // what was moved out of the way for it has its place again
		if err := c.Restore(ctx, entry.Displaced, entry.Path); err != nil && !errors.Is(err, cabinet.ErrMissing) && !errors.Is(err, cabinet.ErrTaken) {
			return err
		}
	}
	entry.State, entry.NextAt = store.Planned, nil
	return e.Store.Postpone(entry)
}

// displaceAgain goes on with a replacement that was interrupted: the file that
// is there is moved out of the way only if it is still the one that may be.
func (e *Engine) displaceAgain(ctx context.Context, c cabinet.Cabinet, entry *store.Entry, there *cabinet.Content) error {
	if entry.Displaced == "" {
		return nil
	}
	if kept, err := c.Kept(ctx, entry.Displaced); err == nil {
		// Done before: what is there now came after, or a power cut brought its
		// first name back.
		return errors.Join(kept.Close(), e.displace(ctx, c, entry))
	} else if !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	m, err := e.Store.MessageByID(store.System, entry.MessageID)
	if err != nil {
		return err
	}
	may, _, err := e.mayReplace(entry.CabinetID, entry.Path, there, m.ReceivedAt)
	if err != nil || !may {
		return err
	}
	return e.displace(ctx, c, entry)
}

// sweep removes temporary objects of which the journal knows nothing.
func (e *Engine) sweep(ctx context.Context, cabinetID string) {
	g, err := e.gate(cabinetID)
	if err != nil || g.ready(ctx) != nil {
		return
	}
	left, err := g.cabinet.Leftovers(ctx)
	if err != nil {
		e.Log.Warn("looking for unfinished files", "cabinet", g.row.Name, "error", err)
		return
	}
	for _, name := range left {
		rest, mine := strings.CutPrefix(name, e.mark+"-")
		if !mine && !strings.HasPrefix(name, cabinet.Probe) {
			continue
		}
		number, _, _ := strings.Cut(rest, "-")
		if id, err := strconv.ParseInt(number, 10, 64); err == nil {
			entry, err := e.Store.EntryByID(store.System, id)
			if err == nil && entry.State == store.Staged && e.temporary(&entry) == name {
				continue
			}
		}
		if err := g.cabinet.Discard(ctx, name); err != nil {
			e.Log.Warn("removing an unfinished file", "cabinet", g.row.Name, "name", name, "error", err)
		}
	}
}
