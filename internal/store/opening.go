package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gorm.io/gorm"
)

// The files of the records in their folder.
const (
	recordsFile = "inktray.db"
	keyFile     = "secret.key"
)

// keptCopies is how many copies from before an upgrade are kept.
const keptCopies = 2

// OpenError says why the records in a folder are not opened.
type OpenError struct {
	Problem string // a sentence without its full stop
	Advice  string
	Err     error // the cause; may be nil
}

// Error gives the problem and what to do about it.
func (e *OpenError) Error() string {
	text := e.Problem
	if e.Err != nil {
		text += " (" + e.Err.Error() + ")"
	}
	return text + ". " + e.Advice
}

// Unwrap gives the cause.
func (e *OpenError) Unwrap() error { return e.Err }

// present says whether a file is there and holds something.
func present(path string) (bool, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && info.Size() > 0, err
}

// unlocked opens the records in a folder that nobody else has open: it tells a folder
// that lost its records or its key from a new one, and brings older records up to date.
func unlocked(folder, vfs string) (db *gorm.DB, ring keyring, err error) {
	path := filepath.Join(folder, recordsFile)
	if _, err := os.Stat(filepath.Join(folder, "restoring")); err == nil {
		return nil, ring, &OpenError{Problem: "putting a backup back into " + folder + " was interrupted",
			Advice: "Run inktray restore again; it starts from the beginning."}
	}
	hasKey, err := present(filepath.Join(folder, keyFile))
	if err == nil && !hasKey { // the program ended between the two namings of a change of the key
		if hasKey, err = present(filepath.Join(folder, nextKeyFile)); err == nil && hasKey {
			err = takeNextKey(folder)
		}
	}
	if err != nil {
		return nil, ring, fmt.Errorf("looking for the key: %w", err)
	}
	hasRecords := false
	if vfs == "" { // another file system is a test's
		if hasRecords, err = present(path); err != nil {
			return nil, ring, fmt.Errorf("looking for the records: %w", err)
		}
		if hasKey && !hasRecords {
			return nil, ring, lost(path)
		}
	}
	opened, err := open(path, vfs, 1)
	if err != nil {
		return nil, ring, unreadable(path, err)
	}
	defer func() {
		if err != nil {
			if pool, poolErr := opened.DB(); poolErr == nil {
				pool.Close()
			}
		}
	}()
	db = opened
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return nil, ring, unreadable(path, err)
	}
	if hasRecords && hasKey && version == 0 {
		return nil, ring, lost(path)
	}
	if latest := newest(); version > latest {
		return nil, ring, &OpenError{Problem: fmt.Sprintf("the records in %s have version %d and were made by a newer Ink "+
			"Tray; this one knows versions up to %d", path, version, latest),
			Advice: "Run the newer Ink Tray, or put back the copy of the records that it made before it changed them (" +
				copyName("N") + ")."}
	} else if version > 0 && version < latest && vfs == "" {
		if err := keepCopy(db, folder, version); err != nil {
			return nil, ring,
				&OpenError{Problem: "no copy of the records could be made before they are brought up to date",
					Advice: "Free some space on the disk of " + folder + ", then start again. Nothing was changed.", Err: err}
		}
	}
	if err := migrate(db, 0); err != nil {
		return nil, ring,
			&OpenError{Problem: fmt.Sprintf("the records in %s could not be brought up to date", path),
				Advice: "Nothing was changed. Look at the reason, then start again.", Err: err}
	}
	if !hasKey {
		sealed, err := sealedSecrets(db)
		if err != nil {
			return nil, ring, unreadable(path, err)
		}
		if sealed > 0 {
			return nil, ring, &OpenError{Problem: fmt.Sprintf("the key %s is gone, without which the passwords in the records "+
				"cannot be read", filepath.Join(folder, keyFile)),
				Advice: "Put the key back from a copy. If there is none, run inktray records new-key --data " + folder +
					": it forgets the passwords, and you enter them again."}
		}
		// nothing is sealed: a new key will do
		if err := db.Exec("DELETE FROM settings WHERE key = ?", keyCheck).Error; err != nil {
			return nil, ring, unreadable(path, err)
		}
	}
	key, err := openKey(filepath.Join(folder, keyFile))
	if err != nil {
		return nil, ring, err
	}
	fits, err := keyFits(db, key)
	if err != nil {
		return nil, ring, unreadable(path, err)
	}
	if !fits { // the program ended while the key was changed
		if key, fits, err = nextKey(db, folder); err != nil {
			return nil, ring, err
		}
	}
	if !fits {
		return nil, ring, &OpenError{Problem: fmt.Sprintf("the key %s belongs to other records: it does not open the "+
			"passwords in these", filepath.Join(folder, keyFile)),
			Advice: "Put the right key back from a copy. If there is none, run inktray records new-key --data " + folder +
				": it forgets the passwords, and you enter them again."}
	}
	ring.now = &key
	if err := endRotation(db, folder, &ring); err != nil {
		return nil, ring, err
	}
	if err := withKey(key).bindSecrets(db); err != nil {
		return nil, ring, unreadable(path, err)
	}
	return db, ring, nil
}

