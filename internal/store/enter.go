package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"time"

	"inktray.example/inktray/internal/core/register"
)

// bare takes away what makes many changes slow, and returns what puts it back:
// indexes and triggers are made again from what they were made of.
func (s *Store) bare(pool *sql.DB) (again func() error, err error) {
	var made []struct{ Kind, Name, Text string }
	err = s.write.Raw(
		"SELECT type AS kind, name, sql AS text FROM sqlite_master WHERE type IN ('index', 'trigger') AND " +
			"sql IS NOT NULL AND tbl_name IN ('messages', 'journal', 'register')",
	).Scan(&made).Error
	if err != nil {
		return nil, err
	}
	steps := []string{"PRAGMA cache_size = -400000"}
	back := []string{}
	for _, m := range made {
		steps, back = append(steps, "DROP "+m.Kind+" "+m.Name), append(back, m.Text)
	}
	all := func(steps []string) error {
		for _, step := range steps {
			if _, err := pool.Exec(step); err != nil {
				return fmt.Errorf("%s: %w", step, err)
			}
		}
		return nil
	}
	return func() error {
		s.following.Lock()
		s.index.Reset()
		s.loaded = false
		s.following.Unlock()
		return all(append(back, "PRAGMA cache_size = -2000"))
	}, all(steps)
}

// enterAtOnce is how many lines share a commit.
const enterAtOnce = 5000

// Enter puts lines into the register as they are, with the messages and the
// lines of the journal that belong to them: a register to try things on. Nothing
// else may write meanwhile; numbers must be new.
func (s *Journal) Enter(ctx context.Context, rows iter.Seq[register.Row]) (n int, err error) {
	pool, err := s.write.DB()
	if err != nil {
		return 0, err
	}
	again, err := s.bare(pool)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, again()) }()
	var tx *sql.Tx
	var into [3]*sql.Stmt
	begin := func() error {
		if tx, err = pool.Begin(); err != nil {
			return err
		}
		for i, query := range []string{
			`INSERT INTO messages (id, mailbox_id, folder, uid_validity, uid, fingerprint, received_at, size, flags, subject, sender_name, sender_address, attachments, header, structure, whole, seen_at)
				VALUES (?1, ?2, 'INBOX', 1, ?1, x'', ?3, 1000, '[]', ?4, ?5, ?6, 1, x'', '{}', FALSE, ?3) ON CONFLICT DO NOTHING`,
			`INSERT INTO journal (id, rule_id, rule_revision, message_id, item, round, pass_id, mailbox_id, cabinet_id, state, name, kind, wanted, path, reason, attempts, size, register_year, register_number, planned_at)
				VALUES (?1, ?2, 1, ?3, ?1, 0, 0, ?4, ?5, 'filed', ?6, ?7, ?8, ?8, '', 1, ?9, ?10, ?11, ?12)`,
			`INSERT INTO register (year, number, journal_id, message_id, void, drawn_at, filed_at, received_at, mailbox_id, mailbox, rule_id, rule, cabinet_id, cabinet, sender_name, sender_address, subject, folder, file, kind, size, sha256, undone_at, undone_by, check_state, revision)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 1)`} {
			if into[i], err = tx.Prepare(query); err != nil {
				return errors.Join(err, tx.Rollback())
			}
		}
		return nil
	}
	var last struct{ entry, message int64 }
	if err := s.reading(ctx).Raw("SELECT coalesce((SELECT max(id) FROM journal), 0) AS entry, "+
		"coalesce((SELECT max(id) FROM messages), 0) AS message").Row().Scan(&last.entry, &last.message); err != nil {
		return 0, err
	}
	if err := begin(); err != nil {
		return 0, err
	}
	for r := range rows {
		last.entry++
		message, received := last.message+r.Message, time.Unix(r.Received, 0).UTC()
		sum := sha256.Sum256([]byte(r.Number.String()))
		void, check, drawn, by := "", "", received, ""
		var filed, undone *time.Time
		if r.Filed > 0 {
			at := time.Unix(r.Filed, 0).UTC()
			drawn, filed = at, &at
		}
		switch r.State {
		case register.Void:
			void = "the message was deleted before it was filed"
		case register.TakenBack:
			undone, by = filed, "Ines Halloway"
		case register.Missing:
			check = "missing"
		}
		path := r.Folder + "/" + r.File
		_, err1 := into[0].Exec(message, r.MailboxID, received, r.Subject, r.SenderName, r.SenderAddress)
		_, err2 := into[1].Exec(last.entry, r.RuleID, message, r.MailboxID, r.CabinetID, r.File, r.Kind, path, r.Size,
			r.Number.Year, r.Number.Number, drawn)
		_, err3 := into[2].Exec(r.Number.Year, r.Number.Number, last.entry, message, void, drawn, filed, received,
			r.MailboxID, r.Mailbox, r.RuleID, r.Rule, r.CabinetID, r.Cabinet, r.SenderName, r.SenderAddress, r.Subject,
			r.Folder, r.File, r.Kind, r.Size, sum[:], undone, by, check)
		if err := errors.Join(err1, err2, err3); err != nil {
			return n, errors.Join(err, tx.Rollback())
		}
		if n++; n%enterAtOnce == 0 {
			if err := tx.Commit(); err != nil {
				return n, err
			}
			if err := begin(); err != nil {
				return n, err
			}
		}
	}
	return n, tx.Commit()
}
