package cli

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// fails runs a command that must not succeed, and returns what it says.
func fails(t *testing.T, args ...string) string {
	t.Helper()
	_, errs, code := run(t, "", args...)
	if code == 0 {
		t.Errorf("inktray %s succeeds", strings.Join(args, " "))
	}
	return errs
}

// The register is searched, sorted, counted, told, annotated and exported by the
// command line.
func TestTheRegisterByTheCommandLine(t *testing.T) {
	o := openOffice(t, theWeeks)
	all := value[client.RegisterPage](t, "register", "list", "--most", "500")
	if len(all.Filings) < 100 || all.Total != len(all.Filings) {
		t.Fatalf("%d of %d filings", len(all.Filings), all.Total)
	}
	// What is found is what looking at every line finds.
	for words, fits := range map[string]func(f *client.Filing) bool{
		"sender:tidewatch kind:spreadsheet": func(f *client.Filing) bool {
			return strings.Contains(f.SenderAddress, "tidewatch") && f.Kind == "spreadsheet"
		},
		"larger:9KB":     func(f *client.Filing) bool { return f.Size > 9000 },
		"folder:surveys": func(f *client.Filing) bool { return strings.HasPrefix(f.Folder, "Surveys") },
		"ORSTED":         func(f *client.Filing) bool { return strings.Contains(f.SenderName, "Ørsted") },
		"without:gauges": func(f *client.Filing) bool {
			return !strings.Contains(f.Folder, "Gauges") && !strings.Contains(f.SenderAddress+f.Subject+f.File+f.Rule, "gauges")
		},
		all.Filings[7].Entry: func(f *client.Filing) bool { return f.Entry == all.Filings[7].Entry },
	} {
		want := 0
		for i := range all.Filings {
			if fits(&all.Filings[i]) {
				want++
			}
		}
		if got := value[client.RegisterPage](t,
			append([]string{"register", "list"}, strings.Fields(words)...)...); got.Total != want || want == 0 {
			t.Errorf("%q finds %d, want %d", words, got.Total, want)
		}
	}
	up := value[client.RegisterPage](t, "register", "list", "--sort", "size", "--up", "--most", "50").Filings
	for i := 1; i < len(up); i++ {
		if up[i].Size < up[i-1].Size {
			t.Fatalf("by size: %d after %d", up[i].Size, up[i-1].Size)
		}
	}
	if letters := value[client.RegisterMessagesPage](t, "register", "list", "survey", "--by",
		"message"); letters.Total == 0 || len(letters.Messages[0].Filings) < 2 {
		t.Errorf("by message: %+v", letters)
	}
	says(t, "the folders", must(t, "register", "folders", "--cabinet", "harbour files"), "Gauges/", "Surveys/")
	folders := value[[]client.FolderCount](t, "register", "folders")
	if len(folders) != 1 || folders[0].Count != all.Total {
		t.Errorf("the cabinets hold %+v", folders)
	}
	total := 0
	for _, tally := range value[client.Activity](t, "register", "activity", "--by", "rule").Tallies {
		total += tally.Count
	}
	if total != all.Total {
		t.Errorf("by rule there are %d, want %d", total, all.Total)
	}
	for _, bad := range [][]string{{"kind:nonsense"}, {"since:soon"}, {"--by", "colour"}, {"--sort", "colour"},
		{"--columns", "colour"}, {"--folder", "x", "--from", "yesterday"}} {
		if said := fails(t, append([]string{"register", "list"}, bad...)...); len(said) < 20 {
			t.Errorf("%v: %q", bad, said)
		}
	}
	// A story with a note, a place for colleagues, and links.
	must(t, "cabinets", "address", "harbour files", `\\files\harbour`)
	says(t, "a bad address", fails(t, "cabinets", "address", "harbour files", "javascript:x"), "this is not an address")
	entry := all.Filings[0].Entry
	must(t, "register", "note", entry, "signed", "copy", "is", "upstairs")
	says(t, "the story", must(t, "register", "show", entry), "state", "SHA-256", `\\files\harbour\`, "mid:", "imap://",
		"was drawn", "signed copy is upstairs", "Ines Halloway")
	if got := value[client.RegisterPage](t, "register", "list", "note:upstairs"); got.Total != 1 {
		t.Errorf("by its note it is found %d times", got.Total)
	}
	must(t, "register", "note", entry, "--remove", "1")
	says(t, "a number that there is not", fails(t, "register", "show", "2026-99999"), "there is no")
	says(t, "no number", fails(t, "register", "show", "x"), "entry")
	// Columns are kept for whoever chose them, exports have them.
	says(t, "the choice", must(t, "register", "columns", "number", "size", "file"), "number, size, file")
	out := must(t, "register", "export", "kind:pdf", "--file", "-")
	rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(out, "\ufeff"))).ReadAll()
	if err != nil || len(rows[0]) != 3 ||
		len(rows)-1 != value[client.RegisterPage](t, "register", "list", "kind:pdf").Total {
		t.Errorf("the export has %d rows, %v", len(rows), err)
	}
	must(t, "register", "columns", "--usual")
	perMessage := must(t, "register", "export", "--per", "message", "--columns", "number,file,subject", "--file", "-")
	rows, err = csv.NewReader(strings.NewReader(strings.TrimPrefix(perMessage, "\ufeff"))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	messages, numbers := map[int64]bool{}, 0
	for _, f := range value[client.RegisterPage](t, "register", "list", "--most", "500").Filings {
		messages[f.Message] = true
	}
	for _, row := range rows[1:] {
		numbers += strings.Count(row[0], ",") + 1
	}
	if len(rows)-1 != len(messages) || numbers != all.Total {
		t.Errorf("by message there are %d rows with %d filings, want %d with %d", len(rows)-1, numbers, len(messages),
			all.Total)
	}
	book := filepath.Join(t.TempDir(), "register.xlsx")
	says(t, "the export", must(t, "register", "export", "--file", book, "--sort", "received", "--up"),
		"register.xlsx holds")
	f, err := excelize.OpenFile(book)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if sheet, err := f.GetRows("Register"); err != nil || len(sheet)-1 != all.Total {
		t.Errorf("the workbook has %d rows, %v", len(sheet), err)
	}
	says(t, "over a file that is there", fails(t, "register", "export", "--file", book), "is there already")
	// A register in the cabinet.
	says(t, "kept", must(t, "register", "files", "add", "Register", "--cabinet", "harbour files", "--folder", "Lists"),
		"Lists/Register ", "with the rights of an administrator, who sees everything (Ines Halloway)")
	o.arriving(2)
	list := func() string {
		data, _ := os.ReadFile(filepath.Join(o.folder, "files", "Lists", fmt.Sprintf("Register %d.csv", time.Now().Year())))
		return string(data)
	}
	until(t, "the file follows", func() bool {
		newest := value[client.RegisterPage](t, "register", "list", "--most", "1").Filings[0]
		return strings.Contains(list(), newest.Entry+",") && newest.Entry != entry
	})
	for i, line := range strings.Split(strings.TrimSpace(list()), "\r\n") {
		want := ",Written with the rights of"
		if i > 0 {
			want = ",an administrator, who sees everything (Ines Halloway)"
		}
		if !strings.HasSuffix(strings.ReplaceAll(line, `"`, ""), want) {
			t.Errorf("line %d does not say with whose rights it was written: %s", i, line)
		}
	}
	says(t, "the list of them", must(t, "register", "files", "list"), "Register", "Lists/Register")
	must(t, "register", "files", "write", "Register")
	must(t, "register", "files", "add", "Letters", "--cabinet", "harbour files", "--folder", "Lists", "--per", "message")
	until(t, "the register by message is written", func() bool {
		data, _ := os.ReadFile(filepath.Join(o.folder, "files", "Lists", fmt.Sprintf("Letters %d.csv", time.Now().Year())))
		letters, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(data), "\ufeff"))).ReadAll()
		return err == nil && len(letters) > 1 && slices.Contains(letters[0], "File 2")
	})
	says(t, "its end", must(t, "register", "files", "remove", "Register", "--yes"), "stay where they are")
	if list() == "" {
		t.Error("what was written went")
	}
}

