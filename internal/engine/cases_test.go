package engine

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/iotest"
	"time"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

func (h *house) filed(n int) {
	h.t.Helper()
	h.until("all is in the register", func() bool {
		got, err := h.store.Register.Count(h.t.Context(), store.System, register.Query{})
		return err == nil && got == n
	})
}

// verdicts lists what was decided last, the newest first, as "state name".
func (h *house) verdicts() []string {
	h.t.Helper()
	entries, err := h.store.Journal.Recent(h.t.Context(), store.System, 50)
	if err != nil {
		h.t.Fatal(err)
	}
	var all []string
	for _, e := range entries {
		all = append(all, string(e.State)+" "+e.Name)
	}
	return all
}

func TestATakenNameIsNumberedOrKept(t *testing.T) {
	for _, c := range []struct {
		name, addition string
		want           map[string]string
		verdict        string
	}{
		{"number", "", map[string]string{"Gauges/2026/05/a.csv": "by hand", "Gauges/2026/05/a (2).csv": "mine"},
			"filed a.csv"},
		{"keep", "    if name exists: keep\n", map[string]string{"Gauges/2026/05/a.csv": "by hand"}, "left out a.csv"},
	} {
		t.Run(c.name, func(t *testing.T) {
			box := &memory{}
			h := newHouse(t, box.dial)
			h.watched()
			h.rule(gaugesRule + c.addition)
			folder := filepath.Join(h.files, "Gauges", "2026", "05")
			if err := errors.Join(os.MkdirAll(folder, 0o755),
				os.WriteFile(filepath.Join(folder, "a.csv"), []byte("by hand"), 0o644)); err != nil {
				t.Fatal(err)
			}
			box.add(raw("one", "a.csv", "mine"))
			h.until("it is decided", func() bool { v := h.verdicts(); return len(v) == 1 && v[0] == c.verdict })
			h.expect(c.want)
		})
	}
}

func TestTheSameContentUnderTheSameNameIsNotStoredTwice(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("one", "a.csv", "same"))
	h.filed(1)
	box.add(raw("another message", "A.CSV", "same")) // the name counts as the same
	h.until("it is decided", func() bool { v := h.verdicts(); return len(v) == 2 && v[0] == "already there A.CSV" })
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "same"})
	h.until("both messages have a line", func() bool {
		n, err := h.store.Register.Count(t.Context(), store.System, register.Query{})
		return err == nil && n == 2
	})
}

func TestRulesSeeAMessageInTheirOrderUntilOneStops(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	first := h.rule(strings.NewReplacer("id: tide-gauges", "id: first", "name: Tide", "name: First", "folder: Gauges",
		"folder: First").Replace(gaugesRule) + "then: stop\n")
	second := h.rule(gaugesRule)
	box.add(raw("one", "a.csv", "1"))
	h.expect(map[string]string{"First/2026/05/a.csv": "1"})
	if err := h.store.Rules.Order(t.Context(), []string{second, first}, nil, "test"); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Office.LoadRules(t.Context()); err != nil {
		t.Fatal(err)
	}
	box.add(raw("two", "b.csv", "2"))
	h.expect(map[string]string{"First/2026/05/a.csv": "1", "Gauges/2026/05/b.csv": "2", "First/2026/05/b.csv": "2"})
}

func TestWhatComesWhileARuleIsOffIsNotFiledWhenItIsOnAgain(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(gaugesRule)
	box.add(raw("one", "a.csv", "1"))
	h.filed(1)
	if err := h.engine.Office.SwitchRule(t.Context(), id, false, "test"); err != nil {
		t.Fatal(err)
	}
	box.add(raw("meanwhile", "b.csv", "2"))
	h.until("it is known", func() bool {
		m, _ := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		return len(m) == 2
	})
	if err := h.engine.Office.SwitchRule(t.Context(), id, true, "test"); err != nil {
		t.Fatal(err)
	}
	box.add(raw("three", "c.csv", "3"))
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1", "Gauges/2026/05/c.csv": "3"})
	if _, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester); err != nil { // on request it is
		t.Fatal(err)
	}
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1", "Gauges/2026/05/b.csv": "2", "Gauges/2026/05/c.csv": "3"})
}

func TestAttachmentsOfForwardedMessagesAreFiledAndTheMessageItselfIsNot(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(strings.Replace(gaugesRule, "<received month>", "<original.sender.name>", 1))
	inner := strings.Replace(string(raw("inner", "plan.pdf", "%PDF")), "Oda Fenwick <oda@tidewatch.example>",
		"Keld <keld@marram.example>", 1)
	box.add([]byte("From: oda@tidewatch.example\r\nSubject: Fwd\r\nContent-Type: multipart/mixed; " +
		"boundary=o\r\n\r\n--o\r\n\r\nsee below\r\n--o\r\nContent-Type: message/rfc822\r\n\r\n" + inner + "\r\n--o--\r\n"))
	h.expect(map[string]string{"Gauges/2026/Keld/plan.pdf": "%PDF"})
	h.filed(1)
	if v := h.verdicts(); len(v) != 2 || v[1] != "left out inner.eml" {
		t.Errorf("verdicts %v", v)
	}
}

