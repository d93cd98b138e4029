package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/register"
)

// wordsFile keeps the words inside of filed files, beside the records. It is no part of them: it can be made again from
// the files, so it is not copied with the records, and a damaged one is made anew.
const wordsFile = "words.db"

// MostWords is how much text of one file is searched, in octets.
const MostWords = 256 << 10

const wordsSchema = `
CREATE TABLE IF NOT EXISTS files (id INTEGER PRIMARY KEY, rule TEXT NOT NULL, sha256 BLOB NOT NULL, problem TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS files_rule ON files (rule);
CREATE TABLE IF NOT EXISTS todo (id INTEGER PRIMARY KEY, due INTEGER NOT NULL DEFAULT 0, tries INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS todo_due ON todo (due);
CREATE TABLE IF NOT EXISTS state (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE VIRTUAL TABLE IF NOT EXISTS words USING fts5 (text, tokenize = "unicode61 remove_diacritics 2", prefix = "3");
INSERT INTO words (words, rank) VALUES ('secure-delete', 1);
`

// Words finds the words inside of filed files (SQLite FTS5). It may be used by several goroutines at once.
type Words struct {
	records *Store
	folder  string
	mutex   sync.RWMutex // held while it is used, and alone while it is opened or made anew
	db      *gorm.DB
	closed  bool
}

// ErrNoWords says that the words inside of files are not kept where they were asked for.
var ErrNoWords = errors.New("the words inside of files can be looked for only at the machine that filed them")

// None says whether no words were ever kept here.
func (w *Words) None() bool {
	_, err := os.Stat(w.path())
	return errors.Is(err, fs.ErrNotExist)
}

func (w *Words) path() string { return filepath.Join(w.folder, wordsFile) }

// use does something with the file, and once more with a new one where it turns out to be damaged.
func (w *Words) use(ctx context.Context, do func(db *gorm.DB) error) error {
	if w == nil {
		return ErrNoWords
	}
	for anew := false; ; anew = true {
		used, err := w.once(ctx, do)
		if t := TroubleOf(err); t == nil || !t.Damaged {
			return err
		}
		if anew { // its disk cannot keep it, which says nothing of the records
			return fmt.Errorf("the words inside of files cannot be kept: %s", err)
		}
		if err := w.remove(used); err != nil {
			return fmt.Errorf("making the words inside of files again: %w", err)
		}
	}
}

// once opens the file where it is not open, and does something with it.
func (w *Words) once(ctx context.Context, do func(db *gorm.DB) error) (used *gorm.DB, err error) {
	w.mutex.RLock()
	for w.db == nil { // it may be removed between the two locks
		w.mutex.RUnlock()
		if err := w.open(); err != nil {
			return nil, err
		}
		w.mutex.RLock()
	}
	defer w.mutex.RUnlock()
	return w.db, do(w.db.WithContext(ctx))
}

func (w *Words) open() (err error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	switch {
	case w.closed:
		err = sql.ErrConnDone
	case w.db == nil:
		w.db, err = openWords(w.path())
	}
	return err
}

// remove throws the file away, unless somebody else has already done so.
func (w *Words) remove(used *gorm.DB) error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.db != used {
		return nil
	}
	if used != nil {
		_ = closed(used) // it is damaged
		w.db = nil
	}
	return removeWords(w.path(), "", "-wal", "-shm")
}

