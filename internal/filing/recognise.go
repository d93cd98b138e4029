package filing

import (
	"cmp"
	"context"
	"errors"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/store"
)

// Recognise is what Given says of an item whose message lies where a rule had moved it: it is not filed unless a file
// of it is recognised, or a person releases it.
const Recognise = "recognise"

// sameTime is how far the time of a file may be from that of its message: some file systems keep even seconds only.
const sameTime = 2 * time.Second

// recognise looks whether the content of an entry had been filed after the backup from which the records were restored.
// done says that the entry is decided. What a person decides is looked for after the comparison, too: it may have been
// decided so before.
func (fl naming) recognise(ctx context.Context, p *prepared) (done bool, err error) {
	made, before := fl.Store.Restored.Before(p.l.Row.ReceivedAt)
	if !before || p.entry.State != store.Planned || !fl.Store.Restored.Active() && p.entry.Given == "" {
		return false, nil
	}
	found, err := fl.sameContent(ctx, p)
	if err != nil {
		return false, err
	}
	fl.aim(p)
	wanted := path.Join(append(append([]string{}, p.item.Segments...), p.item.Stem+p.item.Ext)...)
	at := made.In(fl.Zone).Format("2006-01-02 15:04")
	if best := fl.best(p, found, wanted); best != nil {
		return true, fl.enterRecognised(ctx, p, best, at)
	}
	for i := range found {
		f := &found[i]
		switch {
		case !f.Kept:
		case strings.HasSuffix(f.Path, BackSuffix):
			if err := fl.Store.Restored.Claim(ctx, f, p.entry.ID); err != nil {
				return false, err
			}
			return true, fl.drop(ctx, p, store.Held, reason.PerhapsTakenBack(at))
		case p.item.IfExists == "replace" && !p.numbered():
			if there, _, err := cabinets.LookAt(ctx, p.cabinet, wanted); errors.Is(err, cabinet.ErrMissing) {
				continue // nothing has taken its place there
			} else if err != nil || IsContent(there, p.entry) {
				return false, err
			}
			return true, fl.enterReplaced(ctx, p, f, wanted, at)
		}
	}
	if p.entry.Given == Recognise {
		return true, fl.drop(ctx, p, store.Held, reason.MovedWithoutFile(p.l.Row.Folder, at))
	}
	return false, nil
}

// sameContent lists the files that the records do not know and that have the content of an entry.
func (fl naming) sameContent(ctx context.Context, p *prepared) (same []store.RestoredFile, err error) {
	files, err := fl.Store.Restored.Candidates(ctx, p.entry.CabinetID, p.entry.Size, p.entry.SHA256)
	if err != nil {
		return nil, err
	}
	for i := range files {
		f := &files[i]
		if gone, err := fl.measure(ctx, p.cabinet, f); err != nil {
			return nil, err
		} else if gone || string(f.SHA256) != string(p.entry.SHA256) {
			continue
		}
		if f.Known { // unless it is the file that the register has under this name, which somebody only touched
			folder, file := store.Split(f.Path)
			was, err := fl.Store.Register.At(ctx, f.CabinetID, folder, file)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return nil, err
			}
			if err == nil && string(was.SHA256) == string(f.SHA256) {
				continue
			}
		}
		same = append(same, *f)
	}
	return same, nil
}

// measure reads the checksum of a file, unless it is known.
func (fl naming) measure(ctx context.Context, c cabinet.Cabinet, f *store.RestoredFile) (gone bool, err error) {
	if f.SHA256 != nil {
		return false, nil
	}
	var content cabinet.Content
	if f.Kept {
		var r io.ReadCloser
		if r, err = cabinet.Kept(ctx, c, f.Path); err == nil {
			content, err = cabinet.Measure(ctx, r)
			err = errors.Join(err, r.Close())
		}
	} else {
		content, err = cabinet.Sum(ctx, c, f.Path)
	}
	if gone = errors.Is(err, cabinet.ErrMissing); err != nil && !gone {
		return false, err
	}
	f.Size, f.SHA256 = content.Size, content.SHA256[:]
	return gone, fl.Store.Restored.Measured(ctx, f, gone)
}

// recognised is a file in which an entry is recognised, with the register number in its name.
type recognised struct {
	file         *store.RestoredFile
	year, number int
}

