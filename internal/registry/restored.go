package registry

import (
	"context"
	"errors"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/store"
)

// After a backup was restored, the records know nothing of what was filed, replaced and taken back since it was made.
// Before anything is filed in a cabinet, it is looked through for files that the records do not know. Filing looks
// among them for what it is about to file.

// Comparison compares records that were restored with the cabinets and the mailboxes.
type Comparison struct{ *Registry }

// compareAgain is how long to wait before a cabinet that could not be looked through is tried again.
const compareAgain = 10 * time.Second

// Begin shuts the cabinets of records that were restored, and begins to look through them. Of other records it
// does nothing.
func (rg *Comparison) Begin(ctx context.Context, rows []store.Cabinet) error {
	r, ok, err := rg.Store.Restored.Restored(ctx)
	if err != nil || !ok || r.Done() {
		return err
	}
	for i := range rows {
		if !slices.Contains(r.Compared, rows[i].ID) {
			rg.Cabinets.Shut(rows[i].ID)
		}
	}
	rg.Go("comparing the restored records", rg.compareRestored)
	return nil
}

// compareRestored looks through the cabinets, until that is done and everything that came before the restoring is
// decided, or the service ends.
func (rg *Comparison) compareRestored(ctx context.Context) {
	for {
		all, err := rg.compareAll(ctx)
		if err == nil && all {
			err = rg.endIfDone(ctx)
		}
		if err != nil && ctx.Err() == nil {
			rg.Log.Error("comparing the restored records with the cabinets", "error", err)
		}
		if !rg.Store.Restored.Active() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(min(compareAgain, 10*rg.Beat)):
		}
	}
}

// compareAll looks through every cabinet that was not yet looked through, and says whether none is left.
func (rg *Comparison) compareAll(ctx context.Context) (all bool, err error) {
	r, ok, err := rg.Store.Restored.Restored(ctx)
	if err != nil || !ok || r.Done() {
		return err == nil, err
	}
	rows, err := rg.Store.Cabinets.All(ctx)
	if err != nil {
		return false, err
	}
	all = true
	for i := range rows {
		if !rg.Cabinets.Closed(rows[i].ID) {
			continue
		}
		g, err := rg.Cabinets.Gate(ctx, rows[i].ID)
		if err == nil {
			err = g.Reachable(ctx)
		}
		if err == nil {
			err = rg.compare(ctx, g, &r)
		}
		if err != nil {
			all = false
			rg.Log.Warn("a cabinet cannot be compared with the restored records now", "cabinet", rows[i].Name, "error", err)
			continue
		}
		rg.Cabinets.Open(rows[i].ID)
		if err := rg.Store.Journal.Hasten(ctx, rows[i].ID); err != nil {
			return false, err
		}
		rg.Changed("restored")
		rg.WakeAll()
	}
	return all, nil
}

// Waits says what a comparison waits for: the names of cabinets and mailboxes that were not looked through yet, and how
// many items are to be filed that came before the restoring.
func (rg *Comparison) Waits(ctx context.Context, r *store.Restoring) (cabinets, mailboxes []string, items int,
	err error) {
	rows, err := rg.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	for i := range rows {
		if rg.Cabinets.Closed(rows[i].ID) {
			cabinets = append(cabinets, rows[i].Name)
		}
	}
	boxes, err := rg.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return nil, nil, 0, err
	}
	for i := range boxes {
		if !slices.Contains(r.Looked, boxes[i].ID) && boxes[i].MadeAt.Before(r.RestoredAt) {
			mailboxes = append(mailboxes, boxes[i].Name)
		}
	}
	items, err = rg.Store.Restored.Undecided(ctx, r)
	return cabinets, mailboxes, items, err
}

// endIfDone ends the comparison once it waits for nothing.
func (rg *Comparison) endIfDone(ctx context.Context) error {
	r, ok, err := rg.Store.Restored.Restored(ctx)
	if err != nil || !ok || r.Done() {
		return err
	}
	cabinets, mailboxes, items, err := rg.Waits(ctx, &r)
	if err != nil || len(cabinets)+len(mailboxes)+items > 0 {
		return err
	}
	return rg.End(ctx, "")
}

// End ends the comparison; by is who says so, "" for the service.
func (rg *Comparison) End(ctx context.Context, by string) error {
	if err := rg.Store.Restored.End(ctx, by, rg.Clock()); err != nil {
		return err
	}
	rows, err := rg.Store.Cabinets.All(ctx)
	for i := range rows {
		rg.Cabinets.Open(rows[i].ID)
	}
	rg.Log.Info("the comparison of the restored records with mailboxes and cabinets is over", "by", by)
	rg.Changed("restored")
	rg.WakeAll()
	return err
}

// filesTogether is how many files share a commit.
const filesTogether = 500

