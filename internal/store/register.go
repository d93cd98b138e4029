package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/value"
)

// The register is asked in memory: each line's columns are held by an index, and
// triggers note which lines change, so that it follows every change.

// mostChanges bounds the list of what changed that is kept.
const mostChanges = 20_000

// What is read of a line is a few numbers and one text, since each column that is
// read costs: a register of a million lines is read at the start.
const (
	unit            = "\x1f" // between the texts
	registerColumns = `r.year, r.number, r.message_id,
	CASE WHEN r.void <> '' THEN 6 WHEN r.undone_at IS NOT NULL THEN 5 WHEN r.replaced_by <> '' THEN 4 WHEN r.check_state = 'missing' THEN 3 WHEN r.check_state = 'changed' THEN 2 WHEN r.filed_at IS NOT NULL THEN 1 ELSE 0 END,
	unixepoch(r.received_at), coalesce(unixepoch(r.filed_at), 0), r.size, CAST(r.mailbox_id || char(31) || r.rule_id || char(31) || r.cabinet_id || char(31) || r.kind || char(31) || r.mailbox || char(31) || r.rule || char(31) || r.cabinet
	|| char(31) || r.folder || char(31) || r.file || char(31) || r.sender_address || char(31) || replace(r.sender_name, char(31), ' ') || char(31) || coalesce(r.found, '') || char(31) || r.subject AS BLOB)`
)

// readRows reads lines as the index takes them.
func readRows(rows *sql.Rows, notes map[register.Number]string, each func(register.Row)) error {
	defer rows.Close()
	for rows.Next() {
		var r register.Row
		var raw sql.RawBytes
		if err := rows.Scan(&r.Number.Year, &r.Number.Number, &r.Message, &r.State, &r.Received, &r.Filed, &r.Size,
			&raw); err != nil {
			return err
		}
		texts, found := string(raw), ""
		for _, into := range []*string{&r.MailboxID, &r.RuleID, &r.CabinetID, &r.Kind, &r.Mailbox, &r.Rule, &r.Cabinet,
			&r.Folder, &r.File, &r.SenderAddress, &r.SenderName, &found} {
			*into, texts, _ = strings.Cut(texts, unit)
		}
		if found != "" {
			if err := json.Unmarshal([]byte(found), &r.Values); err != nil {
				return fmt.Errorf("what was read of %s cannot be read: %w", r.Number, err)
			}
		}
		r.Subject = texts
		r.Notes = notes[r.Number]
		each(r)
	}
	return rows.Err()
}

// Follow brings what is held of the register up to date. Every question does so
// first; the first time takes some seconds where the register is large.
func (s *Store) Follow(ctx context.Context) error {
	s.following.Lock()
	defer s.following.Unlock()
	var last int64
	if err := s.reading(ctx).Raw(
		"SELECT coalesce(max(seq), 0) FROM sqlite_sequence WHERE name = 'register_changes'",
	).Scan(&last).Error; err != nil {
		return err
	}
	if s.copied && s.loaded {
		if last == s.indexed {
			return nil
		}
		return followCopy(ctx, s, last)
	}
	if !s.loaded && !s.copied {
		if at, ok := s.readIndex(ctx); ok {
			s.loaded, s.indexed, s.written = true, at, at
		}
	}
	if !s.loaded {
		if err := s.load(ctx); err != nil {
			s.index.Reset()
			return err
		}
		s.loaded, s.indexed, s.erased = true, last, false
	} else if last > s.indexed {
		if err := s.catchUp(ctx); err != nil {
			return err
		}
	}
	if s.copied {
		return nil
	}
	var first int64
	if err := s.reading(ctx).Raw("SELECT coalesce(min(id), 0) FROM register_changes").Scan(&first).Error; err != nil ||
		s.indexed-first < mostChanges {
		return err
	}
	var written int64 // what the files that are kept have not seen yet stays
	if err := s.reading(ctx).Raw("SELECT coalesce(min(last_change), ?) FROM register_files",
		s.indexed).Scan(&written).Error; err != nil {
		return err
	}
	if written-first < mostChanges/2 {
		return nil
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM register_changes WHERE id <= ?", written).Error
	})
}

func (s *Store) notesOf(ctx context.Context, where string, args ...any) (map[register.Number]string, error) {
	all, err := list[Note](s.reading(ctx).Where(where, args...).Order("id"))
	notes := map[register.Number]string{}
	for _, n := range all {
		of := register.Number{Year: n.Year, Number: n.Number}
		if notes[of] != "" {
			notes[of] += "\n"
		}
		notes[of] += n.Text
	}
	return notes, err
}

