package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	jsonv2 "github.com/go-json-experiment/json" // rehearsals read ten thousand structures
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/source"
)

// NewMessage makes a row of a message's facts.
func NewMessage(mailboxID, folder string, uidValidity uint32, f *source.Facts, now time.Time) (*Message, *mail.Message,
	error) {
	structure, err := json.Marshal(f.Structure)
	if err != nil {
		return nil, nil, err
	}
	m := f.Message(folder)
	m.SetReceived(f.Stored, now)
	fingerprint, likeness := m.Fingerprint(), m.Likeness()
	row := Shown(mailboxID, folder, uidValidity, f, m)
	if m.Received.IsZero() {
		row.ReceivedAt = now.UTC() // for the order of lists only: ReceivedFrom says that it is not known
	}
	row.Fingerprint, row.Likeness, row.Header, row.Structure = fingerprint[:], likeness[:], f.Header.Bytes(), structure
	row.Whole, row.SeenAt = f.Whole, now
	return &row, m, nil
}

// Shown is what of a row people see, without what is needed to read it back.
func Shown(mailboxID, folder string, uidValidity uint32, f *source.Facts, m *mail.Message) Message {
	sender := m.Envelope.Sender()
	return Message{
		MailboxID: mailboxID, Folder: folder, UIDValidity: uidValidity, UID: f.UID, ReceivedAt: m.Received.UTC(),
		ReceivedFrom: m.Origin, Size: f.Size, Flags: append([]string{}, f.Flags...),
		Subject: m.Envelope.Subject, SenderName: sender.Name, SenderAddress: sender.String(), Attachments: len(m.Items()),
	}
}

// Facts reads a row back.
func (m *Message) Facts() (*source.Facts, error) {
	f := &source.Facts{UID: m.UID, Received: m.ReceivedAt, Origin: m.ReceivedFrom, Size: m.Size, Flags: m.Flags,
		Whole: m.Whole}
	f.Header, _ = mail.ParseHeader(m.Header)
	if m.ReceivedFrom == mail.Unknown {
		f.Received = time.Time{}
	}
	return f, jsonv2.Unmarshal(m.Structure, &f.Structure)
}

// Folder reads how far a mail folder was looked through.
func (s *Mailboxes) Folder(ctx context.Context, mailboxID, path string) (Folder, error) {
	return first[Folder](s.reading(ctx).Where("mailbox_id = ? AND path = ?", mailboxID, path))
}

// FoldersOf lists the mail folders that were looked through.
func (s *Mailboxes) FoldersOf(ctx context.Context, mailboxID string) ([]Folder, error) {
	return list[Folder](s.reading(ctx).Where("mailbox_id = ?", mailboxID).Order("path"))
}

// Look is what one look at a folder found. Everything in it is committed
// together, so a message is either decided, kept for another try, or looked at
// again.
type Look struct {
	Folder   *Folder // how far it was looked through; nil leaves that as it was
	Messages []*Message
	Entries  map[*Message][]Entry // what is planned; the rows are filled in
	After    map[*Message][]FollowUp
	Matched  map[*Message]bool // messages that the pass decided, and whether a rule is for them
	Retries  []UnreadMessage
	Read     map[uint32][]string // messages that were read after all, by UID, and for which rules
	Pass     *Pass               // its position and counts
	Notice   *Notice
	In       Place // the folder that Read is about
	Validity uint32
}

// UnreadMessage is a message that could not be read to its end.
type UnreadMessage struct {
	Retry   Retry
	Message *Message // its facts; nil where they are not known
}

