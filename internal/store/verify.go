package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/register"
)

// VerificationPlan is how often and when filed files are verified. The zero
// VerificationPlan never does so by itself.
type VerificationPlan struct {
	EveryDays   int    `json:"every_days"`
	FromTime    string `json:"from_time"` // "19:00"; "" for all day
	ToTime      string `json:"to_time"`
	MBPerSecond int    `json:"mb_per_second"` // reads at most so much; 0 for no limit
}

// UsualVerification holds until somebody plans otherwise: once a quarter of a
// year, slowly.
var UsualVerification = VerificationPlan{EveryDays: 90, MBPerSecond: 20}

// VerificationPlan reads the plan.
func (s *Settings) VerificationPlan(ctx context.Context) (VerificationPlan, error) {
	p := UsualVerification
	text, err := s.Get(ctx, VerificationSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &p)
	}
	return p, err
}

// PlanVerification keeps another plan.
func (s *Settings) PlanVerification(ctx context.Context, p VerificationPlan, revision int, actor string) error {
	return s.setJSON(ctx, VerificationSetting, p, revision, actor)
}

const verifiable = "filed_at IS NOT NULL AND undone_at IS NULL AND replaced_by = '' AND check_settled = FALSE"

func due(db *gorm.DB, before time.Time) *gorm.DB {
	return db.Where(verifiable+" AND coalesce(checked_at, filed_at) < ?", before.UTC())
}

// CountDue counts the files that were filed and not verified since a moment.
func (s *Verifications) CountDue(ctx context.Context, before time.Time) (int, error) {
	var n int64
	err := due(s.reading(ctx).Model(&Filing{}), before).Count(&n).Error
	return int(n), err
}

// DueForVerification lists them, the longest unverified first, after one of them;
// nil for the first.
func (s *Verifications) DueForVerification(ctx context.Context, before time.Time, after *Filing,
	most int) ([]Filing, error) {
	db := due(s.reading(ctx), before)
	if after != nil {
		at := after.FiledAt
		if after.CheckedAt != nil {
			at = after.CheckedAt
		}
		db = db.Where("(coalesce(checked_at, filed_at), year, number) > (?, ?, ?)", at.UTC(), after.Year, after.Number)
	}
	return list[Filing](db.Order("coalesce(checked_at, filed_at), year, number").Limit(most))
}

// Count counts the files that were verified at least once.
func (s *Verifications) Count(ctx context.Context, v Viewer) (int, error) {
	var n int64
	err := v.seesFiled(s.reading(ctx).Table("register INDEXED BY register_verified")).Where(verifiable +
		" AND checked_at IS NOT NULL").Count(&n).Error
	return int(n), err
}

// Last is the last pass that verified.
func (s *Verifications) Last(ctx context.Context) (Pass, error) {
	return first[Pass](s.reading(ctx).Where("kind = 'verification'").Order("id DESC").Limit(1))
}

// StopOnly are the kinds of passes that can be stopped, and neither paused nor gone on with.
var StopOnly = []string{"verification", "values", "move"}

// End closes passes that a stop of the service left open and that do not go on.
func (s *Verifications) End(ctx context.Context, now time.Time) error {
	var open int64
	running := s.reading(ctx).Model(&Pass{}).Where("kind IN ? AND state = 'running'", StopOnly)
	if err := running.Count(&open).Error; err != nil || open == 0 {
		return err
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE passes SET state = 'stopped', ended_at = ?, note = trim(note || '; the service was "+
			"stopped', '; ') WHERE kind IN ? AND state = 'running'", now.UTC(), StopOnly).Error
	})
}

func happened(tx *gorm.DB, n register.Number, at time.Time, kind, by, text string) error {
	return tx.Create(&Happening{Year: n.Year, Number: n.Number, At: at.UTC(), Kind: kind, MadeBy: by, Text: text}).Error
}

