package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"golang.org/x/text/language"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
	"inktray.example/inktray/internal/turn"
)

// house is a service in the process: real records, a real folder, and a mailbox.
type house struct {
	t        testing.TB
	engine   *Engine
	store    *store.Store
	data     string
	files    string
	dial     func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error)
	open     func(c *store.Cabinet) (cabinet.Cabinet, error)
	mailbox  store.Mailbox
	ahead    atomic.Int64 // how far this house's clock is before the real one
	beat     time.Duration
	patience time.Duration // of other messages; 0 for the usual
	lease    time.Duration // how often a run says that it is there; 0 for the usual
	waiting  func() (disk.FS, error)
	resolver *net.Resolver // nil for the system's
	scanner  *scan.Scanner // nil asks nobody
}

// later lets time go by: the clock is not taken to have jumped.
func (h *house) later(d time.Duration) {
	h.t.Helper()
	err := h.engine.clock.Move(h.t.Context(), func() { h.ahead.Add(int64(d)) })
	if err != nil {
		h.t.Fatal(err)
	}
}

// hurry lets what waits be looked at often.
func (h *house) hurry() {
	h.beat = 5 * time.Millisecond
	h.restart()
}

// tester is who does what tests do.
var tester = store.Viewer{Name: "test", Role: store.Administrator, All: true, AllCabinets: true}

const gaugesRule = `
id: tide-gauges
name: Tide gauge readings
cabinet: harbour files
look: {mailboxes: gauges}
match: {sender: {domain: tidewatch.example}}
attachments:
  - take: everything
    folder: Gauges/<received year>/<received month>
`

func newHouse(t testing.TB,
	dial func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error)) *house {
	t.Helper()
	h := &house{t: t, data: t.TempDir(), files: filepath.Join(t.TempDir(), "files"), dial: dial}
	h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) { return local.New(c.Folder, c.Identity), nil }
	var err error
	if h.store, err = store.Open(h.data); err != nil {
		t.Fatal(err)
	}
	believe(t, h.store)
	identity, err := local.Prepare(h.files, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	h.mailbox = store.Mailbox{ID: "box", Name: "gauges", Kind: "imap", Host: "localhost", Encryption: "tls",
		Username: "gauges", IntervalSeconds: 1, MadeAt: time.Now()}
	err = errors.Join(
		h.store.Cabinets.Add(t.Context(), &store.Cabinet{ID: "cab", Name: "harbour files", Kind: "local", Folder: h.files,
			Identity: identity, MadeAt: time.Now()}, "test"),
		h.store.Mailboxes.Add(t.Context(), &h.mailbox, "pw", "test"))
	if err != nil {
		t.Fatal(err)
	}
	h.start()
	t.Cleanup(func() { h.engine.Stop(); statesOf(t, h.store); h.store.Close() })
	return h
}

// crashed changes the records by themselves, to what a crash would have left.
func (h *house) crashed(statement string, args ...any) {
	h.t.Helper()
	db, err := sql.Open("sqlite", "file:"+h.store.Path()+"?_pragma=busy_timeout(10000)")
	if err == nil {
		_, err = db.Exec(statement, args...)
		err = errors.Join(err, db.Close())
	}
	if err != nil {
		h.t.Fatal(err)
	}
}

// statesOf proves that every change of a state was one that the tables allow.
func statesOf(t testing.TB, s *store.Store) {
	t.Helper()
	found, err := s.Unexpected()
	if err == nil && len(found) > 0 {
		t.Errorf("changes of states that no table has: %s", strings.Join(found, "; "))
	}
}

func (h *house) start() {
	h.t.Helper()
	h.engine = New(Config{
		Base: base.New(base.Base{Store: h.store,
			Clock: func() time.Time { return time.Now().Add(time.Duration(h.ahead.Load())) },
			Zone:  time.UTC, Language: language.English, Log: slog.New(slog.DiscardHandler), Beat: h.beat,
			Pause: func(n int) time.Duration {
				if h.beat > 0 {
					return h.beat
				}
				return base.Pause(n)
			}}),
		Dial: h.dial, OpenCabinet: h.open,
		Prepare: func(ctx context.Context, c *store.Cabinet, now time.Time) (string, error) {
			if c.Kind == "local" {
				return local.Prepare(c.Folder, now)
			}
			return tree.Prepare(ctx, davTree(h.t, c.Folder), now)
		}, Spool: filepath.Join(h.data, "spool"), Ready: testbed.Ready(h.t), Resolver: h.resolver, Scanner: h.scanner,
		Patience: h.patience, LeaseBeat: h.lease, Waiting: h.waiting})
	if err := h.engine.Start(); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) restart() {
	h.engine.Stop()
	h.start()
}