func (s *Store) load(ctx context.Context) error {
	notes, err := s.notesOf(ctx, "TRUE")
	if err != nil {
		return err
	}
	rows, err := s.reading(ctx).Raw(
		"SELECT " + registerColumns + " FROM register r ORDER BY r.year, r.number",
	).Rows()
	if err != nil {
		return err
	}
	batch := make([]register.Row, 0, 1000)
	err = readRows(rows, notes, func(r register.Row) {
		if batch = append(batch, r); len(batch) == cap(batch) {
			s.index.Put(batch...)
			batch = batch[:0]
		}
	})
	s.index.Put(batch...)
	s.index.Trim()
	if s.index.Len() > 100_000 {
		debug.FreeOSMemory() // what reading took is given back
	}
	return err
}

// catchUp reads the lines that changed since.
func (s *Store) catchUp(ctx context.Context) error {
	const most = 400 // lines at once
	for {
		var changes []struct {
			ID           int64
			Year, Number int
		}
		if err := s.reading(ctx).Raw("SELECT id, year, number FROM register_changes WHERE id > ? ORDER BY id LIMIT ?",
			s.indexed,
			most).Scan(&changes).Error; err != nil ||
			len(changes) == 0 {
			return err
		}
		years := map[int][]int{}
		for _, c := range changes {
			years[c.Year] = append(years[c.Year], c.Number)
		}
		var found []register.Row
		for year, numbers := range years {
			notes, err := s.notesOf(ctx, "year = ? AND number IN ?", year, numbers)
			if err != nil {
				return err
			}
			rows, err := s.reading(ctx).Raw("SELECT "+registerColumns+
				" FROM register r WHERE r.year = ? AND r.number IN ? ORDER BY r.number", year, numbers).Rows()
			if err != nil {
				return err
			}
			if err := readRows(rows, notes, func(r register.Row) { found = append(found, r) }); err != nil {
				return err
			}
		}
		slices.SortFunc(found, func(a, b register.Row) int {
			if a.Number.Year != b.Number.Year {
				return a.Number.Year - b.Number.Year
			}
			return a.Number.Number - b.Number.Number
		})
		s.index.Put(found...)
		s.indexed = changes[len(changes)-1].ID
	}
}

// ValueNames are the names of all values that were read of filed files the viewer may see, by which searches look for
// them.
func (s *Register) ValueNames(ctx context.Context, v Viewer) ([]string, error) {
	if err := s.Follow(ctx); err != nil {
		return nil, err
	}
	return s.index.ValueNames(v.seen(register.Query{Search: register.Search{States: register.All}})), nil
}

// seen keeps a query to what the viewer may see.
func (v Viewer) seen(q register.Query) register.Query {
	if !v.All {
		q.Mailboxes = append([]string{""}, v.Only...)
	}
	if !v.AllCabinets {
		q.Cabinets = append([]string{""}, v.Cabinets...)
	}
	return q
}

// Find finds a page of the register.
func (s *Register) Find(ctx context.Context, v Viewer, q register.Query) (register.Found, error) {
	q, err := s.asked(ctx, v, q)
	if err != nil {
		return register.Found{}, err
	}
	return s.index.Find(q), nil
}

// FindMessages finds a page of the register by message.
func (s *Register) FindMessages(ctx context.Context, v Viewer,
	q register.Query) ([]register.Letter, register.Found, error) {
	q, err := s.asked(ctx, v, q)
	if err != nil {
		return nil, register.Found{}, err
	}
	letters, found := s.index.FindLetters(q)
	return letters, found, nil
}

// Count counts what a query finds.
func (s *Register) Count(ctx context.Context, v Viewer, q register.Query) (int, error) {
	q.Most = 1
	found, err := s.Find(ctx, v, q)
	return found.Total, err
}

// List lists what a query finds.
func (s *Register) List(ctx context.Context, v Viewer, q register.Query) ([]Filing, error) {
	found, err := s.Find(ctx, v, q)
	if err != nil {
		return nil, err
	}
	return s.Numbered(ctx, v, found.Numbers)
}

