package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/store"
)

// UndoLine is what an undoing would do with one filing.
type UndoLine struct {
	Entry  store.Entry
	Takes  bool   // the file is taken back
	Reason string // what happens to the file, in words
}

// UndoPreview is what an undoing would do. Nothing is changed by it.
type UndoPreview struct {
	Lines   []UndoLine
	Returns int      // messages that are moved back
	Changes []string // labels and marks that are taken back, in words
	Stays   []string // what cannot be taken back, such as replies that were sent
}

// ErrNothing says that there is nothing to be done.
var ErrNothing = errors.New("there is nothing to take back: it filed nothing, or all of it was taken back already")

// PreviewUndo looks at what taking a pass or one filing back would do.
func (e *Engine) PreviewUndo(ctx context.Context, v store.Viewer, passID, entryID int64) (UndoPreview, error) {
	var p UndoPreview
	entries, err := e.Store.Undoable(v, passID, entryID)
	if err != nil {
		return p, err
	}
	if len(entries) == 0 && passID > 0 {
		return e.previewHand(v, passID)
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
		shared, err := e.Store.SharedWith(entry)
		if err != nil {
			return p, err
		}
		others := 0
		for k := range shared {
			if !mine[shared[k].ID] {
				others++
			}
		}
		switch what, err := e.lookAt(ctx, entry); {
		case err != nil:
			line.Reason = "the cabinet cannot be read now: " + err.Error()
		case others > 0:
			line.Reason = "the file stays: it is the file of another filing too"
		case what != "":
			line.Reason = what
		default:
			line.Takes, line.Reason = true, "the file is taken out of its folder and kept for a while"
			if _, err := e.Store.Replaced(entry); err == nil {
				line.Reason += "; the file that it replaced is put back"
			}
		}
		p.Lines = append(p.Lines, line)
	}
	for id := range messages {
		follow, err := e.Store.FollowUpsOf(v, id)
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
	p.Stays = joined(p.Stays)
	return p, nil
}

// joined counts what is the same.
func joined(all []string) []string {
	n := map[string]int{}
	var out []string
	for _, s := range all {
		if n[s]++; n[s] == 1 {
			out = append(out, s)
		}
	}
	for i, s := range out {
		if n[s] > 1 {
			out[i] = fmt.Sprintf("%s (%d times)", s, n[s])
		}
	}
	return out
}

// ErrNotUndone says that there is nothing to be filed again.
var ErrNotUndone = errors.New("nothing of this message was taken back, so nothing is filed again")

// lookAt says why a file would not be taken back, "" where it would be.
func (e *Engine) lookAt(ctx context.Context, entry *store.Entry) (string, error) {
	if entry.State == store.There {
		own, err := e.Store.FiledHere(entry)
		if err != nil {
			return "", err
		}
		if !own {
			return "the file stays: it was there before, and Ink Tray did not file it", nil
		}
	}
	g, err := e.gate(entry.CabinetID)
	if err != nil {
		return "the file stays: its cabinet was removed", nil
	}
	there, err := g.cabinet.Sum(ctx, entry.Path)
	switch {
	case errors.Is(err, cabinet.ErrMissing):
		if err := g.cabinet.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
			return "", err
		}
		return "the file is no longer where it was filed", nil
	case err != nil:
		return "", err
	case !isContent(there, entry):
		return "the file stays: somebody changed it since", nil
	}
	return "", nil
}

// Undo takes a pass or one filing back. It goes on by itself after a restart and
// when a cabinet is out of reach; the pass that is returned tells how far it is.
func (e *Engine) Undo(v store.Viewer, passID, entryID int64) (store.Pass, error) {
	entries, err := e.Store.Undoable(v, passID, entryID)
	if err != nil {
		return store.Pass{}, err
	}
	if len(entries) == 0 && passID > 0 {
		return e.takeBackHand(v, passID)
	}
	if len(entries) == 0 {
		return store.Pass{}, ErrNothing
	}
	p := store.Pass{Kind: "undo", Undoes: passID, MadeBy: v.Name, State: store.Running, StartedAt: e.Clock().UTC()}
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
	if err := e.Store.AskUndo(v, ids, &p); err != nil {
		return p, err
	}
	e.tasks.Go(func() { e.takeBack(e.ctx) })
	return p, nil
}

// takeBack goes on with everything that is to be taken back.
func (e *Engine) takeBack(ctx context.Context) {
	e.undoing.Lock()
	defer e.undoing.Unlock()
	// The passes first: what is asked meanwhile belongs to none of them.
	open, err := e.Store.OpenUndos()
	if err != nil {
		e.Log.Error("reading the passes", "error", err)
		return
	}
	entries, err := e.Store.AskedUndos()
	if err != nil {
		e.Log.Error("reading what is to be taken back", "error", err)
		return
	}
	left := map[int64]bool{}
	for i := range entries {
		entry := &entries[i]
		if ctx.Err() != nil {
			return
		}
		if err := e.undoOne(ctx, entry); err != nil {
			left[entry.UndoPass] = true
			e.Log.Warn("taking a filing back", "item", entry.Name, "error", err)
		}
	}
	for i := range open {
		p := &open[i]
		if left[p.ID] {
			continue
		}
		e.removeMade(ctx, p)
		n, err := e.Store.Return(p.ID, e.Clock())
		if err == nil {
			ended := e.Clock()
			p.Looked, p.State, p.EndedAt = p.Total, store.Done, &ended
			err = e.Store.SavePass(p)
		}
		if err != nil {
			e.Log.Error("ending an undoing", "error", err)
		}
		if n > 0 {
			e.WakeAll()
		}
		e.hub.send(Event{Kind: "pass", ID: fmt.Sprint(p.ID)})
	}
}

