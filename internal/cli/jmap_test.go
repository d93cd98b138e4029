package cli

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// sendersWay writes a message as one of several programs does: with long or short lines of base64, without a
// Message-ID, with another message in it, or with letters in its file's name that are not ASCII.
func sendersWay(n int) (raw []byte, name string) {
	content := base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "gauge readings %d %s", n, strings.Repeat("x", n)))
	width, id := 60+n%17, fmt.Sprintf("Message-ID: <switch-%d@tidewatch.example>\r\n", n)
	name = fmt.Sprintf("readings %d.dat", n)
	field := "attachment; filename=\"" + name + "\""
	switch n % 5 {
	case 1:
		id = ""
	case 2:
		name = fmt.Sprintf("Pegelstände %d.dat", n)
		field = fmt.Sprintf("attachment; filename*=utf-8''Pegelst%%C3%%A4nde%%20%d.dat", n)
	}
	var lines strings.Builder
	for i := 0; i < len(content); i += width {
		lines.WriteString(content[i:min(i+width, len(content))] + "\r\n")
	}
	part := "Content-Type: application/octet-stream\r\nContent-Disposition: " + field +
		"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + lines.String()
	if n%5 == 3 {
		part = "Content-Type: message/rfc822\r\n\r\nFrom: Keld <keld@marram.example>\r\nSubject: as sent\r\nContent-Type: " +
			"multipart/mixed; boundary=in\r\n\r\n--in\r\n" + part + "--in--\r\n"
	}
	return fmt.Appendf(nil, "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: ann@brackwater.example\r\nDate: Tue, 12 "+
		"May 2026 06:02:00 +0000\r\n%sSubject: readings %d\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n"+
		"Content-Type: text/plain\r\n\r\nSee the file.\r\n--b\r\n%s\r\n--b--\r\n", id, n, part), name
}

// An account of a hundred folders is read over IMAP, then over JMAP, then over IMAP again. Each attachment is filed
// once, whichever way its message was written and whenever it came.
func TestAnAccountSwitchesItsProtocol(t *testing.T) {
	const folders = 40
	c := testbed.StartCyrus(t, "ann")
	outside := c.Client("ann")
	box := func(i int) string {
		if i == 0 {
			return "INBOX"
		}
		return fmt.Sprintf("Station %d", i)
	}
	for i := 1; i < folders; i++ {
		if err := outside.Create(box(i), nil).Wait(); err != nil {
			t.Fatal(err)
		}
	}
	sent := 0
	put := func(from, to, step int, received time.Time) {
		t.Helper()
		for i := from; i < to; i += step {
			raw, _ := sendersWay(sent)
			sent++
			testbed.Append(t, outside, box(i), raw, received)
		}
	}
	put(0, folders, 10, time.Now().Add(-time.Hour)) // which were there before
	o := openOffice(t, empty)
	o.first()
	if _, err := call[client.Cabinet](o.api.AddCabinet(t.Context(),
		client.CabinetSettings{Name: "files", Folder: filepath.Join(o.folder, "files")})); err != nil {
		t.Fatal(err)
	}
	secret := written(t, "pw")
	must(t, "mailboxes", "add", "stations", "--host", c.Host, "--port", strconv.Itoa(c.IMAP), "--encryption", "none",
		"--user", "ann", "--secret-file", secret, "--interval", "1")
	rules := written(t, `format: 1
rules:
  - id: all
    name: Everything
    cabinet: files
    look: {mailboxes: stations, folders: all}
    match: every message
    attachments: [{take: everything, folder: In}]
`)
	must(t, "rules", "save", rules)
	must(t, "rules", "on", "all", "--begin", "now")
	before := sent
	filed := func(when string) {
		t.Helper()
		until(t, when+": all is filed", func() bool { return len(o.files()) >= sent-before })
		o.settled()
		for looks, last := 0, time.Now(); looks < 2; { // what would be filed twice is filed by then
			until(t, when+": it is looked into again", func() bool {
				at := value[[]client.Mailbox](t, "mailboxes", "list")[0].LookedAt
				again := at != nil && at.After(last)
				if again {
					last = *at
				}
				return again
			})
			looks++
		}
		all := o.files()
		if len(all) != sent-before {
			t.Fatalf("%s: %d files of %d: %v", when, len(all), sent-before, all)
		}
		have := map[string]bool{}
		for _, f := range all {
			have[f] = true
		}
		for n := before; n < sent; n++ {
			_, name := sendersWay(n)
			data, err := os.ReadFile(filepath.Join(o.folder, "files", "In", name))
			if want := fmt.Sprintf("gauge readings %d %s", n, strings.Repeat("x", n)); err != nil || string(data) != want {
				t.Errorf("%s: %s: %v, %q", when, name, err, data)
			}
		}
	}
	until(t, "the mailbox is watched", func() bool {
		return strings.Contains(must(t, "mailboxes", "list"), "live")
	})
	put(0, folders, 1, time.Now())
	filed("over IMAP")
	for n, way := range []struct {
		kind string
		port int
	}{{"jmap", c.HTTP}, {"imap", c.IMAP}, {"jmap", c.HTTP}} {
		must(t, "mailboxes", "change", "stations", "--kind", way.kind, "--port", strconv.Itoa(way.port),
			"--secret-file", secret)
		put(n, folders, 7, time.Now())
		filed(fmt.Sprintf("change %d, to %s", n+1, way.kind))
		put(n, folders, 9, time.Now())
		filed(fmt.Sprintf("after change %d, to %s", n+1, way.kind))
	}
	says(t, "the check", must(t, "mailboxes", "check", "stations"), "signed in as ann",
		"checks the mailbox at the interval")
	says(t, "to another kind", fails(t, "mailboxes", "change", "stations", "--kind", "pop3", "--secret-file", secret),
		"only IMAP and JMAP can take each other's place")
}

