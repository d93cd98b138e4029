package filing

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/store"
)

// naming gives contents that are staged their names.
type naming struct{ *Filer }

func (fl *Filer) naming() naming { return naming{fl} }

// nameSafely gives a prepared entry its name.
func (fl naming) nameSafely(ctx context.Context, p *prepared) (err error) {
	defer recovered(fl.Log, p.entry, &err)
	return fl.commit(ctx, p)
}

// prepared is an entry whose content is staged, and waits for its name.
type prepared struct {
	l       *reading.Message
	rule    *rule.Compiled
	entry   *store.Entry
	item    plan.Item
	cabinet cabinet.Cabinet
	remark  reason.Reason
	refused map[string]bool // names that nothing may have though they seem free
}

// commit gives the staged content its name.
func (fl naming) commit(ctx context.Context, p *prepared) error {
	c, l, entry, item := p.cabinet, p.l, p.entry, &p.item
	entry.Values = item.Values
	if before, found, err := fl.Store.Journal.FiledBefore(ctx, entry, l.Row, entry.SHA256); err != nil {
		return err
	} else if found && before.Undo == store.Undone {
		return fl.drop(ctx, p, store.LeftOut, reason.TakenBack())
	} else if found {
		entry.Path = before.Path
		return fl.drop(ctx, p, store.There, reason.FiledBefore(before.Path))
	}
	if done, err := fl.recognise(ctx, p); done || err != nil {
		return err
	}
	if p.numbered() {
		if err := fl.Store.Journal.Draw(ctx, entry, l.Row, fl.Now()); err != nil {
			return err
		}
	}
	fl.aim(p)
	if p.refused == nil {
		p.refused = map[string]bool{}
	}
	if item.IfExists == "replace" {
		g, err := fl.Cabinets.Gate(ctx, entry.CabinetID)
		if err != nil {
			return err
		}
		g.Replacing.Lock()
		defer g.Replacing.Unlock()
	}
	for {
		done, why, err := fl.name(ctx, c, entry, item.Segments, item.Stem, item.Ext, item.IfExists, l.Mail.Received,
			p.refused)
		if err != nil {
			return err
		}
		if done == store.There { // the register has this message, too
			if err := c.Discard(ctx, fl.Temporary(entry)); err != nil {
				return err
			}
			entry.Reason = why
			return fl.Store.Journal.FoundThere(ctx, entry, l.Row, fl.Now())
		}
		if done != "" {
			return fl.drop(ctx, p, done, why)
		}
		entry.Reason = reason.And(why, p.remark)
		if entry.State != store.Staged {
			err = fl.Store.Journal.Stage(ctx, entry, l.Row, fl.Now())
		} else {
			err = fl.Store.Journal.Rename(ctx, entry)
		}
		if errors.Is(err, store.ErrChanged) {
			return fl.switchedOff(ctx, p)
		}
		if err != nil {
			return err
		}
		if err := fl.displace(ctx, c, entry); err != nil {
			return err
		}
		err = c.Commit(ctx, fl.Temporary(entry), entry.Path)
		if errors.Is(err, cabinet.ErrTaken) {
			p.refused[entry.Path] = true
			continue // somebody was quicker: the next name
		}
		return fl.named(ctx, p, err)
	}
}

// named goes on once a cabinet was asked to give an entry its name, and err came of it.
func (fl naming) named(ctx context.Context, p *prepared, err error) error {
	if errors.Is(err, cabinet.ErrMissing) {
		return &cabinet.Error{Problem: "what was staged is not there any more", Advice: "Check whether the cabinet is " +
			"still mounted.", Err: err}
	}
	// perhaps what has the name already does not show, or the answer got lost
	if err != nil && cabinets.OnlyName(ctx, p.cabinet, err) {
		if err := fl.recoverOne(ctx, p.cabinet, p.entry); err != nil || p.entry.State != store.Filed {
			return err
		}
		return fl.tallied(ctx, p.l, p.entry)
	}
	if err != nil {
		return err
	}
	if err := fl.Store.Journal.File(ctx, p.entry, fl.Now()); err != nil {
		return err
	}
	fl.series.add(p.entry)
	return fl.tallied(ctx, p.l, p.entry)
}