// removeMade removes the folders that were made for what a pass took back, where nothing lies
// in them any more. A folder that cannot be removed now stays: nothing is lost by it.
func (e *Engine) removeMade(ctx context.Context, p *store.Pass) {
	made, err := e.Store.MadeFolders(p.ID)
	if err != nil {
		e.Log.Error("reading which folders were made", "error", err)
		return
	}
	n := 0
	for id, folders := range made {
		g, err := e.gate(id)
		if err != nil {
			continue
		}
		pruner, ok := g.plain().(cabinet.Pruner)
		whole, changes := g.cabinet.(*held)
		if !ok || !changes {
			continue
		}
		for _, folder := range folders {
			var removed bool
			err := whole.publish(ctx, func() (err error) { removed, err = pruner.RemoveFolder(ctx, folder); return err })
			switch {
			case errors.Is(err, cabinet.ErrNotEmpty):
			case err != nil:
				e.Log.Warn("removing an empty folder", "folder", folder, "error", err)
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
		p.Note = joinNote(p.Note, note)
	}
}

// FilePassAgain lets everything be filed again that was taken back of a pass.
func (e *Engine) FilePassAgain(v store.Viewer, passID int64) (items, messages int, err error) {
	if _, err := e.Store.Pass(v, passID); err != nil {
		return 0, 0, err
	}
	items, messages, err = e.Store.FilePassAgain(v, passID, e.Clock())
	if err == nil && items == 0 {
		return 0, 0, ErrNothingAgain
	}
	e.WakeAll()
	return items, messages, err
}

// ErrNothingAgain says that nothing of a pass was taken back.
var ErrNothingAgain = errors.New("nothing of this pass was taken back, or all of it is filed again already")

// undoOne takes one filing back. Each step can be done again: a crash between two
// of them loses nothing. The error, if any, is the cabinet's.
func (e *Engine) undoOne(ctx context.Context, entry *store.Entry) error {
	pass, err := e.Store.Pass(store.System, entry.UndoPass)
	if err != nil {
		return err
	}
	end := func(how store.Undo, reason, kept string, back *store.Filing) error {
		entry.Undo, entry.Reason = how, reason
		return e.Store.EndUndo(entry, kept, pass.MadeBy, back, e.Clock())
	}
	g, err := e.gate(entry.CabinetID)
	if err != nil {
		return end(store.UndoKept, "the file stays: its cabinet was removed", "", nil)
	}
	if err := g.ready(ctx); err != nil {
		return err
	}
	name := e.temporary(entry) + "-back"
	kept, err := sumKept(ctx, g.cabinet, name)
	done := err == nil && isContent(kept, entry) // before a crash
	if err != nil && !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	if !done {
		shared, err := e.Store.SharedWith(entry)
		if err != nil {
			return err
		}
		if len(shared) > 0 {
			return end(store.Undone, "taken back; the file stays, since it is another filing's too", "", nil)
		}
		why, err := e.lookAt(ctx, entry)
		if err != nil {
			return err
		}
		if why != "" {
			return end(store.UndoKept, "not taken back: "+why, "", nil)
		}
	}
	// Also when it was done before: after a power cut both names may be there.
	if err := g.cabinet.Retire(ctx, entry.Path, name); err != nil && !errors.Is(err, cabinet.ErrMissing) && !errors.Is(err, cabinet.ErrTaken) {
		return err
	}
	reason := "taken back by " + pass.MadeBy
	back, err := e.Store.Replaced(entry)
	if errors.Is(err, store.ErrNotFound) {
		return end(store.Undone, reason, name, nil)
	}
	if err != nil {
		return err
	}
	switch err := g.cabinet.Restore(ctx, entry.Displaced, path.Join(back.Folder, back.File)); {
	case err == nil, errors.Is(err, cabinet.ErrMissing): // before a crash
		return end(store.Undone, reason+"; the file that it replaced has its place again", name, &back)
	case errors.Is(err, cabinet.ErrTaken):
		return end(store.Undone, reason+"; the file that it replaced is kept, since its place is taken", name, nil)
	default:
		return err
	}
}

// FileAgain lets what was taken back of a message be filed again.
func (e *Engine) FileAgain(v store.Viewer, messageID int64) (int, error) {
	n, err := e.Store.FileAgain(v, messageID, e.Clock())
	if err == nil && n == 0 {
		return 0, ErrNotUndone
	}
	e.WakeAll()
	return n, err
}

// sumKept reads a file that was moved out of the way and returns its size and checksum.
func sumKept(ctx context.Context, c cabinet.Cabinet, name string) (content cabinet.Content, err error) {
	r, err := c.Kept(ctx, name)
	if err != nil {
		return content, err
	}
	sum := sha256.New()
	content.Size, err = io.Copy(sum, r)
	sum.Sum(content.SHA256[:0])
	return content, errors.Join(err, r.Close())
}