// rule saves a rule and switches it on.
func (h *house) rule(document string) string {
	h.t.Helper()
	r, err := rule.ParseRule([]byte(document))
	if err != nil {
		h.t.Fatal(err)
	}
	row, err := h.engine.Office.SaveRule(h.t.Context(), r, 0, "test")
	if err != nil {
		h.t.Fatal(err)
	}
	if err := h.engine.Office.SwitchRule(h.t.Context(), row.ID, true, "test"); err != nil {
		h.t.Fatal(err)
	}
	return row.ID
}

// until waits for something to become true.
func (h *house) until(what string, ok func() bool) {
	h.t.Helper()
	h.untilWithin(testbed.Patience, what, ok)
}

func (h *house) untilWithin(limit time.Duration, what string, ok func() bool) {
	h.t.Helper()
	deadline := time.After(limit)
	for pause := 3 * time.Millisecond; !ok(); pause = testbed.Longer(pause) {
		select {
		case <-deadline:
			notices, _ := h.store.Tray.Notices(h.t.Context(), store.System)
			tray, _ := h.store.Tray.Entries(h.t.Context(), store.System, 0, 10)
			h.t.Fatalf("waited in vain until %s; %d files; notices %+v; tray %+v; status %+v", what, len(h.tree()), notices,
				tray, h.engine.Status("box"))
		case <-time.After(pause):
		}
	}
}

func (h *house) watched() {
	h.t.Helper()
	h.until("the mailbox is watched", func() bool {
		s := h.engine.Status("box").State
		return strings.HasPrefix(s, "watched") || strings.HasPrefix(s, "checked")
	})
}

// tree is every file of the cabinet with its contents.
func (h *house) tree() map[string]string {
	files := map[string]string{}
	filepath.WalkDir(h.files, func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.Contains(name, cabinet.Reserved) {
			relative, _ := filepath.Rel(h.files, name)
			data, _ := os.ReadFile(name)
			files[filepath.ToSlash(relative)] = string(data)
		}
		return nil
	})
	return files
}

func (h *house) expect(want map[string]string) {
	h.t.Helper()
	h.until(fmt.Sprintf("%d files are there", len(want)), func() bool { return len(h.tree()) >= len(want) })
	got := h.tree()
	for name, content := range want {
		if got[name] != content {
			h.t.Errorf("%s holds %.60q, want %.60q", name, got[name], content)
		}
	}
	if len(got) != len(want) {
		h.t.Errorf("%d files, want %d: %v", len(got), len(want), got)
	}
	// a message that is read a second time is staged before it is known as filed
	h.until("no unfinished file is left", func() bool {
		left, _ := os.ReadDir(filepath.Join(h.files, ".inktray", "staging"))
		return len(left) == 0
	})
}

// raw writes a message with attachments.
func raw(subject string, attachments ...string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nSubject: "+
		"%s\r\nMessage-ID: <%s@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\nSee the "+
		"attachments.\r\n", subject, strings.ReplaceAll(subject, " ", "."))
	for i := 0; i+1 < len(attachments); i += 2 {
		fmt.Fprintf(&b, "--b\r\nContent-Type: application/octet-stream; name=\"%s\"\r\nContent-Disposition: "+
			"attachment\r\n\r\n%s\r\n", attachments[i], attachments[i+1])
	}
	b.WriteString("--b--\r\n")
	return []byte(b.String())
}

var may = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

// dovecot is a house whose mailbox lies on a real server.
func dovecot(t *testing.T) (*house, *testbed.Dovecot,
	func(folder string, message []byte, flags ...imaplib.Flag) uint32) {
	t.Helper()
	d := testbed.StartDovecot(t)
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
				Username: m.Username, Password: secret})
	})
	return h, d, func(folder string, message []byte, flags ...imaplib.Flag) uint32 {
		t.Helper()
		c := d.Client("gauges")
		defer c.Close()
		return testbed.Append(t, c, folder, message, may, flags...)
	}
}

