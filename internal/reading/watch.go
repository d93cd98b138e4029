package reading

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/proof"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// prove finds out whether it is proven who sent a message: by what a trusted server
// reports, which is among the facts, or by the signatures, for which the message is
// read whole.
func (rd *Reader) prove(ctx context.Context, s source.Session, l *Message) error {
	if l.Mail.Proof != nil {
		return nil
	}
	p := mail.Proof{}
	domain, problem := proof.Author(l.Mail.Header)
	if problem != "" {
		p.Text = problem
		l.Mail.Proof = &p
		return nil
	}
	if rd.Office.Settings().NoteReport(l.Mail); l.Mail.Proof != nil {
		return nil
	}
	f, err := rd.Content(ctx, s, l, source.Whole)
	if errors.Is(err, source.ErrGone) {
		l.Mail.Proof = &mail.Proof{Unknown: true, Text: err.Error()}
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	resolver := rd.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	p = proof.Signed(ctx, f, domain, resolver)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	l.Mail.Proof = &p
	return nil
}

// ProveMessage finds out whether it is proven who sent a message.
func (rd *Reader) ProveMessage(ctx context.Context, v store.Viewer, messageID int64) (mail.Proof, error) {
	row, err := rd.Store.Messages.ByID(ctx, v, messageID)
	if err != nil {
		return mail.Proof{}, err
	}
	var p mail.Proof
	err = rd.WithMessage(ctx, v, &row, func(s source.Session, l *Message) error {
		if err := rd.prove(ctx, s, l); err != nil {
			return err
		}
		p = *l.Mail.Proof
		return nil
	})
	return p, err
}

// locked says whether an archive that is filed as it is needs a password that nobody
// here knows.
func (rd *Reader) locked(ctx context.Context, s source.Session, l *Message, item *plan.Item) (bool, error) {
	if !plan.Archive(&item.Item) {
		return false, nil
	}
	if err := rd.open(ctx, s, l, item.Item.ID); err != nil {
		return false, err
	}
	return l.Mail.Inside[item.Item.ID].Locked, nil
}

// Inspection looks at a content while it is staged: for macros, and with the virus
// scanner where there is one.
type Inspection struct {
	io.Reader
	macros *mail.MacroFinder
	virus  *scan.Stream
	closed func() error
}

// Inspect opens an item's content to be looked at while it goes by. What its beginning tells is told at once: said says
// what it is, and has a cause where it must not be filed unseen; then it is closed. A person who has looked decides,
// but of viruses only one who was told of what the scanner said.
func (rd *Reader) Inspect(ctx context.Context, s source.Session, l *Message, r *rule.Compiled, entry *store.Entry,
	item *plan.Item) (w *Inspection, said reason.Reason, err error) {
	seen := entry.Given == "release" || entry.Given == "elsewhere"
	if item.Copy == "" && !seen && r.Holds(rule.LockedArchives) {
		locked, err := rd.locked(ctx, s, l, item)
		if err != nil {
			return nil, said, err
		}
		if locked {
			return nil, reason.Locked(), nil
		}
	}
	part, closed, err := rd.stream(ctx, s, l, item)
	if err != nil {
		return nil, said, err
	}
	in := bufio.NewReaderSize(part, mail.FirstBytes+1024)
	w = &Inspection{Reader: in, closed: closed}
	if item.Copy == "" && !seen {
		first, err := in.Peek(mail.FirstBytes)
		if err != nil && err != io.EOF {
			return nil, said, errors.Join(err, closed())
		}
		if len(first) > 0 || err == io.EOF {
			what, held := mail.Disagrees(&item.Item, first)
			if said = disagreement(item, what, held && r.Holds(rule.DisguisedFiles)); said.Cause() != "" {
				return nil, said, closed()
			}
		}
		office := item.Item.Kind == mail.Document || item.Item.Kind == mail.Spreadsheet || item.Item.Kind == mail.Presentation
		if office && r.Holds(rule.Macros) {
			w.macros = &mail.MacroFinder{}
			w.Reader = io.TeeReader(w.Reader, w.macros)
		}
	}
	if rd.Scanner != nil && entry.Looked != store.CauseVirus && entry.Looked != store.CauseUnscanned {
		if w.virus, err = rd.Scanner.Begin(ctx); err != nil {
			return nil, said, errors.Join(err, closed())
		}
		w.Reader = io.TeeReader(w.Reader, w.virus)
	}
	return w, said, nil
}

// ScannerFailed notes that the virus scanner did not answer.
func (rd *Reader) ScannerFailed() { rd.scannerAway.Store(true) }

// Close ends the watching.
func (w *Inspection) Close() error {
	if w.virus != nil {
		w.virus.Close()
	}
	return w.closed()
}

// Verdict is what was found; a scanner that answers again is taken out of the tray.
func (rd *Reader) Verdict(ctx context.Context, w *Inspection) (why reason.Reason, err error) {
	why, err = w.found()
	if w.virus != nil && err == nil && rd.scannerAway.Swap(false) {
		var was bool
		if was, err = rd.Store.Tray.Settle(ctx, "scanner", "scanner"); was {
			rd.Events.Send(events.Event{Kind: "tray"})
		}
	}
	return why, err
}

// found says what was found once all went by: a reason to hold it, or none.
func (w *Inspection) found() (why reason.Reason, err error) {
	if w.virus != nil {
		found, err := w.virus.Verdict()
		var known *scan.Error
		if errors.As(err, &known) && known.Lasting {
			return reason.Unscanned(known.Problem), nil
		}
		if err != nil {
			return why, err
		}
		if found != "" {
			return reason.Virus(found), nil
		}
	}
	if w.macros != nil && w.macros.Found {
		return reason.Macros(), nil
	}
	return why, nil
}

// disagreement says that a content is not what its name says, and whether that holds it; none where it is.
func disagreement(item *plan.Item, what string, holds bool) reason.Reason {
	named := "named " + item.Ext
	if item.Ext == "" {
		named = "sent as " + item.Item.Type
	}
	switch {
	case what == "":
		return reason.Reason{}
	case what == "empty":
		return reason.Empty()
	case holds:
		return reason.Disguised(named, what)
	}
	return reason.Differs(named, what)
}