func lost(path string) error {
	return &OpenError{Problem: fmt.Sprintf("the key of an Ink Tray is there, but its records are not: %s is missing or "+
		"empty", path),
		Advice: "Put the records back from a copy. To begin with empty records instead, move secret.key out of this folder."}
}

func unreadable(path string, err error) error {
	if t := TroubleOf(err); t != nil && t.Damaged {
		return &OpenError{Problem: "the records in " + path + " are damaged", Advice: "Put back a copy of the records that " +
			"is whole. Keep the damaged file: much of it can often be saved.", Err: t.Err}
	}
	return fmt.Errorf("opening %s: %w", path, err)
}

// NewestRecords is the newest version of records that this program can read, as migrations count.
func NewestRecords() int { return newest() }

// newest is the newest version of the records that is known here.
func newest() int {
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		panic(err) // the pattern is a constant
	}
	return len(names)
}

// copyName is the file in which records of a version are kept before an upgrade.
func copyName(version string) string { return "inktray-version-" + version + ".db" }

// keepCopy keeps the records as they are, and forgets copies of long ago.
func keepCopy(db *gorm.DB, folder string, version int) error {
	name := filepath.Join(folder, copyName(fmt.Sprint(version)))
	temporary := name + ".part"
	if err := os.Remove(temporary); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := makePrivate(temporary); err != nil {
		return err
	}
	if err := db.Exec("VACUUM INTO ?", temporary).Error; err != nil {
		return errors.Join(err, os.Remove(temporary))
	}
	f, err := os.Open(temporary)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(temporary, name); err != nil {
		return err
	}
	copies, err := filepath.Glob(filepath.Join(folder, copyName("*")))
	if err != nil {
		return err
	}
	number := func(name string) (n int) {
		_, _ = fmt.Sscanf(strings.TrimPrefix(filepath.Base(name), "inktray-version-"), "%d", &n)
		return n
	}
	slices.SortFunc(copies, func(a, b string) int { return number(b) - number(a) })
	for _, old := range copies[min(len(copies), keptCopies):] {
		if err := os.Remove(old); err != nil {
			return err
		}
	}
	return nil
}

// sealedPlaces are the columns that hold sealed secrets.
var sealedPlaces = []struct{ table, column string }{{"mailboxes", "secret"}, {"cabinets", "secret"},
	{"correspondents", "passwords"}, {"addressees", "secret"}, {"people", "totp"},
	{"machines", "secret"}}

// sealedSecrets counts what is sealed.
func sealedSecrets(db *gorm.DB) (n int, err error) {
	for _, p := range sealedPlaces {
		var some int
		if err := db.Raw("SELECT count(*) FROM " + p.table + " WHERE length(" + p.column +
			") > 0").Scan(&some).Error; err != nil {
			return 0, err
		}
		n += some
	}
	var outgoing int
	err = db.Raw("SELECT count(*) FROM settings WHERE key IN ('outgoing', 'backup') AND json_extract(value, " +
		"'$.sealed') <> ''").Scan(&outgoing).Error
	if err != nil {
		return 0, err
	}
	var office int
	err = db.Raw("SELECT count(*) FROM settings WHERE key = 'sign-in' AND json_extract(value, '$.office.sealed') <> " +
		"''").Scan(&office).Error
	outgoing += office
	return n + outgoing, err
}