func TestNewMailIsFiledAndOldMailIsNot(t *testing.T) {
	h, _, deliver := dovecot(t)
	deliver("INBOX", raw("before the rule", "old.csv", "old"))
	h.watched()
	h.until("the old message is known", func() bool {
		m, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 1})
		return err == nil && len(m) == 1
	})
	h.rule(gaugesRule)
	deliver("INBOX", raw("readings", "st3.csv", "a;b", "../../etc/cron", "no escape", "st3.csv", "another content"))
	h.expect(map[string]string{"Gauges/2026/05/st3.csv": "a;b", "Gauges/2026/05/cron": "no escape",
		"Gauges/2026/05/st3 (2).csv": "another content"})
	h.until("all is in the register",
		func() bool {
			n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
			return n == 3
		})
	filings, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 10})
	if err != nil {
		t.Fatal(err)
	}
	first := filings[2]
	if first.Number != 1 || first.Rule != "Tide gauge readings" || first.Mailbox != "gauges" ||
		first.SenderAddress != "oda@tidewatch.example" || first.Subject != "readings" ||
		first.Folder != "Gauges/2026/05" || first.File != "st3.csv" || first.Size != 3 || !first.ReceivedAt.Equal(may) {
		t.Errorf("the register says %+v", first)
	}
	if info, err := os.Stat(filepath.Join(h.files, "Gauges/2026/05/st3.csv")); err != nil || !info.ModTime().Equal(may) {
		t.Errorf("the file's time is %v, want when it was received", info.ModTime())
	}
	delays := func() int {
		t.Helper()
		d, err := h.store.Journal.Delays(t.Context(), store.System, 100)
		if err != nil {
			t.Fatal(err)
		}
		return len(d)
	}
	// What comes between a look and the waiting is not announced: then others come until one is.
	if n := delays(); n != 3 && n != 0 {
		t.Errorf("of 3 files of one message %d have a delay", n)
	}
	for n := 1; delays() == 0; n++ {
		if n > 20 {
			t.Fatal("none of 20 messages that were announced has a delay")
		}
		deliver("INBOX", raw(fmt.Sprint("more ", n), fmt.Sprintf("more%d.csv", n), fmt.Sprint("more ", n)))
		h.until("it is in the register",
			func() bool {
				all, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
				return all == 3+n
			})
	}
}

func TestOldMailIsFiledOnceOnRequest(t *testing.T) {
	h, _, deliver := dovecot(t)
	want := map[string]string{}
	for i := range 120 {
		deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint("content ", i)))
		want[fmt.Sprintf("Gauges/2026/05/r%d.csv", i)] = fmt.Sprint("content ", i)
	}
	h.watched()
	id := h.rule(gaugesRule)
	for range 2 { // a second pass finds everything filed
		pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
		if err != nil {
			t.Fatal(err)
		}
		h.until("the pass is done",
			func() bool {
				p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
				return p.State == store.Done
			})
		h.expect(want)
		p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		if p.Total != 120 || p.Looked != 120 || p.Matched != 120 {
			t.Errorf("the pass says %+v", p)
		}
	}
	if n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{}); n != 120 {
		t.Errorf("%d lines in the register, want 120", n)
	}
}

func TestAPassIsPausedGoesOnAndSurvivesARestart(t *testing.T) {
	box := &memory{}
	want := map[string]string{}
	for i := range 300 {
		box.add(raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint("content ", i)))
		want[fmt.Sprintf("Gauges/2026/05/r%d.csv", i)] = fmt.Sprint("content ", i)
	}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester); err == nil {
		t.Error("a second pass of the same rule began beside the first")
	}
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Paused); err != nil {
		t.Fatal(err)
	}
	h.until("it is paused",
		func() bool {
			p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			return p.State == store.Paused
		})
	if p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID); p.Looked >= 300 || p.Looked%passBatch != 0 {
		t.Errorf("paused after %d messages", p.Looked)
	}
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Running); err != nil {
		t.Fatal(err)
	}
	h.until("it went on", func() bool { return len(h.tree()) > 60 })
	h.restart()
	h.until("it is done", func() bool {
		p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return p.State == store.Done
	})
	h.until("nothing waits",
		func() bool {
			_, waits, _ := h.store.Journal.NextDue(t.Context(), "box", nil, store.AnyLane)
			return !waits
		})
	h.expect(want)
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Stopped); err == nil {
		t.Error("a pass that ended was stopped")
	}
}

