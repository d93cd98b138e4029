package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// askedCabinet counts how often it is asked for a name, or for what has one.
type askedCabinet struct {
	*local.Cabinet
	asked *atomic.Int64
}

func (c *askedCabinet) Resolve(ctx context.Context, folders []string, file string) (cabinet.Spot, error) {
	c.asked.Add(1)
	return c.Cabinet.Resolve(ctx, folders, file)
}

func (c *askedCabinet) Sum(ctx context.Context, path string) (cabinet.Content, error) {
	c.asked.Add(1)
	return cabinet.Sum(ctx, c.Cabinet, path)
}

// Many files of one name and one size in one folder: each is filed under a number of its own, no content twice, and the
// cabinet is asked a few times for each file, however many there are. What somebody put there by hand is not written
// over.
func TestManyFilesOfOneNameAreNumberedWithFewQuestions(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	asked := &atomic.Int64{}
	folder := ""
	h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) {
		folder = c.Folder
		return &askedCabinet{local.New(c.Folder, c.Identity), asked}, nil
	}
	h.restart()
	h.hurry()
	const n = 200
	want := map[string]bool{}
	send := func(from, to int) {
		for i := from; i < to; i++ {
			content := fmt.Sprintf("reading %05d", i)
			box.deliver("INBOX", raw(fmt.Sprint("reading ", i), "same.csv", content))
			want[content] = true
		}
	}
	h.watched()
	h.rule(gaugesRule)
	send(0, n)
	filed := func() []string {
		all, _ := filepath.Glob(filepath.Join(folder, "Gauges/*/*/*.csv"))
		return all
	}
	h.until("all are filed", func() bool { return len(filed()) == n })
	by := filepath.Dir(filed()[0])
	if err := os.WriteFile(filepath.Join(by, fmt.Sprintf("same (%d).csv", n+2)), []byte("by hand"), 0o600); err != nil {
		t.Fatal(err)
	}
	want["by hand"] = true
	asked.Store(0)
	send(n, n+20)
	h.until("the later ones are filed, too", func() bool { return len(filed()) == n+21 })
	if per := asked.Load() / 20; per > 12 {
		t.Errorf("the cabinet is asked %d times for each file", per)
	}
	got := map[string]bool{}
	for _, name := range filed() {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		got[string(data)] = true
	}
	for content := range want {
		if !got[content] {
			t.Errorf("%q is not there", content)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d contents, want %d", len(got), len(want))
	}
}

// One message may hold thousands of files of one name, of different contents or of one. Each is decided in a time that
// does not grow with their number.
func TestThousandsOfFilesOfOneNameInOneMessageAreFiledInTime(t *testing.T) {
	for _, name := range []string{"same.csv", strings.Repeat("n", 300) + ".csv"} {
		box := newPostbox()
		h := newHouse(t, box.dial)
		h.hurry()
		h.watched()
		h.rule(gaugesRule)
		const n = 600
		var message strings.Builder
		message.WriteString("From: Oda <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nSubject: many\r\n" +
			"Content-Type: multipart/mixed; boundary=b\r\n\r\n")
		for i := range n + n/2 { // the last one is sent many times
			fmt.Fprintf(&message, "--b\r\nContent-Type: text/csv; name=%s\r\nContent-Disposition: attachment; filename=%s\r\n"+
				"\r\nreading %05d\r\n", name, name, min(i, n-1))
		}
		message.WriteString("--b--\r\n")
		began := time.Now()
		box.deliver("INBOX", []byte(message.String()))
		var counts map[store.State]int
		h.untilWithin(4*time.Minute, "all are decided", func() bool {
			counts, _ = h.store.Journal.StateCounts(t.Context(), store.System)
			return counts[store.Filed]+counts[store.There] == n+n/2
		})
		if filed := counts[store.Filed]; filed != n {
			t.Errorf("%d are filed, want %d", filed, n)
		}
		t.Log(time.Since(began).Round(time.Millisecond), "for", n+n/2)
	}
}

// What was read of a file stays with it while its content waits here for a cabinet that is away.
func TestValuesStayWithWhatWaitsForItsCabinet(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n") +
		"values: [{name: order, from: '<file.text find \"BK-[0-9]+\">'}]\n")
	away := h.files + ".away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	box.add(enclosed(oda, "while away", "x", "good.csv", "order;BK-2002"))
	h.until("its content is kept", func() bool {
		kept, err := h.store.Journal.Spooled(t.Context())
		return err == nil && len(kept) == 1
	})
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"All/good.csv": "order;BK-2002"})
	h.until("the register has the value", func() bool {
		lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
		return err == nil && len(lines) == 1 && len(lines[0].Values) == 1 && lines[0].Values[0].Text == "BK-2002"
	})
}

