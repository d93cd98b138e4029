package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
)

// In lists the messages of a folder that could not be read to their end,
// by UID.
func (s *Retries) In(ctx context.Context, mailboxID, folder string, uidValidity uint32) (map[uint32]Retry, error) {
	rows, err := list[Retry](
		s.reading(ctx).Where("mailbox_id = ? AND folder = ? AND uid_validity = ?", mailboxID, folder,
			uidValidity),
	)
	if len(rows) == 0 {
		return nil, err
	}
	found := make(map[uint32]Retry, len(rows))
	for _, r := range rows {
		found[r.UID] = r
	}
	return found, err
}

// Due lists the messages of a mailbox that are to be tried again now, without those of the passes in but, which try
// them again themselves. Where messages are read beside others the smallest come first, so that an ordinary one does
// not wait for those that are made to take long; the last one is the one that waits longest, so that each has its turn.
func (s *Retries) Due(ctx context.Context, mailboxID string, now time.Time, but []int64, lane Lane,
	most int) ([]Retry, error) {
	due := func(order string, most int) ([]Retry, error) {
		return list[Retry](lane.of(s.reading(ctx)).Where("mailbox_id = ? AND state = 'waiting' AND (next_at IS NULL OR "+
			"next_at <= ?) AND pass_id NOT IN ?", mailboxID, now.UTC(), append(but, -1)).Order(order).Limit(most))
	}
	if lane != SideLane {
		return due("folder, uid", most)
	}
	smallest, err := due("coalesce((SELECT size FROM messages m WHERE m.id = retries.message_id), 0), id", most)
	if err != nil || len(smallest) < most {
		return smallest, err
	}
	oldest, err := due("id", 1)
	if err != nil || len(oldest) == 0 ||
		slices.ContainsFunc(smallest, func(r Retry) bool { return r.ID == oldest[0].ID }) {
		return smallest, err
	}
	return append(smallest[:most-1], oldest[0]), nil
}

// Next is when a message of a mailbox is tried again next; ok is false where
// none waits. The zero time is now.
func (s *Retries) Next(ctx context.Context, mailboxID string, but []int64,
	lane Lane) (at time.Time, ok bool, err error) {
	r, err := first[Retry](
		lane.of(s.reading(ctx)).Where("mailbox_id = ? AND state = 'waiting' AND pass_id NOT IN ?", mailboxID,
			append(but, -1)).
			Order("next_at IS NOT NULL, next_at").Limit(1),
	)
	if errors.Is(err, ErrNotFound) {
		return at, false, nil
	}
	if r.NextAt != nil {
		at = *r.NextAt
	}
	return at, err == nil, err
}

// OfPass lists the messages that a pass could not read, in the order of their
// folders and UIDs.
func (s *Retries) OfPass(ctx context.Context, v Viewer, passID int64) ([]Retry, error) {
	return list[Retry](v.sees(s.reading(ctx), "mailbox_id").Where("pass_id = ?", passID).Order("folder, uid"))
}

// ByID finds a message that could not be read, where the viewer may see it.
func (s *Retries) ByID(ctx context.Context, v Viewer, id int64) (Retry, error) {
	return first[Retry](v.sees(s.reading(ctx), "mailbox_id").Where("id = ?", id))
}

// InTray lists the messages that could not be read and wait in the tray, the
// newest first.
func (s *Retries) InTray(ctx context.Context, v Viewer, most int) ([]Retry, error) {
	return list[Retry](v.sees(s.reading(ctx), "mailbox_id").Where("state = 'failed'").Order("id DESC").Limit(most))
}

// Waiting counts the messages that wait to be read again, by mailbox.
func (s *Retries) Waiting(ctx context.Context, v Viewer) (map[string]int, error) {
	var rows []struct {
		MailboxID string
		N         int
	}
	err := v.sees(s.reading(ctx).Model(&Retry{}),
		"mailbox_id").Where("state = 'waiting'").Select("mailbox_id, count(*) AS n").Group("mailbox_id").Scan(&rows).Error
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.MailboxID] = r.N
	}
	return counts, err
}

// Drop forgets that a message could not be read: it is gone.
func (s *Retries) Drop(ctx context.Context, id int64) error {
	return s.change(ctx, func(tx *gorm.DB) error { return tx.Delete(&Retry{}, id).Error })
}

// Fail puts a message that could not be read into the tray.
func (s *Retries) Fail(ctx context.Context, id int64, why reason.Reason, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(&Retry{}).Where("id = ?",
			id).Updates(map[string]any{"state": RetryFailed, "cause": CauseUnread,
			"reason": why.Encode(), "next_at": nil, "done_at": now.UTC()}).Error
	})
}

