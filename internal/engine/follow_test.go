package engine

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// labels reads where messages lie on a real server, with their flags.
func labels(t *testing.T, c *imapclient.Client, folder string) []string {
	t.Helper()
	data, err := c.Select(folder, &imaplib.SelectOptions{ReadOnly: true}).Wait()
	if err != nil || data.NumMessages == 0 {
		return nil
	}
	var set imaplib.SeqSet
	set.AddRange(1, data.NumMessages)
	got, err := c.Fetch(set, &imaplib.FetchOptions{Flags: true, Envelope: true}).Collect()
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, m := range got {
		var flags []string
		for _, f := range m.Flags {
			if f != `\Recent` {
				flags = append(flags, string(f))
			}
		}
		slices.Sort(flags)
		out = append(out, m.Envelope.Subject+" "+strings.Join(flags, " "))
	}
	return out
}

// steps are the follow-ups of a message as words.
func (h *house) steps(messageID int64) string {
	rows, err := h.store.FollowUps.FollowUpsOf(h.t.Context(), store.System, messageID)
	if err != nil {
		h.t.Fatal(err)
	}
	var out []string
	for _, f := range rows {
		out = append(out, strings.TrimSuffix(fmt.Sprintf("%s %s: %s (%s)", f.Kind, f.What, f.State, f.Reason), " ()"))
	}
	return strings.Join(out, "; ")
}

const moving = gaugesRule + `
afterwards:
  - {mark: [read, flagged], label: [Filed, Gauge list], remove label: To_file}
  - move: Filed/<received year>
`

func TestMarksLabelsAndMovesOnARealServer(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.watched()
	h.rule(moving)
	deliver("INBOX", raw("one", "a.csv", "1"), "To_file")
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "1"})
	c := d.Client("gauges")
	h.until("it is moved", func() bool { return len(labels(t, c, "Filed/2026")) == 1 })
	if got := labels(t, c, "Filed/2026")[0]; got != `one Filed Gauge_list \Flagged \Seen` {
		t.Errorf("it carries %q", got)
	}
	h.until("it is gone from the inbox",
		func() bool { return len(labels(t, c, "INBOX")) == 0 }) // a server may copy first
	h.until("all is done", func() bool { return strings.Count(h.steps(1), ": done") == 5 })
	m, err := h.store.Messages.ByID(t.Context(), store.System, 1)
	if err != nil || m.Folder != "Filed/2026" || m.UIDValidity == 0 || !slices.Contains(m.Flags, "Filed") {
		t.Errorf("the records say it lies in %s, %v (%v)", m.Folder, m.Flags, err)
	}
	h.until("the new folder is among those that mail programs show", func() bool { // servers cache the list for a moment
		subscribed, err := c.List("", "*", &imaplib.ListOptions{SelectSubscribed: true}).Collect()
		return err == nil &&
			slices.ContainsFunc(subscribed, func(l *imaplib.ListData) bool { return l.Mailbox == "Filed/2026" })
	})
}

func TestAMovedMessageIsNewToNobody(t *testing.T) {
	h, d, deliver := dovecot(t)
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Filed", "Filed/2026")
	h.watched()
	// The rule looks where it moves to, and another one there waits for a label that Ink Tray puts on.
	h.rule(strings.Replace(moving, "look: {mailboxes: gauges}", "look: {mailboxes: gauges, folders: [inbox, Filed/2026]}",
		1))
	h.rule(
		`{id: other, name: Labelled, cabinet: harbour files, look: {mailboxes: gauges, folders: [inbox, Filed/2026]}, match: {label: Filed}, attachments: {take: everything, folder: Labelled}}`,
	)
	h.until("all folders are known",
		func() bool { f, _ := h.store.Mailboxes.FoldersOf(t.Context(), "box"); return len(f) == 2 })
	for i := range 3 {
		deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint(i)))
	}
	h.until("all are moved", func() bool { return len(labels(t, c, "Filed/2026")) == 3 })
	want := map[string]string{"Gauges/2026/05/r0.csv": "0", "Gauges/2026/05/r1.csv": "1", "Gauges/2026/05/r2.csv": "2"}
	h.expect(want)
	deliver("INBOX", raw("last", "last.csv", "x")) // looked at after all that was announced
	want["Gauges/2026/05/last.csv"] = "x"
	h.until("the last is moved", func() bool { return len(labels(t, c, "Filed/2026")) == 4 })
	h.expect(want)
	n, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 20})
	if err != nil || len(n) != 4 {
		t.Errorf("%d messages are known, want 4: moved ones are the same (%v)", len(n), err)
	}
}

