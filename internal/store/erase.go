package store

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
)

// Traces is what the records hold of a person, by mail address.
type Traces struct {
	Filings        int
	Files          int // of them, those whose file is in a cabinet
	Messages       int
	Notes          int
	Posts          int
	Correspondents int
	Underway       int      // items that are being filed or wait in the tray
	Told           []string // people who are told, with that address
	Removed        int      // files that were removed
}

const fromPerson = "sender_address = ? COLLATE NOCASE"

// Of counts what the records hold of a person.
func (s *Erasure) Of(ctx context.Context, address string) (Traces, error) {
	return tracesOf(s.reading(ctx), address)
}

func tracesOf(db *gorm.DB, address string) (t Traces, err error) {
	count := func(into *int, query string) error {
		return db.Raw(query, address).Scan(into).Error
	}
	err = inOrder(
		func() error { return count(&t.Filings, "SELECT count(*) FROM register WHERE "+fromPerson) },
		func() error {
			return count(&t.Files, "SELECT count(*) FROM register WHERE "+fromPerson+" AND filed_at IS NOT NULL AND "+
				"undone_at IS NULL AND check_state <> 'missing' AND (replaced_by = '' OR kept_as <> '')")
		},
		func() error { return count(&t.Messages, "SELECT count(*) FROM messages WHERE "+fromPerson) },
		func() error {
			return count(&t.Notes, "SELECT count(*) FROM register_notes n JOIN register r ON r.year = n.year AND "+
				"r.number = n.number WHERE r."+fromPerson)
		},
		func() error {
			return count(&t.Posts, "SELECT count(*) FROM post WHERE instr(char(10) || lower(recipients) || char(10), "+
				"char(10) || lower(?) || char(10)) > 0")
		},
		func() error {
			return count(&t.Underway, "SELECT count(*) FROM journal j JOIN messages m ON m.id = j.message_id WHERE m."+
				fromPerson+
				" AND (j.state IN ('planned', 'staged', 'held', 'failed') OR j.undo = 'asked')")
		},
	)
	if err != nil {
		return t, err
	}
	people, err := list[Correspondent](db)
	for i := range people {
		if slices.ContainsFunc(people[i].Addresses, func(a string) bool { return strings.EqualFold(a, address) }) {
			t.Correspondents++
		}
	}
	if err != nil {
		return t, err
	}
	told, err := list[Addressee](db)
	for i := range told {
		if slices.ContainsFunc(told[i].Addresses, func(a string) bool { return strings.EqualFold(a, address) }) {
			t.Told = append(t.Told, told[i].Name)
		}
	}
	return t, err
}

// FilesOf lists the filings of a person whose file is in a cabinet, kept out of
// the way or not.
func (s *Erasure) FilesOf(ctx context.Context, address string) ([]Filing, error) {
	return list[Filing](
		s.reading(ctx).Where(fromPerson+" AND filed_at IS NOT NULL AND (undone_at IS NULL OR kept_as <> '')",
			address).Order("year, number"),
	)
}

// FileRemoved records that the file of a filing was removed for good, because its
// person's traces are erased.
func (s *Erasure) FileRemoved(ctx context.Context, f *Filing, by string, now time.Time) error {
	at := now.UTC()
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE register SET undone_at = coalesce(undone_at, ?), undone_by = ?, kept_as = '', "+
			"kept_at = NULL, folder = '', file = '' WHERE year = ? AND number = ?", at, by, f.Year, f.Number).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE journal SET undo = 'done', path = '', wanted = '' WHERE id = ?", f.JournalID).Error
	})
}

// erasing runs a change after which what was erased is nowhere in the database's
// files any more.
func (s *Store) erasing(ctx context.Context, f func(tx *gorm.DB) error) error {
	err := s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("PRAGMA secure_delete = ON").Error; err != nil {
			return err
		}
		err := f(tx)
		off := tx.Exec("PRAGMA secure_delete = OFF").Error // also where nothing was erased
		return errors.Join(err, off)
	})
	if err != nil {
		return err
	}
	s.following.Lock()
	s.erased = true
	err = s.dropIndex()
	s.following.Unlock()
	return errors.Join(err, s.Replication.truncate(ctx))
}

