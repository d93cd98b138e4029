package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"gorm.io/gorm"
)

// All lists the registers that are kept as files.
func (s *RegisterFiles) All(ctx context.Context) ([]RegisterFile, error) {
	return list[RegisterFile](s.reading(ctx).Order("name"))
}

// Seen lists those in cabinets that the viewer may see, and about rules that she may see.
func (s *RegisterFiles) Seen(ctx context.Context, v Viewer) ([]RegisterFile, error) {
	db := s.reading(ctx)
	if !v.AllCabinets {
		db = db.Where("cabinet_id IN ?", append([]string{""}, v.Cabinets...))
	}
	rows, err := list[RegisterFile](db.Order("name"))
	if err != nil {
		return nil, err
	}
	rules, err := (&Rules{s.Store}).Seen(ctx, v)
	return slices.DeleteFunc(rows, func(f RegisterFile) bool { return f.RuleID != "" && !among(rules, f.RuleID) }), err
}

// SeenByID finds one of those that the viewer may see.
func (s *RegisterFiles) SeenByID(ctx context.Context, v Viewer, id string) (RegisterFile, error) {
	all, err := s.Seen(ctx, v)
	if at := slices.IndexFunc(all, func(f RegisterFile) bool { return f.ID == id }); at >= 0 && err == nil {
		return all[at], nil
	}
	return RegisterFile{}, cmp.Or(err, ErrNotFound)
}

// ByID finds one.
func (s *RegisterFiles) ByID(ctx context.Context, id string) (RegisterFile, error) {
	return first[RegisterFile](s.reading(ctx).Where("id = ?", id))
}

// Years lists the files of one, by year.
func (s *RegisterFiles) Years(ctx context.Context, id string) ([]RegisterFileYear, error) {
	return list[RegisterFileYear](s.reading(ctx).Where("file_id = ?", id).Order("year"))
}

// Save keeps one; one without an id is new. revision is the one that
// was changed, 0 for whatever is there.
func (s *RegisterFiles) Save(ctx context.Context, f *RegisterFile, revision int, now time.Time, actor string) error {
	fresh := f.ID == ""
	if fresh {
		f.ID, f.MadeAt, f.MadeBy, f.Revision = NewID(), now, actor, 1
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		if fresh {
			if err := tx.Create(f).Error; err != nil {
				return err
			}
			return note(tx, actor, "keep register file", f.Name)
		}
		was, err := first[RegisterFile](tx.Where("id = ?", f.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		f.Revision, f.MadeAt, f.MadeBy, f.LastChange = was.Revision+1, was.MadeAt, was.MadeBy, 0
		// it is another file; what was written stays
		if f.CabinetID != was.CabinetID || f.Folder != was.Folder || f.Name != was.Name || f.Format != was.Format {
			if err := tx.Exec("DELETE FROM register_file_years WHERE file_id = ?", f.ID).Error; err != nil {
				return err
			}
		}
		if err := tx.Save(f).Error; err != nil {
			return err
		}
		return note(tx, actor, "change register file", f.Name)
	})
}

// Remove removes one.
func (s *RegisterFiles) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		f, err := first[RegisterFile](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&f).Error; err != nil {
			return err
		}
		return note(tx, actor, "remove register file", f.Name)
	})
}

// ChangesSince says which years of the register changed after a change, and the
// number of the last one; after change 0, all years. The list of changes may have
// been cut, and the numbers go on all the same.
func (s *RegisterFiles) ChangesSince(ctx context.Context, change int64) (years []int, last int64, err error) {
	if err := s.reading(ctx).Raw("SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = " +
		"'register_changes'), 0)").Scan(&last).Error; err != nil {
		return nil, 0, err
	}
	if change == 0 {
		err = s.reading(ctx).Raw("SELECT DISTINCT year FROM register ORDER BY year").Scan(&years).Error
		return years, last, err
	}
	err = s.reading(ctx).Raw("SELECT DISTINCT year FROM register_changes WHERE id > ? ORDER BY year",
		change).Scan(&years).Error
	return years, last, err
}

// BeginYear records what is about to be put in the place of a year's file.
func (s *RegisterFiles) BeginYear(ctx context.Context, y *RegisterFileYear) error {
	return s.change(ctx, func(tx *gorm.DB) error { return tx.Save(y).Error })
}

// EndYear records that it has its place.
func (s *RegisterFiles) EndYear(ctx context.Context, y *RegisterFileYear, rows int, now time.Time) error {
	at := now.UTC()
	y.SHA256, y.NextSHA256, y.Rows, y.WrittenAt = y.NextSHA256, nil, rows, &at
	return s.change(ctx, func(tx *gorm.DB) error { return tx.Save(y).Error })
}

// WrittenUpTo records up to which change a register file is written, and what is
// wrong with it, if anything.
func (s *RegisterFiles) WrittenUpTo(ctx context.Context, f *RegisterFile) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(f).Select("last_change", "problem", "advice").Updates(f).Error
	})
}
