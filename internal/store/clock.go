package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Rewind corrects what was recorded while the clock was ahead. What is to be tried
// again is due by a moment at the latest; what was told, looked at or verified in the
// future was so now; and rules that were switched on in the future take mail since then.
func (s *Settings) Rewind(ctx context.Context, now, due, since time.Time) error {
	now, due, since = now.UTC(), due.UTC(), since.UTC()
	var all []statement
	for _, table := range []string{"journal", "follow_ups", "post", "retries"} {
		all = append(all, statement{"UPDATE " + table + " SET next_at = ? WHERE next_at > ?", []any{due, due}})
	}
	for _, c := range []struct{ table, column string }{{"addressees", "told_at"}, {"addressees", "made_at"},
		{"alarms", "checked_at"}, {"alarms", "rang_at"}, {"alarms", "made_at"}, {"register", "checked_at"},
		{"outages", "since"}, {"notices", "made_at"}} {
		all = append(all,
			statement{"UPDATE " + c.table + " SET " + c.column + " = ? WHERE " + c.column + " > ?", []any{now, now}})
	}
	for _, c := range []struct{ table, column string }{{"rules", "on_at"}, {"start_marks", "made_at"}} {
		all = append(all,
			statement{"UPDATE " + c.table + " SET " + c.column + " = ? WHERE " + c.column + " > ?", []any{since, now}})
	}
	return s.change(ctx, func(tx *gorm.DB) error { return exec(tx, all...) })
}

// LastSeen is when a message was last met; zero where none was.
func (s *Settings) LastSeen(ctx context.Context) (time.Time, error) {
	rows, err := list[Message](s.reading(ctx).Model(&Message{}).Select("seen_at").
		Where("id = (SELECT max(id) FROM messages)"))
	if err != nil || len(rows) == 0 {
		return time.Time{}, err
	}
	return rows[0].SeenAt, nil
}

// ArrivedAround says whether a mail server says of a message that it arrived around a
// moment.
func (s *Settings) ArrivedAround(ctx context.Context, at time.Time, within time.Duration) (bool, error) {
	return there(s.reading(ctx).Model(&Message{}).Where(
		"received_from = 'server' AND received_at BETWEEN ? AND ? AND id > (SELECT coalesce(max(id), 0) - 1000 FROM "+
			"messages) AND mailbox_id IN (SELECT id FROM mailboxes WHERE kind = 'imap')", at.Add(-within).UTC(),
		at.Add(within).UTC()))
}

// HasNotice says whether something waits in the tray.
func (s *Tray) HasNotice(ctx context.Context, kind, object string) (bool, error) {
	var n int64
	err := s.reading(ctx).Model(&Notice{}).Where("kind = ? AND object = ?", kind, object).Count(&n).Error
	return n > 0, explain(err)
}