// Commit keeps a look.
func (s *Messages) Commit(ctx context.Context, l Look) error {
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		if l.Pass != nil && l.Pass.ID == 0 {
			if err := tx.Create(l.Pass).Error; err != nil {
				return err
			}
		}
		if err := keepMessages(tx, l.Messages); err != nil {
			return err
		}
		var looked []*PassMessage
		var entries []*Entry
		for _, m := range l.Messages {
			after := l.After[m]
			for i := range after {
				after[i].MessageID, after[i].MailboxID = m.ID, m.MailboxID
				if l.Pass != nil {
					after[i].PassID = l.Pass.ID
				}
			}
			if err := addFollowUps(tx, after); err != nil {
				return err
			}
			if matched, decided := l.Matched[m]; decided && l.Pass != nil {
				looked = append(looked, &PassMessage{l.Pass.ID, m.ID, matched})
			}
			planned := l.Entries[m]
			for i := range planned {
				e := &planned[i]
				e.MessageID, e.MailboxID = m.ID, m.MailboxID
				if l.Pass != nil {
					e.PassID = l.Pass.ID
				}
				entries = append(entries, e)
			}
		}
		if err := enterPlanned(tx, entries); err != nil {
			return err
		}
		err := many(looked, func(some []*PassMessage) error {
			return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(some).Error
		})
		if err != nil {
			return err
		}
		if err := settleRetries(tx, l.In, l.Validity, l.Read, time.Now().UTC()); err != nil {
			return err
		}
		for i := range l.Retries {
			r := l.Retries[i].Retry
			if m := l.Retries[i].Message; m != nil {
				r.MessageID = m.ID
			}
			if err := keepRetry(tx, &r); err != nil {
				return err
			}
		}
		if l.Folder != nil {
			if err := tx.Save(l.Folder).Error; err != nil {
				return err
			}
			// Marks that waited for the folder to be opened begin here.
			if err := tx.Exec("UPDATE start_marks SET uid_validity = ?, uid_next = CASE WHEN awaited THEN 1 ELSE ? END, "+
				"awaited = FALSE WHERE mailbox_id = ? AND folder = ? AND (uid_validity = 0 OR awaited)",
				l.Folder.UIDValidity, l.Folder.UIDNext, l.Folder.MailboxID, l.Folder.Path).Error; err != nil {
				return err
			}
		}
		if l.Pass != nil {
			if err := savePass(tx, l.Pass); err != nil {
				return err
			}
		}
		if l.Notice != nil {
			return putNotice(tx, l.Notice)
		}
		return nil
	})
}

// atOnce is how many rows are inserted by one statement.
const atOnce = 64

// many does something for rows, as many at once as one statement takes. Their number is a power of two each time, so
// that few statements are prepared.
func many[T any](rows []T, do func([]T) error) error {
	for n := atOnce; len(rows) > 0; {
		for n > len(rows) {
			n /= 2
		}
		if err := do(rows[:n]); err != nil {
			return err
		}
		rows = rows[n:]
	}
	return nil
}

