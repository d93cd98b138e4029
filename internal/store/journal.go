package store

import (
	"cmp"
	"context"
	"errors"
	"path"
	"strconv"
	"time"
	"unicode"

	"gorm.io/gorm"
)

// ByID finds a line of the journal that the viewer may see.
func (s *Journal) ByID(ctx context.Context, v Viewer, id int64) (Entry, error) {
	return first[Entry](v.seesFiled(s.reading(ctx)).Where("id = ?", id))
}

// OfMessage lists a message's lines, by rule and item.
func (s *Journal) OfMessage(ctx context.Context, v Viewer, messageID int64) ([]Entry, error) {
	return list[Entry](v.seesFiled(s.reading(ctx)).Where("message_id = ?", messageID).Order("id"))
}

// ItemOf names an item of a message.
type ItemOf struct {
	MessageID int64
	Item      string
}

// DecidedBy lists what rules decided for the items of messages, earlier rounds first.
func (s *Journal) DecidedBy(ctx context.Context, rules []string, messages []int64) ([]Entry, error) {
	return list[Entry](s.reading(ctx).Where("message_id IN ? AND rule_id IN ?", messages, rules).Order("round"))
}

// FiledCopy is an item that a rule filed, or found filed, of a message with a fingerprint.
type FiledCopy struct {
	Fingerprint        []byte
	Likeness           []byte
	RuleID, Item, Path string
	Size               int64
	SHA256             []byte `gorm:"column:sha256"`
	Filed              bool   // by this rule, and not taken back
}

// FiledCopies lists what was filed of messages with some fingerprints or likenesses, at whatever place.
func (s *Journal) FiledCopies(ctx context.Context, prints [][]byte) ([]FiledCopy, error) {
	var found []FiledCopy
	err := s.reading(ctx).Model(&Entry{}).Joins("JOIN messages ON messages.id = journal.message_id").
		Where("messages.id IN (SELECT id FROM messages WHERE fingerprint IN ? UNION SELECT id FROM messages WHERE "+
			"likeness IN ?) AND journal.sha256 IS NOT NULL AND journal.state IN ('filed', 'staged', 'already there')",
			prints, prints).
		Select("messages.fingerprint, messages.likeness, journal.rule_id, journal.item, journal.path, journal.size, " +
			"journal.sha256, journal.state <> 'already there' AND journal.round = 0 AND journal.undo <> 'done' AS filed").
		Scan(&found).Error
	return found, explain(err)
}

// ByIDs finds several messages that the viewer may see.
func (s *Messages) ByIDs(ctx context.Context, v Viewer, ids []int64) (map[int64]*Message, error) {
	rows, err := list[Message](v.sees(s.reading(ctx), "mailbox_id").Where("id IN ?", ids))
	found := make(map[int64]*Message, len(rows))
	for i := range rows {
		found[rows[i].ID] = &rows[i]
	}
	return found, err
}

// Recent lists what was decided last, for the page that shows mail as it arrives.
func (s *Journal) Recent(ctx context.Context, v Viewer, most int) ([]Entry, error) {
	return list[Entry](v.seesFiled(s.reading(ctx)).Where("state <> 'planned' AND state <> 'staged'").
		Order("id DESC").Limit(most))
}

// Due lists what a mailbox has to file now. What belongs to the passes named is
// left to them.
func (s *Journal) Due(ctx context.Context, mailboxID string, now time.Time, but []int64, lane Lane,
	most int) ([]Entry, error) {
	return list[Entry](
		lane.of(s.reading(ctx)).Where("mailbox_id = ? AND state = 'planned' AND spooled = '' AND (next_at IS "+
			"NULL OR next_at <= ?) AND pass_id NOT IN ?", mailboxID, now, append(but, -1)).Order("id").Limit(most),
	)
}

// DueOfPass lists what a pass planned in a mailbox and what is to be filed now, earlier messages first.
func (s *Journal) DueOfPass(ctx context.Context, mailboxID string, pass int64, now time.Time, most int) ([]Entry,
	error) {
	return list[Entry](s.reading(ctx).Where("mailbox_id = ? AND state = 'planned' AND spooled = '' AND (next_at IS NULL "+
		"OR next_at <= ?) AND pass_id = ?", mailboxID, now, pass).Order("id").Limit(most))
}

