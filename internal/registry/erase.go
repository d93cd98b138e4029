package registry

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// ErrErasing says that what is underway has to be decided first.
var ErrErasing = errors.New("something of this person is being filed, or waits in the tray; wait until it is filed, " +
	"or decide it in the tray")

// PreviewErasure says what erasing a person's traces would erase.
func (rg *Registry) PreviewErasure(ctx context.Context, address string) (store.Traces, []string, error) {
	clean, err := personal(address)
	if err != nil {
		return store.Traces{}, nil, err
	}
	t, err := rg.Store.Erasure.Of(ctx, clean)
	left := stays(&t, false)
	return t, left, err
}

// personal reads the address of one person.
func personal(address string) (string, error) {
	found := mail.ParseAddresses(strings.TrimSpace(address))
	if len(found) != 1 || found[0].Domain == "" {
		return "", rule.Problems{{Place: "address", Text: "this is not the mail address of one person, such as " +
			"ines@brackwater.example"}}
	}
	return found[0].String(), nil
}

// stays says what an erasure leaves.
func stays(t *store.Traces, removed bool) []string {
	all := []string{"the numbers in the register, with times, sizes and checksums"}
	if t.Files > 0 && !removed {
		all = append(all, "the files in the cabinets, under their names")
	}
	all = append(all, "the messages in the mailboxes",
		"copies that were made of the records, and registers that people saved for themselves")
	for _, name := range t.Told {
		all = append(all, fmt.Sprintf("the address with “%s”, who is told of things: remove it in Settings", name))
	}
	return all
}

// Erase erases a person's traces: what the records hold and, where that is asked
// for, the files that were filed from the person's messages. It cannot be undone.
func (rg *Registry) Erase(ctx context.Context, v store.Viewer, address string, files bool) (store.Traces, []string,
	error) {
	clean, err := personal(address)
	if err != nil {
		return store.Traces{}, nil, err
	}
	t, err := rg.Store.Erasure.Of(ctx, clean)
	if err != nil {
		return t, nil, err
	}
	if t.Underway > 0 {
		return t, nil, ErrErasing
	}
	removed := 0
	rows, err := rg.Store.Erasure.FilesOf(ctx, clean)
	if err != nil {
		return t, nil, err
	}
	if files {
		gates := map[string]*cabinets.Gate{}
		for i := range rows { // all cabinets first, so that nothing is half erased
			g, err := rg.Cabinets.Gate(ctx, rows[i].CabinetID)
			if errors.Is(err, store.ErrNotFound) {
				continue // its cabinet was removed
			}
			if err == nil {
				err = g.Ready(ctx)
			}
			if err != nil {
				return t, nil, err
			}
			gates[rows[i].CabinetID] = g
		}
		for i := range rows {
			if g := gates[rows[i].CabinetID]; g != nil {
				n, err := rg.removeFile(ctx, g, &rows[i])
				if err != nil {
					return t, nil, err
				}
				removed += n
			}
			if err := rg.Store.Erasure.FileRemoved(ctx, &rows[i], v.Name, rg.Clock()); err != nil {
				return t, nil, err
			}
		}
	}
	if err := rg.Reader.Scans.Forget(ctx); err != nil {
		return t, nil, err
	}
	t, err = rg.Store.Erasure.Erase(ctx, v, clean, rg.Clock())
	t.Removed = removed
	if err == nil {
		err = forgetWords(ctx, rg, rows)
	}
	if err != nil {
		return t, nil, err
	}
	if err := rg.Office.LoadBook(ctx); err != nil {
		return t, nil, err
	}
	if err := rg.Office.LoadTopics(ctx, ""); err != nil {
		return t, nil, err
	}
	rg.Events.Send(events.Event{Kind: "tray"})
	left := stays(&t, files)
	return t, left, err
}

// removeFile removes a filing's file for good, unless another person's filing has
// the same one. A crash between its steps is mended by asking again.
func (rg *Registry) removeFile(ctx context.Context, g *cabinets.Gate, f *store.Filing) (int, error) {
	entry, err := rg.Store.Journal.ByID(ctx, store.System, f.JournalID)
	if err != nil {
		return 0, err
	}
	name := rg.Filer.Temporary(&entry) + "-erased"
	if f.KeptAs != "" {
		if err := cabinet.Forget(ctx, g.Cabinet, f.KeptAs); err != nil {
			return 0, err
		}
		return 1, nil
	}
	others, err := rg.Store.Undoing.SharedWith(ctx, &entry)
	if err != nil {
		return 0, err
	}
	for i := range others {
		row, err := rg.Store.Messages.ByID(ctx, store.System, others[i].MessageID)
		if err != nil {
			return 0, err
		}
		if !strings.EqualFold(row.SenderAddress, f.SenderAddress) {
			return 0, nil // it stays for the other
		}
	}
	there, err := cabinet.Sum(ctx, g.Cabinet, path.Join(f.Folder, f.File))
	if err == nil && string(there.SHA256[:]) != string(f.SHA256) {
		return 0, nil // another file has the name
	}
	if err == nil {
		err = cabinet.Retire(ctx, g.Cabinet, path.Join(f.Folder, f.File), name)
	}
	if err != nil && !errors.Is(err, cabinet.ErrMissing) {
		return 0, err
	}
	return 1, cabinet.Forget(ctx, g.Cabinet, name)
}