// keyCheck is sealed in the records, so that another key is noticed at once.
const keyCheck = "key check"

// keyFits says whether a key is that of the records.
func keyFits(db *gorm.DB, key [32]byte) (bool, error) {
	s := withKey(key)
	var kept []string
	if err := db.Raw("SELECT value FROM settings WHERE key = ?", keyCheck).Scan(&kept).Error; err != nil {
		return false, err
	}
	if len(kept) > 0 {
		sealed, err := hex.DecodeString(kept[0])
		if err == nil {
			_, err = s.unseal(sealed, keyCheck)
		}
		return err == nil, nil
	}
	var some []Mailbox // of records from before there was a check
	if err := db.Raw("SELECT id, secret FROM mailboxes WHERE length(secret) > 0 LIMIT 1").Scan(&some).Error; err != nil {
		return false, err
	}
	for i := range some {
		if _, err := s.unseal(some[i].Secret, some[i].ID); err != nil {
			return false, nil
		}
	}
	return true, s.keepCheck(db)
}

// FittingKey finds the key of records among several, the newest last. The records must not be open.
func FittingKey(records string, all [][32]byte) (key [32]byte, err error) {
	db, err := open(records, "", 1)
	if err != nil {
		return key, unreadable(records, err)
	}
	defer func() {
		if pool, poolErr := db.DB(); poolErr == nil {
			err = errors.Join(err, pool.Close())
		}
	}()
	for _, key := range slices.Backward(all) {
		if fits, err := keyFits(db, key); err != nil || fits {
			return key, err
		}
	}
	return key, errors.New("none of the keys in the replica is that of the records")
}

func (s *Store) keepCheck(db *gorm.DB) error {
	sealed, err := s.seal("Ink Tray", keyCheck)
	if err != nil {
		return err
	}
	return db.Exec(
		"INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", keyCheck,
		hex.EncodeToString(sealed)).Error
}

// NewKey gives the records in a folder a new key, because theirs is lost, and forgets
// what was sealed with it: passwords of mailboxes, cabinets, archives and of the server
// that mail is sent by, and the secrets with which calls are signed. It returns how
// many there were. The records must not be in use.
func NewKey(folder string) (forgotten int, err error) {
	path := filepath.Join(folder, recordsFile)
	if there, err := present(path); err != nil || !there {
		return 0, &OpenError{Problem: "there are no records in " + folder, Advice: "Name the folder of the records with " +
			"--data.", Err: err}
	}
	lock, err := lockFolder(folder)
	if err != nil {
		return 0, err
	}
	defer lock.Unlock()
	db, err := open(path, "", 1)
	if err != nil {
		return 0, unreadable(path, err)
	}
	defer func() {
		if pool, poolErr := db.DB(); poolErr == nil {
			err = errors.Join(err, pool.Close())
		}
	}()
	if err := migrate(db, 0); err != nil {
		return 0, unreadable(path, err)
	}
	if forgotten, err = sealedSecrets(db); err != nil {
		return 0, unreadable(path, err)
	}
	keyPath := filepath.Join(folder, keyFile)
	if there, err := present(keyPath); err != nil {
		return 0, err
	} else if there { // kept, in case that it is the right one after all
		if err := os.Rename(keyPath, keyPath+".old"); err != nil {
			return 0, err
		}
	}
	key, err := openKey(keyPath)
	if err != nil {
		return 0, err
	}
	s := withKey(key)
	return forgotten, db.Transaction(func(tx *gorm.DB) error {
		var boxes []Mailbox
		if err := tx.Find(&boxes).Error; err != nil {
			return err
		}
		for i := range boxes {
			sealed, err := s.sealFor("", boxes[i].ID, boxes[i].route())
			if err != nil {
				return err
			}
			if err := exec(tx,
				statement{"UPDATE mailboxes SET secret = ? WHERE id = ?", []any{sealed, boxes[i].ID}}); err != nil {
				return err
			}
		}
		err := exec(tx,
			statement{sql: "UPDATE cabinets SET secret = NULL"},
			statement{sql: "UPDATE correspondents SET passwords = NULL, password_count = 0"},
			statement{sql: "UPDATE addressees SET secret = zeroblob(0)"},
			statement{sql: "UPDATE people SET totp = x'', totp_at = NULL, totp_step = 0"},
			statement{sql: "UPDATE machines SET secret = NULL"},
			statement{sql: "DELETE FROM recovery_codes"},
			statement{sql: "UPDATE settings SET value = json_remove(value, '$.office.sealed') WHERE key = 'sign-in'"},
			statement{sql: "UPDATE settings SET value = json_remove(value, '$.sealed') WHERE key IN ('outgoing', 'backup')"})
		if err != nil {
			return err
		}
		if err := s.keepCheck(tx); err != nil {
			return err
		}
		return note(tx, "inktray records new-key", "new key", fmt.Sprint(forgotten, " secrets forgotten"))
	})
}

