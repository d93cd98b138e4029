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
func (rd *Reader) prove(ctx context.Context, s source.Opener, l *Message) error {
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
func (rd *Reader) locked(ctx context.Context, s source.Opener, l *Message, item *plan.Item) (bool, error) {
	if !plan.Archive(&item.Item) {
		return false, nil
	}
	if err := rd.open(ctx, s, l, item.Item.ID); err != nil {
		return false, err
	}
	return l.Mail.Inside[item.Item.ID].Locked, nil
}

// knowsPasswords says whether there are passwords of archives that the sender of a message sends.
func (rd *Reader) knowsPasswords(l *Message) bool {
	return len(rd.Office.Settings().Passwords(l.Mail.Envelope.Sender())) > 0
}

// Inspection looks at a content while it is staged: for macros, and with the virus
// scanner where there is one.
type Inspection struct {
	io.Reader
	macros *mail.MacroFinder
	lock   *mail.ZipLock
	virus  *scan.Stream
	closed func() error
}

// Inspect opens an item's content to be looked at while it goes by. What its beginning tells is told at once: said says
// what it is, and has a cause where it must not be filed unseen; then it is closed. A person who has looked decides,
// but of viruses only one who was told of what the scanner said.
func (rd *Reader) Inspect(ctx context.Context, s source.Opener, l *Message, r *rule.Compiled, entry *store.Entry,
	item *plan.Item) (w *Inspection, said reason.Reason, err error) {
	looks := item.Copy == "" && entry.Given != "release" && entry.Given != "elsewhere"
	locks := looks && plan.Archive(&item.Item) && r.Holds(rule.LockedArchives)
	if locks && (l.Mail.Inside[item.Item.ID] != nil || rd.knowsPasswords(l)) {
		if locked, err := rd.locked(ctx, s, l, item); locked || err != nil {
			return nil, lockedIf(locked), err
		}
		locks = false
	}
	part, closed, err := rd.stream(ctx, s, l, item)
	if err != nil {
		return nil, said, err
	}
	in := bufio.NewReaderSize(part, mail.FirstBytes+1024)
	w = &Inspection{Reader: in, closed: closed}
	if looks {
		first, err := in.Peek(mail.FirstBytes)
		if err != nil && err != io.EOF {
			return nil, said, errors.Join(err, closed())
		}
		switch {
		case locks && mail.IsZip(first):
			w.lock = &mail.ZipLock{}
			w.Reader = io.TeeReader(w.Reader, w.lock)
		case locks: // another kind of archive is opened first
			if err := closed(); err != nil {
				return nil, said, err
			}
			locked, err := rd.locked(ctx, s, l, item)
			if locked || err != nil {
				return nil, lockedIf(locked), err
			}
			return rd.Inspect(ctx, s, l, r, entry, item)
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

// End closes the watching once all went by, and says what was found: a reason to hold the content, or none. A scanner
// that answers again is taken out of the tray.
func (rd *Reader) End(ctx context.Context, s source.Opener, l *Message, item *plan.Item,
	w *Inspection) (why reason.Reason, err error) {
	why, err = w.found()
	if w.virus != nil && err == nil && rd.scannerAway.Swap(false) {
		var was bool
		if was, err = rd.Store.Tray.Settle(ctx, "scanner", "scanner"); was {
			rd.Events.Send(events.Event{Kind: "tray"})
		}
	}
	if err = errors.Join(err, w.Close()); err != nil || !why.IsZero() || w.lock == nil {
		return why, err
	}
	locked, known := w.lock.Locked()
	if !known {
		locked, err = rd.locked(ctx, s, l, item)
	}
	return lockedIf(locked), err
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

// lockedIf holds an archive that needs a password.
func lockedIf(locked bool) (why reason.Reason) {
	if locked {
		return reason.Locked()
	}
	return why
}