// Files that go or change are found, told, and put right by the command line.
func TestVerificationByTheCommandLine(t *testing.T) {
	o := openOffice(t, theLast)
	all := value[client.RegisterPage](t, "register", "list", "--most", "500").Filings
	says(t, "all", must(t, "register", "verify", "state:filed"), "all are as they were filed")
	gone := filepath.Join(o.folder, "files", filepath.FromSlash(all[0].Folder), all[0].File)
	if err := os.Remove(gone); err != nil {
		t.Fatal(err)
	}
	out, _, code := run(t, "", "register", "verify", all[0].Entry)
	if code == 0 || !strings.Contains(out, "not where it was filed") {
		t.Errorf("a missing file: exit code %d, %q", code, out)
	}
	says(t, "the tray", must(t, "tray", "list"), "Filed, and no longer there", short(all[0].File, 20)[:10])
	says(t, "the plan", must(t, "register", "verify", "--every", "30", "--from-time", "19:00", "--to-time", "06:00"),
		"once in 30 days, between 19:00 and 06:00", "missing          1")
	fails(t, "register", "verify", "--from-time", "25:00")
	says(t, "again", must(t, "tray", "refile", "--cause", "missing"), "1 filed again")
	until(t, "it is there again", func() bool { _, err := os.Stat(gone); return err == nil })
	if f := value[client.Story](t, "register", "show", all[0].Entry).Filing; *f.State != "taken back" {
		t.Errorf("the first filing is %s", *f.State)
	}
	says(t, "nothing to verify", fails(t, "register", "verify", all[0].Entry), "so there is no file to verify")
	// And the person goes.
	address := all[1].SenderAddress
	says(t, "the preview", must(t, "erase", address), "would be erased", "It cannot be undone",
		"the files in the cabinets")
	if n := value[client.RegisterPage](t, "register", "list", "sender:"+address).Total; n == 0 {
		t.Error("the preview erased")
	}
	says(t, "the erasing", must(t, "erase", address, "--yes"), "erased")
	if n := value[client.RegisterPage](t, "register", "list", "sender:"+address, "state:all").Total; n != 0 {
		t.Errorf("%d are still found", n)
	}
	if f := value[client.Story](t, "register", "show", all[1].Entry); f.Filing.Subject != "" ||
		f.Filing.ErasedAt == nil ||
		f.Filing.Sha256 != all[1].Sha256 {
		t.Errorf("the line is %+v", f.Filing)
	}
	says(t, "no address", fails(t, "erase", "nobody"), "mail address of one person")
}

