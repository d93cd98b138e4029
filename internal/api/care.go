package api

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// mostOfGroup is how many matters of one cause the tray shows.
const mostOfGroup = 200

// chosen reads what a person chose in the tray.
func (s *careHandlers) chosen(ctx context.Context, v store.Viewer, ids *[]string, cause *string) (m store.Matters,
	err error) {
	if ids != nil {
		for _, id := range *ids {
			into := &m.Items
			switch {
			case strings.HasPrefix(id, "f"):
				into, id = &m.FollowUps, id[1:]
			case strings.HasPrefix(id, "p"):
				into, id = &m.Posts, id[1:]
			case strings.HasPrefix(id, "r"):
				into, id = &m.Filings, id[1:]
			case strings.HasPrefix(id, "m"):
				into, id = &m.Messages, id[1:]
			}
			n, err := strconv.ParseInt(id, 10, 64)
			if err != nil {
				return m, &problem{status: 422, kind: "invalid", text: fmt.Sprintf("%q is nothing in the tray", id)}
			}
			*into = append(*into, n)
		}
	}
	if text(cause) == "" && m.Len() == 0 {
		return m, &problem{status: 422, kind: "invalid", text: "nothing is chosen: give numbers of items in the tray, or " +
			"a cause"}
	}
	return s.Engine.Desk.MattersOf(ctx, v, m, store.Cause(text(cause)))
}

