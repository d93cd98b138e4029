package cli

import (
	"strings"
	"testing"

	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
)

// An administrator lets a colleague in who may see one mailbox; the colleague chooses a password by the link, makes a
// token and ends it; then the administrator locks her out, and finds all of it in the trail.
func TestSomebodyIsLetInAndLockedOutInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Press("People")
	b.Sees("Invite a person")
	b.Press("Invite a person")
	b.Type("Name", "Rowan Tidd")
	choose(b, "Role", "clerk: also works with the tray, and files by hand")
	tick(b, "Sees these mailboxes", "all, also those that are added later")
	tick(b, "Sees these mailboxes", "berths")
	barriers("inviting somebody")
	b.Press("Invite")
	b.Sees("A link for Rowan Tidd")
	barriers("a link")
	var link string
	b.Run(`document.querySelector('[role=dialog] .font-mono').innerText`, &link)
	if !strings.HasPrefix(link, o.service.address()+"/join#") {
		t.Fatalf("the link is %q", link)
	}
	b.Press("Done")
	b.Sees("mailboxes: berths; cabinets: all")
	b.Press("Add a group")
	b.Type("Name", "Berth office")
	tick(b, "People in it", "Rowan Tidd")
	b.Press("Save")
	b.Sees("mailboxes: none; cabinets: none")
	b.Sees("invite person")
	barriers("people")
	b.Scheme("light")
	picture(t, b, "people")

	b.Open("about:blank")
	b.Open(link)
	b.Sees("Welcome, Rowan Tidd")
	barriers("choosing a password")
	b.Type("Password", "short")
	b.Sees("At least ten characters, please.")
	b.Type("Password", "cold tide at dusk")
	b.Press("Sign in")
	b.Sees("filed today")
	if text := b.Text(); strings.Contains(text, "safety") || strings.Contains(text, "\nPeople\n") {
		t.Errorf("a clerk with one mailbox sees: %s", text)
	}
	b.Press("Rowan Tidd")
	b.Sees("Your sessions and tokens")
	b.Press("Make a token")
	b.Type("What it is for", "the tide board")
	choose(b, "It is good for", "the register only")
	b.Press("Make it")
	b.Sees("It is not shown again")
	barriers("a token")
	b.Press("Done")
	b.Sees("for the register only")
	barriers("your own page")
	b.Press("End token the tide board")
	b.Press("End it")
	b.Until("the token is gone", `!document.body.innerText.includes('the tide board')`)
	b.Type("Present password", "cold tide at dawn")
	b.Type("New password", "warm tide at dusk")
	b.Press("Change it")
	b.Sees("This is not your present password")
	b.Type("Present password", "cold tide at dusk")
	b.Press("Change it")
	b.Sees("Your password is changed.")
	b.Open("about:blank")
	b.Open(link) // which was used
	b.Sees("This link does not work")
	barriers("a link that was used")

	b.Open(o.service.address() + "/")
	b.Press("Sign out")
	b.Type("Name", demoPerson)
	b.Type("Password", demo.Password)
	b.Press("Sign in")
	b.Press("People")
	b.Sees("Rowan Tidd")
	b.Until("there is a button", `document.querySelector('[aria-label="Change Rowan Tidd"]') !== null`)
	var pressed bool
	b.Run(`(() => { const row = document.querySelector('[aria-label="Change Rowan Tidd"]').parentElement;
		[...row.querySelectorAll('button')].find((x) => x.innerText === 'Lock').click(); return true })()`, &pressed)
	b.Sees("Let in again")
	b.Type("Search", "lock person")
	b.Until("only what is looked for is listed", `document.querySelectorAll('tbody tr').length === 1`)
	b.Sees("locked: yes")
	b.Press("Remove Rowan Tidd")
	b.Sees("programs that use these tokens stop working")
	barriers("removing somebody")
	b.Press("Keep it")
	b.Press("Remove Rowan Tidd")
	b.Press("Remove it")
	b.Until("she is gone", `document.querySelector('[aria-label="Change Rowan Tidd"]') === null`)
}

// tick ticks a box under a legend.
func tick(b *testbed.Browser, legend, label string) {
	var done bool
	b.Until("there is "+label, `[...document.querySelectorAll('fieldset')].some((f) => f.innerText.includes('`+legend+
		`') && [...f.querySelectorAll('label')].some((l) => l.innerText.trim() === '`+label+`'))`)
	b.Run(`(() => { const f = [...document.querySelectorAll('fieldset')].find((f) => f.innerText.includes('`+legend+`'));
		[...f.querySelectorAll('label')].find((l) => l.innerText.trim() === '`+label+`').querySelector('input').click();
		return true })()`, &done)
}