// Numbered reads lines of the register, in the order of the numbers given.
func (s *Register) Numbered(ctx context.Context, v Viewer, numbers []register.Number) ([]Filing, error) {
	const most = 500
	at := make(map[register.Number]int, len(numbers))
	for i, n := range numbers {
		at[n] = i
	}
	found, there := make([]Filing, len(numbers)), make([]bool, len(numbers))
	for chunk := range slices.Chunk(numbers, most) {
		years := map[int][]int{}
		for _, n := range chunk {
			years[n.Year] = append(years[n.Year], n.Number)
		}
		for year, of := range years {
			rows, err := list[Filing](v.seesFiled(s.reading(ctx)).Where("year = ? AND number IN ?", year, of))
			if err != nil {
				return nil, err
			}
			for _, f := range rows {
				i := at[f.Entry()]
				found[i], there[i] = f, true
			}
		}
	}
	kept := found[:0]
	for i := range found {
		if there[i] {
			kept = append(kept, found[i])
		}
	}
	return kept, nil
}

// Tallies counts what a query finds.
func (s *Register) Tallies(ctx context.Context, v Viewer, q register.Query, by register.By, zone *time.Location,
	most int) ([]register.Tally,
	register.Found, error) {
	q, err := s.asked(ctx, v, q)
	if err != nil {
		return nil, register.Found{}, err
	}
	tallies, found := s.index.Count(q, by, zone, most)
	return tallies, found, nil
}

// Sums adds up the numbers and amounts that were read of what a query finds.
func (s *Register) Sums(ctx context.Context, v Viewer, q register.Query) ([]register.Sum, error) {
	q, err := s.asked(ctx, v, q)
	if err != nil {
		return nil, err
	}
	return s.index.Sums(q), nil
}

// Days counts what was filed on each of some days, by rule or mailbox; with received, on the day on which its message
// came.
func (s *Register) Days(ctx context.Context, v Viewer, by register.By, first time.Time, days int,
	received bool) (map[string][]register.Tally, error) {
	if err := s.Follow(ctx); err != nil {
		return nil, err
	}
	return s.index.Days(v.seen(register.Query{}), by, first, days, received), nil
}

// Branches lists the folders within a folder, with the number of filings of a query in each.
func (s *Register) Branches(ctx context.Context, v Viewer, q register.Query,
	cabinet, folder string) ([]register.Branch, error) {
	q, err := s.asked(ctx, v, q)
	if err != nil {
		return nil, err
	}
	return s.index.Branches(q, cabinet, folder), nil
}

// NotesOf lists what people wrote about filings, the oldest first.
func (s *Register) NotesOf(ctx context.Context, v Viewer, n register.Number) ([]Note, error) {
	if _, err := s.ByNumber(ctx, v, n.Year, n.Number); err != nil {
		return nil, err
	}
	return list[Note](s.reading(ctx).Where("year = ? AND number = ?", n.Year, n.Number).Order("id"))
}

// NotesText gives the notes of several filings, each as one text.
func (s *Register) NotesText(ctx context.Context, numbers []register.Number) (map[register.Number]string, error) {
	if some, err := there(s.reading(ctx).Model(&Note{})); err != nil || !some || len(numbers) == 0 {
		return nil, err
	}
	years := map[int][]int{}
	for _, n := range numbers {
		years[n.Year] = append(years[n.Year], n.Number)
	}
	notes := map[register.Number]string{}
	for year, of := range years {
		some, err := s.notesOf(ctx, "year = ? AND number IN ?", year, of)
		if err != nil {
			return nil, err
		}
		for n, text := range some {
			notes[n] = text
		}
	}
	return notes, nil
}

// AddNote keeps what somebody writes about a filing.
func (s *Register) AddNote(ctx context.Context, v Viewer, n *Note) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if _, err := first[Filing](v.seesFiled(tx).Where("year = ? AND number = ?", n.Year, n.Number)); err != nil {
			return err
		}
		if err := tx.Create(n).Error; err != nil {
			return err
		}
		return note(tx, v.Name, "note on filing", fmt.Sprintf("%d-%d", n.Year, n.Number))
	})
}

// ErrNoValue says that a filing has no value of a name.
var ErrNoValue = errors.New("nothing of this name was read of the file")