// Suspect records that the program ended, by its own fault, while it read
// messages. A single message is counted. Of several nobody can say which it was,
// so each is only read alone from then on.
func (s *Retries) Suspect(ctx context.Context, messages []Retry, now time.Time) error {
	crashed := 0
	if len(messages) == 1 {
		crashed = 1
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		for _, r := range messages {
			err := tx.Exec(`INSERT INTO retries (mailbox_id, folder, uid_validity, uid, state, crashes, made_at) VALUES (?, ?, ?, ?, 'suspect', ?, ?)
				ON CONFLICT DO UPDATE SET crashes = crashes + ?`, r.MailboxID, r.Folder, r.UIDValidity, r.UID, crashed, now.UTC(), crashed).Error
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// ByStartMarks is in Retry.Rules for the rules whose start marks take the
// message.
const ByStartMarks = "*"

// keepRetry records a message that could not be read. The rules for which it
// waited before still wait for it.
func keepRetry(tx *gorm.DB, r *Retry) error {
	old, err := first[Retry](tx.Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid = ?", r.MailboxID,
		r.Folder, r.UIDValidity, r.UID))
	switch {
	case errors.Is(err, ErrNotFound):
		return tx.Create(r).Error
	case err != nil:
		return err
	}
	r.ID, r.MadeAt = old.ID, old.MadeAt
	for _, id := range old.Rules {
		if !slices.Contains(r.Rules, id) {
			r.Rules = append(r.Rules, id)
		}
	}
	if r.MessageID == 0 {
		r.MessageID, r.Subject, r.Sender = old.MessageID, old.Subject, old.Sender
	}
	return tx.Save(r).Error
}

// settleRetries removes the retries of messages that were read. A retry for which other rules still wait is kept for
// those rules.
func settleRetries(tx *gorm.DB, in Place, uidValidity uint32, read map[uint32][]string, now time.Time) error {
	if len(read) == 0 {
		return nil
	}
	rows, err := list[Retry](tx.Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid IN ?",
		in.MailboxID, in.Folder, uidValidity, slices.Collect(maps.Keys(read))))
	if err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		left := slices.DeleteFunc(r.Rules, func(id string) bool { return slices.Contains(read[r.UID], id) })
		if len(left) == 0 || r.State == RetrySuspect {
			if err := tx.Delete(r).Error; err != nil {
				return err
			}
			continue
		}
		r.Rules, r.State, r.Attempts, r.NextAt, r.PassID, r.DoneAt = left, RetryWaiting, 0, &now, 0, nil
		if err := tx.Save(r).Error; err != nil {
			return err
		}
	}
	return nil
}

// retryAgain lets messages of the tray be read again. The count begins again: a
// person has looked at what was in the way.
func retryAgain(tx *gorm.DB, v Viewer, ids []int64) (int, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	done := v.sees(tx.Model(&Retry{}), "mailbox_id").Where("id IN ? AND state IN ('failed', 'set aside')", ids).
		Updates(map[string]any{"state": RetryWaiting, "attempts": 0, "crashes": 0, "slow": 0, "next_at": nil, "cause": "",
			"reason": "", "done_at": nil})
	if done.Error != nil || done.RowsAffected == 0 {
		return 0, done.Error
	}
	return int(done.RowsAffected), note(tx, v.Name, "tray: again", "messages")
}

// setRetriesAside takes messages that could not be read out of the tray.
func setRetriesAside(tx *gorm.DB, v Viewer, ids []int64, why string) (int, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	done := v.sees(tx.Model(&Retry{}), "mailbox_id").Where("id IN ? AND state = 'failed'", ids).
		Updates(map[string]any{"state": RetrySetAside, "reason": reason.Said(why, "").Encode(), "cause": ""})
	if done.Error != nil || done.RowsAffected == 0 {
		return 0, done.Error
	}
	return int(done.RowsAffected), note(tx, v.Name, "set aside", "messages")
}

// Called is what people call the message: its subject, or its number in the folder.
func (r *Retry) Called() string {
	if r.Subject != "" {
		return r.Subject
	}
	return fmt.Sprintf("message %d in the folder “%s”", r.UID, r.Folder)
}

// mostRejections bounds the rejected messages that are kept of one mailbox.
const mostRejections = 1000

// Reject records that a message for a drop address was refused, and gives the
// rejections since the tray tells of them, the newest first, and how many there are.
func (s *Mailboxes) Reject(ctx context.Context, r *Rejection, most int) (last []Rejection, n int64, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(r).Error; err != nil {
			return err
		}
		since := r.At
		if notice, err := first[Notice](tx.Where("kind = 'rejected' AND object = ?", r.MailboxID)); err == nil {
			since = notice.MadeAt
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		told := tx.Model(&Rejection{}).Where("mailbox_id = ? AND at >= ?", r.MailboxID, since.UTC())
		if err := told.Count(&n).Error; err != nil {
			return err
		}
		if last, err = list[Rejection](tx.Where("mailbox_id = ? AND at >= ?", r.MailboxID,
			since.UTC()).Order("id DESC").Limit(most)); err != nil {
			return err
		}
		return tx.Exec("DELETE FROM rejections WHERE mailbox_id = ? AND id NOT IN (SELECT id FROM rejections WHERE "+
			"mailbox_id = ? ORDER BY id DESC LIMIT ?)",
			r.MailboxID, r.MailboxID, mostRejections).Error
	})
	return last, n, err
}
