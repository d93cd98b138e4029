package registry

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/store"
)

// UndoLine is what an undoing would do with one filing.
type UndoLine struct {
	Entry  store.Entry
	Takes  bool          // the file is taken back
	Reason reason.Reason // what happens to the file
}

// UndoPreview is what an undoing would do. Nothing is changed by it.
type UndoPreview struct {
	Lines   []UndoLine
	Returns int      // messages that are moved back
	Changes []string // labels and marks that are taken back, in words
	Stays   []string // what cannot be taken back, such as replies that were sent
}

// ErrNothing says that no filing can be taken back.
var ErrNothing = errors.New("there is nothing to take back: it filed nothing, or all of it was taken back already")

// PreviewUndo looks at what taking a pass or one filing back would do.
func (rg *Registry) PreviewUndo(ctx context.Context, v store.Viewer, passID, entryID int64) (UndoPreview, error) {
	var p UndoPreview
	entries, err := rg.Store.Undoing.Undoable(ctx, v, passID, entryID)
	if err != nil {
		return p, err
	}
	if len(entries) == 0 && passID > 0 {
		return rg.previewHand(ctx, v, passID)
	}
	if len(entries) == 0 {
		return p, ErrNothing
	}
	mine := map[int64]bool{}
	messages := map[int64]bool{}
	for i := range entries {
		mine[entries[i].ID] = true
		messages[entries[i].MessageID] = true
	}
	for i := range entries {
		entry := &entries[i]
		line := UndoLine{Entry: *entry}
		shared, err := rg.Store.Undoing.SharedWith(ctx, entry)
		if err != nil {
			return p, err
		}
		others := 0
		for k := range shared {
			if !mine[shared[k].ID] {
				others++
			}
		}
		switch what, err := rg.lookAt(ctx, entry); {
		case err != nil:
			line.Reason = reason.CabinetUnreadable(err.Error())
		case others > 0:
			line.Reason = reason.StaysShared()
		case !what.IsZero():
			line.Reason = what
		default:
			line.Takes, line.Reason = true, reason.TakenOut()
			if _, err := rg.Store.Undoing.Replaced(ctx, entry); err == nil {
				line.Reason = reason.And(line.Reason, reason.PutBack())
			}
		}
		p.Lines = append(p.Lines, line)
	}
	for id := range messages {
		follow, err := rg.Store.FollowUps.FollowUpsOf(ctx, v, id)
		if err != nil {
			return p, err
		}
		for i := range follow {
			switch f := &follow[i]; {
			case f.State != store.DidIt:
			case f.Kind == "move" && f.FromFolder != "":
				p.Returns++
			case f.Kind == "reply":
				p.Stays = append(p.Stays, "the reply to "+f.What)
			case f.Kind == "tell":
				p.Stays = append(p.Stays, "that "+f.What+" was told")
			case f.Kind == "draft":
				p.Stays = append(p.Stays, "the draft of a reply to "+f.What)
			case f.Kind == "mark" || f.Kind == "label" || f.Kind == "remove label":
				p.Stays = append(p.Stays, f.Kind+" “"+f.What+"”")
			}
		}
	}
	p.Stays = phrase.Tally(p.Stays)
	return p, nil
}

// ErrNotUndone says that no filing of the message was taken back.
var ErrNotUndone = errors.New("nothing of this message was taken back, so nothing is filed again")

// lookAt says why a file would not be taken back, none where it would be.
func (rg *Registry) lookAt(ctx context.Context, entry *store.Entry) (why reason.Reason, err error) {
	if entry.State == store.There {
		own, err := rg.Store.Undoing.FiledHere(ctx, entry)
		if err != nil {
			return why, err
		}
		if !own {
			return reason.StaysNotFiledHere(), nil
		}
	}
	g, err := rg.Cabinets.Gate(ctx, entry.CabinetID)
	if err != nil {
		return reason.StaysNoCabinet(), nil
	}
	there, err := cabinet.Sum(ctx, g.Cabinet, entry.Path)
	switch {
	case errors.Is(err, cabinet.ErrMissing):
		if err := g.Cabinet.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
			return why, err
		}
		return reason.NotWhereFiled(), nil
	case err != nil:
		return why, err
	case !filing.IsContent(there, entry):
		return reason.StaysChanged(), nil
	}
	return why, nil
}