// Without a mail server of its own, an office replies through the mailbox to which the message came, and sends the
// rest through a mailbox that it chooses.
func TestMailIsSentThroughAMailbox(t *testing.T) {
	c := testbed.StartCyrus(t, "ann")
	sent := takeMails(t, c.SMTP)
	outside := c.Client("ann")
	o := openOffice(t, empty)
	o.first()
	must(t, "cabinets", "add", "files", "--folder", filepath.Join(o.folder, "files"))
	must(t, "mailboxes", "add", "office", "--kind", "jmap", "--host", c.Host, "--port", strconv.Itoa(c.HTTP),
		"--encryption", "none", "--user", "ann", "--secret-file", written(t, "pw"), "--interval", "1")
	rules := written(t, `format: 1
rules:
  - id: all
    name: Everything
    cabinet: files
    look: {mailboxes: office}
    match: every message
    attachments: [{take: everything, folder: In}]
    afterwards: [{reply: {subject: Received, text: Thank you.}}]
`)
	says(t, "nobody knows from which address", fails(t, "rules", "save", rules), "cannot send mail yet")
	must(t, "outgoing", "set", "--from", "ann@localhost")
	must(t, "rules", "save", rules)
	must(t, "rules", "on", "all", "--begin", "now")
	must(t, "trust", "set", "--replies=false") // this mail is neither signed nor reported on
	raw, _ := sendersWay(1)
	testbed.Append(t, outside, "INBOX", raw, time.Now())
	count := func(subject string) int {
		sent.mutex.Lock()
		defer sent.mutex.Unlock()
		return sent.by[subject]
	}
	until(t, "the reply is sent", func() bool { return count("Received") == 1 })
	// What goes to colleagues needs a way, too.
	must(t, "addressees", "add", "Desk", "--mail", "desk@brackwater.example")
	if said := fails(t, "addressees", "trial", "Desk"); !strings.Contains(said, "outgoing mail is not set up") {
		t.Errorf("without a way: %s", said)
	}
	if said := fails(t, "outgoing", "set", "--mailbox", "Office 2"); !strings.Contains(said,
		"no mailbox called “Office 2”") {
		t.Errorf("a mailbox that is not there: %s", said)
	}
	must(t, "outgoing", "set", "--mailbox", "office")
	must(t, "outgoing", "check")
	must(t, "addressees", "trial", "Desk")
	if n := count("A trial from Ink Tray"); n != 1 {
		t.Errorf("%d trials were sent", n)
	}
	if now := value[client.Outgoing](t, "outgoing", "show"); now.Mailbox != "office" || now.Host != "" {
		t.Errorf("%+v", now)
	}
	// A mail server takes its place.
	must(t, "outgoing", "set", "--host", "smtp.brackwater.example")
	if now := value[client.Outgoing](t, "outgoing", "show"); now.Mailbox != "" || now.Host != "smtp.brackwater.example" {
		t.Errorf("%+v", now)
	}
	if n := count("Received"); n != 1 {
		t.Errorf("%d replies were sent", n)
	}
}
