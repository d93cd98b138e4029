package store

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/value"
)

// ready narrows follow-ups to those whose time has come: every item of the
// message has its verdict, and nothing waits for a person where that counts.
func ready(db *gorm.DB, now time.Time) *gorm.DB {
	return db.Where("state IN ('waiting', 'begun') AND (next_at IS NULL OR next_at <= ?)", now.UTC()).
		Where("NOT EXISTS (SELECT 1 FROM journal j WHERE j.message_id = follow_ups.message_id AND j.state IN ('planned', " +
			"'staged'))").
		Where(
			"(kind NOT IN ('move', 'reply', 'draft') OR rule_id = 'by-hand' OR NOT EXISTS (SELECT 1 FROM journal j WHERE " +
				"j.message_id = follow_ups.message_id AND j.state IN ('held', 'failed')))",
		)
}

// Ready lists what is to be done now in a mailbox, or with "" what is
// to be sent; message by message, moves last.
func (s *FollowUps) Ready(ctx context.Context, mailboxID string, now time.Time, most int) ([]FollowUp, error) {
	db := ready(s.reading(ctx), now)
	if mailboxID == "" {
		db = db.Where("kind IN ('reply', 'tell')")
	} else {
		db = db.Where("mailbox_id = ? AND kind NOT IN ('reply', 'tell')", mailboxID)
	}
	return list[FollowUp](db.Order("message_id, kind IN ('move', 'return'), id").Limit(most))
}

// Next is when a mailbox has a follow-up to do next; ok is false where
// none waits for its time.
func (s *FollowUps) Next(ctx context.Context, mailboxID string) (at time.Time, ok bool, err error) {
	f, err := first[FollowUp](
		s.reading(ctx).Where("mailbox_id = ? AND state IN ('waiting', 'begun') AND kind NOT IN ('reply', "+
			"'tell') AND next_at IS NOT NULL", mailboxID).Order("next_at").Limit(1),
	)
	if errors.Is(err, ErrNotFound) {
		return at, false, nil
	}
	if err != nil {
		return at, false, err
	}
	return *f.NextAt, true, nil
}

// FollowUpByID finds a follow-up that the viewer may see.
func (s *FollowUps) FollowUpByID(ctx context.Context, v Viewer, id int64) (FollowUp, error) {
	return first[FollowUp](v.sees(s.reading(ctx), "mailbox_id").Where("id = ?", id))
}

// FollowUpsOf lists what is done with a message, by rule.
func (s *FollowUps) FollowUpsOf(ctx context.Context, v Viewer, messageID int64) ([]FollowUp, error) {
	return list[FollowUp](v.sees(s.reading(ctx), "mailbox_id").Where("message_id = ?", messageID).Order("id"))
}

// addFollowUps inserts follow-ups; existing ones are not changed.
func addFollowUps(tx *gorm.DB, list []FollowUp) error {
	for i := range list {
		err := tx.Create(&list[i]).Error
		if errors.Is(err, gorm.ErrDuplicatedKey) {
			list[i].ID = 0
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// BeginFollowUp records that a follow-up is begun, before anything is changed.
// A move also says where the message is going, so that it is recognised there.
func (s *FollowUps) BeginFollowUp(ctx context.Context, f *FollowUp) error {
	f.State = Begun
	return s.change(ctx, func(tx *gorm.DB) error {
		if f.Kind == "move" || f.Kind == "return" {
			if err := tx.Exec("UPDATE messages SET moving_to = ? WHERE id = ?", f.What, f.MessageID).Error; err != nil {
				return err
			}
		}
		return tx.Model(f).Select("state", "from_folder", "from_validity", "from_uid").Updates(f).Error
	})
}

// EndFollowUp records how a follow-up ended, and where the message is now and
// what labels it has, if m is given.
func (s *FollowUps) EndFollowUp(ctx context.Context, f *FollowUp, m *Message, now time.Time) error {
	done := now.UTC()
	f.DoneAt, f.NextAt, f.Cause = &done, nil, ""
	if f.State == CouldNot {
		f.Cause = cmp.Or(f.Reason.Cause(), CauseOther)
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if m != nil {
			if err := place(tx, m); err != nil {
				return err
			}
		}
		return tx.Model(f).Select("state", "cause", "reason", "attempts", "next_at", "done_at",
			"from_folder").Updates(f).Error
	})
}

// PutOffFollowUp records that a follow-up is tried again later.
func (s *FollowUps) PutOffFollowUp(ctx context.Context, f *FollowUp) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(f).Select("attempts", "next_at", "reason").Updates(f).Error
	})
}

// Place records where a message is and what labels it has.
func (s *FollowUps) Place(ctx context.Context, m *Message) error {
	return s.change(ctx, func(tx *gorm.DB) error { return place(tx, m) })
}

// place records where a message is. Where the server did not say under which
// number, its own id represents it under no numbering, until it is seen there.
func place(tx *gorm.DB, m *Message) error {
	m.MovingTo = ""
	if m.UIDValidity == 0 {
		m.UID = uint32(m.ID)
	}
	fields := []any{"uid_validity", "uid", "flags", "moving_to"}
	var other int64
	if err := tx.Model(&Message{}).Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid = ? AND id <> ?",
		m.MailboxID, m.Folder, m.UIDValidity, m.UID, m.ID).Count(&other).Error; err != nil {
		return err
	}
	if other > 0 { // it was met there first and is known twice; this one stays without a number
		m.UIDValidity, m.UID = 0, uint32(m.ID)
	}
	return tx.Model(m).Select("folder", fields...).Updates(m).Error
}