// NextDue is when a mailbox has something to file next; ok is false where
// nothing waits. The zero time is at once.
func (s *Journal) NextDue(ctx context.Context, mailboxID string, but []int64,
	lane Lane) (at time.Time, ok bool, err error) {
	e, err := first[Entry](
		lane.of(s.reading(ctx)).Where("mailbox_id = ? AND state = 'planned' AND spooled = '' AND pass_id NOT "+
			"IN ?", mailboxID, append(but, -1)).Order("next_at IS NOT NULL, next_at").Limit(1),
	)
	if errors.Is(err, ErrNotFound) {
		return at, false, nil
	}
	if e.NextAt != nil {
		at = *e.NextAt
	}
	return at, err == nil, err
}

// EndLive closes live passes that a crash left open.
func (s *Passes) EndLive(ctx context.Context, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE passes SET state = 'done', ended_at = ? WHERE kind = 'live' AND state = 'running'",
			now.UTC()).Error
	})
}

// Staged lists what was staged and not confirmed as filed.
func (s *Journal) Staged(ctx context.Context, cabinetID string) ([]Entry, error) {
	return list[Entry](s.reading(ctx).Where("cabinet_id = ? AND state = 'staged'", cabinetID).Order("id"))
}

// FiledBefore finds an earlier filing of the same rule, item and content from the same message.
func (s *Journal) FiledBefore(ctx context.Context, e *Entry, m *Message, sha256 []byte) (Entry, bool, error) {
	// CROSS JOIN makes SQLite begin with the few messages that are the same, and not with all entries of the rule.
	found, err := first[Entry](s.reading(ctx).Raw(`SELECT journal.* FROM (`+sameMessages+`) AS same CROSS JOIN journal
		ON journal.rule_id = ? AND journal.message_id = same.id AND journal.item = ? AND journal.round = ?
		WHERE journal.sha256 = ? AND journal.state IN ('filed', 'staged') AND journal.id <> ?
		LIMIT 1`, append(m.same(), e.RuleID, e.Item, e.Round, sha256, e.ID)...))
	if errors.Is(err, ErrNotFound) {
		return found, false, nil
	}
	return found, err == nil, err
}

// Draw gives an entry its register number, once: a later call keeps it. The year is that of the drawing, in the zone of
// now. of is the entry's message; nil reads it.
func (s *Journal) Draw(ctx context.Context, e *Entry, of *Message, now time.Time) error {
	drawn := *e
	return kept(e, &drawn, s.change(ctx, func(tx *gorm.DB) error {
		if err := newDrawing(now).draw(tx, &drawn, of); err != nil {
			return err
		}
		return tx.Model(&drawn).Select("register_year", "register_number").Updates(&drawn).Error
	}))
}

// Stage records that the content of a planned entry is staged and which exact name it will get. It returns ErrChanged
// where the entry is no longer planned, because its rule was switched off. of is the entry's message; nil reads it.
func (s *Journal) Stage(ctx context.Context, e *Entry, of *Message, now time.Time) error {
	staged := *e
	staged.State = Staged
	return kept(e, &staged, s.change(ctx, func(tx *gorm.DB) error { return stage(tx, &staged, of, newDrawing(now)) }))
}

// kept copies an entry that was recorded into e. Where recording failed, e stays unchanged, so that the caller does not
// go on with a state that the records do not have.
func kept(e, as *Entry, err error) error {
	if err == nil {
		*e = *as
	}
	return err
}

// Rename records another exact name for what is staged, before it is tried.
func (s *Journal) Rename(ctx context.Context, e *Entry) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(e).Select("path", "reason", "displaced", "made").Updates(e).Error
	})
}

// File records that the file has its name, and enters it in the register.
func (s *Journal) File(ctx context.Context, entry *Entry, now time.Time) error {
	filed := *entry
	err := early(ctx, s.Store, func(tx *gorm.DB) error { return file(tx, &filed, now.UTC()) })
	if err == nil {
		s.counters.wasFiled(&filed)
	}
	return kept(entry, &filed, err)
}

