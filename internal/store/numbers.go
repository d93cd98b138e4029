package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/source"
)

type numbering struct {
	MailboxID   string `gorm:"primaryKey"`
	Folder      string `gorm:"primaryKey"`
	UIDValidity uint32
	UIDNext     uint32
}

type numbered struct {
	MailboxID string `gorm:"primaryKey"`
	Folder    string `gorm:"primaryKey"`
	Name      string `gorm:"primaryKey"`
	UID       uint32
}

func (numbering) TableName() string { return "numberings" }
func (numbered) TableName() string  { return "numbers" }

// numbers are those of one mailbox.
type numbers struct {
	store   *Store
	mailbox string
}

// NumbersOf keeps the numbers of a mailbox whose messages have none of their own.
func (s *Mailboxes) NumbersOf(mailboxID string) source.Numbers { return numbers{s.Store, mailboxID} }

// numberingOf finds a folder's numbering, making it the first time.
func (n numbers) numberingOf(db *gorm.DB, folder string) (numbering, error) {
	found, err := first[numbering](db.Where("mailbox_id = ? AND folder = ?", n.mailbox, folder))
	if errors.Is(err, ErrNotFound) {
		found = numbering{MailboxID: n.mailbox, Folder: folder, UIDValidity: uint32(time.Now().Unix()), UIDNext: 1}
		err = db.Create(&found).Error
	}
	return found, err
}

// Numbering reads the numbers of a folder.
func (n numbers) Numbering(ctx context.Context, folder string) (source.Numbering, error) {
	out := source.Numbering{UIDs: map[string]uint32{}}
	head, err := first[numbering](n.store.reading(ctx).Where("mailbox_id = ? AND folder = ?", n.mailbox, folder))
	if errors.Is(err, ErrNotFound) {
		err = n.store.change(ctx, func(tx *gorm.DB) (err error) {
			head, err = n.numberingOf(tx, folder)
			return err
		})
	}
	if err != nil {
		return out, err
	}
	out.UIDValidity, out.UIDNext = head.UIDValidity, head.UIDNext
	rows, err := n.store.reading(ctx).Model(&numbered{}).Select("name, uid").Where(
		"mailbox_id = ? AND folder = ?",
		n.mailbox,
		folder,
	).Rows()
	if err != nil {
		return out, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var uid uint32
		if err := rows.Scan(&name, &uid); err != nil {
			return out, err
		}
		out.UIDs[name] = uid
		out.UIDNext = max(out.UIDNext, uid+1) // what came between the two readings
	}
	return out, rows.Err()
}

// Number gives names the next numbers.
func (n numbers) Number(ctx context.Context, folder string, names []string) (map[string]uint32, error) {
	given := map[string]uint32{}
	err := n.store.change(ctx, func(tx *gorm.DB) error {
		head, err := n.numberingOf(tx, folder)
		if err != nil {
			return err
		}
		clear(given)
		for some := names; len(some) > 0; {
			part := some[:min(500, len(some))]
			some = some[len(part):]
			known, err := list[numbered](tx.Where("mailbox_id = ? AND folder = ? AND name IN ?", n.mailbox, folder, part))
			if err != nil {
				return err
			}
			for _, k := range known {
				given[k.Name] = k.UID
			}
			var fresh []numbered
			for _, name := range part {
				if given[name] == 0 {
					given[name] = head.UIDNext
					fresh = append(fresh, numbered{n.mailbox, folder, name, head.UIDNext})
					head.UIDNext++
				}
			}
			if len(fresh) > 0 {
				if err := tx.Create(&fresh).Error; err != nil {
					return err
				}
			}
		}
		return tx.Model(&numbering{}).Where("mailbox_id = ? AND folder = ?", n.mailbox, folder).Update("uid_next",
			head.UIDNext).Error
	})
	return given, err
}