// FiledPaths lists the paths that a rule filed of a message, or found filed.
func (s *FollowUps) FiledPaths(ctx context.Context, ruleID string, messageID int64) ([]string, error) {
	var paths []string
	err := s.reading(ctx).Model(&Entry{}).Where(
		"rule_id = ? AND message_id = ? AND state IN ('filed', 'already there') AND undo = ''", ruleID,
		messageID).Order("id").Pluck("path", &paths).Error
	return paths, err
}

// FiledValues are what was read of the files that a rule filed of a message: of each value the first that was found.
func (s *FollowUps) FiledValues(ctx context.Context, ruleID string, messageID int64) (all []value.Value, err error) {
	lines, err := list[Filing](s.reading(ctx).Select("found").Where("rule_id = ? AND message_id = ? AND found IS NOT "+
		"NULL AND filed_at IS NOT NULL AND undone_at IS NULL", ruleID, messageID).Order("year, number"))
	for i := range lines {
		for _, v := range lines[i].Values {
			at := slices.IndexFunc(all, func(o value.Value) bool { return o.Name == v.Name })
			if at < 0 {
				all = append(all, v)
			} else if all[at].Text == "" {
				all[at] = v
			}
		}
	}
	return all, err
}

// Hand puts what is to be sent into the post and ends its follow-up, if it has
// one, in one commit: from then on the post has it. once is the moment since
// which there must be no other reply of the rule to the same address; zero for
// no matter. It says whether there was none.
func (s *FollowUps) Hand(ctx context.Context, posts []Post, f *FollowUp, once, now time.Time) (bool, error) {
	sent := true
	done := now.UTC()
	err := s.change(ctx, func(tx *gorm.DB) error {
		for i := range posts {
			p := &posts[i]
			if !once.IsZero() {
				var before int64
				if err := tx.Model(&Post{}).Where(
					"purpose = 'reply' AND rule_id = ? AND recipients = ? AND made_at > ? AND state NOT IN ('failed', 'set aside')",
					p.RuleID, p.Recipients, once.UTC()).Count(&before).Error; err != nil {
					return err
				}
				if before > 0 {
					sent = false
					return nil
				}
			}
			if err := tx.Create(p).Error; err != nil {
				return err
			}
		}
		if f == nil {
			return nil
		}
		f.State, f.NextAt, f.DoneAt = DidIt, nil, &done
		return tx.Model(f).Select("state", "next_at", "done_at").Updates(f).Error
	})
	return sent, err
}

// Due lists what is to be sent now, and what was begun when the program ended.
func (s *FollowUps) Due(ctx context.Context, now time.Time, most int) ([]Post, error) {
	return list[Post](s.reading(ctx).Where("state IN ('waiting', 'begun') AND (next_at IS NULL OR next_at <= ?)",
		now.UTC()).Order("id").Limit(most))
}

// Begin records that something is being sent, before it is.
func (s *FollowUps) Begin(ctx context.Context, p *Post) error {
	p.State = Begun
	return s.change(ctx, func(tx *gorm.DB) error { return tx.Model(p).Select("state").Updates(p).Error })
}

// Save records how the sending went.
func (s *FollowUps) Save(ctx context.Context, p *Post, now time.Time) error {
	if p.State != Waiting && p.State != Begun {
		done := now.UTC()
		p.DoneAt, p.NextAt = &done, nil
	}
	p.Cause = ""
	if p.State == CouldNot || p.State == Unsure {
		p.Cause = cmp.Or(p.Reason.Cause(), CauseOther)
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(p).Select("state", "cause", "reason", "attempts", "next_at", "done_at").Updates(p).Error
	})
}

// ByID finds something that was or is to be sent.
func (s *FollowUps) ByID(ctx context.Context, v Viewer, id int64) (Post, error) {
	return first[Post](v.sees(s.reading(ctx), "mailbox_id").Where("id = ?", id))
}

// OfMessage lists what was sent, or is to be, because of a message.
func (s *FollowUps) OfMessage(ctx context.Context, v Viewer, messageID int64) ([]Post, error) {
	return list[Post](v.sees(s.reading(ctx), "mailbox_id").Where("message_id = ?", messageID).Order("id"))
}

// CameFrom says whether Ink Tray moved a message to where it is met, and out of
// which folder; or whether it moved it back there.
func (s *Messages) CameFrom(ctx context.Context, m *Message) (folder string, returned bool, err error) {
	row, err := first[Message](
		s.reading(ctx).Select("id").Where("mailbox_id = ? AND folder = ? AND uid_validity = ? AND uid = ?",
			m.MailboxID, m.Folder, m.UIDValidity, m.UID),
	)
	if errors.Is(err, ErrNotFound) {
		row, err = first[Message](
			sameAs(s.reading(ctx), m).Select("id").Where("+mailbox_id = ? AND (moving_to = ? OR "+
				"folder = ? AND uid_validity = 0)", m.MailboxID, m.Folder, m.Folder).Order("id").Limit(1),
		)
	}
	if errors.Is(err, ErrNotFound) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	f, err := first[FollowUp](
		s.reading(ctx).Where("message_id = ? AND kind IN ('move', 'return') AND state IN ('begun', "+
			"'done') AND what = ? AND from_folder <> ''", row.ID, m.Folder).Order("id DESC").Limit(1),
	)
	if errors.Is(err, ErrNotFound) {
		return "", false, nil
	}
	return f.FromFolder, f.Kind == "return", err
}
