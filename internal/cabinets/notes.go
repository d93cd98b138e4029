package cabinets

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// booksNote says in a cabinet how far the records went that last filed there. It stays when
// the run ends, so that records that were put back from an older copy are noticed.
type booksNote struct {
	Last int64     `json:"last"` // the newest line of the journal
	At   time.Time `json:"at"`
}

func (cs *Cabinets) booksName() string { return "books-" + cs.Installation + ".json" }

// compareBooks finds out whether the records are older than those with which the cabinet was last filed into, as after
// a restored backup.
func (g *Gate) compareBooks(ctx context.Context, book cabinet.Notebook) error {
	e := g.owner
	notes, err := book.Notes(ctx, e.booksName())
	if err != nil {
		return err
	}
	var was booksNote
	if json.Unmarshal(notes[e.booksName()], &was) != nil { // none, or in the midst of its writing
		return nil
	}
	last, err := e.Store.Journal.Last(ctx)
	if err != nil || was.Last <= last {
		return err
	}
	n := &store.Notice{Kind: "older records", Object: g.Row.ID, MadeAt: e.Clock(),
		Text: fmt.Sprintf("Ink Tray's records are older than the cabinet “%s”: it holds filings until %s that these "+
			"records do not know, as if an older copy of the records had been put back.",
			g.Row.Name, was.At.In(e.Zone).Format("2006-01-02 15:04")),
		Advice: fmt.Sprintf("Ink Tray looks again at messages that arrived since. Attachments that are there already get "+
			"their line in the register and are not filed twice. For files that no message brings again: Settings, "+
			"Cabinets, Files not in the register, or inktray cabinets unknown %q.", g.Row.Name)}
	if err := e.Store.Tray.Tell(ctx, n); err != nil {
		return err
	}
	e.Events.Send(events.Event{Kind: "tray"})
	return nil
}

// writeBooks says how far these records go, where that is more than was said.
func (g *Gate) writeBooks(ctx context.Context, book cabinet.Notebook) error {
	last, err := g.owner.Store.Journal.Last(ctx)
	if err != nil || last == g.lease.books {
		return err
	}
	data, err := json.Marshal(booksNote{Last: last, At: g.owner.Clock().UTC()})
	if err != nil {
		return err
	}
	if err := book.WriteNote(ctx, g.owner.booksName(), data); err != nil {
		return err
	}
	g.lease.books = last
	return nil
}