func TestALabelPutOnLaterFilesAnOldMessage(t *testing.T) {
	h, d, deliver := dovecot(t)
	uid := deliver("INBOX", raw("old one", "old.csv", "old"))
	deliver("INBOX", raw("other", "other.csv", "other"))
	h.watched()
	h.rule(strings.Replace(gaugesRule, "match: {", "match: {label: To file, ", 1))
	c := d.Client("gauges")
	if _, err := c.Select("INBOX", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	if err := c.Store(imaplib.UIDSetNum(imaplib.UID(uid)),
		&imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Flags: []imaplib.Flag{"To_file"}}, nil).Close(); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"Gauges/2026/05/old.csv": "old"})
}

func TestAfterARenumberingNothingIsFiledTwice(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("one", "one.csv", "1"))
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1"})
	box.renumber(raw("unseen and old", "unseen.csv", "x"))
	h.until("a person is asked", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(n) == 1 && n[0].Kind == "renumbered"
	})
	box.add(raw("two", "two.csv", "2"))
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1", "Gauges/2026/05/two.csv": "2"})
}

func TestTheSameMessageInTwoFoldersIsFiledOnce(t *testing.T) {
	h, _, deliver := dovecot(t)
	h.watched()
	h.rule(
		strings.Replace(gaugesRule, "look: {mailboxes: gauges}", "look: {mailboxes: gauges, folders: [inbox, archive]}",
			1),
	)
	h.until("both folders are known",
		func() bool { f, _ := h.store.Mailboxes.FoldersOf(t.Context(), "box"); return len(f) == 2 })
	message := raw("one", "one.csv", "1")
	deliver("INBOX", message)
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1"})
	deliver("Archive", message)
	h.until("the second is decided", func() bool {
		recent, _ := h.store.Journal.Recent(t.Context(), store.System, 10)
		return len(recent) == 2 && recent[0].State == store.There
	})
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1"})
}

func TestWhileTheCabinetIsAwayMailWaits(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	away := h.files + "-away"
	if err := errors.Join(os.Rename(h.files, away), os.Mkdir(h.files, 0o755)); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err == nil {
		t.Fatal("an empty folder passed for the cabinet")
	}
	box.add(raw("one", "one.csv", "1"))
	h.until("the tray says so", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(n) == 1 && n[0].Kind == "cabinet" && strings.Contains(n[0].Text, "identity file")
	})
	if len(h.tree()) != 0 {
		t.Errorf("something was written into the empty folder: %v", h.tree())
	}
	if err := errors.Join(os.Remove(h.files), os.Rename(away, h.files)); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1"})
	h.until("the tray is empty", func() bool { n, _ := h.store.Tray.Count(t.Context(), store.System); return n == 0 })
}

func TestWhatCameWhileTheServerWasAwayIsFiled(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.watched()
	h.rule(gaugesRule)
	d.Stop()
	h.until("it is noticed", func() bool { return h.engine.Status("box").State == "out of reach" })
	d.Start()
	deliver("INBOX", raw("meanwhile", "m.csv", "m"))
	h.expect(map[string]string{"Gauges/2026/05/m.csv": "m"})
}

func TestAWrongPasswordIsTold(t *testing.T) {
	d := testbed.StartDovecot(t)
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, _ string) (source.Session, error) {
		return imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
				Username: m.Username, Password: "wrong"})
	})
	h.until("the tray says so", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(n) == 1 && strings.Contains(n[0].Text, "refuses the name") && n[0].Advice != ""
	})
}

func TestAProgramInDisguiseIsHeldAndNothingWritten(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("invoice", "certificate.pdf", "MZ"+strings.Repeat("\x00", 200), "good.pdf", "%PDF"))
	h.expect(map[string]string{"Gauges/2026/05/good.pdf": "%PDF"})
	tray, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if err != nil || len(tray) != 1 || tray[0].State != store.Held ||
		!strings.Contains(tray[0].Reason.String(), "named .pdf, but it is a Windows program") {
		t.Errorf("the tray holds %+v, %v", tray, err)
	}
	if n, err := h.engine.Desk.SetAside(t.Context(), store.System, store.Matters{Items: []int64{tray[0].ID}},
		""); n != 1 ||
		err != nil {
		t.Errorf("set aside: %d, %v", n, err)
	}
}

