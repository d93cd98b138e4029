package store

import (
	"context"
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/safename"
)

// Last is the number of the newest line of the journal, 0 where there is none.
func (s *Journal) Last(ctx context.Context) (last int64, err error) {
	err = s.reading(ctx).Raw("SELECT coalesce(max(id), 0) FROM journal").Scan(&last).Error
	return last, err
}

// KnownFiles are the names of the files in a folder of a cabinet that the register knows, or that
// are being filed at this moment, folded: servers give some names in another Unicode form.
func (s *Register) KnownFiles(ctx context.Context, cabinetID, folder string) (map[string]bool, error) {
	var names []string
	err := s.reading(ctx).Model(
		&Filing{},
	).Where("cabinet_id = ? AND folder = ? AND filed_at IS NOT NULL AND undone_at IS NULL", cabinetID,
		folder).Distinct().Pluck(
		"file",
		&names,
	).Error
	if err != nil {
		return nil, err
	}
	var under []string // they have their names perhaps, and no line yet
	if err := s.reading(ctx).Model(&Entry{}).Where("state = 'staged' AND cabinet_id = ?", cabinetID).Pluck("path",
		&under).Error; err != nil {
		return nil, err
	}
	known := make(map[string]bool, len(names))
	for _, n := range names {
		known[safename.Fold(n)] = true
	}
	for _, full := range under {
		if dir, file := path.Split(full); strings.TrimSuffix(dir, "/") == folder {
			known[safename.Fold(file)] = true
		}
	}
	return known, nil
}

// Paths are the paths at which registers are kept as files in a cabinet.
func (s *RegisterFiles) Paths(ctx context.Context, cabinetID string) (map[string]bool, error) {
	var paths []string
	err := s.reading(ctx).Raw(
		"SELECT y.path FROM register_file_years y JOIN register_files f ON f.id = y.file_id WHERE "+
			"f.cabinet_id = ?",
		cabinetID,
	).Scan(&paths).Error
	own := map[string]bool{}
	for _, p := range paths {
		own[p] = true
	}
	return own, err
}

// Found is a file that was found in a cabinet, with the message that represents it.
type Found struct {
	Message *Message
	Entry   Entry
}

// EnterFound enters files that were found in a cabinet, as a pass of somebody.
func (s *Register) EnterFound(ctx context.Context, by string, found []Found, now time.Time) error {
	at := now.UTC()
	return s.change(ctx, func(tx *gorm.DB) error {
		p := Pass{Kind: "by hand", MadeBy: by, State: Done, Total: len(found), Looked: len(found), Matched: len(found),
			StartedAt: at, EndedAt: &at, Note: fmt.Sprintf("files that were found in the cabinet: %d", len(found))}
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		var uid uint32
		if err := tx.Raw("SELECT coalesce(max(uid), 0) FROM messages WHERE mailbox_id = ''").Scan(&uid).Error; err != nil {
			return err
		}
		for i := range found {
			m, e := found[i].Message, &found[i].Entry
			uid++
			m.UID, m.Fingerprint = uid, []byte("found "+strconv.Itoa(int(uid)))
			if err := tx.Create(m).Error; err != nil {
				return err
			}
			e.MessageID, e.PassID, e.DoneAt = m.ID, p.ID, &at
			if err := tx.Create(e).Error; err != nil {
				return err
			}
			if err := tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) VALUES (?, ?, 1)", p.ID,
				m.ID).Error; err != nil {
				return err
			}
			if err := newDrawing(now).draw(tx, e, nil); err != nil {
				return err
			}
			if err := enter(tx, e, at); err != nil {
				return err
			}
		}
		return note(tx, by, "enter found files", strconv.Itoa(len(found)))
	})
}