func TestHeldItemsDelayTheMoveAndNothingFiledDoesNothing(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(moving)
	box.deliver("INBOX", raw("one", "a.csv", "1", "bill.pdf", "MZ\x90\x00 a program"))
	box.deliver("INBOX", raw("no attachment"))
	h.expect(map[string]string{"Gauges/" + time.Now().Format("2006/01") + "/a.csv": "1"})
	h.until("the marks are there", func() bool {
		return slices.ContainsFunc(box.lies(), func(s string) bool { return strings.Contains(s, "Filed") })
	})
	if got := h.steps(1); !strings.Contains(got, "move Filed/2026: waiting") &&
		!strings.Contains(got, "move Filed/"+fmt.Sprint(time.Now().Year())+": waiting") {
		t.Errorf("while one is held: %s", got)
	}
	h.until("nothing is done where nothing is filed", func() bool {
		return strings.Count(h.steps(2), "left out (this rule files nothing from the message)") == 5
	})
	tray, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if err != nil || len(tray) != 1 || tray[0].Cause != store.CauseDisguised {
		t.Fatalf("the tray holds %+v, %v", tray, err)
	}
	if n, err := h.engine.Desk.SetAside(t.Context(), store.System, store.Matters{Items: []int64{tray[0].ID}},
		"  a  trap "); n != 1 ||
		err != nil {
		t.Fatal(n, err)
	}
	h.until("it is moved", func() bool {
		return slices.ContainsFunc(box.lies(), func(s string) bool { return strings.HasPrefix(s, "Filed/") })
	})
	entries, _ := h.store.Journal.OfMessage(t.Context(), store.System, 1)
	if e := entries[1]; e.State != store.SetAside || e.Reason.String() != "set aside by Ink Tray: a trap" {
		t.Errorf("set aside: %s, %s", e.State, e.Reason)
	}
}

func TestTheFirstRulesMoveWins(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule + "afterwards: {move: First}")
	h.rule(
		`{id: second, name: Second, cabinet: harbour files, look: {mailboxes: gauges}, match: every message, attachments: {take: everything, folder: Second}, afterwards: {move: Second, label: Seen by both}}`,
	)
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.until("it is moved", func() bool { return slices.Contains(box.lies(), "First [Seen_by_both]") })
	if got := h.steps(1); !strings.Contains(got,
		"move Second: left out (the earlier rule “Tide gauge readings” moves the message)") {
		t.Errorf("the loser says: %s", got)
	}
}

func TestAServerWithoutMoveIsHandled(t *testing.T) {
	for _, capability := range []string{"IMAP4rev1 UIDPLUS IDLE", "IMAP4rev1 IDLE"} {
		t.Run(capability, func(t *testing.T) {
			h, d, deliver := dovecot(t)
			d.Announce(capability)
			h.engine.Watch("box")
			h.watched()
			h.rule(moving)
			other := deliver("INBOX", raw("another's", "b.txt", "x"))
			c := d.Client("gauges")
			if _, err := c.Select("INBOX", nil).Wait(); err != nil {
				t.Fatal(err)
			}
			deleted := &imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Flags: []imaplib.Flag{imaplib.FlagDeleted}}
			if strings.Contains(capability, "UIDPLUS") {
				if err := c.Store(imaplib.UIDSetNum(imaplib.UID(other)), deleted, nil).Close(); err != nil {
					t.Fatal(err)
				}
			}
			deliver("INBOX", raw("one", "a.csv", "1"))
			h.until("it is moved", func() bool {
				return slices.ContainsFunc(labels(t, c, "Filed/2026"), func(s string) bool { return strings.HasPrefix(s, "one ") })
			})
			h.until("all is done", func() bool { return strings.Contains(h.steps(2), "move Filed/2026: done") })
			if strings.Contains(capability, "UIDPLUS") {
				if left := labels(t, c, "INBOX"); !slices.ContainsFunc(left,
					func(s string) bool { return strings.HasPrefix(s, "another's") }) && len(labels(t, c, "Filed/2026")) != 2 {
					t.Errorf("another's deleted message went with it: %v", left)
				}
			}
		})
	}
}