// A colleague's program wrote the original's header fields into the text: the text
// is read for that, and only where the sender's domain does not decide already.
func TestAForwardInTheTextIsFiledByWhoWroteIt(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(strings.NewReplacer("<received month>", "<original.sender.domain>", "{sender: {domain: tidewatch.example}}",
		"{sender: {domain: brackwater.example}, original sender: {domain: [marram.example, hollin.example]}}").Replace(
		gaugesRule))
	forward := func(from, original, file string) {
		text := "For the register.\r\n\r\nVon: Keld <" + original + ">\r\nGesendet: Dienstag, 12. Mai 2026 06:02\r\nAn: " +
			"Ines\r\nBetreff: Plan\r\n\r\nSee attached.\r\n"
		box.add([]byte("From: " + from +
			"\r\nSubject: WG: Plan\r\nContent-Type: multipart/mixed; boundary=o\r\n\r\n--o\r\n\r\n" + text +
			"\r\n--o\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename=" + file + "\r\n\r\n" + file +
			"\r\n--o--\r\n"))
	}
	forward("ines@brackwater.example", "keld@marram.example", "a.csv")
	forward("ines@brackwater.example", "keld@stranger.example", "b.csv")
	forward("mallory@stranger.example", "keld@marram.example", "c.csv")
	forward("ines@brackwater.example", "brill@hollin.example", "d.csv")
	h.expect(map[string]string{"Gauges/2026/marram.example/a.csv": "a.csv", "Gauges/2026/hollin.example/d.csv": "d.csv"})
	h.filed(2)
}

// flaky is a memory mailbox whose connection fails as it is told.
type flaky struct {
	*memorySession
	cut *atomic.Int32 // how many more parts end in the middle
	out *atomic.Bool  // the message is gone
}

func (s *flaky) Part(ctx context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	if s.out.Load() {
		return nil, source.ErrGone
	}
	r, err := s.memorySession.Part(ctx, f, item)
	if err == nil && s.cut.Add(-1) >= 0 {
		return io.NopCloser(io.MultiReader(io.LimitReader(r, 3), iotest.ErrReader(io.ErrUnexpectedEOF))), nil
	}
	return r, err
}

func TestAConnectionCutInTheMiddleOfAnAttachmentLosesAndDoublesNothing(t *testing.T) {
	box := &memory{}
	var cut atomic.Int32
	var out atomic.Bool
	cut.Store(3)
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := box.dial(ctx, m, secret)
		return &flaky{s.(*memorySession), &cut, &out}, err
	})
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("one", "a.csv", "all of it", "b.csv", "and this"))
	h.until("it was tried", func() bool { return cut.Load() < 2 })
	if n := len(h.tree()); n > 1 {
		t.Errorf("%d files while the connection is cut", n)
	}
	for range 40 { // let the pauses pass
		h.ahead.Add(int64(time.Minute))
		h.engine.Watch("box")
		if len(h.tree()) == 2 {
			break
		}
		h.watched()
	}
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "all of it", "Gauges/2026/05/b.csv": "and this"})
	h.filed(2)
}

func TestAMessageThatIsGoneWaitsInTheTray(t *testing.T) {
	box := &memory{}
	var cut atomic.Int32
	var out atomic.Bool
	out.Store(true)
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := box.dial(ctx, m, secret)
		return &flaky{s.(*memorySession), &cut, &out}, err
	})
	h.watched()
	h.rule(gaugesRule)
	box.add(raw("one", "a.csv", "1"))
	h.until("it waits",
		func() bool { tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10); return len(tray) == 1 })
	tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if tray[0].State != store.Failed || !strings.Contains(tray[0].Reason.String(), "no longer in the folder “INBOX”") ||
		tray[0].Reason.Advice() == "" {
		t.Errorf("the tray says %+v", tray[0])
	}
	out.Store(false) // somebody put it back
	if n, err := h.engine.Desk.Again(t.Context(), store.System, store.Matters{Items: []int64{tray[0].ID}}); err != nil ||
		n != 1 {
		t.Fatal(n, err)
	}
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1"})
	if n, _ := h.store.Tray.Count(t.Context(), store.System); n != 0 {
		t.Errorf("%d things wait still", n)
	}
}

// onFault is a house whose cabinet is a file system that fails as it is told.
func onFault(t *testing.T, box *memory) (*house, *faultfs.FS) {
	t.Helper()
	h := newHouse(t, box.dial)
	f := faultfs.New()
	prepareFault(t, f)
	h.open = func(*store.Cabinet) (cabinet.Cabinet, error) {
		return local.On("memory", "x", func() (disk.FS, error) { return f, nil }), nil
	}
	h.restart()
	h.watched()
	h.rule(gaugesRule)
	return h, f
}

