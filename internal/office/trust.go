package office

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/proof"
	"inktray.example/inktray/internal/store"
)

// Trust says which servers and senders the office trusts.
type Trust struct {
	Servers        []string `json:"servers"`        // names under which the office's own mail servers report (RFC 8601)
	Replies        bool     `json:"replies"`        // replies go to verified senders only
	Correspondents bool     `json:"correspondents"` // correspondents are recognised only where the sender is verified
}

// RuleNotes says what a person should know of a rule before it runs, which is set elsewhere.
func (o *Office) RuleNotes(document *rule.Rule) []string {
	var notes []string
	if o.Settings().Trust.Replies &&
		slices.ContainsFunc(document.Afterwards, func(a rule.Step) bool { return a.Reply != nil }) {
		notes = append(notes, "Ink Tray replies to verified senders only. You can change this in Settings, Safety.")
	}
	return notes
}

// loadTrust reads which servers and senders the office trusts; where nothing is set, replies go to verified senders
// only.
func (o *Office) loadTrust(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx) // what was saved is taken up in any case
	return o.change(func(next *Snapshot) error {
		t := Trust{Replies: true}
		kept, err := o.Store.Settings.Get(ctx, store.TrustSetting)
		if err == nil && kept != "" {
			err = json.Unmarshal([]byte(kept), &t)
		}
		next.Trust = t
		return err
	})
}

// SetTrust keeps which servers and senders the office trusts. The error, if any, may be rule.Problems.
func (o *Office) SetTrust(ctx context.Context, t Trust, revision int, actor string) error {
	servers := []string{}
	for i, s := range t.Servers {
		s = strings.ToLower(strings.TrimSpace(s))
		if s == "" {
			continue
		}
		if strings.ContainsAny(s, " @/;:") || len(s) > 253 {
			return rule.Problems{{Place: fmt.Sprintf("servers[%d]", i), Text: fmt.Sprintf("%q is not the name of a mail "+
				"server, as it stands first in Authentication-Results", s), Meant: "mx.brackwater.example"}}
		}
		servers = append(servers, s)
	}
	t.Servers = servers
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	if err := o.Store.Settings.Change(ctx, store.TrustSetting, string(data), revision, "change whom to trust",
		actor); err != nil {
		return err
	}
	return o.loadTrust(ctx)
}

// NoteReport notes what a trusted server reports about a message (RFC 8601), which is among its facts.
func (s *Snapshot) NoteReport(m *mail.Message) {
	servers := s.Trust.Servers
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
func (o *Office) Reported(row *store.Message) *mail.Proof {
	if len(row.Header) == 0 || len(o.Settings().Trust.Servers) == 0 {
		return nil
	}
	m := mail.Message{}
	m.Header, _ = mail.ParseHeader(row.Header)
	o.Settings().NoteReport(&m)
	return m.Proof
}
