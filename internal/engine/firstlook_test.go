package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/pop3"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// behindProxy is a house whose mail server can be taken away.
func behindProxy(t *testing.T) (*house, *testbed.IMAPProxy, *testbed.Dovecot) {
	t.Helper()
	d := testbed.StartDovecot(t)
	proxy := testbed.StartIMAPProxy(t, d.IMAP)
	proxy.Down(true)
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: proxy.Host, Port: proxy.Port, Encryption: reach.None}, Username: m.Username,
				Password: secret})
	})
	h.hurry()
	return h, proxy, d
}

func TestMailThatArrivesBeforeTheFirstLookIsNewToARuleThatWasOnBefore(t *testing.T) {
	h, proxy, d := behindProxy(t)
	c := d.Client("gauges")
	testbed.Append(t, c, "INBOX", raw("long before", "old.csv", "old"), time.Now().Add(-time.Hour))
	h.rule(gaugesRule)
	testbed.Append(t, c, "INBOX", raw("while the server was down", "new.csv", "new"), time.Now())
	proxy.Down(false)
	h.filed(1)
	h.watched()
	h.expect(map[string]string{time.Now().UTC().Format("Gauges/2006/01") + "/new.csv": "new"})
	// What the first look did is what is told of it.
	all, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
	if err != nil || len(all) != 2 {
		t.Fatalf("%d messages are known, %v", len(all), err)
	}
	for _, m := range all {
		_, explained, err := h.engine.Rehearser.Explain(t.Context(), store.System, m.ID, false)
		if err != nil || len(explained) != 1 {
			t.Fatal(explained, err)
		}
		if old := m.Subject == "long before"; (explained[0].Note != "") != old {
			t.Errorf("of “%s”: %q", m.Subject, explained[0].Note)
		}
	}
	// Once a pass has decided it, nothing advises to have old mail filed, whatever it decided.
	id := h.engine.Office.Settings().Rules[0].Rule.ID
	save := func(document string) {
		t.Helper()
		r := mustRule(t, document)
		r.ID = id
		if _, err := h.engine.Office.SaveRule(t.Context(), r, 0, "test"); err != nil {
			t.Fatal(err)
		}
	}
	save(strings.Replace(gaugesRule, "match:", "unless:\n  - {subject: {contains: long before}}\nmatch:", 1))
	h.fileOld(id)
	save(gaugesRule)
	for _, m := range all {
		if _, explained, err := h.engine.Rehearser.Explain(t.Context(), store.System, m.ID, false); err != nil ||
			explained[0].Note != "" {
			t.Errorf("of “%s” after the pass: %q, %v", m.Subject, explained[0].Note, err)
		}
	}
}

func TestAMailboxThatIsAddedLaterIsNewFromThenOnToARuleForAll(t *testing.T) {
	h, proxy, d := behindProxy(t)
	c := d.Client("gauges")
	h.rule(strings.Replace(gaugesRule, "{mailboxes: gauges}", "{mailboxes: all}", 1))
	second := store.Mailbox{ID: "second", Name: "berths", Kind: "imap", Host: "localhost", Encryption: "none",
		Username: "berths", IntervalSeconds: 1, MadeAt: time.Now()}
	if err := h.store.Mailboxes.Add(t.Context(), &second, "pw", "test"); err != nil {
		t.Fatal(err)
	}
	b := d.Client("berths")
	testbed.Append(t, b, "INBOX", raw("long before", "old.csv", "old"), time.Now().Add(-time.Hour))
	testbed.Append(t, b, "INBOX", raw("since it was added", "new.csv", "new"), time.Now())
	testbed.Append(t, c, "INBOX", raw("in the first one", "first.csv", "first"), time.Now())
	h.engine.Watch("second")
	proxy.Down(false)
	h.filed(2)
	month := time.Now().UTC().Format("Gauges/2006/01")
	h.expect(map[string]string{month + "/new.csv": "new", month + "/first.csv": "first"})
}