// eraseMessages erases what names a person in messages and in what was done with
// them; where is on the messages. Numbers, times, sizes and checksums stay.
func eraseMessages(tx *gorm.DB, at time.Time, where string, args ...any) error {
	of := "(SELECT id FROM messages WHERE " + where + ")"
	with := func(more ...any) []any { return append(more, args...) }
	for _, step := range []struct {
		sql  string
		args []any
	}{
		{"INSERT INTO register_events (year, number, at, kind, made_by, text) SELECT year, number, ?, 'erased', '', '' " +
			"FROM register WHERE erased_at IS NULL AND message_id IN " + of, with(at)},
		{"DELETE FROM topic_examples WHERE fingerprint IN (SELECT fingerprint FROM messages WHERE " + where + ")", args},
		{"DELETE FROM register_notes WHERE (year, number) IN (SELECT year, number FROM register WHERE message_id IN " + of +
			")", args},
		{"UPDATE register_events SET text = '' WHERE kind IN ('corrected', 'settled') AND text <> '' AND (year, number) IN " +
			"(SELECT year, number FROM register WHERE message_id IN " + of + ")", args}, // what people wrote or read
		{"UPDATE register SET sender_name = '', sender_address = '', subject = '', found = NULL, erased_at = ? " +
			"WHERE message_id IN " + of,
			with(at)},
		{"UPDATE journal SET name = '', reason = CASE WHEN state = 'filed' OR reason = '' THEN '' ELSE ? END, wanted = " +
			"path WHERE message_id IN " + of, with(reason.Erased().Encode())}, // a sentence can name the sender
		{"UPDATE follow_ups SET what = '', reason = '' WHERE kind IN ('reply', 'draft') AND message_id IN " + of, args},
		{"DELETE FROM repeats WHERE message_id IN " + of, args},
		{"DELETE FROM post WHERE state IN ('done', 'set aside') AND message_id IN " + of, args},
		{"UPDATE messages SET subject = '', sender_name = '', sender_address = '', header = '', structure = '{}', flags = " +
			"'[]', erased_at = ? WHERE " + where, with(at)},
	} {
		if err := tx.Exec(step.sql, step.args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// Erase erases a person's traces and says what it was.
func (s *Erasure) Erase(ctx context.Context, v Viewer, address string, now time.Time) (t Traces, err error) {
	at := now.UTC()
	err = s.erasing(ctx, func(tx *gorm.DB) error {
		if t, err = tracesOf(tx, address); err != nil {
			return err
		}
		if err := eraseMessages(tx, at, fromPerson, address); err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM post WHERE state IN ('done', 'set aside') AND instr(char(10) || lower(recipients) "+
			"|| char(10), char(10) || lower(?) || char(10)) > 0", address).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM topic_examples WHERE "+fromPerson, address).Error; err != nil {
			return err
		}
		people, err := list[Correspondent](tx)
		if err != nil {
			return err
		}
		for i := range people {
			c := &people[i]
			n := len(c.Addresses)
			c.Addresses = slices.DeleteFunc(c.Addresses, func(a string) bool { return strings.EqualFold(a, address) })
			switch {
			case n == len(c.Addresses):
			case len(c.Addresses)+len(c.Domains) == 0:
				err = tx.Delete(c).Error
			default:
				c.Revision++
				err = tx.Save(c).Error
			}
			if err != nil {
				return err
			}
		}
		return note(tx, v.Name, "erase traces", "of one person")
	})
	return t, err
}

// EraseBefore erases what names people in filings that were filed before a
// moment, some at once, and says how many messages it was about.
func (s *Erasure) EraseBefore(ctx context.Context, before time.Time, now time.Time, most int) (int, error) {
	const where = `erased_at IS NULL AND id IN (SELECT message_id FROM register WHERE erased_at IS NULL AND filed_at < ? LIMIT ?)
		AND NOT EXISTS (SELECT 1 FROM register r WHERE r.message_id = messages.id AND (r.filed_at >= ? OR r.filed_at IS NULL AND r.void = ''))
		AND NOT EXISTS (SELECT 1 FROM journal j WHERE j.message_id = messages.id AND (j.state IN ('planned', 'staged', 'held', 'failed') OR j.undo = 'asked'))`
	at := before.UTC()
	var ids []int64 // first: what is erased is not found by its conditions any more
	if err := s.reading(ctx).Model(&Message{}).Where(where, at, most, at).Pluck("id", &ids).Error; err != nil ||
		len(ids) == 0 {
		return 0, err
	}
	return len(ids), s.erasing(ctx, func(tx *gorm.DB) error {
		if err := eraseMessages(tx, now.UTC(), "id IN ?", ids); err != nil {
			return err
		}
		return note(tx, System.Name, "erase by retention", "")
	})
}
