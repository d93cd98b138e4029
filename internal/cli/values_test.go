package cli

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/demo/paper"
	"inktray.example/inktray/internal/testbed"
)

const duesRule = `format: 1
rules:
  - name: Quay dues
    cabinet: harbour files
    look: {mailboxes: berths}
    match: {sender: {domain: quill.example}}
    attachments: [{take: everything, folder: 'Dues/<value.limit year>/<value.order>', name: '<value.order> <value.price>'}]
    values:
      - {name: order, from: ['<subject find "BK-[0-9]+">', '<file.text find "BK-[0-9]+">']}
      - {name: price, type: amount, from: '<file.text find "Total: ([0-9.,]+ EUR)">', decimal: comma, missing: ask}
      - {name: limit, type: date, from: '<file.text find "Due: ([0-9.]+)">'}
      - {name: paid, type: yes or no, from: '<file.text find "Paid: ([a-z]+)">'}
    afterwards: {draft: {subject: 'Dues of <value.order>', text: 'We have noted <value.price or "no price">.'}}
`

func dues(n int, text string) []byte {
	return fmt.Appendf(nil, "From: Vera Quill <vera@quill.example>\r\nTo: berths@brackwater.example\r\nSubject: Dues "+
		"%d\r\nX-Mailer: quill 3\r\nMessage-ID: <dues-%d@quill.example>\r\nContent-Type: text/plain; name=dues-%d.txt\r\n"+
		"Content-Disposition: attachment\r\n\r\n%s\r\n", n, n, n, strings.ReplaceAll(text, "\n", "\r\n"))
}

