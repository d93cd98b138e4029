package registry

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// UnknownFile is a file of a cabinet that the register does not know.
type UnknownFile struct {
	Path     string
	Size     int64
	Modified time.Time // zero where the place does not say
}

// UnknownFiles looks through a cabinet for files that the register does not know: at most so
// many. looked is how many files were looked at; more says that there are further ones.
func (rg *Registry) UnknownFiles(ctx context.Context, cabinetID string, most int) (unknown []UnknownFile, looked int,
	more bool, err error) {
	g, err := rg.Cabinets.Gate(ctx, cabinetID)
	if err != nil {
		return nil, 0, false, err
	}
	if err := g.Ready(ctx); err != nil {
		return nil, 0, false, err
	}
	err = rg.eachFolder(ctx, g, func(folder string, files []cabinet.Entry, known map[string]bool) error {
		for _, one := range files {
			if looked++; known[safename.Fold(one.Name)] {
				continue
			}
			if len(unknown) == most {
				more = true
				return errEnough
			}
			unknown = append(unknown, UnknownFile{Path: path.Join(folder, one.Name), Size: one.Size, Modified: one.Modified})
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	if err != nil {
		return nil, looked, false, err
	}
	return unknown, looked, more, nil
}

// errEnough ends a walk before its end.
var errEnough = errors.New("that is enough")

// eachFolder calls f with the files of every folder of a cabinet, without those that the service itself keeps up to
// date, and with the names that the records know in it, folded.
func (rg *Registry) eachFolder(ctx context.Context, g *cabinets.Gate, f func(folder string, files []cabinet.Entry,
	known map[string]bool) error) error {
	own, err := rg.Store.RegisterFiles.Paths(ctx, g.Row.ID)
	if err != nil {
		return err
	}
	folders := []string{""}
	for len(folders) > 0 {
		folder := folders[0]
		folders = folders[1:]
		entries, err := g.Cabinet.List(ctx, folder)
		if errors.Is(err, cabinet.ErrMissing) { // it went meanwhile
			continue
		}
		if err != nil {
			return err
		}
		known, err := rg.Store.Register.KnownFiles(ctx, g.Row.ID, folder)
		if err != nil {
			return err
		}
		var within []string
		files := entries[:0:0]
		for _, one := range entries {
			switch full := path.Join(folder, one.Name); {
			case one.Folder && full == cabinets.BackupFolder:
			case one.Folder:
				within = append(within, full)
			case !own[full]:
				files = append(files, one)
			}
		}
		if err := f(folder, files, known); err != nil {
			return err
		}
		folders = append(within, folders...)
	}
	return nil
}

// EnterFiles gives files of a cabinet that the register does not know their lines, each with
// its checksum. It gives how many were entered; what is known meanwhile, or gone, is left out.
func (rg *Registry) EnterFiles(ctx context.Context, v store.Viewer, cabinetID string, paths []string) (int, error) {
	g, err := rg.Cabinets.Gate(ctx, cabinetID)
	if err != nil {
		return 0, err
	}
	if err := g.Ready(ctx); err != nil {
		return 0, err
	}
	rg.entering.Lock() // two people at once enter each file once
	defer rg.entering.Unlock()
	var found []store.Found
	for i, full := range paths {
		if err := cabinet.Clean(full); err != nil {
			return 0, rule.Problems{{Place: fmt.Sprintf("paths[%d]", i), Text: "this is not a path of a file in the cabinet"}}
		}
		folder, file := path.Split(full)
		known, err := rg.Store.Register.KnownFiles(ctx, cabinetID, strings.TrimSuffix(folder, "/"))
		if err != nil {
			return 0, err
		}
		if known[safename.Fold(file)] ||
			slices.ContainsFunc(found, func(f store.Found) bool { return f.Entry.Path == full }) {
			continue
		}
		content, err := cabinet.Sum(ctx, g.Cabinet, full)
		if errors.Is(err, cabinet.ErrMissing) {
			continue
		}
		if err != nil {
			return 0, err
		}
		facts := &source.Facts{Size: content.Size, Received: rg.Clock().UTC(), Origin: mail.Unknown}
		facts.Header, _ = mail.ParseHeader([]byte("Subject: Found in the cabinet\r\n\r\n"))
		message, _, err := store.NewMessage("", "", 1, facts, rg.Clock())
		if err != nil {
			return 0, err
		}
		message.Attachments = 1
		name := path.Base(full)
		found = append(found,
			store.Found{Message: message,
				Entry: store.Entry{RuleID: store.ByHand, RuleRevision: 1, Item: "1", CabinetID: cabinetID, State: store.Filed,
					Name: name,
					Kind: string(mail.KindOf("", mail.Extension(name))), Wanted: full, Path: full,
					Reason: reason.Found(), Size: content.Size, SHA256: content.SHA256[:],
					PlannedAt: rg.Clock().UTC()}})
	}
	if len(found) == 0 {
		return 0, nil
	}
	if err := rg.Store.Register.EnterFound(ctx, v.Name, found, rg.Now()); err != nil {
		return 0, err
	}
	rg.Events.Send(events.Event{Kind: "message"})
	return len(found), nil
}
