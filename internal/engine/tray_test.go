package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/store"
)

// trayOf waits for so many items in the tray.
func (h *house) trayOf(n int) []store.Entry {
	h.t.Helper()
	var tray []store.Entry
	h.until(fmt.Sprintf("%d wait in the tray", n),
		func() bool {
			tray, _ = h.store.Tray.Entries(h.t.Context(), store.System, 0, 100)
			return len(tray) == n
		})
	return tray
}

const program = "MZ\x90\x00 a program"

func TestAHeldFileIsReleasedFiledElsewhereOrTriedAgainByItsKind(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	for i := range 4 {
		box.deliver("INBOX", raw(fmt.Sprint("bill ", i), fmt.Sprintf("bill%d.pdf", i), program+fmt.Sprint(i)))
	}
	tray := h.trayOf(4)
	slices.SortFunc(tray, func(a, b store.Entry) int { return strings.Compare(a.Name, b.Name) })
	one := func(i int) store.Matters { return store.Matters{Items: []int64{tray[i].ID}} }
	if n, err := h.engine.Desk.Release(t.Context(), store.System, one(0)); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if n, err := h.engine.Desk.Elsewhere(t.Context(), store.System, one(1), "harbour files",
		"Sorted by hand/ 2026 /../<odd>"); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	h.until("both are filed", func() bool { return len(h.tree()) == 2 })
	got := h.tree()
	if got[month()+"/bill0.pdf"] != program+"0" || got["Sorted by hand/2026/_odd_/bill1.pdf"] != program+"1" &&
		got["Sorted by hand/2026/-odd-/bill1.pdf"] != program+"1" {
		t.Errorf("there are %v", got)
	}
	h.filed(2)
	for _, bad := range []struct{ cabinet, folder, place string }{{"nowhere", "A", "cabinet"},
		{"harbour files", " / .. ", "folder"}} {
		_, err := h.engine.Desk.Elsewhere(t.Context(), store.System, one(2), bad.cabinet, bad.folder)
		if problems, ok := err.(rule.Problems); !ok || problems[0].Place != bad.place {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	all, err := h.engine.Desk.MattersOf(t.Context(), store.System, store.Matters{}, store.CauseDisguised)
	if err != nil || len(all.Items) != 2 {
		t.Fatal(all, err)
	}
	if n, err := h.engine.Desk.Again(t.Context(), store.System, all); n != 2 ||
		err != nil { // under the same rule they are held again
		t.Fatal(n, err)
	}
	h.until("they are held again", func() bool {
		tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 9)
		return len(tray) == 2 && tray[0].Given == "again"
	})
	if n, err := h.engine.Desk.Again(t.Context(), store.System, one(0)); n != 0 || err != nil {
		t.Errorf("what no longer waits was tried again: %d, %v", n, err)
	}
}

func TestAnEncryptedArchiveIsReleasedAsItIs(t *testing.T) {
	h := fileNow(t, bundles("  - {take: everything, unpack: files, folder: Bundles}\n"),
		raw("one", "locked.zip", fixture(t, "secret-aes256.zip")))
	tray := h.trayOf(1)
	if tray[0].Cause != store.CauseEncrypted {
		t.Errorf("it waits as %q: %s", tray[0].Cause, tray[0].Reason)
	}
	if n, err := h.engine.Desk.Release(t.Context(), store.System, store.Matters{Items: []int64{tray[0].ID}}); n != 1 ||
		err != nil {
		t.Fatal(n, err)
	}
	h.until("it is filed", func() bool { return len(h.tree()) == 1 })
	for name := range h.tree() {
		if !strings.HasSuffix(name, "/locked.zip") {
			t.Errorf("it is filed as %s", name)
		}
	}
}

func TestWhatAFloodBringsWaitsAndGoesOnAllAtOnce(t *testing.T) {
	for _, c := range []struct {
		name   string
		limits store.Limits
		says   string
	}{
		{"a rule's files", store.Limits{RuleFiles: 3}, "the rule “Tide gauge readings” had 3 files filed within an hour"},
		{"a sender's files", store.Limits{SenderFiles: 3}, "the sender oda@tidewatch.example had 3 files"},
		{"a rule's new folders", store.Limits{RuleFolders: 3}, "3 new folders made"},
		{"a sender's size", store.Limits{SenderMB: 1}, "would have more than 1 MB filed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			box := newPostbox()
			h := newHouse(t, box.dial)
			h.hurry()
			if err := h.store.Settings.SetLimits(t.Context(), c.limits, 0, "test"); err != nil {
				t.Fatal(err)
			}
			h.watched()
			h.rule(strings.Replace(gaugesRule, "Gauges/<received year>/<received month>", "Gauges/<subject>", 1))
			for i := range 5 {
				box.deliver("INBOX",
					raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), strings.Repeat(fmt.Sprint(i), 300_000)))
			}
			tray := h.trayOf(2)
			if tray[0].Cause != store.CauseCap || !strings.Contains(tray[0].Reason.String(), c.says) {
				t.Errorf("it says %s (%s)", tray[0].Reason, tray[0].Cause)
			}
			h.restart() // the hour goes on
			box.deliver("INBOX", raw("reading 9", "r9.csv", strings.Repeat("9", 300_000)))
			if c.limits.RuleFolders == 0 {
				h.trayOf(3)
			}
			all, _ := h.engine.Desk.MattersOf(t.Context(), store.System, store.Matters{}, store.CauseCap)
			if n, err := h.engine.Desk.Again(t.Context(), store.System, all); err != nil || n < 2 {
				t.Fatal(n, err)
			}
			h.until("all is filed", func() bool { return len(h.tree()) == 6 })
			h.later(2 * time.Hour)
			box.deliver("INBOX", raw("reading 10", "r10.csv", "x"))
			h.until("the next hour is another", func() bool { return len(h.tree()) == 7 })
		})
	}
}

