package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// booksNote says in a cabinet how far the records went that last filed there. It stays when
// the run ends, so that records that were put back from an older copy are noticed.
type booksNote struct {
	Last int64     `json:"last"` // the newest line of the journal
	At   time.Time `json:"at"`
}

func (e *Engine) booksName() string { return "books-" + e.mark + ".json" }

// compareBooks notices that these records are older than those that last filed in a cabinet.
func (g *gate) compareBooks(ctx context.Context, book cabinet.Notebook) error {
	e := g.engine
	notes, err := book.Notes(ctx, e.booksName())
	if err != nil {
		return err
	}
	var was booksNote
	if json.Unmarshal(notes[e.booksName()], &was) != nil { // none, or in the midst of its writing
		return nil
	}
	last, err := e.Store.LastEntry()
	if err != nil || was.Last <= last {
		return err
	}
	n := &store.Notice{Kind: "older records", Object: g.row.ID, MadeAt: e.Clock(),
		Text: fmt.Sprintf("Ink Tray's records are older than what was filed in the cabinet “%s”: it was filed there until %s, and these records know less, as if an older copy had been put back.",
			g.row.Name, was.At.In(e.Zone).Format("2006-01-02 15:04")),
		Advice: fmt.Sprintf("Messages that came since are looked at again: what of them lies there already gets its line in the register and is not filed twice. For files that no message brings again: "+
			"Settings, Cabinets, Files without a line, or inktray cabinets unknown %q.", g.row.Name)}
	if err := e.Store.Tell(n); err != nil {
		return err
	}
	e.hub.send(Event{Kind: "tray"})
	return nil
}

// writeBooks says how far these records go, where that is more than was said.
func (g *gate) writeBooks(ctx context.Context, book cabinet.Notebook) error {
	last, err := g.engine.Store.LastEntry()
	if err != nil || last == g.lease.books {
		return err
	}
	data, err := json.Marshal(booksNote{Last: last, At: g.engine.Clock().UTC()})
	if err != nil {
		return err
	}
	if err := book.WriteNote(ctx, g.engine.booksName(), data); err != nil {
		return err
	}
	g.lease.books = last
	return nil
}

// UnknownFile is a file of a cabinet of which the register knows nothing.
type UnknownFile struct {
	Path     string
	Size     int64
	Modified time.Time // zero where the place does not say
}

// UnknownFiles looks through a cabinet for files of which the register knows nothing: at most so
// many. looked is how many files were looked at; more says that there are further ones.
func (e *Engine) UnknownFiles(ctx context.Context, cabinetID string, most int) (unknown []UnknownFile, looked int, more bool, err error) {
	g, err := e.gate(cabinetID)
	if err != nil {
		return nil, 0, false, err
	}
	if err := g.ready(ctx); err != nil {
		return nil, 0, false, err
	}
	own, err := e.Store.RegisterFilePaths(cabinetID)
	if err != nil {
		return nil, 0, false, err
	}
	folders := []string{""}
	for len(folders) > 0 {
		folder := folders[0]
		folders = folders[1:]
		entries, err := g.cabinet.List(ctx, folder)
		if errors.Is(err, cabinet.ErrMissing) { // it went meanwhile
			continue
		}
		if err != nil {
			return nil, looked, false, err
		}
		known, err := e.Store.KnownFiles(cabinetID, folder)
		if err != nil {
			return nil, looked, false, err
		}
		var within []string
		for _, one := range entries {
			full := path.Join(folder, one.Name)
			if one.Folder {
				within = append(within, full)
				continue
			}
			if looked++; known[safename.Fold(one.Name)] || own[full] {
				continue
			}
			if len(unknown) == most {
				return unknown, looked, true, nil
			}
			unknown = append(unknown, UnknownFile{Path: full, Size: one.Size, Modified: one.Modified})
		}
		folders = append(within, folders...)
	}
	return unknown, looked, false, nil
}

// EnterFiles gives files of a cabinet of which the register knows nothing their lines, each with
// its checksum. It gives how many were entered; what is known meanwhile, or gone, is left out.
func (e *Engine) EnterFiles(ctx context.Context, v store.Viewer, cabinetID string, paths []string) (int, error) {
	g, err := e.gate(cabinetID)
	if err != nil {
		return 0, err
	}
	if err := g.ready(ctx); err != nil {
		return 0, err
	}
	e.entering.Lock() // two people at once enter each file once
	defer e.entering.Unlock()
	var found []store.Found
	for i, full := range paths {
		if err := cabinet.Clean(full); err != nil {
			return 0, rule.Problems{{Place: fmt.Sprintf("paths[%d]", i), Text: "this is no path of a file in the cabinet"}}
		}
		folder, file := path.Split(full)
		known, err := e.Store.KnownFiles(cabinetID, strings.TrimSuffix(folder, "/"))
		if err != nil {
			return 0, err
		}
		if known[safename.Fold(file)] || slices.ContainsFunc(found, func(f store.Found) bool { return f.Entry.Path == full }) {
			continue
		}
		content, err := g.cabinet.Sum(ctx, full)
		if errors.Is(err, cabinet.ErrMissing) {
			continue
		}
		if err != nil {
			return 0, err
		}
		facts := &source.Facts{Size: content.Size, Received: e.Clock().UTC(), Origin: mail.Unknown}
		facts.Header, _ = mail.ParseHeader([]byte("Subject: Found in the cabinet\r\n\r\n"))
		message, _, err := store.NewMessage("", "", 1, facts, e.Clock())
		if err != nil {
			return 0, err
		}
		message.Attachments = 1
		name := path.Base(full)
		found = append(found, store.Found{Message: message, Entry: store.Entry{RuleID: store.ByHand, RuleRevision: 1, Item: "1", CabinetID: cabinetID, State: store.Filed, Name: name,
			Kind: string(mail.KindOf("", mail.Extension(name))), Wanted: full, Path: full, Reason: "it was found in the cabinet, and no record knew of it", Size: content.Size, SHA256: content.SHA256[:], PlannedAt: e.Clock().UTC()}})
	}
	if len(found) == 0 {
		return 0, nil
	}
	if err := e.Store.EnterFound(v.Name, found, e.now()); err != nil {
		return 0, err
	}
	e.hub.send(Event{Kind: "message"})
	return len(found), nil
}