func TestTryingAgainRedoesOnlyWhatFailedUnderTheRuleAsItIsNow(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	if err := os.WriteFile(filepath.Join(h.files, "Gauges"), []byte("a file in the way"), 0o644); err != nil {
		t.Fatal(err)
	}
	box.add(raw("one", "one.csv", "1"))
	h.until("it failed",
		func() bool { tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10); return len(tray) == 1 })
	tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if !strings.Contains(tray[0].Reason.String(), "cannot be a folder") || tray[0].Reason.Advice() == "" {
		t.Errorf("the tray says %q, %q", tray[0].Reason, tray[0].Reason.Advice())
	}
	r, _ := rule.ParseRule([]byte(strings.Replace(gaugesRule, "folder: Gauges", "folder: Tide", 1)))
	if _, err := h.engine.Office.SaveRule(t.Context(), r, 0, "test"); err != nil {
		t.Fatal(err)
	}
	if n, err := h.engine.Desk.Again(t.Context(), store.System, store.Matters{Items: []int64{tray[0].ID}}); n != 1 ||
		err != nil {
		t.Fatal(n, err)
	}
	h.expect(map[string]string{"Gauges": "a file in the way", "Tide/2026/05/one.csv": "1"})
	entry, err := h.store.Journal.ByID(t.Context(), store.System, tray[0].ID)
	if err != nil || entry.RuleRevision != 2 || entry.RuleID != id {
		t.Errorf("the journal says %+v, %v", entry, err)
	}
}

func TestARegisterNumberInANameIsTheOneInTheRegister(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule + "    name: <register.year>-<register pad 4> <file.stem>\n")
	box.add(raw("one", "a.csv", "1", "b.csv", "2"))
	year := time.Now().UTC().Year()
	h.expect(map[string]string{fmt.Sprintf("Gauges/2026/05/%d-0001 a.csv", year): "1",
		fmt.Sprintf("Gauges/2026/05/%d-0002 b.csv", year): "2"})
}

func TestTextIsReadOnlyWhereTheVerdictHangsOnIt(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(strings.Replace(gaugesRule, "attachments:", "unless: [{words: {in: body, any: draft}}]\nattachments:", 1))
	box.add([]byte(strings.Replace(string(raw("draft one", "a.csv", "1")), "See the attachments.", "This is a DRAFT.", 1)))
	box.add([]byte(strings.Replace(string(raw("another sender", "b.csv", "2")), "tidewatch.example>", "marram.example>",
		1)))
	box.add(raw("good", "c.csv", "3"))
	h.expect(map[string]string{"Gauges/2026/05/c.csv": "3"})
	if got := box.read(); slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, "2/") }) {
		t.Errorf("parts of a message of another sender were read: %v", got)
	}
}

func TestARehearsalShowsWhatFilingThenDoes(t *testing.T) {
	box := &memory{}
	for i := range 5 {
		box.add(raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint("content ", i), "same.csv",
			fmt.Sprint("same name ", i)))
	}
	box.add(raw("forged", "x.lnk", "x"))
	h := newHouse(t, box.dial)
	h.watched()
	document, err := rule.ParseRule([]byte(gaugesRule))
	if err != nil {
		t.Fatal(err)
	}
	rehearsed, err := h.engine.Rehearser.Rehearse(t.Context(), store.System, rehearsal.RehearsalOf{Rule: document})
	if err != nil {
		t.Fatal(err)
	}
	if rehearsed.Looked != 6 || rehearsed.Matching != 6 || rehearsed.Files != 10 || rehearsed.Clashes != 4 {
		t.Errorf("the rehearsal says %d looked, %d matching, %d files, %d clashes", rehearsed.Looked, rehearsed.Matching,
			rehearsed.Files, rehearsed.Clashes)
	}
	if len(h.tree()) != 0 {
		t.Fatal("the rehearsal wrote something")
	}
	id := h.rule(gaugesRule)
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("the pass is done",
		func() bool {
			p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			return p.State == store.Done
		})
	got := h.tree()
	for _, m := range rehearsed.Messages {
		for _, i := range m.Items {
			if _, filed := got[i.Path()]; i.Verdict == "filed" && i.Clash == "" && !filed {
				t.Errorf("the rehearsal promised %s", i.Path())
			} else if i.Verdict == "left out" && i.Path() != "" {
				t.Errorf("%s is left out and has a path", i.Item.Item.Name)
			}
		}
	}
	if len(got) != 10 {
		t.Errorf("%d files, want 10", len(got))
	}
	again, err := h.engine.Rehearser.Rehearse(t.Context(), store.System, rehearsal.RehearsalOf{Rule: document})
	if err != nil || again.Files != 0 {
		t.Errorf("after filing the rehearsal still promises %d files (%v)", again.Files, err)
	}
}