// ListTray lists what waits for a person, by cause.
func (s *careHandlers) ListTray(ctx context.Context, r ListTrayRequestObject) (ListTrayResponseObject, error) {
	if s.wide(ctx, r.Params.Everywhere) {
		return s.trayEverywhere(ctx)
	}
	v := viewerOf(ctx)
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	counts, err := s.Store.Tray.Counts(ctx, v)
	if err != nil {
		return nil, err
	}
	entries, err1 := s.Store.Tray.Entries(ctx, v, 0, 5*mostOfGroup)
	follow, err2 := s.Store.Tray.FollowUps(ctx, v, mostOfGroup)
	sent, err3 := s.Store.Tray.Post(ctx, v, mostOfGroup)
	notices, err4 := s.Store.Tray.Notices(ctx, v)
	gone, err5 := s.Store.Tray.Filings(ctx, v, 2*mostOfGroup)
	unread, err6 := s.Store.Retries.InTray(ctx, v, mostOfGroup)
	if err := errors.Join(err1, err2, err3, err4, err5, err6); err != nil {
		return nil, err
	}
	var ids []int64
	for i := range entries {
		ids = append(ids, entries[i].MessageID)
	}
	for i := range follow {
		ids = append(ids, follow[i].MessageID)
	}
	for i := range sent {
		ids = append(ids, sent[i].MessageID)
	}
	for i := range gone {
		ids = append(ids, gone[i].MessageID)
	}
	for i := range unread {
		ids = append(ids, unread[i].MessageID)
	}
	messages, err := s.Store.Messages.ByIDs(ctx, v, ids)
	if err != nil {
		return nil, err
	}
	byCause := map[store.Cause][]Matter{}
	put := func(m Matter, messageID int64) {
		if row := messages[messageID]; row != nil {
			message := n.message(row)
			m.Message = &message
		}
		byCause[store.Cause(m.Cause)] = append(byCause[store.Cause(m.Cause)], m)
	}
	for i := range entries {
		e := &entries[i]
		ways := []MatterWays{MatterWaysAgain, MatterWaysElsewhere, MatterWaysAside}
		if e.State == store.Held && e.Cause != store.CauseCap {
			ways = []MatterWays{MatterWaysAgain, MatterWaysRelease, MatterWaysElsewhere, MatterWaysAside}
		}
		if e.Topic != "" {
			ways = append([]MatterWays{MatterWaysAnswer}, ways...)
		}
		put(Matter{ID: fmt.Sprint(e.ID), Cause: string(e.Cause), Name: e.Name, Size: &e.Size,
			Rule: optional(n.rules[e.RuleID]), Reason: e.Reason.String(), ReasonCodes: codes(e.Reason),
			Advice: optional(e.Reason.Advice()), Path: optional(e.Wanted),
			Topic: optional(e.Topic), At: e.DoneAt, Ways: ways}, e.MessageID)
	}
	for i := range follow {
		f := &follow[i]
		put(Matter{ID: fmt.Sprintf("f%d", f.ID), Cause: string(f.Cause), Name: stepName(f.Kind, f.What),
			Rule: optional(n.rules[f.RuleID]), Reason: f.Reason.String(), ReasonCodes: codes(f.Reason),
			Advice: optional(f.Reason.Advice()), At: f.DoneAt,
			Ways: []MatterWays{MatterWaysAgain, MatterWaysAside}}, f.MessageID)
	}
	for i := range sent {
		p := &sent[i]
		to := strings.ReplaceAll(p.Recipients, "\n", ", ")
		if p.Kind == "call" && !v.Role.May(store.Administrator) {
			to = "a program that is called"
		}
		put(Matter{ID: fmt.Sprintf("p%d", p.ID), Cause: string(p.Cause), Name: strings.TrimSuffix(p.Subject+" → "+to, " → "),
			Rule: optional(n.rules[p.RuleID]), Reason: p.Reason.String(), ReasonCodes: codes(p.Reason),
			Advice: optional(p.Reason.Advice()), At: p.DoneAt,
			Ways: []MatterWays{MatterWaysAgain, MatterWaysAside}}, p.MessageID)
	}
	for i := range gone {
		f := &gone[i]
		ways := []MatterWays{MatterWaysAgain, MatterWaysAside}
		why := "the content of the file is not the same as when it was filed"
		if f.State() == register.Missing {
			why, ways = "the file is not where it was filed", []MatterWays{MatterWaysAgain, MatterWaysRefile, MatterWaysAside}
		}
		put(Matter{ID: fmt.Sprintf("r%d", f.JournalID), Cause: f.CheckState, Name: f.File, Size: &f.Size,
			Rule: optional(f.Rule), Reason: why, Path: optional(path.Join(f.Folder, f.File)), At: f.CheckedAt,
			Register: optional(f.Entry().String()), Ways: ways}, f.MessageID)
	}
	for i := range unread {
		m := &unread[i]
		name := fmt.Sprintf("%s, in “%s”, %s", m.Called(), n.mailboxes[m.MailboxID], m.Folder)
		put(Matter{ID: fmt.Sprintf("m%d", m.ID), Cause: string(m.Cause), Name: name,
			Reason: m.Reason.String(), ReasonCodes: codes(m.Reason), Advice: optional(m.Reason.Advice()), At: m.DoneAt,
			Ways: []MatterWays{MatterWaysAgain, MatterWaysAside}}, m.MessageID)
	}
	out := ListTray200JSONResponse{Groups: []TrayGroup{}, Notices: []Notice{}}
	for _, c := range outbox.Causes {
		if counts[c.Cause] == 0 {
			continue
		}
		g := TrayGroup{Cause: string(c.Cause), Title: c.Title, Help: c.Help, Count: counts[c.Cause], Ways: []TrayGroupWays{},
			Matters: byCause[c.Cause]}
		if g.Matters == nil {
			g.Matters = []Matter{}
		}
		g.Matters = g.Matters[:min(len(g.Matters), mostOfGroup)]
		for _, way := range []TrayGroupWays{TrayGroupWaysAnswer, TrayGroupWaysAgain, TrayGroupWaysRelease,
			TrayGroupWaysElsewhere, TrayGroupWaysRefile, TrayGroupWaysAside} {
			if len(g.Matters) > 0 &&
				!slices.ContainsFunc(g.Matters, func(m Matter) bool { return !slices.Contains(m.Ways, MatterWays(way)) }) {
				g.Ways = append(g.Ways, way)
			}
		}
		out.Groups = append(out.Groups, g)
		out.Count += g.Count
	}
	for _, one := range notices {
		out.Notices = append(out.Notices,
			Notice{ID: one.ID, Kind: one.Kind, Text: one.Text, Advice: one.Advice, Mailbox: optional(one.MailboxID),
				MadeAt: one.MadeAt})
	}
	out.Count += len(notices)
	return out, nil
}

