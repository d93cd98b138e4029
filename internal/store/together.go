package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm"
)

// What is filed at the same moment goes through the journal together: one commit and one flush for all.

// Several are entries with their messages, in the order in which they are numbered.
type Several struct {
	Entries []*Entry
	Of      []*Message // of the entry with the same index
}

// StageTogether records for several entries what Stage records for one. changed says which of them are no longer
// planned, because their rule was switched off: of these nothing is recorded.
func (s *Journal) StageTogether(ctx context.Context, all Several, now time.Time) (changed []bool, err error) {
	staged := make([]Entry, len(all.Entries))
	err = s.change(ctx, func(tx *gorm.DB) error {
		changed = make([]bool, len(all.Entries))
		ids := make([]int64, len(all.Entries))
		for i, e := range all.Entries {
			ids[i] = e.ID
		}
		var planned []int64
		if err := tx.Raw("SELECT id FROM journal WHERE id IN ? AND state IN ('planned', 'staged')",
			ids).Scan(&planned).Error; err != nil {
			return err
		}
		n := newDrawing(now)
		for i, e := range all.Entries {
			if changed[i] = !slices.Contains(planned, e.ID); changed[i] {
				continue
			}
			staged[i] = *e
			staged[i].State = Staged
			if err := stage(tx, &staged[i], all.Of[i], n); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return changed, err
	}
	for i, e := range all.Entries {
		if !changed[i] {
			*e = staged[i]
		}
	}
	return changed, nil
}

// FileTogether records for several entries what File records for one.
func (s *Journal) FileTogether(ctx context.Context, entries []*Entry, now time.Time) error {
	done := now.UTC()
	filed := make([]Entry, len(entries))
	err := early(ctx, s.Store, func(tx *gorm.DB) error {
		for i, e := range entries {
			filed[i] = *e
			if err := file(tx, &filed[i], done); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, e := range entries {
		*e = filed[i]
		s.counters.wasFiled(e)
	}
	return nil
}

// DrawTogether numbers several entries, as Draw does one.
func (s *Journal) DrawTogether(ctx context.Context, all Several, now time.Time) error {
	drawn := make([]Entry, len(all.Entries))
	err := s.change(ctx, func(tx *gorm.DB) error {
		n := newDrawing(now)
		for i, e := range all.Entries {
			drawn[i] = *e
			if err := n.draw(tx, &drawn[i], all.Of[i]); err != nil {
				return err
			}
			if err := tx.Model(&drawn[i]).Select("register_year", "register_number").Updates(&drawn[i]).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, e := range all.Entries {
		*e = drawn[i]
	}
	return nil
}

// drawing draws register numbers within one change, and looks up only once what the register's lines say.
type drawing struct {
	now   time.Time
	year  int // of the numbers
	fixed int // the number that the next one gets; 0 for the next that is free
	last  int // the number drawn last; 0 before the first
	names map[[3]string]lineNames
}

// lineNames are the names of a mailbox, a rule and a cabinet, as they are at the moment.
type lineNames struct{ Mailbox, Rule, Cabinet string }

func newDrawing(now time.Time) *drawing {
	return &drawing{now: now, year: now.Year(), names: map[[3]string]lineNames{}}
}

// draw makes the register's line of an entry and numbers the entry, unless it has a number. The caller keeps the
// number. of is the entry's message; nil reads it.
func (n *drawing) draw(tx *gorm.DB, e *Entry, of *Message) error {
	if e.RegisterNumber > 0 {
		return nil
	}
	if of == nil {
		m, err := first[Message](tx.Where("id = ?", e.MessageID))
		if err != nil {
			return err
		}
		of = &m
	}
	key := [3]string{e.MailboxID, e.RuleID, e.CabinetID}
	names, known := n.names[key]
	if !known {
		if err := tx.Raw(`SELECT (SELECT name FROM mailboxes WHERE id = ?) AS mailbox, (SELECT name FROM rules WHERE id = ?)
			AS rule, (SELECT name FROM cabinets WHERE id = ?) AS cabinet`, key[0], key[1], key[2]).Scan(&names).Error; err != nil {
			return err
		}
		n.names[key] = names
	}
	number := n.last + 1
	switch {
	case n.fixed > 0:
		number, n.fixed = n.fixed, 0
	case n.last == 0:
		var err error
		if number, err = nextNumber(tx, n.year); err != nil {
			return err
		}
	}
	line := Filing{Year: n.year, Number: number, JournalID: e.ID, MessageID: e.MessageID, DrawnAt: n.now.UTC(),
		ReceivedAt: of.ReceivedAt, MailboxID: e.MailboxID, RuleID: e.RuleID, CabinetID: e.CabinetID, Mailbox: names.Mailbox,
		Rule: names.Rule, Cabinet: names.Cabinet, SenderName: of.SenderName, SenderAddress: of.SenderAddress,
		Subject: of.Subject, Kind: e.Kind, Revision: e.RuleRevision, Values: e.Values}
	if err := tx.Create(&line).Error; err != nil {
		return err
	}
	n.last, e.RegisterYear, e.RegisterNumber = number, line.Year, number
	return nil
}

// stage records that an entry is staged; ErrChanged where it is no longer planned.
func stage(tx *gorm.DB, e *Entry, of *Message, n *drawing) error {
	drawn := e.RegisterNumber > 0
	if err := n.draw(tx, e, of); err != nil {
		return err
	}
	if drawn && e.Values != nil { // it may have been read anew since
		line := Filing{Year: e.RegisterYear, Number: e.RegisterNumber, Values: e.Values}
		if err := tx.Select("found").Updates(&line).Error; err != nil {
			return err
		}
	}
	done := tx.Model(e).Where("state IN ?", []State{Planned, Staged}).Select("state", "path", "size", "sha256",
		"displaced", "made", "temporary", "register_year", "register_number").Updates(e)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrChanged
	}
	return done.Error
}