func TestWhatWaitsForACabinetIsKeptHereEvenIfTheMessageIsDeleted(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	away := h.files + "-away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	box.deliver("INBOX", raw("one", "a.csv", "first", "b.csv", "second"))
	kept := func() []store.Entry { e, _ := h.store.Journal.Spooled(t.Context()); return e }
	h.until("both are kept here", func() bool { return len(kept()) == 2 })
	box.mutex.Lock()
	box.folders["INBOX"].letters = nil
	box.mutex.Unlock()
	// A torn copy is not filed: here it is the only one, so a person is asked.
	if err := os.Truncate(filepath.Join(h.data, "waiting", strconv.FormatInt(kept()[1].ID, 10)), 2); err != nil {
		t.Fatal(err)
	}
	stray := filepath.Join(h.data, "waiting", "999")
	if err := os.WriteFile(stray, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	h.restart()
	if _, err := os.Stat(stray); err == nil {
		t.Error("a copy that nothing waits for was not swept")
	}
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.until("the first is filed", func() bool { return h.tree()[month()+"/a.csv"] == "first" })
	tray := h.trayOf(1)
	if tray[0].Cause != store.CauseGone || tray[0].Name != "b.csv" {
		t.Errorf("the tray says %+v", tray[0])
	}
	h.until("the copies are gone",
		func() bool { left, _ := os.ReadDir(filepath.Join(h.data, "waiting")); return len(left) == 0 })
	h.expect(map[string]string{month() + "/a.csv": "first"})
}

func TestTheTrayIsToldAtOnceAndOnceADay(t *testing.T) {
	h, box, out := sendingHouse(t, gaugesRule)
	at := h.engine.Now()
	daily := at.Add(time.Hour).Format("15:04")
	for _, a := range []store.Addressee{
		{Name: "Now", Kind: "mail", Addresses: []string{"now@brackwater.example"}, Tray: "at once"},
		{Name: "Daily", Kind: "mail", Addresses: []string{"daily@brackwater.example"}, Tray: "daily", DailyAt: daily},
	} {
		if err := h.engine.Outbox.SaveAddressee(t.Context(), &a, nil, "test"); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 3 {
		box.deliver("INBOX", raw(fmt.Sprint("bill ", i), fmt.Sprintf("bill%d.pdf", i), program+fmt.Sprint(i)))
	}
	h.trayOf(3)
	if len(out.got("now@brackwater.example")) > 0 {
		t.Error("it is told before more can come")
	}
	h.later(outbox.Gather + time.Second)
	h.until("it is told at once", func() bool { return len(out.got("now@brackwater.example")) == 1 })
	told := out.got("now@brackwater.example")[0]
	for _, want := range []string{"Subject: Ink Tray: new in the tray: 3", "Not what its name says (3)",
		"bill2.pdf: named .pdf, but it is a Windows program"} {
		if !strings.Contains(strings.ReplaceAll(told, "=\r\n", ""), want) {
			t.Errorf("the mail does not say %q:\n%s", want, told)
		}
	}
	h.later(2 * time.Hour)
	h.until("the digest goes", func() bool { return len(out.got("daily@brackwater.example")) == 1 })
	if digest := out.got("daily@brackwater.example")[0]; !strings.Contains(digest, "Subject: Ink Tray: 3 items wait "+
		"in the tray") {
		t.Errorf("the digest: %s", digest)
	}
	h.later(24 * time.Hour)
	h.until("the next digest goes", func() bool { return len(out.got("daily@brackwater.example")) == 2 })
	all, _ := h.engine.Desk.MattersOf(t.Context(), store.System, store.Matters{}, store.CauseDisguised)
	if _, err := h.engine.Desk.SetAside(t.Context(), store.System, all, ""); err != nil {
		t.Fatal(err)
	}
	h.later(24 * time.Hour)
	h.until("the empty tray is counted as told", func() bool {
		a, _ := h.store.Alarms.AddresseeNamed(t.Context(), "Daily")
		return a.ToldAt != nil && a.ToldAt.After(h.engine.Clock().Add(-12*time.Hour))
	})
	if n := len(out.got("daily@brackwater.example")); n != 2 {
		t.Errorf("%d digests, though the tray is empty", n)
	}
	if n := len(out.got("now@brackwater.example")); n != 1 {
		t.Errorf("told %d times of the same", n)
	}
}

func TestASilentRuleRingsOnItsDaysAtItsTime(t *testing.T) {
	h, box, out := sendingHouse(t, gaugesRule)
	set := func(a store.Alarm) error {
		a.Who = []string{"Desk"}
		return h.engine.Outbox.SaveAlarm(t.Context(), &a, "Tide gauge readings", "", "", "test")
	}
	soon := h.engine.Now().Add(time.Hour)
	days := []string{strings.ToLower(soon.Weekday().String())}
	if err := set(store.Alarm{Name: "No readings", Kind: "silence", AtLeast: 2, WithinHours: 24,
		ByTime: soon.Format("15:04"), Weekdays: days}); err != nil {
		t.Fatal(err)
	}
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.filed(1)
	rung := func() int { return len(out.got("desk@brackwater.example")) }
	h.engine.Stop() // off at the time itself
	h.later(3 * time.Hour)
	h.start()
	h.until("it rings once it is on again", func() bool { return rung() == 1 })
	mail := strings.ReplaceAll(out.got("desk@brackwater.example")[0], "=\r\n", "")
	if !strings.Contains(mail, "Subject: Ink Tray: No readings") ||
		!strings.Contains(mail, "filed 1 file in 1 day, until") ||
		!strings.Contains(mail, "file 2 files or more") {
		t.Errorf("it says %s", mail)
	}
	notices, _ := h.store.Tray.Notices(t.Context(), store.System)
	if len(notices) != 1 || notices[0].Kind != "alarm" {
		t.Errorf("the tray says %+v", notices)
	}
	h.later(24 * time.Hour) // another weekday
	box.deliver("INBOX", raw("two", "b.csv", "2"))
	h.filed(2)
	if n := rung(); n != 1 {
		t.Errorf("it rang %d times", n)
	}
	h.later(141*time.Hour + 30*time.Minute) // just before its day and time
	box.deliver("INBOX", raw("three", "c.csv", "3", "d.csv", "4"))
	h.filed(4)
	h.later(4 * time.Hour)
	h.until("what it said is taken out of the tray",
		func() bool { n, _ := h.store.Tray.Notices(t.Context(), store.System); return len(n) == 0 })
	if n := rung(); n != 1 {
		t.Errorf("it rang %d times, though enough was filed", n)
	}
	for place, bad := range map[string]store.Alarm{
		"by_time": {Name: "x", Kind: "silence", AtLeast: 1, WithinHours: 1, ByTime: "25:00"},
		"name":    {Kind: "silence", AtLeast: 1, WithinHours: 1, ByTime: "10:00"},
	} {
		if problems, ok := set(bad).(rule.Problems); !ok || problems[0].Place != place {
			t.Errorf("%+v: %v", bad, problems)
		}
	}
}

func TestWhatIsOutOfReachForTooLongIsTold(t *testing.T) {
	h, _, out := sendingHouse(t, gaugesRule)
	a := store.Alarm{Name: "Reach", Kind: "out of reach", AfterMinutes: 30, Who: []string{"Desk"}}
	if err := h.engine.Outbox.SaveAlarm(t.Context(), &a, "", "", "harbour files", "test"); err != nil {
		t.Fatal(err)
	}
	if got := h.engine.Outbox.AlarmSentence(t.Context(),
		&a); got != "Tell Desk when the cabinet “harbour files” has been out of reach for longer than 30 minutes." {
		t.Errorf("it says %q", got)
	}
	away := h.files + "-away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err == nil {
		t.Fatal("the cabinet is away and nobody notices")
	}
	h.later(29 * time.Minute)
	h.restart() // what is out of reach is remembered
	if outages, _ := h.store.Alarms.Outages(t.Context()); len(outages) != 1 {
		t.Fatalf("outages %+v", outages)
	}
	if n := len(out.got("desk@brackwater.example")); n > 0 {
		t.Error("it rang too early")
	}
	h.later(2 * time.Minute)
	h.until("it rings", func() bool { return len(out.got("desk@brackwater.example")) == 1 })
	h.later(2 * time.Hour)
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.until("all is well again", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		o, _ := h.store.Alarms.Outages(t.Context())
		return len(n)+len(o) == 0
	})
	if n := len(out.got("desk@brackwater.example")); n != 1 {
		t.Errorf("it rang %d times", n)
	}
}