// stepName says a follow-up in words.
func stepName(kind, what string) string {
	switch kind {
	case "mark":
		return "mark " + what
	case "label":
		return "label “" + what + "”"
	case "remove label":
		return "take off the label “" + what + "”"
	case "move":
		return "move to “" + what + "”"
	case "return":
		return "move back to “" + what + "”"
	case "reply":
		return "reply to " + what
	case "draft":
		return "draft of a reply to " + what
	}
	return "tell " + what
}

// TryAgain tries matters again.
func (s *careHandlers) TryAgain(ctx context.Context, r TryAgainRequestObject) (TryAgainResponseObject, error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, r.Body.Matters, r.Body.Cause)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.Again(ctx, v, m)
	return TryAgain200JSONResponse{Count: n}, err
}

// ReleaseHeld files held items as they are.
func (s *careHandlers) ReleaseHeld(ctx context.Context, r ReleaseHeldRequestObject) (ReleaseHeldResponseObject, error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, r.Body.Matters, r.Body.Cause)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.Release(ctx, v, m)
	return ReleaseHeld200JSONResponse{Count: n}, err
}

// FileElsewhere files items of the tray in a folder that a person names.
func (s *careHandlers) FileElsewhere(ctx context.Context, r FileElsewhereRequestObject) (FileElsewhereResponseObject,
	error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, r.Body.Matters, r.Body.Cause)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.Elsewhere(ctx, v, m, r.Body.Cabinet, r.Body.Folder)
	return FileElsewhere200JSONResponse{Count: n}, err
}

// SetAside takes matters out of the tray.
func (s *careHandlers) SetAside(ctx context.Context, r SetAsideRequestObject) (SetAsideResponseObject, error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, r.Body.Matters, r.Body.Cause)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.SetAside(ctx, v, m, text(r.Body.Note))
	return SetAside200JSONResponse{Count: n}, err
}

// SettleNotice takes a notice out of the tray.
func (s *careHandlers) SettleNotice(ctx context.Context, r SettleNoticeRequestObject) (SettleNoticeResponseObject,
	error) {
	return SettleNotice204Response{}, s.Store.Tray.SettleByID(ctx, viewerOf(ctx), r.Number)
}

// steps shows follow-ups; those that were handed to the post as the post has them.
func (n *names) steps(follow []store.FollowUp, sent []store.Post) []Step {
	out := []Step{}
	for i := range follow {
		f := &follow[i]
		one := Step{ID: &f.ID, Rule: optional(n.rules[f.RuleID]), Kind: StepKind(f.Kind), What: f.What,
			State: string(f.State), Reason: f.Reason.String(), ReasonCodes: codes(f.Reason), DoneAt: f.DoneAt}
		for k := range sent {
			if p := &sent[k]; p.FollowUpID == f.ID && one.State == string(store.DidIt) && p.State != store.DidIt {
				one.State, one.Reason, one.DoneAt = string(p.State), p.Reason.String(), p.DoneAt
				one.ReasonCodes = codes(p.Reason)
				if p.State == store.Begun {
					one.State = string(store.Waiting)
				}
			}
		}
		out = append(out, one)
	}
	return out
}

// codes name a reason for programs, nil for none.
func codes(r reason.Reason) *[]string {
	all := r.Codes()
	if all == nil {
		return nil
	}
	return &all
}

