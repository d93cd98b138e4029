package store

import (
	"context"
	"encoding/json"
	"errors"
	"path"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/reason"
)

// restoredSetting holds what is known of the backup from which the records were restored.
const restoredSetting = "restored"

// numbersFrom begins the settings that say from which register number on new numbers of a year are drawn.
const numbersFrom = "numbers from "

// Restoring is how far a restored service has compared itself with its mailboxes and cabinets.
type Restoring struct {
	MadeAt     time.Time `json:"made_at"`     // when the backup was made
	RestoredAt time.Time `json:"restored_at"` // when it was put back
	LastEntry  int64     `json:"last_entry"`  // the journal's newest line in it
	// LastFollowUp is the newest follow-up in it.
	LastFollowUp int64      `json:"last_follow_up"`
	Compared     []string   `json:"compared"`   // the cabinets that were looked through, by id
	Looked       []string   `json:"looked"`     // the mailboxes that were looked through, by id
	Missing      int        `json:"missing"`    // files of the register that are not where they were filed
	Examples     []string   `json:"examples"`   // some of these, as cabinet and path
	TakenBack    int        `json:"taken_back"` // filings that had been taken back after the backup
	Unknown      int        `json:"unknown"`    // files without a line that were left at the end
	EndedAt      *time.Time `json:"ended_at"`
	By           string     `json:"by"` // who ended it; "" for the service
}

// Done says whether the comparison is over.
func (r *Restoring) Done() bool { return r.EndedAt != nil }

// RestoredFile is a file of a cabinet that the restored records do not know.
type RestoredFile struct {
	ID        int64 `gorm:"primaryKey"`
	CabinetID string
	Path      string     // in the cabinet; of a file that is kept out of the way, its name there
	Kept      bool       // it was replaced or taken back
	Known     bool       // the records know a file of this name, but perhaps with another content
	Size      int64      // in octets; -1 where only reading it tells
	Modified  *time.Time // nil where the place does not say
	SHA256    []byte     `gorm:"column:sha256"` // nil until it was read
	JournalID int64      // the entry that was recognised in it; 0 for none
}

// Restored reads how far the comparison after a restoring is. ok is false where the records were never restored.
func (s *Restored) Restored(ctx context.Context) (r Restoring, ok bool, err error) {
	text, err := s.Settings.Get(ctx, restoredSetting)
	if err != nil || text == "" {
		return r, false, err
	}
	err = json.Unmarshal([]byte(text), &r)
	if err == nil {
		kept := r
		s.restored.Store(&kept)
	}
	return r, true, err
}

// Active says whether the comparison goes on, as it was when Restored was called last.
func (s *Restored) Active() bool {
	r := s.restored.Load()
	return r != nil && !r.Done()
}

// Begin notes that these records came out of a backup, which was made at a moment. Register numbers go on after a gap,
// since those that were given after the backup are known to people.
func (s *Restored) Begin(ctx context.Context, made, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		r := Restoring{MadeAt: made.UTC(), RestoredAt: now.UTC(), Compared: []string{}, Looked: []string{},
			Examples: []string{}}
		if err := tx.Raw("SELECT coalesce(max(id), 0) FROM journal").Scan(&r.LastEntry).Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT coalesce(max(id), 0) FROM follow_ups").Scan(&r.LastFollowUp).Error; err != nil {
			return err
		}
		if err := exec(tx, statement{sql: "DELETE FROM restored_files"}); err != nil {
			return err
		}
		if err := perhapsSent(tx, &r); err != nil {
			return err
		}
		if err := note(tx, "inktray restore", "restore", made.UTC().Format(time.RFC3339)); err != nil {
			return err
		}
		return saveRestoring(tx, &r)
	})
}