// TestThePowerMayGoAtAnyMomentOfAFiling cuts the cabinet's power at every
// operation, starts the service again, and compares with what was sent.
func TestThePowerMayGoAtAnyMomentOfAFiling(t *testing.T) {
	run := func(t *testing.T, cut int) (steps int) {
		box := &memory{}
		h := newHouse(t, box.dial)
		defer func() { h.engine.Stop() }()
		f := faultfs.New()
		prepareFault(t, f)
		h.open = func(*store.Cabinet) (cabinet.Cabinet, error) {
			return local.On("memory", "x", func() (disk.FS, error) { return f, nil }), nil
		}
		h.restart()
		h.watched()
		h.rule(gaugesRule)
		before := f.Steps()
		if cut > 0 {
			f.CutAt(cut)
		}
		box.add(raw("one", "a.csv", "first", "A.csv", "second"))
		if cut > 0 {
			h.until("the power goes or all is filed", func() bool {
				n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
				notices, _ := h.store.Tray.Notices(t.Context(), store.System)
				return n == 2 || len(notices) > 0
			})
			h.engine.Stop()
			f.PowerUp()
			h.ahead.Add(int64(time.Hour)) // what was put off is due
			h.start()
		}
		h.until("both are in the register",
			func() bool {
				n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
				return n == 2
			})
		steps = f.Steps() - before
		h.engine.Stop()
		f.PowerUp() // what was confirmed lasts, and what is left over is swept
		h.start()
		got := map[string]string{}
		for name, content := range f.Files() {
			if !strings.HasPrefix(name, ".inktray/cabinet") && !strings.HasPrefix(name, cabinet.NotesFolder) {
				got[name] = content
			}
		}
		inOrder := got["Gauges/2026/05/a.csv"] == "first" && got["Gauges/2026/05/A (2).csv"] == "second"
		overtaken := got["Gauges/2026/05/A.csv"] == "second" && got["Gauges/2026/05/a (2).csv"] == "first"
		if len(got) != 2 || !inOrder && !overtaken {
			t.Errorf("cut at %d: %v", cut, got)
		}
		return steps
	}
	total := run(t, 0)
	stride := 1
	if testing.Short() {
		stride = 5
	}
	for cut := 1; cut <= total; cut += stride {
		t.Run(fmt.Sprint(cut), func(t *testing.T) {
			t.Parallel()
			run(t, cut)
		})
	}
}

// A file is replaced while the power goes at every operation: in the end the
// later one has the name, and the earlier one is kept.
func TestThePowerMayGoAtAnyMomentOfAReplacement(t *testing.T) {
	run := func(t *testing.T, cut int) (steps int) {
		box := &memory{validity: 1, received: map[int]time.Time{1: may, 2: may.AddDate(0, 0, 1)}}
		h := newHouse(t, box.dial)
		defer func() { h.engine.Stop() }()
		f := faultfs.New()
		prepareFault(t, f)
		h.open = func(*store.Cabinet) (cabinet.Cabinet, error) {
			return local.On("memory", "x", func() (disk.FS, error) { return f, nil }), nil
		}
		h.restart()
		h.watched()
		h.rule(gaugesRule + "    if name exists: replace\n")
		box.add(raw("one", "latest.csv", "first"))
		filed := func(n int) func() bool {
			return func() bool {
				got, _ := h.store.Register.Count(t.Context(), store.System, register.Query{})
				return got == n
			}
		}
		h.until("the first is filed", filed(1))
		before := f.Steps()
		if cut > 0 {
			f.CutAt(cut)
		}
		box.add(raw("two", "latest.csv", "second"))
		if cut > 0 {
			h.until("the power goes or all is filed", func() bool {
				notices, _ := h.store.Tray.Notices(t.Context(), store.System)
				return filed(2)() || len(notices) > 0
			})
			h.engine.Stop()
			f.PowerUp()
			h.ahead.Add(int64(time.Hour))
			h.start()
		}
		h.until("both are in the register", filed(2))
		steps = f.Steps() - before
		h.engine.Stop()
		f.PowerUp()
		h.start()
		kept := ""
		for name, content := range f.Files() {
			switch {
			case strings.HasPrefix(name, ".inktray/replaced/"):
				kept += content
			case name == "Gauges/2026/05/latest.csv" && content == "second" || strings.HasPrefix(name, ".inktray/cabinet") ||
				strings.HasPrefix(name, cabinet.NotesFolder):
			default:
				t.Errorf("cut at %d: %s holds %q", cut, name, content)
			}
		}
		first, err := h.store.Register.ByNumber(t.Context(), store.System, h.engine.Now().Year(), 1)
		if kept != "first" || err != nil || first.ReplacedBy == "" {
			t.Errorf("cut at %d: kept is %q, the register says %+v (%v)", cut, kept, first, err)
		}
		return steps
	}
	total := run(t, 0)
	for cut := 1; cut <= total; cut++ {
		t.Run(fmt.Sprint(cut), func(t *testing.T) {
			t.Parallel()
			run(t, cut)
		})
	}
}