// drop decides an entry without filing what was staged for it.
func (fl naming) drop(ctx context.Context, p *prepared, state store.State, why reason.Reason) error {
	if err := p.cabinet.Discard(ctx, fl.Temporary(p.entry)); err != nil {
		return err
	}
	return fl.Finish(ctx, p.entry, state, why)
}

// switchedOff lets go of what was staged for an entry whose rule was switched off meanwhile.
func (fl naming) switchedOff(ctx context.Context, p *prepared) (err error) {
	if err := p.cabinet.Discard(ctx, fl.Temporary(p.entry)); err != nil {
		return err
	}
	*p.entry, err = fl.Store.Journal.ByID(ctx, store.System, p.entry.ID)
	return err
}

// numbered says whether an entry's name holds its register number.
func (p *prepared) numbered() bool {
	return p.entry.Given != "elsewhere" && p.item.Target.NeedsRegister()
}

// aim sets the path that is wanted for an entry, which was frozen when it was planned.
func (fl naming) aim(p *prepared) {
	entry, item := p.entry, &p.item
	folder, file := path.Split(entry.Wanted)
	folders := strings.Split(strings.TrimSuffix(folder, "/"), "/")
	switch {
	case entry.Given == "elsewhere":
		item.Segments, item.Ext = nil, mail.Extension(file)
		if folder != "" {
			item.Segments = folders
		}
		item.Stem = strings.TrimSuffix(file, item.Ext)
	case p.numbered():
		plan.Number(item, p.rule, p.l.Mail, fl.Office.Settings().For(p.l.Mailbox, entry.PlannedAt.In(fl.Zone)),
			entry.RegisterYear, entry.RegisterNumber)
	case folder != "":
		item.Segments, item.Stem = folders, strings.TrimSuffix(file, item.Ext)
	}
}

// displace moves the file that an entry replaces out of the way, unless that was
// done before.
func (fl naming) displace(ctx context.Context, c cabinet.Cabinet, entry *store.Entry) error {
	if entry.Displaced == "" {
		return nil
	}
	err := cabinet.Retire(ctx, c, entry.Path, entry.Displaced)
	if errors.Is(err, cabinet.ErrMissing) || errors.Is(err, cabinet.ErrTaken) {
		return nil // it is out of the way; what has the name now is another file
	}
	return err
}

