package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// lookMost bounds how many messages are looked at for one page.
const lookMost = 3000

// LookIntoOf says what is looked for in a folder of a mailbox. Zero values narrow
// nothing.
type LookIntoOf struct {
	Folder               string // path or role; "" for the inbox
	Text                 string // words that all stand in subject, sender or names of attachments
	Attachments, Unfiled bool
	Unread               bool
	Since, Until         time.Time // received at Since or later, and before Until
	Before               uint32    // the cursor; 0 for the beginning
	Most                 int
}

// LookedInto is one page of the messages in a folder, the last received first.
type LookedInto struct {
	Folder   string
	Total    int // messages in the folder
	Looked   int // messages that were looked at for this page
	Next     uint32
	Messages []Shown
}

// Shown is a message with its attachments.
type Shown struct {
	store.Message
	Items []mail.Item
	Filed int // how many of them were filed
}

// LookInto looks into a folder as it is now. What is shown is kept as facts, so
// that it can be read, explained and filed by hand; nothing changes in the mailbox.
func (dk *Desk) LookInto(ctx context.Context, v store.Viewer, mailboxID string, of LookIntoOf) (*LookedInto, error) {
	m, err := dk.Store.Mailboxes.ByID(ctx, v, mailboxID)
	if err != nil {
		return nil, err
	}
	if of.Before == 0 {
		if err := dk.Store.People.Record(ctx, v, "look into mailbox", m.Name+"/"+of.Folder); err != nil {
			return nil, err
		}
	}
	out := &LookedInto{}
	return out, dk.mailboxes.With(ctx, &m, func(s source.Session) error {
		out.Folder = "INBOX"
		if of.Folder != "" && !strings.EqualFold(of.Folder, "inbox") {
			folders, err := s.Folders(ctx)
			if err != nil {
				return err
			}
			if out.Folder = mail.FindFolder(folders, of.Folder); out.Folder == "" {
				return rule.Problems{
					{Place: "folder", Text: fmt.Sprintf("there is no folder “%s” in the mailbox “%s”", of.Folder, m.Name)}}
			}
		}
		state, err := s.Open(ctx, out.Folder)
		if err != nil {
			return err
		}
		out.Total = int(state.Messages)
		q := source.Query{Since: of.Since}
		if of.Before > 1 {
			q.To = of.Before - 1
		}
		uids, err := s.UIDs(ctx, q)
		if err != nil {
			return err
		}
		if of.Before == 1 {
			uids = nil
		}
		slices.Reverse(uids)
		words := strings.Fields(safename.Fold(of.Text))
		narrowed := len(words) > 0 || of.Attachments || of.Unfiled || of.Unread || !of.Until.IsZero()
		batch := of.Most
		if narrowed {
			batch = 200
		}
		for len(uids) > 0 && len(out.Messages) < of.Most && out.Looked < lookMost {
			some := uids[:min(batch, len(uids))]
			page, err := dk.shown(ctx, v, s, &m, out.Folder, state.UIDValidity, some)
			if err != nil {
				return err
			}
			byUID := map[uint32]Shown{}
			for _, one := range page {
				byUID[one.UID] = one
			}
			for _, uid := range some {
				uids = uids[1:]
				out.Looked++
				one, ok := byUID[uid]
				if ok && fits(&one, &of, words) {
					out.Messages = append(out.Messages, one)
					if len(out.Messages) == of.Most {
						out.Next = uid
						break
					}
				}
				out.Next = uid
			}
		}
		if len(uids) == 0 {
			out.Next = 0
		}
		return nil
	})
}

// fits says whether a message is one of those that are looked for.
func fits(m *Shown, of *LookIntoOf, words []string) bool {
	has := func(flag string) bool {
		return slices.ContainsFunc(m.Flags, func(f string) bool { return strings.EqualFold(f, flag) })
	}
	switch {
	case of.Attachments && len(m.Items) == 0, of.Unfiled && m.Filed > 0, of.Unread && has(`\Seen`):
		return false
	case !of.Since.IsZero() && m.ReceivedAt.Before(of.Since), !of.Until.IsZero() && !m.ReceivedAt.Before(of.Until):
		return false
	}
	if len(words) == 0 {
		return true
	}
	text := m.Subject + "\n" + m.SenderName + "\n" + m.SenderAddress
	for i := range m.Items {
		text += "\n" + m.Items[i].Name
	}
	text = safename.Fold(text)
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

// shown reads the facts of messages and keeps those that are new to the records.
func (dk *Desk) shown(ctx context.Context, v store.Viewer, s source.Session, m *store.Mailbox, folder string,
	validity uint32, uids []uint32) ([]Shown, error) {
	known, err := dk.Store.Messages.ByUID(ctx, m.ID, folder, validity, uids)
	if err != nil {
		return nil, err
	}
	asked := slices.Sorted(slices.Values(uids))
	var all []Shown
	if m.Kind == "pop3" { // whose messages are fetched whole, and never change
		for _, uid := range asked {
			if row, is := known[uid]; is {
				facts, err := row.Facts()
				if err != nil {
					return nil, err
				}
				all = append(all, Shown{Message: row, Items: facts.Message(folder).Items()})
			}
		}
		asked = slices.DeleteFunc(asked, func(uid uint32) bool { _, is := known[uid]; return is })
	}
	facts, err := s.Facts(ctx, asked)
	if err != nil {
		return nil, err
	}
	waited := dk.office.Settings().LabelsIn(m.Name)
	var look store.Look
	for i := range facts {
		row, message, err := reading.Understand(m.ID, folder, validity, &facts[i], dk.Clock())
		if err != nil {
			dk.Log.Error("a message could not be understood", "mailbox", m.Name, "folder", folder, "uid", facts[i].UID, "cause",
				err)
			continue
		}
		one := Shown{Message: *row, Items: message.Items()}
		if before, is := known[row.UID]; is {
			one.ID = before.ID
		} else {
			// A label for which a rule waits stays new: the watcher must find it so.
			row.Flags = slices.DeleteFunc(slices.Clone(row.Flags), func(f string) bool {
				return slices.ContainsFunc(waited, func(l string) bool { return strings.EqualFold(l, f) })
			})
			look.Messages = append(look.Messages, row)
		}
		all = append(all, one)
	}
	if len(look.Messages) > 0 {
		if err := dk.Store.Messages.Commit(ctx, look); err != nil {
			return nil, err
		}
	}
	fresh := map[uint32]int64{}
	for _, row := range look.Messages {
		fresh[row.UID] = row.ID
	}
	ids := make([]int64, len(all))
	for i := range all {
		if all[i].ID == 0 {
			all[i].ID = fresh[all[i].UID]
		}
		ids[i] = all[i].ID
	}
	filed, err := dk.Store.Messages.FiledOf(ctx, v, ids)
	for i := range all {
		all[i].Filed = filed[all[i].ID]
	}
	return all, err
}
