package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

const numberedRule = `
id: numbered
name: Numbered readings
cabinet: harbour files
look: {mailboxes: all}
match: {sender: {domain: tidewatch.example}}
attachments:
  - take: everything
    folder: Gauges
    name: <register> <file.stem>
`

// twin starts a copy of a house's records beside it.
func (h *house) twin() *house {
	h.t.Helper()
	h.engine.Stop()
	h.store.Close()
	other := &house{t: h.t, data: h.t.TempDir(), files: h.files, dial: h.dial, open: h.open, beat: h.beat, lease: h.lease}
	if err := os.CopyFS(other.data, os.DirFS(h.data)); err != nil {
		h.t.Fatal(err)
	}
	for _, one := range []*house{h, other} {
		var err error
		if one.store, err = store.Open(one.data); err != nil {
			h.t.Fatal(err)
		}
	}
	h.t.Cleanup(func() { other.engine.Stop(); other.store.Close() })
	return other
}

func (h *house) notice(kind string) *store.Notice {
	h.t.Helper()
	all, err := h.store.Tray.Notices(h.t.Context(), store.System)
	if err != nil {
		h.t.Fatal(err)
	}
	for i := range all {
		if all[i].Kind == kind {
			return &all[i]
		}
	}
	return nil
}

func (h *house) numbers() int {
	h.t.Helper()
	n, err := h.store.Register.Count(h.t.Context(), store.System, register.Query{})
	if err != nil {
		h.t.Fatal(err)
	}
	return n
}

func TestACopyOfTheRecordsFilesNothingWhileTheFirstRunsAndBothSaySo(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.lease = 100 * time.Millisecond
	h.hurry()
	h.watched()
	h.rule(numberedRule)
	second := h.twin()
	h.start()
	h.watched()
	second.start()
	second.watched()
	for i := range 40 {
		box.add(raw(fmt.Sprint("reading ", i), "same.csv", fmt.Sprint("content ", i)))
	}
	box.announce()
	h.until("the first has filed all", func() bool { return h.numbers() == 40 })
	second.until("the second knows all", func() bool {
		all, err := second.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 100})
		return err == nil && len(all) == 40
	})
	second.until("the second says what is wrong", func() bool {
		n := second.notice("cabinet")
		return n != nil && strings.Contains(n.Text, "another Ink Tray with the same records")
	})
	h.until("the first says it too", func() bool { return h.notice("copy") != nil })
	if n := second.numbers(); n != 0 {
		t.Errorf("the copy filed %d too", n)
	}
	if got := h.tree(); len(got) != 40 {
		t.Errorf("%d files are there, want 40", len(got))
	}
	contents := map[string]bool{}
	for _, text := range h.tree() {
		contents[text] = true
	}
	if len(contents) != 40 {
		t.Errorf("%d contents are there, want 40", len(contents))
	}
	second.engine.Stop()
	h.until("it is settled once the copy has ended", func() bool { return h.notice("copy") == nil })
	second.start()
	h.engine.Stop()
	second.until("the copy goes on once the first has ended", func() bool { return second.notice("cabinet") == nil })
	h.start() // for the cleanup
}

func TestOfManyCopiesThatStartAtOnceOneFiles(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(numberedRule)
	all := []*house{h}
	for range 4 {
		all = append(all, h.twin())
	}
	for i := range 20 {
		box.add(raw(fmt.Sprint("reading ", i), "same.csv", fmt.Sprint("content ", i)))
	}
	var started sync.WaitGroup
	for _, one := range all {
		started.Go(one.start)
	}
	started.Wait()
	counts := func() (n int, filing int) {
		for _, one := range all {
			if k := one.numbers(); k > 0 {
				n, filing = n+k, filing+1
			}
		}
		return n, filing
	}
	h.until("all is filed", func() bool { n, _ := counts(); return n >= 20 })
	if n, filing := counts(); n != 20 || filing != 1 || len(h.tree()) != 20 {
		t.Errorf("%d runs filed %d attachments into %d files, want one run, 20 and 20", filing, n, len(h.tree()))
	}
}

// leaseDocument is the note of a run in a cabinet, as the file has it.
type leaseDocument struct {
	Run     string    `json:"run"`
	Host    string    `json:"host"`
	Process int       `json:"process"`
	Space   string    `json:"space"`
	Begun   string    `json:"begun"`
	Taken   time.Time `json:"taken"`
	Files   bool      `json:"files"`
	Beat    int       `json:"beat"`
}

func (h *house) leaseFile(run string) string {
	return filepath.Join(h.files, cabinet.NotesFolder, "lease-"+h.engine.Installation+"."+run+".json")
}

