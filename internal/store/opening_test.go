package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/register"
)

// withMailbox makes records with one mailbox and closes them.
func withMailbox(t *testing.T, folder string) {
	t.Helper()
	s, err := Open(folder)
	if err == nil {
		err = errors.Join(
			s.Mailboxes.Add(t.Context(), &Mailbox{ID: "box", Name: "office", Kind: "imap", MadeAt: day}, "pw", "test"),
			s.Close(),
		)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func refusedFor(t *testing.T, folder, reason string) {
	t.Helper()
	s, err := Open(folder)
	if err == nil {
		s.Close()
	}
	var told *OpenError
	if !errors.As(err, &told) || !strings.Contains(told.Problem, reason) || told.Advice == "" {
		t.Errorf("opening says %v, want %q", err, reason)
	}
}

func TestAKeyWithoutRecordsIsNotANewInstallation(t *testing.T) {
	for what, lose := range map[string]func(path string) error{
		"missing":                  os.Remove,
		"empty":                    func(path string) error { return os.Truncate(path, 0) },
		"a database without a row": func(path string) error { return errors.Join(os.Remove(path), emptyDatabase(path)) },
	} {
		t.Run(what, func(t *testing.T) {
			folder := t.TempDir()
			withMailbox(t, folder)
			key, err := os.ReadFile(filepath.Join(folder, keyFile))
			if err != nil {
				t.Fatal(err)
			}
			if err := lose(filepath.Join(folder, recordsFile)); err != nil {
				t.Fatal(err)
			}
			for range 2 {
				refusedFor(t, folder, "its records are not")
			}
			if now, err := os.ReadFile(filepath.Join(folder, keyFile)); err != nil || string(now) != string(key) {
				t.Errorf("the key was touched (%v)", err)
			}
			if err := os.Rename(filepath.Join(folder, keyFile), filepath.Join(folder, "away")); err != nil { // as it is advised
				t.Fatal(err)
			}
			s, err := Open(folder)
			if err != nil {
				t.Fatal(err)
			}
			s.Close()
		})
	}
}

func emptyDatabase(path string) error {
	db, err := open(path, "", 1)
	if err != nil {
		return err
	}
	if err := db.Exec("CREATE TABLE x (y)").Error; err != nil {
		return err
	}
	if err := db.Exec("DROP TABLE x").Error; err != nil {
		return err
	}
	pool, err := db.DB()
	return errors.Join(err, pool.Close())
}

func TestALostKeyIsNotReplacedUntilSomebodySaysSo(t *testing.T) {
	folder := t.TempDir()
	withMailbox(t, folder)
	key := filepath.Join(folder, keyFile)
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	refusedFor(t, folder, "is gone, without which the passwords")
	if _, err := os.Stat(key); !os.IsNotExist(err) {
		t.Fatalf("a new key was made: %v", err)
	}
	if n, err := NewKey(folder); err != nil || n != 1 {
		t.Fatalf("forgot %d secrets (%v), want 1", n, err)
	}
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	m, err := s.Mailboxes.ByID(t.Context(), System, "box")
	if err != nil {
		t.Fatal(err)
	}
	if secret, err := s.Mailboxes.Secret(&m); err != nil || secret != "" {
		t.Errorf("the password is %q (%v), want none", secret, err)
	}
	if _, err := NewKey(folder); err == nil {
		t.Error("a new key was made while the records are in use")
	}
	if n, err := NewKey(t.TempDir()); err == nil {
		t.Errorf("a new key was made for no records (%d)", n)
	}
}

func TestAKeyThatNothingNeedsIsMadeAnew(t *testing.T) {
	folder := t.TempDir()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	if err := os.Remove(filepath.Join(folder, keyFile)); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(folder); err != nil {
		t.Fatal(err)
	}
	s.Close()
}

func TestTheKeyOfOtherRecordsIsRefused(t *testing.T) {
	folder, other := t.TempDir(), t.TempDir()
	withMailbox(t, folder)
	withMailbox(t, other)
	key, err := os.ReadFile(filepath.Join(other, keyFile))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, keyFile), key, 0o600); err != nil {
		t.Fatal(err)
	}
	refusedFor(t, folder, "belongs to other records")
	db, err := open(filepath.Join(folder, recordsFile), "", 1) // of a version that kept no check
	if err == nil {
		err = db.Exec("DELETE FROM settings WHERE key = ?", keyCheck).Error
	}
	if err != nil {
		t.Fatal(err)
	}
	refusedFor(t, folder, "belongs to other records")
}