func removeWords(path string, ends ...string) error {
	for _, end := range ends {
		if err := os.Remove(path + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func openWords(path string) (*gorm.DB, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) { // what lies beside it is of one that was removed
		if err := removeWords(path, "-wal", "-shm"); err != nil {
			return nil, err
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600) // it is Ink Tray's alone from its first moment
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	db, err := open(path, "", 4)
	if err != nil {
		return nil, err
	}
	for _, statement := range []string{"PRAGMA synchronous = NORMAL", wordsSchema} {
		if err = db.Exec(statement).Error; err != nil {
			break
		}
	}
	if err != nil {
		return nil, errors.Join(err, closed(db))
	}
	return db, nil
}

func closed(db *gorm.DB) error {
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

func (w *Words) close() error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.closed = true
	if w.db == nil {
		return nil
	}
	db := w.db
	w.db = nil
	return closed(db)
}

func wordsID(n register.Number) int64 { return int64(n.Year)<<32 | int64(n.Number) }

func numberOf(id int64) register.Number {
	return register.Number{Year: int(id >> 32), Number: int(id & (1<<32 - 1))}
}

func (w *Words) get(db *gorm.DB, name string) (value string, err error) {
	err = db.Raw("SELECT value FROM state WHERE name = ?", name).Scan(&value).Error
	return value, err
}

func set(db *gorm.DB, name, value string) error {
	return db.Exec("INSERT INTO state VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value", name, value).Error
}

// Follow notes which filings have to be looked at: all of the rules whose files are searched now and were not before,
// and what changed in the register since. What other rules filed is forgotten.
func (w *Words) Follow(ctx context.Context, rules []string) error {
	slices.Sort(rules)
	return w.use(ctx, func(db *gorm.DB) error { return w.follow(ctx, db, rules) })
}

func (w *Words) follow(ctx context.Context, db *gorm.DB, rules []string) error {
	was, err := w.get(db, "rules")
	if err != nil {
		return err
	}
	before := strings.Fields(was)
	gone := slices.DeleteFunc(slices.Clone(before), func(id string) bool { return slices.Contains(rules, id) })
	added := slices.DeleteFunc(slices.Clone(rules), func(id string) bool { return slices.Contains(before, id) })
	if len(rules) == 0 && len(before) == 0 {
		return nil
	}
	var at, first, last int64
	kept, err := w.get(db, "change")
	if err != nil {
		return err
	}
	_, unread := fmt.Sscan(kept, &at)
	if err := w.records.reading(ctx).Raw("SELECT coalesce(min(id), 0), coalesce(max(id), 0) FROM register_changes").
		Row().Scan(&first, &last); err != nil {
		return err
	}
	if unread != nil || len(before) == 0 || first > at+1 || last < at { // some changes are no longer listed
		added = rules
	}
	var all []int64
	if len(added) > 0 {
		if err := w.records.reading(ctx).Raw("SELECT year << 32 | number FROM register WHERE rule_id IN ? AND "+
			"filed_at IS NOT NULL", added).Scan(&all).Error; err != nil {
			return err
		}
	}
	if len(added) < len(rules) {
		var changed []int64
		if err := w.records.reading(ctx).Raw("SELECT DISTINCT year << 32 | number FROM register_changes WHERE id > ? AND "+
			"id <= ?", at, last).Scan(&changed).Error; err != nil {
			return err
		}
		all = append(all, changed...)
	}
	return db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec(overwritten).Error; err != nil {
			return err
		}
		for _, id := range gone {
			if err := inOrder(func() error {
				return tx.Exec("DELETE FROM words WHERE rowid IN (SELECT id FROM files WHERE rule = ?)", id).Error
			}, func() error { return tx.Exec("DELETE FROM files WHERE rule = ?", id).Error }); err != nil {
				return err
			}
		}
		for some := range slices.Chunk(all, 200) {
			rows := strings.TrimSuffix(strings.Repeat("(?),", len(some)), ",")
			args := make([]any, len(some))
			for i := range some {
				args[i] = some[i]
			}
			if err := tx.Exec("INSERT INTO todo (id) VALUES "+rows+" ON CONFLICT DO UPDATE SET due = 0",
				args...).Error; err != nil {
				return err
			}
		}
		return inOrder(func() error { return set(tx, "change", fmt.Sprint(last)) },
			func() error { return set(tx, "rules", strings.Join(rules, " ")) })
	})
}

// Next gives filings that have to be looked at.
func (w *Words) Next(ctx context.Context, now time.Time, most int) (numbers []register.Number, err error) {
	var ids []int64
	err = w.use(ctx, func(db *gorm.DB) error {
		return db.Raw("SELECT id FROM todo WHERE due <= ? ORDER BY due, id DESC LIMIT ?", now.Unix(), most).Scan(&ids).Error
	})
	for _, id := range ids {
		numbers = append(numbers, numberOf(id))
	}
	return numbers, err
}

// Has says whether the words of this content are kept for a filing. If so, it has not to be looked at any more.
func (w *Words) Has(ctx context.Context, n register.Number, sum []byte) (kept bool, err error) {
	err = w.use(ctx, func(db *gorm.DB) error {
		return inOrder(func() error {
			return db.Raw("SELECT count(*) > 0 FROM files WHERE id = ? AND sha256 = ?", wordsID(n), sum).Scan(&kept).Error
		}, func() error {
			return db.Exec("DELETE FROM todo WHERE id = ? AND ?", wordsID(n), kept).Error
		})
	})
	return kept, err
}

// Put keeps the text inside of a filed file, or why it cannot be read, in the place of what was kept.
func (w *Words) Put(ctx context.Context, f *Filing, text, problem string) error {
	return w.replace(ctx, f.Entry(), func(tx *gorm.DB, id int64) error {
		if len(text) > MostWords {
			text = strings.ToValidUTF8(text[:MostWords], "")
		}
		if err := tx.Exec("INSERT INTO files VALUES (?, ?, ?, ?)", id, f.RuleID, f.SHA256, problem).Error; err != nil ||
			text == "" {
			return err
		}
		return tx.Exec("INSERT INTO words (rowid, text) VALUES (?, ?)", id, text).Error
	})
}

// overwritten lets what a connection deletes be overwritten.
const overwritten = "PRAGMA secure_delete = ON"

// Overwrite overwrites what was forgotten in the log of changes, too.
func (w *Words) Overwrite(ctx context.Context) error {
	if w != nil && w.None() {
		return nil
	}
	return w.use(ctx, func(db *gorm.DB) error { return db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error })
}

// Drop forgets the words of a filing.
func (w *Words) Drop(ctx context.Context, n register.Number) error {
	if w != nil && w.None() {
		return nil
	}
	return w.replace(ctx, n, func(*gorm.DB, int64) error { return nil })
}

func (w *Words) replace(ctx context.Context, n register.Number, put func(tx *gorm.DB, id int64) error) error {
	id := wordsID(n)
	return w.use(ctx, func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Exec(overwritten).Error; err != nil {
				return err
			}
			for _, statement := range []string{"DELETE FROM words WHERE rowid = ?", "DELETE FROM files WHERE id = ?",
				"DELETE FROM todo WHERE id = ?"} {
				if err := tx.Exec(statement, id).Error; err != nil {
					return err
				}
			}
			return put(tx, id)
		})
	})
}

