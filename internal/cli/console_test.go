package cli

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"html"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

var screenshots = flag.String("screenshots", "", "folder to write pictures of the console to")

// axe is the source of axe-core, which is installed with the console's packages.
func axe(t *testing.T) string {
	t.Helper()
	source, err := os.ReadFile(filepath.Join("..", "..", "web", "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		testbed.LeaveOut(t, "the console's packages: run make console")
	}
	return string(source)
}

func picture(t *testing.T, b *testbed.Browser, name string) {
	t.Helper()
	if *screenshots == "" {
		return
	}
	if err := os.WriteFile(filepath.Join(*screenshots, name+".png"), b.Picture(), 0o644); err != nil {
		t.Fatal(err)
	}
}

// barriersIn looks for barriers on the page with axe-core, in each of the looks.
func barriersIn(t *testing.T, b *testbed.Browser, source string, looks ...string) func(where string) {
	return func(where string) {
		t.Helper()
		for _, look := range looks {
			b.Scheme(look)
			for _, v := range b.Axe(source) {
				t.Errorf("%s, %s: %+v", where, look, v)
			}
		}
	}
}

// pictureOfALetter shows a rule that has not filed anything yet beside its rehearsal.
func pictureOfALetter(t *testing.T, b *testbed.Browser, o *office) {
	t.Helper()
	if *screenshots == "" {
		return
	}
	rules, err := (&command{in: strings.NewReader(demo.Rules)}).readRules("-")
	if err != nil {
		t.Fatal(err)
	}
	table := store.LookupTable{Name: "stations", Rows: demo.Stations}
	if err := o.service.engine.Office.SaveLookupTable(t.Context(), &table, 0, "test"); err != nil {
		t.Fatal(err)
	}
	for i := range rules {
		if rules[i].ID != "tide-gauges" {
			continue
		}
		if _, err := o.service.engine.Office.SaveRule(t.Context(), &rules[i], 0, "test"); err != nil {
			t.Fatal(err)
		}
	}
	b.Scheme("light")
	b.Open(o.service.address() + "/rules/tide-gauges")
	b.Sees("would be filed")
	b.Sees("spreadsheets")
	picture(t, b, "rule")
	if err := errors.Join(o.service.engine.Office.RemoveRule(t.Context(), "tide-gauges", "test"),
		o.service.engine.Office.RemoveLookupTable(t.Context(), table.ID, "test")); err != nil {
		t.Fatal(err)
	}
}

// terminal shows what a command writes.
func terminal(t *testing.T, b *testbed.Browser, name string, args ...string) {
	t.Helper()
	if *screenshots == "" {
		return
	}
	out, errs, _ := run(t, "", args...)
	shown := append([]string{}, args...)
	for i, a := range args {
		if filepath.IsAbs(a) {
			shown[i] = filepath.Base(a)
		} else if strings.Contains(a, " ") {
			shown[i] = strconv.Quote(a)
		}
	}
	page := `<!doctype html><html lang=en><meta charset=utf-8><title>terminal</title><body style="margin:0;background:#14181f;color:#ece7db"><pre style="font:14px/1.45 monospace;padding:24px;margin:0;white-space:pre"><span style="color:#8fcfae">$</span> inktray ` +
		html.EscapeString(strings.Join(shown, " ")) + "\n" + html.EscapeString(out+errs) + "</pre>"
	b.Open("data:text/html;base64," + base64.StdEncoding.EncodeToString([]byte(page)))
	picture(t, b, name)
}

func signInAtTheDoor(b *testbed.Browser, o *office) {
	b.Open(o.service.address() + "/")
	b.Sees("Sign in")
	b.Type("Name", demoPerson)
	b.Type("Password", demo.Password)
	b.Press("Sign in")
	b.Sees("filed today")
}

const readingsRule = `format: 1
rules:
  - name: Readings by week
    cabinet: harbour files
    look: {mailboxes: gauges}
    match: {sender: {domain: tidewatch.example}}
    attachments:
      - take: {kind: spreadsheet}
        folder: Readings/<received week year>-W<received week>
        name: <received date> <file.stem>
`

func TestEveryPageIsWithoutBarriersInBothLooks(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theWeeks)
	for n := 1; n <= 3; n++ { // something arrives while the rules are on
		l := demo.Next(n, time.Now())
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			t.Fatal(err)
		}
	}
	b := testbed.StartBrowser(t, 1280, 800)
	held, err := call[client.Tray](o.api.ListTray(t.Context(), &client.ListTrayParams{}))
	if err != nil || len(held.Groups) == 0 {
		t.Fatalf("the tray holds %+v, %v", held, err)
	}
	pages := []struct{ name, path, sees string }{
		{"history", "/history", "old mail"}, {"pass", "/history/6", "Filed/Waste"}, {"today", "/", "As it arrives"},
		{"tray", "/tray", "but it is a Windows program"}, {"rules", "/rules", "Tide gauge readings"},
		{"rule", "/rules/tide-gauges", "would be filed"}, {"register", "/register", "harbour files"},
		{"register-folder", "/register?cabinet=harbour+files&folder=Gauges%2F2026", "in Gauges"},
		{"letter", "/rules/berth-requests", "PDFs named *berth*"},
		{"message", "/messages/" + itoa(held.Groups[0].Matters[0].Message.ID), "What each rule decides"},
		{"settings", "/settings/mailboxes", "last checked"}, {"add-mailbox", "/settings?add=mailbox", "Sign in as"},
		{"mail", "/mail?mailbox=" + o.mailboxID("gauges"), "messages in INBOX"}, {"mail-known", "/mail", "nothing filed yet"},
		{"draft", "/rules/new?from=" + itoa(held.Groups[0].Matters[0].Message.ID), "from the correspondent"},
		{"none", "/nowhere", "There is no such page"}, {"documents", "/book/running", "As a service of the system"},
	}
	b.Scheme("light")
	b.Open(o.service.address() + "/")
	b.Sees("Sign in")
	for _, v := range b.Axe(source) {
		t.Errorf("at the door: %+v", v)
	}
	signInAtTheDoor(b, o)
	for _, p := range pages {
		b.Scheme("light")
		b.Open(o.service.address() + p.path)
		b.Sees(p.sees)
		if p.name == "rule" {
			b.Sees("the rest")
		}
		for _, v := range b.Axe(source) {
			t.Errorf("%s, light: %+v", p.name, v)
		}
		for _, wrong := range misheard(b.Heard()) {
			t.Errorf("%s, as it is heard: %s", p.name, wrong)
		}
		if p.name != "rule" && p.name != "none" && p.name != "letter" && p.name != "register" &&
			p.name != "add-mailbox" && p.name != "draft" && p.name != "pass" && p.name != "mail-known" {
			picture(t, b, p.name)
		}
		b.Scheme("dark")
		for _, v := range b.AxeColours(source) {
			t.Errorf("%s, dark: %+v", p.name, v)
		}
		if p.name == "rules" { // where colours are forced, a fill alone tells nothing, and text on a fill stands out
			b.Scheme("forced")
			b.Until("the switch is seen", `(() => { const [track, thumb] = [document.querySelector('[role=switch]'),
				document.querySelector('[role=switch] > *')].map(e => getComputedStyle(e))
				return track.backgroundColor !== thumb.backgroundColor })()`)
			b.Until("the main button can be read", `[...document.querySelectorAll('button.bg-ink')].some(e => {
				const s = getComputedStyle(e); return s.forcedColorAdjust === 'none' && s.color !== s.backgroundColor })`)
		}
		for _, width := range []int{640, 2560} { // the first is what is left at 200 %
			b.Size(width, width*5/8)
			over := 0
			if b.Run(`new Promise(drawn => requestAnimationFrame(() => requestAnimationFrame(() => drawn(
				document.documentElement.scrollWidth - innerWidth))))`, &over); over > 0 {
				t.Errorf("%s goes %d pixels beyond a window of %d", p.name, over, width)
			}
		}
		b.Size(1280, 800)
	}
	b.Scheme("light")
	everySetting(t, b, source)
	terminal(t, b, "cli-rehearse", "rules", "rehearse", write(t, "readings.yaml", readingsRule), "--last", "6")
	terminal(t, b, "cli-register", "register", "list", "--text", "gauges november", "--most", "26")
	terminal(t, b, "cli-apply", "apply", write(t, "office.yaml", `format: 1
mailboxes:
  - {name: pilots, host: imap.brackwater.example, user: pilots@brackwater.example, secret: {env: XDG_CONFIG_HOME}}
cabinets:
  - {name: pilot papers, folder: /srv/pilot-papers}
rules:
  - id: crew-lists
    on: true
    name: Crew lists
    cabinet: harbour files
    look: {mailboxes: berths}
    match: {subject: {contains: crew list}}
    attachments:
      - take: [{kind: spreadsheet}, {kind: document}]
        folder: Crew lists/<received year>/<received month>/<sender.domain>
  - on: true
    name: Pilot orders
    cabinet: pilot papers
    look: {mailboxes: pilots}
    match: {subject: {contains: pilot order}}
    attachments:
      - take: {kind: pdf}
        folder: Orders/<received year>/<received month name>
`), "--preview")
	for _, width := range []int{360, 2560} {
		b.Size(width, 800)
		for _, p := range append(slices.Clone(pages[:7]), pages[len(pages)-4], pages[len(pages)-1]) {
			b.Open(o.service.address() + p.path)
			b.Sees(p.sees)
			wide := 0
			b.Run("document.documentElement.scrollWidth", &wide)
			if wide > width {
				t.Errorf("%s is %d wide in a window of %d", p.name, wide, width)
			}
		}
	}
}

