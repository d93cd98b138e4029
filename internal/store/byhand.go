package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
)

// ByHand is the rule under which everything goes that people do by hand. It looks
// nowhere and is not listed.
const ByHand = "by-hand"

// Hand is what a person does with one message.
type Hand struct {
	Message int64
	Entries []Entry    // items to be filed
	After   []FollowUp // labels, marks and moves
}

// AddByHand begins what a person does with messages, as one pass.
func (s *Passes) AddByHand(ctx context.Context, p *Pass, hands []Hand, what string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		for _, h := range hands {
			if err := tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) VALUES (?, ?, 1)", p.ID,
				h.Message).Error; err != nil {
				return err
			}
			for i := range h.Entries {
				e := &h.Entries[i]
				e.PassID, e.RuleID, e.RuleRevision = p.ID, ByHand, 1
				if err := tx.Raw(
					"SELECT coalesce(max(round) + 1, 0) FROM journal WHERE rule_id = ? AND message_id = ? AND item = ?", ByHand,
					e.MessageID, e.Item).Scan(&e.Round).Error; err != nil {
					return err
				}
				if err := tx.Create(e).Error; err != nil {
					return err
				}
			}
			if err := addHandFollowUps(tx, p.ID, h.Message, h.After); err != nil {
				return err
			}
		}
		return note(tx, p.MadeBy, what, fmt.Sprintf("%d messages", len(hands)))
	})
}

func addHandFollowUps(tx *gorm.DB, passID, messageID int64, after []FollowUp) error {
	if len(after) == 0 {
		return nil
	}
	round := 0
	if err := tx.Raw("SELECT coalesce(max(round) + 1, 0) FROM follow_ups WHERE rule_id = ? AND message_id = ?", ByHand,
		messageID).Scan(&round).Error; err != nil {
		return err
	}
	for i := range after {
		f := &after[i]
		f.PassID, f.MessageID, f.RuleID, f.RuleRevision, f.Round, f.Place = passID, messageID, ByHand, 1, round, i
	}
	return tx.Create(&after).Error
}

// handChanges narrows follow-ups to what a pass by hand did and nobody took back.
func handChanges(db *gorm.DB, passIDs ...int64) *gorm.DB {
	return db.Model(&FollowUp{}).Where("rule_id = ? AND state = 'done' AND kind <> 'return' AND pass_id IN ?", ByHand,
		passIDs)
}

// opposite is what takes a change by hand back.
func opposite(f *FollowUp) FollowUp {
	back := FollowUp{Kind: f.Kind, What: f.What, MailboxID: f.MailboxID}
	switch f.Kind {
	case "label":
		back.Kind = "remove label"
	case "remove label":
		back.Kind = "label"
	case "move":
		back.Kind, back.What = "return", f.FromFolder
	default:
		back.What = map[string]string{"read": "unread", "unread": "read", "flagged": "not flagged",
			"not flagged": "flagged"}[f.What]
	}
	return back
}

// TakeBackHand lets labels, marks and moves that a person did be taken back.
// ErrNotFound where there is none.
func (s *Undoing) TakeBackHand(ctx context.Context, v Viewer, passID int64, now time.Time) (Pass, error) {
	var p Pass
	err := s.change(ctx, func(tx *gorm.DB) error {
		all, err := list[FollowUp](v.sees(handChanges(tx, passID), "mailbox_id").Order("message_id, id DESC"))
		if err != nil {
			return err
		}
		if len(all) == 0 {
			return ErrNotFound
		}
		at := now.UTC()
		p = Pass{Kind: "undo", Undoes: passID, MadeBy: v.Name, State: Done, StartedAt: at, EndedAt: &at}
		back := map[int64][]FollowUp{}
		var order []int64
		box, one := all[0].MailboxID, true
		for i := range all {
			f := &all[i]
			if back[f.MessageID] == nil {
				order = append(order, f.MessageID)
			}
			b := opposite(f)
			b.State, b.MadeAt = Waiting, at
			back[f.MessageID] = append(back[f.MessageID], b)
			one = one && f.MailboxID == box
			f.State, f.Reason = LaidAside, reason.TakenBackBy(v.Name)
			if err := tx.Model(f).Select("state", "reason").Updates(f).Error; err != nil {
				return err
			}
		}
		if one {
			p.MailboxID = box
		}
		p.Total, p.Looked, p.Matched = len(order), len(order), len(order)
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		for _, message := range order {
			err := inOrder(
				func() error {
					return tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) VALUES (?, ?, 1)", p.ID,
						message).Error
				},
				func() error { return addHandFollowUps(tx, p.ID, message, back[message]) },
			)
			if err != nil {
				return err
			}
		}
		return note(tx, v.Name, "take back", fmt.Sprintf("pass %d", passID))
	})
	return p, err
}

// FiledOf counts the items of messages that were filed and not taken back.
func (s *Messages) FiledOf(ctx context.Context, v Viewer, ids []int64) (map[int64]int, error) {
	var rows []struct {
		MessageID int64
		N         int
	}
	err := v.seesFiled(s.reading(ctx).Model(&Entry{})).Where("message_id IN ? AND "+
		"state IN ('filed', 'already there') AND undo <> 'done'", ids).Select("message_id, count(DISTINCT item) AS n").
		Group("message_id").Scan(&rows).Error
	counts := map[int64]int{}
	for _, r := range rows {
		counts[r.MessageID] = r.N
	}
	return counts, err
}

// HandChanges lists what a pass by hand did with messages and nobody took back.
func (s *Undoing) HandChanges(ctx context.Context, v Viewer, passID int64) ([]FollowUp, error) {
	return list[FollowUp](v.sees(handChanges(s.reading(ctx), passID), "mailbox_id").Order("id"))
}