// ListUnreadMessages lists the messages that a pass could not read.
func (s *careHandlers) ListUnreadMessages(ctx context.Context,
	r ListUnreadMessagesRequestObject) (ListUnreadMessagesResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Passes.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Retries.OfPass(ctx, v, r.Number)
	out := ListUnreadMessages200JSONResponse{}
	for i := range rows {
		m := &rows[i]
		out = append(out,
			UnreadMessage{ID: fmt.Sprintf("m%d", m.ID), Mailbox: n.mailboxes[m.MailboxID], Folder: m.Folder, UID: int64(m.UID),
				Subject: m.Subject, Sender: m.Sender,
				State: UnreadMessageState(m.State), Attempts: m.Attempts, Reason: m.Reason.String(),
				ReasonCodes: codes(m.Reason), Advice: m.Reason.Advice(), NextAt: m.NextAt})
	}
	return out, err
}

// ListPassMessages lists the messages of a pass with what was decided and done.
func (s *careHandlers) ListPassMessages(ctx context.Context,
	r ListPassMessagesRequestObject) (ListPassMessagesResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Passes.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	after := int64(0)
	if r.Params.After != nil {
		after = *r.Params.After
	}
	rows, err := s.Store.Passes.MessagesIn(ctx, v, r.Number, r.Params.Matching != nil && *r.Params.Matching, after,
		number(r.Params.Most, 50))
	if err != nil {
		return nil, err
	}
	var ids []int64
	for i := range rows {
		ids = append(ids, rows[i].ID)
	}
	entries, err1 := s.Store.Passes.EntriesIn(ctx, v, r.Number, ids)
	follow, err2 := s.Store.Passes.FollowUpsIn(ctx, v, ids)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	out := ListPassMessages200JSONResponse{}
	for i := range rows {
		one := Decided{Message: n.message(&rows[i]), Items: []Item{}}
		for k := range entries {
			if entries[k].MessageID == rows[i].ID {
				one.Items = append(one.Items, n.item(&entries[k]))
			}
		}
		var mine []store.FollowUp
		for k := range follow {
			if follow[k].MessageID == rows[i].ID {
				mine = append(mine, follow[k])
			}
		}
		sent, err := s.Store.FollowUps.OfMessage(ctx, v, rows[i].ID)
		if err != nil {
			return nil, err
		}
		one.Matched, one.Steps = len(one.Items) > 0, n.steps(mine, sent)
		out = append(out, one)
	}
	return out, nil
}

func preview(p *registry.UndoPreview) UndoPreview {
	out := UndoPreview{Returns: p.Returns, Stays: list(p.Stays), Lines: []UndoLine{}}
	if len(p.Changes) > 0 {
		out.Changes = &p.Changes
	}
	for i := range p.Lines {
		l := &p.Lines[i]
		if l.Takes {
			out.Takes++
		} else {
			out.Keeps++
		}
		line := UndoLine{Path: l.Entry.Path, Takes: l.Takes, Reason: l.Reason.String()}
		if l.Entry.RegisterNumber > 0 {
			line.Register = optional(entryNumber(l.Entry.RegisterYear, l.Entry.RegisterNumber))
		}
		if len(out.Lines) < mostOfGroup {
			out.Lines = append(out.Lines, line)
		}
	}
	return out
}

// nothing turns the error that there is nothing to take back into a problem for the client.
func nothing(err error) error {
	if errors.Is(err, registry.ErrNothing) || errors.Is(err, registry.ErrNotUndone) ||
		errors.Is(err, registry.ErrNothingAgain) {
		return &problem{status: 409, kind: "nothing-to-undo", text: err.Error()}
	}
	return err
}

// PreviewUndoOfPass says what taking a pass back would do.
func (s *careHandlers) PreviewUndoOfPass(ctx context.Context,
	r PreviewUndoOfPassRequestObject) (PreviewUndoOfPassResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Passes.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	p, err := s.Engine.Registry.PreviewUndo(ctx, v, r.Number, 0)
	return PreviewUndoOfPass200JSONResponse(preview(&p)), nothing(err)
}