// operated are the roles of what a person operates, each of which needs a name.
var operated = []string{"button", "link", "textbox", "searchbox", "combobox", "checkbox", "switch", "radio", "tab",
	"menuitem", "slider", "spinbutton", "listbox", "image", "table", "dialog"}

// misheard says what is wrong with the accessibility tree of a page (WCAG 2.2, 1.3.1, 2.4.1, 2.4.6 and 4.1.2).
func misheard(all []testbed.Heard) (wrong []string) {
	count := map[string]int{}
	landmarks := map[string]bool{}
	level := 0
	for _, h := range all {
		count[h.Role]++
		switch {
		case slices.Contains(operated, h.Role) && strings.TrimSpace(h.Name) == "":
			wrong = append(wrong, "a "+h.Role+" has no name")
		case h.Role == "heading":
			if h.Level == 1 {
				count["first heading"]++
			}
			if h.Level > level+1 {
				wrong = append(wrong, fmt.Sprintf("the heading “%s” is of level %d after one of level %d", h.Name, h.Level, level))
			}
			level = h.Level
		case h.Role == "navigation" || h.Role == "region":
			if landmarks[h.Role+h.Name] {
				wrong = append(wrong, fmt.Sprintf("two parts are both called %s “%s”", h.Role, h.Name))
			}
			landmarks[h.Role+h.Name] = true
		}
	}
	if count["dialog"] > 0 { // the rest is not heard while it is open
		return slices.DeleteFunc(wrong, func(one string) bool { return strings.HasSuffix(one, "after one of level 0") })
	}
	for _, role := range []string{"main", "first heading"} {
		if count[role] != 1 {
			wrong = append(wrong, fmt.Sprintf("there are %d of %s", count[role], role))
		}
	}
	if count["navigation"] == 0 {
		wrong = append(wrong, "there is no navigation")
	}
	if count["columnheader"] == 0 && count["table"] > 0 && count["rowheader"] == 0 {
		wrong = append(wrong, "a table has no heads")
	}
	return wrong
}

