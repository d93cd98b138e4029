package engine

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"fmt"

	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/emersion/go-msgauth/dkim"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/desk"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// enclosed writes a message with a text, and attachments in base64.
func enclosed(from, subject, text string, attachments ...string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "From: %s\r\nTo: gauges@brackwater.example\r\nSubject: %s\r\nDate: Tue, 12 May 2026 06:02:00 "+
		"+0000\r\nMessage-ID: <%s@tidewatch.example>\r\nContent-Type: multipart/mixed; "+
		"boundary=b\r\n\r\n--b\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n%s\r\n", from, subject,
		strings.ReplaceAll(subject, " ", "."), text)
	for i := 0; i+1 < len(attachments); i += 2 {
		fmt.Fprintf(&b, "--b\r\nContent-Type: application/octet-stream; name=\"%s\"\r\nContent-Disposition: "+
			"attachment\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n", attachments[i],
			base64.StdEncoding.EncodeToString([]byte(attachments[i+1])))
	}
	b.WriteString("--b--\r\n")
	return []byte(b.String())
}

const oda = "Oda Fenwick <oda@tidewatch.example>"

func pdfOf(t *testing.T, password, text string) string {
	t.Helper()
	d := fpdf.New("P", "mm", "A4", "")
	if password != "" {
		d.SetProtection(fpdf.CnProtectPrint, password, "owner")
	}
	d.SetFont("Helvetica", "", 12)
	d.AddPage()
	if text != "" {
		d.MultiCell(0, 6, text, "", "", false)
	}
	var b bytes.Buffer
	if err := d.Output(&b); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// taught makes a topic and teaches it by import.
func (h *house) taught(name string, about, others []string) string {
	h.t.Helper()
	var list []topic.Example
	for i, texts := range [][]string{about, others} {
		for _, s := range texts {
			list = append(list, topic.Example{About: i == 0, Mail: topic.Mail{Subject: s, Text: s}})
		}
	}
	id, err := h.engine.Office.Topics.ImportTopic(h.t.Context(), store.System, name, list)
	if err != nil {
		h.t.Fatal(err)
	}
	return id
}

var (
	berths = []string{"Berth request for MV Sandling", "Please assign us a berth at the quay",
		"We need a mooring place for our ship", "Berth at the north quay from Monday", "Request for quay space",
		"Berth for two nights, 96 metres"}
	bills = []string{"Invoice for harbour dues", "Please pay the bill by Friday", "Your invoice of April",
		"Payment is due", "Reminder of an invoice", "Price list of ropes"}
)

const topicRule = "name: Berths\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: {topic: {is: berth " +
	"requests}}\nattachments: [{take: everything, folder: Berths}]\n"

func TestATopicDecidesAndWhatIsInDoubtIsAskedAndTeaches(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	if _, err := h.engine.Office.SaveRule(t.Context(), mustRule(t, topicRule), 0, "test"); err == nil ||
		!strings.Contains(err.Error(), "topic") {
		t.Errorf("a rule that asks for a topic that is not there: %v", err)
	}
	id := h.taught("Berth requests", berths, bills)
	h.rule(topicRule)
	box.add(enclosed(oda, "Request for a berth", "We ask for a mooring place at the quay for our ship.", "sure.pdf",
		"%PDF sure"))
	box.add(enclosed(oda, "Invoice 17", "Please pay the invoice for harbour dues.", "never.pdf", "%PDF never"))
	box.add(enclosed(oda, "Holz", "Guten Tag.", "one.pdf", "%PDF one", "two.csv", "2"))
	h.expect(map[string]string{"Berths/sure.pdf": "%PDF sure"})
	tray := h.trayOf(2)
	for _, e := range tray {
		if e.Cause != store.CauseTopic || e.Topic != "berth requests" ||
			!strings.Contains(e.Reason.String(), "it is in doubt whether it is about “berth requests”") ||
			!strings.Contains(e.Reason.Advice(), "the topic learns from your answer") {
			t.Errorf("in the tray: %+v", e)
		}
	}
	// What a topic that is asked for is called cannot change, and it cannot go.
	row, _ := h.store.Topics.ByID(t.Context(), id)
	row.Name = "Moorings"
	if err := h.engine.Office.Topics.Save(t.Context(), &row, 0, "test"); err == nil ||
		!strings.Contains(err.Error(), "the rule “Berths” asks for the topic") {
		t.Errorf("renaming: %v", err)
	}
	if err := h.engine.Office.Topics.Remove(t.Context(), id, "test"); err == nil ||
		!strings.Contains(err.Error(), "asks for the topic") {
		t.Errorf("removing: %v", err)
	}

	// One answer lets all items of the message go on, and is kept as an example.
	if _, err := h.engine.Desk.AnswerTopics(t.Context(), store.System, []int64{tray[0].ID}, true); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"Berths/sure.pdf": "%PDF sure", "Berths/one.pdf": "%PDF one", "Berths/two.csv": "2"})
	examples, err := h.store.Topics.Examples(t.Context(), store.System, id)
	if err != nil || len(examples) != 13 || examples[0].Subject != "Holz" || !examples[0].About ||
		examples[0].Origin != "tray" || !slices.Equal(examples[0].Names, []string{"one.pdf", "two.csv"}) {
		t.Errorf("the example: %+v, %v", examples[0], err)
	}
	if _, err := h.engine.Desk.AnswerTopics(t.Context(), store.System, []int64{tray[0].ID}, true); err == nil {
		t.Error("what does not wait any more was answered")
	}

	// The other way: it is left, and the person's word holds.
	box.add(enclosed(oda, "Chor", "Wir singen.", "song.pdf", "%PDF song"))
	tray = h.trayOf(1)
	if _, err := h.engine.Desk.AnswerTopics(t.Context(), store.System, []int64{tray[0].ID}, false); err != nil {
		t.Fatal(err)
	}
	h.until("it is left", func() bool {
		e, _ := h.store.Journal.ByID(t.Context(), store.System, tray[0].ID)
		return e.State == store.LeftOut && strings.Contains(e.Reason.String(),
			"a person said that it is not about “berth requests”")
	})
	judged, err := h.engine.Desk.JudgeMessage(t.Context(), store.System, tray[0].MessageID)
	if err != nil || len(judged) != 1 || judged[0].Said == nil || *judged[0].Said || len(judged[0].Why) == 0 {
		t.Errorf("judged: %+v, %v", judged, err)
	}
	// Taken back, the topic forgets it; after a restart it knows what it knew.
	h.restart()
	before := h.engine.Office.Topics.Learned("Berth requests")
	if n, err := h.engine.Office.Topics.Unmark(t.Context(), store.System, id, []int64{examples[0].ID}); n != 1 ||
		err != nil {
		t.Errorf("taken back: %d, %v", n, err)
	}
	if after := h.engine.Office.Topics.Learned("Berth requests"); before.Yes != 7 || after.Yes != 6 {
		t.Errorf("%d examples before, %d after", before.Yes, after.Yes)
	}
}

