package filing

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/value"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// What waits for a cabinet that is down is kept here, flushed, so that it is
// filed even if the message is deleted meanwhile.

// keptItem is what is needed to file a kept content without its message.
type keptItem struct {
	Segments []string      `json:"segments"`
	Stem     string        `json:"stem"`
	Ext      string        `json:"ext"`
	IfExists rule.IfExists `json:"if_exists"`
	Numbered bool          `json:"numbered"` // its names hold the register number
	Remark   string        `json:"remark"`
	Values   []value.Value `json:"values,omitempty"`
}

// Open opens the folder of contents that wait for a cabinet, and removes those that no entry needs.
func (fl *Filer) Open(ctx context.Context) error {
	open := fl.Waiting
	if open == nil {
		open = func() (disk.FS, error) {
			folder := filepath.Join(fl.Data, "waiting")
			if err := os.MkdirAll(folder, 0o700); err != nil {
				return nil, err
			}
			return disk.Root(folder)
		}
	}
	var err error
	if fl.kept, err = open(); err != nil {
		return fmt.Errorf("opening the folder of what waits for a cabinet: %w", err)
	}
	return fl.sweepKept(ctx)
}

// Close closes the folder of what is kept.
func (fl *Filer) Close() {
	if fl.kept != nil {
		fl.kept.Close()
	}
}

// keptName is under what name an entry's content is kept.
func keptName(entry *store.Entry) string { return strconv.FormatInt(entry.ID, 10) }

// keepHere keeps an item's content while its cabinet is down, up to the size
// that Settings allow. What is not kept stays in the mailbox as before.
func (fl *Filer) keepHere(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled,
	entry *store.Entry, item *plan.Item, repeats reason.Reason) error {
	limits, err := fl.Store.Settings.Limits(ctx)
	if err != nil || limits.SpoolMB == 0 || entry.Spooled != "" {
		return err
	}
	kept, err := fl.Store.Journal.Spooled(ctx)
	if err != nil {
		return err
	}
	total := item.Item.Size
	for i := range kept {
		total += kept[i].Size
	}
	if total > int64(limits.SpoolMB)*1e6 {
		return nil
	}
	remark := reason.Remark(item.Item.Remark)
	if item.Copy != "" && item.Copy != rule.CopyEML {
		report, err := fl.Reader.Draw(ctx, s, l, item, r)
		if err != nil || !report.Whole() {
			return nil // it is drawn once the cabinet is back, and what lacks is told then
		}
	}
	content, said, hold, err := fl.keepContent(ctx, s, l, r, entry, item)
	if err != nil || hold {
		return err
	}
	if remark.IsZero() {
		remark = said
	}
	remark = reason.And(remark, repeats)
	text, err := json.Marshal(keptItem{item.Segments, item.Stem, item.Ext, item.IfExists, item.Target.NeedsRegister(),
		remark.Encode(), item.Values})
	if err != nil {
		return err
	}
	entry.Spooled, entry.Size, entry.SHA256 = string(text), content.Size, content.SHA256[:]
	return fl.Store.Journal.Spool(ctx, entry)
}

// keepContent writes the content beside the records and flushes it. What must not be
// filed unseen is not kept: it is held once the cabinet is back.
func (fl *Filer) keepContent(ctx context.Context, s source.Opener, l *reading.Message, r *rule.Compiled,
	entry *store.Entry, item *plan.Item) (content cabinet.Content, said reason.Reason, hold bool, err error) {
	w, said, err := fl.Reader.Inspect(ctx, s, l, r, entry, item)
	if err != nil || said.Cause() != "" {
		return content, said, true, err
	}
	if err := fl.kept.Remove(keptName(entry)); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier try
		return content, said, false, errors.Join(err, w.Close())
	}
	f, err := fl.kept.Create(keptName(entry))
	if err != nil {
		return content, said, false, errors.Join(err, w.Close())
	}
	sum := sha256.New()
	var found reason.Reason
	content.Size, err = io.Copy(io.MultiWriter(f, sum), w)
	if err == nil {
		found, err = fl.Reader.End(ctx, s, l, item, w)
	} else {
		err = errors.Join(err, w.Close())
	}
	if err == nil && empty(item, content.Size) {
		err = source.ErrNothing
	}
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = fl.kept.SyncDir(".")
	}
	if err != nil || !found.IsZero() {
		_ = fl.kept.Remove(keptName(entry)) // swept at the next start in any case
		if err != nil {
			err = fmt.Errorf("keeping what waits for the cabinet: %w", err)
		}
		return content, said, true, err
	}
	sum.Sum(content.SHA256[:0])
	return content, said, false, nil
}