// enterPlanned inserts entries. A message can have ten thousand, and others wait for the commit, so many are inserted
// at once. Where one of them exists already, each of these is inserted on its own.
func enterPlanned(tx *gorm.DB, entries []*Entry) error {
	return many(entries, func(some []*Entry) error {
		if len(some) > 1 {
			if err := tx.Create(some).Error; !errors.Is(err, gorm.ErrDuplicatedKey) {
				return err
			}
		}
		for _, e := range some {
			e.ID = 0 // of the attempt before
			err := tx.Create(e).Error
			if errors.Is(err, gorm.ErrDuplicatedKey) {
				err = decideAnew(tx, e)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// decideAnew lets what an earlier state of a rule left out be decided by its present
// one. Whatever else is in the journal stays, and the entry then has no ID.
func decideAnew(tx *gorm.DB, e *Entry) error {
	e.ID = 0
	if e.State == LeftOut || e.Round != 0 {
		return nil
	}
	old, err := first[Entry](tx.Where("rule_id = ? AND message_id = ? AND item = ? AND round = 0", e.RuleID, e.MessageID,
		e.Item))
	if err != nil {
		return err
	}
	if old.State != LeftOut || old.RuleRevision == e.RuleRevision || old.Undo != "" {
		return nil
	}
	e.ID = old.ID
	return tx.Select("*").Omit("register_year", "register_number").Updates(e).Error
}

// anyMoves says whether Ink Tray ever moved a message of a mailbox.
func anyMoves(tx *gorm.DB, mailboxID string) (bool, error) {
	var n int64
	err := tx.Raw("SELECT EXISTS (SELECT 1 FROM follow_ups WHERE mailbox_id = ? AND from_uid > 0)",
		mailboxID).Scan(&n).Error
	return n > 0, err
}

// AnyMoves says whether Ink Tray ever moved a message of a mailbox, so that
// none of it can be met at another place.
func (s *Messages) AnyMoves(ctx context.Context, mailboxID string) (bool, error) {
	return anyMoves(s.reading(ctx), mailboxID)
}

// keepMessages keeps messages, or finds them among those that are known. Messages of one folder that are all new are
// inserted together.
func keepMessages(tx *gorm.DB, list []*Message) error {
	if len(list) == 0 {
		return nil
	}
	moves := map[string]bool{} // by mailbox: whether Ink Tray ever moved anything in it
	for _, m := range list {
		if _, asked := moves[m.MailboxID]; !asked {
			moved, err := anyMoves(tx, m.MailboxID)
			if err != nil {
				return err
			}
			moves[m.MailboxID] = moved
		}
	}
	one := func(m *Message) error { return keepMessage(tx, m, moves[m.MailboxID]) }
	in, seen := list[0], map[uint32]bool{}
	for _, m := range list {
		if moves[m.MailboxID] || m.MailboxID != in.MailboxID || m.Folder != in.Folder ||
			m.UIDValidity != in.UIDValidity || seen[m.UID] {
			return inTurn(list, one)
		}
		seen[m.UID] = true
	}
	return many(list, func(some []*Message) error {
		uids := make([]uint32, len(some))
		for i, m := range some {
			uids[i] = m.UID
		}
		var known bool
		err := tx.Raw("SELECT EXISTS (SELECT 1 FROM messages WHERE mailbox_id = ? AND folder = ? AND uid_validity = ? "+
			"AND uid IN ?)", in.MailboxID, in.Folder, in.UIDValidity, uids).Scan(&known).Error
		if err != nil {
			return err
		}
		if known {
			return inTurn(some, one)
		}
		return tx.Create(some).Error
	})
}

func inTurn[T any](rows []T, do func(T) error) error {
	for _, r := range rows {
		if err := do(r); err != nil {
			return err
		}
	}
	return nil
}

// keepMessage keeps a message, or finds it among those that are known. moved
// says whether it may be one that Ink Tray moved.
func keepMessage(tx *gorm.DB, m *Message, moved bool) error {
	old, err := first[Message](tx.Select("id").Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid = ?",
		m.MailboxID, m.Folder, m.UIDValidity, m.UID))
	if errors.Is(err, ErrNotFound) && !moved {
		return tx.Create(m).Error
	}
	if errors.Is(err, ErrNotFound) {
		// A message that Ink Tray moved is the same message.
		old, err = first[Message](sameAs(tx, m).Select("id").Where("+mailbox_id = ? AND (moving_to = ? OR folder = ? AND "+
			"uid_validity = 0)", m.MailboxID, m.Folder, m.Folder).Order("id").Limit(1))
		if errors.Is(err, ErrNotFound) {
			// The message may have been moved away after its arrival here was read.
			var away FollowUp
			away, err = first[FollowUp](tx.Where("mailbox_id = ? AND from_folder = ? AND from_uid = ? AND from_validity = ? "+
				"AND from_uid > 0", m.MailboxID, m.Folder, m.UID, m.UIDValidity).Limit(1))
			if errors.Is(err, ErrNotFound) {
				return tx.Create(m).Error
			}
			m.ID = away.MessageID
			return err
		}
		if err != nil {
			return err
		}
		m.ID = old.ID
		return place(tx, m)
	}
	if err != nil {
		return err
	}
	m.ID = old.ID
	return tx.Model(m).Select("flags").Updates(m).Error
}

// SetFlags records labels that changed on messages of a folder, by UID.
func (s *Messages) SetFlags(ctx context.Context, ids map[int64][]string) error {
	if len(ids) == 0 {
		return nil
	}
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		for id, flags := range ids {
			m := Message{ID: id, Flags: flags}
			if err := tx.Model(&m).Select("flags").Updates(&m).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Renumber keeps a look into a folder that was renumbered, once everything in
// it is decided. What was to be read again under the former numbers is forgotten,
// except for passes over old mail: these messages wait in the tray.
func (s *Messages) Renumber(ctx context.Context, l Look) error {
	f := l.Folder
	return s.change(ctx, func(tx *gorm.DB) error {
		former := []any{f.MailboxID, f.Path, f.UIDValidity}
		err := exec(
			tx,
			statement{
				"UPDATE start_marks SET uid_validity = ?, uid_next = 1, awaited = FALSE WHERE mailbox_id = ? AND folder " +
					"= ?",
				[]any{f.UIDValidity, f.MailboxID, f.Path},
			},
			statement{"DELETE FROM retries WHERE mailbox_id = ? AND folder = ? AND uid_validity <> ? AND pass_id = 0", former},
			statement{`UPDATE retries SET state = 'failed', cause = 'unread', next_at = NULL, done_at = ?,
				reason = ? WHERE mailbox_id = ? AND folder = ? AND uid_validity <> ? AND state = 'waiting'`,
				append([]any{time.Now().UTC(), reason.RenumberedUnread().Encode()}, former...)},
		)
		if err != nil {
			return err
		}
		if err := tx.Save(f).Error; err != nil || l.Notice == nil {
			return err
		}
		return putNotice(tx, l.Notice)
	})
}

// PendingPrints lists the fingerprints and the likenesses of the messages of a folder
// that are still to be read, as far as their facts are known.
func (s *Messages) PendingPrints(ctx context.Context, mailboxID, folder string,
	uidValidity uint32) (map[string]bool, error) {
	var rows []Message
	err := s.reading(ctx).Raw(`SELECT m.fingerprint, m.likeness FROM retries r JOIN messages m ON m.id = r.message_id
		WHERE r.mailbox_id = ? AND r.folder = ? AND r.uid_validity = ? AND r.state <> 'set aside'`, mailboxID, folder, uidValidity).Scan(&rows).Error
	pending := make(map[string]bool, 2*len(rows))
	for _, m := range rows {
		pending[string(m.Fingerprint)] = true
		if len(m.Likeness) > 0 {
			pending[string(m.Likeness)] = true
		}
	}
	return pending, err
}

// RenameFolder gives everything that is known of a mail folder to the same folder
// under its new name.
func (s *Mailboxes) RenameFolder(ctx context.Context, mailboxID, from, to string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return exec(tx,
			statement{"UPDATE folders SET path = ? WHERE mailbox_id = ? AND path = ?", []any{to, mailboxID, from}},
			statement{"UPDATE messages SET folder = ? WHERE mailbox_id = ? AND folder = ?", []any{to, mailboxID, from}},
			statement{"UPDATE retries SET folder = ? WHERE mailbox_id = ? AND folder = ?", []any{to, mailboxID, from}},
			statement{`UPDATE OR REPLACE start_marks SET folder = ? WHERE mailbox_id = ? AND folder = ?`,
				[]any{to, mailboxID, from}})
	})
}

// Last lists the last messages of a folder that are known, by UID.
func (s *Messages) Last(ctx context.Context, mailboxID, folder string, uidValidity uint32,
	most int) (map[uint32]Message, error) {
	rows, err := list[Message](
		s.reading(ctx).Where("mailbox_id = ? AND folder = ? AND uid_validity = ?", mailboxID, folder,
			uidValidity).Order("uid DESC").Limit(most),
	)
	found := make(map[uint32]Message, len(rows))
	for _, m := range rows {
		found[m.UID] = m
	}
	return found, err
}

// Moved finds the same message under another numbering of its folder, or in
// another folder of its mailbox.
func (s *Messages) Moved(ctx context.Context, m *Message, folder string, uidValidity uint32) (Message, error) {
	return first[Message](
		sameAs(s.reading(ctx), m).Where("+mailbox_id = ? AND folder = ? AND uid_validity = ?", m.MailboxID, folder,
			uidValidity).Order("id DESC").Limit(1),
	)
}

// Known says whether the message's mailbox had the same message before the given numbering.
func (s *Messages) Known(ctx context.Context, m *Message, folder string, uidValidity uint32) (bool, error) {
	return there(
		sameAs(s.reading(ctx).Model(&Message{}), m).Where("+mailbox_id = ? AND NOT (folder = ? AND uid_validity = ?)",
			m.MailboxID, folder, uidValidity),
	)
}

// ByID finds a message that the viewer may see.
func (s *Messages) ByID(ctx context.Context, v Viewer, id int64) (Message, error) {
	return first[Message](v.sees(s.reading(ctx), "mailbox_id").Where("id = ?", id))
}

// MessageQuery narrows messages. Zero values narrow nothing.
type MessageQuery struct {
	Mailboxes []string
	Text      string // every word must stand in subject, sender or folder
	Unfiled   bool   // only those from which nothing was filed
	Before    time.Time
	BeforeID  int64 // the cursor: received before, or at the same moment with a lower number
	Most      int
}

// Find lists messages, those that came last first.
func (s *Messages) Find(ctx context.Context, v Viewer, q MessageQuery) ([]Message, error) {
	db := v.sees(s.reading(ctx), "mailbox_id")
	if q.Mailboxes != nil {
		db = db.Where("mailbox_id IN ?", q.Mailboxes)
	}
	for _, word := range strings.Fields(q.Text) {
		w := like(word)
		db = db.Where(`(subject LIKE ? ESCAPE '\' OR sender_name LIKE ? ESCAPE '\' OR sender_address LIKE ? ESCAPE '\' OR folder LIKE ? ESCAPE '\')`, w, w, w, w)
	}
	if q.Unfiled {
		db = db.Where("NOT EXISTS (SELECT 1 FROM journal WHERE journal.message_id = messages.id AND journal.state IN " +
			"('filed', 'already there'))")
	}
	if !q.Before.IsZero() {
		db = db.Where("(received_at < ? OR received_at = ? AND id < ?)", q.Before.UTC(), q.Before.UTC(), q.BeforeID)
	}
	return list[Message](db.Order("received_at DESC, id DESC").Limit(q.Most))
}

// ByUID reads what is known of messages of one folder, by UID.
func (s *Messages) ByUID(ctx context.Context, mailboxID, folder string, uidValidity uint32,
	uids []uint32) (map[uint32]Message, error) {
	if len(uids) == 0 {
		return nil, nil
	}
	rows, err := s.reading(ctx).Model(&Message{}).Select(
		"id, uid, received_at, received_from, size, flags, subject, sender_name, sender_address, attachments, header, "+
			"structure, whole").
		Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid BETWEEN ? AND ? AND erased_at IS NULL", mailboxID,
			folder, uidValidity, slices.Min(uids), slices.Max(uids)).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[uint32]Message{}
	for rows.Next() { // by hand: a rehearsal reads ten thousand of them
		m := Message{MailboxID: mailboxID, Folder: folder, UIDValidity: uidValidity}
		var flags string
		if err := rows.Scan(&m.ID, &m.UID, &m.ReceivedAt, &m.ReceivedFrom, &m.Size, &flags, &m.Subject, &m.SenderName,
			&m.SenderAddress, &m.Attachments, &m.Header, &m.Structure, &m.Whole); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(flags), &m.Flags); err != nil {
			return nil, err
		}
		found[m.UID] = m
	}
	return found, rows.Err()
}

// Seen is a value that occurs in a mailbox's messages, and how often.
type Seen struct {
	Value string
	Count int
}

// ByID finds a pass that the viewer may see.
func (s *Passes) ByID(ctx context.Context, v Viewer, id int64) (Pass, error) {
	return first[Pass](v.sees(s.reading(ctx), "mailbox_id").Where("id = ?", id))
}

// OfMessage lists the passes that looked at a message.
func (s *Passes) OfMessage(ctx context.Context, messageID int64) ([]Pass, error) {
	return list[Pass](s.reading(ctx).Where("id IN (SELECT pass_id FROM pass_messages WHERE message_id = ?)",
		messageID).Order("id"))
}

// Unfinished lists passes over old mail that are to go on after a restart.
func (s *Passes) Unfinished(ctx context.Context) ([]Pass, error) {
	return list[Pass](s.reading(ctx).Where("kind = 'old mail' AND state = 'running'").Order("id"))
}

// Add begins a pass.
func (s *Passes) Add(ctx context.Context, p *Pass) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		return note(tx, p.MadeBy, "begin pass", p.Kind)
	})
}