// perhapsSent lets nothing be sent that waited when the backup was made: nobody can say whether it was sent since.
// Calls are made again, always as the same event.
func perhapsSent(tx *gorm.DB, r *Restoring) error {
	why := reason.PerhapsDoneBeforeRestoring(r.MadeAt.Format("2006-01-02 15:04 MST"))
	return forEach(tx.Where("kind = 'mail' AND state IN ('waiting', 'begun')"), func(p *Post) error {
		p.Reason, p.Cause, p.DoneAt, p.NextAt = why, why.Cause(), &r.RestoredAt, nil
		for _, p.State = range []FollowState{Begun, Unsure} { // as if the program had ended while it was sent
			if err := tx.Model(p).Select("state", "cause", "reason", "next_at", "done_at").Updates(p).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

func saveRestoring(tx *gorm.DB, r *Restoring) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return setValue(tx, restoredSetting, string(text))
}

func setValue(tx *gorm.DB, key, value string) error {
	return tx.Exec("INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = "+
		"excluded.value", key, value).Error
}

// Update changes how far the comparison is.
func (s *Restored) Update(ctx context.Context, f func(r *Restoring)) error {
	return s.update(ctx, func(_ *gorm.DB, r *Restoring) error {
		f(r)
		return nil
	})
}

// update changes how far the comparison is, with what belongs to it, in one commit.
func (s *Restored) update(ctx context.Context, f func(tx *gorm.DB, r *Restoring) error) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		var text string
		if err := tx.Raw("SELECT value FROM settings WHERE key = ?", restoredSetting).Scan(&text).Error; err != nil {
			return err
		}
		if text == "" {
			return ErrNotFound
		}
		var r Restoring
		if err := json.Unmarshal([]byte(text), &r); err != nil {
			return err
		}
		if err := f(tx, &r); err != nil {
			return err
		}
		return saveRestoring(tx, &r)
	})
}

// LookedThrough notes that a mailbox was looked through.
func (s *Restored) LookedThrough(ctx context.Context, mailboxID string) error {
	return s.Update(ctx, func(r *Restoring) {
		if !slices.Contains(r.Looked, mailboxID) {
			r.Looked = append(r.Looked, mailboxID)
		}
	})
}

