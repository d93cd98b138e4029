package registry

import (
	"context"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

// ValueNames are the names of the values that were read of files the viewer may see; for who sees everything also those
// that rules will read.
func ValueNames(ctx context.Context, rg *Registry, v store.Viewer) ([]string, error) {
	names, err := rg.Store.Register.ValueNames(ctx, v)
	if v.All && v.AllCabinets && rg.Office != nil && rg.Office.Settings() != nil {
		for _, r := range rg.Office.Settings().Rules {
			for _, v := range r.Values() {
				names = append(names, v.Name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// Lines gives lines of the register with all that can be shown of them; the
// addresses of their messages only where they are wanted.
func (rg *Registry) Lines(ctx context.Context, rows []store.Filing, withMessages bool) ([]register.Line, error) {
	numbers, ids := make([]register.Number, len(rows)), make([]int64, len(rows))
	for i := range rows {
		numbers[i], ids[i] = rows[i].Entry(), rows[i].MessageID
	}
	notes, err := rg.Store.Register.NotesText(ctx, numbers)
	if err != nil {
		return nil, err
	}
	cabinets, err := rg.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	bases := map[string]register.Base{}
	for _, c := range cabinets {
		bases[c.ID] = register.Base(c.Address)
	}
	messages := map[int64]string{}
	if withMessages {
		if messages, err = rg.Store.Messages.IDs(ctx, ids); err != nil {
			return nil, err
		}
	}
	outgoing, _, err := rg.Store.Settings.Outgoing(ctx)
	if err != nil {
		return nil, err
	}
	lines := make([]register.Line, len(rows))
	for i := range rows {
		f := &rows[i]
		l := register.Line{Number: f.Entry(), Received: f.ReceivedAt, SenderName: f.SenderName,
			SenderAddress: f.SenderAddress, Subject: f.Subject, File: f.File, Folder: f.Folder, Cabinet: f.Cabinet,
			Mailbox: f.Mailbox, Rule: f.Rule, Revision: f.Revision, Kind: f.Kind, Size: f.Size,
			Checksum: hex.EncodeToString(f.SHA256), State: f.State(), Remark: remark(f), Notes: notes[f.Entry()],
			Values:  f.Values,
			Message: register.MessageURL(messages[f.MessageID])}
		if f.FiledAt != nil {
			l.Filed = *f.FiledAt
		}
		if base := bases[f.CabinetID]; base != "" && f.FiledAt != nil && l.State != register.TakenBack &&
			l.State != register.Replaced && l.State != register.Missing {
			l.Place = base.At(path.Join(f.Folder, f.File))
		}
		if outgoing.Console != "" {
			l.Story = strings.TrimRight(outgoing.Console, "/") + "/register/" + f.Entry().String()
		}
		lines[i] = l
	}
	return lines, nil
}

// remark says in a few words what became of a filing, and why.
func remark(f *store.Filing) string {
	switch f.State() {
	case register.Void:
		return f.Void
	case register.TakenBack:
		return "by " + f.UndoneBy
	case register.Replaced:
		return "by " + f.ReplacedBy
	}
	return ""
}

// Story is a filing with all that is known of it.
type Story struct {
	Filing      store.Filing
	Verdict     string
	Message     store.Message
	Sent        time.Time
	MessageID   string
	Recipients  []string
	MailboxURL  string
	FolderPlace register.Place
	Preview     register.Preview
	Notes       []store.Note
	Happenings  []register.Happening
	FollowUps   []store.FollowUp
	Post        []store.Post
	Others      []store.Filing // of the same message
}

// StoryOf tells a filing's whole story.
func (rg *Registry) StoryOf(ctx context.Context, v store.Viewer, f store.Filing) (*Story, error) {
	s := &Story{Filing: f, Preview: register.PreviewOf(f.File, f.Size)}
	entry, err := rg.Store.Journal.ByID(ctx, v, f.JournalID)
	if err != nil {
		return nil, err
	}
	s.Verdict = fmt.Sprintf("Taken as item %s of the message by “%s”, revision %d", entry.Item, f.Rule, f.Revision)
	if !entry.Reason.IsZero() && entry.Undo == "" && f.Void == "" {
		s.Verdict += "; " + entry.Reason.String()
	}
	if entry.Round > 1 {
		s.Verdict += fmt.Sprintf("; filed for the %d. time because a person asked for it", entry.Round)
	}
	s.Verdict = phrase.TrimStop(s.Verdict) + "."
	if s.Message, err = rg.Store.Messages.ByID(ctx, v, f.MessageID); err != nil {
		return nil, err
	}
	if s.Message.ErasedAt == nil {
		facts, err := s.Message.Facts()
		if err != nil {
			return nil, err
		}
		m := facts.Message(s.Message.Folder)
		s.MessageID, s.Sent = m.Envelope.MessageID, m.Envelope.Date
		for _, a := range m.Envelope.Recipients() {
			s.Recipients = append(s.Recipients, a.String())
		}
	}
	if box, err := rg.Store.Mailboxes.ByID(ctx, v, f.MailboxID); err == nil && s.Message.ErasedAt == nil {
		s.MailboxURL = register.MailboxURL(box.Username, box.Host, box.Port, s.Message.Folder, s.Message.UIDValidity,
			s.Message.UID)
	}
	if c, err := rg.Store.Cabinets.ByID(ctx, f.CabinetID); err == nil && f.FiledAt != nil {
		s.FolderPlace = register.Base(c.Address).At(f.Folder)
	}
	if s.Notes, err = rg.Store.Register.NotesOf(ctx, v, f.Entry()); err != nil {
		return nil, err
	}
	later, err := rg.Store.Register.HappeningsOf(ctx, f.Entry())
	if err != nil {
		return nil, err
	}
	tell := func(at *time.Time, kind, by, text string) {
		if at != nil {
			s.Happenings = append(s.Happenings, register.Happening{At: *at, Text: register.Tell(kind, text), By: by})
		}
	}
	tell(&f.ReceivedAt, "received", "", f.Mailbox)
	tell(&f.DrawnAt, "drawn", "", f.Entry().String())
	tell(f.FiledAt, "filed", "", path.Join(f.Folder, f.File))
	for i := range later {
		tell(&later[i].At, later[i].Kind, later[i].MadeBy, later[i].Text)
	}
	if f.Void != "" {
		tell(&f.DrawnAt, "void", "", f.Void)
	}
	if f.CheckedAt != nil && f.CheckState == "" {
		tell(f.CheckedAt, "verified", "", "")
	}
	if s.FollowUps, err = rg.Store.FollowUps.FollowUpsOf(ctx, v, f.MessageID); err != nil {
		return nil, err
	}
	if s.Post, err = rg.Store.FollowUps.OfMessage(ctx, v, f.MessageID); err != nil {
		return nil, err
	}
	found, err := rg.Store.Register.Find(ctx, v,
		register.Query{Message: f.MessageID, Search: register.Search{States: register.All}, Ascending: true})
	if err != nil {
		return nil, err
	}
	others := found.Numbers[:0]
	for _, n := range found.Numbers {
		if n != f.Entry() {
			others = append(others, n)
		}
	}
	s.Others, err = rg.Store.Register.Numbered(ctx, v, others)
	return s, err
}