// Later puts off a filing whose file cannot be had now: for a minute, and each time for twice as long, up to a day.
func (w *Words) Later(ctx context.Context, n register.Number, now time.Time) error {
	return w.use(ctx, func(db *gorm.DB) error {
		return db.Exec("UPDATE todo SET due = ? + min(86400, 60 << min(tries, 11)), tries = tries + 1 WHERE id = ?",
			now.Unix(), wordsID(n)).Error
	})
}

// asPhrases makes a search of FTS5: all phrases have to stand there. A star at the end of one stands for any letters.
func asPhrases(phrases []string) string {
	var all []string
	for _, p := range phrases {
		word, begins := strings.CutSuffix(strings.ToValidUTF8(p, ""), "*")
		quoted := `"` + strings.ReplaceAll(strings.ReplaceAll(word, "\x00", ""), `"`, `""`) + `"`
		if begins {
			quoted += " *"
		}
		all = append(all, quoted)
	}
	return strings.Join(all, " AND ")
}

// Match finds the filings inside of whose files all phrases stand, in the order of their numbers.
func (w *Words) Match(ctx context.Context, phrases []string) (numbers []uint64, err error) {
	err = w.use(ctx, func(db *gorm.DB) error {
		rows, err := db.Raw("SELECT rowid FROM words WHERE words MATCH ? ORDER BY rowid", asPhrases(phrases)).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		numbers = []uint64{}
		for rows.Next() {
			var id uint64
			if err := rows.Scan(&id); err != nil {
				return err
			}
			numbers = append(numbers, id)
		}
		return rows.Err()
	})
	return numbers, err
}

