// Package desk is where people work on single messages: they look into mailboxes, read messages, decide what waits in
// the tray, file and change messages by hand, and teach topics. It guarantees that people see and change only what
// their rights allow, and that what they decide is recorded with their names.
package desk

import (
	"context"
	"fmt"
	"path"
	"strings"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// Desk carries out what people decide. Its methods may be called by several goroutines at once.
type Desk struct {
	*base.Base
	office    *office.Office
	mailboxes *mailboxes.Mailboxes
	reader    *reading.Reader
	registry  *registry.Registry
}

// New makes a desk.
func New(b *base.Base, o *office.Office, m *mailboxes.Mailboxes, r *reading.Reader, g *registry.Registry) *Desk {
	return &Desk{Base: b, office: o, mailboxes: m, reader: r, registry: g}
}

// MattersOf is what a person chose in the tray: single matters, or all of a cause.
func (dk *Desk) MattersOf(ctx context.Context, v store.Viewer, m store.Matters, cause store.Cause) (store.Matters,
	error) {
	if cause == "" {
		return m, nil
	}
	return dk.Store.Tray.OfCause(ctx, v, cause)
}

// Again lets what waits in the tray be tried again, under the rules as they are now.
func (dk *Desk) Again(ctx context.Context, v store.Viewer, m store.Matters) (int, error) {
	looked, out := 0, error(nil)
	for _, id := range m.Filings { // they are looked at again
		f, err := dk.Store.Register.OfEntry(ctx, id)
		if err == nil {
			f, err = dk.Store.Register.ByNumber(ctx, v, f.Year, f.Number)
		}
		if err == nil {
			err = dk.registry.VerifyFiling(ctx, &f)
		}
		if err != nil { // one cabinet that is out of reach does not stop the others
			out = err
			continue
		}
		looked++
	}
	n, err := dk.decided(dk.Store.Tray.Again(ctx, v, m, store.Decision{Given: "again"}))
	if err == nil && n+looked == 0 {
		err = out
	}
	return n + looked, err
}

// Release lets held items be filed as they are.
func (dk *Desk) Release(ctx context.Context, v store.Viewer, m store.Matters) (int, error) {
	return dk.decided(dk.Store.Tray.Again(ctx, v, m, store.Decision{Given: "release"}))
}

// Elsewhere lets items of the tray be filed in a folder that a person names.
func (dk *Desk) Elsewhere(ctx context.Context, v store.Viewer, m store.Matters, cabinet, folder string) (int, error) {
	c, err := dk.Store.Cabinets.SeenNamed(ctx, v, cabinet)
	if err != nil {
		return 0, rule.Problems{{Place: "cabinet", Text: fmt.Sprintf("there is no cabinet called “%s”", cabinet)}}
	}
	segments := safename.Folder(folder)
	if len(segments) == 0 {
		return 0, rule.Problems{
			{Place: "folder", Text: "name the folder in which to file, such as Sorted by hand/2026", Meant: "Sorted by hand"}}
	}
	return dk.decided(dk.Store.Tray.Again(ctx, v, m,
		store.Decision{Given: "elsewhere", CabinetID: c.ID, Path: func(entry *store.Entry) string {
			ext := mail.Extension(entry.Name)
			return path.Join(path.Join(segments...), safename.File(strings.TrimSuffix(entry.Name, ext), ext))
		}}))
}

// SetAside takes matters out of the tray for good, with a note.
func (dk *Desk) SetAside(ctx context.Context, v store.Viewer, m store.Matters, note string) (int, error) {
	reason := "set aside by " + v.Name
	if note = strings.Join(strings.Fields(note), " "); note != "" {
		reason += ": " + note
	}
	return dk.decided(dk.Store.Tray.SetAside(ctx, v, m, reason, dk.Clock()))
}

func (dk *Desk) decided(n int, err error) (int, error) {
	dk.Events.Send(events.Event{Kind: "tray"})
	dk.WakeAll()
	dk.Hasten()
	return n, err
}

// FileMissingAgain files what is missing from a cabinet once more, from its
// message.
func (dk *Desk) FileMissingAgain(ctx context.Context, v store.Viewer, m store.Matters) (int, error) {
	n := 0
	for _, id := range m.Filings {
		f, err := dk.Store.Register.OfEntry(ctx, id)
		if err != nil {
			return n, err
		}
		if f, err = dk.Store.Register.ByNumber(ctx, v, f.Year, f.Number); err != nil {
			return n, err
		}
		state, err := dk.registry.VerifyOne(ctx, &f)
		if err != nil {
			return n, err
		}
		if state != "missing" { // it came back, or is there, changed
			if err := dk.registry.VerifyFiling(ctx, &f); err != nil {
				return n, err
			}
			continue
		}
		done, err := dk.Store.Verifications.Refile(ctx, v, &f, dk.Clock())
		if err != nil {
			return n, err
		}
		n += done
	}
	return dk.decided(n, nil)
}