// UndoPass takes a pass back.
func (s *careHandlers) UndoPass(ctx context.Context, r UndoPassRequestObject) (UndoPassResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Passes.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	p, err := s.Engine.Registry.Undo(ctx, v, r.Number, 0)
	if err != nil {
		return nil, nothing(err)
	}
	out, err := s.onePass(ctx, v, p.ID)
	return UndoPass201JSONResponse(out), err
}

// PreviewUndoOfItem says what taking one filing back would do.
func (s *careHandlers) PreviewUndoOfItem(ctx context.Context,
	r PreviewUndoOfItemRequestObject) (PreviewUndoOfItemResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Journal.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	p, err := s.Engine.Registry.PreviewUndo(ctx, v, 0, r.Number)
	return PreviewUndoOfItem200JSONResponse(preview(&p)), nothing(err)
}

// UndoItem takes one filing back.
func (s *careHandlers) UndoItem(ctx context.Context, r UndoItemRequestObject) (UndoItemResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Journal.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	p, err := s.Engine.Registry.Undo(ctx, v, 0, r.Number)
	if err != nil {
		return nil, nothing(err)
	}
	out, err := s.onePass(ctx, v, p.ID)
	return UndoItem201JSONResponse(out), err
}

// FileAgain files again what was taken back of a message.
func (s *careHandlers) FileAgain(ctx context.Context, r FileAgainRequestObject) (FileAgainResponseObject, error) {
	v := viewerOf(ctx)
	if _, err := s.Store.Messages.ByID(ctx, v, r.Number); err != nil {
		return nil, err
	}
	n, err := s.Engine.Registry.FileAgain(ctx, v, r.Number)
	return FileAgain200JSONResponse{Count: n}, nothing(err)
}

// FilePassAgain files again what was taken back of a pass.
func (s *careHandlers) FilePassAgain(ctx context.Context, r FilePassAgainRequestObject) (FilePassAgainResponseObject,
	error) {
	n, _, err := s.Engine.Registry.FilePassAgain(ctx, viewerOf(ctx), r.Number)
	return FilePassAgain200JSONResponse{Count: n}, nothing(err)
}

func (s *careHandlers) outgoing(ctx context.Context) (Outgoing, error) {
	revision, err := s.Store.Settings.RevisionOf(ctx, store.OutgoingSetting)
	if err != nil {
		return Outgoing{}, err
	}
	o, err := s.Engine.Outbox.Outgoing(ctx)
	if err != nil {
		return Outgoing{}, err
	}
	through := ""
	if o.Mailbox != "" {
		if box, err := s.Store.Mailboxes.ByID(ctx, store.System, o.Mailbox); err == nil {
			through = box.Name
		}
	}
	return Outgoing{Revision: revision, Mailbox: through, Host: o.Host, Port: o.Port, Encryption: o.Encryption,
		Username: o.Username, HasPassword: len(o.Sealed) > 0, From: o.From, Name: o.Name, Console: o.Console}, err
}

// GetOutgoing says how mail is sent.
func (s *careHandlers) GetOutgoing(ctx context.Context, _ GetOutgoingRequestObject) (GetOutgoingResponseObject, error) {
	out, err := s.outgoing(ctx)
	if out.Encryption == "" {
		out.Encryption = "starttls"
	}
	return GetOutgoing200JSONResponse(out), err
}