// Part is a part of a text, which was looked for or stands beside it.
type Part struct {
	Text string
	Hit  bool
}

// Snippets are the places in files at which the phrases stand, as far as they were found there.
func (w *Words) Snippets(ctx context.Context, phrases []string,
	numbers []register.Number) (found map[register.Number][]Part, err error) {
	err = w.use(ctx, func(db *gorm.DB) (err error) {
		found, err = snippets(db, phrases, numbers)
		return err
	})
	return found, err
}

func snippets(db *gorm.DB, phrases []string, numbers []register.Number) (map[register.Number][]Part, error) {
	out := map[register.Number][]Part{}
	add := func(where string, ids ...any) error {
		var found []struct {
			ID   int64
			Said string
		}
		err := db.Raw("SELECT rowid AS id, snippet(words, 0, char(1), char(2), '…', 14) AS said FROM words WHERE words "+
			"MATCH ? AND "+where, append([]any{asPhrases(phrases)}, ids...)...).Scan(&found).Error
		for _, f := range found {
			out[numberOf(f.ID)] = partsOf(strings.Join(strings.Fields(f.Said), " "))
		}
		return err
	}
	ids := make([]any, len(numbers))
	for i, n := range numbers {
		ids[i] = wordsID(n)
	}
	if slices.ContainsFunc(phrases, func(p string) bool { return strings.HasSuffix(p, "*") }) {
		// Finding all words that begin so takes long, so it is done once; the sign keeps SQLite from doing it for each.
		for some := range slices.Chunk(ids, 500) {
			if err := add("+rowid IN (?"+strings.Repeat(", ?", len(some)-1)+")", some...); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	for _, id := range ids {
		if err := add("rowid = ?", id); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func partsOf(said string) (parts []Part) {
	add := func(text string, hit bool) {
		if text = strings.Trim(text, "\x01\x02"); text != "" {
			parts = append(parts, Part{text, hit})
		}
	}
	for said != "" {
		before, rest, some := strings.Cut(said, "\x01")
		add(before, false)
		if !some {
			break
		}
		hit, after, _ := strings.Cut(rest, "\x02")
		add(hit, true)
		said = after
	}
	return parts
}

// WordStats says how far the words inside of files are known.
type WordStats struct {
	Files    int           // that can be searched
	Waiting  int           // that are not read yet
	Unread   int           // that cannot be read
	Octets   int64         // of the file that keeps them
	Problems []WordProblem // the most frequent ones
}

// WordProblem is why files cannot be read.
type WordProblem struct {
	Problem string
	Files   int
}

// Stats says how far the words inside of files are known.
func (w *Words) Stats(ctx context.Context) (s WordStats, err error) {
	if w != nil && w.None() {
		return s, nil
	}
	err = w.use(ctx, func(db *gorm.DB) error {
		return inOrder(func() error {
			return db.Raw("SELECT (SELECT count(*) FROM todo), count(*), coalesce(sum(problem <> ''), 0) FROM files").Row().
				Scan(&s.Waiting, &s.Files, &s.Unread)
		}, func() error { // a file's problem may be as long and odd as the file
			return db.Raw("SELECT problem, count(*) AS files FROM files WHERE problem <> '' GROUP BY problem " +
				"ORDER BY files DESC, problem LIMIT 20").Scan(&s.Problems).Error
		})
	})
	for _, end := range []string{"", "-wal"} {
		if info, err := os.Stat(w.path() + end); err == nil {
			s.Octets += info.Size()
		}
	}
	return s, err
}

// asked makes a query of what the viewer asks, who sees what he may see.
func (s *Register) asked(ctx context.Context, v Viewer, q register.Query) (register.Query, error) {
	if err := s.Store.Follow(ctx); err != nil {
		return q, err
	}
	q = v.seen(q)
	var err error
	if len(q.Inside) > 0 {
		q.Within, err = s.Words.Match(ctx, q.Inside)
	}
	return q, err
}
