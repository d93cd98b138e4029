package engine

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/store"
)

// backedUp copies the records, as a backup has them.
func (h *house) backedUp() (folder string) {
	h.t.Helper()
	folder = h.t.TempDir()
	if err := h.store.Snapshot(h.t.Context(), filepath.Join(folder, "inktray.db"),
		filepath.Join(folder, "secret.key")); err != nil {
		h.t.Fatal(err)
	}
	return folder
}

// restored lets the service go on with records that were copied at a moment.
func (h *house) restored(folder string, made time.Time) {
	h.t.Helper()
	h.engine.Stop()
	err := h.store.Close()
	if err == nil {
		h.data = folder
		h.store, err = store.Open(folder)
	}
	if err == nil {
		err = h.store.Restored.Begin(h.t.Context(), made, time.Now().Add(2*time.Second)) // the postbox is a second ahead
	}
	if err != nil {
		h.t.Fatal(err)
	}
	h.start()
}

// compared waits for the end of the comparison.
func (h *house) compared() store.Restoring {
	h.t.Helper()
	var r store.Restoring
	h.until("the comparison is over", func() bool {
		r, _, _ = h.store.Restored.Restored(h.t.Context())
		return r.Done()
	})
	return r
}

const restoredRules = `
id: moving
name: Moving
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: move}}
attachments:
  - take: everything
    folder: Moved
afterwards: [{reply: {text: "Filed."}}, {move: "Filed/<received year>"}]
---
id: latest
name: Latest
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: latest}}
attachments:
  - take: everything
    folder: Latest
    if name exists: replace
---
id: numbered
name: Numbered
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: number}}
attachments:
  - take: everything
    folder: Numbers
    name: <register.year>-<register pad 4> <file.stem>
---
id: plain
name: Plain
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: plain}}
attachments:
  - take: everything
    folder: Plain
---
id: thanks
name: Thanks
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: question}}
afterwards: [{reply: {text: "We have your question."}}]
`