// SetOutgoing sets how mail is sent.
func (s *careHandlers) SetOutgoing(ctx context.Context, r SetOutgoingRequestObject) (SetOutgoingResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	o, err := s.Engine.Outbox.Outgoing(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range []struct{ given, kept *string }{{r.Body.Host, &o.Host}, {r.Body.Username, &o.Username},
		{r.Body.From, &o.From}, {r.Body.Name, &o.Name}, {r.Body.Console, &o.Console}} {
		if one.given != nil {
			*one.kept = strings.TrimSpace(*one.given)
		}
	}
	if r.Body.Host != nil && o.Host != "" {
		o.Mailbox = "" // a mail server instead of the mailbox
	}
	if r.Body.Mailbox != nil {
		if o.Mailbox = ""; *r.Body.Mailbox != "" {
			box, err := s.Store.Mailboxes.Named(ctx, store.System, *r.Body.Mailbox)
			if errors.Is(err, store.ErrNotFound) {
				return nil, rule.Problems{{Place: "mailbox", Text: fmt.Sprintf("there is no mailbox called “%s”",
					*r.Body.Mailbox)}}
			}
			if err != nil {
				return nil, err
			}
			o.Mailbox = box.ID
			if r.Body.Host == nil {
				o.Host = ""
			}
		}
	}
	if o.Port = number(r.Body.Port, o.Port); r.Body.Encryption != nil {
		o.Encryption = string(*r.Body.Encryption)
	}
	if err := s.Engine.Outbox.SetOutgoing(ctx, o, r.Body.Password, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.outgoing(ctx)
	return SetOutgoing200JSONResponse(out), err
}

func trial(err error, well string) Trial {
	if err == nil {
		return Trial{Ok: true, Text: well}
	}
	problem, advice := outbox.WhySent(err)
	return Trial{Text: problem, Advice: optional(advice)}
}

// CheckOutgoing signs in where mail is handed in.
func (s *careHandlers) CheckOutgoing(ctx context.Context, _ CheckOutgoingRequestObject) (CheckOutgoingResponseObject,
	error) {
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "check outgoing mail", ""); err != nil {
		return nil, err
	}
	return CheckOutgoing200JSONResponse(trial(s.Engine.Outbox.CheckOutgoing(ctx), "The mail server lets Ink Tray in.")),
		nil
}

func addressee(v store.Viewer, a *store.Addressee) Addressee {
	out := Addressee{ID: a.ID, Name: a.Name, Kind: AddresseeKind(a.Kind), Addresses: list(a.Addresses), URL: a.URL,
		HasSecret: len(a.Secret) > 0, Inside: a.Inside, Tray: AddresseeTray(a.Tray), DailyAt: a.DailyAt, ToldAt: a.ToldAt,
		Revision: a.Revision}
	if !v.Role.May(store.Administrator) { // anyone who knows it may get in
		out.URL = ""
	}
	return out
}

// ListAddressees lists who can be told.
func (s *careHandlers) ListAddressees(ctx context.Context, _ ListAddresseesRequestObject) (ListAddresseesResponseObject,
	error) {
	rows, err := s.Store.Alarms.Addressees(ctx)
	out := ListAddressees200JSONResponse{}
	for i := range rows {
		out = append(out, addressee(viewerOf(ctx), &rows[i]))
	}
	return inOrder(out, func(one *Addressee) string { return one.Name }), err
}

func (s *careHandlers) saveAddressee(ctx context.Context, id string, set *AddresseeSettings, revision int) (Addressee,
	error) {
	a := store.Addressee{ID: id, Name: strings.TrimSpace(set.Name), Kind: string(set.Kind),
		URL: strings.TrimSpace(text(set.URL)), Inside: set.Inside != nil && *set.Inside, Tray: "never", DailyAt: "08:00",
		Revision: revision}
	if set.Addresses != nil {
		a.Addresses = *set.Addresses
	}
	if set.Tray != nil {
		a.Tray = string(*set.Tray)
	}
	if set.DailyAt != nil {
		a.DailyAt = *set.DailyAt
	}
	err := s.Engine.Outbox.SaveAddressee(ctx, &a, set.Secret, viewerOf(ctx).Name)
	return addressee(viewerOf(ctx), &a), err
}

// AddAddressee lets somebody be told.
func (s *careHandlers) AddAddressee(ctx context.Context, r AddAddresseeRequestObject) (AddAddresseeResponseObject,
	error) {
	out, err := s.saveAddressee(ctx, "", r.Body, 0)
	return AddAddressee201JSONResponse(out), err
}

// ChangeAddressee changes an addressee.
func (s *careHandlers) ChangeAddressee(ctx context.Context,
	r ChangeAddresseeRequestObject) (ChangeAddresseeResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.saveAddressee(ctx, r.ID, r.Body, revision)
	return ChangeAddressee200JSONResponse(out), err
}

// RemoveAddressee removes somebody who is notified.
func (s *careHandlers) RemoveAddressee(ctx context.Context,
	r RemoveAddresseeRequestObject) (RemoveAddresseeResponseObject, error) {
	err := s.Engine.Outbox.RemoveAddressee(ctx, r.ID, viewerOf(ctx).Name)
	var used *outbox.InUseError
	if errors.As(err, &used) {
		err = &problem{status: 409, kind: "in-use", text: used.Text, advice: "Change or remove these first."}
	}
	return RemoveAddressee204Response{}, err
}

// TryAddressee sends a trial.
func (s *careHandlers) TryAddressee(ctx context.Context, r TryAddresseeRequestObject) (TryAddresseeResponseObject,
	error) {
	a, err := s.Store.Alarms.AddresseeByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "send a trial", a.Name); err != nil {
		return nil, err
	}
	return TryAddressee200JSONResponse(trial(s.Engine.Outbox.Trial(ctx, &a), "The trial is on its way to “"+a.Name+"”.")),
		nil
}