// best chooses the file in which an entry is recognised: at the path that is wanted, under a name in the same folder,
// or elsewhere with the time of the message. nil where none is.
func (fl naming) best(p *prepared, found []store.RestoredFile, wanted string) *recognised {
	var near, timed *recognised
	for i := range found {
		f := &found[i]
		if f.Kept {
			continue
		}
		year, number, shown := fl.shownNumber(p, f.Path)
		one := &recognised{f, year, number}
		switch {
		case shown, !p.numbered() && safename.Fold(f.Path) == safename.Fold(wanted):
			return one
		case !p.numbered() && safename.Fold(path.Dir(f.Path)) == safename.Fold(path.Dir(wanted)):
			near = cmp.Or(near, one)
		case f.Modified != nil && f.Modified.Sub(p.l.Mail.Received).Abs() <= sameTime:
			timed = cmp.Or(timed, one)
		}
	}
	return cmp.Or(near, timed)
}

var digits = regexp.MustCompile(`[0-9]{1,9}`)

// shownNumber is the register number that the path of a file shows, where the name of an entry holds its number.
func (fl naming) shownNumber(p *prepared, full string) (year, number int, shown bool) {
	if !p.numbered() {
		return 0, 0, false
	}
	setting := fl.Office.Settings().For(p.l.Mailbox, p.entry.PlannedAt.In(fl.Zone))
	years := []int{fl.Now().Year(), fl.Now().Year() - 1}
	for _, text := range digits.FindAllString(full, 20) {
		n, err := strconv.Atoi(text)
		if err != nil || n == 0 {
			continue
		}
		for _, y := range years {
			item := p.item
			plan.Number(&item, p.rule, p.l.Mail, setting, y, n)
			folder, file := store.Split(full)
			if safename.Fold(path.Join(item.Segments...)) == safename.Fold(folder) && isNumbered(file, item.Stem, item.Ext) {
				return y, n, true
			}
		}
	}
	return 0, 0, false
}

// isNumbered says whether a name is a stem with an ending, or one that it gets where that is taken.
func isNumbered(name, stem, ext string) bool {
	name = safename.Fold(name)
	if name == safename.Fold(stem+ext) {
		return true
	}
	for n := 2; n <= 20; n++ {
		if name == safename.Fold(safename.Numbered(stem, ext, n)) {
			return true
		}
	}
	return false
}

// enterRecognised enters an entry as filed where it was recognised.
func (fl naming) enterRecognised(ctx context.Context, p *prepared, at *recognised, made string) error {
	entry := p.entry
	folder, file := store.Split(at.file.Path)
	was, err := fl.Store.Register.At(ctx, entry.CabinetID, folder, file)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return err
	case string(was.SHA256) != string(entry.SHA256): // it had taken the place of that one
		if entry.Displaced, err = fl.keptOf(ctx, p, was.SHA256); err != nil {
			return err
		}
	}
	if err := p.cabinet.Discard(ctx, fl.Temporary(entry)); err != nil {
		return err
	}
	entry.Path, entry.Reason = at.file.Path, reason.Recognised(at.file.Path, made)
	err = fl.Store.Restored.Recognise(ctx, entry, p.l.Row,
		&store.Recognition{File: at.file, Year: at.year, Number: at.number}, fl.Now())
	if err != nil {
		return err
	}
	return fl.tallied(ctx, p.l, entry)
}

// keptOf is the name under which a content is kept out of the way. Where it is not kept any more, a name under which
// nothing is.
func (fl naming) keptOf(ctx context.Context, p *prepared, sha256 []byte) (string, error) {
	unread, err := fl.Store.Restored.KeptUnread(ctx, p.entry.CabinetID)
	if err != nil {
		return "", err
	}
	for i := range unread {
		if _, err := fl.measure(ctx, p.cabinet, &unread[i]); err != nil {
			return "", err
		}
	}
	kept, err := fl.Store.Restored.KeptAs(ctx, p.entry.CabinetID, sha256)
	if errors.Is(err, store.ErrNotFound) {
		return fl.Temporary(p.entry), nil
	}
	return kept.Path, err
}

// enterReplaced enters an entry that had been filed under the name that is wanted, and replaced by a later file.
func (fl naming) enterReplaced(ctx context.Context, p *prepared, f *store.RestoredFile, wanted, made string) error {
	entry := p.entry
	as := &store.Recognition{File: f}
	folder, file := store.Split(wanted)
	later, err := fl.Store.Register.At(ctx, entry.CabinetID, folder, file)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return err
	case later.ReceivedAt.After(p.l.Mail.Received):
		as.Later = &later
	default: // an earlier one, whose place it had taken before it was replaced itself
		if entry.Displaced, err = fl.keptOf(ctx, p, later.SHA256); err != nil {
			return err
		}
	}
	if err := p.cabinet.Discard(ctx, fl.Temporary(entry)); err != nil {
		return err
	}
	entry.Path, entry.Reason = wanted, reason.RecognisedReplaced(wanted, made)
	if err := fl.Store.Restored.Recognise(ctx, entry, p.l.Row, as, fl.Now()); err != nil {
		return err
	}
	return fl.tallied(ctx, p.l, entry)
}