// What a topic learns from one answer is asked of the other messages that wait.
func TestAnAnswerAboutATopicAnswersTheOthersThatAreLikeIt(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.taught("Berth requests", berths, bills)
	h.rule(topicRule)
	for i := range 4 {
		box.add(enclosed(oda, "Liegeplatz Kaimauer Steiger",
			"Guten Tag, wir brauchen Liegeplatz und Steiger an der Kaimauer.", fmt.Sprintf("%d.pdf", i), fmt.Sprint("%PDF ", i)))
	}
	box.add(enclosed(oda, "Chor", "Wir singen.", "song.pdf", "%PDF song"))
	tray := h.trayOf(5)
	var like []int64
	for _, e := range tray {
		if e.Name != "song.pdf" {
			like = append(like, e.ID)
		}
	}
	if _, err := h.engine.Desk.AnswerTopics(t.Context(), store.System, like[:3], true); err != nil {
		t.Fatal(err)
	}
	h.expect(map[string]string{"Berths/0.pdf": "%PDF 0", "Berths/1.pdf": "%PDF 1", "Berths/2.pdf": "%PDF 2",
		"Berths/3.pdf": "%PDF 3"})
	if tray = h.trayOf(1); tray[0].Name != "song.pdf" {
		t.Errorf("still in doubt: %+v", tray[0])
	}
}