// Everything that can happen to a filing happens after the backup: it is filed, moved, replaced, numbered, renamed by
// a person, taken back, and answered. The restored service knows all of it again and does nothing twice.
func TestWhatWasDoneAfterTheBackupIsRecognisedAndNotDoneTwice(t *testing.T) {
	first, rest, _ := strings.Cut(restoredRules, "\n---\n")
	h, box, out := sendingHouse(t, first)
	for _, document := range strings.Split(rest, "\n---\n") {
		h.rule(document)
	}
	send := func(subjects ...string) {
		for _, s := range subjects {
			name, content, _ := strings.Cut(s, "=")
			m := raw(name+" "+content, strings.ReplaceAll(name, " ", "-")+".csv", content)
			if strings.HasPrefix(name, "question") {
				m = raw(name)
			}
			sender := strings.ReplaceAll(name, " ", ".") + content + "@tidewatch.example"
			box.deliver("INBOX", bytes.Replace(m, []byte("oda@tidewatch.example"), []byte(sender), 1))
		}
	}
	replies := func() (n int) {
		out.mutex.Lock()
		defer out.mutex.Unlock()
		for _, to := range out.mails {
			n += len(to)
		}
		return n
	}
	done := func(files int) {
		t.Helper()
		h.until(fmt.Sprint(files, " files are there"), func() bool { return len(h.tree()) == files })
		h.until("nothing is left to do", func() bool {
			var open int
			found, err := h.store.Journal.Recent(t.Context(), store.System, 100)
			for _, e := range found {
				steps := h.steps(e.MessageID)
				if strings.Contains(steps, "waiting") || strings.Contains(steps, "begun") {
					open++
				}
			}
			return err == nil && open == 0
		})
	}
	send("move early=1", "latest=old", "number=one", "plain early=2", "plain undone=before")
	done(5)
	backup, made := h.backedUp(), time.Now()
	time.Sleep(1100 * time.Millisecond) // the postbox dates what it is given a second ahead

	send("move late=3", "latest=new", "latest=newest", "number=two", "number=three", "plain late=4", "plain sorted=5",
		"plain again=6", "plain foreign=7", "question=8")
	done(5 + 2 + 5)
	h.until("both replies are sent", func() bool { return replies() == 3 })
	entries, err := h.store.Journal.Recent(t.Context(), store.System, 100)
	if err != nil {
		t.Fatal(err)
	}
	for i := range entries {
		if n := entries[i].Name; n == "plain-undone.csv" || n == "plain-again.csv" {
			h.undone(0, entries[i].ID)
		}
	}
	// People sort files, too.
	if err := os.MkdirAll(filepath.Join(h.files, "Sorted"), 0o755); err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{"Plain/plain-sorted.csv": "Sorted/plain-sorted.csv",
		"Plain/plain-foreign.csv": "../gone.csv"} {
		if err := os.Rename(filepath.Join(h.files, from), filepath.Join(h.files, to)); err != nil {
			t.Fatal(err)
		}
	}
	before, lies := h.tree(), strings.Join(box.lies(), " ")
	lines, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 100})
	if err != nil {
		t.Fatal(err)
	}

	h.restored(backup, made)
	r := h.compared()
	before["Plain/plain-foreign.csv"] = "7" // nobody knows that it had been filed: its file is gone
	h.expect(before)
	if now := strings.Join(box.lies(), " "); now != lies {
		t.Errorf("messages lie at %s, before at %s", now, lies)
	}
	if n := replies(); n != 3 {
		t.Errorf("%d replies, want the 3 of before", n)
	}
	if r.Missing != 0 || r.TakenBack != 1 || r.Unknown != 0 {
		t.Errorf("the comparison says %+v", r)
	}
	again, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 100})
	if err != nil {
		t.Fatal(err)
	}
	files := func(list []store.Filing) (out []string) {
		for _, f := range list {
			line := f.Folder + "/" + f.File
			if strings.HasPrefix(f.File, "2") {
				line += fmt.Sprint(" ", f.Number)
			}
			out = append(out, line)
		}
		return out
	}
	was, is := map[string]bool{"Plain/plain-foreign.csv": true}, map[string]bool{}
	for _, f := range files(lines) {
		if f = strings.Replace(f, "Plain/plain-sorted", "Sorted/plain-sorted", 1); f != "Plain/plain-foreign.csv" {
			was[f] = true
		}
	}
	for _, f := range files(again) {
		is[f] = true
	}
	for f := range was {
		if !is[f] {
			t.Errorf("the register has no line of %s", f)
		}
	}
	for f := range is {
		if !was[f] {
			t.Errorf("the register has a line of %s", f)
		}
	}
	numbers := map[int]string{}
	for _, f := range again {
		if other := numbers[f.Number]; other != "" {
			t.Errorf("number %d is that of %s and of %s", f.Number, other, f.File)
		}
		numbers[f.Number] = f.File
		if f.FiledAt.After(r.RestoredAt) && !strings.HasPrefix(f.File, "2") && f.Number <= 101 {
			t.Errorf("%s got the number %d, which others may have", f.File, f.Number)
		}
	}
	tray, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if err != nil || len(tray) != 1 || tray[0].Name != "plain-again.csv" {
		t.Errorf("in the tray is %+v, %v", tray, err)
	}
	h.until("a person is asked about the question", func() bool {
		for id := int64(1); id < 40; id++ {
			if strings.Contains(h.steps(id), "failed (the message came after the backup") {
				return true
			}
		}
		return false
	})

	// Old and new go on: what comes now is filed, and a replaced file is put back where the last one is taken back.
	send("move later=10", "number=later", "latest=last")
	h.until("what comes later is filed", func() bool { return len(h.tree()) == len(before)+2 })
	h.until("the later reply is sent", func() bool { return replies() == 4 })
	h.until("the latest is replaced, and that is recorded", func() bool {
		entries, err = h.store.Journal.Recent(t.Context(), store.System, 100)
		if err != nil {
			t.Fatal(err)
		}
		for i := range entries {
			if e := &entries[i]; e.Name == "latest.csv" && e.State == store.Filed && e.Size == int64(len("last")) {
				return true
			}
		}
		return false
	})
	back := []string{"newest", "new", "old"}
	for i := range entries {
		if entries[i].Name == "latest.csv" && len(back) > 0 && entries[i].State == store.Filed {
			h.undone(0, entries[i].ID)
			if got := h.tree()["Latest/latest.csv"]; got != back[0] {
				one, _ := h.store.Journal.ByID(t.Context(), store.System, entries[i].ID)
				t.Fatalf("%d (%s) is taken back: there is %q, want %q", one.ID, one.Reason, got, back[0])
			}
			back = back[1:]
		}
	}
}