// everySetting goes through the sections of the settings, and looks for each of their headings by its name.
func everySetting(t *testing.T, b *testbed.Browser, axe string) {
	t.Helper()
	var names, headings []string
	b.Press("Settings")
	b.Sees("Add a mailbox")
	b.Run(`[...document.querySelectorAll('nav[aria-label="Sections of the settings"] a')].map(a => a.innerText)`, &names)
	if len(names) != 10 {
		t.Errorf("the settings have the sections %q", names)
	}
	for _, name := range names {
		if name == "People" {
			continue // a page of its own
		}
		section(b, name)
		b.Until("its tab is named", `document.title === `+strconv.Quote(name+", Settings – Ink Tray"))
		b.Until("it is shown", `document.querySelectorAll("#page h2").length > 0 && !document.querySelector("#page [role=status]")`+
			`?.innerText.includes("Looking")`)
		for _, v := range b.Axe(axe) {
			t.Errorf("settings, %s: %+v", name, v)
		}
		for _, wrong := range misheard(b.Heard()) {
			t.Errorf("settings, %s, as it is heard: %s", name, wrong)
		}
		picture(t, b, "settings-"+strings.ToLower(name))
		b.Run(`[...document.querySelectorAll("#page h2")].map(h => h.innerText)`, &headings)
		for _, h := range headings {
			b.Run(`(() => { const i = document.querySelector('[aria-label="Find a setting"]'); `+
				`Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(i, `+strconv.Quote(h)+`); `+
				`i.dispatchEvent(new Event('input', {bubbles: true})) })()`, nil)
			b.Until("the heading "+h+" is found",
				`[...document.querySelectorAll('[aria-label="Settings that were found"] a')].some(a => a.innerText.startsWith(`+
					strconv.Quote(h)+`))`)
		}
	}
	b.Type("Find a setting", "virus")
	b.Run(`document.querySelector('[aria-label="Settings that were found"] a').click()`, nil)
	b.Until("the heading has the focus", `document.activeElement.innerText === "Verified senders"`)
}

