package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
)

// HandOverError says why a mailbox is not handed over.
type HandOverError struct{ Problem, Advice string }

func (e *HandOverError) Error() string { return e.Problem }

// HandOver writes a mailbox with its marks and all that is known of its messages into a
// file for another installation, and lets go of it here: one at a time watches it. The
// file is kept here too. Rules that look into no other mailbox are switched off. Nothing
// of the mailbox may be under way or wait for a person.
func (e *Engine) HandOver(ctx context.Context, v store.Viewer, id string) (file string, err error) {
	m, err := e.Store.Mailboxes.ByID(ctx, v, id)
	if err != nil {
		return "", err
	}
	if m.Kind != "imap" && m.Kind != "pop3" {
		return "", &HandOverError{"only accounts on mail servers can be handed over: this mailbox lies on this machine",
			"Add it anew on the other one."}
	}
	e.Unwatch(id)
	defer func() {
		if err != nil {
			e.Watch(id)
		}
	}()
	underWay, waiting, err := e.Store.Mailboxes.Unsettled(ctx, id)
	switch {
	case err != nil:
		return "", err
	case underWay > 0:
		return "", &HandOverError{fmt.Sprintf("of this mailbox something is under way (%d)", underWay),
			"Wait until they are done, then hand it over."}
	case waiting > 0:
		return "", &HandOverError{fmt.Sprintf("something of this mailbox waits in the tray (%d)", waiting),
			"Decide them first: what waits could not be gone on with there."}
	}
	rows, err := e.Store.Rules.All(ctx)
	if err != nil {
		return "", err
	}
	passes, err := e.Store.Passes.Unfinished(ctx)
	if err != nil {
		return "", err
	}
	for i := range passes { // one over old mail reads the mailbox by itself
		if p := &passes[i]; p.MailboxID == id || p.RuleID != "" && looks(rows, p.RuleID, m.Name) {
			return "", &HandOverError{fmt.Sprintf("pass %d goes over this mailbox", p.ID), "Wait until it is done, or stop " +
				"it; then hand the mailbox over."}
		}
	}
	var named []store.HandedRule
	var alone []string
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
	topics, err := e.Store.Topics.All(ctx)
	if err != nil {
		return "", err
	}
	topics = slices.DeleteFunc(topics, func(t store.Topic) bool { return !asked[office.Key(t.Name)] })
	folder := filepath.Join(filepath.Dir(e.Spool), "handed-over")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file = filepath.Join(folder, safename.File(m.Name+" "+e.Now().Format("2006-01-02 150405"), ".mailbox"))
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	err = e.Store.Mailboxes.HandOver(ctx, &m, named, topics, f, e.Clock())
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", errors.Join(err, os.Remove(file))
	}
	for _, id := range alone {
		if err := e.Store.Rules.SwitchOff(ctx, id, v.Name); err != nil {
			return "", err
		}
	}
	if err := errors.Join(e.Store.Mailboxes.Remove(ctx, m.ID, v.Name), e.Office.LoadRules(ctx)); err != nil {
		return "", err
	}
	e.Events.Send(events.Event{Kind: "mailbox", ID: m.ID})
	e.Events.Send(events.Event{Kind: "rules"})
	return file, nil
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

// TakenOver looks after a mailbox that was taken over: its rules run from where they were.
func (e *Engine) TakenOver(ctx context.Context, m *store.Mailbox) error {
	if err := e.Office.LoadTopics(ctx, ""); err != nil {
		return err
	}
	if err := e.Office.LoadRules(ctx); err != nil {
		return err
	}
	e.Watch(m.ID)
	e.Events.Send(events.Event{Kind: "mailbox", ID: m.ID})
	e.Events.Send(events.Event{Kind: "rules"})
	return nil
}

// RemoveMailbox forgets a mailbox and, once the records have forgotten it, deletes the
// messages that only Ink Tray keeps. Where the records fail, the mailbox and its
// messages stay.
func (e *Engine) RemoveMailbox(ctx context.Context, id, actor string) error {
	e.Unwatch(id)
	e.Cabinets.Recheck()
	if err := e.Store.Mailboxes.Remove(ctx, id, actor); err != nil {
		e.Watch(id)
		return err
	}
	return e.Mailboxes.ForgetMail(id)
}

// MailboxRemains is what stays, and what does not, when a mailbox is removed.
type MailboxRemains struct {
	Filed    int // filings in the register, with their files
	Waiting  int // items and messages that wait to be filed, or in the tray
	OnlyHere int // messages that only Ink Tray keeps; they are deleted
}

// RemainsOfMailbox says what remains when a mailbox is removed, before it is.
func (e *Engine) RemainsOfMailbox(ctx context.Context, v store.Viewer, m *store.Mailbox) (out MailboxRemains,
	err error) {
	if out.Filed, err = e.Store.Register.Count(ctx, v, register.Query{MailboxID: m.ID}); err != nil {
		return out, err
	}
	if out.Waiting, err = e.Store.Mailboxes.WaitingIn(ctx, m.ID); err != nil || !mailboxes.OwnMail(m) {
		return out, err
	}
	out.OnlyHere, err = mailfile.Count(e.Mailboxes.MailFolder(m.ID))
	return out, err
}