// A reader sees of the register what came to the mailboxes that he may see: in
// lists, counts, folders, exports, stories and previews.
func TestAReaderSeesHisPartOfTheRegisterOnly(t *testing.T) {
	o := openOffice(t, theLast)
	all := value[client.RegisterPage](t, "register", "list", "--most", "500").Filings
	boxes := value[[]client.Mailbox](t, "mailboxes", "list")
	records := o.service.store
	if err := records.People.Add(t.Context(), store.Person{ID: "rowan", Name: "Rowan",
		Password: api.HashPassword("a long password"),
		Role:     store.Reader, MadeAt: time.Now()}, "test"); err != nil {
		t.Fatal(err)
	}
	var own client.Mailbox
	for _, b := range boxes {
		if b.Name == "gauges" {
			own = b
		}
	}
	if err := restrict(t, records, "rowan", []string{own.ID}); err != nil {
		t.Fatal(err)
	}
	mine, others := 0, ""
	var message int64
	for _, f := range all {
		if f.Mailbox == "gauges" {
			mine++
		} else {
			others, message = f.Entry, f.Message
		}
	}
	token, err := (&command{service: o.service.address()}).tokenFor(t.Context(), "Rowan", "a long password", "", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("INKTRAY_TOKEN", token)
	if got := value[client.RegisterPage](t, "register", "list", "--most", "500"); got.Total != mine || mine == 0 ||
		others == "" {
		t.Errorf("he sees %d of %d", got.Total, mine)
	}
	total := 0
	for _, tally := range value[client.Activity](t, "register", "activity", "--by", "mailbox").Tallies {
		if total += tally.Count; tally.Name != "gauges" {
			t.Errorf("he sees the activity of %s", tally.Name)
		}
	}
	if folders := value[[]client.FolderCount](t, "register", "folders"); total != mine || len(folders) != 1 ||
		folders[0].Count != mine {
		t.Errorf("%d by mailbox, folders %+v; want %d", total, folders, mine)
	}
	rows, err := csv.NewReader(
		strings.NewReader(strings.TrimPrefix(must(t, "register", "export", "--file", "-"), "\ufeff"))).ReadAll()
	if err != nil || len(rows)-1 != mine {
		t.Errorf("he exports %d rows, %v", len(rows)-1, err)
	}
	says(t, "another's filing", fails(t, "register", "show", others), "there is no")
	fails(t, "register", "fetch", others, "--to", filepath.Join(t.TempDir(), "x"))
	fails(t, "messages", "read", itoa(message))
	says(t, "a note", fails(t, "register", "note", others, "x"), "needs the role")
	says(t, "erasing", fails(t, "erase", "a@b.example"), "needs the role")
}

// What is served for looking at runs nowhere.
func TestPreviewsAreServedHarmless(t *testing.T) {
	o := openOffice(t, theLast)
	f := value[client.RegisterPage](t, "register", "list", "kind:pdf", "--most", "1").Filings[0]
	get := func(path string) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), "GET", o.service.address()+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+o.token)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	file := get("/api/v1/register/" + f.Entry + "/file?first=100")
	body, err := io.ReadAll(file.Body)
	if err != nil || len(body) != 100 || !bytes.HasPrefix(body, []byte("%PDF")) {
		t.Errorf("the beginning of the file: %q, %v", body, err)
	}
	for name, want := range map[string]string{"Content-Disposition": "attachment", "X-Content-Type-Options": "nosniff",
		"Content-Security-Policy": "sandbox", "Content-Type": "application/octet-stream"} {
		if got := file.Header.Get(name); !strings.Contains(got, want) {
			t.Errorf("the file has %s %q", name, got)
		}
	}
	page := get("/api/v1/messages/" + itoa(f.Message) + "/page")
	for _, want := range []string{"sandbox", "default-src 'none'", "frame-ancestors 'self'"} {
		if got := page.Header.Get("Content-Security-Policy"); !strings.Contains(got, want) {
			t.Errorf("the message's page has the policy %q without %s", got, want)
		}
	}
	body, err = io.ReadAll(page.Body)
	if err != nil || !bytes.Contains(body, []byte(f.SenderAddress)) || bytes.Contains(body, []byte("<script")) {
		t.Errorf("the page is %.200q, %v", body, err)
	}
	says(t, "the message as text", must(t, "messages", "read", itoa(f.Message)), f.SenderAddress)
}