// sendingHouse is a house that can send.
func sendingHouse(t *testing.T, document string) (*house, *postbox, *outside) {
	t.Helper()
	box, out := newPostbox(), startOutside(t)
	h := newHouse(t, box.dial)
	h.hurry()
	err := h.engine.Outbox.SetOutgoing(t.Context(), store.Outgoing{Host: "127.0.0.1", Port: out.port, Encryption: "none",
		From: "office@brackwater.example", Name: "Harbour office"}, nil, 0, "test")
	if err == nil {
		err = h.engine.Outbox.SaveAddressee(t.Context(), &store.Addressee{Name: "Desk", Kind: "mail",
			Addresses: []string{"desk@brackwater.example"}, Tray: "never"}, nil, "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	h.watched()
	h.rule(document)
	return h, box, out
}

func (o *outside) got(to string) []string {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	return slices.Clone(o.mails[to])
}

const replying = gaugesRule + `
afterwards:
  - reply: {text: "Dear <sender.name>,\nwe have filed:\n<filed.list>", once in: 30 days}
  - draft: {subject: "About <subject>", text: Please look}
  - tell: {who: Desk}
`

func TestARepliesToASenderOnceAndToNoRobot(t *testing.T) {
	h, box, out := sendingHouse(t, replying)
	box.deliver("INBOX", raw("one", "a.csv", "1", "b.csv", "2"))
	h.until("the reply is sent", func() bool { return len(out.got("oda@tidewatch.example")) == 1 })
	m, err := mail.ReadMessage(strings.NewReader(out.got("oda@tidewatch.example")[0]))
	if err != nil {
		t.Fatal(err)
	}
	for field, want := range map[string]string{"Subject": "Re: one", "In-Reply-To": "<one@tidewatch.example>",
		"References": "<one@tidewatch.example>", "Auto-Submitted": "auto-replied", "To": "<oda@tidewatch.example>",
		"From": `"Harbour office" <office@brackwater.example>`} {
		if got := m.Header.Get(field); got != want {
			t.Errorf("%s is %q, want %q", field, got, want)
		}
	}
	var body bytes.Buffer
	body.ReadFrom(m.Body)
	if text := body.String(); !strings.Contains(text, "Dear Oda Fenwick,\r\nwe have filed:\r\nGauges/") ||
		!strings.Contains(text, "/a.csv\r\nGauges/") {
		t.Errorf("the text is %q", text)
	}
	box.deliver("INBOX", raw("two", "c.csv", "3"))
	robot := bytes.Replace(raw("three", "d.csv", "4"), []byte("Subject:"),
		[]byte("Auto-Submitted: auto-generated\r\nSubject:"), 1)
	box.deliver("INBOX", robot)
	h.until("somebody is told of all three", func() bool { return len(out.got("desk@brackwater.example")) == 3 })
	h.until("all is decided", func() bool {
		return strings.Contains(h.steps(2), "(no reply: oda@tidewatch.example had one from this rule within 30 days)") &&
			strings.Contains(h.steps(3), "reply oda@tidewatch.example: left out (no reply: it was sent by a program")
	})
	if n := len(out.got("oda@tidewatch.example")); n != 1 {
		t.Errorf("%d replies", n)
	}
	if told := out.got("desk@brackwater.example")[0]; !strings.Contains(told, "Subject: 2 filed from Oda Fenwick") ||
		!strings.Contains(told, "auto-generated") {
		t.Errorf("the desk was told: %s", told)
	}
	drafts := func() (n int) {
		for _, where := range box.lies() {
			if where == `Drafts [\Draft \Seen]` {
				n++
			}
		}
		return n
	}
	h.until("the drafts are left",
		func() bool { return drafts() >= 2 && strings.Contains(h.steps(2), "draft oda@tidewatch.example: done") })
	if n := drafts(); n != 2 || !strings.Contains(h.steps(3), "draft oda@tidewatch.example: left out") {
		t.Errorf("%d drafts, want 2: the robot gets none (%v)", n, box.lies())
	}
}

func TestAMailThatMayHaveBeenSentIsNotSentAgainByItself(t *testing.T) {
	h, box, out := sendingHouse(t, gaugesRule+"afterwards: {reply: {text: Thank you}}")
	out.mutex.Lock()
	out.hangUp["oda@tidewatch.example"] = true
	out.mutex.Unlock()
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	waits := func() []store.Post { p, _ := h.store.Tray.Post(t.Context(), store.System, 10); return p }
	h.until("a person is asked", func() bool { return len(waits()) == 1 })
	if p := waits()[0]; p.State != store.Unsure || p.Cause != store.CauseUnsure ||
		!strings.Contains(p.Reason.String(), "may have been sent") {
		t.Errorf("the tray says %+v", p)
	}
	// A crash between the sending and its record.
	h.store.Interrupt(func(after bool) error { return nil })
	h.engine.Stop()
	p := waits()[0]
	if _, err := h.store.Tray.Again(t.Context(), store.System, store.Matters{Posts: []int64{p.ID}},
		store.Decision{Given: "again"}); err != nil {
		t.Fatal(err)
	}
	if err := h.store.FollowUps.Begin(t.Context(), &p); err != nil {
		t.Fatal(err)
	}
	h.start()
	h.until("a person is asked again", func() bool {
		w := waits()
		return len(w) == 1 && strings.Contains(w[0].Reason.String(), "the program ended while the mail was sent")
	})
	if n := len(out.got("oda@tidewatch.example")); n != 1 {
		t.Fatalf("it was sent %d times", n)
	}
	out.mutex.Lock()
	delete(out.hangUp, "oda@tidewatch.example")
	out.mutex.Unlock()
	if n, err := h.engine.Desk.Again(t.Context(), store.System, store.Matters{Posts: []int64{p.ID}}); n != 1 ||
		err != nil {
		t.Fatal(n, err)
	}
	h.until("a person's word sends it",
		func() bool { return len(waits()) == 0 && len(out.got("oda@tidewatch.example")) == 2 })
}

func TestACallIsMadeUntilItIsAnsweredAlwaysAsTheSameEvent(t *testing.T) {
	h, box, out := sendingHouse(t, strings.Replace(gaugesRule, "id: tide-gauges", "id: first", 1))
	if err := h.engine.Outbox.SaveAddressee(t.Context(), &store.Addressee{Name: "Planner", Kind: "call", URL: out.url +
		"/planner",
		Inside: true, Tray: "never"}, nil, "test"); err != nil {
		t.Fatal(err)
	}
	h.rule(
		`{id: second, name: Second, cabinet: harbour files, look: {mailboxes: gauges}, match: every message, attachments: {take: everything, folder: Second}, afterwards: {tell: {who: Planner}}}`,
	)
	out.mutex.Lock()
	out.bad["/planner"] = 2
	out.mutex.Unlock()
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	calls := func() []string {
		out.mutex.Lock()
		defer out.mutex.Unlock()
		return slices.Clone(out.calls["/planner"])
	}
	h.until("it is answered", func() bool { return len(calls()) == 3 })
	// A crash after the call and before its record: it is made again, as the same event.
	sent, err := h.store.FollowUps.OfMessage(t.Context(), store.System, 1)
	if err != nil || len(sent) != 1 {
		t.Fatal(sent, err)
	}
	h.until("it is recorded",
		func() bool {
			p, _ := h.store.FollowUps.ByID(t.Context(), store.System, sent[0].ID)
			return p.State == store.DidIt
		})
	h.engine.Stop()
	h.crashed("UPDATE post SET state = 'begun' WHERE id = ?", sent[0].ID)
	h.start()
	h.until("it is made again", func() bool { return len(calls()) == 4 })
	ids := calls()
	slices.Sort(ids)
	if ids = slices.Compact(ids); len(ids) != 1 {
		t.Errorf("the calls have the ids %v", ids)
	}
}

func TestNobodyIsWrittenToBecauseOfOldMail(t *testing.T) {
	h, box, out := sendingHouse(t, replying)
	h.engine.Office.SwitchRule(t.Context(), "tide-gauges", false, "test")
	box.deliver("INBOX", raw("old", "a.csv", "1"))
	h.until("it is known", func() bool {
		n, _ := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 5})
		return len(n) == 1
	})
	h.fileOld("tide-gauges")
	h.filed(1)
	if got := h.steps(1); strings.Count(got, "left out (not sent: the message arrived before the rule was on)") != 3 {
		t.Errorf("of old mail: %s", got)
	}
	if len(out.got("oda@tidewatch.example"))+len(out.got("desk@brackwater.example")) > 0 {
		t.Error("somebody was written to")
	}
}