// Undo takes a pass or one filing back. It goes on by itself after a restart and
// when a cabinet is out of reach; the pass that is returned tells how far it is.
func (rg *Registry) Undo(ctx context.Context, v store.Viewer, passID, entryID int64) (store.Pass, error) {
	entries, err := rg.Store.Undoing.Undoable(ctx, v, passID, entryID)
	if err != nil {
		return store.Pass{}, err
	}
	if len(entries) == 0 && passID > 0 {
		return rg.takeBackHand(ctx, v, passID)
	}
	if len(entries) == 0 {
		return store.Pass{}, ErrNothing
	}
	p := store.Pass{Kind: "undo", Undoes: passID, MadeBy: v.Name, State: store.Running, StartedAt: rg.Clock().UTC()}
	box, one := entries[0].MailboxID, true
	messages := map[int64]bool{}
	ids := make([]int64, 0, len(entries))
	for i := range entries {
		ids = append(ids, entries[i].ID)
		messages[entries[i].MessageID] = true
		one = one && entries[i].MailboxID == box
	}
	if one {
		p.MailboxID = box
	}
	if entryID > 0 {
		p.Note = path.Base(entries[0].Path)
	}
	p.Total, p.Matched = len(messages), len(messages)
	if err := rg.Store.Undoing.Ask(ctx, v, ids, &p); err != nil {
		return p, err
	}
	rg.Go("taking back", func(ctx context.Context) { rg.TakeBack(ctx) })
	return p, nil
}

// TakeBack goes on with everything that is to be taken back.
func (rg *Registry) TakeBack(ctx context.Context) {
	rg.undoing.Lock()
	defer rg.undoing.Unlock()
	// The passes first: what is asked meanwhile belongs to none of them.
	open, err := rg.Store.Undoing.Open(ctx)
	if err != nil {
		rg.Log.Error("reading the passes", "error", err)
		return
	}
	entries, err := rg.Store.Undoing.Asked(ctx)
	if err != nil {
		rg.Log.Error("reading what is to be taken back", "error", err)
		return
	}
	left := map[int64]bool{}
	for i := range entries {
		entry := &entries[i]
		if ctx.Err() != nil {
			return
		}
		if err := rg.undoOne(ctx, entry); err != nil {
			left[entry.UndoPass] = true
			rg.Log.Warn("taking a filing back", "item", entry.Name, "error", err)
		}
	}
	for i := range open {
		p := &open[i]
		if left[p.ID] {
			continue
		}
		rg.removeMade(ctx, p)
		n, err := rg.Store.Undoing.Return(ctx, p.ID, rg.Clock())
		if err == nil {
			ended := rg.Clock()
			p.Looked, p.State, p.EndedAt = p.Total, store.Done, &ended
			err = rg.Store.Passes.Save(ctx, p)
		}
		if err != nil {
			rg.Log.Error("ending an undoing", "error", err)
		}
		if n > 0 {
			rg.WakeAll()
		}
		rg.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(p.ID)})
	}
}

// removeMade removes the folders that were made for what a pass took back, where nothing is
// in them any more. A folder that cannot be removed now stays: nothing is lost by it.
func (rg *Registry) removeMade(ctx context.Context, p *store.Pass) {
	made, err := rg.Store.Undoing.MadeFolders(ctx, p.ID)
	if err != nil {
		rg.Log.Error("reading which folders were made", "error", err)
		return
	}
	n := 0
	for id, folders := range made {
		g, err := rg.Cabinets.Gate(ctx, id)
		if err != nil {
			continue
		}
		for _, folder := range folders {
			switch removed, err := g.RemoveFolder(ctx, folder); {
			case errors.Is(err, cabinet.ErrNotEmpty):
			case err != nil:
				rg.Log.Warn("removing an empty folder", "folder", folder, "error", err)
			case removed:
				n++
			}
		}
	}
	if n > 0 {
		note := "a folder that was made for it is removed"
		if n > 1 {
			note = fmt.Sprintf("%d folders that were made for it are removed", n)
		}
		p.Note = phrase.Join(p.Note, note)
	}
}

// FilePassAgain lets everything be filed again that was taken back of a pass.
func (rg *Registry) FilePassAgain(ctx context.Context, v store.Viewer, passID int64) (items, messages int, err error) {
	if _, err := rg.Store.Passes.ByID(ctx, v, passID); err != nil {
		return 0, 0, err
	}
	items, messages, err = rg.Store.Undoing.FilePassAgain(ctx, v, passID, rg.Clock())
	if err == nil && items == 0 {
		return 0, 0, ErrNothingAgain
	}
	rg.WakeAll()
	return items, messages, err
}

// ErrNothingAgain says that nothing of a pass was taken back.
var ErrNothingAgain = errors.New("nothing of this pass was taken back, or all of it is filed again already")