// firstRecords are rows as the first version wrote them.
func firstRecords(t *testing.T, folder string) []string {
	t.Helper()
	key, err := openKey(filepath.Join(folder, keyFile))
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := withKey(key).seal("pw", "box")
	if err != nil {
		t.Fatal(err)
	}
	document := `{"id":"r","name":"Readings","cabinet":"files","look":{"mailboxes":"all"},"match":{},"attachments":[{"take":"everything","folder":"Gauges"}]}`
	at := "2026-05-12 06:02:00+00:00"
	return []string{
		"INSERT INTO people VALUES ('p', 'Ines Marrow', 'hash', 'administrator', '" + at + "')",
		"INSERT INTO people VALUES ('q', 'Rowan Tidd', 'hash', 'clerk', '" + at + "')",
		"INSERT INTO people VALUES ('s', 'Bram Ollard', 'hash', 'reader', '" + at + "')",
		"INSERT INTO rights VALUES ('q', 'box')",
		fmt.Sprintf("INSERT INTO mailboxes (id, name, kind, host, port, encryption, username, secret, interval_seconds, "+
			"revision, made_at) VALUES ('box', 'office', 'imap', 'mail.brackwater.example', 993, 'tls', 'office', x'%x', 60, "+
			"1, '%s')", sealed, at),
		"INSERT INTO cabinets (id, name, kind, folder, identity, revision, made_at) VALUES ('cab', 'files', 'local', " +
			"'/srv/files', 'x', 1, '" + at + "')",
		"INSERT INTO rules (id, name, place, running, revision, document, made_at) VALUES ('r', 'Readings', 1, TRUE, 1, '" +
			document + "', '" + at + "')",
		"INSERT INTO rule_revisions VALUES ('r', 1, '" + document + "', 'Ines Marrow', '" + at + "')",
		"INSERT INTO start_marks (rule_id, mailbox_id, folder, uid_validity, uid_next, made_at) VALUES ('r', 'box', " +
			"'INBOX', 7, 4, '" + at + "')",
		"INSERT INTO folders (mailbox_id, path, uid_validity, uid_next, mod_seq, looked_at) VALUES ('box', 'INBOX', 7, 6, " +
			"0, '" + at + "')",
		"INSERT INTO messages (id, mailbox_id, folder, uid_validity, uid, fingerprint, received_at, size, flags, subject, " +
			"sender_name, sender_address, attachments, header, structure, whole, seen_at) VALUES (1, 'box', 'INBOX', 7, 5, " +
			"x'01', '" + at + "', 900, '', 'Readings of May', 'Oda Fenwick', 'oda@tidewatch.example', 1, x'', x'', FALSE, '" +
			at + "')",
		"INSERT INTO passes (id, kind, rule_id, mailbox_id, made_by, state, most, total, looked, matched, position, note, " +
			"started_at) VALUES (1, 'live', '', 'box', '', 'done', 0, 1, 1, 1, '', '', '" + at + "')",
		"INSERT INTO journal (id, rule_id, rule_revision, message_id, item, round, pass_id, mailbox_id, cabinet_id, state, " +
			"name, kind, wanted, path, reason, advice, attempts, size, sha256, register_year, register_number, planned_at, " +
			"done_at) VALUES (1, 'r', 1, 1, '2', 0, 1, 'box', 'cab', 'filed', 'may.csv', 'table', 'Gauges/may.csv', " +
			"'Gauges/may.csv', '', '', 0, 3, x'ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad', 2026, 1, '" +
			at + "', '" + at + "')",
		"INSERT INTO register VALUES (2026, 1, 1, 1, '', '" + at + "', '" + at + "', '" + at + "', 'box', 'office', 'r', " +
			"'Readings', 'cab', 'files', 'Oda Fenwick', 'oda@tidewatch.example', 'Readings of May', 'Gauges', 'may.csv', " +
			"'table', 3, x'ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad')",
	}
}