// endedWhileReading leaves behind what a program leaves that ended while it read
// messages, and counts it as the next start does.
func (h *house) endedWhileReading(report string, uids ...uint32) {
	h.t.Helper()
	hand := filepath.Join(h.data, "in-hand")
	crash := filepath.Join(h.data, "crash.txt")
	text, err := json.Marshal(fault.InHand{Mailbox: "box", Folder: "INBOX", UIDValidity: 7, UIDs: uids})
	if err == nil {
		err = os.MkdirAll(hand, 0o700)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(hand, "ended.json"), text, 0o600)
	}
	if err == nil {
		err = os.WriteFile(crash, []byte(report), 0o600)
	}
	if err == nil {
		err = New(Config{Base: base.New(base.Base{Store: h.store, Clock: time.Now, Zone: time.UTC, Log: h.engine.Log}),
			Spool: filepath.Join(h.data, "spool"), Dial: h.dial, CrashReport: crash}).countCrashes(h.t.Context())
	}
	if err != nil {
		h.t.Fatal(err)
	}
}

// stoppedWithMail is a house that is stopped, with three messages to be filed.
func stoppedWithMail(t *testing.T) *house {
	t.Helper()
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	h.engine.Stop()
	for i := range 3 {
		box.deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint(i)))
	}
	return h
}