func prepareFault(t *testing.T, f *faultfs.FS) {
	t.Helper()
	w, err := error(nil), errors.Join(f.Mkdir(".inktray"), f.Mkdir(".inktray/staging"))
	if err != nil || w != nil {
		t.Fatal(err)
	}
	file, err := f.Create(".inktray/cabinet.json")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(file, `{"id":"x"}`)
	if err := errors.Join(file.Sync(), f.SyncDir(".inktray"), f.SyncDir(".")); err != nil {
		t.Fatal(err)
	}
}

// memory is a mailbox in memory with one folder, for what a real server does
// rarely or slowly.
type memory struct {
	mutex    sync.Mutex
	messages [][]byte
	validity uint32
	parts    []string
	waiting  []chan struct{}
	received map[int]time.Time // by UID; else in May
	opened   int               // how often its folder was opened
}

func (m *memory) add(message []byte) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.messages = append(m.messages, message)
	m.announce()
}

func (m *memory) renumber(unseen []byte) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.messages = append([][]byte{unseen}, m.messages...)
	m.validity += 7
	m.announce()
}

func (m *memory) announce() {
	for _, w := range m.waiting {
		close(w)
	}
	m.waiting = nil
}

func (m *memory) read() []string {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	return slices.Clone(m.parts)
}

func (m *memory) dial(context.Context, *store.Mailbox, string) (source.Session, error) {
	return &memorySession{box: m}, nil
}

type memorySession struct {
	box  *memory
	seen int
}

func (s *memorySession) Folders(context.Context) ([]source.Folder, error) {
	return []source.Folder{{Path: "INBOX", Role: "inbox", Selectable: true}}, nil
}

func (s *memorySession) Open(context.Context, string) (source.State, error) {
	s.box.mutex.Lock()
	defer s.box.mutex.Unlock()
	s.seen = len(s.box.messages)
	s.box.opened++
	return source.State{UIDValidity: s.box.validity + 1, UIDNext: uint32(len(s.box.messages) + 1)}, nil
}

func (s *memorySession) UIDs(_ context.Context, q source.Query) ([]uint32, error) {
	s.box.mutex.Lock()
	defer s.box.mutex.Unlock()
	var uids []uint32
	for u := max(q.From, 1); u <= uint32(len(s.box.messages)); u++ {
		uids = append(uids, u)
	}
	return uids, nil
}

func (s *memorySession) Facts(_ context.Context, uids []uint32) ([]source.Facts, error) {
	s.box.mutex.Lock()
	defer s.box.mutex.Unlock()
	var all []source.Facts
	for _, u := range uids {
		r := mail.Parse(s.box.messages[u-1])
		received, ok := s.box.received[int(u)]
		if !ok {
			received = may
		}
		all = append(all,
			source.Facts{UID: u, Received: received, Size: r.Message.Size, Header: r.Message.Header, Structure: r.Structure()})
	}
	return all, nil
}

func (s *memorySession) Part(_ context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	s.box.mutex.Lock()
	defer s.box.mutex.Unlock()
	s.box.parts = append(s.box.parts, fmt.Sprintf("%d/%s", f.UID, item))
	r, err := mail.Parse(s.box.messages[f.UID-1]).Open(item)
	return io.NopCloser(r), err
}

