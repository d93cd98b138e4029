package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
)

func opened(t testing.TB) *Store {
	t.Helper()
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

var day = time.Date(2026, 12, 31, 23, 59, 0, 0, time.UTC)

// message keeps one message with planned entries and gives the entries back.
func message(t *testing.T, s *Store, mailbox string, uid uint32, items ...string) []Entry {
	t.Helper()
	raw := mail.Parse([]byte(fmt.Sprintf("From: oda@tidewatch.example\r\nSubject: reading %d\r\n\r\nx", uid)))
	m, _, err := NewMessage(mailbox, "INBOX", 1,
		&source.Facts{UID: uid, Received: day, Header: raw.Message.Header, Structure: raw.Structure()}, day)
	if err != nil {
		t.Fatal(err)
	}
	var entries []Entry
	for _, i := range items {
		entries = append(entries,
			Entry{RuleID: "r", Item: i, State: Planned, Name: i + ".csv", Wanted: "A/" + i + ".csv", CabinetID: "c",
				PlannedAt: day})
	}
	look := Look{Messages: []*Message{m}, Entries: map[*Message][]Entry{m: entries}}
	if err := s.Messages.Commit(t.Context(), look); err != nil {
		t.Fatal(err)
	}
	return look.Entries[m]
}

func TestOneItemHasOneLine(t *testing.T) {
	s := opened(t)
	first := message(t, s, "box", 1, "1", "2")
	if first[0].ID == 0 || first[1].ID == 0 {
		t.Fatal("the lines were not kept")
	}
	again := message(t, s, "box", 1, "1", "2", "3")
	if again[0].ID != 0 || again[1].ID != 0 || again[2].ID == 0 {
		t.Errorf("planned twice: %+v", again)
	}
	if due, err := s.Journal.Due(t.Context(), "box", day, nil, AnyLane, 10); err != nil || len(due) != 3 {
		t.Errorf("%d lines are due, want 3 (%v)", len(due), err)
	}
}

func TestNumbersAreDrawnOnceEachYearAndNeverAgain(t *testing.T) {
	s := opened(t)
	e := message(t, s, "box", 1, "1", "2", "3")
	for i, at := range []time.Time{day, day, day.Add(2 * time.Minute)} {
		e[i].Path = "A/" + e[i].Item
		if err := s.Journal.Stage(t.Context(), &e[i], nil, at); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Journal.Stage(t.Context(), &e[0], nil, day.AddDate(1, 0, 0)); err != nil { // staged again after a crash
		t.Fatal(err)
	}
	for i, want := range [][2]int{{2026, 1}, {2026, 2}, {2027, 1}} {
		if got := [2]int{e[i].RegisterYear, e[i].RegisterNumber}; got != want {
			t.Errorf("entry %d has the number %v, want %v", i, got, want)
		}
	}
	e[1].State, e[1].Reason = There, reason.SameContent("a.csv")
	if err := errors.Join(s.Journal.Finish(t.Context(), &e[1], day), s.Journal.File(t.Context(), &e[0], day)); err != nil {
		t.Fatal(err)
	}
	more := message(t, s, "box", 2, "1")
	if err := s.Journal.Stage(t.Context(), &more[0], nil, day); err != nil || more[0].RegisterNumber != 3 {
		t.Errorf("after a number that came to nothing the next is %d, want 3 (%v)", more[0].RegisterNumber, err)
	}
	filed, err := s.Register.List(t.Context(), System, register.Query{Most: 10})
	if err != nil || len(filed) != 1 || filed[0].Number != 1 || filed[0].File != "1" || filed[0].Folder != "A" {
		t.Errorf("the register shows %+v (%v)", filed, err)
	}
	withVoid, err := s.Register.List(t.Context(), System,
		register.Query{Most: 10, Search: register.Search{States: register.All}})
	if err != nil || len(withVoid) != 2 || withVoid[0].Void != e[1].Reason.String() {
		t.Errorf("with the void numbers: %+v (%v)", withVoid, err)
	}
}

// Who follows the register's changes sees each year that changed, also where the
// list of changes was cut, and where it never held an entry.
func TestTheChangesOfTheRegisterAreFollowed(t *testing.T) {
	s := opened(t)
	if years, last, err := s.RegisterFiles.ChangesSince(t.Context(), 0); err != nil || len(years) != 0 || last != 0 {
		t.Errorf("of an empty register: %v, %d, %v", years, last, err)
	}
	e := message(t, s, "box", 1, "1", "2")
	e[0].Path, e[1].Path = "A/x", "A/y"
	if err := errors.Join(s.Journal.Stage(t.Context(), &e[0], nil, day), s.Journal.File(t.Context(), &e[0],
		day)); err != nil {
		t.Fatal(err)
	}
	years, last, err := s.RegisterFiles.ChangesSince(t.Context(), 0)
	if err != nil || len(years) != 1 || years[0] != day.Year() || last == 0 {
		t.Fatalf("after a filing: %v, %d, %v", years, last, err)
	}
	if n, err := s.Register.Count(t.Context(), System, register.Query{}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if err := s.change(t.Context(),
		func(tx *gorm.DB) error { return tx.Exec("DELETE FROM register_changes").Error }); err != nil {
		t.Fatal(err)
	}
	if years, again, err := s.RegisterFiles.ChangesSince(t.Context(), 0); err != nil || len(years) != 1 || again != last {
		t.Errorf("with a list that was cut: %v, %d, %v; want %d", years, again, err, last)
	}
	if years, _, err := s.RegisterFiles.ChangesSince(t.Context(), last); err != nil || len(years) != 0 {
		t.Errorf("nothing changed since, and it says %v, %v", years, err)
	}
	if err := errors.Join(s.Journal.Stage(t.Context(), &e[1], nil, day), s.Journal.File(t.Context(), &e[1],
		day)); err != nil {
		t.Fatal(err)
	}
	if years, later, err := s.RegisterFiles.ChangesSince(t.Context(), last); err != nil || len(years) != 1 ||
		later <= last {
		t.Errorf("after another filing: %v, %d, %v", years, later, err)
	}
	if n, err := s.Register.Count(t.Context(), System, register.Query{}); n != 2 || err != nil {
		t.Errorf("%d are found, %v", n, err)
	}
}

func TestChangesThatFailLeaveTheOthersOfTheirGroup(t *testing.T) {
	s := opened(t)
	var all sync.WaitGroup
	errs := make([]error, 60)
	for i := range errs {
		all.Go(func() {
			errs[i] = s.change(t.Context(), func(tx *gorm.DB) error {
				if err := tx.Exec("INSERT INTO settings (key, value) VALUES (?, 'x')", fmt.Sprint(i)).Error; err != nil {
					return err
				}
				switch i % 3 {
				case 1:
					return errors.New("refused")
				case 2:
					panic("broken")
				}
				return nil
			})
		})
	}
	all.Wait()
	for i, err := range errs {
		value, readErr := s.Settings.Get(t.Context(), fmt.Sprint(i))
		if kept := value == "x"; readErr != nil || kept != (i%3 == 0) || (err == nil) != (i%3 == 0) {
			t.Errorf("change %d: error %v, kept %v", i, err, kept)
		}
	}
}

func TestFlushesAreOn(t *testing.T) {
	s := opened(t)
	var synchronous int
	var journal string
	if err := s.write.Raw("PRAGMA synchronous").Scan(&synchronous).Error; err != nil || synchronous != 2 {
		t.Errorf("synchronous is %d, want 2 (FULL), %v", synchronous, err)
	}
	if err := s.write.Raw("PRAGMA journal_mode").Scan(&journal).Error; err != nil || journal != "wal" {
		t.Errorf("journal_mode is %q, %v", journal, err)
	}
}

func TestASealedSecretOpensForItsOwnerOnly(t *testing.T) {
	s := opened(t)
	m := Mailbox{ID: "a", Name: "gauges", MadeAt: day}
	if err := s.Mailboxes.Add(t.Context(), &m, "hunter two", "test"); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Mailboxes.Secret(&m); err != nil || got != "hunter two" {
		t.Errorf("%q, %v", got, err)
	}
	moved := Mailbox{ID: "b", Secret: m.Secret}
	if _, err := s.Mailboxes.Secret(&moved); err == nil {
		t.Error("the secret opened for another mailbox")
	}
	m.IntervalSeconds = 30
	if err := s.Mailboxes.Change(t.Context(), &m, nil, 1, "test"); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Mailboxes.Secret(&m); err != nil || got != "hunter two" {
		t.Errorf("after a change without a secret: %q, %v", got, err)
	}
	if err := s.Mailboxes.Change(t.Context(), &m, nil, 1, "test"); !errors.Is(err, ErrChanged) {
		t.Errorf("a change of an old revision: %v", err)
	}
}

func TestAViewerSeesOnlyHisMailboxes(t *testing.T) {
	s := opened(t)
	for _, box := range []string{"one", "two"} {
		e := message(t, s, box, 1, "1", "2")
		e[0].Path = "A/x"
		if err := errors.Join(s.Journal.Stage(t.Context(), &e[0], nil, day), s.Journal.File(t.Context(), &e[0],
			day)); err != nil {
			t.Fatal(err)
		}
		e[1].State, e[1].Reason = Held, reason.Doubtful("look")
		if err := errors.Join(s.Journal.Finish(t.Context(), &e[1], day),
			s.Tray.Tell(t.Context(), &Notice{Kind: "mailbox", Object: box, MailboxID: box, Text: "x",
				MadeAt: day})); err != nil {
			t.Fatal(err)
		}
	}
	only := Viewer{Name: "Rowan", Role: Reader, Only: []string{"one"}, AllCabinets: true}
	for who, c := range map[string]struct {
		v    Viewer
		want int
	}{"everything": {System, 2}, "one mailbox": {only, 1}, "nobody": {Viewer{}, 0}} {
		messages, err1 := s.Messages.Find(t.Context(), c.v, MessageQuery{Most: 10})
		filings, err2 := s.Register.List(t.Context(), c.v, register.Query{Most: 10})
		tray, err3 := s.Tray.Entries(t.Context(), c.v, 0, 10)
		notices, err4 := s.Tray.Notices(t.Context(), c.v)
		recent, err5 := s.Journal.Recent(t.Context(), c.v, 10)
		tallies, _, err6 := s.Register.Tallies(t.Context(), c.v, register.Query{}, register.PerMailbox, time.UTC, 0)
		count, err7 := s.Tray.Count(t.Context(), c.v)
		if err := errors.Join(err1, err2, err3, err4, err5, err6, err7); err != nil {
			t.Fatal(err)
		}
		got := []int{len(messages), len(filings), len(tray), len(notices), len(recent) / 2, len(tallies), count / 2}
		for i, n := range got {
			if n != c.want {
				t.Errorf("%s: query %d gives %d, want %d", who, i, n, c.want)
			}
		}
	}
	if again, err := s.Tray.Again(t.Context(), only, Matters{Items: []int64{2, 4}},
		Decision{Given: "again"}); err != nil ||
		again != 1 {
		t.Errorf("tried again %d of another's items too (%v)", again, err)
	}
}

func TestARuleKeepsItsRevisions(t *testing.T) {
	s := opened(t)
	document := &rule.Rule{Name: "Readings", Cabinet: "c", Match: rule.Match{Every: true},
		Look: rule.Look{Mailboxes: rule.Names{"all"}}}
	first, err := s.Rules.Save(t.Context(), document, 0, day, "test")
	if err != nil || first.ID == "" || first.Running {
		t.Fatal(first, err)
	}
	if same, err := s.Rules.Save(t.Context(), document, 0, day, "test"); err != nil || same.Revision != 1 {
		t.Errorf("saving the same made revision %d (%v)", same.Revision, err)
	}
	document.Name = "Tide readings"
	if second, err := s.Rules.Save(t.Context(), document, 1, day, "test"); err != nil || second.Revision != 2 {
		t.Fatal(second, err)
	}
	if again, err := s.Rules.Save(t.Context(), document, 1, day, "test"); err != nil || again.Revision != 2 {
		t.Errorf("saving what is there already: revision %d (%v)", again.Revision, err)
	}
	document.Name = "Readings of tides"
	if _, err := s.Rules.Save(t.Context(), document, 1, day, "test"); !errors.Is(err, ErrChanged) {
		t.Errorf("over a newer revision: %v", err)
	}
	old, err := s.Rules.Revision(t.Context(), first.ID, 1)
	if err != nil || !strings.Contains(old.Document, `"Readings"`) {
		t.Errorf("revision 1 is %s (%v)", old.Document, err)
	}
	if _, err := s.Rules.Save(t.Context(), &rule.Rule{Name: "tide READINGS", Cabinet: "c"}, 0, day, "test"); !errors.Is(
		err,
		ErrTaken,
	) {
		t.Errorf("a second rule of the same name: %v", err)
	}
	if err := s.Rules.Remove(t.Context(), first.ID, "test"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Rules.Save(t.Context(), &rule.Rule{Name: "Tide readings", Cabinet: "c"}, 0, day, "test"); err != nil {
		t.Errorf("the name of a removed rule stays taken: %v", err)
	}
}

func TestTwoServicesDoNotShareRecords(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "in use by another Ink Tray") {
		t.Errorf("opened a second time: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	again, err := Open(dir)
	if err != nil {
		t.Fatalf("after the first has ended: %v", err)
	}
	again.Close()
}

func TestRecordsOfANewerVersionAreRefused(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.write.Exec("PRAGMA user_version = 999").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "newer Ink Tray") {
		t.Errorf("got %v", err)
	}
	dir = t.TempDir()
	if s, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if err := os.WriteFile(filepath.Join(dir, "secret.key"), []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "is not a key") {
		t.Errorf("with a broken key: %v", err)
	}
}

func TestSwitchingOffLetsGoOfWhatIsOnlyPlanned(t *testing.T) {
	s := opened(t)
	document := &rule.Rule{ID: "r", Name: "Readings", Cabinet: "c"}
	if _, err := s.Rules.Save(t.Context(), document, 0, day, "test"); err != nil {
		t.Fatal(err)
	}
	e := message(t, s, "box", 1, "1", "2")
	if err := errors.Join(s.Journal.Stage(t.Context(), &e[0], nil, day), s.Rules.SwitchOff(t.Context(), "r",
		"test")); err != nil {
		t.Fatal(err)
	}
	for i, want := range []State{Staged, SetAside} {
		if got, err := s.Journal.ByID(t.Context(), System, e[i].ID); err != nil || got.State != want {
			t.Errorf("entry %d is %s, want %s (%v)", i, got.State, want, err)
		}
	}
}

// BenchmarkJournal measures what the journal costs an item from its plan to its
// line in the register (three commits), one item at a time and many at once,
// beside what one flush of the same disk costs in the same run.
func BenchmarkJournal(b *testing.B) {
	flush := func(b *testing.B) time.Duration {
		f, err := os.Create(filepath.Join(b.TempDir(), "flush"))
		if err != nil {
			b.Fatal(err)
		}
		defer f.Close()
		const n = 200
		began := time.Now()
		for range n {
			if _, err := f.Write(make([]byte, 4096)); err != nil {
				b.Fatal(err)
			}
			if err := f.Sync(); err != nil {
				b.Fatal(err)
			}
		}
		return time.Since(began) / n
	}
	for _, workers := range []int{1, 16, 64} {
		b.Run(fmt.Sprintf("%d at once", workers), func(b *testing.B) {
			s, err := Open(b.TempDir())
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			raw := mail.Parse([]byte("From: oda@tidewatch.example\r\nSubject: reading\r\n\r\nx"))
			var uid atomic.Uint32
			one := func() error {
				u := uid.Add(1)
				m, _, err := NewMessage("box", "INBOX", 1,
					&source.Facts{UID: u, Received: day, Header: raw.Message.Header, Structure: raw.Structure()}, day)
				if err != nil {
					return err
				}
				look := Look{Messages: []*Message{m},
					Entries: map[*Message][]Entry{
						m: {{RuleID: "r", Item: "1", State: Planned, Name: "a.csv", Wanted: "A/a.csv", CabinetID: "c", PlannedAt: day}}}}
				if err := s.Messages.Commit(b.Context(), look); err != nil {
					return err
				}
				e := look.Entries[m][0]
				e.Path, e.Size, e.SHA256 = fmt.Sprintf("A/a (%d).csv", u), 1, make([]byte, 32)
				return errors.Join(s.Journal.Stage(b.Context(), &e, nil, day), s.Journal.File(b.Context(), &e, day))
			}
			items := 0
			began := time.Now()
			for b.Loop() {
				var group sync.WaitGroup
				for range workers {
					group.Go(func() {
						for range 10 {
							if err := one(); err != nil {
								b.Error(err)
							}
						}
					})
				}
				group.Wait()
				items += 10 * workers
			}
			each := time.Since(began) / time.Duration(items)
			once := flush(b)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(each.Microseconds()), "µs/item")
			b.ReportMetric(float64(once.Microseconds()), "µs/flush")
			b.ReportMetric(float64(each)/float64(once), "flushes/item")
		})
	}
}

// A pass reads of a message, and while it plans, the watcher moves the message
// away: what the pass then keeps is the same message, not another.
func TestAMessageThatWasMovedAwayMeanwhileIsNotMetAgain(t *testing.T) {
	s := opened(t)
	e := message(t, s, "box", 9, "1")
	row, err := s.Messages.ByID(t.Context(), System, e[0].MessageID)
	if err != nil {
		t.Fatal(err)
	}
	there := row
	f := []FollowUp{
		{MessageID: row.ID, MailboxID: "box", RuleID: "r", Kind: "move", What: "Filed", State: Waiting, MadeAt: day}}
	if err := s.Messages.Commit(t.Context(), Look{Messages: []*Message{&row},
		After: map[*Message][]FollowUp{&row: f}}); err != nil {
		t.Fatal(err)
	}
	f[0].FromFolder, f[0].FromValidity, f[0].FromUID = row.Folder, row.UIDValidity, row.UID
	if err := s.FollowUps.BeginFollowUp(t.Context(), &f[0]); err != nil {
		t.Fatal(err)
	}
	row.Folder, row.UIDValidity, row.UID = "Filed", 3, 1
	f[0].State = DidIt
	if err := s.FollowUps.EndFollowUp(t.Context(), &f[0], &row, day); err != nil {
		t.Fatal(err)
	}
	there.ID = 0
	again := []Entry{{RuleID: "r", Item: "1", State: Planned, Name: "1.csv", CabinetID: "c", PlannedAt: day}}
	if err := s.Messages.Commit(t.Context(), Look{Messages: []*Message{&there},
		Entries: map[*Message][]Entry{&there: again}}); err != nil {
		t.Fatal(err)
	}
	if there.ID != row.ID || again[0].ID != 0 {
		t.Errorf("it is message %d with the entry %d; want message %d and no new entry", there.ID, again[0].ID, row.ID)
	}
	if now, err := s.Messages.ByID(t.Context(), System, row.ID); err != nil || now.Folder != "Filed" || now.UID != 1 {
		t.Errorf("the records say it lies in %s (%v)", now.Folder, err)
	}
	// A message that comes back there has another number, and is another matter.
	other := there
	other.ID, other.UID, other.Fingerprint = 0, 10, []byte("another")
	if err := s.Messages.Commit(t.Context(), Look{Messages: []*Message{&other}}); err != nil || other.ID == row.ID {
		t.Errorf("another message is taken for it (%v)", err)
	}
}

// A rule that replied before senders could be verified goes on to reply to everybody;
// a new installation does not.
func TestAnUpgradeLetsRulesReplyAsTheyDid(t *testing.T) {
	for _, document := range []string{`{"afterwards":[{"reply":{"text":"Thank you"}}]}`,
		`{"afterwards":[{"mark":"read"}]}`} {
		folder := t.TempDir()
		recordsOf(t, folder, 6, "INSERT INTO rules (id, name, place, running, revision, document, removed, made_at) VALUES "+
			"('r', 'r', 1, TRUE, 1, '"+document+"', FALSE, CURRENT_TIMESTAMP)")
		s, err := Open(folder)
		if err != nil {
			t.Fatal(err)
		}
		kept, err := s.Settings.Get(t.Context(), "trust")
		if err != nil || (kept == "") == strings.Contains(document, "reply") {
			t.Errorf("%s: %q, %v", document, kept, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// recordsOf makes records as an earlier version of the schema had them.
func recordsOf(t *testing.T, folder string, version int, statements ...string) {
	t.Helper()
	if _, err := openKey(filepath.Join(folder, "secret.key")); err != nil {
		t.Fatal(err)
	}
	db, err := open(filepath.Join(folder, "inktray.db"), "", 1)
	if err == nil {
		err = migrate(db, version)
	}
	for _, sql := range statements {
		if err == nil {
			err = db.Exec(sql).Error
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	pool, err := db.DB()
	if err == nil {
		err = pool.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
}