// DecidedIn lists the messages of a folder that a pass decided, or kept for
// another try, by UID.
func (s *Passes) DecidedIn(ctx context.Context, passID int64, mailboxID, folder string,
	uidValidity uint32) (map[uint32]bool, error) {
	var uids []uint32
	err := s.reading(ctx).Raw(`SELECT m.uid FROM pass_messages p JOIN messages m ON m.id = p.message_id
		WHERE p.pass_id = ? AND m.mailbox_id = ? AND m.folder = ? AND m.uid_validity = ?
		UNION SELECT r.uid FROM retries r WHERE r.mailbox_id = ? AND r.folder = ? AND r.uid_validity = ?`,
		passID, mailboxID, folder, uidValidity, mailboxID, folder, uidValidity).Scan(&uids).Error
	decided := make(map[uint32]bool, len(uids))
	for _, uid := range uids {
		decided[uid] = true
	}
	return decided, err
}

// RestartFolder takes out of a pass what it decided in its current folder, which
// was renumbered since. p is changed as the records are.
func (s *Passes) RestartFolder(ctx context.Context, p *Pass, mailboxID, folder string) error {
	next := *p
	next.Total -= p.Position.Count
	next.Looked -= p.Position.Decided
	next.Matched -= p.Position.Matched
	next.Position = Position{Done: p.Position.Done}
	err := s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`DELETE FROM pass_messages WHERE pass_id = ? AND message_id IN
			(SELECT id FROM messages WHERE mailbox_id = ? AND folder = ? AND uid_validity = ?)`, p.ID, mailboxID, folder, p.Position.Validity).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM retries WHERE pass_id = ? AND mailbox_id = ? AND folder = ? AND uid_validity = ?",
			p.ID, mailboxID, folder, p.Position.Validity).Error; err != nil {
			return err
		}
		return savePass(tx, &next)
	})
	if err == nil {
		*p = next
	}
	return err
}

