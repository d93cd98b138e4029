package desk

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// Handed is a message that a person works on, and which of its items; none for all
// of its attachments.
type Handed struct {
	Message int64
	Items   []string
}

// HandChange is what a person changes on messages in their mailbox.
type HandChange struct {
	Label, Unlabel []string
	Marks          []string // read, unread, flagged, not flagged
	MoveTo         string   // a mail folder, which is made if it is missing
}

// mostByHand bounds what a person does at once.
const mostByHand = 500

// byHand begins a pass.
func (dk *Desk) byHand(v store.Viewer, rows []store.Message) *store.Pass {
	now := dk.Clock().UTC()
	p := &store.Pass{Kind: "by hand", MadeBy: v.Name, State: store.Done, Total: len(rows), Looked: len(rows),
		Matched: len(rows), StartedAt: now, EndedAt: &now}
	if !slices.ContainsFunc(rows, func(m store.Message) bool { return m.MailboxID != rows[0].MailboxID }) {
		p.MailboxID = rows[0].MailboxID
	}
	return p
}

func (dk *Desk) handed(ctx context.Context, v store.Viewer, ids []int64) ([]store.Message, error) {
	if len(ids) == 0 || len(ids) > mostByHand {
		return nil, rule.Problems{{Place: "messages", Text: fmt.Sprintf("choose between one message and %d", mostByHand)}}
	}
	found, err := dk.Store.Messages.ByIDs(ctx, v, ids)
	if err != nil {
		return nil, err
	}
	var rows []store.Message
	for _, id := range ids {
		m := found[id]
		if m == nil {
			return nil, store.ErrNotFound
		}
		if m.ErasedAt != nil {
			return nil, rule.Problems{{Place: "messages", Text: "what is known of this message was erased"}}
		}
		if !slices.ContainsFunc(rows, func(other store.Message) bool { return other.ID == id }) {
			rows = append(rows, *m)
		}
	}
	return rows, nil
}

// FileByHand files attachments of messages, or the messages themselves, in a folder
// that a person chose.
func (dk *Desk) FileByHand(ctx context.Context, v store.Viewer, of []Handed, cabinet, folder string) (store.Pass,
	error) {
	c, err := dk.Store.Cabinets.SeenNamed(ctx, v, cabinet)
	if errors.Is(err, store.ErrNotFound) {
		return store.Pass{}, rule.Problems{{Place: "cabinet", Text: fmt.Sprintf("there is no cabinet called “%s”", cabinet)}}
	}
	if err != nil {
		return store.Pass{}, err
	}
	levels := safename.Folder(folder)
	if len(levels) == 0 {
		return store.Pass{}, rule.Problems{{Place: "folder", Text: "name the folder in which to file, such as Sorted by " +
			"hand/2026", Meant: "Sorted by hand"}}
	}
	var ids []int64
	items := map[int64][]string{}
	for _, h := range of {
		ids = append(ids, h.Message)
		items[h.Message] = append(items[h.Message], h.Items...)
	}
	rows, err := dk.handed(ctx, v, ids)
	if err != nil {
		return store.Pass{}, err
	}
	var hands []store.Hand
	now := dk.Clock().UTC()
	for i := range rows {
		row := &rows[i]
		facts, err := row.Facts()
		if err != nil {
			return store.Pass{}, err
		}
		m := facts.Message(row.Folder)
		chosen, err := itemsByHand(m, items[row.ID])
		if err != nil {
			return store.Pass{}, err
		}
		hand := store.Hand{Message: row.ID}
		for _, item := range chosen {
			ext := mail.Extension(item.Name)
			hand.Entries = append(hand.Entries,
				store.Entry{MessageID: row.ID, MailboxID: row.MailboxID, Item: item.ID, CabinetID: c.ID, State: store.Planned,
					Name: item.Name, Kind: string(item.Kind), Size: item.Size,
					Wanted: path.Join(path.Join(levels...), safename.File(strings.TrimSuffix(item.Name, ext), ext)),
					Given:  "elsewhere", PlannedAt: now})
		}
		hands = append(hands, hand)
	}
	p := dk.byHand(v, rows)
	p.Note = fmt.Sprintf("in “%s”, %s", c.Name, path.Join(levels...))
	if err := dk.Store.Passes.AddByHand(ctx, p, hands, "file by hand"); err != nil {
		return store.Pass{}, err
	}
	dk.begun(rows)
	return *p, nil
}