// duesOffice is an office with a rule that reads values, and papers of which one lacks its price.
func duesOffice(t *testing.T) *office {
	t.Helper()
	o := openOffice(t, theLast)
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(rules, []byte(duesRule), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "the rule", must(t, "rules", "save", rules), "“Quay dues” is new, and off")
	says(t, "the rule once more", must(t, "rules", "save", rules), "“Quay dues” is as the file says already (revision 1)")
	if out := must(t, "--quiet", "rules", "list"); out != "" {
		t.Errorf("--quiet prints %q", out)
	}
	says(t, "its sentence", must(t, "rules", "show", "Quay dues"), "order, price*, limit and paid.",
		"the file waits in the tray")
	must(t, "rules", "on", "Quay dues", "--begin", "now")
	for i, text := range []string{"Order BK-2001\nTotal: 1.180,50 EUR\nDue: 30.11.2026\nPaid: no\n",
		"Order BK-2002\nTotal: 99,00 EUR\nDue: 1.12.2026\nPaid: yes\n", "Order BK-2003\nTotal: 12.34.5 EUR\nDue: 2.12.2026\n",
		"Order BK-2004\nDue: 31.2.2027\n"} {
		if err := o.mail.Deliver("berths", dues(i+1, text), time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	return o
}

// number is the register number of the only filing that a search finds.
func number(t *testing.T, words ...string) string {
	t.Helper()
	page := value[client.RegisterPage](t, append([]string{"register", "list"}, words...)...)
	if len(page.Filings) != 1 {
		t.Fatalf("%v finds %d filings: %+v", words, len(page.Filings), page.Filings)
	}
	return page.Filings[0].Entry
}

func TestValuesAreReadKeptFoundAndCorrected(t *testing.T) {
	o := duesOffice(t)
	var held []client.Matter
	until(t, "two are filed and two wait", func() bool {
		held = nil
		for _, g := range value[client.Tray](t, "tray", "list").Groups {
			if g.Cause == "value" {
				held = append(held, g.Matters...)
			}
		}
		return len(held) == 2 && len(value[client.RegisterPage](t, "register", "list", "order:*").Filings) == 2
	})
	says(t, "the tray", must(t, "tray", "list"), "A value is not found", "the file does not have the value “price”",
		"“12.34.5” is not a number", "its groups of digits do not have three digits each")
	says(t, "the register", must(t, "register", "list", "order:BK-2001", "--columns", "number,file,order,price,limit,"+
		"paid"), "ORDER", "BK-2001 1180.50 EUR.txt", "1180.50 EUR", "2026-11-30", "no")
	for search, want := range map[string]string{"price:>=1000": "BK-2001", "price:<100": "BK-2002",
		"limit:2026-12": "BK-2002", "limit:<2026-12-01": "BK-2001", "paid:yes": "BK-2002", "order:*2": "BK-2002"} {
		says(t, search, must(t, "register", "list", search, "--columns", "order"), want)
		number(t, search)
	}
	if page := value[client.RegisterPage](t, "register", "list", "--sort", "price", "--up"); len(page.Filings) < 2 ||
		page.Filings[0].File != "BK-2002 99.00 EUR.txt" || page.Filings[1].File != "BK-2001 1180.50 EUR.txt" {
		t.Errorf("by the price: %+v", page.Filings[:2])
	}
	says(t, "the sums", must(t, "register", "activity", "--by", "rule"), "price: 1279.50 EUR in 2 filings.")
	says(t, "an unknown order", fails(t, "register", "list", "--sort", "weight"), "there is no order “weight”")
	says(t, "an unknown column", fails(t, "register", "list", "--columns", "nothing-such"), "there is no column", "price")
	says(t, "the columns", must(t, "register", "columns"), "price", "a value that rules read")
	says(t, "an export", must(t, "register", "export", "order:*", "--columns", "order,price,limit", "--file", "-"),
		"Order,Price,Limit", "BK-2001,1180.50 EUR,2026-11-30")
	says(t, "why", must(t, "register", "show", number(t, "order:BK-2002")), "price", "99.00 EUR", "Dues/2026/BK-2002")

	says(t, "a rehearsal", must(t, "rules", "rehearse", "Quay dues", "--thorough"), "order: BK-2004",
		"price: not found", "limit: 2026-12-02")

	// A condition on a value says what it compared.
	over := filepath.Join(t.TempDir(), "over.yaml")
	if err := os.WriteFile(over, []byte(strings.NewReplacer("name: Quay dues", "name: Large dues", "take: everything",
		"take: {value: {name: price, at least: 1000}}", "folder: 'Dues/", "folder: 'Large/").Replace(duesRule)),
		0o600); err != nil {
		t.Fatal(err)
	}
	must(t, "rules", "save", over)
	says(t, "a rehearsal with a condition", must(t, "rules", "rehearse", "Large dues", "--thorough"),
		"file attachments whose price is at", "Large/2026/BK-2001", "price is “99.00 EUR”, not at least 1000",
		"no price is found: “12.34.5” is not a number")
	if err := os.WriteFile(over, []byte(strings.Replace(duesRule, "take: everything",
		"take: {value: {name: order, at least: 1}}", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "a wrong condition", fails(t, "rules", "save", over), "“order” is not a number or amount")

	// What waits is released without the value, which is entered in the register.
	for _, m := range held {
		must(t, "tray", "release", m.ID)
	}
	until(t, "they are filed", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "order:*").Filings) == 4
	})
	late := number(t, "order:BK-2004")
	says(t, "nothing found", must(t, "register", "show", late), "not found", "that month has no day 31",
		"Dues/undated/BK-2004")
	says(t, "no amount", fails(t, "register", "correct", late, "price", "much"), "“much” is no amount")
	says(t, "no value", fails(t, "register", "correct", late, "weight", "7"), "nothing called “weight” was read")
	says(t, "entered", must(t, "register", "correct", late, "price", "1.500,00 EUR"), "1500.00 EUR")
	says(t, "corrected", must(t, "register", "correct", late, "price", "1600", "EUR"), "1600 EUR")
	says(t, "by its new value", must(t, "register", "list", "price:1600"), late)
	says(t, "taken away", must(t, "register", "correct", late, "order"), "not found")
	says(t, "its story", must(t, "register", "show", late), "A value was corrected: price is “1500.00 EUR”.",
		"price, from “1500.00 EUR” to “1600 EUR”", "order, which was “BK-2004”, was taken away", demoPerson)
	says(t, "the trail", must(t, "audit", "list"), "correct value", late)

	// The rule reads one value more, and another one otherwise: what is filed is read again. What a person corrected
	// stays.
	with := filepath.Join(t.TempDir(), "with.yaml")
	document := strings.NewReplacer("    values:\n", "    values:\n"+
		"      - {name: sender-mail, from: <sender.address>}\n"+
		"      - {name: mailer, from: '<header \"X-Mailer\">'}\n",
		`"Paid: ([a-z]+)"`, `"(?i)due: ([a-z]+)"`).Replace(duesRule)
	if err := os.WriteFile(with, []byte(document), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, "rules", "save", with)
	gone := value[client.RegisterPage](t, "register", "list", "order:BK-2002").Filings[0]
	there := filepath.Join(o.folder, "files", gone.Folder, gone.File)
	if err := os.WriteFile(there, []byte("changed"), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "nothing named", fails(t, "register", "read"), "say which files")
	says(t, "another state", fails(t, "register", "read", "state:undone"), "state")
	says(t, "nothing found", fails(t, "register", "read", "rule:quay", "file:nothing"), "nothing to read")
	says(t, "read again", must(t, "register", "read", "rule:quay"), "4 files read; values of 4 changed",
		"1 could not be read, and keep what they had")
	says(t, "nothing is new", must(t, "register", "read", "rule:quay"), "4 files read; values of 0 changed")
	says(t, "of others", must(t, "register", "read", "kind:pdf"), "the rule reads no values")
	if n := len(value[client.RegisterPage](t, "register", "list", "sender-mail:vera@quill.example").Filings); n != 4 {
		t.Errorf("the new value is found %d times", n)
	}
	if n := len(value[client.RegisterPage](t, "register", "list", "mailer:quill").Filings); n != 4 {
		t.Errorf("what stands in the header of the message is found %d times", n)
	}
	says(t, "corrected", must(t, "register", "show", late), "1600 EUR", "Its values were read again.")
	if n := len(value[client.RegisterPage](t, "register", "list", "paid:yes").Filings); n != 1 {
		t.Errorf("%d are paid: that of the file which was changed stays, the others are not found any more", n)
	}

	// Who is forgotten leaves no value behind, nor what one was before.
	must(t, "erase", senderOf(t, late), "--yes")
	for what, shown := range map[string]string{"the story": must(t, "register", "show", late),
		"the trail": must(t, "audit", "list")} {
		for _, trace := range []string{"1500.00", "1600 EUR"} {
			if strings.Contains(shown, trace) {
				t.Errorf("%s still has %s:\n%s", what, trace, shown)
			}
		}
	}
	says(t, "that one was corrected", must(t, "register", "show", late), "A value was corrected.")
}

func senderOf(t *testing.T, filing string) string {
	t.Helper()
	return value[client.Story](t, "register", "show", filing).Filing.SenderAddress
}

func TestTheConsoleShowsAndCorrectsValues(t *testing.T) {
	source := axe(t)
	o := duesOffice(t)
	until(t, "two are filed", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "order:*").Filings) == 2
	})
	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Press("Rules")
	b.Press("Quay dues")
	b.Sees("Read from each file")
	b.Sees("if it is not found, the file waits in the tray")
	b.Press("look into texts and archives")
	b.Sees("Found in 4 of 4 files of the rehearsal: BK-2004 · BK-2003 · BK-2002 · BK-2001.")
	b.Sees("Found in 2 of 4 files of the rehearsal: 99.00 EUR · 1180.50 EUR; not everywhere: “12.34.5” is not a number")
	barriers("a rule with values")
	b.Scheme("light")
	picture(t, b, "console-rule-values")
	// A value is changed, another is added, and one is a condition of what is taken.
	b.Press("The value paid")
	b.Type("Name of the value", "settled")
	b.Sees("settled, yes or no")
	b.Leave()
	b.Press("+ another value")
	b.Press("The value total")
	b.Type("Where it stands", `<file.text find "Paid">`+"\n<subjekt>")
	b.Sees("there is no field")
	barriers("a value that is wrong")
	b.Scheme("light")
	b.Press("Remove the value")
	b.Press("every attachment")
	b.Press("Only some kinds instead")
	b.Press("PDFs")
	choose(b, "A value that is read of it", "price")
	b.Type("With", "much")
	b.Sees("“much” is no amount")
	b.Type("With", "1000")
	b.Sees("whose price is at least 1000")
	barriers("a condition on a value")
	b.Scheme("light")
	picture(t, b, "console-value-condition")
	b.Leave()
	b.Press("Save")
	b.Sees("files filed so far.")
	says(t, "the rule", must(t, "rules", "show", "Quay dues"), "PDFs whose price is at least", "name: settled")
	more(b, "Read filed files again")
	b.Sees("values read")
	b.Sees("2 files of 2 read")
	b.Sees("values of 2 changed")
	barriers("values read again")
	b.Scheme("light")
	b.Press("Tray")
	b.Sees("The file does not have the value “price”")
	b.Open(o.service.address() + "/register/" + number(t, "order:BK-2001"))
	b.Sees("Values in this file")
	b.Sees("1180.50 EUR")
	barriers("a filing with values")
	b.Scheme("light")
	picture(t, b, "console-filing-values")
	b.Press("Correct: price")
	b.Type("The value price", "dear")
	b.Press("Keep")
	b.Sees("“dear” is no amount")
	b.Type("The value price", "1.190,50 EUR")
	b.Press("Keep")
	b.Sees("A value was corrected: price, from “1180.50 EUR” to “1190.50 EUR”.")
	must(t, "register", "columns", "number", "file", "order", "price", "limit")
	b.Open(o.service.address() + "/register?text=price%3A%3E1000")
	b.Sees("1 filing")
	b.Sees("1190.50 EUR")
	b.Press("Activity")
	b.Sees("1,190.50 EUR")
	barriers("sums of values")
	b.Scheme("light")
	picture(t, b, "console-activity-values")
	b.Press("Filings")
	b.Press("Price")
	b.Until("it is in the order of the price", `document.querySelector("th[aria-sort]")?.innerText.includes("Price")`)
	barriers("the register with values")
	b.Scheme("light")
	picture(t, b, "console-register-values")
}

