package engine

import (
	"image"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/value"
	"inktray.example/inktray/internal/demo/paper"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

func needsTesseract(t *testing.T) {
	t.Helper()
	if _, err := child.FindTesseract(t.Context()); err != nil {
		testbed.LeaveOut(t, "tesseract-ocr: "+err.Error())
	}
}

// papers are scanned: as a picture, and as a PDF of as many pages.
func papers(t *testing.T, number string, pages int) (picture, document string) {
	t.Helper()
	page, err := paper.Scan([]string{"Brackwater harbour office", "Declaration of ship's waste", "Number: " + number,
		"Fee to be paid: 1,180.50 EUR"}, paper.Look{Tilt: 0.5})
	if err != nil {
		t.Fatal(err)
	}
	data, err := paper.PNG(page)
	if err != nil {
		t.Fatal(err)
	}
	all := make([]*image.Gray, pages)
	for i := range all {
		all[i] = page
	}
	whole, err := paper.PDF(all...)
	if err != nil {
		t.Fatal(err)
	}
	return string(data), string(whole)
}

const scansRule = `
  - take: [{text: {contains: waste}}]
    folder: Waste/<value.waste>
  - take: everything
    folder: Others
values: [{name: waste, from: '<file.text find "WD-[0-9]+">', missing: ask}, {name: fee, type: amount, from: '<file.text find "[0-9,.]+ EUR">'}]
`

// Scanned papers are read where they arrive: in conditions, in values and for names, and the reason says so. The same
// paper is read once.
func TestScannedPapersAreReadAndFiled(t *testing.T) {
	needsTesseract(t)
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(bundles(scansRule))
	picture, scanned := papers(t, "WD-41", 2)
	box.add(enclosed(oda, "first", "x", "scan.png", picture, "paper.pdf", scanned))
	h.untilWithin(2*time.Minute, "both are filed", func() bool { return len(h.tree()) == 2 })
	h.expect(map[string]string{"Waste/WD-41/scan.png": picture, "Waste/WD-41/paper.pdf": scanned})
	h.filed(2)
	lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range lines {
		if len(l.Values) != 2 || l.Values[1].Text != "1180.50 EUR" || l.Values[0].Sure < 60 || l.Values[0].Sure > 100 {
			t.Errorf("%s has the values %+v", l.File, l.Values)
		}
	}
	kept, err := os.ReadDir(filepath.Join(filepath.Dir(h.engine.Spool), "scans"))
	if err != nil || len(kept) != 2 {
		t.Errorf("of two files, %d readings are kept, %v", len(kept), err)
	}
	again := child.Started()
	document, err := rule.ParseRule([]byte(bundles(strings.ReplaceAll(scansRule, "Waste/", "Again/"))))
	if err != nil {
		t.Fatal(err)
	}
	r, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
		rehearsal.RehearsalOf{Rule: document, Message: 1, Thorough: true})
	if err != nil || len(r.Messages) != 1 {
		t.Fatal(r, err)
	}
	items := r.Messages[0].Items
	for i := range items {
		if !strings.Contains(items[i].Reason.String(), "“waste” stands in it (read from a scan, ") {
			t.Errorf("%s: %s", items[i].Item.Item.Name, items[i].Reason)
		}
	}
	if n := child.Started() - again; n > 4 { // for the texts, and none to read pictures
		t.Errorf("for what was read before, %d processes were started", n)
	}
}

// Without pictures being read, a scan waits where its text is asked for, and a picture has none.
func TestScansWaitWhereTheyAreNotRead(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	if err := h.engine.Office.SetScans(t.Context(), office.Scans{Off: true, Pages: 10}, nil, 0, "test"); err != nil {
		t.Fatal(err)
	}
	h.rule(bundles(scansRule))
	picture, document := papers(t, "WD-42", 1)
	box.add(enclosed(oda, "second", "x", "scan.png", picture, "paper.pdf", document))
	held := h.trayOf(2)
	for _, e := range held {
		want := map[string]string{"scan.png": "the file does not have the value “waste”",
			"paper.pdf": "perhaps it was scanned; Settings says that scans are not read"}[e.Name]
		if !strings.Contains(e.Reason.String(), want) {
			t.Errorf("%s: %s", e.Name, e.Reason)
		}
	}
	if h.engine.Office.Settings().Pictures {
		t.Error("pictures are read all the same")
	}
}

