package engine

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"path"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// mostAttempts is how often an item is tried before a person is asked.
const mostAttempts = 8

// letter is one message in hand.
type letter struct {
	row     *store.Message
	facts   *source.Facts
	message *mail.Message
	mailbox string // its name
}

// temporary is the name under which an entry's content is staged. It begins with
// the service's own mark: others may stage in the same cabinet.
func (e *Engine) temporary(entry *store.Entry) string {
	return e.mark + "-" + strconv.FormatInt(entry.ID, 10)
}

// setting is what plans are made with.
func (e *Engine) setting(mailbox string, now time.Time) plan.Setting {
	return plan.Setting{Mailbox: mailbox, Now: now, Language: e.Language}
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
	err = e.fileClaimed(ctx, s, l, entry)
	if err == nil {
		e.Log.Info("decided", "state", entry.State, "item", entry.Name, "path", entry.Path, "reason", entry.Reason)
		return nil
	}
	var closed *closedError
	var inCabinet *cabinet.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err() // it stays planned
	case errors.As(err, &closed):
		entry.NextAt, entry.Reason = &closed.until, "waits for the cabinet: "+closed.Error()
		return e.Store.Postpone(entry)
	case errors.As(err, &inCabinet) && inCabinet.Lasting:
		entry.State, entry.Reason, entry.Advice = store.Failed, inCabinet.Problem, inCabinet.Advice
		return e.Store.Finish(entry, e.now())
	case errors.As(err, &inCabinet):
		g, gateErr := e.gate(entry.CabinetID)
		if gateErr != nil {
			return gateErr
		}
		errors.As(g.trip(err), &closed)
		if entry.State == store.Staged {
			return nil // recover goes on with it
		}
		entry.NextAt, entry.Reason = &closed.until, "waits for the cabinet: "+closed.Error()
		return e.Store.Postpone(entry)
	case errors.Is(err, source.ErrGone):
		entry.State, entry.Reason = store.Failed, "the message is no longer in the folder “"+l.row.Folder+"”"
		entry.Advice = "If it was moved, put it back or let a rule look where it is now; then try again."
		return e.Store.Finish(entry, e.now())
	}
	// The mailbox failed, or something unforeseen did.
	entry.Attempts++
	entry.Reason = err.Error()
	if entry.Attempts >= mostAttempts {
		entry.State, entry.Advice = store.Failed, "It was tried "+strconv.Itoa(entry.Attempts)+" times. Look at the mailbox, then try again."
		return errors.Join(err, e.Store.Finish(entry, e.now()))
	}
	next := e.now().Add(pause(entry.Attempts))
	entry.NextAt = &next
	return errors.Join(err, e.Store.Postpone(entry))
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
		if r, err = e.planAgain(l, entry); err != nil || entry.State != store.Planned {
			return err
		}
	}
	item, ok := plan.One(r, l.message, e.setting(l.mailbox, entry.PlannedAt.In(e.Zone)), entry.Item)
	if !ok || item.Segments == nil {
		return e.finish(entry, store.Failed, "the message no longer has this attachment", "Look at the message; perhaps the mail server changed it.")
	}
	g, err := e.gate(entry.CabinetID)
	if err != nil {
		return e.finish(entry, store.Failed, "the rule's cabinet is no longer there", "Choose a cabinet in the rule, then try again.")
	}
	if err := g.ready(ctx); err != nil {
		return err
	}
	content, held, err := e.stage(ctx, s, l, entry, &item, g.cabinet)
	if err != nil {
		return err
	}
	if held != "" {
		return e.finish(entry, store.Held, held, "Ask the sender whether it is meant. If it is not, set it aside.")
	}
	entry.Size, entry.SHA256 = content.Size, content.SHA256[:]
	return e.commit(ctx, g.cabinet, l, r, entry, &item)
}