// section opens a section of the settings.
func section(b *testbed.Browser, name string) {
	inside := false
	if b.Run(`location.pathname.startsWith("/settings/")`, &inside); !inside {
		b.Press("Settings")
	}
	b.Until("the section "+name+" is open", `(() => {
		const all = [...document.querySelectorAll('nav[aria-label="Sections of the settings"] a')]
		const link = all.find(a => a.innerText === `+strconv.Quote(name)+`)
		if (link && !link.hasAttribute("aria-current")) link.click()
		return !!link && link.hasAttribute("aria-current")
	})()`)
}

// TestAPersonSetsEverythingUpInTheConsole goes from the set-up link to a filed
// file without touching anything but the pages.
func TestAPersonSetsEverythingUpInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, empty)
	code := setupCode(t, o)
	for _, l := range demo.OldMail(time.Now())[:30] {
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			t.Fatal(err)
		}
	}
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	b.Open(o.service.address() + "/set-up#" + code)
	b.Sees("Create the administrator’s account")
	b.Type("Your name", "Ines Halloway")
	b.Type("Choose a password", "short")
	b.Sees("At least ten characters, please")
	b.Type("Choose a password", demo.Password)
	b.Press("Begin")
	b.Sees("Four steps")
	for _, v := range b.Axe(source) {
		t.Errorf("first steps: %+v", v)
	}
	picture(t, b, "first-steps")

	b.Press("Add a mailbox")
	b.Type("Name", "gauges")
	b.Type("Mail server", "127.0.0.1")
	b.Type("Port", itoa(int64(o.mail.Port())))
	b.Run(`(() => { const s = [...document.querySelectorAll('select')].find(s => [...s.options].some(o => o.value === 'none')); s.value = 'none'; s.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil)
	b.Type("Sign in as", "gauges@brackwater.example")
	b.Type("Password", "wrong")
	b.Press("Check")
	b.Sees("refuses the name")
	for _, v := range b.Axe(source) {
		t.Errorf("the failed check: %+v", v)
	}
	b.Press("Add")
	b.Sees("The mailbox was not added, because the check failed")
	b.Until("it can be added in spite of it", `[...document.querySelectorAll('button')].some(x => x.innerText === 'Add anyway')`)
	b.Type("Password", demo.Password)
	b.Until("another try is checked again", `[...document.querySelectorAll('button')].some(x => x.innerText === 'Add')`)
	b.Press("Check")
	b.Sees("the server announces new mail immediately")
	b.Press("Add")
	b.Sees("watched live")

	section(b, "Cabinets")
	b.Press("Add a cabinet")
	b.Type("Name", "harbour files")
	b.Type("Folder", "/nowhere/at/all")
	b.Press("Add")
	b.Sees("the folder is not there")
	b.Press("Choose…")
	b.Sees("There is no folder “/nowhere/at/all” on this machine")
	b.Press("Begin at the top")
	b.Sees("On the machine that runs Ink Tray: /")
	b.Press("tmp")
	b.Sees("the folder above")
	b.Type("New folder in it", "brackwater")
	for _, v := range b.Axe(source) {
		t.Errorf("choosing a folder: %+v", v)
	}
	b.Press("Use this folder")
	b.Until("the folder is chosen", `[...document.querySelectorAll('input')].some(i => i.value === '/tmp/brackwater')`)
	files := filepath.Join(o.folder, "files")
	b.Type("Folder", files)
	b.Press("Add")
	b.Sees("in order")

	pictureOfALetter(t, b, o)
	b.Press("Rules")
	b.Press("New rule")
	b.Sees("A new rule")
	b.Sees("This is the mail that is there. Choose a sender in the letter.")
	picture(t, b, "new-rule")
	b.Until("nothing is called wrong that nobody has touched",
		`!document.querySelector('main [role=alert]') && !document.querySelector('[data-wrong=true]')`)
	b.Type("Name of the rule", "Readings")
	b.Press("from: choose a sender")
	b.Type("Another domain", "tidewatch.example")
	for _, v := range b.Axe(source) {
		t.Errorf("an open blank: %+v", v)
	}
	b.Press("Add")
	b.Sees("would be filed")
	b.Press("PDFs")
	b.Press("spreadsheets")
	b.Sees("st3-st7.csv")
	b.Press("Folder: ")
	b.Type("Folder, as text", "Gauges/<recieved year>")
	b.Sees("Did you mean “received”?")
	for _, v := range b.Axe(source) {
		t.Errorf("a wrong pattern: %+v", v)
	}
	b.Type("Folder, as text", "Gauges/<received year>")
	b.Sees("Gauges/2026/st3-st7.csv")
	b.Press("Save")
	b.Press("Switch on…")
	b.Sees("Which mail should this rule file?")
	b.Press("Switch on")
	b.Sees("On. 0 files filed so far.")
	l := demo.Next(0, time.Now())
	if err := o.mail.Deliver("gauges", l.Raw, l.Received); err != nil {
		t.Fatal(err)
	}
	until(t, "the new message is filed", func() bool {
		found, _ := filepath.Glob(filepath.Join(files, "Gauges", "*", "*.*"))
		return len(found) > 0
	})
	b.Press("File old mail…")
	b.Press("Begin")
	b.Press("Register")
	b.Until("the old mail is in the register too", "document.querySelectorAll('tbody tr').length > 10")
	b.Press("Today")
	b.Sees("As it arrives")
	b.Until("the day shows what arrived", "document.body.innerText.includes('filed')")
}

// A rule is cared for in the console: moved by keyboard, switched on with a
// question, changed, brought back, copied, imported under another name, removed.
func TestRulesAreCaredForInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	barriers := barriersIn(t, b, source, "light")
	rules := value[[]client.Rule](t, "rules", "list")

	b.Press("Rules")
	b.Sees(rules[0].Name)
	b.Run(`document.getElementById("grip-`+rules[0].ID+`").focus()`, nil)
	b.Key("\u0301") // arrow down
	until(t, "the first rule is the second one", func() bool {
		all := value[[]client.Rule](t, "rules", "list")
		return all[1].ID == rules[0].ID
	})
	b.Sees("is now number 2 of")

	b.Open(o.service.address() + "/rules/crew-lists")
	b.Sees("would be filed")
	b.Press("Folders as they would be")
	b.Sees("Crew lists")
	b.Press("Switch off")
	b.Sees("Off. Nothing is filed")
	b.Press("Switch on…")
	b.Sees("Which mail should this rule file?")
	barriers("switching on")
	b.Press("new mail, and everything already in these folders")
	b.Press("Switch on")
	b.Sees("On. ")

	b.Press("a folder for each message…")
	b.Press("A name that is taken: add a number")
	b.Sees("For a report that comes again and again.")
	barriers("an open blank of a place")
	b.Leave()
	b.Press("Copies of the message: none")
	barriers("the blank of copies")
	b.Press("PDF: with its pictures; if it cannot be drawn, an EML is added")
	b.Leave()
	b.Sees("each message in a folder of its own")
	b.Press("Save")
	until(t, "the change is kept", func() bool {
		document := string(value[client.Rule](t, "rules", "show", "Crew lists").Document)
		return strings.Contains(document, `"own folder": true`) && strings.Contains(document, `"as": "pdf"`)
	})
	more(b, "Earlier versions…")
	b.Sees("own folder: true")
	barriers("earlier states")
	b.Press("Bring back")
	until(t, "the earlier state is back", func() bool {
		r := value[client.Rule](t, "rules", "show", "Crew lists")
		return r.Revision == 3 && !strings.Contains(string(r.Document), "own folder")
	})
	more(b, "Copy this rule")
	b.Sees("Crew lists (copy)")
	more(b, "Remove…")
	b.Sees("This rule then files nothing.")
	barriers("removing")
	b.Press("Remove")
	b.Sees("Each message goes through the")

	exported := must(t, "rules", "export", "Crew lists")
	var anonymous []string
	for _, line := range strings.Split(strings.Replace(exported, "name: Crew lists", "name: Lists of crews", 1), "\n") {
		if !strings.Contains(line, "id: ") {
			anonymous = append(anonymous, line)
		} else {
			anonymous = append(anonymous, "  -")
		}
	}
	quoted, err := json.Marshal(strings.Join(anonymous, "\n"))
	if err != nil {
		t.Fatal(err)
	}
	b.Press("Import…")
	b.Run(`(() => { const i = document.querySelector('input[type=file]'); const d = new DataTransfer(); d.items.add(new File([`+string(quoted)+`], 'rules.yaml')); i.files = d.files; i.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil)
	b.Sees("Is it the rule “Crew lists” under a new name?")
	barriers("importing")
	b.Press("yes, that one renamed")
	b.Sees("It is “Crew lists” under a new name.")
	b.Press("Import these rules")
	until(t, "the rule has its new name", func() bool {
		all := value[[]client.Rule](t, "rules", "list")
		return slices.ContainsFunc(all,
			func(r client.Rule) bool { return r.ID == "crew-lists" && r.Name == "Lists of crews" })
	})

	section(b, "Correspondents")
	b.Press("Add a correspondent")
	b.Type("Name", "Saltmarsh Waste")
	b.Press("Add correspondent")
	b.Sees("no address and no domain")
	b.Type("Domains, with their subdomains", "saltmarsh.example")
	barriers("a correspondent")
	b.Key("\t")
	b.Press("Add correspondent")
	until(t, "the correspondent is in the book", func() bool {
		return slices.ContainsFunc(value[[]client.Correspondent](t, "correspondents", "list"),
			func(c client.Correspondent) bool { return c.Name == "Saltmarsh Waste" && len(c.Domains) == 1 })
	})
	section(b, "Tables")
	b.Press("Add a table")
	b.Type("Name, in one word", "quays")
	b.Type("Rows, one per line: code = meaning", "a = quay A\nb")
	b.Press("Add table")
	b.Sees("is not whole")
	barriers("a table")
	b.Type("Rows, one per line: code = meaning", "a = quay A")
	b.Press("Add table")
	until(t, "the table is kept", func() bool { return len(value[[]client.LookupTable](t, "tables", "list")) == 2 })

	b.Press("Mail")
	b.Sees("Words in subject, sender or folder")
	b.Type("Words in subject, sender or folder", "crew list")
	b.Until("only such messages are shown",
		`(() => { const all = [...document.querySelectorAll('[aria-label=Messages] > li')]; return all.length > 0 && all.every(r => /crew list/i.test(r.innerText)) })()`)
	b.Run(`document.querySelector('[aria-label=Messages] a').click()`, nil)
	b.Sees("What each rule decides")
	b.Press("Make a rule from this")
	b.Sees("would be filed")
	b.Sees("crew")
}

// more chooses something from the menu More… of a page.
func more(b *testbed.Browser, item string) {
	b.Until("the menu has "+item,
		`(() => { const there = [...document.querySelectorAll('[role=menuitem]')].some(x => x.innerText === '`+item+`');
		const more = [...document.querySelectorAll('button')].find(x => x.innerText === 'More…');
		if (!there && more) { more.focus(); more.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true})) }
		return there })()`)
	b.Run(`[...document.querySelectorAll('[role=menuitem]')].find(x => x.innerText === '`+item+`').click()`, nil)
}