func TestKillsFromOutsideAreNoFaultOfTheMessageThatIsRead(t *testing.T) {
	h := stoppedWithMail(t)
	for range 2 * mostCrashes {
		h.endedWhileReading("", 2)
	}
	h.start()
	h.filed(3)
	if rows, err := h.store.Retries.In(t.Context(), "box", "INBOX", 7); err != nil || len(rows) > 0 {
		t.Errorf("messages under suspicion: %+v, %v", rows, err)
	}
}

func TestAMessageOnWhichTheProgramCrashesGoesToTheTrayAndIsReadOnRequest(t *testing.T) {
	h := stoppedWithMail(t)
	h.endedWhileReading("fatal error: stack overflow", 1, 2, 3) // one of several: each is read alone from now on
	for range mostCrashes {
		h.endedWhileReading("fatal error: stack overflow", 2)
	}
	h.start()
	h.until("the others are filed", func() bool { return len(h.tree()) == 2 })
	if _, there := h.tree()["Gauges/"+time.Now().Format("2006/01")+"/r1.csv"]; there {
		t.Error("the message on which the program crashed was read")
	}
	var tray []store.Retry
	h.until("the message is in the tray",
		func() bool { tray, _ = h.store.Retries.InTray(t.Context(), store.System, 10); return len(tray) == 1 })
	if r := tray[0]; r.UID != 2 || r.Cause != store.CauseUnread ||
		!strings.Contains(r.Reason.String(), "crashed 3 times") {
		t.Errorf("the tray says %+v", r)
	}
	if n, err := h.engine.Desk.Again(t.Context(), store.System, store.Matters{Messages: []int64{tray[0].ID}}); n != 1 ||
		err != nil {
		t.Fatalf("trying again: %d, %v", n, err)
	}
	h.filed(3)
	h.until("nothing is left of it",
		func() bool { rows, _ := h.store.Retries.In(t.Context(), "box", "INBOX", 7); return len(rows) == 0 })
}

func TestWhatIsBeingReadIsWrittenDown(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	seen := make(chan string, 1)
	box.mutex.Lock()
	box.step = func(op string) error {
		if op == "facts" {
			files, _ := filepath.Glob(filepath.Join(h.data, "in-hand", "*.json"))
			for _, f := range files {
				text, _ := os.ReadFile(f)
				select {
				case seen <- string(text):
				default:
				}
			}
		}
		return nil
	}
	box.mutex.Unlock()
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	select {
	case got := <-seen:
		if !strings.Contains(got, `"uids":[1]`) {
			t.Errorf("in hand: %s", got)
		}
	case <-time.After(testbed.Patience):
		t.Error("nothing is written down")
	}
	h.filed(1)
	h.engine.Stop()
	if left, _ := os.ReadDir(filepath.Join(h.data, "in-hand")); len(left) > 0 {
		t.Errorf("after a quiet end there is still %v", left)
	}
}

// A pass over old mail that ended in the middle of suspect messages goes over
// all of them again.
func TestAPassMovesOnOnlyOnceAllOfABatchIsPlanned(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	for i := range 6 {
		box.deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint(i)))
	}
	h.until("all are known", func() bool {
		n, _ := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		return len(n) == 6
	})
	id := h.rule(gaugesRule)
	var suspects []store.Retry
	for uid := range uint32(6) {
		suspects = append(suspects, store.Retry{MailboxID: "box", Folder: "INBOX", UIDValidity: 7, UID: uid + 1})
	}
	if err := h.store.Retries.Suspect(t.Context(), suspects, time.Now()); err != nil {
		t.Fatal(err)
	}
	die := h.dying()
	if _, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester); err != nil {
		t.Fatal(err)
	}
	h.until("some are filed", func() bool { return len(h.tree()) >= 2 })
	die()
	h.engine.Stop()
	h.store.Interrupt(func(bool) error { return nil })
	h.start()
	h.until("all are filed", func() bool { return len(h.tree()) == 6 })
}
