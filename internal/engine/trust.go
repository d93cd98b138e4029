package engine

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/proof"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Trust says whom the office believes.
type Trust struct {
	Servers        []string `json:"servers"`        // names under which the office's own mail servers report (RFC 8601)
	Replies        bool     `json:"replies"`        // replies go to verified senders only
	Correspondents bool     `json:"correspondents"` // correspondents are recognised only where the sender is verified
}

// Trust is what is set; where nothing is, replies go to verified senders only.
func (e *Engine) Trust() Trust {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	return e.trust
}

// RuleNotes says what a person should know of a rule before it runs, which is set elsewhere.
func (e *Engine) RuleNotes(document *rule.Rule) []string {
	var notes []string
	if e.Trust().Replies && slices.ContainsFunc(document.Afterwards, func(a rule.Step) bool { return a.Reply != nil }) {
		notes = append(notes, "Replies go to verified senders only: nobody else gets one. Whether that is so is set in Settings, Trust.")
	}
	return notes
}

func (e *Engine) loadTrust() error {
	t := Trust{Replies: true}
	kept, err := e.Store.Setting(store.TrustSetting)
	if err == nil && kept != "" {
		err = json.Unmarshal([]byte(kept), &t)
	}
	if err != nil {
		return err
	}
	e.mutex.Lock()
	e.trust = t
	e.mutex.Unlock()
	return nil
}

// SetTrust keeps whom the office believes. The error, if any, may be rule.Problems.
func (e *Engine) SetTrust(t Trust, revision int, actor string) error {
	servers := []string{}
	for i, s := range t.Servers {
		s = strings.ToLower(strings.TrimSpace(s))
		if s == "" {
			continue
		}
		if strings.ContainsAny(s, " @/;:") || len(s) > 253 {
			return rule.Problems{{Place: fmt.Sprintf("servers[%d]", i), Text: fmt.Sprintf("%q is no name of a mail server, as it stands first in Authentication-Results", s), Meant: "mx.brackwater.example"}}
		}
		servers = append(servers, s)
	}
	t.Servers = servers
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	if err := e.Store.ChangeSetting(store.TrustSetting, string(data), revision, "change whom to trust", actor); err != nil {
		return err
	}
	if err := e.loadTrust(); err != nil {
		return err
	}
	e.hub.send(Event{Kind: "rules"})
	return nil
}

// reported notes what a trusted server reports of a message, which is among its facts.
func (e *Engine) reported(m *mail.Message) {
	servers := e.Trust().Servers
	if m.Proof != nil || len(servers) == 0 {
		return
	}
	if domain, problem := proof.Author(m.Header); problem == "" {
		if p, ok := proof.Reported(m.Header, domain, servers); ok {
			m.Proof = &p
		}
	}
}

// Reported is what a trusted server reports of a known message; nil where none does.
func (e *Engine) Reported(row *store.Message) *mail.Proof {
	if len(row.Header) == 0 || len(e.Trust().Servers) == 0 {
		return nil
	}
	m := mail.Message{}
	m.Header, _ = mail.ParseHeader(row.Header)
	e.reported(&m)
	return m.Proof
}

