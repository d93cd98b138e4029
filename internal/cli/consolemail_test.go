package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
)

// choose picks an entry of a list by what people read.
func choose(b *testbed.Browser, label, text string) {
	quoted, _ := json.Marshal([]string{label, text})
	find := `(() => { const [label, text] = ` + string(quoted) +
		`; const l = [...document.querySelectorAll('label')].find(l => l.innerText.trim().startsWith(label)); const s = l?.querySelector('select') ?? document.getElementById(l?.htmlFor ?? ''); const o = s && [...s.options].find(o => o.text.startsWith(text)); return o && [s, o] })()`
	b.Until("there is "+text, find)
	b.Run(`(() => { const [s, o] = `+find+
		`; Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, o.value); s.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil)
}

// Somebody looks into a mailbox and files by button, by key and by dragging, drops
// files of mail on the page, and takes it back.
func TestMailByHandInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Open(o.service.address() + "/")
	signInAtTheDoor(b, o)
	// a person's own folder, which stays
	if err := os.MkdirAll(filepath.Join(o.folder, "files", "Sorted by hand"), 0o755); err != nil {
		t.Fatal(err)
	}
	b.Press("Mail")
	choose(b, "Mailbox", "gauges")
	b.Sees("messages in INBOX")
	barriers := barriersIn(t, b, source, "light")
	barriers("the mailbox")

	// By key, from the first message with attachments.
	b.Type("Words in subject, sender or names of attachments", "readings stations")
	rows := `[...document.querySelectorAll('[aria-label=Messages] > li')]`
	b.Until("only such messages are shown", rows+`.length > 1 && `+rows+`.every(r => /stations/i.test(r.innerText))`)
	b.Run(rows+`[0].focus()`, nil)
	b.Key("f")
	b.Sees("Choose a folder below, or type one")
	barriers("the sheet")
	b.Type("Folder", "Sorted by hand/2026")
	b.Press("File")
	b.Sees("1 file is filed in “harbour files”, Sorted by hand/2026")
	files := func(folder string) int {
		found, _ := filepath.Glob(filepath.Join(o.folder, "files", filepath.FromSlash(folder), "*"))
		return len(found)
	}
	if n := files("Sorted by hand/2026"); n != 1 {
		t.Errorf("%d files are there", n)
	}
	b.Press("Take it back…")
	b.Sees("1 file is taken out of the cabinet")
	b.Press("Take back")
	until(t, "it is taken back", func() bool { return files("Sorted by hand/2026") == 0 })

	// By dragging one attachment onto a folder of the tree.
	b.Sees("Drag messages or attachments onto a folder")
	b.Size(1400, 900)
	b.Until("the tree is there", `document.querySelector('aside [role=treeitem][aria-label="Sorted by hand"]')`)
	b.Run(`(() => { const d = new DataTransfer(); const chip = `+rows+
		`[1].querySelector('button[draggable]'); const to = document.querySelector('aside [role=treeitem][aria-label="Sorted by hand"] > div');
for (const [e, kind] of [[chip, 'dragstart'], [to, 'dragover'], [to, 'drop']]) e.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: d})) })()`, nil)
	b.Sees("1 file is filed in “harbour files”, Sorted by hand.")

	// By button, several at once; then a label and a move.
	b.Run(rows+`.slice(0, 2).forEach(r => r.querySelector('input').click())`, nil)
	b.Sees("2 messages chosen")
	barriers("chosen messages")
	b.Press("Label or move…")
	b.Type("Put a label on", "For the audit")
	b.Type("Move to the mail folder", "Audit")
	barriers("the sheet for labels")
	b.Press("Do it")
	b.Sees("moved to “Audit”")
	until(t, "both are moved", func() bool {
		x := value[client.LookedInto](t, "messages", "look", "gauges", "--folder", "Audit")
		return len(x.Messages) == 2 && strings.Contains(strings.ToLower(fmt.Sprint(x.Messages[0].Flags)), "for_the_audit")
	})

	// Files of mail, dropped on the page.
	letter, _ := json.Marshal(letterWith("dropped on the page", "dropped.csv", "9"))
	b.Run(`(() => { const d = new DataTransfer(); d.items.add(new File([`+string(letter)+
		`], 'letter.eml')); d.items.add(new File(['no mail'], 'notes.txt')); const to = [...document.querySelectorAll('button')].find(e => e.innerText.includes('Import mail files')).parentElement;
for (const kind of ['dragover', 'drop']) to.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: d})) })()`, nil)
	b.Sees("1 message imported")
	b.Sees("notes.txt: this is not a message")
	b.Type("Words in subject, sender or names of attachments", "")
	choose(b, "Mailbox", demo.FilesName)
	b.Sees("dropped on the page")

	// From a message: by hand, and a rule.
	b.Press("dropped on the page")
	b.Press("File by hand…")
	b.Type("Folder", "Dropped")
	b.Press("File")
	b.Sees("1 file is filed")
	if data, err := os.ReadFile(filepath.Join(o.folder, "files", "Dropped", "dropped.csv")); err != nil ||
		string(data) != "9" {
		t.Errorf("filed as %q, %v", data, err)
	}
	b.Press("Make a rule from this")
	b.Sees("A new rule")
	b.Sees("from the correspondent Tidewatch Instruments")
	b.Press("History")
	b.Sees("by hand")
}

// Mailboxes of every kind are set up in the console.
func TestMailboxesOfEveryKindInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, empty)
	o.first()
	b := testbed.StartBrowser(t, 1280, 800)
	b.Open(o.service.address() + "/")
	b.Type("Name", demoPerson)
	b.Type("Password", demo.Password)
	b.Press("Sign in")
	b.Sees("Four steps")
	add := func(kind, name string) {
		t.Helper()
		b.Open(o.service.address() + "/settings?add=mailbox")
		choose(b, "What it is", kind)
		b.Type("Name", name)
		for _, v := range b.Axe(source) {
			t.Errorf("%s: %+v", kind, v)
		}
	}
	add("a drop address", "to the gauges")
	b.Type("Word to begin with", "No Word!")
	b.Press("Add")
	b.Sees("letters a to z, digits and hyphens")
	b.Type("Word to begin with", "gauges")
	b.Type("Who may send to it", "tidewatch.example")
	b.Press("Add")
	b.Sees("receives mail at gauges-")
	b.Press("Address")
	b.Sees("Only tidewatch.example may send to it, if the sender is verified.")
	for _, v := range b.Axe(source) {
		t.Errorf("a drop address: %+v", v)
	}
	b.Press("Close address")
	b.Sees("a drop address that is closed")
	b.Press("Address")
	b.Press("Open")
	b.Sees("receives mail at gauges-")

	add("a mail folder", "on disk")
	b.Type("Folder", filepath.Join(o.folder, "none"))
	b.Press("Check")
	b.Sees("Check whether the folder exists")

	add("mail from files", "dropped")
	b.Press("Add")
	b.Sees("mail from files")

	// An account is read over JMAP, and then over IMAP.
	cyrus := testbed.StartCyrus(t, "ann")
	cyrus.Client("ann")
	add("an account on a mail server (JMAP)", "stations")
	b.Type("Sign in as", "ann")
	b.Type("Mail server", cyrus.Host)
	b.Type("Port", itoa(int64(cyrus.HTTP)))
	choose(b, "Encryption", "none")
	b.Type("Password", "pw")
	b.Press("Check")
	b.Sees("the inbox can be opened")
	b.Press("Add")
	b.Sees("JMAP, not encrypted")
	b.Until("the sheet is closed", `!document.querySelector('[role=dialog]')`)
	b.Run(`[...[...document.querySelectorAll('section > div')].find(e => e.innerText.startsWith('stations ann')).`+
		`querySelectorAll('button')].find(e => e.innerText === 'Change').click()`, nil)
	b.Sees("nothing is filed twice")
	choose(b, "How it is read", "over IMAP")
	b.Type("Port", itoa(int64(cyrus.IMAP)))
	for _, v := range b.Axe(source) {
		t.Errorf("the other protocol: %+v", v)
	}
	b.Sees("The server or the way to it changed")
	b.Type("Password", "pw")
	b.Press("Save")
	b.Sees(itoa(int64(cyrus.IMAP)) + ", not encrypted")

	add("an account on a mail server (IMAP)", demo.ByConsent)
	user := demo.ByConsent + "@brackwater.example"
	b.Type("Sign in as", user)
	b.Type("Mail server", "127.0.0.1")
	b.Type("Port", itoa(int64(o.mail.Port())))
	choose(b, "Encryption", "none")
	choose(b, "How to sign in", "in the browser")
	b.Type("Sign-in server", o.authority.Issuer())
	b.Type("Name of Ink Tray there", demo.ClientID)
	for _, v := range b.Axe(source) {
		t.Errorf("consent: %+v", v)
	}
	b.Press("Add")
	b.Sees("nobody has signed in to this mailbox yet")
	b.Press("Tray")
	b.Sees("Ink Tray may not read the mailbox “" + demo.ByConsent + "”")
	b.Press("Sign in again")
	b.Sees("asks to read a mailbox")
	b.Type("Mailbox", user)
	b.Press("Allow")
	b.Sees("Ink Tray can read the mailbox “" + demo.ByConsent + "” now")
	b.Press("Back to Ink Tray")
	until(t, "it is watched", func() bool {
		for _, m := range value[[]client.Mailbox](t, "mailboxes", "list") {
			if m.Name == demo.ByConsent && m.State == "watched live" {
				return true
			}
		}
		return false
	})
}

// A mailbox is handed over in the console, and taken over again.
func TestAMailboxIsHandedOverInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Open(o.service.address() + "/")
	signInAtTheDoor(b, o)
	b.Open(o.service.address() + "/settings")
	b.Sees("Import from another Ink Tray…")
	press := func(button string) {
		t.Helper()
		b.Until("there is "+button,
			`document.querySelector('[role=dialog]') && [...document.querySelectorAll('[role=dialog] button')].find(e => e.innerText === '`+button+`')`)
		b.Run(`[...document.querySelectorAll('[role=dialog] button')].find(e => e.innerText === '`+button+`').click()`, nil)
	}
	row := `[...document.querySelectorAll('section > div')].find(e => e.innerText.startsWith('gauges gauges@'))`
	b.Until("the mailbox is listed", row)
	b.Run(`[...`+row+`.querySelectorAll('button')].find(e => e.innerText === 'Move to another Ink Tray…').click()`, nil)
	b.Sees("Nothing is filed twice")
	for _, v := range b.Axe(source) {
		t.Errorf("handing over: %+v", v)
	}
	press("Move mailbox")
	b.Until("the mailbox is gone", `!(`+row+`)`)
	files, _ := filepath.Glob(filepath.Join(o.folder, "records", "handed-over", "*.mailbox"))
	if len(files) != 1 {
		t.Fatalf("kept here: %v", files)
	}
	data, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	b.Press("Import from another Ink Tray…")
	b.Sees("Next you enter the password of the mailbox")
	for _, v := range b.Axe(source) {
		t.Errorf("taking over: %+v", v)
	}
	give := func(content []byte) {
		t.Helper()
		text, _ := json.Marshal(content) // base64
		b.Run(`(() => { const bytes = Uint8Array.from(atob(`+string(text)+
			`), c => c.charCodeAt(0)); const d = new DataTransfer(); d.items.add(new File([bytes], 'gauges.mailbox')); const i = document.querySelector('[aria-label="File of the mailbox"]'); i.files = d.files; i.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil)
	}
	give([]byte("no mailbox"))
	b.Sees("is not the file of a mailbox that was handed over")
	give(data)
	b.Sees("Change")
	b.Until("its password is asked for", `document.querySelector('[role=dialog] input[type=password]')`)
	b.Run(`(() => { const e = document.querySelector('[role=dialog] input[type=password]'); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, '`+demo.Password+`'); e.dispatchEvent(new Event('input', {bubbles: true})) })()`, nil)
	press("Save")
	until(t, "it is watched again", func() bool {
		for _, m := range value[[]client.Mailbox](t, "mailboxes", "list") {
			if m.Name == "gauges" && m.State == "watched live" {
				return true
			}
		}
		return false
	})
}
