package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/register"
)

// repeat is the first file of a rule with a value.
type repeat struct {
	RuleID    string `gorm:"primaryKey"`
	Name      string `gorm:"primaryKey"`
	Sum       []byte `gorm:"primaryKey"`
	MessageID int64
	JournalID int64
	Content   []byte
}

// EarlierWith finds the item of another message under the same rule that had a value first. It is nil where there is
// none, where it was left, set aside or taken back, for then the entry is the first from now on, and where that message
// had the same content: content is the SHA-256 of the entry's, nil where it was not read.
func (s *Journal) EarlierWith(ctx context.Context, e *Entry, name, text string, content []byte) (earlier *Entry,
	err error) {
	sum := sha256.Sum256([]byte(register.Fold(text)))
	err = s.change(ctx, func(tx *gorm.DB) error {
		earlier = nil
		mine := repeat{RuleID: e.RuleID, Name: name, Sum: sum[:], MessageID: e.MessageID, JournalID: e.ID,
			Content: content}
		one, err := first[repeat](tx.Where("rule_id = ? AND name = ? AND sum = ?", e.RuleID, name, sum[:]))
		switch {
		case errors.Is(err, ErrNotFound):
			return tx.Create(&mine).Error
		case err != nil:
			return err
		case one.MessageID == e.MessageID:
			if one.JournalID == e.ID && content != nil {
				return tx.Save(&mine).Error
			}
			return nil
		}
		other, err := first[Entry](tx.Where("id = ?", one.JournalID))
		switch {
		case err != nil && !errors.Is(err, ErrNotFound):
			return err
		case err != nil || other.State == LeftOut || other.State == SetAside || other.Undo == Undone:
			return tx.Save(&mine).Error
		}
		same := content != nil && bytes.Equal(one.Content, content) // it may not be in the journal yet
		if !same && content != nil {
			same, err = there(tx.Model(&Entry{}).Where("message_id = ? AND sha256 = ?", one.MessageID, content))
		}
		if err == nil && !same {
			earlier = &other
		}
		return err
	})
	return earlier, err
}