// Add keeps files of a cabinet that the records do not know. Those that were kept before stay as they are.
func (s *Restored) Add(ctx context.Context, files []RestoredFile) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		for _, f := range files {
			err := tx.Exec("INSERT INTO restored_files (cabinet_id, path, kept, known, size, modified) VALUES (?, ?, ?, ?, "+
				"?, ?) ON CONFLICT DO NOTHING", f.CabinetID, f.Path, f.Kept, f.Known, f.Size, f.Modified).Error
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Missing are files of the register that are not where they were filed: how many, and some of them.
type Missing struct {
	count int
	some  []string
}

const mostExamples = 100

// Add counts one more.
func (m *Missing) Add(name string) {
	if m.count++; len(m.some) < mostExamples {
		m.some = append(m.some, name)
	}
}

// Compare notes that a cabinet was looked through. Numbers of the register go on after as many more as files were found
// in it, and at least a hundred more.
func (s *Restored) Compare(ctx context.Context, cabinetID string, missing Missing, now time.Time) error {
	return s.update(ctx, func(tx *gorm.DB, r *Restoring) error {
		if slices.Contains(r.Compared, cabinetID) {
			return nil
		}
		r.Compared = append(r.Compared, cabinetID)
		r.Missing += missing.count
		r.Examples = append(r.Examples, missing.some...)
		r.Examples = r.Examples[:min(len(r.Examples), mostExamples)]
		var files int
		if err := tx.Raw("SELECT count(*) FROM restored_files").Scan(&files).Error; err != nil {
			return err
		}
		for _, year := range slices.Compact([]int{r.MadeAt.In(now.Location()).Year(), now.Year()}) {
			var last int
			if err := tx.Raw("SELECT coalesce(max(number), 0) FROM register WHERE year = ?",
				year).Scan(&last).Error; err != nil {
				return err
			}
			from := (last+files)/100*100 + 201 // at least a hundred are left out
			key := numbersFrom + strconv.Itoa(year)
			var was int
			if err := tx.Raw("SELECT coalesce((SELECT CAST(value AS INTEGER) FROM settings WHERE key = ?), 0)",
				key).Scan(&was).Error; err != nil {
				return err
			}
			if last >= was && was > 0 { // numbers were drawn since the first cabinet was looked through
				continue
			}
			if err := setValue(tx, key, strconv.Itoa(max(was, from))); err != nil {
				return err
			}
		}
		return nil
	})
}

// nextNumber is the register number of a year that is drawn next.
func nextNumber(tx *gorm.DB, year int) (number int, err error) {
	err = tx.Raw("SELECT max(coalesce((SELECT max(number) FROM register WHERE year = ?), 0) + 1, "+
		"coalesce((SELECT CAST(value AS INTEGER) FROM settings WHERE key = ?), 0))", year,
		numbersFrom+strconv.Itoa(year)).Scan(&number).Error
	return number, err
}

// Candidates lists the files of a cabinet in which an entry could be recognised: those of its size and content, or
// whose content was not read yet, and that are no other entry's. Files whose size is not known are among them.
func (s *Restored) Candidates(ctx context.Context, cabinetID string, size int64, sha256 []byte) ([]RestoredFile,
	error) {
	return list[RestoredFile](s.reading(ctx).Where("cabinet_id = ? AND size IN (?, -1) AND journal_id = 0 AND "+
		"(sha256 IS NULL OR sha256 = ?)", cabinetID, size, sha256).Order("kept, id"))
}

// KeptAs finds a file that is kept out of the way by its content; ErrNotFound where none is.
func (s *Restored) KeptAs(ctx context.Context, cabinetID string, sha256 []byte) (RestoredFile, error) {
	return first[RestoredFile](s.reading(ctx).Where("cabinet_id = ? AND kept AND sha256 = ?", cabinetID,
		sha256).Order("id").Limit(1))
}

// KeptUnread lists the files that are kept out of the way and whose checksum is not known yet.
func (s *Restored) KeptUnread(ctx context.Context, cabinetID string) ([]RestoredFile, error) {
	return list[RestoredFile](s.reading(ctx).Where("cabinet_id = ? AND kept AND sha256 IS NULL", cabinetID).Order("id"))
}

// Measured keeps size and checksum of a file. One that is gone is forgotten.
func (s *Restored) Measured(ctx context.Context, f *RestoredFile, gone bool) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if gone {
			return tx.Exec("DELETE FROM restored_files WHERE id = ?", f.ID).Error
		}
		return tx.Exec("UPDATE restored_files SET size = ?, sha256 = ? WHERE id = ?", f.Size, f.SHA256, f.ID).Error
	})
}

// Recognition is what an entry was recognised in.
type Recognition struct {
	File *RestoredFile
	// Year and Number are the register number that the file's name shows; 0 where it shows none.
	Year, Number int
	// Later is the filing that replaced it; nil where it has its name.
	Later *Filing
}

// Recognise records that an entry was filed after the backup was made, and enters it in the register. of is the entry's
// message.
func (s *Restored) Recognise(ctx context.Context, e *Entry, of *Message, as *Recognition, now time.Time) error {
	filed := *e
	filed.State = Staged
	return kept(e, &filed, s.change(ctx, func(tx *gorm.DB) error {
		n := newDrawing(now)
		if as.Number > 0 {
			var taken int64
			if err := tx.Model(&Filing{}).Where("year = ? AND number = ?", as.Year,
				as.Number).Count(&taken).Error; err != nil {
				return err
			}
			if taken == 0 {
				n.year, n.fixed = as.Year, as.Number
			}
		}
		if err := stage(tx, &filed, of, n); err != nil {
			return err
		}
		if err := file(tx, &filed, now.UTC()); err != nil {
			return err
		}
		if err := exec(tx, statement{"UPDATE restored_files SET journal_id = ? WHERE id = ?",
			[]any{filed.ID, as.File.ID}}); err != nil {
			return err
		}
		if as.Later == nil {
			return nil
		}
		return replacedBetween(tx, &filed, as, of.ReceivedAt, now.UTC())
	}))
}

// mostReplaced bounds how many files that had one name are looked through.
const mostReplaced = 10_000

