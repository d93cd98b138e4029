package store

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
)

// lines are some lines of a register.
func lines(from, to int) func(yield func(register.Row) bool) {
	return func(yield func(register.Row) bool) {
		for i := from; i < to; i++ {
			if !yield(register.Row{Number: register.Number{Year: 2025, Number: i + 1}, Message: int64(i + 1),
				State: register.Filed, Received: 1_700_000_000, Filed: 1_700_000_100, Size: 10, MailboxID: "box", Mailbox: "gauges",
				RuleID: "r", Rule: "Readings", CabinetID: "c", Cabinet: "files", Kind: "pdf", SenderName: "Oda",
				SenderAddress: fmt.Sprintf("oda%d@tidewatch.example", i%7), Folder: "In", File: fmt.Sprintf("%d.pdf", i),
				Subject: fmt.Sprint("reading ", i)}) {
				return
			}
		}
	}
}

// counted opens records, asks, and says whether the register was read line by line.
func counted(t *testing.T, folder, text string) (found int, read bool, s *Store) {
	t.Helper()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	var whole atomic.Bool
	s.OnStatement(func(sql string) {
		if strings.Contains(sql, "FROM register r ORDER BY") {
			whole.Store(true)
		}
	})
	search, err := register.ParseSearch(text, time.UTC)
	if err == nil {
		found, err = s.Register.Count(t.Context(), System, register.Query{Search: search})
	}
	if err != nil {
		t.Fatal(err)
	}
	return found, whole.Load(), s
}

func TestALargeRegisterIsReadFromItsFile(t *testing.T) {
	defer func(n int) { worthAFile = n }(worthAFile)
	worthAFile = 100
	folder := t.TempDir()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Journal.Enter(t.Context(), lines(0, 300)); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	ask := func(what, text string, want int, byLine bool) *Store {
		t.Helper()
		n, read, s := counted(t, folder, text)
		if n != want || read != byLine {
			t.Errorf("%s: %d found, want %d; read line by line: %v, want %v", what, n, want, read, byLine)
		}
		return s
	}
	end := func(s *Store) {
		t.Helper()
		if err := errors.Join(s.KeepIndex(t.Context()), s.Close()); err != nil {
			t.Fatal(err)
		}
	}
	end(ask("there is no file yet", "reading", 300, true))
	info, err := os.Stat(s.indexPath())
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the file: %v, %v", info, err)
	}
	end(ask("the file is there", "reading", 300, false))
	s = ask("again", "reading", 300, false)
	if err := s.write.Exec("UPDATE register SET subject = 'another word' WHERE number <= 5").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.lock.Unlock(); err != nil { // the service is killed here: the file is that of before
		t.Fatal(err)
	}
	end(ask("changes that the file has not seen follow", "another", 5, false))
	s = ask("they are in it now", "another", 5, false)

	// records that moved on without the file
	if err := s.write.Exec("UPDATE register SET subject = 'moved on' WHERE number = 9").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.write.Exec("DELETE FROM register_changes").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.lock.Unlock(); err != nil {
		t.Fatal(err)
	}
	end(ask("changes that are no longer listed", "moved", 1, true))

	// the file of other records, and one that is broken
	whole, err := os.ReadFile(s.indexPath())
	if err != nil {
		t.Fatal(err)
	}
	for what, content := range map[string][]byte{"cut off": whole[:len(whole)/2], "empty": nil,
		"of others": append([]byte(nil), strings.Replace(string(whole), "register index 2", "register index 1", 1)...)} {
		if err := os.WriteFile(s.indexPath(), content, 0o600); err != nil {
			t.Fatal(err)
		}
		end(ask(what, "reading", 300, true))
	}
	s = ask("before it is erased", "sender:oda3", 43, false)
	if err := s.Settings.Set(t.Context(), indexWord, "of a backup"); err != nil {
		t.Fatal(err)
	}
	if err := s.lock.Unlock(); err != nil {
		t.Fatal(err)
	}
	end(ask("records that were restored", "sender:oda3", 43, true))

	s = ask("before it is erased", "sender:oda3", 43, false)
	if _, err := s.Erasure.Erase(t.Context(), System, "oda3@tidewatch.example", time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(s.indexPath()); err == nil {
		t.Error("the file outlives what was erased")
	}
	of := register.Query{Search: register.Search{Sender: []string{"oda3"}}}
	if n, err := s.Register.Count(t.Context(), System, of); n != 0 || err != nil {
		t.Errorf("after erasing %d are found, %v", n, err)
	}
	end(s)
	if _, err := os.Stat(s.indexPath()); err == nil {
		t.Error("what was erased was written again")
	}
	end(ask("after erasing", "sender:oda3", 0, true))
	text, err := os.ReadFile(s.indexPath())
	if err != nil || strings.Contains(string(text), "oda3@") || !strings.Contains(string(text), "oda4@") {
		t.Errorf("the file after erasing: %d octets, %v", len(text), err)
	}
}

func TestWhatIsAskedAtEveryBeatGoesThroughNoLargeTable(t *testing.T) {
	s := opened(t)
	var asked []string
	s.OnStatement(func(sql string) { asked = append(asked, sql) })
	for _, ask := range []func() error{
		func() error { _, err := s.Journal.Spooled(t.Context()); return err },
		func() error { _, err := s.Journal.Staged(t.Context(), "c"); return err },
		func() error { _, err := s.Passes.Unfinished(t.Context()); return err },
		func() error { return s.Passes.EndLive(t.Context(), time.Now()) },
		func() error { return s.Verifications.End(t.Context(), time.Now()) },
	} {
		if err := ask(); err != nil {
			t.Fatal(err)
		}
	}
	s.OnStatement(nil)
	for _, sql := range asked {
		if !strings.HasPrefix(sql, "SELECT") && !strings.HasPrefix(sql, "UPDATE") {
			continue
		}
		steps, err := s.Explain(sql)
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range steps {
			if strings.HasPrefix(step, "SCAN journal") && !strings.Contains(step, "INDEX journal_planned") {
				t.Errorf("%s:\n%s", step, sql)
			}
		}
	}
}