// begun lets the watchers do what was begun.
func (dk *Desk) begun(rows []store.Message) {
	for i := range rows {
		dk.Wake(rows[i].MailboxID)
	}
	dk.Events.Send(events.Event{Kind: "pass"})
}

// itemsByHand are the items that a person means: those that are named, or, where
// none is, everything that is attached and not merely shown within the text.
func itemsByHand(m *mail.Message, named []string) ([]mail.Item, error) {
	var chosen []mail.Item
	if len(named) == 0 {
		for _, item := range m.Items() {
			if !item.Inline && !item.Detached && item.Parent == "" {
				chosen = append(chosen, item)
			}
		}
		if len(chosen) == 0 {
			return nil, rule.Problems{{Place: "messages", Text: fmt.Sprintf("the message “%s” has no attachment; file the "+
				"message itself", m.Envelope.Subject), Meant: "copy:eml"}}
		}
		return chosen, nil
	}
	for _, id := range named {
		if slices.ContainsFunc(chosen, func(i mail.Item) bool { return i.ID == id }) {
			continue
		}
		if id == "copy:"+string(rule.CopyEML) {
			subject := strings.TrimSpace(m.Envelope.Subject)
			if subject == "" {
				subject = "No subject"
			}
			chosen = append(chosen, mail.Item{ID: id, Name: subject + ".eml", Kind: mail.MessageKind, Size: m.Size})
			continue
		}
		item, ok := m.Find(id)
		if !ok {
			return nil, rule.Problems{
				{Place: "items",
					Text: fmt.Sprintf("the message “%s” has no attachment with the number %s", m.Envelope.Subject, id)}}
		}
		chosen = append(chosen, item)
	}
	return chosen, nil
}

// ChangeByHand puts labels and marks on messages, takes them off, or moves messages.
func (dk *Desk) ChangeByHand(ctx context.Context, v store.Viewer, ids []int64, c HandChange) (store.Pass, error) {
	rows, err := dk.handed(ctx, v, ids)
	if err != nil {
		return store.Pass{}, err
	}
	now := dk.Clock().UTC()
	var steps []store.FollowUp
	add := func(kind, what string) {
		steps = append(steps, store.FollowUp{Kind: kind, What: what, State: store.Waiting, MadeAt: now})
	}
	for _, of := range []struct {
		kind  string
		words []string
	}{{"label", c.Label}, {"remove label", c.Unlabel}} {
		for _, w := range of.words {
			if err := rule.CheckLabel(w); err != nil {
				return store.Pass{}, rule.Problems{{Place: of.kind, Text: err.Error()}}
			}
			add(of.kind, strings.TrimSpace(w))
		}
	}
	for _, m := range c.Marks {
		if !slices.Contains([]rule.Mark{rule.Read, rule.Unread, rule.Flagged, rule.NotFlagged}, rule.Mark(m)) {
			return store.Pass{}, rule.Problems{{Place: "marks", Text: fmt.Sprintf("%q is not a mark: read, unread, flagged "+
				"or not flagged", m)}}
		}
		add("mark", m)
	}
	if to := strings.Trim(strings.TrimSpace(c.MoveTo), "/"); to != "" {
		add("move", to)
	}
	if len(steps) == 0 {
		return store.Pass{}, rule.Problems{{Place: "messages", Text: "say what to do with the messages: label, mark or " +
			"move"}}
	}
	mailboxes, err := dk.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return store.Pass{}, err
	}
	for _, m := range mailboxes {
		if m.Kind == "pop3" && slices.ContainsFunc(rows, func(row store.Message) bool { return row.MailboxID == m.ID }) {
			return store.Pass{}, rule.Problems{{Place: "messages", Text: fmt.Sprintf("nothing can be changed in the mailbox "+
				"“%s”: POP3 knows neither labels nor folders", m.Name)}}
		}
	}
	var hands []store.Hand
	for i := range rows {
		hand := store.Hand{Message: rows[i].ID, After: slices.Clone(steps)}
		for k := range hand.After {
			hand.After[k].MailboxID = rows[i].MailboxID
		}
		hands = append(hands, hand)
	}
	p := dk.byHand(v, rows)
	p.Note = registry.StepsInWords(steps)
	if err := dk.Store.Passes.AddByHand(ctx, p, hands, "change by hand"); err != nil {
		return store.Pass{}, err
	}
	dk.begun(rows)
	return *p, nil
}