// compare keeps the files of a cabinet that the records do not know, and what the records know and is not there.
func (rg *Comparison) compare(ctx context.Context, g *cabinets.Gate, r *store.Restoring) error {
	var batch []store.RestoredFile
	flush := func() (err error) {
		if len(batch) > 0 {
			err = rg.Store.Restored.Add(ctx, batch)
			batch = batch[:0]
		}
		return err
	}
	visited := map[string]bool{}
	var missing store.Missing
	filed := func(folder string) (map[string]store.Filing, error) {
		lines, err := rg.Store.Restored.FilesIn(ctx, g.Row.ID, folder)
		names := make(map[string]store.Filing, len(lines))
		for _, l := range lines {
			names[safename.Fold(l.File)] = l
		}
		return names, err
	}
	gone := func(folder string, names map[string]store.Filing) {
		for _, l := range names {
			missing.Add(g.Row.Name + ": " + path.Join(folder, l.File))
		}
	}
	if err := rg.compareKept(ctx, g, r); err != nil {
		return err
	}
	err := rg.eachFolder(ctx, g, func(folder string, files []cabinet.Entry, known map[string]bool) error {
		visited[folder] = true
		names, err := filed(folder)
		if err != nil {
			return err
		}
		for _, f := range files {
			name := safename.Fold(f.Name)
			line, is := names[name]
			delete(names, name)
			if f.Other || known[name] && (!is || !perhapsReplaced(&line, &f)) {
				continue
			}
			one := store.RestoredFile{CabinetID: g.Row.ID, Path: path.Join(folder, f.Name), Size: f.Size, Known: known[name]}
			if !f.Modified.IsZero() {
				at := f.Modified.UTC()
				one.Modified = &at
			}
			if batch = append(batch, one); len(batch) >= filesTogether {
				if err := flush(); err != nil {
					return err
				}
			}
		}
		gone(folder, names)
		return nil
	})
	if err != nil {
		return err
	}
	folders, err := rg.Store.Restored.FoldersOf(ctx, g.Row.ID)
	if err != nil {
		return err
	}
	for _, folder := range folders {
		if visited[folder] {
			continue
		}
		names, err := filed(folder)
		if err != nil {
			return err
		}
		gone(folder, names)
	}
	if err := flush(); err != nil {
		return err
	}
	return rg.Store.Restored.Compare(ctx, g.Row.ID, missing, rg.Now())
}

// perhapsReplaced says whether a file may be another than the one that the register has under its name: of another
// size, or neither from when the message was received, as Ink Tray dates its files, nor from when it was filed, as
// servers do.
func perhapsReplaced(line *store.Filing, f *cabinet.Entry) bool {
	near := func(at time.Time, within time.Duration) bool { return f.Modified.Sub(at).Abs() <= within }
	return f.Size != line.Size || !near(line.ReceivedAt, 2*time.Second) &&
		(line.FiledAt == nil || !near(*line.FiledAt, 5*time.Minute))
}

// compareKept keeps the files that were moved out of the way after the backup was made, and notes which filings had
// been taken back.
func (rg *Comparison) compareKept(ctx context.Context, g *cabinets.Gate, r *store.Restoring) error {
	files, err := cabinet.AllKept(ctx, g.Cabinet)
	if err != nil {
		return err
	}
	known, err := rg.Store.Restored.KeptNames(ctx, g.Row.ID)
	if err != nil {
		return err
	}
	var batch []store.RestoredFile
	for _, f := range files {
		if known[f.Name] || !strings.HasPrefix(f.Name, rg.Installation+"-") { // others file in the same place
			continue
		}
		done, err := rg.takenBackBefore(ctx, g, r, f.Name)
		if err != nil {
			return err
		}
		if !done {
			batch = append(batch, store.RestoredFile{CabinetID: g.Row.ID, Path: f.Name, Kept: true, Size: f.Size})
		}
	}
	return rg.Store.Restored.Add(ctx, batch)
}

// takenBackBefore notes that a filing of the backup was taken back after it was made: its file is kept under a name
// that says whose it was.
func (rg *Comparison) takenBackBefore(ctx context.Context, g *cabinets.Gate, r *store.Restoring, name string) (bool,
	error) {
	staged, taken := strings.CutSuffix(name, filing.BackSuffix)
	rest, mine := strings.CutPrefix(staged, rg.Installation+"-")
	number, _, _ := strings.Cut(rest, "-")
	id, err := strconv.ParseInt(number, 10, 64)
	if !taken || !mine || err != nil || id > r.LastEntry {
		return false, nil
	}
	entry, err := rg.Store.Journal.ByID(ctx, store.System, id)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil || entry.State != store.Filed || entry.Undo != "" || rg.Filer.Temporary(&entry) != staged {
		return false, err
	}
	switch why, err := rg.lookAt(ctx, &entry); {
	case err != nil:
		return false, err
	case why.IsZero(): // it is where it was filed, too
		return false, nil
	}
	var back *store.Filing // what it had replaced, where that has its place again
	if was, err := rg.Store.Undoing.Replaced(ctx, &entry); err == nil {
		there, err := cabinet.Sum(ctx, g.Cabinet, entry.Path)
		if err == nil && string(there.SHA256[:]) == string(was.SHA256) {
			back = &was
		} else if err != nil && !errors.Is(err, cabinet.ErrMissing) {
			return false, err
		}
	}
	entry.Undo, entry.Reason = store.Undone, reason.TakenBackAfterBackup()
	if err := rg.Store.Undoing.End(ctx, &entry, name, "somebody, after the backup", back, rg.Clock()); err != nil {
		return false, err
	}
	return true, rg.Store.Restored.Update(ctx, func(r *store.Restoring) { r.TakenBack++ })
}