// Fine records that files were found as they were filed.
func (s *Verifications) Fine(ctx context.Context, numbers []register.Number, now time.Time) error {
	if len(numbers) == 0 {
		return nil
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		for _, n := range numbers {
			back := tx.Exec("UPDATE register SET check_state = '', check_settled = FALSE WHERE year = ? AND number = ? AND "+
				"check_state <> ''", n.Year, n.Number)
			if back.Error != nil {
				return back.Error
			}
			if back.RowsAffected > 0 {
				if err := happened(tx, n, now, "found again", "", ""); err != nil {
					return err
				}
			}
			if err := tx.Exec("UPDATE register SET checked_at = ? WHERE year = ? AND number = ?", now.UTC(), n.Year,
				n.Number).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Wrong records that a file was found "missing" or "changed".
func (s *Verifications) Wrong(ctx context.Context, f *Filing, state string, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE register SET check_state = ?, check_settled = FALSE WHERE year = ? AND number = ? AND "+
			"check_state <> ? AND undone_at IS NULL AND replaced_by = ''", state, f.Year, f.Number, state)
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected > 0 {
			if err := happened(tx, f.Entry(), now, state, "", ""); err != nil {
				return err
			}
		}
		return tx.Exec("UPDATE register SET checked_at = ? WHERE year = ? AND number = ?", now.UTC(), f.Year, f.Number).Error
	})
}

const inTrayOfFilings = "check_state <> '' AND check_settled = FALSE AND undone_at IS NULL AND replaced_by = ''"

// Filings lists filings whose file is missing or changed, the newest first.
func (s *Tray) Filings(ctx context.Context, v Viewer, most int) ([]Filing, error) {
	return list[Filing](
		v.seesFiled(s.reading(ctx)).Where(inTrayOfFilings).Order("year DESC, number DESC").Limit(most),
	)
}

// settleFilings takes filings out of the tray because a person says so.
func settleFilings(tx *gorm.DB, v Viewer, ids []int64, reason string, now time.Time) (int, error) {
	rows, err := list[Filing](v.seesFiled(tx).Where("journal_id IN ? AND "+inTrayOfFilings, ids))
	if err != nil {
		return 0, err
	}
	for i := range rows {
		f := &rows[i]
		err := inOrder(
			func() error {
				return tx.Exec("UPDATE register SET check_settled = TRUE WHERE year = ? AND number = ?", f.Year,
					f.Number).Error
			},
			func() error { return happened(tx, f.Entry(), now, "settled", v.Name, reason) },
			func() error { return note(tx, v.Name, "set aside", f.Entry().String()) },
		)
		if err != nil {
			return 0, err
		}
	}
	return len(rows), nil
}

// Refile lets a filing whose file is missing be filed once more from its
// message: the filing counts as taken back, and the next round is planned.
func (s *Verifications) Refile(ctx context.Context, v Viewer, f *Filing, now time.Time) (n int, err error) {
	at := now.UTC()
	err = s.change(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE register SET undone_at = ?, undone_by = ?, check_settled = TRUE WHERE year = ? AND number "+
			"= ? AND undone_at IS NULL", at, v.Name, f.Year, f.Number)
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		if err := tx.Exec("UPDATE journal SET undo = 'done', reason = ? WHERE id = ?", reason.Refiled().Encode(),
			f.JournalID).Error; err != nil {
			return err
		}
		e, err := first[Entry](tx.Where("id = ?", f.JournalID))
		if err != nil {
			return err
		}
		p := Pass{Kind: "again", MailboxID: e.MailboxID, RuleID: e.RuleID, MadeBy: v.Name, State: Done, Total: 1, Looked: 1,
			Matched: 1, StartedAt: at, EndedAt: &at}
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		again := Entry{RuleID: e.RuleID, RuleRevision: e.RuleRevision, MessageID: e.MessageID, Item: e.Item, Round: e.Round +
			1, PassID: p.ID, MailboxID: e.MailboxID, CabinetID: e.CabinetID,
			State: Planned, Name: e.Name, Kind: e.Kind, Size: e.Size, PlannedAt: at, Given: "again"}
		n = 1
		if err := tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) VALUES (?, ?, 1)", p.ID,
			e.MessageID).Error; err != nil {
			return err
		}
		if err := tx.Create(&again).Error; err != nil {
			return err
		}
		return note(tx, v.Name, "file again", f.Entry().String())
	})
	return n, err
}