// replacedBetween enters that a file was replaced, in the order in which the messages of those under its name came:
// they can be recognised in any order.
func replacedBetween(tx *gorm.DB, e *Entry, as *Recognition, received, now time.Time) error {
	after := *as.Later // by which it was replaced
	var before *Filing // whose place it had taken; nil where there is none
	displaced := ""
	for range mostReplaced {
		entry, err := first[Entry](tx.Where("id = ?", after.JournalID))
		if err != nil {
			return err
		}
		if before, displaced = nil, entry.Displaced; displaced == "" {
			break
		}
		one, err := first[Filing](tx.Where("cabinet_id = ? AND kept_as = ?", e.CabinetID, displaced))
		if errors.Is(err, ErrNotFound) {
			break
		}
		if err != nil {
			return err
		}
		if before = &one; !one.ReceivedAt.After(received) {
			break
		}
		after = one
	}
	number := func(year, n int) string { return strconv.Itoa(year) + "-" + strconv.Itoa(n) }
	e.Displaced = displaced
	steps := []statement{
		{"UPDATE register SET replaced_by = ?, kept_as = ?, kept_at = ? WHERE journal_id = ?",
			[]any{number(after.Year, after.Number), as.File.Path, now, e.ID}},
		{"UPDATE journal SET displaced = ? WHERE id = ?", []any{displaced, e.ID}},
		{"UPDATE journal SET displaced = ? WHERE id = ?", []any{as.File.Path, after.JournalID}},
	}
	if before != nil {
		steps = append(steps, statement{"UPDATE register SET replaced_by = ? WHERE journal_id = ?",
			[]any{number(e.RegisterYear, e.RegisterNumber), before.JournalID}})
	}
	return exec(tx, steps...)
}

// Claim records which entry was recognised in a file, without filing it.
func (s *Restored) Claim(ctx context.Context, f *RestoredFile, entryID int64) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE restored_files SET journal_id = ? WHERE id = ?", entryID, f.ID).Error
	})
}

// RestoredCounts are what came of a comparison until now.
type RestoredCounts struct {
	Files      int // without a line when the cabinets were looked through, with those that are kept out of the way
	Recognised int // of these
}

// Counts counts the files of the comparison.
func (s *Restored) Counts(ctx context.Context) (c RestoredCounts, err error) {
	err = s.reading(ctx).Raw("SELECT count(*) FILTER (WHERE NOT known) AS files, count(*) FILTER (WHERE journal_id > 0) " +
		"AS recognised FROM restored_files").Scan(&c).Error
	return c, err
}

// End ends the comparison: what is filed from now on is looked for nowhere.
func (s *Restored) End(ctx context.Context, by string, now time.Time) error {
	at := now.UTC()
	err := s.update(ctx, func(tx *gorm.DB, r *Restoring) error {
		if r.Done() {
			return nil
		}
		if err := tx.Raw("SELECT count(*) FROM restored_files WHERE journal_id = 0 AND NOT kept AND NOT known").Scan(
			&r.Unknown).Error; err != nil {
			return err
		}
		r.EndedAt, r.By = &at, by
		if by == "" {
			return nil
		}
		return note(tx, by, "end comparison", r.MadeAt.Format(time.RFC3339))
	})
	if err != nil {
		return err
	}
	_, _, err = s.Restored(ctx)
	return err
}

// Undecided counts the items that wait to be filed, of messages that came before the restoring.
func (s *Restored) Undecided(ctx context.Context, r *Restoring) (n int, err error) {
	err = s.reading(ctx).Raw("SELECT count(*) FROM journal JOIN messages ON messages.id = journal.message_id WHERE "+
		"journal.state IN ('planned', 'staged') AND messages.received_at <= ?", r.RestoredAt).Scan(&n).Error
	return n, err
}

// Before says whether a message came before the records were restored, as far as clocks agree; false where they never
// were. made is when the backup was made.
func (s *Restored) Before(received time.Time) (made time.Time, before bool) {
	r := s.restored.Load()
	if r == nil {
		return made, false
	}
	return r.MadeAt, !received.After(r.RestoredAt.Add(clocksDiffer))
}