// Save keeps how far a pass has come. A pass that somebody stopped or paused
// meanwhile stays so.
func (s *Passes) Save(ctx context.Context, p *Pass) error {
	return early(ctx, s.Store, func(tx *gorm.DB) error { return savePass(tx, p) })
}

func savePass(tx *gorm.DB, p *Pass) error {
	return tx.Model(p).Select("state", "total", "looked", "matched", "gone", "unread", "position", "note",
		"ended_at").Updates(p).Error
}

// Counts is how many items of a pass have which verdict.
type Counts struct {
	Planned, Filed, LeftOut, Held, Failed, There int
}

// CountsOf counts the items of passes.
func (s *Passes) CountsOf(ctx context.Context, ids ...int64) (map[int64]Counts, error) {
	var rows []struct {
		PassID int64
		State  State
		N      int
	}
	err := s.reading(ctx).Model(&Entry{}).Select("pass_id, state, count(*) AS n").Where("pass_id IN ?",
		ids).Group("pass_id, state").Scan(&rows).Error
	counts := map[int64]Counts{}
	for _, r := range rows {
		c := counts[r.PassID]
		switch r.State {
		case Planned, Staged:
			c.Planned += r.N
		case Filed:
			c.Filed += r.N
		case LeftOut, SetAside:
			c.LeftOut += r.N
		case Held:
			c.Held += r.N
		case Failed:
			c.Failed += r.N
		case There:
			c.There += r.N
		}
		counts[r.PassID] = c
	}
	return counts, err
}