// Of a file with many scanned pages only some are read, and that is said.
func TestOnlySomePagesOfAScanAreRead(t *testing.T) {
	needsTesseract(t)
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	if err := h.engine.Office.SetScans(t.Context(), office.Scans{Pages: 1, Languages: []string{"eng"}}, nil, 0,
		"test"); err != nil {
		t.Fatal(err)
	}
	h.rule(bundles("  - {take: [{text: {contains: nothing of it}}], folder: A}\n  - {take: everything, folder: B}\n"))
	_, document := papers(t, "WD-43", 3)
	box.add(enclosed(oda, "third", "x", "paper.pdf", document))
	if e := h.trayOf(1)[0]; !strings.Contains(e.Reason.String(), "2 scanned pages of it were not read") {
		t.Error(e.Reason)
	}
}

func TestHowScansAreReadIsChecked(t *testing.T) {
	h := newHouse(t, (&memory{}).dial)
	for _, wrong := range []office.Scans{{Pages: 0}, {Pages: 101}, {Pages: 5, Languages: []string{"xyz"}},
		{Pages: 5, Languages: []string{"deu --psm"}}} {
		if err := h.engine.Office.SetScans(t.Context(), wrong, []string{"deu", "eng"}, 0, "test"); err == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
	right := office.Scans{Pages: 5, Languages: []string{"DEU", "", "deu"}}
	if err := h.engine.Office.SetScans(t.Context(), right, []string{"deu", "eng"}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	if got := h.engine.Office.Settings().Scans; got.Off || got.Pages != 5 || len(got.Languages) != 1 {
		t.Errorf("kept is %+v", got)
	}
}

// What the codes on a page hold is read in pictures and PDFs, also where no scans are read, and shown on the page.
func TestCodesOnPagesAreRead(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	if err := h.engine.Office.SetScans(t.Context(), office.Scans{Off: true, Pages: 2}, nil, 0, "test"); err != nil {
		t.Fatal(err)
	}
	h.rule(bundles("\n  - {take: [{value: {name: waste, found: true}}], folder: Waste/<value.waste>}\n" +
		"  - {take: everything, folder: Others}\n" +
		"values: [{name: waste, from: ['<file.code find \"WD-[0-9]+\">']}]\n"))
	page := func(code string) *image.Gray {
		p, err := paper.Scan([]string{"Declaration"}, paper.Look{DPI: 150, Tilt: 2, Grain: 0.03, Code: code})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	picture, err := paper.PNG(page("ref:WD-51;2026"))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for name, codes := range map[string][]string{"second.pdf": {"", "WD-52"}, "third.pdf": {"", "", "WD-53"},
		"none.pdf": {""}} {
		var pages []*image.Gray
		for _, code := range codes {
			pages = append(pages, page(code))
		}
		if files[name], err = paper.PDF(pages...); err != nil {
			t.Fatal(err)
		}
	}
	box.add(enclosed(oda, "first", "x", "scan.png", string(picture), "second.pdf", string(files["second.pdf"]),
		"third.pdf", string(files["third.pdf"]), "none.pdf", string(files["none.pdf"]), "note.csv", "WD-54"))
	held := h.trayOf(1)
	if held[0].Name != "third.pdf" ||
		!strings.Contains(held[0].Reason.String(), "one page of it was not searched for codes") {
		t.Errorf("in the tray is %s: %s", held[0].Name, held[0].Reason)
	}
	h.filed(4)
	h.expect(map[string]string{"Waste/WD-51/scan.png": string(picture),
		"Waste/WD-52/second.pdf": string(files["second.pdf"]), "Others/none.pdf": string(files["none.pdf"]),
		"Others/note.csv": "WD-54"})
	lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
	if err != nil {
		t.Fatal(err)
	}
	for i := range lines {
		if lines[i].File != "second.pdf" {
			continue
		}
		places, err := registry.Places(t.Context(), h.engine.Registry, &lines[i])
		if err != nil || len(places) != 1 || places[0].Page != 1 || places[0].Left < 0.6 || places[0].Top > 0.3 {
			t.Errorf("it stands at %+v, %v", places, err)
		}
	}
	p, err := registry.ReadValues(t.Context(), h.engine.Registry, store.System, register.Query{})
	if err != nil {
		t.Fatal(err)
	}
	h.until("the pass has ended", func() bool {
		*p, err = h.store.Passes.ByID(t.Context(), store.System, p.ID)
		return err == nil && p.State != store.Running
	})
	again, err := h.store.Register.List(t.Context(), store.System, register.Query{})
	if err != nil || p.Matched != 0 || p.Note != "" {
		t.Errorf("read again: %+v, %v", p, err)
	}
	for i := range again {
		if again[i].Values[0] != lines[i].Values[0] {
			t.Errorf("%s has %+v, it was %+v", again[i].File, again[i].Values, lines[i].Values)
		}
	}
}

// Read again, scans say what they said; and where they are not read any more, what was read of them stays.
func TestScansAreReadAgainAndKeepWhatTheyHad(t *testing.T) {
	needsTesseract(t)
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	document := bundles("  - {take: everything, folder: A}\n") +
		"values: [{name: waste, from: ['<file.text find \"WD-[0-9]+\">', '<subject find \"WD-[0-9]+\">']}]\n"
	id := h.rule(document)
	picture, scanned := papers(t, "WD-44", 1)
	box.add(enclosed(oda, "about WD-99", "x", "scan.png", picture, "paper.pdf", scanned, "note.csv", "nothing"))
	h.filed(3)
	values := func() map[string]value.Value {
		t.Helper()
		lines, err := h.store.Register.List(t.Context(), store.System, register.Query{})
		if err != nil {
			t.Fatal(err)
		}
		all := map[string]value.Value{}
		for _, l := range lines {
			all[l.File] = l.Values[0]
		}
		return all
	}
	had := values()
	for file, want := range map[string]string{"scan.png": "WD-44", "paper.pdf": "WD-44", "note.csv": "WD-99"} {
		if v := had[file]; v.Text != want || (v.Sure > 0) != (file != "note.csv") {
			t.Errorf("%s has %+v", file, v)
		}
	}
	read := func(note string) {
		t.Helper()
		p, err := registry.ReadValues(t.Context(), h.engine.Registry, store.System, register.Query{})
		if err != nil {
			t.Fatal(err)
		}
		h.until("the pass has ended", func() bool {
			*p, err = h.store.Passes.ByID(t.Context(), store.System, p.ID)
			return err == nil && p.State != store.Running
		})
		if now := values(); !maps.Equal(now, had) || p.Matched != 0 || p.Note != note {
			t.Errorf("read again: %+v, %+v; it was %+v", p, now, had)
		}
	}
	read("")
	if err := h.engine.Office.SetScans(t.Context(), office.Scans{Off: true, Pages: 10}, nil, 0, "test"); err != nil {
		t.Fatal(err)
	}
	// The subject is another place where it may stand, and not the first: it does not count while that is unread.
	read("2 could not be read, and keep what they had")
	shorter := strings.Replace(document, ", '<subject find \"WD-[0-9]+\">'", "", 1)
	r, err := rule.ParseRule([]byte("id: " + id + "\n" + shorter))
	if err == nil {
		_, err = h.engine.Office.SaveRule(t.Context(), r, 1, "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	had["note.csv"] = value.Value{Name: "waste", Type: value.Text}
	if _, err := registry.ReadValues(t.Context(), h.engine.Registry, store.System, register.Query{}); err != nil {
		t.Fatal(err)
	}
	h.until("the note has none any more, and the others keep theirs", func() bool { return maps.Equal(values(), had) })
}

// A file in which codes are looked for for longer than other mail waits is read beside it, and not held.
func TestCodesAreReadBesideOtherMail(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.hurry()
	h.engine.Stop()
	h.patience = 20 * time.Millisecond
	h.start()
	h.watched()
	h.rule(bundles("\n  - {take: [{value: {name: waste, found: true}}], folder: Waste/<value.waste>}\n" +
		"values: [{name: waste, from: ['<file.code find \"WD-[0-9]+\">']}]\n"))
	p, err := paper.Scan([]string{"Declaration"}, paper.Look{DPI: 150, Code: "WD-61"})
	if err != nil {
		t.Fatal(err)
	}
	picture, err := paper.PNG(p)
	if err != nil {
		t.Fatal(err)
	}
	box.add(enclosed(oda, "first", "x", "scan.png", string(picture)))
	h.expect(map[string]string{"Waste/WD-61/scan.png": string(picture)})
}