// stage streams the attachment into the cabinet. What turns out to be a program
// in disguise is not written.
func (e *Engine) stage(ctx context.Context, s source.Session, l *letter, entry *store.Entry, item *plan.Item, c cabinet.Cabinet) (content cabinet.Content, held string, err error) {
	part, err := s.Part(ctx, l.facts, entry.Item)
	if err != nil {
		return content, "", err
	}
	in := bufio.NewReaderSize(mail.Decode(item.Item.Encoding, part), 4096)
	first, err := in.Peek(512)
	if err == nil || err == io.EOF {
		if what := mail.Disguised(item.Item.Kind, first); what != "" {
			part.Close()
			return content, fmt.Sprintf("named %s, but it is %s. Nothing was written", strings.TrimSpace(item.Ext+" "), what), nil
		}
	}
	content, err = c.Stage(ctx, e.temporary(entry), l.message.Received, in)
	if closeErr := part.Close(); err == nil && closeErr != nil {
		err = errors.Join(closeErr, c.Discard(ctx, e.temporary(entry)))
	}
	return content, "", err
}

// commit gives the staged content its name.
func (e *Engine) commit(ctx context.Context, c cabinet.Cabinet, l *letter, r *rule.Compiled, entry *store.Entry, item *plan.Item) error {
	drop := func(state store.State, reason string) error {
		if err := c.Discard(ctx, e.temporary(entry)); err != nil {
			return err
		}
		return e.finish(entry, state, reason, "")
	}
	if before, found, err := e.Store.FiledBefore(entry, l.row.Fingerprint, entry.SHA256); err != nil {
		return err
	} else if found {
		entry.Path = before.Path
		return drop(store.There, "the same attachment of the same message was filed before, as "+before.Path)
	}
	if item.Target.NeedsRegister() {
		if err := e.Store.Draw(entry, e.now()); err != nil {
			return err
		}
		plan.Number(item, r, l.message, e.setting(l.mailbox, entry.PlannedAt.In(e.Zone)), entry.RegisterYear, entry.RegisterNumber)
	} else if folder, file := path.Split(entry.Wanted); folder != "" { // the path that was planned is frozen
		item.Segments = strings.Split(strings.TrimSuffix(folder, "/"), "/")
		item.Stem = strings.TrimSuffix(file, item.Ext)
	}
	for {
		done, reason, err := e.name(ctx, c, entry, item.Segments, item.Stem, item.Ext, item.IfExists)
		if err != nil {
			return err
		}
		if done != "" {
			return drop(done, reason)
		}
		entry.Reason = reason
		if entry.State != store.Staged {
			err = e.Store.Stage(entry, e.now())
		} else {
			err = e.Store.Rename(entry)
		}
		if err != nil {
			return err
		}
		err = c.Commit(ctx, e.temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			continue // somebody was quicker: the next name
		}
		if err != nil {
			return err
		}
		return e.Store.File(entry, e.now())
	}
}

// name finds the exact path for an entry. done is a verdict where nothing is to
// be written.
func (e *Engine) name(ctx context.Context, c cabinet.Cabinet, entry *store.Entry, folders []string, stem, ext string, ifExists rule.IfExists) (done store.State, reason string, err error) {
	file := stem + ext
	first := ""
	for n := 2; ; n++ {
		spot, err := c.Resolve(ctx, folders, file)
		if err != nil {
			return "", "", err
		}
		if !spot.Taken {
			entry.Path = spot.Path
			if first != "" {
				reason = "the name " + path.Base(first) + " was taken by another content"
			}
			return "", reason, nil
		}
		if first == "" {
			first = spot.By
		}
		there, err := c.Sum(ctx, spot.By)
		switch {
		case errors.Is(err, cabinet.ErrMissing):
			n-- // it went away meanwhile
			continue
		case err != nil:
			return "", "", err
		case there.Size == entry.Size && string(there.SHA256[:]) == string(entry.SHA256):
			entry.Path = spot.By
			return store.There, "a file with the same content is there already: " + spot.By, nil
		case ifExists == "keep":
			return store.LeftOut, "a file of that name is there and is kept: " + spot.By, nil
		}
		file = safename.Numbered(stem, ext, n)
	}
}