// PerhapsDone says whether a follow-up may have been done after the backup, though nothing shows it: it waited when the
// backup was made, or belongs to a message that came between the backup and the restoring.
func (s *Restored) PerhapsDone(f *FollowUp, received time.Time) (waited, between bool) {
	r := s.restored.Load()
	if r == nil {
		return false, false
	}
	return f.ID <= r.LastFollowUp, received.After(r.MadeAt.Add(-clocksDiffer)) &&
		!received.After(r.RestoredAt.Add(clocksDiffer))
}

// clocksDiffer is by how much a mail server's clock may differ from this machine's.
const clocksDiffer = time.Hour

// RecognisedOf says whether something of a message was filed, for a rule, before the records were restored.
func (s *Restored) RecognisedOf(ctx context.Context, ruleID string, messageID int64) (bool, error) {
	return there(s.reading(ctx).Table("restored_files").Joins("JOIN journal ON journal.id = restored_files.journal_id").
		Where("journal.message_id = ? AND journal.rule_id = ?", messageID, ruleID))
}

// FoldersOf lists the folders of a cabinet in which the register has files.
func (s *Restored) FoldersOf(ctx context.Context, cabinetID string) (folders []string, err error) {
	err = s.reading(ctx).Raw("SELECT DISTINCT folder FROM register WHERE cabinet_id = ? AND filed_at IS NOT NULL AND "+
		"replaced_by = '' AND undone_at IS NULL", cabinetID).Scan(&folders).Error
	return folders, err
}

// FilesIn lists the lines of the files that the register has in a folder of a cabinet: of each name the last one.
func (s *Restored) FilesIn(ctx context.Context, cabinetID, folder string) ([]Filing, error) {
	return list[Filing](s.reading(ctx).
		Select("file", "size", "received_at", "filed_at", "max(year * 1000000000 + number)").
		Where("cabinet_id = ? AND folder = ? AND filed_at IS NOT NULL AND replaced_by = '' AND undone_at IS NULL",
			cabinetID, folder).Group("file"))
}

// KeptNames are the names under which the records know files of a cabinet that are kept out of the way.
func (s *Restored) KeptNames(ctx context.Context, cabinetID string) (map[string]bool, error) {
	var names []string
	err := s.reading(ctx).Raw("SELECT kept_as FROM register WHERE cabinet_id = ? AND kept_as <> '' UNION SELECT "+
		"displaced FROM journal WHERE cabinet_id = ? AND displaced <> ''", cabinetID, cabinetID).Scan(&names).Error
	known := make(map[string]bool, len(names))
	for _, n := range names {
		known[n] = true
	}
	return known, err
}

// Split gives folder and name of a path in a cabinet.
func Split(full string) (folder, file string) {
	if folder = path.Dir(full); folder == "." {
		folder = ""
	}
	return folder, path.Base(full)
}

// Snapshot writes a copy of the records, as they are at this moment, and one of their key, into files that are not
// there yet. Others read and write meanwhile. Files of earlier changes, and what was erased, are not in it.
func (s *Store) Snapshot(ctx context.Context, name, key string) error {
	s.rotating.RLock() // so that the two belong together
	defer s.rotating.RUnlock()
	if err := writeKey(key, *s.keys.Load().now); err != nil {
		return err
	}
	if err := makePrivate(name); err != nil {
		return err
	}
	if err := s.reading(ctx).Exec("VACUUM INTO ?", name).Error; err != nil {
		return explain(err)
	}
	copied, err := open(name, "", 1)
	if err != nil {
		return explain(err)
	}
	found, err := examine(copied.WithContext(ctx), false)
	if err == nil && len(found) > 0 {
		err = errors.New("the copy is damaged: " + found[0])
	}
	pool, poolErr := copied.DB()
	if poolErr == nil {
		poolErr = pool.Close()
	}
	return errors.Join(err, poolErr)
}

// Version is the version of the records, as migrations count.
func (s *Store) Version() int { return newest() }