// prove finds out whether it is proven who sent a message: by what a trusted server
// reports, which is among the facts, or by the signatures, for which the message is
// read whole.
func (e *Engine) prove(ctx context.Context, s source.Session, l *letter) error {
	if l.message.Proof != nil {
		return nil
	}
	p := mail.Proof{}
	domain, problem := proof.Author(l.message.Header)
	if problem != "" {
		p.Text = problem
		l.message.Proof = &p
		return nil
	}
	if e.reported(l.message); l.message.Proof != nil {
		return nil
	}
	f, err := e.content(ctx, s, l, source.Whole)
	if errors.Is(err, source.ErrGone) {
		l.message.Proof = &mail.Proof{Unknown: true, Text: err.Error()}
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	resolver := e.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	p = proof.Signed(ctx, f, domain, resolver)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	l.message.Proof = &p
	return nil
}

// ProveMessage finds out whether it is proven who sent a message.
func (e *Engine) ProveMessage(ctx context.Context, v store.Viewer, messageID int64) (mail.Proof, error) {
	row, err := e.Store.MessageByID(v, messageID)
	if err != nil {
		return mail.Proof{}, err
	}
	var p mail.Proof
	err = e.withMessage(ctx, v, &row, func(s source.Session, l *letter) error {
		if err := e.prove(ctx, s, l); err != nil {
			return err
		}
		p = *l.message.Proof
		return nil
	})
	return p, err
}

// locked says whether an archive that is filed as it is needs a password that nobody
// here knows.
func (e *Engine) locked(ctx context.Context, s source.Session, l *letter, item *plan.Item) (bool, error) {
	if !plan.Archive(&item.Item) {
		return false, nil
	}
	if err := e.open(ctx, s, l, item.Item.ID); err != nil {
		return false, err
	}
	return l.message.Inside[item.Item.ID].Locked, nil
}

// watch looks at a content while it is staged: for macros, and with the virus
// scanner where there is one.
type watch struct {
	io.Reader
	macros *mail.MacroFinder
	virus  *scan.Stream
	closed func() error
}

// watched opens an item's content to be looked at while it goes by. What its
// beginning tells is told at once: said says what it is, and hold why it must not be
// filed unseen; then it is closed. A person who has looked decides, but of viruses only
// one who was told of what the scanner said.
func (e *Engine) watched(ctx context.Context, s source.Session, l *letter, r *rule.Compiled, entry *store.Entry, item *plan.Item) (w *watch, said string, hold store.Cause, err error) {
	seen := entry.Given == "release" || entry.Given == "elsewhere"
	if item.Copy == "" && !seen && r.Holds(rule.LockedArchives) {
		locked, err := e.locked(ctx, s, l, item)
		if err != nil {
			return nil, "", "", err
		}
		if locked {
			return nil, "an archive that needs a password, so nobody can look into it here", store.CauseEncrypted, nil
		}
	}
	part, closed, err := e.stream(ctx, s, l, item)
	if err != nil {
		return nil, "", "", err
	}
	in := bufio.NewReaderSize(part, mail.FirstBytes+1024)
	w = &watch{Reader: in, closed: closed}
	if item.Copy == "" && !seen {
		first, err := in.Peek(mail.FirstBytes)
		if err != nil && err != io.EOF {
			return nil, "", "", errors.Join(err, closed())
		}
		if len(first) > 0 || err == io.EOF {
			what, held := mail.Disagrees(&item.Item, first)
			if said = disagreement(item, what); held && r.Holds(rule.DisguisedFiles) {
				return nil, said, store.CauseDisguised, closed()
			}
		}
		office := item.Item.Kind == mail.Document || item.Item.Kind == mail.Spreadsheet || item.Item.Kind == mail.Presentation
		if office && r.Holds(rule.Macros) {
			w.macros = &mail.MacroFinder{}
			w.Reader = io.TeeReader(w.Reader, w.macros)
		}
	}
	if e.Scanner != nil && entry.Looked != store.CauseVirus && entry.Looked != store.CauseUnscanned {
		if w.virus, err = e.Scanner.Begin(ctx); err != nil {
			return nil, "", "", errors.Join(err, closed())
		}
		w.Reader = io.TeeReader(w.Reader, w.virus)
	}
	return w, said, "", nil
}

// close ends the watching.
func (w *watch) close() error {
	if w.virus != nil {
		w.virus.Close()
	}
	return w.closed()
}

// verdict is what was found; a scanner that answers again is taken out of the tray.
func (e *Engine) verdict(w *watch) (reason string, cause store.Cause, err error) {
	reason, cause, err = w.verdict()
	if w.virus != nil && err == nil && e.scannerAway.Swap(false) {
		var was bool
		if was, err = e.Store.Settle("scanner", "scanner"); was {
			e.hub.send(Event{Kind: "tray"})
		}
	}
	return reason, cause, err
}

// verdict says what was found once all went by: a reason to hold it, and its cause.
func (w *watch) verdict() (reason string, cause store.Cause, err error) {
	if w.virus != nil {
		found, err := w.virus.Verdict()
		var known *scan.Error
		if errors.As(err, &known) && known.Lasting {
			return known.Problem, store.CauseUnscanned, nil
		}
		if err != nil {
			return "", "", err
		}
		if found != "" {
			return "the virus scanner found " + found, store.CauseVirus, nil
		}
	}
	if w.macros != nil && w.macros.Found {
		return "an office file with macros, which are programs, though its name does not say so", store.CauseCaution, nil
	}
	return "", "", nil
}