func putNotice(tx *gorm.DB, n *Notice) error {
	return tx.Exec(`INSERT INTO notices (kind, object, mailbox_id, text, advice, made_at) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (kind, object) DO UPDATE SET text = excluded.text, advice = excluded.advice`, n.Kind, n.Object, n.MailboxID, n.Text, n.Advice, n.MadeAt).Error
}

// Tell puts a notice into the tray, in place of an earlier one about the same.
func (s *Tray) Tell(ctx context.Context, n *Notice) error {
	return s.change(ctx, func(tx *gorm.DB) error { return putNotice(tx, n) })
}

// Settle takes a notice out of the tray and says whether there was one.
func (s *Tray) Settle(ctx context.Context, kind, object string) (bool, error) {
	var n int64
	if err := s.reading(ctx).Model(&Notice{}).Where("kind = ? AND object = ?", kind,
		object).Count(&n).Error; err != nil ||
		n == 0 {
		return false, err
	}
	return true, s.change(ctx, func(tx *gorm.DB) error {
		return tx.Where("kind = ? AND object = ?", kind, object).Delete(&Notice{}).Error
	})
}

// SettleByID takes a notice out of the tray because a person says so.
func (s *Tray) SettleByID(ctx context.Context, v Viewer, id int64) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		n, err := first[Notice](v.sees(tx, "mailbox_id").Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&n).Error; err != nil {
			return err
		}
		return note(tx, v.Name, "settle notice", n.Kind+" "+n.Object)
	})
}