// file records that an entry is filed, and enters it in the register in the same commit.
func file(tx *gorm.DB, e *Entry, done time.Time) error {
	e.State, e.DoneAt, e.NextAt, e.Spooled = Filed, &done, nil, ""
	if err := tx.Model(e).Select("state", "done_at", "next_at", "reason", "spooled").Updates(e).Error; err != nil {
		return err
	}
	folder := path.Dir(e.Path)
	if folder == "." {
		folder = ""
	}
	if e.Displaced != "" {
		err := tx.Exec("UPDATE register SET replaced_by = ?, kept_as = ?, kept_at = ? WHERE cabinet_id = ? AND folder = ? "+
			"AND file = ? AND filed_at IS NOT NULL AND replaced_by = '' AND undone_at IS NULL AND journal_id <> ?",
			strconv.Itoa(e.RegisterYear)+"-"+strconv.Itoa(e.RegisterNumber), e.Displaced, done, e.CabinetID, folder,
			path.Base(e.Path), e.ID).Error
		if err != nil {
			return err
		}
	}
	return enter(tx, e, done) // in the same commit
}

// FoundThere records that a file with the same content had the name already, and enters the
// message in the register all the same: a search for it finds the file.
func (s *Journal) FoundThere(ctx context.Context, entry *Entry, of *Message, now time.Time) error {
	done, there := now.UTC(), *entry
	e := &there
	e.State, e.DoneAt, e.NextAt, e.Cause, e.Topic, e.Spooled, e.Made = There, &done, nil, "", "", "", ""
	return kept(entry, e, s.change(ctx, func(tx *gorm.DB) error {
		if err := newDrawing(now).draw(tx, e, of); err != nil {
			return err
		}
		if err := tx.Model(e).Select("state", "done_at", "next_at", "reason", "cause", "topic", "size", "sha256",
			"path", "attempts", "spooled", "made", "register_year", "register_number").Updates(e).Error; err != nil {
			return err
		}
		return enter(tx, e, done)
	}))
}

// enter enters what an entry filed in the register.
func enter(tx *gorm.DB, e *Entry, done time.Time) error {
	folder := path.Dir(e.Path)
	if folder == "." {
		folder = ""
	}
	return tx.Exec("UPDATE register SET filed_at = ?, folder = ?, file = ?, size = ?, sha256 = ? WHERE journal_id = ?",
		done, folder, path.Base(e.Path), e.Size, e.SHA256, e.ID).Error
}

// Finish records a verdict other than filed. A number that was drawn becomes void.
func (s *Journal) Finish(ctx context.Context, e *Entry, now time.Time) error {
	done := now.UTC()
	e.DoneAt, e.NextAt, e.Spooled = &done, nil, ""
	if e.State == Held || e.State == Failed {
		e.Cause = cmp.Or(e.Reason.Cause(), CauseOther)
	} else {
		e.Cause, e.Topic = "", ""
	}
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		if err := tx.Model(e).Select("state", "done_at", "next_at", "reason", "cause", "topic", "size", "sha256",
			"path", "attempts", "spooled").Updates(e).Error; err != nil {
			return err
		}
		if e.RegisterNumber == 0 || e.State == Failed || e.State == Held {
			return nil // it may still be filed
		}
		return tx.Exec("UPDATE register SET void = ? WHERE journal_id = ? AND filed_at IS NULL", e.Reason.String(),
			e.ID).Error
	})
}

// Postpone records that an item is tried again later.
func (s *Journal) Postpone(ctx context.Context, e *Entry) error {
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		return tx.Model(e).Select("state", "attempts", "next_at", "reason").Updates(e).Error
	})
}

// Hasten lets what waits for a cabinet be filed now.
func (s *Journal) Hasten(ctx context.Context, cabinetID string) error {
	return early(ctx, s.Store, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE journal SET next_at = NULL WHERE cabinet_id = ? AND state = 'planned' AND attempts = 0",
			cabinetID).Error
	})
}