func mustRule(t *testing.T, document string) *rule.Rule {
	t.Helper()
	r, err := rule.ParseRule([]byte(document))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestATopicWithFewExamplesAsksForMore(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.taught("Berth requests", berths[:2], bills[:2])
	h.rule(topicRule)
	box.add(enclosed(oda, "Request for a berth", "A berth please.", "a.pdf", "%PDF a"))
	if e := h.trayOf(1)[0]; !strings.Contains(e.Reason.String(),
		"does not judge yet: it has 2 examples that are about it and 2 that are not, and needs 5 of each") {
		t.Errorf("in the tray: %+v", e)
	}
	box.add(enclosed(oda, "Invoice", "x"))
	h.until("both are known", func() bool {
		all, err := h.engine.Office.Topics.Teachings(t.Context(), store.System, id, 10)
		return err == nil && len(all) == 2
	})
	for _, c := range []struct {
		list []topic.Example
		says string
	}{{nil, "between one example and"}, {[]topic.Example{{About: true}}, "neither a subject nor a text"}} {
		if _, err := h.engine.Office.Topics.ImportTopic(t.Context(), store.System, "New one", c.list); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("an import of %+v: %v", c.list, err)
		}
	}
	if topics, _ := h.store.Topics.All(t.Context()); len(topics) != 1 {
		t.Errorf("an import that fails left %d topics", len(topics))
	}
	if _, err := h.engine.Desk.Mark(t.Context(), store.System, id, nil, true, "mail"); err == nil {
		t.Error("nothing was marked")
	}
	if _, err := h.engine.Desk.Mark(t.Context(), store.System, "nowhere", []int64{1}, true, "mail"); err == nil {
		t.Error("a topic that is not there was taught")
	}
}

func TestExamplesAreSeenByThoseWhoMaySeeTheMailbox(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	id := h.taught("Berth requests", berths, bills)
	box.add(enclosed(oda, "Request for a berth", "A berth please.", "a.pdf", "%PDF a"))
	var known []store.Message
	h.until("it is known", func() bool {
		known, _ = h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		return len(known) == 1
	})
	if _, err := h.engine.Desk.Mark(t.Context(), store.System, id, []int64{known[0].ID}, true, "mail"); err != nil {
		t.Fatal(err)
	}
	stranger := store.Viewer{ID: "x", Name: "x", Role: store.Clerk, Only: []string{"other"}, AllCabinets: true}
	if seen, err := h.store.Topics.Examples(t.Context(), stranger, id); err != nil || len(seen) != 0 {
		t.Errorf("a stranger sees %d examples, %v", len(seen), err)
	}
	if n, err := h.engine.Office.Topics.Unmark(t.Context(), stranger, id, []int64{1, 2, 3}); n != 0 || err != nil {
		t.Errorf("a stranger took %d back, %v", n, err)
	}
	if _, err := h.engine.Desk.Mark(t.Context(), stranger, id, []int64{known[0].ID}, true, "mail"); err == nil {
		t.Error("a stranger marked a message that he may not see")
	}
	if all, err := h.engine.Office.Topics.Teachings(t.Context(), stranger, id, 10); err != nil || len(all) != 0 {
		t.Errorf("a stranger is shown %d messages, %v", len(all), err)
	}
	// A person's traces go with the examples.
	if _, _, err := h.engine.Registry.Erase(t.Context(), store.System, "oda@tidewatch.example", false); err != nil {
		t.Fatal(err)
	}
	if seen, err := h.store.Topics.Examples(t.Context(), store.System, id); err != nil || len(seen) != 12 ||
		h.engine.Office.Topics.Learned("Berth requests").Yes != 6 {
		t.Errorf("after erasing there are %d examples, %v", len(seen), err)
	}
}