// Filed files are read again for a rule's new values. What cannot be read keeps what it had and is counted, and a copy
// of the message has no text inside.
func TestFiledFilesAreReadAgainForNewValues(t *testing.T) {
	box := &memory{}
	var dialled atomic.Int64
	var out atomic.Bool // the mailbox is out of reach
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		if dialled.Add(1); out.Load() {
			return nil, errors.New("nobody answers")
		}
		return box.dial(ctx, m, secret)
	})
	h.hurry()
	h.watched()
	document := bundles("  - {take: everything, folder: All}\n") + "copies: [{as: text, folder: Letters}]\n"
	id := h.rule(document)
	for _, n := range []string{"1", "2", "3"} {
		box.add(enclosed(oda, "order BK-"+n, "of BK-90"+n, "paper-"+n+".csv", "total;BK-80"+n))
	}
	h.filed(6)
	read := func() store.Pass {
		t.Helper()
		p, err := registry.ReadValues(t.Context(), h.engine.Registry, store.System, register.Query{})
		if err != nil {
			t.Fatal(err)
		}
		h.until("the pass has ended", func() bool {
			*p, err = h.store.Passes.ByID(t.Context(), store.System, p.ID)
			return err == nil && p.State != store.Running
		})
		return *p
	}
	if p := read(); p.State != store.Done || p.Looked != 6 || p.Matched != 0 || p.Note != "of 6 the rule reads no values" {
		t.Errorf("before there are values: %+v", p)
	}
	r, err := rule.ParseRule([]byte("id: " + id + "\n" + document + "values: [{name: within, from: '<file.text find " +
		"\"BK-[0-9]+\">'}, {name: letter, from: '<body find \"BK-[0-9]+\">'}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.Office.SaveRule(t.Context(), r, 1, "test"); err != nil {
		t.Fatal(err)
	}
	away := h.files + ".away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	if p := read(); p.State != store.Done || p.Looked != 6 || p.Note != "3 could not be read, and keep what they had" {
		t.Errorf("while the cabinet is away: %+v", p)
	}
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be back",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") == nil })
	if p := read(); p.State != store.Done || p.Looked != 6 || p.Matched != 3 || p.Note != "" {
		t.Errorf("afterwards: %+v", p)
	}
	found := map[string]int{}
	h.until("the register has the values", func() bool {
		lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
		if err != nil {
			t.Fatal(err)
		}
		clear(found)
		for _, l := range lines {
			for _, v := range l.Values {
				found[v.Name+" "+v.Text]++
			}
		}
		return found["within BK-801"] == 1 && found["within BK-803"] == 1 && found["letter BK-902"] == 2
	})
	if found["within "] != 3 {
		t.Errorf("the register has %v", found)
	}
	if p := read(); p.Matched != 0 {
		t.Errorf("once more: %+v", p)
	}

	// What is to be read first tells what else is.
	r.Values = append(r.Values, rule.ValueOf{Name: "either", From: rule.Names{`<file.text find "nothing">`,
		`<body find "BK-[0-9]+">`, `<header "X-None">`, `<subject>`}})
	if _, err := h.engine.Office.SaveRule(t.Context(), r, 2, "test"); err != nil {
		t.Fatal(err)
	}
	reached := dialled.Load()
	if p := read(); p.State != store.Done || p.Matched != 6 || p.Note != "" {
		t.Errorf("with a value that may stand in several places: %+v", p)
	}
	if more := dialled.Load() - reached; more > 3 { // that of the pass, and what the watcher may open meanwhile
		t.Errorf("the mailbox was opened %d times for 6 files", more)
	}

	// While the mailbox is away, what was read of its messages stays, and it is not tried for each file.
	out.Store(true)
	reached = dialled.Load()
	if p := read(); p.Matched != 0 || p.Note != "6 could not be read, and keep what they had" {
		t.Errorf("while the mailbox is away: %+v", p)
	}
	if more := dialled.Load() - reached; more > 3 {
		t.Errorf("the mailbox was tried %d times for 6 files", more)
	}
}

