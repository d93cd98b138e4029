package cli

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

func TestRecordsAreCheckedFromTheCommandLine(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	for _, args := range [][]string{{"records", "check"}, {"records", "check", "--full"}} {
		if out, errs, code := run(t, "", args...); code != 0 || !strings.Contains(out, "are whole") ||
			!strings.Contains(out, "inktray.db") {
			t.Errorf("%v says %q %q, code %d", args, out, errs, code)
		}
	}
	records := filepath.Join(o.folder, "records")
	if out, errs, code := run(t, "", "records", "check", "--data", records); code == 0 ||
		!strings.Contains(errs, "in use by another Ink Tray") {
		t.Errorf("records in use: %q %q, code %d", out, errs, code)
	}
	if _, errs, code := run(t, "", "records", "check", "--data", filepath.Join(o.folder, "none")); code == 0 ||
		!strings.Contains(errs, "there are no records in") {
		t.Errorf("no records: %q, code %d", errs, code)
	}
	copied := filepath.Join(t.TempDir(), "records")
	setUp(t, copied, nil)
	path := filepath.Join(copied, "inktray.db")
	if err := os.WriteFile(path, []byte(strings.Repeat("no database ", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, _, code := run(t, "", "records", "check", "--data", copied); code != 1 ||
		!strings.Contains(out, "are damaged") {
		t.Errorf("damaged records: %q, code %d", out, code)
	}
}

func TestANewKeyForgetsPasswordsAndAsksBefore(t *testing.T) {
	records := filepath.Join(t.TempDir(), "records")
	setUp(t, records, func(s *store.Store) error {
		return s.Mailboxes.Add(t.Context(), &store.Mailbox{ID: "box", Name: "office", Kind: "imap"}, "pw", "test")
	})
	if _, errs, code := run(t, "", "records", "new-key", "--data", records); code != exitUsage ||
		!strings.Contains(errs, "--yes") {
		t.Errorf("without a terminal: %q, code %d", errs, code)
	}
	if err := os.Remove(filepath.Join(records, "secret.key")); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := run(t, "", "serve", "--data", records, "--listen", "127.0.0.1:0"); code == 0 ||
		!strings.Contains(errs, "inktray records new-key --data "+records) {
		t.Errorf("serve without its key: %q, code %d", errs, code)
	}
	if out, errs, code := run(t, "", "records", "new-key", "--data", records, "--yes"); code != 0 ||
		!strings.Contains(out, "1 were forgotten") {
		t.Errorf("new key: %q %q, code %d", out, errs, code)
	}
}

// A program that ends by its own fault says why; one that is killed from outside does
// not, and an old report does not count for a later end.
func TestTheProgramKeepsAReportOfItsOwnFault(t *testing.T) {
	p := startProcess(t)
	report, before := filepath.Join(p.records(), "crash.txt"), filepath.Join(p.records(), "crash-previous.txt")
	p.kill()
	p.start()
	if _, err := os.Stat(before); !os.IsNotExist(err) {
		t.Errorf("a kill from outside left a report (%v)", err)
	}
	if err := p.command.Process.Signal(syscall.SIGSEGV); err != nil {
		t.Fatal(err)
	}
	p.command.Wait() // with an error: that is the point
	p.start()
	text, err := os.ReadFile(before)
	if err != nil || !strings.Contains(string(text), "goroutine") {
		t.Errorf("the report is %.80q (%v)", text, err)
	}
	if info, err := os.Stat(report); err != nil || info.Size() != 0 {
		t.Errorf("the new report: %v, %v", info, err)
	}
	if _, err := call[client.Health](p.api.GetReady(t.Context())); err != nil {
		t.Error(err)
	}
}