// Notices lists the notices that the viewer may see.
func (s *Tray) Notices(ctx context.Context, v Viewer) ([]Notice, error) {
	return list[Notice](v.sees(s.reading(ctx), "mailbox_id").Order("made_at DESC"))
}

// like makes a text safe for LIKE ... ESCAPE '\'.
func like(s string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s) + "%"
}

// LongSettled lists the UIDs of messages of a folder that were met before a moment and
// of which nothing waits, so that the server need not keep them any longer.
func (s *Messages) LongSettled(ctx context.Context, mailboxID, folder string, uidValidity uint32,
	before time.Time) ([]uint32, error) {
	var uids []uint32
	err := s.reading(ctx).Model(&Message{}).Select("uid").Where(
		"mailbox_id = ? AND folder = ? AND uid_validity = ? AND seen_at < ?", mailboxID, folder, uidValidity, before.UTC()).
		Where("uid < (SELECT uid_next FROM folders WHERE mailbox_id = messages.mailbox_id AND path = messages.folder)").
		Where("NOT EXISTS (SELECT 1 FROM journal j WHERE j.message_id = messages.id AND j.state IN ('planned', 'staged', " +
			"'held', 'failed'))").
		Where(
			"NOT EXISTS (SELECT 1 FROM follow_ups f WHERE f.message_id = messages.id AND f.state IN ('waiting', 'begun', " +
				"'failed', 'unsure'))",
		).
		Where("NOT EXISTS (SELECT 1 FROM retries r WHERE r.message_id = messages.id AND r.state <> 'set aside')").
		Order("uid").Scan(&uids).Error
	return uids, err
}