func (e *Engine) finish(entry *store.Entry, state store.State, reason, advice string) error {
	entry.State, entry.Reason, entry.Advice = state, reason, advice
	return e.Store.Finish(entry, e.now())
}

// planAgain plans an entry under its rule as it is now.
func (e *Engine) planAgain(l *letter, entry *store.Entry) (*rule.Compiled, error) {
	row, err := e.Store.RuleByID(entry.RuleID)
	if err != nil || row.Removed {
		return nil, e.finish(entry, store.LeftOut, "the rule was removed", "")
	}
	r, err := e.rule(row.ID, row.Revision)
	if err != nil {
		return nil, err
	}
	p := plan.Make([]*rule.Compiled{r}, l.message, e.setting(l.mailbox, entry.PlannedAt.In(e.Zone)))
	if p.Rules[0].Match.Answer != rule.Yes {
		state := store.LeftOut
		if p.Rules[0].Match.Answer != rule.No {
			state = store.Held
		}
		return nil, e.finish(entry, state, "tried again under the rule as it is now: "+p.Rules[0].Match.Text, "")
	}
	for i := range p.Rules[0].Items {
		item := &p.Rules[0].Items[i]
		if item.Item.ID != entry.Item {
			continue
		}
		if item.Verdict != plan.Filed {
			return nil, e.finish(entry, store.State(item.Verdict), "tried again under the rule as it is now: "+item.Reason, "")
		}
		c, err := e.Store.CabinetNamed(r.Rule.Cabinet)
		if err != nil {
			return nil, e.finish(entry, store.Failed, fmt.Sprintf("there is no cabinet called “%s”", r.Rule.Cabinet), "Choose a cabinet in the rule, then try again.")
		}
		entry.RuleRevision, entry.CabinetID, entry.Wanted = row.Revision, c.ID, item.Path()
		return r, e.Store.Replan(entry)
	}
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
		err := e.recoverOne(ctx, g.cabinet, entry)
		e.release(entry.ID)
		if err != nil {
			e.Log.Warn("going on with what was staged", "item", entry.Name, "error", err)
			var inCabinet *cabinet.Error
			if errors.As(err, &inCabinet) {
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
	for {
		waits, err := c.Staged(ctx, e.temporary(entry))
		if err != nil {
			return err
		}
		if !waits { // the temporary object is gone, so it has got its name
			if err := c.Discard(ctx, e.temporary(entry)); err != nil { // a second name that was left over
				return err
			}
			return e.Store.File(entry, e.now())
		}
		there, err := c.Sum(ctx, entry.Path)
		if err == nil && there.Size == entry.Size && string(there.SHA256[:]) == string(entry.SHA256) {
			// Another's file with the same content came first, or this one has both names.
			if err := c.Discard(ctx, e.temporary(entry)); err != nil {
				return err
			}
			return e.Store.File(entry, e.now())
		}
		if err != nil && !errors.Is(err, cabinet.ErrMissing) {
			return err
		}
		err = c.Commit(ctx, e.temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			folder, file := path.Split(entry.Path)
			ext := mail.Extension(file)
			done, reason, err := e.name(ctx, c, entry, strings.Split(strings.TrimSuffix(folder, "/"), "/"), strings.TrimSuffix(file, ext), ext, "number")
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
			if err := e.Store.Rename(entry); err != nil {
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
		number, mine := strings.CutPrefix(name, e.mark+"-")
		if !mine {
			continue
		}
		if id, err := strconv.ParseInt(number, 10, 64); err == nil {
			if entry, err := e.Store.EntryByID(store.System, id); err == nil && entry.State == store.Staged {
				continue
			}
		}
		if err := g.cabinet.Discard(ctx, name); err != nil {
			e.Log.Warn("removing an unfinished file", "cabinet", g.row.Name, "name", name, "error", err)
		}
	}
}