// undoOne takes one filing back. Each step can be done again: a crash between two
// of them loses nothing. The error, if any, is the cabinet's.
func (rg *Registry) undoOne(ctx context.Context, entry *store.Entry) error {
	pass, err := rg.Store.Passes.ByID(ctx, store.System, entry.UndoPass)
	if err != nil {
		return err
	}
	end := func(how store.Undo, why reason.Reason, kept string, back *store.Filing) error {
		entry.Undo, entry.Reason = how, why
		return rg.Store.Undoing.End(ctx, entry, kept, pass.MadeBy, back, rg.Clock())
	}
	g, err := rg.Cabinets.Gate(ctx, entry.CabinetID)
	if err != nil {
		return end(store.UndoKept, reason.StaysNoCabinet(), "", nil)
	}
	if err := g.Ready(ctx); err != nil {
		return err
	}
	name := rg.Filer.Temporary(entry) + filing.BackSuffix
	kept, err := sumKept(ctx, g.Cabinet, name)
	done := err == nil && filing.IsContent(kept, entry) // before a crash
	if err != nil && !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	if !done {
		shared, err := rg.Store.Undoing.SharedWith(ctx, entry)
		if err != nil {
			return err
		}
		if len(shared) > 0 {
			return end(store.Undone, reason.TakenBackShared(), "", nil)
		}
		why, err := rg.lookAt(ctx, entry)
		if err != nil {
			return err
		}
		if !why.IsZero() {
			return end(store.UndoKept, reason.NotTakenBack(why), "", nil)
		}
	}
	// Also when it was done before: after a power cut both names may be there.
	if err := cabinet.Retire(ctx, g.Cabinet, entry.Path, name); err != nil && !errors.Is(err, cabinet.ErrMissing) &&
		!errors.Is(err, cabinet.ErrTaken) {
		return err
	}
	by := reason.TakenBackBy(pass.MadeBy)
	back, err := rg.Store.Undoing.Replaced(ctx, entry)
	if errors.Is(err, store.ErrNotFound) {
		return end(store.Undone, by, name, nil)
	}
	if err != nil {
		return err
	}
	switch err := cabinet.Restore(ctx, g.Cabinet, entry.Displaced, path.Join(back.Folder, back.File)); {
	case err == nil, errors.Is(err, cabinet.ErrMissing): // before a crash
		return end(store.Undone, reason.And(by, reason.PlaceAgain()), name, &back)
	case errors.Is(err, cabinet.ErrTaken):
		return end(store.Undone, reason.And(by, reason.PlaceTaken()), name, nil)
	default:
		return err
	}
}

// FileAgain lets what was taken back of a message be filed again.
func (rg *Registry) FileAgain(ctx context.Context, v store.Viewer, messageID int64) (int, error) {
	n, err := rg.Store.Undoing.FileAgain(ctx, v, messageID, rg.Clock())
	if err == nil && n == 0 {
		return 0, ErrNotUndone
	}
	rg.WakeAll()
	return n, err
}

// sumKept reads a file that was moved out of the way and returns its size and checksum.
func sumKept(ctx context.Context, c cabinet.Cabinet, name string) (content cabinet.Content, err error) {
	r, err := cabinet.Kept(ctx, c, name)
	if err != nil {
		return content, err
	}
	content, err = cabinet.Measure(ctx, r)
	return content, errors.Join(err, r.Close())
}

// previewHand looks at what taking back would do where a person changed messages.
func (rg *Registry) previewHand(ctx context.Context, v store.Viewer, passID int64) (UndoPreview, error) {
	var p UndoPreview
	changes, err := rg.Store.Undoing.HandChanges(ctx, v, passID)
	if err != nil {
		return p, err
	}
	if len(changes) == 0 {
		return p, ErrNothing
	}
	var said []string
	for i := range changes {
		if changes[i].Kind == "move" {
			p.Returns++
			continue
		}
		said = append(said, StepsInWords(changes[i:i+1]))
	}
	p.Changes = phrase.Tally(said)
	return p, nil
}

// takeBackHand takes back what a person changed on messages.
func (rg *Registry) takeBackHand(ctx context.Context, v store.Viewer, passID int64) (store.Pass, error) {
	if _, err := rg.Store.Passes.ByID(ctx, v, passID); err != nil {
		return store.Pass{}, err
	}
	p, err := rg.Store.Undoing.TakeBackHand(ctx, v, passID, rg.Clock())
	if errors.Is(err, store.ErrNotFound) {
		return p, ErrNothing
	}
	rg.WakeAll()
	rg.Events.Send(events.Event{Kind: "pass"})
	return p, err
}

// StepsInWords says in words what is done with messages.
func StepsInWords(steps []store.FollowUp) string {
	var said []string
	for _, s := range steps {
		switch s.Kind {
		case "mark":
			said = append(said, "marked as "+s.What)
		case "label":
			said = append(said, "label “"+s.What+"”")
		case "remove label":
			said = append(said, "label “"+s.What+"” taken off")
		case "move":
			said = append(said, "moved to “"+s.What+"”")
		}
	}
	return strings.Join(said, ", ")
}