func TestTheHistoryHasEveryMessageOfAPass(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.mutex.Lock() // both at once
	for _, m := range [][]byte{raw("one", "a.csv", "1"), []byte("From: x@y.example\r\nSubject: hello\r\n\r\nx")} {
		f := box.folders["INBOX"]
		f.letters = append(f.letters, &boxLetter{uid: f.next, raw: m, received: time.Now()})
		f.next++
	}
	close(box.wake)
	box.wake = make(chan struct{})
	box.mutex.Unlock()
	h.filed(1)
	passes := func() []store.Pass {
		p, _ := h.store.Passes.Find(t.Context(), store.System,
			store.PassQuery{Kind: "live", Filed: true, Rule: "tide-gauges", Most: 5})
		return p
	}
	h.until("the pass has ended", func() bool { p := passes(); return len(p) == 1 && p[0].State == store.Done })
	p := passes()[0]
	if p.Looked != 2 || p.Matched != 1 || p.MadeBy != "Ink Tray" || p.EndedAt == nil {
		t.Errorf("the pass says %+v", p)
	}
	all, err := h.store.Passes.MessagesIn(t.Context(), store.System, p.ID, false, 0, 10)
	matched, err2 := h.store.Passes.MessagesIn(t.Context(), store.System, p.ID, true, 0, 10)
	if err != nil || err2 != nil || len(all) != 2 || len(matched) != 1 || matched[0].Subject != "one" {
		t.Errorf("its messages: %d, of which %d matched (%v, %v)", len(all), len(matched), err, err2)
	}
	if none, err := h.store.Passes.MessagesIn(t.Context(), store.Viewer{Name: "other", Only: []string{"elsewhere"}},
		p.ID, false, 0,
		10); err != nil ||
		len(none) != 0 {
		t.Errorf("another sees %d of them (%v)", len(none), err)
	}
}

// The power goes once a content is kept here: it was flushed, and is filed though
// its message is deleted.
func TestWhatIsKeptHereOutlivesThePower(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	ram := faultfs.New()
	h.waiting = func() (disk.FS, error) { return ram, nil }
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	away := h.files + "-away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	box.deliver("INBOX", raw("one", "a.csv", "first"))
	h.until("it is kept here", func() bool { e, _ := h.store.Journal.Spooled(t.Context()); return len(e) == 1 })
	h.engine.Stop()
	ram.PowerUp()
	box.mutex.Lock()
	box.folders["INBOX"].letters = nil
	box.mutex.Unlock()
	h.start()
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{month() + "/a.csv": "first"})
}