// The same number of an invoice in another message is asked about or said, also where both arrive at once; the same
// content is there already, and what a person releases is filed.
func TestAValueThatIsThereAgainIsAskedAboutOrSaid(t *testing.T) {
	for _, again := range []string{"ask", "say so"} {
		box := &memory{}
		h := newHouse(t, box.dial)
		h.hurry()
		h.watched()
		h.rule(bundles("  - {take: everything, folder: All}\n") + "values: [{name: invoice, from: '<file.text find " +
			"\"RE-[0-9]+\">', again: " + again + "}]\n")
		box.add(enclosed(oda, "first", "x", "a.csv", "invoice;RE-1", "b.csv", "copy of;RE-1"))
		box.add(enclosed(oda, "second", "x", "c.csv", "again;RE-1"))
		box.add(enclosed(oda, "third", "x", "a.csv", "invoice;RE-1"))
		box.add(enclosed(oda, "fourth", "x", "d.csv", "invoice;RE-2"))
		want := map[string]string{"All/a.csv": "invoice;RE-1", "All/b.csv": "copy of;RE-1", "All/d.csv": "invoice;RE-2"}
		if again == "ask" {
			e := h.trayOf(1)[0]
			if e.Name != "c.csv" || e.Cause != store.CauseRepeated || !strings.Contains(e.Reason.String(),
				"the value “invoice” is “RE-1” again, as in ") {
				t.Errorf("in the tray: %+v", e)
			}
			h.expect(want)
			if _, err := h.engine.Desk.Release(t.Context(), store.System, store.Matters{Items: []int64{e.ID}}); err != nil {
				t.Fatal(err)
			}
		}
		want["All/c.csv"] = "again;RE-1"
		h.expect(want)
		h.until("the reason says so", func() bool {
			lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
			for _, l := range lines {
				if l.File == "c.csv" {
					e, err := h.store.Journal.ByID(t.Context(), store.System, l.JournalID)
					return err == nil && strings.Contains(e.Reason.String(), "is “RE-1” again, as in ")
				}
			}
			return err != nil
		})
	}
}

// Of two messages with the same files the later one repeats nothing: its files are there already, each of them.
func TestTheSameFilesOnceMoreRepeatNothing(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n") + "values: [{name: invoice, from: '<file.text find " +
		"\"RE-[0-9]+\">', again: ask}]\n")
	for _, subject := range []string{"first", "second"} {
		box.add(enclosed(oda, subject, "x", "d.csv", "four;RE-4", "e.csv", "five;RE-4"))
		h.until("they are decided", func() bool {
			counts, err := h.store.Journal.StateCounts(t.Context(), store.System)
			return err == nil && counts[store.Filed] == 2 && (subject == "first" || counts[store.There] == 2)
		})
	}
	h.trayOf(0)
}

// Where a value is asked for and the text inside cannot be read, the tray says so.
func TestAValueThatCannotBeReadIsSaidToBeSo(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n") + "values: [{name: order, from: <file.text>, missing: ask}, " +
		"{name: topic, from: '<subject find \"none\">'}]\n")
	box.add(enclosed(oda, "scanned", "x", "scan.pdf", pdfOf(t, "", "")))
	if e := h.trayOf(1)[0]; e.Cause != store.CauseValue || !strings.Contains(e.Reason.String(),
		"the file does not have the value “order”: there is no text in it") {
		t.Errorf("in the tray: %+v", e)
	}
}

// A copy of the message is no paper with a text inside: a rule that reads values files it all the same, with those that
// the message holds.
func TestCopiesOfTheMessageAreFiledByARuleThatReadsValues(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n") + "copies: [{as: eml}, {as: text}, {as: html}, {as: pdf}]\n" +
		"values: [{name: order, from: ['<file.text find \"BK-[0-9]+\">', '<invoice.number>', " +
		"'<subject find \"BK-[0-9]+\">']}]\n")
	box.add(enclosed(oda, "about BK-1", "x", "good.csv", "order;BK-2"))
	h.until("all five are filed", func() bool { return len(h.tree()) == 5 })
	h.until("each has its value", func() bool {
		lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
		read := map[string]int{}
		for _, l := range lines {
			for _, v := range l.Values {
				read[v.Text]++
			}
		}
		return err == nil && read["BK-2"] == 1 && read["BK-1"] == 4
	})
}