const wasteRule = `format: 1
rules:
  - name: Papers on waste
    cabinet: harbour files
    look: {mailboxes: berths}
    match: {subject: {contains: waste}}
    attachments: [{take: everything, folder: Papers, name: '<value.paper or file.stem>'}]
    values:
      - {name: paper, from: '<file.text find "WD-[0-9]+-[0-9]+">'}
      - {name: fee, type: amount, from: '<file.text find "Fee: ([0-9.,]+ EUR)">', decimal: point}
    full text: true
`

// What was read of a scan and of a PDF is shown where it stands, on the command line and in the console.
func TestValuesAreShownWhereTheyStand(t *testing.T) {
	if _, err := child.FindTesseract(t.Context()); err != nil {
		testbed.LeaveOut(t, "tesseract-ocr: "+err.Error())
	}
	source := axe(t)
	o := openOffice(t, theLast)
	says(t, "how scans are read", must(t, "scans", "show"), "by Tesseract", "eng", "10 at most")
	says(t, "a language that is not there", fails(t, "scans", "set", "--language", "xyz"), "has no language “xyz”")
	says(t, "it is set", must(t, "scans", "set", "--language", "eng", "--pages", "3"), "3 at most")
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(rules, []byte(wasteRule), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, "rules", "save", rules)
	must(t, "rules", "on", "Papers on waste", "--begin", "now")
	page, err := paper.Scan([]string{"Declaration of waste", "", "Number: WD-2026-0417", "Ship: MV Corrin", "",
		"Fee: 1,180.50 EUR"}, paper.Look{Tilt: 3, Code: "berth 7"})
	if err != nil {
		t.Fatal(err)
	}
	scanned, err := paper.PDF(page)
	if err != nil {
		t.Fatal(err)
	}
	printed := paper.Hybrid([]string{"Papers", "WD-2026-0418", "Fee: 99.00 EUR", "WD-2026-0418"}, "a.txt", "x")
	for i, data := range [][]byte{scanned, printed} {
		message := fmt.Appendf(nil, "From: Vera Quill <vera@quill.example>\r\nTo: berths@brackwater.example\r\nSubject: "+
			"Waste %d\r\nMessage-ID: <waste-%d@quill.example>\r\nContent-Type: application/pdf; name=a.pdf\r\n"+
			"Content-Disposition: attachment\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n", i, i,
			base64.StdEncoding.EncodeToString(data))
		if err := o.mail.Deliver("berths", message, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	for _, n := range []int{800, 3} {
		if err := o.mail.Deliver("safety", demo.Invoice(n, time.Now()).Raw, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	until(t, "both are filed", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "paper:*").Filings) == 2 &&
			len(value[client.RegisterPage](t, "register", "list", "file:900").Filings) == 1 &&
			len(value[client.RegisterPage](t, "register", "list", "file:BR-CO-15").Filings) > 0
	})
	scan, print := number(t, "paper:WD-2026-0417"), number(t, "paper:WD-2026-0418")
	says(t, "the value of a scan", must(t, "register", "show", scan), "1180.50 EUR (read from a scan, ", " % sure)")
	places := value[[]client.ValuePlace](t, "register", "places", print)
	if len(places) != 3 || places[0].Value != "paper" || places[1].Top < places[0].Top || places[2].Value != "fee" {
		t.Errorf("of the printed one: %+v", places)
	}
	says(t, "the places", must(t, "register", "places", scan), "paper", "fee", "FROM THE TOP", "1")

	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Open(o.service.address() + "/register/" + scan)
	b.Sees("from a scan")
	b.Press("on page 1: show where paper stands")
	b.Until("it is marked on the page",
		`document.querySelectorAll('[data-value="paper"]').length === 1 && document.querySelector("canvas").width > 300`)
	barriers("values where they stand")
	b.Scheme("light")
	picture(t, b, "console-value-places")
	b.Open(o.service.address() + "/settings/register")
	b.Sees("by Tesseract")
	b.Press("Change how scans are read")
	b.Type("Pages of one file, at most", "500")
	b.Press("Save") // the browser says why not
	barriers("how scans are set")
	b.Scheme("light")
	b.Press("Cancel")
	says(t, "it stays as it was", must(t, "scans", "show"), "3 at most")
	barriers("how scans are read")
	// Words inside of files are found, also those of a scan, and it is shown where they stand.
	until(t, "the words are known", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "inside:wd").Filings) == 2
	})
	says(t, "where they stand", must(t, "register", "list", `inside:"MV Corrin"`), scan, "»MV Corrin«")
	says(t, "how far they are known", must(t, "register", "words"), "Papers on waste", "2, ",
		"Files that wait                 0")
	b.Open(o.service.address() + "/register?text=inside%3Acorr*")
	b.Sees("1 filing")
	b.Until("the word is marked", `document.querySelector("mark")?.innerText === "Corrin"`)
	barriers("words inside")
	b.Scheme("light")
	picture(t, b, "console-words-inside")
	b.Open(o.service.address() + "/settings/register")
	b.Sees("Searches with inside: find the words in the files of this rule: Papers on waste.")
	// What is read in a file can be looked at: of an electronic invoice as one, of a scan as it was read.
	right, wrong := number(t, "rule:dues", "file:HD-", "file:900"), number(t, "rule:dues", "file:BR-CO-15")
	says(t, "an invoice", must(t, "register", "inside", right), "Electronic invoice (EN 16931, UBL)",
		"Seller: Skerry Pilots")
	in := value[client.Inside](t, "register", "inside", wrong)
	if in.Invoice == nil || len(in.Invoice.Faults) != 1 || in.Invoice.Faults[0].Rule != "BR-CO-15" || in.Problem != nil {
		t.Errorf("of one that does not add up: %+v", in)
	}
	says(t, "a scan", must(t, "register", "inside", scan), "Read from a scan, ", "Declaration of waste",
		"QR code on page 1: berth 7")
	b.Open(o.service.address() + "/register/" + scan)
	b.Press("What is read in it")
	b.Sees("QR code, page 1")
	b.Sees("berth 7")
	picture(t, b, "console-codes")
	b.Open(o.service.address() + "/register/" + right)
	b.Sees("Its sums add up.")
	b.Sees("Skerry Pilots")
	barriers("an electronic invoice")
	b.Scheme("light")
	picture(t, b, "console-invoice")
	b.Open(o.service.address() + "/register/" + wrong)
	b.Press("What is read in it")
	b.Sees("(BR-CO-15)")
	must(t, "register", "correct", scan, "fee", "7.00 EUR")
	says(t, "what a person wrote stands nowhere", must(t, "register", "places", scan), "paper")
	if places := value[[]client.ValuePlace](t, "register", "places", scan); len(places) != 1 {
		t.Errorf("after a correction: %+v", places)
	}
	file := filepath.Join(o.folder, "files", "Papers", "WD-2026-0418.pdf")
	if err := os.WriteFile(file, []byte("changed"), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "of a file that was changed", fails(t, "register", "places", print), "not the same as when it was filed")
	must(t, "scans", "set", "--read=false")
	says(t, "it is off", must(t, "scans", "show"), "not at all, which is how it was set")
}
