package store

import (
	"context"
	"gorm.io/gorm"
)

// Lane says who works on a message or an item: the mailbox's own watcher, a second one beside it on what takes long,
// or a third one on what takes very long.
type Lane int

// The lanes. In the records a lane is a number from 0.
const (
	AnyLane Lane = iota
	MainLane
	SideLane
	LastLane
	BesideLane // the side lane and the last, where one watcher works on both
)

// Slow is the number of a lane in the records.
func (l Lane) Slow() int {
	if l == BesideLane {
		return SideLane.Slow()
	}
	return max(0, int(l)-1)
}

// Next is the lane for what takes longer than this one has time for.
func (l Lane) Next() Lane { return min(max(l, MainLane)+1, LastLane) }

// of narrows to what is in a lane.
func (l Lane) of(db *gorm.DB) *gorm.DB {
	switch l {
	case AnyLane:
		return db
	case BesideLane:
		return db.Where("slow > 0")
	}
	return db.Where("slow = ?", l.Slow())
}

// LetWait moves what is planned of a message into a lane.
func (s *Journal) LetWait(ctx context.Context, messageID int64, in Lane) error {
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE journal SET slow = ? WHERE message_id = ? AND state = 'planned'", in.Slow(), messageID).Error
	})
}