func (s *careHandlers) alarm(ctx context.Context, n *names, a *store.Alarm) Alarm {
	out := Alarm{ID: a.ID, Name: a.Name, Kind: AlarmKind(a.Kind), Rule: n.rules[a.RuleID], AtLeast: a.AtLeast,
		WithinHours: a.WithinHours, ByTime: a.ByTime, Weekdays: list(a.Weekdays),
		AfterMinutes: a.AfterMinutes, Who: list(a.Who), RangAt: a.RangAt, Revision: a.Revision,
		Mailbox: n.mailboxes[a.Object]}
	if c, err := s.Store.Cabinets.ByID(ctx, a.Object); err == nil && a.Object != "" {
		out.Cabinet = c.Name
	}
	out.Sentence = s.Engine.Outbox.AlarmSentence(ctx, a)
	return out
}

// ListAlarms lists the alarms.
func (s *careHandlers) ListAlarms(ctx context.Context, _ ListAlarmsRequestObject) (ListAlarmsResponseObject, error) {
	n, err := s.names(ctx, viewerOf(ctx))
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Alarms.Seen(ctx, viewerOf(ctx))
	out := ListAlarms200JSONResponse{}
	for i := range rows {
		out = append(out, s.alarm(ctx, n, &rows[i]))
	}
	return inOrder(out, func(one *Alarm) string { return one.Name }), err
}

func (s *careHandlers) saveAlarm(ctx context.Context, id string, set *AlarmSettings, revision int) (Alarm, error) {
	v := viewerOf(ctx)
	a := store.Alarm{ID: id, Name: strings.TrimSpace(set.Name), Kind: string(set.Kind), AtLeast: number(set.AtLeast, 1),
		WithinHours: number(set.WithinHours, 24), ByTime: text(set.ByTime), AfterMinutes: number(set.AfterMinutes, 60),
		Who: set.Who, Weekdays: []string{}, Revision: revision}
	if set.Weekdays != nil {
		for _, d := range *set.Weekdays {
			a.Weekdays = append(a.Weekdays, string(d))
		}
	}
	if err := s.Engine.Outbox.SaveAlarm(ctx, &a, text(set.Rule), text(set.Mailbox), text(set.Cabinet),
		v.Name); err != nil {
		return Alarm{}, err
	}
	n, err := s.names(ctx, v)
	if err != nil {
		return Alarm{}, err
	}
	return s.alarm(ctx, n, &a), nil
}