// name finds the exact path for an entry. done is a verdict where nothing is to
// be written.
func (fl naming) name(ctx context.Context, c cabinet.Cabinet, entry *store.Entry, folders []string, stem, ext string,
	ifExists rule.IfExists, received time.Time, refused map[string]bool) (done store.State, why reason.Reason, err error) {
	file := stem + ext
	first, because := "", reason.Taken
	of := "" // the series that was asked for
	displaced := entry.Displaced
	entry.Displaced = ""
	for n, tries := 2, 0; ; n++ {
		if tries++; tries > mostNames {
			return "", why,
				&cabinet.Error{
					Problem: fmt.Sprintf("more than %d names like %s are taken", mostNames,
						path.Join(path.Join(folders...), stem+ext)),
					Advice: "Tidy up the folder, or let the rule make other names; then try again.", Lasting: true}
		}
		spot, err := cabinets.Resolve(ctx, c, folders, file)
		if err != nil {
			return "", why, err
		}
		if !spot.Taken && refused[spot.Path] { // what is there is not shown, and yet nothing else may have the name
			spot.Taken, spot.Other, spot.By = true, true, spot.Path
		}
		if !spot.Taken {
			// else made before a crash
			if entry.Path = spot.Path; spot.New != "" || !strings.HasPrefix(entry.Path, entry.Made+"/") {
				entry.Made = spot.New
			}
			if first != "" {
				why = because(path.Base(first))
			}
			return "", why, nil
		}
		there, isFile := cabinet.Content{}, false
		switch {
		case spot.Other:
		case spot.Size >= 0 && spot.Size != entry.Size && ifExists != "replace":
			there, isFile = cabinet.Content{Size: spot.Size}, true // another content: it need not be read
		default:
			there, isFile, err = cabinets.LookAt(ctx, c, spot.By)
		}
		switch {
		case errors.Is(err, cabinet.ErrMissing):
			n-- // it went away meanwhile
			continue
		case err != nil:
			return "", why, err
		case !isFile && ifExists == "keep":
			return store.LeftOut, reason.KeptOther(spot.By), nil
		case !isFile:
			if first == "" {
				because = reason.TakenByOther
			}
		case IsContent(there, entry):
			entry.Path = spot.By
			return store.There, reason.SameContent(spot.By), nil
		case ifExists == "keep":
			return store.LeftOut, reason.KeptFile(spot.By), nil
		case ifExists == "replace" && first == "" && displaced == "":
			var replaces reason.Reason
			if replaces, because, err = fl.mayReplace(ctx, entry.CabinetID, spot.By, &there, received); err != nil {
				return "", why, err
			}
			if because == nil {
				entry.Path, entry.Displaced = spot.By, fl.Temporary(entry)
				return "", replaces, nil
			}
		}
		if first == "" {
			first = spot.By
		}
		if n == looked {
			if of, err = fl.asks(ctx, entry.CabinetID, spot.Path, stem, ext); err != nil {
				return "", why, err
			}
		}
		file = safename.Numbered(stem, ext, n)
		for tries < mostNames && fl.series.isOther(of, file, entry.SHA256) {
			n, tries = n+1, tries+1 // it need not be looked at
			file = safename.Numbered(stem, ext, n)
		}
	}
}

// looked is the number up to which each name is looked at in the cabinet. Beyond, the register is asked which
// are taken.
const looked = 4

// mostNames bounds how many names are tried for one file.
const mostNames = 10_000

// mayReplace says whether a file may be replaced: it was filed here from an
// earlier message and nobody changed it since. Then replaces says what it replaces; else
// because is why its name counts as taken.
func (fl naming) mayReplace(ctx context.Context, cabinetID, name string, there *cabinet.Content,
	received time.Time) (replaces reason.Reason,
	because func(name string) reason.Reason, err error) {
	folder := path.Dir(name)
	if folder == "." {
		folder = ""
	}
	f, err := fl.Store.Register.At(ctx, cabinetID, folder, path.Base(name))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return replaces, reason.NotOurs, nil
	case err != nil:
		return replaces, nil, err
	case string(f.SHA256) != string(there.SHA256[:]):
		return replaces, reason.ChangedSince, nil
	case !received.After(f.ReceivedAt):
		return replaces, reason.LaterThere, nil
	}
	return reason.Replaces(f.Entry().String(), f.ReceivedAt.In(fl.Zone).Format(time.DateOnly)), nil, nil
}

// renameStaged finds the next name for a staged item whose name is taken. Where a file with the same content exists
// under a name that is tried, the item is already there.
func (fl naming) renameStaged(ctx context.Context, c cabinet.Cabinet, entry *store.Entry,
	refused map[string]bool) error {
	refused[entry.Path] = true
	folder, file := path.Split(entry.Path)
	ext := mail.Extension(file)
	done, why, err := fl.name(ctx, c, entry, strings.Split(strings.TrimSuffix(folder, "/"), "/"),
		strings.TrimSuffix(file, ext), ext, "number", time.Time{}, refused)
	if err != nil {
		return err
	}
	if done != "" {
		if err := c.Discard(ctx, fl.Temporary(entry)); err != nil {
			return err
		}
		return fl.Finish(ctx, entry, done, why)
	}
	entry.Reason = why
	return fl.Store.Journal.Rename(ctx, entry)
}
