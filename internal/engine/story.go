package engine

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Lines gives lines of the register with all that can be shown of them; the
// addresses of their messages only where they are wanted.
func (e *Engine) Lines(rows []store.Filing, withMessages bool) ([]register.Line, error) {
	numbers, ids := make([]register.Number, len(rows)), make([]int64, len(rows))
	for i := range rows {
		numbers[i], ids[i] = rows[i].Entry(), rows[i].MessageID
	}
	notes, err := e.Store.NotesText(numbers)
	if err != nil {
		return nil, err
	}
	cabinets, err := e.Store.Cabinets()
	if err != nil {
		return nil, err
	}
	bases := map[string]register.Base{}
	for _, c := range cabinets {
		bases[c.ID] = register.Base(c.Address)
	}
	messages := map[int64]string{}
	if withMessages {
		if messages, err = e.Store.MessageIDs(ids); err != nil {
			return nil, err
		}
	}
	outgoing, _, err := e.Store.Outgoing()
	if err != nil {
		return nil, err
	}
	lines := make([]register.Line, len(rows))
	for i := range rows {
		f := &rows[i]
		l := register.Line{Number: f.Entry(), Received: f.ReceivedAt, SenderName: f.SenderName, SenderAddress: f.SenderAddress, Subject: f.Subject, File: f.File, Folder: f.Folder, Cabinet: f.Cabinet,
			Mailbox: f.Mailbox, Rule: f.Rule, Revision: f.Revision, Kind: f.Kind, Size: f.Size, Checksum: hex.EncodeToString(f.SHA256), State: f.State(), Remark: remark(f), Notes: notes[f.Entry()],
			Message: register.MessageURL(messages[f.MessageID])}
		if f.FiledAt != nil {
			l.Filed = *f.FiledAt
		}
		if base := bases[f.CabinetID]; base != "" && f.FiledAt != nil && l.State != register.TakenBack && l.State != register.Replaced && l.State != register.Missing {
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
func (e *Engine) StoryOf(v store.Viewer, f store.Filing) (*Story, error) {
	s := &Story{Filing: f, Preview: register.PreviewOf(f.File, f.Size)}
	entry, err := e.Store.EntryByID(v, f.JournalID)
	if err != nil {
		return nil, err
	}
	s.Verdict = fmt.Sprintf("Taken as item %s of the message by “%s”, revision %d", entry.Item, f.Rule, f.Revision)
	if entry.Reason != "" && entry.Undo == "" && f.Void == "" {
		s.Verdict += "; " + entry.Reason
	}
	if entry.Round > 1 {
		s.Verdict += fmt.Sprintf("; filed for the %d. time because somebody asked for it", entry.Round)
	}
	s.Verdict = trimStop(s.Verdict) + "."
	if s.Message, err = e.Store.MessageByID(v, f.MessageID); err != nil {
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
	if box, err := e.Store.MailboxByID(v, f.MailboxID); err == nil && s.Message.ErasedAt == nil {
		s.MailboxURL = register.MailboxURL(box.Username, box.Host, box.Port, s.Message.Folder, s.Message.UIDValidity, s.Message.UID)
	}
	if c, err := e.Store.CabinetByID(f.CabinetID); err == nil && f.FiledAt != nil {
		s.FolderPlace = register.Base(c.Address).At(f.Folder)
	}
	if s.Notes, err = e.Store.NotesOf(v, f.Entry()); err != nil {
		return nil, err
	}
	later, err := e.Store.HappeningsOf(f.Entry())
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
	if s.FollowUps, err = e.Store.FollowUpsOf(v, f.MessageID); err != nil {
		return nil, err
	}
	if s.Post, err = e.Store.PostOf(v, f.MessageID); err != nil {
		return nil, err
	}
	found, err := e.Store.FindFilings(v, register.Query{Message: f.MessageID, Search: register.Search{States: register.All}, Ascending: true})
	if err != nil {
		return nil, err
	}
	others := found.Numbers[:0]
	for _, n := range found.Numbers {
		if n != f.Entry() {
			others = append(others, n)
		}
	}
	s.Others, err = e.Store.FilingsNumbered(v, others)
	return s, err
}

// Reading is what a message says.
type Reading struct {
	Message *mail.Message
	Text    string
}

// Read reads a message from its mailbox and writes it as text, or as a web page
// that loads nothing. It is drawn in a process of its own, and recorded.
func (e *Engine) Read(ctx context.Context, v store.Viewer, messageID int64, form rule.CopyForm) (Reading, error) {
	var out Reading
	row, err := e.Store.MessageByID(v, messageID)
	if err != nil {
		return out, err
	}
	if row.ErasedAt != nil {
		return out, store.ErrNotFound
	}
	if err := e.Store.Record(v, "read message", fmt.Sprint(messageID)); err != nil {
		return out, err
	}
	err = e.withMessage(ctx, v, &row, func(s source.Session, l *letter) error {
		out.Message = l.message
		whole, err := e.content(ctx, s, l, source.Whole)
		if err != nil {
			return err
		}
		defer whole.Close()
		var b bytes.Buffer
		_, err = child.Render(ctx, whole, render.Request{Form: form, Zone: e.Zone.String()}, limitedTo(&b, mostReading))
		out.Text = b.String()
		return err
	})
	return out, err
}

// mostReading bounds what is drawn of a message for reading, in octets: its
// pictures are within it.
const mostReading = 64 << 20

// limitedTo passes on as much as a limit allows and fails beyond it.
func limitedTo(w io.Writer, limit int64) io.Writer { return &limitedWriter{w, limit} }

type limitedWriter struct {
	w    io.Writer
	left int64
}

func (l *limitedWriter) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, fmt.Errorf("the message is too large to be shown")
	}
	return l.w.Write(p)
}
