package engine

import (
	"context"
	"errors"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/store"
)

// HandOverError says why a mailbox is not handed over.
type HandOverError = mailboxes.HandOverError

// HandOver writes a mailbox with its marks and all that is known of its messages into a
// file for another installation, and lets go of it here: one at a time watches it. The
// file is kept here too. Rules that look into no other mailbox are switched off. Nothing
// of the mailbox may be under way or wait for a person. try only says whether it could be: the file is made, for the
// caller to remove, and the mailbox stays.
func (e *Engine) HandOver(ctx context.Context, v store.Viewer, id string, try bool) (file string, err error) {
	m, err := e.Store.Mailboxes.ByID(ctx, v, id)
	if err != nil {
		return "", err
	}
	if !m.OnServer() {
		return "", &HandOverError{
			Problem: "only accounts on mail servers can be handed over: this mailbox lies on this machine",
			Advice:  "Add it again on the other machine."}
	}
	e.Unwatch(id)
	defer func() {
		if err != nil || try {
			e.Watch(id)
		}
	}()
	file, alone, err := e.Mailboxes.WriteHandOver(ctx, &m, e.Spool, try)
	if err != nil || try {
		return file, err
	}
	if err := e.Mailboxes.SwitchOff(ctx, &m, alone, v.Name); err != nil {
		return "", err
	}
	if err := errors.Join(e.Store.Mailboxes.Remove(ctx, m.ID, v.Name), e.Office.LoadRules(ctx)); err != nil {
		return "", err
	}
	e.Events.Send(events.Event{Kind: "mailbox", ID: m.ID})
	e.Events.Send(events.Event{Kind: "rules"})
	return file, nil
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
