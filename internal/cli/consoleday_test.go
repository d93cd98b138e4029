package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// The same day by the console alone, but for what needs the machine itself: the service's start, and putting the backup
// back.
func TestTheFirstDayOfAnAdministratorInTheConsole(t *testing.T) {
	d := testbed.StartDovecot(t)
	certificate, key := signed(t)
	o := openOffice(t, empty, func(s *serviceOptions) { s.certificate, s.key = certificate, key })
	t.Setenv("INKTRAY_AUTHORITY", certificate)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Trust()
	b.Scheme("light")
	at := o.service.address()
	b.Open(at + "/set-up#" + setupCode(t, o))
	b.Type("Your name", "Ines Halloway")
	b.Type("Choose a password", "cold tide at dusk")
	b.Press("Begin")
	b.Sees("Four steps")
	for i, name := range []string{"gauges", "berths"} {
		if i == 0 {
			b.Press("Add a mailbox") // the guide's first step
		} else {
			section(b, "Mailboxes")
			b.Press("Add a mailbox")
		}
		b.Type("Name", name)
		b.Type("Mail server", d.Host)
		b.Type("Port", fmt.Sprint(d.IMAP))
		choose(b, "Encryption", "none: the password can be read on the way")
		b.Type("Sign in as", name)
		b.Type("Password", "pw")
		b.Press("Add")
		b.Until("the mailbox is watched", `document.body.innerText.split('watched live').length === `+fmt.Sprint(i+2))
	}
	files := filepath.Join(t.TempDir(), "files")
	b.Press("Today")
	b.Press("Choose a cabinet")
	b.Type("Name", "harbour files")
	b.Type("Folder", files)
	b.Press("Add")
	b.Sees("in order")
	b.Press("Today")
	b.Press("Make a rule")
	b.Type("Name of the rule", "Readings")
	b.Press("from: choose a sender")
	b.Type("Another domain", "tidewatch.example")
	b.Press("Add")
	b.Leave()
	b.Press("berths") // in which mailboxes
	b.Run(`[...document.querySelectorAll('label')].find((l) => l.innerText.trim() === 'all mailboxes').click()`, nil)
	b.Leave()
	b.Run(`[...document.querySelectorAll('button.blank')].find((x) => x.innerText.includes('PDF')).click()`, nil)
	b.Press("every attachment instead")
	b.Sees("every attachment")
	b.Press("Save")
	b.Sees("Off. Nothing is filed until you switch it on.")
	b.Press("Switch on…")
	b.Press("Switch on")
	b.Sees("On. 0 files filed so far.")
	want := map[string]int{}
	readings(t, d, "gauges", 3, want)
	readings(t, d, "berths", 2, want)
	lines := func(n int) { // of the register, as whoever is signed in sees them
		t.Helper()
		b.Press("Register")
		b.Sees(fmt.Sprintf("%d filings,", n))
	}
	lines(10)

	// A clerk and a reader choose their passwords by their links.
	leave := func() {
		b.Press("Sign out")
		b.Sees("Attachments, filed by rule.")
	}
	enter := func(name, password string) {
		b.Type("Name", name)
		b.Type("Password", password)
		b.Press("Sign in")
		b.Sees("filed today")
	}
	invite := func(name, mail, role, mailbox string) (link string) {
		b.Press("People")
		b.Press("Invite a person")
		b.Type("Name", name)
		b.Type("Mail address", mail)
		choose(b, "Role", role)
		tick(b, "Sees these mailboxes", "all, also those that are added later")
		tick(b, "Sees these mailboxes", mailbox)
		b.Press("Invite")
		b.Sees("A link for " + name)
		b.Run(`document.querySelector('[role=dialog] .font-mono').innerText`, &link)
		b.Press("Done")
		return link
	}
	clerk := invite("Rowan Tidd", "rowan@brackwater.example", "clerk", "berths")
	reader := invite("Oda Fenwick", "oda@brackwater.example", "reader", "gauges")
	b.Press("Change how people sign in")
	b.Type("Its address", o.authority.Issuer())
	b.Type("Name of Ink Tray there", "inktray")
	b.Type("Name that people see", "Brackwater")
	b.Type("Roles, one per line", "berth desk = clerk")
	b.Press("Save")
	b.Sees("People sign in with Brackwater")
	leave()
	b.Open(clerk)
	b.Type("Password", "warm quay at noon")
	b.Press("Sign in")
	b.Sees("filed today")
	lines(4)
	leave()
	b.Open("about:blank")
	b.Open(reader)
	b.Type("Password", "grey gull at dawn")
	b.Press("Sign in")
	b.Sees("filed today")
	lines(6)
	leave()
	b.Press("Sign in with Brackwater")
	b.Sees("You are about to sign in to")
	b.Run(`document.querySelector('[name=user]').value = 'rowan@brackwater.example'`, nil)
	b.Press("Allow")
	b.Sees("Rowan Tidd")
	lines(4)
	leave()

	// A backup; then mail that it does not have; then the folder of the records is gone.
	enter("Ines Halloway", "cold tide at dusk")
	safe := filepath.Join(t.TempDir(), "safe")
	section(b, "Service")
	b.Press("Set up backups")
	b.Type("Folder", safe)
	b.Type("Passphrase", "seven gulls on a cold mole")
	b.Press("Begin")
	b.Sees("It was read back to its end.")
	readings(t, d, "gauges", 5, want) // the first three are the same messages again, which are not filed twice
	lines(14)
	address := o.service.listener.Addr().String()
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(o.options.data); err != nil {
		t.Fatal(err)
	}
	kept, err := filepath.Glob(filepath.Join(safe, "*.age"))
	if err != nil || len(kept) != 1 {
		t.Fatalf("kept are %v, %v", kept, err)
	}
	must(t, "restore", kept[0], "--data", o.options.data, "--passphrase-file",
		write(t, "phrase", "seven gulls on a cold mole"), "--yes")
	o.options.listen = address
	if o.service, err = start(o.options); err != nil {
		t.Fatal(err)
	}
	b.Open(at + "/settings/service")
	b.Sees("The records are those of the backup of")
	b.Sees("Ink Tray compared them with the mailboxes and cabinets.")
	lines(14)
	there := 0
	err = filepath.WalkDir(files, func(name string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() && !strings.Contains(name, ".inktray") {
			there++
		}
		return err
	})
	if err != nil || there != 14 {
		t.Errorf("in the cabinet are %d files, want 14; %v", there, err)
	}
	readings(t, d, "gauges", 6, want) // the last one is new
	lines(16)
	leave()
	enter("Rowan Tidd", "warm quay at noon")
	lines(4)
}