func TestWhileTheCabinetIsFullOrReadOnlyMailWaitsAndIsFiledOnce(t *testing.T) {
	for _, c := range []struct {
		name, op string
		err      error
		says     string
	}{
		{"full", "write", syscall.ENOSPC, "no room left"}, {"full at the flush", "sync", syscall.ENOSPC, "no room left"},
		{"read-only", "create", syscall.EROFS, "may not be written to"},
		{"broken when naming", "publish", syscall.EIO, "input/output error"},
		{"broken when flushing the folder", "syncdir", syscall.EIO, "input/output error"},
	} {
		t.Run(c.name, func(t *testing.T) {
			box := &memory{}
			h, f := onFault(t, box)
			var failing atomic.Bool
			failing.Store(true)
			f.Fail(func(op, name string) error {
				if op == c.op && failing.Load() && !strings.Contains(name, "/check-") {
					return c.err
				}
				return nil
			})
			box.add(raw("one", "a.csv", "1", "b.csv", "2"))
			h.until("the tray says so", func() bool {
				n, _ := h.store.Tray.Notices(t.Context(), store.System)
				return len(n) == 1 && strings.Contains(n[0].Text, c.says)
			})
			failing.Store(false)
			h.ahead.Add(int64(time.Hour))
			if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err != nil {
				t.Fatal(err)
			}
			h.filed(2)
			h.restart() // what is left over is swept
			got := map[string]string{}
			for name, content := range f.Files() {
				if !strings.HasPrefix(name, ".inktray/cabinet") && !strings.HasPrefix(name, cabinet.NotesFolder) {
					got[name] = content
				}
			}
			if len(got) != 2 || got["Gauges/2026/05/a.csv"] != "1" || got["Gauges/2026/05/b.csv"] != "2" {
				t.Errorf("files: %v", got)
			}
			h.until("the tray is empty", func() bool { n, _ := h.store.Tray.Count(t.Context(), store.System); return n == 0 })
		})
	}
}

func TestAMailboxAddedAfterARuleForAllIsWatchedFromThenOn(t *testing.T) {
	one, two := &memory{}, &memory{}
	two.add(raw("old in two", "old.csv", "old"))
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		if m.Name == "second" {
			return two.dial(ctx, m, secret)
		}
		return one.dial(ctx, m, secret)
	})
	h.watched()
	h.rule(strings.Replace(gaugesRule, "mailboxes: gauges", "mailboxes: all", 1))
	if err := h.store.Mailboxes.Add(t.Context(), &store.Mailbox{ID: "two", Name: "second", Kind: "imap", Host: "h",
		IntervalSeconds: 1,
		MadeAt:          time.Now()}, "pw", "test"); err != nil {
		t.Fatal(err)
	}
	h.engine.Watch("two")
	h.until("it is watched", func() bool { return strings.HasPrefix(h.engine.Status("two").State, "watched") })
	two.add(raw("new in two", "new.csv", "new"))
	h.expect(map[string]string{"Gauges/2026/05/new.csv": "new"})
	h.engine.Unwatch("two")
	if s := h.engine.Status("two").State; s != "not watched" {
		t.Errorf("after unwatching it is %q", s)
	}
}

func TestAMessageMovedIntoAFolderIsNewHoweverOld(t *testing.T) {
	h, d, deliver := dovecot(t)
	uid := deliver("INBOX", raw("old one", "old.csv", "old"))
	h.watched()
	h.rule(strings.Replace(gaugesRule, "look: {mailboxes: gauges}", "look: {mailboxes: gauges, folders: To file}", 1))
	c := d.Client("gauges")
	h.until("a person is told that the folder is missing", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(n) == 1 && n[0].Kind == "folder" && strings.Contains(n[0].Text, "“To file”")
	})
	testbed.MakeFolders(t, c, "To file")
	h.engine.Watch("box") // the folders are listed anew with the connection
	h.until("the folder is known",
		func() bool { f, _ := h.store.Mailboxes.FoldersOf(t.Context(), "box"); return len(f) == 2 })
	if n, _ := h.store.Tray.Notices(t.Context(), store.System); len(n) != 0 {
		t.Errorf("the tray still says %+v", n)
	}
	if _, err := c.Select("INBOX", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Move(imaplib.UIDSetNum(imaplib.UID(uid)), "To file").Wait(); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"Gauges/2026/05/old.csv": "old"})
}

func TestSavingARuleChecksWhatItNames(t *testing.T) {
	h := newHouse(t, (&memory{}).dial)
	h.rule(gaugesRule)
	for _, c := range []struct{ old, new, place, says string }{
		{"cabinet: harbour files", "cabinet: harbor files", "cabinet", "there are: harbour files"},
		{"mailboxes: gauges", "mailboxes: [gauges, berths]", "look.mailboxes", "no mailbox called “berths”"},
		{"id: tide-gauges\n", "", "name", "already"},
	} {
		document, err := rule.ParseRule([]byte(strings.Replace(gaugesRule, c.old, c.new, 1)))
		if err != nil {
			t.Fatal(err)
		}
		_, err = h.engine.Office.SaveRule(t.Context(), document, 0, "test")
		var problems rule.Problems
		if !errors.As(err, &problems) || problems[0].Place != c.place || !strings.Contains(problems[0].Text, c.says) {
			t.Errorf("%s: %v", c.new, err)
		}
	}
}