// What only looks as if it had been filed after the backup is filed, and a mailbox goes on though a folder of it cannot
// be looked into: its messages are taken up once it can. What a person released before is known again when it is
// released once more, also after the comparison.
func TestAfterARestoringOnlyWhatWasFiledIsTakenForFiled(t *testing.T) {
	rules := strings.Split(restoredRules, "\n---\n")
	h, box, out := sendingHouse(t, rules[0])
	h.rule(rules[3])
	h.rule(`
id: plans
name: Plans
cabinet: harbour files
look: {mailboxes: gauges}
match: {subject: {contains: plan}}
attachments:
  - take: everything
    folder: Plans
afterwards: [{reply: {text: "Filed."}}]
`)
	replies := func() (n int) {
		out.mutex.Lock()
		defer out.mutex.Unlock()
		for _, to := range out.mails {
			n += len(to)
		}
		return n
	}
	release := func(e store.Entry) {
		t.Helper()
		if n, err := h.engine.Desk.Release(t.Context(), store.System, store.Matters{Items: []int64{e.ID}}); n != 1 ||
			err != nil {
			t.Fatal(n, err)
		}
	}
	box.deliver("INBOX", raw("plain kept", "kept.csv", "1"))
	h.until("a file is there", func() bool { return len(h.tree()) == 1 })
	h.until("it is recorded", func() bool { return h.count("") == 1 })
	backup, made := h.backedUp(), time.Now()
	time.Sleep(1100 * time.Millisecond) // the postbox dates what it is given a second ahead

	box.deliver("INBOX", raw("move late", "moved.csv", "2"))
	box.deliver("INBOX", raw("sealed plan", "plan.pdf", program))
	box.deliver("INBOX", raw("plain copy", "copy.csv", "1"))
	box.deliver("INBOX", raw("plain other", "other.csv", "77"))
	release(h.trayOf(1)[0])
	h.until("five files are there", func() bool { return len(h.tree()) == 5 })
	h.until("both replies are sent, and the message is moved", func() bool {
		return replies() == 2 && strings.Contains(strings.Join(box.lies(), " "), "Filed/")
	})
	want := h.tree()
	// Somebody throws two files away, and touches one. Another installation keeps one here.
	kept := filepath.Join(h.files, filepath.FromSlash(cabinet.Replaced))
	err := errors.Join(os.Remove(filepath.Join(h.files, "Plain", "copy.csv")),
		os.Remove(filepath.Join(h.files, "Plain", "other.csv")), os.MkdirAll(kept, 0o755),
		os.WriteFile(filepath.Join(kept, "another-5-abc"+filing.BackSuffix), []byte("77"), 0o644),
		os.Chtimes(filepath.Join(h.files, "Plain", "kept.csv"), time.Now(), time.Now().Add(time.Hour)))
	if err != nil {
		t.Fatal(err)
	}
	box.mutex.Lock()
	var moved string
	for name := range box.folders {
		if strings.HasPrefix(name, "Filed/") {
			moved = name
		}
	}
	lies := box.folders[moved]
	box.folders[moved] = nil // it is listed, and cannot be opened
	box.mutex.Unlock()

	h.restored(backup, made)
	held := h.trayOf(1)[0]
	h.until("what was thrown away is filed again", func() bool { return len(h.tree()) == 5 })
	h.expect(want)
	if r, _, err := h.store.Restored.Restored(t.Context()); err != nil || r.Done() || len(r.Looked) > 0 {
		t.Errorf("while a folder cannot be looked into, the comparison says %+v, %v", r, err)
	}
	box.mutex.Lock()
	box.folders[moved] = lies
	box.mutex.Unlock()
	if r := h.compared(); r.Unknown != 1 || r.Missing != 0 {
		t.Errorf("the comparison says %+v", r)
	}
	if n := h.count(""); n != 4 { // kept, copy, other, and the moved one
		t.Errorf("the register has %d lines", n)
	}
	release(held)
	h.until("the released one is known again", func() bool { return h.count("") == 5 })
	h.until("its reply is left out", func() bool { return strings.Contains(h.steps(held.MessageID), "left out (") })
	h.expect(want)
	if n := replies(); n != 2 {
		t.Errorf("%d replies, want the 2 of before", n)
	}
}