func TestElectronicInvoicesAreFiledByWhatTheySay(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(bundles(`  - take: [{electronic invoice: does not add up}]
    folder: To be looked at
    name: <invoice.number> <invoice.faults>
  - take: [{electronic invoice: adds up}]
    folder: Invoices/<invoice.issued year>/<invoice.seller>
    name: <invoice.number> <invoice.total> <invoice.currency>
rest: {folder: Other}
`))
	ubl := func(number, payable string) string {
		return `<?xml version="1.0"?><Invoice xmlns="urn:oasis:names:specification:ubl:schema:xsd:Invoice-2" ` +
			`xmlns:a="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2" ` +
			`xmlns:b="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2"><b:ID>` + number + `</b:ID>` +
			`<b:IssueDate>2026-05-12</b:IssueDate><b:DocumentCurrencyCode>EUR</b:DocumentCurrencyCode>` +
			`<a:AccountingSupplierParty><a:Party><a:PartyLegalEntity><b:RegistrationName>Marram Shipping</b:RegistrationName>` +
			`</a:PartyLegalEntity></a:Party></a:AccountingSupplierParty><a:LegalMonetaryTotal><b:LineExtensionAmount>5` +
			`</b:LineExtensionAmount><b:TaxExclusiveAmount>5.00</b:TaxExclusiveAmount><b:TaxInclusiveAmount>5.00` +
			`</b:TaxInclusiveAmount><b:PayableAmount>` + payable + `</b:PayableAmount></a:LegalMonetaryTotal><a:InvoiceLine>` +
			`<b:LineExtensionAmount>5.00</b:LineExtensionAmount></a:InvoiceLine></Invoice>`
	}
	box.add(enclosed(oda, "several", "x", "a.xml", ubl("HD-7", "5.00"), "b.xml", ubl("HD-8", "6.00"), "c.xml",
		"<plan/>", "d.pdf", pdfOf(t, "", "Invoice"), "e.pdf", pdfOf(t, "", ""), "f.xml",
		strings.Replace(ubl("HD-9", "5.00"), "<Invoice", `<!DOCTYPE x [<!ENTITY a "b">]><Invoice`, 1)))
	want := `2: filed Invoices/2026/Marram Shipping/HD-7 5.00 EUR.xml
3: filed To be looked at/HD-8 BR-CO-16.xml
4: filed Other/c.xml
5: filed Other/d.pdf
6: filed Other/e.pdf
7: held (Ink Tray cannot say whether the rule takes it: the electronic invoice cannot be read: ` +
		`it declares a document type, which electronic invoices do not)`
	h.until("all is decided", func() bool { return len(strings.Split(h.said(), "\n")) == 6 })
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestTextInsideAttachmentsDecidesAndNames(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(bundles(`  - take: [{kind: [pdf, document], text: {contains: [berth request, Liegeplatz]}}]
    folder: Berths
    name: <file.text find "BK-[0-9]{4,6}" or "no number"> <file.stem>
  - take: [{kind: spreadsheet}]
    folder: Tables
rest: {folder: Other}
`))
	box.add(enclosed(oda, "several", "x", "a.pdf", pdfOf(t, "", "Berth request no. BK-20417"), "b.pdf",
		pdfOf(t, "", "Invoice"), "c.pdf", pdfOf(t, "", ""), "d.pdf", pdfOf(t, "secret", "Berth request"),
		"e.docx", zipped(t, "word/document.xml", "<d><t>Liegeplatz gesucht</t></d>"), "f.csv", "1;2", "g.jpg",
		"\xff\xd8\xff\xe0picture"))
	want := `2: filed Berths/BK-20417 a.pdf
3: filed Other/b.pdf
4: held (whether the rule takes it depends on the text inside, which cannot be read: there is no text in it; perhaps it was scanned)
5: held (whether the rule takes it depends on the text inside, which cannot be read: it is locked by a password)
6: filed Berths/no number e.docx
7: filed Tables/f.csv
8: filed Other/g.jpg`
	h.until("all is decided", func() bool { return len(strings.Split(h.said(), "\n")) == 7 })
	if got := h.said(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	for _, name := range []string{"1/7", "1/8"} {
		if n := len(slices.DeleteFunc(box.read(), func(s string) bool { return s != name })); n > 1 {
			t.Errorf("%s was read %d times", name, n)
		}
	}
	if tray := h.trayOf(2); tray[0].Cause != store.CauseUnreadable || tray[1].Cause != store.CauseEncrypted &&
		tray[0].Cause != store.CauseEncrypted {
		t.Logf("causes %s and %s", tray[0].Cause, tray[1].Cause)
	}
}

func TestWhatMayHoldAProgramIsHeldOrPassed(t *testing.T) {
	plain, err := os.ReadFile("../core/unpack/testdata/secret-traditional.zip.base64")
	if err != nil {
		t.Fatal(err)
	}
	locked, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(plain)), ""))
	if err != nil {
		t.Fatal(err)
	}
	macros := zipped(t, "word/document.xml", "<d/>", "word/vbaProject.bin", "x")
	old := "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("\x00", 700) +
		"_\x00V\x00B\x00A\x00_\x00P\x00R\x00O\x00J\x00E\x00C\x00T\x00"
	message := enclosed(oda, "take care", "x", "a.docm", "PK\x03\x04macros", "b.docx", macros, "c.doc", old, "d.zip",
		string(locked), "e.pdf", "MZ\x90\x00"+strings.Repeat("\x00", 200), "f.url", "[x]", "g.docx",
		zipped(t, "word/document.xml", "<d/>"))
	held := fileNow(t, bundles("  - {take: everything, folder: All}\nleave out: []\n"), message)
	want := `2: held (an office file with macros, which are programs)
3: held (an office file with macros, which are programs, though its name does not say so. Nothing was written)
4: held (an office file with macros, which are programs, though its name does not say so. Nothing was written)
5: held (an archive that needs a password, so Ink Tray cannot look into it. Nothing was written)
6: held (named .pdf, but it is a Windows program. Nothing was written)
7: held (a name that makes a computer act as soon as a person looks into the folder)
8: filed All/g.docx`
	if got := held.said(); got != want {
		t.Errorf("held:\n%s\nwant\n%s", got, want)
	}
	if staged, err := os.ReadDir(filepath.Join(held.files, ".inktray", "staging")); err == nil && len(staged) > 0 {
		t.Errorf("%d contents were left behind", len(staged))
	}
	// A person who has looked lets them through.
	var ids []int64
	for _, e := range held.trayOf(6) {
		ids = append(ids, e.ID)
	}
	if n, err := held.engine.Desk.Release(t.Context(), store.System, store.Matters{Items: ids}); n != 6 || err != nil {
		t.Fatalf("released %d, %v", n, err)
	}
	held.until("all are filed", func() bool { return len(held.tree()) == 7 })

	passed := fileNow(t, bundles("  - {take: everything, folder: All}\nleave out: []\nhold: []\n"), message)
	if got := passed.said(); strings.Contains(got, "held") || len(passed.tree()) != 7 {
		t.Errorf("passed:\n%s", got)
	}
}