func (h *house) writeLease(d leaseDocument) {
	h.t.Helper()
	text, err := json.Marshal(d)
	if err == nil {
		err = os.WriteFile(h.leaseFile(d.Run), text, 0o600)
	}
	if err != nil {
		h.t.Fatal(err)
	}
}

// elsewhere writes the note of a run on another machine.
func (h *house) elsewhere(beat int) {
	h.t.Helper()
	h.writeLease(leaseDocument{Run: "faraway", Host: "quay.brackwater.example", Process: 1, Space: "other", Begun: "1",
		Taken: may, Files: true, Beat: beat})
}

func TestARunOnAnotherMachineIsWaitedForAsLongAsItSaysThatItIsThere(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.lease = 40 * time.Millisecond
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	beat := 0
	h.elsewhere(beat)
	h.restart()
	box.add(raw("reading", "a.csv", "a"))
	h.until("it says that it waits", func() bool {
		n := h.notice("cabinet")
		return n != nil && strings.Contains(n.Text, "an earlier run of this Ink Tray on quay.brackwater.example")
	})
	h.until("it says that another runs", func() bool {
		beat++
		h.elsewhere(beat)
		n := h.notice("cabinet")
		return n != nil && strings.Contains(n.Text, "another Ink Tray with the same records runs on quay.brackwater.example")
	})
	if len(h.tree()) != 0 {
		t.Error("it filed beside the other")
	}
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a"}) // the other says nothing any more
	h.until("the notice is settled", func() bool { return h.notice("cabinet") == nil })
}

func TestARunWhoseProcessIsGoneIsNotWaitedFor(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	h.until("it holds the lease", func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") == nil })
	var own leaseDocument
	text, err := os.ReadFile(h.leaseFile(h.engine.Run))
	if err == nil {
		err = json.Unmarshal(text, &own)
	}
	if err != nil {
		t.Fatal(err)
	}
	if own.Space == "" {
		t.Skip("this system does not tell whether a process runs")
	}
	for _, gone := range []leaseDocument{
		{Run: "killed", Process: 1 << 30, Begun: "5", Files: true}, // no such process
		// another process has its number
		{Run: "reused", Process: os.Getppid(), Begun: "not when it began", Files: true},
		{Run: "stopped", Process: own.Process, Begun: own.Begun, Files: true},                 // of this process
		{Run: "waiting", Process: 1 << 30, Begun: "5", Taken: may.AddDate(80, 0, 0), Beat: 3}, // one that waited
	} {
		gone.Host, gone.Space = own.Host, own.Space
		if gone.Taken.IsZero() {
			gone.Taken = may
		}
		h.writeLease(gone)
	}
	h.restart()
	box.add(raw("reading", "a.csv", "a"))
	h.expect(map[string]string{"Gauges/2026/05/a.csv": "a"})
	if n := h.notice("cabinet"); n != nil {
		t.Errorf("it told: %s", n.Text)
	}
	notes, err := filepath.Glob(filepath.Join(h.files, cabinet.NotesFolder, "lease-*"))
	if err != nil || len(notes) != 1 {
		t.Errorf("notes %v (%v), want this run's alone", notes, err)
	}
	h.engine.Stop()
	if notes, err := filepath.Glob(filepath.Join(h.files, cabinet.NotesFolder, "lease-*")); err != nil || len(notes) != 0 {
		t.Errorf("a run that ended in order left %v (%v)", notes, err)
	}
	h.start()
}

func TestTwoInstallationsThatWatchOneMailboxIntoOneCabinetAreTold(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	other := newHouse(t, box.dial)
	other.files = h.files
	row, err := h.store.Cabinets.ByID(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	if err := other.store.Cabinets.Moved(t.Context(), &row, "test"); err != nil {
		t.Fatal(err)
	}
	other.hurry()
	other.watched()
	other.rule(gaugesRule)
	for _, one := range []*house{h, other} {
		one.until("it is told", func() bool {
			one.engine.Cabinets.Recheck() // as if a minute were over
			n := one.notice("watched twice")
			return n != nil && strings.Contains(n.Text, "“gauges”") && n.MailboxID == "box"
		})
	}
	if err := h.store.Tray.SettleByID(t.Context(), store.System, h.notice("watched twice").ID); err != nil {
		t.Fatal(err)
	}
	h.engine.Cabinets.Recheck()
	h.until("it looked again", func() bool { return h.engine.Cabinets.ClaimsAreCurrent(t.Context(), "cab") })
	if h.notice("watched twice") != nil {
		t.Error("what a person settled came back")
	}
	if err := h.engine.Office.SwitchRule(context.Background(), "tide-gauges", false, "test"); err != nil {
		t.Fatal(err)
	}
	other.until("it is settled once one of them files no more from it", func() bool {
		other.engine.Cabinets.Recheck()
		return other.notice("watched twice") == nil
	})
}