// The register in the console: a search that narrows, an order, columns that are
// kept, a story with a preview and a note, an export.
func TestTheRegisterInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theWeeks)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	clean := func(where string) {
		t.Helper()
		for _, v := range b.Axe(source) {
			t.Errorf("%s: %+v", where, v)
		}
	}
	b.Press("Register")
	b.Until("there are lines", "document.querySelectorAll('tbody tr a').length > 10")
	b.Run("window.scrollTo(0, 1e6)", nil)
	b.Until("more lines are read as they are scrolled to",
		"Number([...document.querySelectorAll('tbody tr[aria-rowindex]')].at(-1)?.getAttribute('aria-rowindex')) > 101 || "+
			"(window.scrollTo(0, 1e6), false)")
	b.Until("only those that are seen are on the page", "document.querySelectorAll('tbody tr').length < 70")
	b.Run("window.scrollTo(0, 0)", nil)
	b.Type("Search the register", "sender:tidewatch kind:pdf")
	b.Until("the search is in the address", "location.search.includes('sender%3Atidewatch')")
	b.Until(
		"it is narrowed",
		`/^\d+ filings/.test(document.querySelector('h1 + p').innerText) && [...document.querySelectorAll('tbody tr')].filter(r => r.querySelector('a')).every(r => r.innerText.includes('.pdf'))`,
	)
	b.Open(o.service.address() + "/register?text=kind%3Anonsense")
	b.Sees("There is no kind")
	b.Open(o.service.address() + "/register?text=kind%3Apdf&sort=size")
	b.Until("the address says it all", "document.querySelector('th[aria-sort=descending]')?.innerText.includes('Size')")
	b.Press("Columns")
	b.Sees("Ink Tray keeps your choice")
	clean("columns")
	b.Run("[...document.querySelectorAll('[role=dialog] label')].find(l => l.innerText.trim() === 'SHA-256').click()",
		nil)
	b.Press("Save")
	b.Until("the column is there", "[...document.querySelectorAll('th')].some(h => h.innerText.includes('SHA-256'))")
	if got := value[client.RegisterLanguage](t, "register", "columns"); got.Chosen[len(got.Chosen)-1] != "checksum" {
		t.Errorf("kept are %v", got.Chosen)
	}
	b.Press("Filters")
	b.Sees("the number was not used")
	clean("narrowing")
	b.Key(testbed.Escape)
	b.Press("Messages")
	b.Until("one line a message", "document.querySelectorAll('main article').length > 3")
	clean("messages")
	b.Press("Activity")
	b.Sees("By sender")
	b.Until("it is drawn, with a table",
		"document.querySelectorAll('main svg rect').length > 0 && [...document.querySelectorAll('summary')].some(s => "+
			"s.innerText.includes('As a table'))")
	clean("activity")
	b.Open(o.service.address() + "/register?view=activity")
	b.Until("everything is counted",
		"document.querySelectorAll('main table').length > 3 && !document.body.innerText.includes('Looking…')")
	picture(t, b, "register-activity")
	// The story of a document: its page is drawn, its message can be read.
	pdf := value[client.RegisterPage](t, "register", "list", "kind:pdf", "berths", "--most", "1").Filings[0]
	b.Open(o.service.address() + "/register/" + pdf.Entry)
	b.Sees("What happened")
	b.Until(
		"the page is drawn",
		`(() => { const c = document.querySelector('canvas'); if (!c || !c.width) return false; const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; for (let i = 0; i < d.length; i += 4) if (d[i] < 100 && d[i + 3] > 0) return true; return false })()`,
	)
	b.Type("A note on this filing", "signed copy is upstairs")
	b.Press("Add note")
	b.Until("the note stands there",
		"document.querySelector('section[aria-label=Notes]').innerText.includes('Ines Halloway')")
	clean("a story")
	picture(t, b, "filing")
	b.Press("The message")
	b.Until("the message is in a frame that runs nothing",
		"document.querySelector('iframe')?.getAttribute('sandbox') === ''")
	csvFile := value[client.RegisterPage](t, "register", "list", "kind:spreadsheet", "file:.csv", "--most", "1").Filings[0]
	b.Open(o.service.address() + "/register/" + csvFile.Entry)
	b.Until("the table is shown as one",
		"document.querySelectorAll('[aria-label=\"The file’s table\"] :is(td, th)').length > 1")
	clean("a table")
	picturesOf := value[client.RegisterPage](t, "register", "list", "kind:picture", "--most", "1").Filings[0]
	b.Open(o.service.address() + "/register/" + picturesOf.Entry)
	b.Sees("dots")
	b.Press("Verify now")
	b.Sees("Verified: the file was there, unchanged.")
	// An export, and what Settings hold of the register.
	b.Open(o.service.address() + "/register?text=kind%3Apdf")
	b.Until("there are lines", "document.querySelectorAll('tbody tr a').length > 3")
	b.Press("Export…")
	clean("exporting")
	b.Press("Export")
	b.Sees("Ink Tray keeps it for an hour")
	clean("exported")
	b.Open(o.service.address() + "/settings/register")
	b.Sees("Erasing a person’s traces")
	b.Press("Keep the register as a file")
	clean("a register as a file")
	b.Press("Add file")
	b.Until("it is written", "/Register \\d+\\.xlsx: \\d+ lines/.test(document.body.innerText)")
	b.Press("Verify all now")
	b.Until("it is verified", "/\\d+ of \\d+ files, done/.test(document.body.innerText)")
	b.Press("Change verification")
	clean("the plan")
	b.Key(testbed.Escape)
	b.Press("Erase a person’s traces…")
	b.Type("The person’s mail address", pdf.SenderAddress)
	b.Press("See what would be erased")
	b.Sees("It cannot be undone")
	clean("erasing")
	b.Press("Erase for good")
	b.Sees("Erased:")
	if n := value[client.RegisterPage](t, "register", "list", "sender:"+pdf.SenderAddress, "state:all").Total; n != 0 {
		t.Errorf("%d of that person are still found", n)
	}
}