// sweepKept removes kept contents that nothing waits for, and lets entries whose
// content is gone go back to their mailbox.
func (fl *Filer) sweepKept(ctx context.Context) error {
	entries, err := fl.Store.Journal.Spooled(ctx)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for i := range entries {
		name := keptName(&entries[i])
		info, err := fl.kept.Lstat(name)
		wanted[name] = err == nil && info.Size() == entries[i].Size
		if !wanted[name] {
			entries[i].Spooled = ""
			if err := fl.Store.Journal.Spool(ctx, &entries[i]); err != nil {
				return err
			}
		}
	}
	files, err := fl.kept.ReadDir(".")
	for _, f := range files {
		if !wanted[f.Name()] {
			err = errors.Join(err, fl.kept.Remove(f.Name()))
		}
	}
	return err
}

// FileKept files what is kept here for cabinets that are back.
func (fl *Filer) FileKept(ctx context.Context) {
	entries, err := fl.Store.Journal.Spooled(ctx)
	if err != nil {
		fl.Log.Error("reading what waits for a cabinet", "error", err)
		return
	}
	for i := range entries {
		entry := &entries[i]
		g, err := fl.Cabinets.Gate(ctx, entry.CabinetID)
		if err != nil || ctx.Err() != nil || g.Ready(ctx) != nil || !fl.Claim(entry.ID) {
			continue
		}
		err = fl.fileOneKept(ctx, g, entry)
		fl.Release(entry.ID)
		var inCabinet *cabinet.Error
		switch {
		case errors.As(err, &inCabinet) && inCabinet.Lasting:
			err = fl.Finish(ctx, entry, store.Failed, reason.CabinetRefuses(inCabinet.Problem, inCabinet.Advice))
		case errors.As(err, &inCabinet) && fl.refuses(ctx, g, entry, err):
			err = fl.notTaken(ctx, entry, err)
		case errors.As(err, &inCabinet):
			_ = g.Trip(ctx, err)
			continue
		}
		if err != nil {
			fl.Log.Error("filing what waited for a cabinet", "item", entry.Name, "error", err)
			continue
		}
		if entry.State != store.Planned && entry.State != store.Staged {
			_ = fl.kept.Remove(keptName(entry)) // swept at the next start in any case
		}
		if row, err := fl.Store.Messages.ByID(ctx, store.System, entry.MessageID); err == nil {
			fl.Announce(&row)
			fl.Wake(row.MailboxID)
		}
	}
}

func (fl *Filer) fileOneKept(ctx context.Context, g *cabinets.Gate, entry *store.Entry) error {
	fresh, err := fl.Store.Journal.ByID(ctx, store.System, entry.ID)
	if err != nil || fresh.State != store.Planned || fresh.Spooled == "" {
		*entry = fresh
		return err
	}
	*entry = fresh
	var kept keptItem
	if err := json.Unmarshal([]byte(entry.Spooled), &kept); err != nil {
		return err
	}
	f, err := fl.kept.Open(keptName(entry))
	if err != nil { // it is read from the mailbox again
		entry.Spooled = ""
		fl.WakeAll()
		return fl.Store.Journal.Spool(ctx, entry)
	}
	defer f.Close()
	row, err := fl.Store.Messages.ByID(ctx, store.System, entry.MessageID)
	if err != nil {
		return err
	}
	facts, err := row.Facts()
	if err != nil {
		return err
	}
	r, err := fl.Office.Rule(ctx, entry.RuleID, entry.RuleRevision)
	if err != nil {
		return err
	}
	l := &reading.Message{Row: &row, Facts: facts, Mail: facts.Message(row.Folder)}
	if box, err := fl.Store.Mailboxes.ByID(ctx, store.System, row.MailboxID); err == nil {
		l.Mailbox = box.Name
	}
	item, _, ok := plan.One(r, l.Mail, fl.Office.Settings().For(l.Mailbox, entry.PlannedAt.In(fl.Zone)), entry.Item)
	if !ok || !item.Settled() || item.Segments == nil {
		if kept.Numbered {
			entry.Spooled = "" // its number is in its name, and that needs the message
			fl.WakeAll()
			return fl.Store.Journal.Spool(ctx, entry)
		}
		item = plan.Item{Item: mail.Item{ID: entry.Item, Name: entry.Name, Size: entry.Size, Kind: mail.Kind(entry.Kind)},
			Segments: kept.Segments, Stem: kept.Stem, Ext: kept.Ext, IfExists: kept.IfExists}
	}
	item.Values = kept.Values // they were read when there was more to read in
	content, err := g.Cabinet.Stage(ctx, fl.stagedAs(entry), row.ReceivedAt, f)
	if err != nil {
		return err
	}
	if string(content.SHA256[:]) != string(entry.SHA256) {
		entry.Spooled = "" // what is kept here is not what was read
		fl.WakeAll()
		return errors.Join(g.Cabinet.Discard(ctx, fl.Temporary(entry)), fl.Store.Journal.Spool(ctx, entry))
	}
	return fl.naming().commit(ctx, &prepared{l: l, rule: r, entry: entry, item: item, cabinet: g.Cabinet,
		remark: reason.Decode(kept.Remark)})
}