// Entries lists the items that wait for a person, the newest first.
func (s *Tray) Entries(ctx context.Context, v Viewer, before int64, most int) ([]Entry, error) {
	db := v.seesFiled(s.reading(ctx)).Where("state IN ('held', 'failed')")
	if before > 0 {
		db = db.Where("id < ?", before)
	}
	return list[Entry](db.Order("id DESC").Limit(most))
}

// Replan records the plan of an item that is tried again.
func (s *Journal) Replan(ctx context.Context, e *Entry) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(e).Select("rule_revision", "cabinet_id", "wanted").Updates(e).Error
	})
}

// At finds what the register knows of the file that has a path.
func (s *Register) At(ctx context.Context, cabinetID, folder, file string) (Filing, error) {
	return first[Filing](
		s.reading(ctx).Where("cabinet_id = ? AND folder = ? AND file = ? AND filed_at IS NOT NULL AND "+
			"replaced_by = '' AND undone_at IS NULL", cabinetID, folder, file).Order("year DESC, number DESC").Limit(1),
	)
}

// Series are the files of a folder whose names begin in the same way, as far as the register knows them to be there
// unchanged: their checksums (SHA-256), by name. "." is the cabinet itself.
func (s *Register) Series(ctx context.Context, cabinetID, folder, begins string) (map[string]string, error) {
	if folder == "." {
		folder = ""
	}
	var lines []struct {
		File   string
		SHA256 []byte `gorm:"column:sha256"`
	}
	// From name to name in the index: a name may have many lines, as the same content may have been sent many times.
	err := s.reading(ctx).Raw("WITH RECURSIVE names (file) AS (SELECT min(file) FROM register WHERE cabinet_id = "+
		"@cabinet AND folder = @folder AND file >= @from AND file < @to UNION ALL SELECT (SELECT min(file) FROM register "+
		"WHERE cabinet_id = @cabinet AND folder = @folder AND file > names.file AND file < @to) FROM names WHERE "+
		"names.file IS NOT NULL) SELECT file, (SELECT sha256 FROM register AS line WHERE cabinet_id = @cabinet AND "+
		"folder = @folder AND line.file = names.file AND filed_at IS NOT NULL AND replaced_by = '' AND undone_at IS NULL "+
		"AND check_state = '' LIMIT 1) AS sha256 FROM names WHERE file IS NOT NULL",
		map[string]any{"cabinet": cabinetID, "folder": folder,
			"from": begins, "to": begins + string(unicode.MaxRune)}).Scan(&lines).Error
	sums := make(map[string]string, len(lines))
	for i := range lines {
		if lines[i].SHA256 != nil {
			sums[lines[i].File] = string(lines[i].SHA256)
		}
	}
	return sums, err
}

// Add inserts one more item of a message into the journal; an existing entry is not changed.
func (s *Journal) Add(ctx context.Context, e *Entry) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		err := tx.Create(e).Error
		if errors.Is(err, gorm.ErrDuplicatedKey) {
			*e, err = first[Entry](tx.Where("rule_id = ? AND message_id = ? AND item = ? AND round = ?", e.RuleID, e.MessageID,
				e.Item, e.Round))
		}
		return err
	})
}

// ByNumber finds one line of the register.
func (s *Register) ByNumber(ctx context.Context, v Viewer, year, number int) (Filing, error) {
	return first[Filing](v.seesFiled(s.reading(ctx)).Where("year = ? AND number = ?", year, number))
}

// Delays lists how long it took from the server's announcement to the filing,
// for the last filings that were announced.
func (s *Journal) Delays(ctx context.Context, v Viewer, most int) ([]time.Duration, error) {
	entries, err := list[Entry](v.seesFiled(s.reading(ctx)).Where("state = 'filed' AND announced_at IS NOT NULL").
		Order("id DESC").Limit(most))
	var delays []time.Duration
	for _, e := range entries {
		delays = append(delays, e.DoneAt.Sub(*e.AnnouncedAt))
	}
	return delays, err
}