// AddAlarm sets an alarm.
func (s *careHandlers) AddAlarm(ctx context.Context, r AddAlarmRequestObject) (AddAlarmResponseObject, error) {
	out, err := s.saveAlarm(ctx, "", r.Body, 0)
	return AddAlarm201JSONResponse(out), err
}

// ChangeAlarm changes an alarm.
func (s *careHandlers) ChangeAlarm(ctx context.Context, r ChangeAlarmRequestObject) (ChangeAlarmResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.saveAlarm(ctx, r.ID, r.Body, revision)
	return ChangeAlarm200JSONResponse(out), err
}

// RemoveAlarm removes an alarm.
func (s *careHandlers) RemoveAlarm(ctx context.Context, r RemoveAlarmRequestObject) (RemoveAlarmResponseObject, error) {
	return RemoveAlarm204Response{}, s.Store.Alarms.Remove(ctx, r.ID, viewerOf(ctx).Name)
}

func (s *careHandlers) allLimits(ctx context.Context) (Limits, error) {
	revision, err := s.Store.Settings.RevisionOf(ctx, store.LimitsSetting)
	if err != nil {
		return Limits{}, err
	}
	l, err := s.Store.Settings.Limits(ctx)
	return Limits{Revision: &revision, HistoryDays: l.HistoryDays, RegisterDays: l.RegisterDays, KeptDays: l.KeptDays,
		AuditDays: &l.AuditDays, SpoolMb: l.SpoolMB, RuleFiles: l.RuleFiles, RuleMb: l.RuleMB, RuleFolders: l.RuleFolders,
		SenderFiles: l.SenderFiles, SenderMb: l.SenderMB, SenderFolders: l.SenderFolders,
		AccountConnections: &l.AccountConnections, HostConnections: &l.HostConnections}, err
}

// GetLimits says how long what is kept, and how much may be filed in an hour.
func (s *careHandlers) GetLimits(ctx context.Context, _ GetLimitsRequestObject) (GetLimitsResponseObject, error) {
	out, err := s.allLimits(ctx)
	return GetLimits200JSONResponse(out), err
}

// SetLimits sets the limits.
func (s *careHandlers) SetLimits(ctx context.Context, r SetLimitsRequestObject) (SetLimitsResponseObject, error) {
	b := r.Body
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	now, err := s.Store.Settings.Limits(ctx)
	if err != nil {
		return nil, err
	}
	days := number(b.AuditDays, now.AuditDays)
	if days != 0 && days < store.LeastAuditDays {
		return nil, atField("audit_days", "the audit trail is kept for 30 days at least, or for ever with 0")
	}
	l := store.Limits{AuditDays: days, HistoryDays: b.HistoryDays, RegisterDays: b.RegisterDays, KeptDays: b.KeptDays,
		SpoolMB:   b.SpoolMb,
		RuleFiles: b.RuleFiles, RuleMB: b.RuleMb, RuleFolders: b.RuleFolders, SenderFiles: b.SenderFiles,
		SenderMB: b.SenderMb, SenderFolders: b.SenderFolders,
		AccountConnections: number(b.AccountConnections, now.AccountConnections),
		HostConnections:    number(b.HostConnections, now.HostConnections)}
	for field, n := range map[string]int{"account_connections": l.AccountConnections,
		"host_connections": l.HostConnections} {
		if n != 0 && n < store.LeastConnections {
			return nil, atField(field, fmt.Sprintf("at least %d connections are needed, one for new mail and one for "+
				"everything else; 0 is any number", store.LeastConnections))
		}
	}
	if err := s.Store.Settings.SetLimits(ctx, l, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.allLimits(ctx)
	return SetLimits200JSONResponse(out), err
}

// seconds is how long a pass took, or has taken.
func seconds(p *store.Pass, now time.Time) *float32 {
	end := now
	if p.EndedAt != nil {
		end = *p.EndedAt
	}
	d := float32(end.Sub(p.StartedAt).Seconds())
	return &d
}