func (s *memorySession) Head(ctx context.Context, f *source.Facts, item string, octets int64) ([]byte, error) {
	r, err := s.Part(ctx, f, item)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, octets))
}

func (s *memorySession) Changed(context.Context, uint64) ([]uint32, error) { return nil, nil }
func (s *memorySession) Pushes() bool                                      { return true }
func (s *memorySession) Close() error                                      { return nil }

func (s *memorySession) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	s.box.mutex.Lock()
	if len(s.box.messages) > s.seen {
		s.box.mutex.Unlock()
		return source.Event{At: time.Now(), Arrived: true}, nil
	}
	announced := make(chan struct{})
	s.box.waiting = append(s.box.waiting, announced)
	s.box.mutex.Unlock()
	select {
	case <-announced:
		return source.Event{At: time.Now(), Arrived: true}, nil
	case <-time.After(longest):
	case <-wake:
	case <-ctx.Done():
		return source.Event{}, ctx.Err()
	}
	return source.Event{}, nil
}

func TestOldMailIsFiledFromTheDayOnExactly(t *testing.T) {
	box := &memory{} // it lists everything, as a server may that counts days in another zone
	box.add(raw("one", "one.csv", "1"))
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	for _, c := range []struct {
		since time.Time
		files int
	}{{may.Add(time.Minute), 0}, {may, 1}} {
		pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id, Since: c.since}, tester)
		if err != nil {
			t.Fatal(err)
		}
		h.until("the pass is done",
			func() bool {
				p, _ := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
				return p.State == store.Done
			})
		if n := len(h.tree()); n != c.files {
			t.Errorf("since %v: %d files, want %d", c.since, n, c.files)
		}
	}
}

// While old mail is gone over in which nothing follows, the watcher looks into nothing: each look costs a server with
// many messages.
func TestAPassLetsItsWatcherRest(t *testing.T) {
	const messages = 20 * passBatch
	box := &memory{}
	for i := range messages {
		box.messages = append(box.messages, raw(fmt.Sprint("reading ", i), "a.csv", "1"))
	}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	opened := func() int {
		box.mutex.Lock()
		defer box.mutex.Unlock()
		return box.opened
	}
	for was := -1; was != opened(); { // the rule has reached the watcher
		was = opened()
		<-time.After(2 * soonAfter)
	}
	before := opened()
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id, Since: may.Add(time.Minute)}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("the pass is done", func() bool {
		p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return err == nil && p.State == store.Done && p.Looked == messages
	})
	if n := opened() - before; n > 10 { // its own two connections, and the look at its end
		t.Errorf("the folder was opened %d times for %d batches", n, messages/passBatch)
	}
}

func TestAMessageThatCannotBeUnderstoodStopsNothing(t *testing.T) {
	box := &memory{}
	box.add(raw("odd one", "a.csv", "1"))
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	s, _ := box.dial(t.Context(), nil, "")
	v := &visit{engine: h.engine, mailbox: &h.mailbox, session: s, pace: &turn.Pace{}}
	if err := v.enter(t.Context(), "INBOX", true); err != nil {
		t.Fatal(err)
	}
	mistakes := 0
	err := v.batches().process(t.Context(), []uint32{1},
		&batch{pass: &store.Pass{Kind: "live", MailboxID: "box"}, takes: func(*rule.Compiled, uint32) bool {
			if mistakes++; mistakes == 1 {
				panic("a mistake in the program")
			}
			return true
		}})
	if err != nil {
		t.Fatal(err)
	}
	tray, err := h.store.Retries.InTray(t.Context(), store.System, 10)
	if err != nil || len(tray) != 1 || tray[0].Reason.String() != "Ink Tray could not understand this message" ||
		tray[0].Cause != store.CauseUnread {
		t.Errorf("the tray says %+v, %v", tray, err)
	}
	box.add(raw("next", "b.csv", "2"))
	h.expect(map[string]string{"Gauges/2026/05/b.csv": "2"})
}

// believe lets replies go to everybody: most tests' mail is neither signed nor
// reported on.
func believe(t testing.TB, s *store.Store) {
	t.Helper()
	if err := s.Settings.Set(t.Context(), "trust", `{"replies":false}`); err != nil {
		t.Fatal(err)
	}
}