// Examine looks whether the records are whole: quickly, or in full, with every index.
// What is found is told in the database's words, at most 100 lines.
func (s *Store) Examine(ctx context.Context, full bool) ([]string, error) {
	found, err := examine(s.reading(ctx), full)
	if err == nil && len(found) > 0 {
		s.damaged(&Trouble{Problem: "Ink Tray's records are damaged", Advice: DamagedAdvice, Damaged: true,
			Err: errors.New(found[0])})
	}
	return found, err
}

// DamagedAdvice is what to do about damaged records.
const DamagedAdvice = "Stop Ink Tray, and put back a copy of the records that is whole. Keep the damaged file: much " +
	"of it can often be saved."

func examine(db *gorm.DB, full bool) ([]string, error) {
	check := "PRAGMA quick_check(100)"
	if full {
		check = "PRAGMA integrity_check(100)"
	}
	var found []string
	if err := db.Raw(check).Scan(&found).Error; err != nil {
		if t := TroubleOf(err); t != nil && t.Damaged {
			return []string{t.Err.Error()}, nil
		}
		return nil, explain(err)
	}
	found = slices.DeleteFunc(found, func(line string) bool { return line == "ok" })
	if !full {
		return found, nil
	}
	var loose []struct{ Table, Parent string }
	if err := db.Raw(`SELECT "table", parent FROM pragma_foreign_key_check LIMIT 100`).Scan(&loose).Error; err != nil {
		return found, explain(err)
	}
	for _, l := range loose {
		found = append(found, fmt.Sprintf("a row of %s names one of %s that is not there", l.Table, l.Parent))
	}
	return found[:min(len(found), 100)], nil
}

// ExamineFolder examines records that are not in use, without changing anything, and says
// which file they are.
func ExamineFolder(folder string, full bool) (path string, found []string, err error) {
	path = filepath.Join(folder, recordsFile)
	if there, err := present(path); err != nil || !there {
		return path, nil, &OpenError{Problem: "there are no records in " + folder, Advice: "Name the folder of the records " +
			"with --data.", Err: err}
	}
	lock, err := lockFolder(folder)
	if err != nil {
		return path, nil, err
	}
	defer lock.Unlock()
	db, err := open(path, "", 1)
	if err != nil {
		if t := TroubleOf(err); t != nil && t.Damaged {
			return path, []string{t.Err.Error()}, nil
		}
		return path, nil, unreadable(path, err)
	}
	defer func() {
		if pool, poolErr := db.DB(); poolErr == nil {
			err = errors.Join(err, pool.Close())
		}
	}()
	found, err = examine(db, full)
	return path, found, err
}

// Path is the file of the records, for people.
func (s *Store) Path() string { return s.path }

// Harm says how the records are damaged; nil while nothing is known of it.
func (s *Store) Harm() *Trouble { return s.harm.Load() }

// damaged remembers that the records are damaged, for Ready.
func (s *Store) damaged(t *Trouble) { s.harm.Store(t) }