func TestWhatMayHoldAProgramIsNotKeptForACabinetThatIsAway(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.engine.Stop()
	h.scanner = &scan.Scanner{Address: testbed.StartClamd(t, 0)}
	h.beat = 20 * time.Millisecond
	h.start()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n"))
	away := h.files + ".away"
	if err := os.Rename(h.files, away); err != nil {
		t.Fatal(err)
	}
	h.until("the cabinet is known to be away",
		func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	box.add(enclosed(oda, "while away", "x", "good.csv", "1;2", "bad.csv", testbed.Virus, "macros.docx",
		zipped(t, "word/document.xml", "<d/>", "word/vbaProject.bin", "x")))
	h.until("what may be kept is kept", func() bool {
		kept, err := h.store.Journal.Spooled(t.Context())
		return err == nil && len(kept) == 1 && kept[0].Name == "good.csv"
	})
	if err := os.Rename(away, h.files); err != nil {
		t.Fatal(err)
	}
	causes := []store.Cause{}
	for _, e := range h.trayOf(2) {
		causes = append(causes, e.Cause)
	}
	if slices.Sort(causes); !slices.Equal(causes, []store.Cause{store.CauseCaution, store.CauseVirus}) {
		t.Errorf("the tray has %v", causes)
	}
	h.expect(map[string]string{"All/good.csv": "1;2"})
}

func TestTheVirusScannerIsAskedAboutEverythingThatIsFiled(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.engine.Stop()
	h.scanner = &scan.Scanner{Address: "unix:/nowhere/clamd"}
	h.start()
	h.watched()
	h.rule(bundles("  - {take: everything, folder: All}\n"))
	box.add(enclosed(oda, "one", "x", "good.csv", "1;2", "bad.csv", "1;"+testbed.Virus))
	h.until("the tray says that the scanner is away", func() bool {
		notices, _ := h.store.Tray.Notices(t.Context(), store.System)
		return len(notices) == 1 && notices[0].Kind == "scanner" && strings.Contains(notices[0].Text, "cannot be reached")
	})
	if len(h.tree()) != 0 {
		t.Errorf("filed unscanned: %v", h.tree())
	}
	h.engine.Stop()
	h.scanner = &scan.Scanner{Address: testbed.StartClamd(t, 0)}
	h.start()
	e := h.trayOf(1)[0]
	h.expect(map[string]string{"All/good.csv": "1;2"})
	if e.Cause != store.CauseVirus || e.Name != "bad.csv" ||
		!strings.Contains(e.Reason.String(), "the virus scanner found "+testbed.VirusName) {
		t.Errorf("in the tray: %+v", e)
	}
	h.until("the notice is gone",
		func() bool { notices, _ := h.store.Tray.Notices(t.Context(), store.System); return len(notices) == 0 })
}

// Who releases a file for one reason was told nothing of a virus in it, and who files by
// hand neither: the scanner is asked all the same. Its own finding is released by who saw it.
func TestTheVirusScannerIsAskedOfWhatAPersonFiles(t *testing.T) {
	box := &memory{}
	h := newHouse(t, box.dial)
	h.engine.Stop()
	h.scanner = &scan.Scanner{Address: testbed.StartClamd(t, 100_000)}
	h.start()
	h.watched()
	h.rule(bundles("  - {take: {name: plan.pdf}, folder: All}\n"))
	large := strings.Repeat("a;b;c\n", 50_000)
	box.add(enclosed(oda, "one", "x", "plan.pdf", "MZ\x90\x00"+testbed.Virus, "bad.csv", "1;"+testbed.Virus, "good.csv",
		"1;2", "large.csv", large))
	e := h.trayOf(1)[0]
	if e.Cause != store.CauseDisguised {
		t.Fatalf("in the tray: %+v", e)
	}
	release := func(e *store.Entry) {
		t.Helper()
		if n, err := h.engine.Desk.Release(t.Context(), store.System, store.Matters{Items: []int64{e.ID}}); n != 1 ||
			err != nil {
			t.Fatal(n, err)
		}
	}
	causes := func(want ...store.Cause) map[store.Cause]*store.Entry {
		t.Helper()
		found := map[store.Cause]*store.Entry{}
		h.until(fmt.Sprint("these wait: ", want), func() bool {
			tray, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
			clear(found)
			for i := range tray {
				found[tray[i].Cause] = &tray[i]
			}
			return len(tray) == len(want) && !slices.ContainsFunc(want, func(c store.Cause) bool { return found[c] == nil })
		})
		return found
	}
	release(&e)
	virus := causes(store.CauseVirus)[store.CauseVirus]
	if again, err := h.engine.Desk.Again(t.Context(), store.System,
		store.Matters{Items: []int64{virus.ID}}); again != 1 || err != nil {
		t.Fatal(again, err)
	}
	virus = causes(store.CauseDisguised)[store.CauseDisguised] // from the beginning
	release(virus)
	release(causes(store.CauseVirus)[store.CauseVirus])
	h.expect(map[string]string{"All/plan.pdf": "MZ\x90\x00" + testbed.Virus})

	known, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
	if err != nil || len(known) != 1 {
		t.Fatal(known, err)
	}
	facts, err := known[0].Facts()
	if err != nil {
		t.Fatal(err)
	}
	var items []string
	for _, i := range facts.Message("INBOX").Items() {
		if i.Name != "plan.pdf" {
			items = append(items, i.ID)
		}
	}
	if _, err := h.engine.Desk.FileByHand(t.Context(), store.System, []desk.Handed{{Message: known[0].ID, Items: items}},
		"harbour files", "By hand"); err != nil {
		t.Fatal(err)
	}
	waiting := causes(store.CauseVirus, store.CauseUnscanned)
	h.expect(map[string]string{"All/plan.pdf": "MZ\x90\x00" + testbed.Virus, "By hand/good.csv": "1;2"})
	release(waiting[store.CauseUnscanned])
	release(waiting[store.CauseVirus])
	h.expect(map[string]string{"All/plan.pdf": "MZ\x90\x00" + testbed.Virus, "By hand/good.csv": "1;2",
		"By hand/bad.csv": "1;" + testbed.Virus, "By hand/large.csv": large})
}

func TestOnlyVerifiedSendersFile(t *testing.T) {
	public, key, _ := ed25519.GenerateKey(rand.Reader)
	_, stranger, _ := ed25519.GenerateKey(rand.Reader)
	resolver, _ := testbed.StartDNS(t,
		testbed.Names{
			TXT: map[string][]string{
				"s._domainkey.tidewatch.example.": {"v=DKIM1; k=ed25519; p=" + base64.StdEncoding.EncodeToString(public)}},
			Failing: map[string]bool{"s._domainkey.slow.example.": true}})
	sign := func(raw []byte, domain string, key ed25519.PrivateKey) []byte {
		var out bytes.Buffer
		if err := dkim.Sign(&out, bytes.NewReader(raw),
			&dkim.SignOptions{Domain: domain, Selector: "s", Signer: key}); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	box := &memory{}
	h := newHouse(t, box.dial)
	h.engine.Stop()
	h.resolver = resolver
	h.start()
	h.watched()
	if err := h.engine.Office.SetTrust(t.Context(), office.Trust{Servers: []string{"mx.brackwater.example"},
		Correspondents: true}, 0,
		"test"); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Office.SetTrust(t.Context(), office.Trust{Servers: []string{"no server"}}, 0, "test"); err == nil {
		t.Error("a name that is none was taken")
	}
	if err := h.engine.Office.SaveCorrespondent(t.Context(), &store.Correspondent{Name: "Tidewatch",
		Domains: []string{"tidewatch.example"}}, nil, 0, "test"); err != nil {
		t.Fatal(err)
	}
	h.rule("name: Signed\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: {sender: {domain: " +
		"[tidewatch.example, slow.example], verified: true}}\nattachments: [{take: everything, folder: Signed}]\n")
	h.rule("name: Book\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: {sender: {correspondent: " +
		"Tidewatch}}\nattachments: [{take: everything, folder: Book}]\n")
	letter := func(subject, name string) []byte { return enclosed(oda, subject, "x", name, name) }
	const received = "Received: from mail.tidewatch.example (mail.tidewatch.example [198.51.100.7]) by " +
		"mx.brackwater.example with ESMTPS; x\r\n"
	const report = "Authentication-Results: mx.brackwater.example; dmarc=pass header.from=tidewatch.example\r\n"
	box.add(sign(letter("signed", "a.csv"), "tidewatch.example", key))
	box.add(append([]byte(report+received), letter("reported", "b.csv")...))
	box.add(letter("not signed", "c.csv"))
	box.add(sign(letter("signed by a stranger", "d.csv"), "tidewatch.example", stranger))
	box.add(append([]byte(received+report), letter("his own report", "e.csv")...))
	box.add(bytes.Replace(sign(letter("exchanged", "f.csv"), "tidewatch.example", key),
		[]byte(base64.StdEncoding.EncodeToString([]byte("f.csv"))),
		[]byte(base64.StdEncoding.EncodeToString([]byte("g.csv"))), 1))
	slow := bytes.Replace(letter("slow", "h.csv"), []byte("tidewatch.example>"), []byte("slow.example>"), 1)
	box.add(sign(slow, "slow.example", key))
	h.expect(map[string]string{"Signed/a.csv": "a.csv", "Signed/b.csv": "b.csv", "Book/a.csv": "a.csv",
		"Book/b.csv": "b.csv"})
	e := h.trayOf(1)[0]
	if e.Cause != store.CauseDoubtful || e.Name != "h.csv" || !strings.Contains(e.Reason.String(),
		"the name service does not answer") {
		t.Errorf("in the tray: %+v", e)
	}
	known, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range known {
		p, err := h.engine.Reader.ProveMessage(t.Context(), store.System, m.ID)
		proven := m.Subject == "signed" || m.Subject == "reported"
		if err != nil || p.Proven != proven || p.Unknown != (m.Subject == "slow") {
			t.Errorf("%s: %+v, %v", m.Subject, p, err)
		}
		_, all, err := h.engine.Rehearser.Explain(t.Context(), store.System, m.ID, true)
		if err != nil || m.Subject == "not signed" && !strings.Contains(all[1].Match.Text, "would belong to “Tidewatch”, "+
			"but the sender is not verified: it is not signed (DKIM)") {
			t.Errorf("%s: %+v, %v", m.Subject, all[1].Match, err)
		}
	}
	// Replies to senders that nobody proves are not sent.
	if err := h.engine.Office.SetTrust(t.Context(), office.Trust{Replies: true}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	document := mustRule(t, "name: Replies\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: {subject: "+
		"{contains: signed}}\nattachments: [{take: everything, folder: R}]\nafterwards: {reply: {text: Thank you}}\n")
	rehearsed, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
		rehearsal.RehearsalOf{Rule: document, Last: 10, Thorough: true})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range rehearsed.Messages {
		for _, s := range m.Steps {
			if s.Do != (m.Message.Subject == "signed") || !s.Do && !strings.Contains(s.Reason.String(),
				"no reply: the sender is not verified") {
				t.Errorf("%s: %+v", m.Message.Subject, s)
			}
		}
	}
}