// CorrectValue puts another text in the place of a value of a filing; "" takes it away. Who did so, when, and what was
// there before are kept. read reads the text as a value of its type.
func (s *Register) CorrectValue(ctx context.Context, v Viewer, n register.Number, name string, now time.Time,
	read func(t value.Type) (string, error)) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		f, err := first[Filing](v.seesFiled(tx).Where("year = ? AND number = ?", n.Year, n.Number))
		if err != nil {
			return err
		}
		i := slices.IndexFunc(f.Values, func(o value.Value) bool { return o.Name == name })
		if i < 0 {
			return ErrNoValue
		}
		text, err := read(f.Values[i].Type)
		was := f.Values[i].Text
		if err != nil || text == was {
			return err
		}
		f.Values[i].Text, f.Values[i].Problem, f.Values[i].By = text, "", v.Name
		f.Values[i].Sure, f.Values[i].As = 0, ""
		if err := tx.Select("found").Updates(&f).Error; err != nil {
			return err
		}
		told := fmt.Sprintf("%s, from “%s” to “%s”", name, was, text)
		if was == "" {
			told = fmt.Sprintf("%s is “%s”", name, text)
		} else if text == "" {
			told = fmt.Sprintf("%s, which was “%s”, was taken away", name, was)
		}
		return inOrder(func() error { return happened(tx, n, now, "corrected", v.Name, told) }, func() error {
			return note(tx, v.Name, "correct value", n.String()+" "+name) // what it was goes with the filing where it is erased
		})
	})
}

// FillValues records values that were read of a filed file again. What a person corrected stays, and so does what was
// read earlier under other names.
func (s *Register) FillValues(ctx context.Context, n register.Number, read []value.Value,
	now time.Time) (changed bool, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		f, err := first[Filing](tx.Where("year = ? AND number = ? AND erased_at IS NULL", n.Year, n.Number))
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		was := slices.Clone(f.Values)
		for _, one := range read {
			i := slices.IndexFunc(f.Values, func(o value.Value) bool { return o.Name == one.Name })
			switch {
			case i < 0:
				f.Values = append(f.Values, one)
			case f.Values[i].By == "":
				f.Values[i] = one
			}
		}
		if changed = !slices.Equal(was, f.Values); !changed {
			return nil
		}
		if err := tx.Select("found").Updates(&f).Error; err != nil {
			return err
		}
		return happened(tx, n, now, "read again", "", "")
	})
	return changed, err
}

// ErrNotYours says that somebody else wrote a note.
var ErrNotYours = errors.New("another person wrote this note; an administrator can remove it")

// RemoveNote takes a note away: by who wrote it, or by an administrator.
func (s *Register) RemoveNote(ctx context.Context, v Viewer, n register.Number, id int64) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if _, err := first[Filing](v.seesFiled(tx).Where("year = ? AND number = ?", n.Year, n.Number)); err != nil {
			return err
		}
		was, err := first[Note](tx.Where("id = ? AND year = ? AND number = ?", id, n.Year, n.Number))
		if err != nil {
			return err
		}
		if was.MadeBy != v.Name && !v.Role.May(Administrator) {
			return ErrNotYours
		}
		if err := tx.Delete(&was).Error; err != nil {
			return err
		}
		return note(tx, v.Name, "remove note on filing", n.String())
	})
}

// HappeningsOf lists what happened to a filing later, the first first.
func (s *Register) HappeningsOf(ctx context.Context, n register.Number) ([]Happening, error) {
	return list[Happening](s.reading(ctx).Where("year = ? AND number = ?", n.Year, n.Number).Order("id"))
}

// Preference is what a person chose; "" is nothing.
func (s *Settings) Preference(ctx context.Context, personID, key string) (string, error) {
	var value string
	err := s.reading(ctx).Raw("SELECT value FROM preferences WHERE person_id = ? AND key = ?", personID,
		key).Scan(&value).Error
	return value, err
}

// Prefer keeps what a person chose.
func (s *Settings) Prefer(ctx context.Context, personID, key, value string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO preferences (person_id, key, value) VALUES (?, ?, ?) ON CONFLICT (person_id, key) DO "+
			"UPDATE SET value = excluded.value", personID, key, value).Error
	})
}

// IDs gives the Message-IDs of messages, without angle brackets. What was
// erased has none.
func (s *Messages) IDs(ctx context.Context, ids []int64) (map[int64]string, error) {
	found := make(map[int64]string, len(ids))
	for chunk := range slices.Chunk(ids, 500) {
		rows, err := s.reading(ctx).Model(&Message{}).Select("id, header").Where("id IN ? AND erased_at IS NULL",
			chunk).Rows()
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var id int64
			var header []byte
			if err := rows.Scan(&id, &header); err != nil {
				rows.Close()
				return nil, err
			}
			fields, _ := mail.ParseHeader(header)
			found[id] = fields.MessageID()
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// Record adds an action to the audit trail that changes no record, such as reading a message.
func (s *People) Record(ctx context.Context, v Viewer, action, object string) error {
	return s.change(ctx, func(tx *gorm.DB) error { return note(tx, v.Name, action, object) })
}