func TestWhereNobodyKnowsWhenAMessageArrivedAPersonIsAsked(t *testing.T) {
	d := testbed.StartDovecot(t)
	spool, numbers := t.TempDir(), &sourcetest.Numbers{}
	up := make(chan struct{})
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		select {
		case <-up:
		default:
			return nil, &source.Error{Step: source.Connection, Problem: "the server is down"}
		}
		return pop3.Dial(ctx,
			pop3.Config{Server: reach.Server{Host: d.Host, Port: d.POP3S, Encryption: reach.TLS, RootCAs: d.Roots},
				Username: m.Username, Password: secret, Spool: spool, Numbers: numbers})
	})
	h.hurry()
	c := d.Client("gauges")
	at := func(when time.Time, subject string) {
		received := fmt.Sprintf("Received: from tidewatch.example by mail.brackwater.example; %s\r\n",
			when.Format(time.RFC1123Z))
		testbed.Append(t, c, "INBOX", append([]byte(received), raw(subject, subject+".csv", subject)...), when)
	}
	at(time.Now().Add(-time.Hour), "before")
	h.rule(gaugesRule)
	at(time.Now(), "since")
	close(up)
	h.watched()
	var notices []store.Notice
	h.until("a person is asked", func() bool {
		notices, _ = h.store.Tray.Notices(t.Context(), store.System)
		return len(notices) == 1 && notices[0].Kind == "arrival"
	})
	if !strings.Contains(notices[0].Text, "1 message in “gauges” may have arrived after a rule was switched on") ||
		!strings.Contains(notices[0].Text, "“since”") {
		t.Errorf("the tray says %q", notices[0].Text)
	}
}

// waiting is the gauges' rule for a folder that is not there.
func waiting(folder string) string {
	return strings.Replace(gaugesRule, "look: {mailboxes: gauges}", "look: {mailboxes: gauges, folders: "+folder+"}", 1)
}

func TestWhatIsInAFolderThatARuleWaitedForIsNew(t *testing.T) {
	for name, c := range map[string]struct {
		folder string
		made   []string
		into   string
	}{
		"a folder":                  {"To file", []string{"To file"}, "To file"},
		"in other letters":          {"to FILE", []string{"To file"}, "To file"},
		"within others":             {"Work/Papers/To file", []string{"Work/Papers/To file"}, "Work/Papers/To file"},
		"and what lies within that": {"Work, subfolders: true", []string{"Work/Papers/To file"}, "Work/Papers/To file"},
	} {
		t.Run(name, func(t *testing.T) {
			h, d, deliver := dovecot(t)
			c1 := d.Client("gauges")
			deliver("INBOX", raw("old one", "old.csv", "old")) // of May, and known before the rule
			h.watched()
			h.until("it is known", func() bool {
				m, _ := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 5})
				return len(m) == 1
			})
			h.rule(waiting(c.folder))
			h.until("the tray asks for the folder",
				func() bool { n, _ := h.store.Tray.Notices(t.Context(), store.System); return len(n) == 1 })
			// It is made and filled before anybody looks.
			testbed.MakeFolders(t, c1, c.made...)
			if _, err := c1.Select("INBOX", nil).Wait(); err != nil {
				t.Fatal(err)
			}
			if _, err := c1.Copy(allOf(1), c.into).Wait(); err != nil {
				t.Fatal(err)
			}
			deliver(c.into, raw("another old one", "other.csv", "other"))
			h.filed(2) // at the next look, a second later, without anybody rousing it
			h.expect(map[string]string{"Gauges/2026/05/old.csv": "old", "Gauges/2026/05/other.csv": "other"})
			h.until("nothing is asked any more",
				func() bool { n, _ := h.store.Tray.Notices(t.Context(), store.System); return len(n) == 0 })
		})
	}
}

func TestAFolderThatIsRenamedIsNoNewOne(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.hurry()
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Work/Readings")
	deliver("Work/Readings", raw("before the rule", "before.csv", "0"))
	h.watched()
	h.rule(waiting("Work, subfolders: true"))
	h.until("it was looked into", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "Work/Readings")
		return err == nil && f.UIDNext == 2
	})
	deliver("Work/Readings", raw("since", "since.csv", "1"))
	h.filed(1)
	if err := c.Rename("Work/Readings", "Work/Readings of 2026", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	h.until("it is known by its new name",
		func() bool {
			_, err := h.store.Mailboxes.Folder(t.Context(), "box", "Work/Readings of 2026")
			return err == nil
		})
	deliver("Work/Readings of 2026", raw("later", "later.csv", "2"))
	h.filed(2)
	h.expect(map[string]string{"Gauges/2026/05/since.csv": "1", "Gauges/2026/05/later.csv": "2"})
	if n, _ := h.store.Tray.Notices(t.Context(), store.System); len(n) > 0 {
		t.Errorf("told: %+v", n)
	}
}

