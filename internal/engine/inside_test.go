package engine

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// zipped is an archive of names and contents.
func zipped(t testing.TB, files ...string) string {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		if err == nil {
			_, err = io.WriteString(w, files[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// fileNow begins a house over one message, files its old mail and waits until
// nothing is under way any more.
func fileNow(t *testing.T, document string, messages ...[]byte) *house {
	t.Helper()
	box := &memory{validity: 1}
	for _, m := range messages {
		box.add(m)
	}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(document)
	h.fileOld(id)
	return h
}

func (h *house) fileOld(id string) {
	h.t.Helper()
	pass, err := h.engine.FileOldMail(h.t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		h.t.Fatal(err)
	}
	h.until("the pass is done", func() bool {
		p, err := h.store.Passes.ByID(h.t.Context(), store.System, pass.ID)
		return err == nil && p.State != store.Running
	})
}

// said are the verdicts of all items, "item: state path (reason)".
func (h *house) said() string {
	h.t.Helper()
	h.until("nothing is under way", func() bool {
		_, waits, err := h.store.Journal.NextDue(h.t.Context(), "box", nil, store.AnyLane)
		staged, stagedErr := h.store.Journal.Staged(h.t.Context(), "cab")
		return err == nil && stagedErr == nil && !waits && len(staged) == 0
	})
	entries, err := h.store.Journal.Recent(h.t.Context(), store.System, 500)
	if err != nil {
		h.t.Fatal(err)
	}
	slices.Reverse(entries)
	var lines []string
	for _, e := range entries {
		line := e.Item + ": " + string(e.State)
		if e.Path != "" {
			line += " " + e.Path
		}
		if !e.Reason.IsZero() && e.State != store.Filed || strings.Contains(e.Reason.String(), ";") ||
			strings.Contains(e.Reason.String(), "but it is") || strings.Contains(e.Reason.String(), "place of") ||
			strings.Contains(e.Reason.String(), "not replaced") {
			line += " (" + e.Reason.String() + ")"
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

func bundles(more string) string {
	return "name: Bundles\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: every message\nattachments:\n" + more
}

func TestArchivesAreUnpackedIntoTheFoldersOfTheirEntry(t *testing.T) {
	inner := zipped(t, "deep/c.csv", "3")
	archive := zipped(t, "a.csv", "1;2", "plans/berth.pdf", "%PDF-1.7", "setup.exe", "MZ", "inner.zip", inner,
		"../../escape.txt", "out", "desktop.ini", "x", "copy.exe.pdf", "MZ"+strings.Repeat("x", 100))
	h := fileNow(t, bundles(`
  - leave: [{kind: program}]
  - take: [{name: "*.csv"}]
    folder: Tables
  - take: [{kind: archive}]
    unpack: files
    folder: Bundles/<archive.stem>
`), raw("bundle", "may.zip", archive, "note.txt", "n"))
	h.expect(map[string]string{"Tables/a.csv": "1;2", "Bundles/may/plans/berth.pdf": "%PDF-1.7", "Tables/c.csv": "3",
		"Bundles/may/escape.txt": "out"})
	want := `2: left out (unpacked; the files in it are filed instead)
2!1: filed Tables/a.csv
2!2: filed Bundles/may/plans/berth.pdf
2!3: left out (kind program)
2!4: left out (unpacked; the files in it are filed instead)
2!4!1: filed Tables/c.csv
2!5: filed Bundles/may/escape.txt (its path in the archive, "../../escape.txt", leads outside; it is filed inside)
2!6: left out (a name that makes a computer act as soon as a person looks into the folder)
2!7: held (named .pdf, but it is a Windows program. Nothing was written)
3: left out (the rest is left)`
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if left, err := os.ReadDir(filepath.Join(h.data, "spool")); err != nil || len(left) != 0 {
		t.Errorf("%d things are left where contents are worked on (%v)", len(left), err)
	}
}

func TestInnerFoldersAreDroppedAndTheArchiveKeptWhereAsked(t *testing.T) {
	archive := zipped(t, "a/x.txt", "1", "b/x.txt", "2")
	h := fileNow(t, bundles(`
  - take: everything
    unpack: both
    inner folders: drop
    folder: B/<file.ext>
`), raw("bundle", "may.zip", archive))
	h.expect(map[string]string{"B/zip/may.zip": archive, "B/txt/x.txt": "1", "B/txt/x (2).txt": "2"})
}

func TestWhatCannotBeOpenedIsHeldWithItsReason(t *testing.T) {
	bomb := func() string {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		w, _ := z.Create("zeros")
		w.Write(make([]byte, 80_000_000))
		z.Close()
		return out.String()
	}()
	secret := fixture(t, "secret-aes256.zip")
	nested := zipped(t, "x.txt", "x")
	for range 5 {
		nested = zipped(t, "n.zip", nested)
	}
	h := fileNow(t, bundles(`
  - take: [{kind: archive}]
    unpack: files
    folder: B
`), raw("traps", "bomb.zip", bomb, "secret.zip", secret, "no.zip", "hello", "nested.zip", nested))
	want := `2: held (it would become more than 200 times as large as it is, as a trap does)
3: held (the archive is encrypted)
4: held (it is not an archive that can be opened here, though its name says that it is one)
5: left out (unpacked; the files in it are filed instead)
5!1: left out (unpacked; the files in it are filed instead)
5!1!1: left out (unpacked; the files in it are filed instead)
5!1!1!1: left out (unpacked; the files in it are filed instead)
5!1!1!1!1: held (an archive within archives, more than 4 deep, is not opened)`
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	h.expect(map[string]string{})

	// Once the password is known, trying again opens it.
	c := &store.Correspondent{Name: "Tidewatch", Domains: []string{"tidewatch.example"}}
	if err := h.engine.Office.SaveCorrespondent(t.Context(), c, []string{"ebb", "slack-water"}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	tray, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range tray {
		if e.Item == "3" {
			if _, err := h.engine.Desk.Again(t.Context(), store.System, store.Matters{Items: []int64{e.ID}}); err != nil {
				t.Fatal(err)
			}
		}
	}
	h.expect(map[string]string{"B/plans/a.csv": "1;2\n", "B/plans/b.txt": "two\n"})
}

// fixture is an archive of core/unpack's tests.
func fixture(t testing.TB, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "core", "unpack", "testdata", name+".base64"))
	if err != nil {
		t.Fatal(err)
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(text)), ""))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestAnArchiveIsOpenedAgainAfterARestart(t *testing.T) {
	var files []string
	for i := range 20 {
		files = append(files, fmt.Sprintf("f%02d.txt", i), fmt.Sprint("content ", i))
	}
	box := &memory{validity: 1}
	box.add(raw("bundle", "may.zip", zipped(t, files...)))
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(bundles("\n  - {take: everything, unpack: files, folder: B}\n"))
	if err := os.Rename(h.files, h.files+"-away"); err != nil { // the cabinet is away: all stays planned
		t.Fatal(err)
	}
	h.fileOld(id)
	h.engine.Stop()
	if err := os.Rename(h.files+"-away", h.files); err != nil {
		t.Fatal(err)
	}
	h.start()
	want := map[string]string{}
	for i := 0; i < len(files); i += 2 {
		want["B/"+files[i]] = files[i+1]
	}
	h.expect(want)
	opened := 0
	for _, p := range box.read() {
		if strings.HasSuffix(p, "/2") {
			opened++
		}
	}
	if opened > 3 {
		t.Errorf("the archive was fetched %d times for 20 files", opened)
	}
}

func TestWinmailAndSignedMailAreOpenedUnasked(t *testing.T) {
	m := []byte("From: Oda <oda@tidewatch.example>\r\nSubject: signed\r\nMIME-Version: 1.0\r\nContent-Type: " +
		"application/pkcs7-mime; smime-type=signed-data; name=smime.p7m\r\nContent-Transfer-Encoding: " +
		"base64\r\nContent-Disposition: attachment; filename=smime.p7m\r\n\r\n" +
		signedMail(t) + "\r\n")
	tnef := raw("from an old program", "winmail.dat", string(winmail("Levels in May.csv")))
	h := fileNow(t, bundles("\n  - {take: [{kind: spreadsheet}], folder: Tables}\n")+"unless: [{words: {in: body, any: "+
		"draft}}]\n", m)
	h.expect(map[string]string{"Tables/st3.csv": "a;b"})
	want := "1: left out (opened; what is in it is looked at instead)\n1!2: filed Tables/st3.csv"
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	h = fileNow(t, bundles("\n  - {take: [{kind: spreadsheet}], folder: Tables}\n"), tnef)
	h.expect(map[string]string{"Tables/Levels in May.csv": "a;b"})
	h = fileNow(t, bundles("\n  - {take: [{kind: spreadsheet}], folder: Tables}\n"),
		[]byte("From: a@b.example\r\nContent-Type: application/pkcs7-mime; smime-type=enveloped-data; "+
			"name=smime.p7m\r\n\r\nx\r\n"))
	if got := h.said(); got != "1: held (it is encrypted (S/MIME), so Ink Tray cannot read it)" {
		t.Errorf("encrypted mail: %s", got)
	}
}

func signedMail(t testing.TB) string {
	t.Helper()
	signed, err := pkcs7.NewSignedData(
		[]byte("Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
			"text/plain\r\n\r\nFinal.\r\n--b\r\nContent-Type: text/csv; name=st3.csv\r\n\r\na;b\r\n--b--\r\n"))
	if err != nil {
		t.Fatal(err)
	}
	data, err := signed.Finish()
	if err != nil {
		t.Fatal(err)
	}
	return base64.StdEncoding.EncodeToString(data)
}

// winmail is a winmail.dat with one attachment (MS-OXTNEF section 2.1).
func winmail(name string) []byte {
	attribute := func(id uint32, value string) []byte {
		b := binary.LittleEndian.AppendUint32([]byte{2}, id)
		b = binary.LittleEndian.AppendUint32(b, uint32(len(value)))
		return append(append(b, value...), 0, 0)
	}
	return slices.Concat([]byte{0x78, 0x9f, 0x3e, 0x22, 1, 0}, attribute(0x69002, strings.Repeat("\x00", 14)),
		attribute(0x18010, name+"\x00"), attribute(0x6800f, "a;b"))
}

func TestAFileIsReplacedOnlyByALaterMessageAndOnlyIfNobodyChangedIt(t *testing.T) {
	box := &memory{validity: 1, received: map[int]time.Time{}}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.rule(bundles("\n  - {take: everything, folder: Reports, if name exists: replace}\n"))
	come := func(day int, content string) {
		box.received[len(box.messages)+1] = may.AddDate(0, 0, day)
		box.add(raw(fmt.Sprintf("day %d", day), "latest.xlsx", content))
		h.fileOld(id)
		h.said() // waits until all is decided
	}
	come(1, "first")
	h.expect(map[string]string{"Reports/latest.xlsx": "first"})
	come(3, "third")
	h.expect(map[string]string{"Reports/latest.xlsx": "third"})
	come(2, "second")
	h.expect(map[string]string{"Reports/latest.xlsx": "third", "Reports/latest (2).xlsx": "second"})
	if err := os.WriteFile(filepath.Join(h.files, "Reports/latest.xlsx"), []byte("changed by hand"), 0o644); err != nil {
		t.Fatal(err)
	}
	come(4, "fourth")
	h.expect(map[string]string{"Reports/latest.xlsx": "changed by hand", "Reports/latest (2).xlsx": "second",
		"Reports/latest (3).xlsx": "fourth"})
	want := `2: filed Reports/latest.xlsx
2: filed Reports/latest.xlsx (takes the place of number 2026-1, received on 2026-05-13, which is kept)
2: filed Reports/latest (2).xlsx (the name latest.xlsx belongs to a file of a message that was received later, so it was not replaced)
2: filed Reports/latest (3).xlsx (the name latest.xlsx belongs to a file that was changed after it was filed, so it was not replaced)`
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	f, err := h.store.Register.ByNumber(t.Context(), store.System, 2026, 1)
	if err != nil || f.ReplacedBy != "2026-2" {
		t.Fatalf("the register says of the first: replaced by %q (%v)", f.ReplacedBy, err)
	}
	c, err := h.engine.Cabinets.Cabinet(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	r, err := cabinet.Kept(t.Context(), c, f.KeptAs)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if kept, err := io.ReadAll(r); err != nil || string(kept) != "first" {
		t.Errorf("kept is %q (%v)", kept, err)
	}
}

func TestCopiesLieBesideTheAttachments(t *testing.T) {
	m := raw("Berth plan", "plan.pdf", "%PDF-1.7")
	h := fileNow(t, bundles("\n  - {take: [{kind: pdf}], folder: Berths/<received year>, name: <received date> "+
		"<file.stem>}\n")+"copies: [{as: eml}, {as: html}, {as: text}, {as: pdf, folder: Letters}]\n", m,
		raw("nothing to take", "x.zip", "x"))
	tree := h.tree()
	if got := slices.Sorted(maps.Keys(tree)); strings.Join(got, "|") != "Berths/2026/2026-05-12 "+
		"plan.pdf|Berths/2026/Berth plan.eml|Berths/2026/Berth plan.html|Berths/2026/Berth plan.txt|Letters/Berth plan.pdf" {
		t.Errorf("there are %q", got)
	}
	if tree["Berths/2026/Berth plan.eml"] != string(m) {
		t.Error("the EML copy is not the message")
	}
	if !strings.HasPrefix(tree["Letters/Berth plan.pdf"], "%PDF") ||
		!strings.Contains(tree["Berths/2026/Berth plan.txt"], "Subject: Berth plan") {
		t.Error("a copy is not what it should be")
	}

	odd := bytes.Replace(m, []byte("Subject: Berth plan"), []byte("Subject: =?utf-8?B?5riv?= plan"), 1)
	h = fileNow(t, bundles("\n  - {take: [{kind: pdf}], folder: Berths}\n")+"copies: [{as: pdf}]\n", odd)
	if got := slices.Sorted(maps.Keys(h.tree())); strings.Join(got, "|") != "Berths/plan.pdf|Berths/港 plan.eml|Berths/港 "+
		"plan.pdf" {
		t.Errorf("beside a PDF that lacks a letter there are %q", got)
	}
	if got := h.said(); !strings.Contains(got,
		"copy:pdf: filed Berths/港 plan.pdf (1 character could not be drawn here (such as U+6E2F); the EML copy beside it "+
			"has all)") {
		t.Errorf("it is said\n%s", got)
	}

	h = fileNow(t, "name: Letters\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: every message\ncopies: "+
		"[{as: text, folder: Letters, name: <received date> <sender.local>}]\n", m)
	if got := slices.Sorted(maps.Keys(h.tree())); strings.Join(got, "|") != "Letters/2026-05-12 oda.txt" {
		t.Errorf("of a rule with copies alone there are %q", got)
	}
}

func TestEachMessageHasAFolderOfItsOwn(t *testing.T) {
	h := fileNow(t, bundles("\n  - {take: everything, folder: Mail, own folder: true}\n"),
		raw("levels", "a.csv", "1", "b.csv", "2"), raw("levels", "a.csv", "3"))
	folders := map[string][]string{}
	for name, content := range h.tree() {
		folders[filepath.Dir(name)] = append(folders[filepath.Dir(name)], content)
	}
	if len(folders) != 2 {
		t.Errorf("folders %v", folders)
	}
	for f := range folders {
		if !strings.HasPrefix(f, "Mail/2026-05-12 levels ") {
			t.Errorf("the folder is called %q", f)
		}
	}
}

func TestNamesOfCorrespondentsTablesHeadersAndText(t *testing.T) {
	box := &memory{validity: 1}
	box.add(bytes.Replace(raw("levels ST-03", "a.csv", "1"), []byte("Subject:"), []byte("X-Station: North\r\nSubject:"),
		1))
	h := newHouse(t, box.dial)
	h.watched()
	err := h.engine.Office.SaveCorrespondent(t.Context(), &store.Correspondent{Name: "Tide/watch",
		Domains: []string{"tidewatch.example"}, Groups: []string{"Surveyors"}}, nil, 0, "test")
	if err == nil {
		err = h.engine.Office.SaveLookupTable(t.Context(), &store.LookupTable{Name: "stations",
			Rows: [][2]string{{"st-03", "Ferry steps"}}}, 0, "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	id := h.rule(bundles(`
  - take: everything
    folder: <correspondent>/<lookup stations of (subject find "ST-[0-9]+")>/<header "X-Station">
    name: <body find "see ([a-z]+)" or file.stem> <lookup stations of (file.stem) or "unlisted">
`) + "unless: [{recipient: {correspondent: Surveyors}}]\n")
	h.fileOld(id)
	h.expect(map[string]string{"Tide-watch/Ferry steps/North/the unlisted.csv": "1"})
	if err := h.engine.Office.RemoveCorrespondent(t.Context(), h.correspondent("Tide/watch"), "test"); err != nil {
		t.Errorf("no rule names the correspondent, but its group: %v", err)
	}
}

// correspondent finds somebody's id.
func (h *house) correspondent(name string) string {
	h.t.Helper()
	all, err := h.store.Book.All(h.t.Context())
	if err != nil {
		h.t.Fatal(err)
	}
	for _, c := range all {
		if c.Name == name {
			return c.ID
		}
	}
	h.t.Fatalf("there is no %s", name)
	return ""
}

func TestAProblemInTheBookIsToldBeforeARuleIsSaved(t *testing.T) {
	box := &memory{validity: 1}
	h := newHouse(t, box.dial)
	for document, says := range map[string]string{
		bundles("\n  - {take: everything, folder: '<lookup stations of (file.stem)>'}\n"): "there is no " +
			"table called “stations”",
		bundles("\n  - {take: everything, folder: F, cabinet: attic}\n"): "there is no " +
			"cabinet called “attic”",
		bundles("\n  - {take: everything, folder: F}\n") +
			"unless: [{sender: {correspondent: Nobody}}]\n": "there is no correspondent or group called “Nobody”",
	} {
		r, err := rule.ParseRule([]byte(document))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.engine.Office.CheckRule(t.Context(), store.System, r); err == nil || !strings.Contains(err.Error(),
			says) {
			t.Errorf("%v, want ...%s...", err, says)
		}
	}
}
