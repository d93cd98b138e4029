package mailboxes

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
)

// HandOverError says why a mailbox is not handed over.
type HandOverError struct{ Problem, Advice string }

func (e *HandOverError) Error() string { return e.Problem }

// WriteHandOver writes a mailbox with its marks and all that is known of its messages into a file: in the folder
// handed-over beside the spool, or where it is only tried in one of the spool, for the caller to remove. alone are the
// rules that look into no other mailbox. Nothing of the mailbox may be under way or wait for a person; else the error
// is a *HandOverError.
func (ms *Mailboxes) WriteHandOver(ctx context.Context, m *store.Mailbox, spool string, try bool) (file string,
	alone []string, err error) {
	folder := filepath.Join(filepath.Dir(spool), "handed-over")
	if try {
		folder = filepath.Join(spool, "handed-over", store.NewID())
	}
	underWay, waiting, err := ms.Store.Mailboxes.Unsettled(ctx, m.ID)
	switch {
	case err != nil:
		return "", nil, err
	case underWay > 0:
		return "", nil, &HandOverError{fmt.Sprintf("of this mailbox something is under way (%d)", underWay),
			"Wait until they are done, then hand it over."}
	case waiting > 0:
		return "", nil, &HandOverError{fmt.Sprintf("something of this mailbox waits in the tray (%d)", waiting),
			"Decide these items first: the other machine could not go on with them."}
	}
	rows, err := ms.Store.Rules.All(ctx)
	if err != nil {
		return "", nil, err
	}
	passes, err := ms.Store.Passes.Unfinished(ctx)
	if err != nil {
		return "", nil, err
	}
	for i := range passes { // one over old mail reads the mailbox by itself
		if p := &passes[i]; p.MailboxID == m.ID || p.RuleID != "" && looks(rows, p.RuleID, m.Name) {
			return "", nil, &HandOverError{fmt.Sprintf("pass %d goes over this mailbox", p.ID),
				"Wait until it is done, or stop it; then hand the mailbox over."}
		}
	}
	var named []store.HandedRule
	asked := map[string]bool{}
	for i := range rows {
		document, err := rows[i].Parsed()
		if err != nil || rows[i].Removed || !document.Look.Looks(m.Name) {
			continue
		}
		for _, use := range document.Topics() {
			asked[office.Key(use.Name)] = true
		}
		named = append(named,
			store.HandedRule{ID: rows[i].ID, Name: rows[i].Name, Document: rows[i].Document, Running: rows[i].Running,
				Revision: rows[i].Revision})
		if rows[i].Running && len(document.Look.Mailboxes) == 1 && !strings.EqualFold(document.Look.Mailboxes[0], "all") {
			alone = append(alone, rows[i].ID)
		}
	}
	topics, err := ms.Store.Topics.All(ctx)
	if err != nil {
		return "", nil, err
	}
	topics = slices.DeleteFunc(topics, func(t store.Topic) bool { return !asked[office.Key(t.Name)] })
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", nil, err
	}
	f, err := anew(folder, m.Name+" "+ms.Now().Format("2006-01-02 150405"))
	if err != nil {
		return "", nil, err
	}
	err = ms.Store.Mailboxes.HandOver(ctx, m, named, topics, f, ms.Clock())
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil && !try { // the mailbox is to be nowhere else
		err = errors.Join(disk.Flush(folder), disk.Flush(filepath.Dir(folder)))
	}
	if err != nil {
		return "", nil, errors.Join(err, os.Remove(f.Name()))
	}
	return f.Name(), alone, nil
}

// anew makes a file, by another name where one of its name is there: a mailbox can be handed over twice in a second.
func anew(folder, name string) (f *os.File, err error) {
	const ext = ".mailbox"
	file := safename.File(name, ext)
	for n := 2; ; n++ {
		f, err = os.OpenFile(filepath.Join(folder, file), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if !errors.Is(err, fs.ErrExist) {
			return f, err
		}
		file = safename.Numbered(name, ext, n)
	}
}

// SwitchOff switches rules off that look into no other mailbox than one that is handed over, and keeps that in mind.
func (ms *Mailboxes) SwitchOff(ctx context.Context, m *store.Mailbox, rules []string, actor string) error {
	if len(rules) == 0 {
		return nil
	}
	err := ms.Store.Mailboxes.NoteOff(ctx, m.ID, rules)
	for _, id := range rules {
		if err == nil {
			err = ms.Store.Rules.SwitchOff(ctx, id, actor)
		}
	}
	return err
}

// looks says whether a rule looks into a mailbox.
func looks(rules []store.Rule, id, mailbox string) bool {
	for i := range rules {
		if rules[i].ID == id {
			document, err := rules[i].Parsed()
			return err != nil || document.Look.Looks(mailbox)
		}
	}
	return false
}

// Remains is what stays, and what does not, when a mailbox is removed.
type Remains struct {
	Filed    int // filings in the register, with their files
	Waiting  int // items and messages that wait to be filed, or in the tray
	OnlyHere int // messages that only Ink Tray keeps; they are deleted
}

// RemainsOf says what remains when a mailbox is removed, before it is.
func (ms *Mailboxes) RemainsOf(ctx context.Context, v store.Viewer, m *store.Mailbox) (out Remains,
	err error) {
	if out.Filed, err = ms.Store.Register.Count(ctx, v, register.Query{MailboxID: m.ID}); err != nil {
		return out, err
	}
	if out.Waiting, err = ms.Store.Mailboxes.WaitingIn(ctx, m.ID); err != nil || !OwnMail(m) {
		return out, err
	}
	out.OnlyHere, err = mailfile.Count(ms.MailFolder(m.ID))
	return out, err
}
