package store

import "gorm.io/gorm"

// Lane says who works on a message or an item: the mailbox's own watcher, or a second one beside it, on what takes
// long.
type Lane int

// The lanes.
const (
	AnyLane Lane = iota
	MainLane
	SideLane
)

// of narrows to what is in a lane.
func (l Lane) of(db *gorm.DB) *gorm.DB {
	switch l {
	case MainLane:
		return db.Where("slow = 0")
	case SideLane:
		return db.Where("slow = 1")
	}
	return db
}

// LetWait moves what is planned of a message into the side lane.
func (s *Store) LetWait(messageID int64) error {
	return s.change(func(tx *gorm.DB) error {
		return tx.Exec("UPDATE journal SET slow = 1 WHERE message_id = ? AND state = 'planned'", messageID).Error
	})
}
