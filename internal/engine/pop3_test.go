package engine

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/pop3"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// A POP3 mailbox is filed from like any other; messages are left on the server for so
// many days, and longer while something of them waits.
func TestAPOP3MailboxIsFiledAndTidied(t *testing.T) {
	d := testbed.StartDovecot(t)
	spool, numbers := t.TempDir(), &sourcetest.Numbers{}
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return pop3.Dial(ctx,
			pop3.Config{Server: reach.Server{Host: d.Host, Port: d.POP3S, Encryption: reach.TLS, RootCAs: d.Roots},
				Username: m.Username, Password: secret, Spool: spool, Numbers: numbers})
	})
	c := d.Client("gauges")
	testbed.Append(t, c, "INBOX", raw("before the rule", "old.csv", "old"), may)
	h.until("the message before the rule is known", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "INBOX")
		return err == nil && f.UIDNext == 2
	})
	h.rule(gaugesRule)
	testbed.Append(t, c, "INBOX",
		append([]byte("Date: "+may.Format(time.RFC1123Z)+"\r\n"), raw("reading one", "one.csv", "1")...), may)
	testbed.Append(t, c, "INBOX", raw("reading two", "two.pdf", program), may)
	h.filed(1)
	h.trayOf(1)
	if data, err := os.ReadFile(filepath.Join(h.files, "Gauges", "2026", "05", "one.csv")); err != nil ||
		string(data) != "1" {
		t.Errorf("filed as %q, %v", data, err)
	}
	left := func() int {
		found, _ := filepath.Glob(filepath.Join(d.Maildir("gauges"), "*", "1*"))
		return len(found)
	}
	if n := left(); n != 3 {
		t.Errorf("%d messages are on the server", n)
	}
	m, err := h.store.Mailboxes.ByID(t.Context(), store.System, "box")
	if err != nil {
		t.Fatal(err)
	}
	m.Particulars.LeaveDays = 7
	if err := h.store.Mailboxes.Change(t.Context(), &m, nil, m.Revision, "test"); err != nil {
		t.Fatal(err)
	}
	h.later(6 * 24 * time.Hour)
	h.engine.Watch("box")
	h.watched()
	if n := left(); n != 3 {
		t.Errorf("after six days %d are left", n)
	}
	h.later(2 * 24 * time.Hour)
	h.engine.WakeAll()
	// the one that waits in the tray stays
	h.until("what is settled is taken off the server", func() bool { return left() == 1 })
	all, _ := h.engine.Desk.MattersOf(t.Context(), store.System, store.Matters{}, store.CauseDisguised)
	if _, err := h.engine.Desk.SetAside(t.Context(), store.System, all, ""); err != nil {
		t.Fatal(err)
	}
	h.until("so is the last", func() bool { h.engine.WakeAll(); return left() == 0 })
}
