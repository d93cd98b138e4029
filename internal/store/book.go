package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/correspondent"
)

// Correspondent is a person or firm that the office exchanges mail with.
type Correspondent struct {
	ID            string `gorm:"primaryKey"`
	Name          string
	Addresses     []string `gorm:"serializer:json"`
	Domains       []string `gorm:"serializer:json"`
	Groups        []string `gorm:"serializer:json"`
	Passwords     []byte   // of archives, sealed
	PasswordCount int
	Revision      int
	MadeAt        time.Time
}

// LookupTable is a table in which patterns look something up.
type LookupTable struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Rows     [][2]string `gorm:"serializer:json"` // what is looked up, and what replaces it
	Revision int
	MadeAt   time.Time
}

// All lists the book.
func (s *Book) All(ctx context.Context) ([]Correspondent, error) {
	return list[Correspondent](s.reading(ctx).Order("name"))
}

// ByID finds one.
func (s *Book) ByID(ctx context.Context, id string) (Correspondent, error) {
	return first[Correspondent](s.reading(ctx).Where("id = ?", id))
}

// ArchivePasswords opens the passwords of the archives that somebody sends.
func (s *Book) ArchivePasswords(c *Correspondent) ([]string, error) {
	if c.PasswordCount == 0 {
		return nil, nil
	}
	plain, err := s.unseal(c.Passwords, "correspondent "+c.ID)
	if err != nil {
		return nil, err
	}
	var passwords []string
	err = json.Unmarshal([]byte(plain), &passwords)
	return passwords, err
}

// Save keeps somebody; one without an id is new. revision is the
// one that was changed, 0 for whatever is there. nil passwords keep those that
// are there.
func (s *Book) Save(ctx context.Context, c *Correspondent, passwords []string, revision int, now time.Time,
	actor string) error {
	fresh := c.ID == ""
	if fresh {
		c.ID, c.MadeAt = NewID(), now
	}
	if passwords != nil {
		data, err := json.Marshal(passwords)
		if err != nil {
			return err
		}
		if c.Passwords, err = s.seal(string(data), "correspondent "+c.ID); err != nil {
			return err
		}
		c.PasswordCount = len(passwords)
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if fresh {
			c.Revision = 1
			if err := tx.Create(c).Error; err != nil {
				return err
			}
			return note(tx, actor, "add correspondent", c.Name)
		}
		was, err := first[Correspondent](tx.Where("id = ?", c.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		c.Revision, c.MadeAt = was.Revision+1, was.MadeAt
		if passwords == nil {
			c.Passwords, c.PasswordCount = was.Passwords, was.PasswordCount
		}
		if err := tx.Save(c).Error; err != nil {
			return err
		}
		return note(tx, actor, "change correspondent", c.Name)
	})
}

// Remove forgets somebody.
func (s *Book) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		c, err := first[Correspondent](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&c).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove correspondent", c.Name)
	})
}

// Tables lists the tables.
func (s *Book) Tables(ctx context.Context) ([]LookupTable, error) {
	return list[LookupTable](s.reading(ctx).Order("name"))
}

// TableByID finds one.
func (s *Book) TableByID(ctx context.Context, id string) (LookupTable, error) {
	return first[LookupTable](s.reading(ctx).Where("id = ?", id))
}

// SaveTable keeps a table; one without an id is new. revision is the one
// that was changed, 0 for whatever is there.
func (s *Book) SaveTable(ctx context.Context, t *LookupTable, revision int, now time.Time, actor string) error {
	fresh := t.ID == ""
	if fresh {
		t.ID, t.MadeAt, t.Revision = NewID(), now, 1
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if fresh {
			if err := tx.Create(t).Error; err != nil {
				return err
			}
			return note(tx, actor, "add table", t.Name)
		}
		was, err := first[LookupTable](tx.Where("id = ?", t.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		t.Revision, t.MadeAt = was.Revision+1, was.MadeAt
		if err := tx.Save(t).Error; err != nil {
			return err
		}
		return note(tx, actor, "change table", t.Name)
	})
}

// RemoveTable forgets a table.
func (s *Book) RemoveTable(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		t, err := first[LookupTable](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove table", t.Name)
	})
}

// Entry is the correspondent as rules see it.
func (c *Correspondent) Entry() correspondent.Correspondent {
	return correspondent.Correspondent{Name: c.Name, Addresses: c.Addresses, Domains: c.Domains, Groups: c.Groups}
}