// Records with data of the first version go to each later one in turn, and from each
// to the newest: nothing is lost, and the state before is kept.
func TestRecordsOfEveryVersionAreBroughtUpToDateWithTheirData(t *testing.T) {
	latest := newest()
	for from := 1; from < latest; from++ {
		t.Run(fmt.Sprint("from version ", from), func(t *testing.T) {
			folder := t.TempDir()
			recordsOf(t, folder, 1, firstRecords(t, folder)...)
			recordsOf(t, folder, from)
			s, err := Open(folder)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			m, err := s.Mailboxes.ByID(t.Context(), System, "box")
			if err != nil {
				t.Fatal(err)
			}
			if secret, err := s.Mailboxes.Secret(&m); err != nil || secret != "pw" {
				t.Errorf("the password is %q (%v)", secret, err)
			}
			filings, err := s.Register.List(t.Context(), System, register.Query{Most: 5})
			if err != nil || len(filings) != 1 || filings[0].File != "may.csv" ||
				filings[0].SenderAddress != "oda@tidewatch.example" {
				t.Errorf("the register says %+v (%v)", filings, err)
			}
			if err := s.Follow(t.Context()); err != nil {
				t.Error(err)
			}
			if found, err := s.Register.Find(t.Context(), System,
				register.Query{Search: register.Search{Words: []string{"readings"}}, Most: 5}); err != nil || found.Total != 1 {
				t.Errorf("found %d filings (%v), want 1", found.Total, err)
			}
			rules, err := s.Rules.All(t.Context())
			if err != nil || len(rules) != 1 || !rules[0].Running {
				t.Errorf("the rules are %+v (%v)", rules, err)
			}
			for id, all := range map[string]bool{"p": true, "q": false, "s": true} { // as they saw before there were groups
				p, err := s.People.ByID(t.Context(), id)
				if err != nil {
					t.Fatal(err)
				}
				v, err := viewerOf(s.read, &p)
				if err != nil || v.All != all || !v.AllCabinets || !all && !slices.Equal(v.Only, []string{"box"}) {
					t.Errorf("%s sees %+v (%v)", p.Name, v, err)
				}
			}
			entry, err := s.Journal.ByID(t.Context(), System, 1)
			if err != nil || entry.State != Filed {
				t.Errorf("the journal says %+v (%v)", entry, err)
			}
			if found, err := s.Examine(t.Context(), true); err != nil || len(found) > 0 {
				t.Errorf("after the upgrade: %q (%v)", found, err)
			}
			kept := filepath.Join(folder, copyName(fmt.Sprint(from)))
			info, err := os.Stat(kept)
			if err != nil || info.Mode().Perm() != 0o600 {
				t.Fatalf("the copy from before: %v, %v", info, err)
			}
			db, err := open(kept, "", 1)
			if err != nil {
				t.Fatal(err)
			}
			var version int
			if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil || version != from {
				t.Errorf("the copy has version %d (%v), want %d", version, err, from)
			}
		})
	}
}

func TestOnlyTheLastCopiesFromBeforeUpgradesAreKept(t *testing.T) {
	folder := t.TempDir()
	recordsOf(t, folder, 1)
	for _, old := range []string{"0", "00"} {
		if err := os.WriteFile(filepath.Join(folder, copyName(old)), []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	copies, err := filepath.Glob(filepath.Join(folder, copyName("*")))
	if err != nil || len(copies) != keptCopies {
		t.Errorf("copies %v (%v), want %d", copies, err, keptCopies)
	}
}

func TestWithoutRoomForACopyNothingIsUpgraded(t *testing.T) {
	folder := t.TempDir()
	recordsOf(t, folder, 3)
	blocked := filepath.Join(folder, copyName("3")+".part", "in the way")
	if err := os.MkdirAll(blocked, 0o700); err != nil {
		t.Fatal(err)
	}
	refusedFor(t, folder, "no copy of the records could be made")
	if err := os.RemoveAll(filepath.Dir(blocked)); err != nil {
		t.Fatal(err)
	}
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
}

func TestDamagedRecordsAreNamed(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, recordsFile)
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	err = s.write.Exec(
		"INSERT INTO audit (at, actor, action, object) WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT " +
			"i + 1 FROM n WHERE i < 3000) SELECT CURRENT_TIMESTAMP, 'test', 'fill', hex(randomblob(200)) FROM n",
	).Error
	if err != nil {
		t.Fatal(err)
	}
	if found, err := s.Examine(t.Context(), true); err != nil || len(found) > 0 {
		t.Errorf("whole records: %q (%v)", found, err)
	}
	s.Close()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	info, err := f.Stat()
	if err == nil {
		_, err = f.WriteAt([]byte(strings.Repeat("garbage ", 8<<10)), info.Size()/2)
	}
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	if file, found, err := ExamineFolder(folder, false); err != nil || len(found) == 0 || file != path {
		t.Errorf("damaged records that are not in use: %q (%v)", found, err)
	}
	if s, err = Open(folder); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Examine(t.Context(), false); err != nil || len(found) == 0 {
		t.Errorf("damaged records: %q (%v)", found, err)
	}
	var told *Trouble
	if err := s.Ready(t.Context()); !errors.As(err, &told) || !told.Damaged || told.Advice == "" {
		t.Errorf("ready says %v", err)
	}
	s.Close()
	if err := os.WriteFile(path, []byte(strings.Repeat("no database ", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	refusedFor(t, folder, "are damaged")
}

func TestAFolderIntoWhichABackupWasHalfPutBackIsNotTakenForANewOne(t *testing.T) {
	folder := t.TempDir()
	if err := os.MkdirAll(filepath.Join(folder, "restoring", "mail"), 0o700); err != nil {
		t.Fatal(err)
	}
	_, err := Open(folder)
	if err == nil || !strings.Contains(err.Error(), "inktray restore again") {
		t.Errorf("it was opened: %v", err)
	}
}