func TestAMessageThatIsMovedIntoANewFolderUnderARuleIsFiled(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.hurry()
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Work/Old")
	deliver("INBOX", raw("seen in the inbox", "moved.csv", "0"))
	h.watched()
	h.until("it is known", func() bool {
		m, _ := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 5})
		return len(m) == 1
	})
	h.rule(waiting("Work, subfolders: true"))
	h.until("it was looked into",
		func() bool { _, err := h.store.Mailboxes.Folder(t.Context(), "box", "Work/Old"); return err == nil })
	h.until("all was looked through once", func() bool { return !h.engine.Status("box").Looked.IsZero() })
	testbed.MakeFolders(t, c, "Work/New")
	if _, err := c.Select("INBOX", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Copy(allOf(1), "Work/New").Wait(); err != nil {
		t.Fatal(err)
	}
	h.filed(1)
}

func TestAFolderNameThatCannotBeReadIsTold(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := box.dial(ctx, m, secret)
		if err != nil {
			return nil, err
		}
		return oddlyNamed{s.(*boxSession)}, nil
	})
	h.watched()
	h.rule(waiting("all"))
	h.until("it is told", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(n) == 1 && strings.Contains(n[0].Text, "“&bad”")
	})
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.filed(1)
}

// oddlyNamed is a mailbox with a folder whose name cannot be read.
type oddlyNamed struct{ *boxSession }

func (s oddlyNamed) Folders(ctx context.Context) ([]source.Folder, error) {
	folders, err := s.boxSession.Folders(ctx)
	return append(folders, source.Folder{Path: "&bad", Unreadable: true}), err
}

func TestTheTimeOfReceiptIsKnownByTheSameRuleForEverySource(t *testing.T) {
	now := time.Date(2026, 5, 20, 12, 0, 0, 0, time.UTC)
	date := "Date: Tue, 12 May 2026 06:02:00 +0000\r\n"
	received := "Received: from a by b; Wed, 13 May 2026 07:00:00 +0000\r\n"
	for name, c := range map[string]struct {
		header   string
		received time.Time
		stored   time.Time
		want     time.Time
		origin   mail.Origin
	}{
		"the server's record counts most": {received + date, time.Date(2026, 5, 14, 0, 0, 0, 0, time.UTC), now,
			time.Date(2026, 5, 14, 0, 0, 0, 0, time.UTC), mail.ByServer},
		"else the topmost Received field": {received + date, time.Time{}, now, time.Date(2026, 5, 13, 7, 0, 0, 0, time.UTC),
			mail.ByField},
		"one that can be read": {"Received: from a by b; whenever\r\n" + received + date, time.Time{}, now,
			time.Date(2026, 5, 13, 7, 0, 0, 0, time.UTC), mail.ByField},
		"else the file's time": {date, time.Time{}, now, now, mail.ByFile},
		"else the Date field": {date, time.Time{}, time.Time{}, time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC),
			mail.ByDate},
		"a date in the future is none": {"Date: Tue, 12 May 2099 06:02:00 +0000\r\n", time.Time{}, time.Time{}, time.Time{},
			mail.Unknown},
		"and else it is not known": {"Subject: no date\r\n", time.Time{}, time.Time{}, time.Time{}, mail.Unknown},
	} {
		header, _ := mail.ParseHeader([]byte(c.header + "\r\n"))
		f := &source.Facts{UID: 1, Received: c.received, Stored: c.stored, Header: header,
			Structure: mail.Structure{Type: "text", Subtype: "plain"}}
		row, m, err := store.NewMessage("box", "INBOX", 7, f, now)
		if err != nil || !m.Received.Equal(c.want) || m.Origin != c.origin {
			t.Errorf("%s: received %v by %q, want %v by %q (%v)", name, m.Received, m.Origin, c.want, c.origin, err)
			continue
		}
		again, err := row.Facts() // as it is read back from the records
		if err != nil {
			t.Fatal(err)
		}
		back := again.Message("INBOX")
		back.SetReceived(again.Stored, now.AddDate(1, 0, 0))
		if !back.Received.Equal(c.want) || back.Origin != c.origin {
			t.Errorf("%s, read back: received %v by %q, want %v by %q", name, back.Received, back.Origin, c.want, c.origin)
		}
	}
}

func allOf(uid uint32) imaplib.UIDSet { return imaplib.UIDSetNum(imaplib.UID(uid)) }
