package cli

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// letterWith is a message with one attachment.
func letterWith(subject, name, content string) string {
	return "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: post@brackwater.example\r\nSubject: " + subject +
		"\r\nDate: Tue, 12 May 2026 06:00:00 +0000\r\nMessage-ID: <" + strings.ReplaceAll(subject, " ", "-") +
		"@tidewatch.example>\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSee " +
		"below.\r\n--b\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename=\"" + name + "\"\r\n\r\n" +
		content + "\r\n--b--\r\n"
}

// everything lets one rule file whatever comes anywhere into a folder.
func (o *office) everything(folder string) {
	o.t.Helper()
	if _, err := call[client.Cabinet](o.api.AddCabinet(o.t.Context(),
		client.CabinetSettings{Name: "files", Folder: filepath.Join(o.folder, "files")})); err != nil {
		o.t.Fatal(err)
	}
	document := `{"id":"all","name":"Everything","cabinet":"files","look":{"mailboxes":"all"},"match":"every message","attachments":[{"take":"everything","folder":"` + folder + `"}]}`
	if _, err := call[client.Rule](o.api.AddRule(o.t.Context(), []byte(document))); err != nil {
		o.t.Fatal(err)
	}
	if _, err := call[client.Rule](o.api.SwitchRuleOn(o.t.Context(), "all", client.SwitchOnRequest{})); err != nil {
		o.t.Fatal(err)
	}
}

// first makes the first administrator of an empty office.
func (o *office) first() {
	o.t.Helper()
	p := store.Person{ID: store.NewID(), Name: demoPerson, Password: api.HashPassword(demo.Password),
		Role: store.Administrator, MadeAt: time.Now()}
	if err := o.service.store.People.Add(o.t.Context(), p, "test"); err != nil {
		o.t.Fatal(err)
	}
	o.signIn()
}

// filed waits until a file is there.
func (o *office) filed(name string) string {
	o.t.Helper()
	var data []byte
	until(o.t, name+" is filed", func() (ok bool) {
		var err error
		data, err = os.ReadFile(filepath.Join(o.folder, "files", filepath.FromSlash(name)))
		return err == nil
	})
	return string(data)
}

// send hands a message over as other mail servers do.
func send(address, from, to, raw string) error {
	c, err := smtp.Dial(address)
	if err != nil {
		return err
	}
	defer c.Close()
	return c.SendMail(from, []string{to}, strings.NewReader(raw))
}

func TestADropAddressFilesWhatIsSentToIt(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	o.everything("In/<mailbox>")
	out := must(t, "mailboxes", "add", "to the gauges", "--kind", "drop", "--word", "gauges")
	address := regexp.MustCompile(`gauges-([a-z2-7]{13})@drop\.brackwater\.example`).FindString(out)
	if address == "" {
		t.Fatalf("no address with 65 random bits in:\n%s", out)
	}
	says(t, "the list", must(t, "mailboxes", "list"), address, "drop")
	if got := strings.TrimSpace(must(t, "mailboxes", "address", "to the gauges")); got != address {
		t.Errorf("the address is %q", got)
	}
	if err := send(o.service.api.SMTP, "oda@tidewatch.example", address,
		letterWith("reading one", "one.csv", "1;2")); err != nil {
		t.Fatal(err)
	}
	if got := o.filed("In/to the gauges/one.csv"); got != "1;2" {
		t.Errorf("filed as %q", got)
	}
	o.settled()
	says(t, "the register", must(t, "register", "list"), "one.csv", "Oda Fenwick")
	says(t, "the check", must(t, "mailboxes", "check", "to the gauges"), "one folder can be read",
		"Ink Tray sees new files immediately")

	// Renewed and closed: the former address takes nothing any more.
	out = must(t, "mailboxes", "address", "to the gauges", "renew", "--word", "tides")
	renewed := regexp.MustCompile(`tides-[a-z2-7]{13}@drop\.brackwater\.example`).FindString(out)
	says(t, "renewing", out, "no longer receives mail")
	if err := send(o.service.api.SMTP, "oda@tidewatch.example", address,
		letterWith("reading two", "two.csv", "3")); err == nil {
		t.Error("the former address takes mail")
	}
	if err := send(o.service.api.SMTP, "oda@tidewatch.example", strings.ToUpper(renewed),
		letterWith("reading three", "three.csv", "3")); err != nil {
		t.Error(err)
	}
	o.filed("In/to the gauges/three.csv")
	says(t, "closing", must(t, "mailboxes", "address", "to the gauges", "close"), "takes no mail", "What came stays")
	if err := send(o.service.api.SMTP, "oda@tidewatch.example", renewed,
		letterWith("reading four", "four.csv", "3")); err == nil {
		t.Error("a closed address takes mail")
	}
	says(t, "opening", must(t, "mailboxes", "address", "to the gauges", "renew"), "tides-")

	// Only those who are listed and proven may send.
	must(t, "mailboxes", "change", "to the gauges", "--sender", "@Tidewatch.example,keld@marram.example")
	m := value[[]client.Mailbox](t, "mailboxes", "list")[0]
	if m.Senders == nil || !slices.Equal(*m.Senders, []string{"tidewatch.example", "keld@marram.example"}) {
		t.Errorf("senders %v", m.Senders)
	}
	var refused *smtp.SMTPError
	if err := send(o.service.api.SMTP, "x@evil.example", *m.Address,
		letterWith("forged", "forged.csv", "3")); !errors.As(err, &refused) || refused.Code/100 == 2 {
		t.Errorf("an unproven sender: %v", err)
	}
	for name, args := range map[string][]string{
		"letters a to z":          {"mailboxes", "add", "x", "--kind", "drop", "--word", "Häfen & Co"},
		"neither an address nor":  {"mailboxes", "add", "x", "--kind", "drop", "--sender", "nobody at all"},
		"by its whole path":       {"mailboxes", "add", "x", "--kind", "maildir", "--path", "Maildir"},
		"is not a drop address":   {"mailboxes", "address", "files here", "renew"},
		"such as mail.brackwater": {"mailboxes", "add", "x", "--user", "x", "--secret-file", written(t, "pw")},
		"64 hexadecimal digits": {"mailboxes", "add", "x", "--host", "h", "--user", "x", "--secret-file",
			written(t, "pw"), "--pinned", "ab:cd"},
		"encryption that begins later": {"mailboxes", "add", "x", "--host", "h", "--user", "x", "--kind", "jmap",
			"--encryption", "starttls", "--secret-file", written(t, "pw")},
		"socks5://host:port": {"mailboxes", "add", "x", "--host", "h", "--user", "x", "--secret-file",
			written(t, "pw"), "--proxy", "proxy.example"},
		"certificate of the authority": {"mailboxes", "add", "x", "--host", "h", "--user", "x", "--secret-file",
			written(t, "pw"), "--authority-file", written(t, "no certificate")},
	} {
		if name == "is not a drop address" {
			must(t, "mailboxes", "add", "files here", "--kind", "files")
		}
		says(t, strings.Join(args, " "), fails(t, args...), name)
	}
	must(t, "mailboxes", "remove", "to the gauges", "--yes")
	if left, err := os.ReadDir(filepath.Join(o.folder, "records", "mail")); err != nil || len(left) != 1 {
		t.Errorf("of the removed mailbox there is left: %v, %v", left, err)
	}
}

// written makes a file for a command and gives its name.
func written(t *testing.T, content string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(name, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

func TestMailOnDiskIsWatchedAndTakenIn(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	o.everything("In/<mailbox>")
	folder := filepath.Join(o.folder, "Maildir")
	if err := mailfile.Prepare(folder); err != nil {
		t.Fatal(err)
	}
	must(t, "mailboxes", "add", "pilots", "--kind", "maildir", "--path", folder)
	until(t, "it is watched", func() bool { return strings.Contains(must(t, "mailboxes", "list"), "watched live") })
	if err := os.WriteFile(filepath.Join(folder, "tmp", "1.a"), []byte(letterWith("pilot one", "pilot.csv", "7")),
		0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(folder, "tmp", "1.a"), filepath.Join(folder, "new", "1.a")); err != nil {
		t.Fatal(err)
	}
	if got := o.filed("In/pilots/pilot.csv"); got != "7" {
		t.Errorf("filed as %q", got)
	}
	if _, err := os.Stat(filepath.Join(folder, "new", "1.a")); err != nil {
		t.Errorf("reading changed the Maildir: %v", err)
	}

	// From where the time of receipt is known is said where no mail server recorded it.
	var page client.RegisterPage // the file has its name a moment before
	until(t, "it is in the register", func() bool {
		page = value[client.RegisterPage](t, "register", "list", "pilot")
		return len(page.Filings) == 1
	})
	line := page.Filings[0]
	says(t, "the time of the file", must(t, "register", "show", line.Entry), "(as the time of its file says)")
	says(t, "the time of the file", must(t, "messages", "why", fmt.Sprint(line.Message)), "(as the time of its file says)")

	// Mail from files: each message once.
	says(t, "without a mailbox of files", fails(t, "messages", "take-in", written(t, letterWith("x", "x.csv", "1"))),
		"--kind files")
	must(t, "mailboxes", "add", "mail from files", "--kind", "files")
	until(t, "it is watched", func() bool { return strings.Count(must(t, "mailboxes", "list"), "watched live") == 2 })
	eml := written(t, letterWith("dropped", "dropped.csv", "8"))
	box := written(t, "From oda Tue May 12 06:02:00 2026\n"+
		strings.ReplaceAll(letterWith("old one", "old one.csv", "1"), "\r\n", "\n")+"\nFrom oda Tue May 12 06:03:00 2026\n"+
		strings.ReplaceAll(letterWith("old two", "old two.csv", "2"), "\r\n", "\n"))
	says(t, "taking in", must(t, "messages", "take-in", eml, box), "1         0", "2         0")
	for name, content := range map[string]string{"dropped.csv": "8", "old one.csv": "1", "old two.csv": "2"} {
		if got := o.filed("In/mail from files/" + name); got != content {
			t.Errorf("%s is %q", name, got)
		}
	}
	again := must(t, "messages", "take-in", eml, box)
	says(t, "taking in again", again, "0         1", "0         2")
	for want, content := range map[string]string{"does not begin with header fields": "just text",
		"is before the first line that begins with “From ” and a date": "From here on nothing\nSubject: x\n\ny"} {
		out, _, code := run(t, "", "messages", "take-in", written(t, content))
		says(t, "what is no mail", out, want)
		if code != exitFailure {
			t.Errorf("exit code %d", code)
		}
	}
	messages := value[[]client.Message](t, "messages", "list")
	for _, m := range messages {
		if m.Subject == "old one" && !m.ReceivedAt.Equal(time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)) {
			t.Errorf("the old one was received %v", m.ReceivedAt)
		}
	}
}

// A person looks, files, labels and moves by hand, and takes it all back.
func TestByHand(t *testing.T) {
	o := openOffice(t, theLast)
	look := func(args ...string) client.LookedInto {
		t.Helper()
		return value[client.LookedInto](t, append([]string{"messages", "look"}, args...)...)
	}
	all := look("gauges", "--most", "200")
	if all.Total != len(all.Messages) || all.Next != nil || all.Total < 5 {
		t.Fatalf("%d of %d messages, next %v", len(all.Messages), all.Total, all.Next)
	}
	var paged []int64
	for page := look("gauges", "--most", "4"); ; page = look("gauges", "--most", "4", "--before", fmt.Sprint(*page.Next)) {
		for _, m := range page.Messages {
			paged = append(paged, m.ID)
		}
		if page.Next == nil {
			break
		}
	}
	var whole []int64
	for _, m := range all.Messages {
		whole = append(whole, m.ID)
	}
	if !slices.Equal(paged, whole) {
		t.Errorf("page by page %v, at once %v", paged, whole)
	}
	for _, m := range look("gauges", "--text", "CSV stations").Messages {
		if !strings.Contains(m.Subject, "stations") || m.Attachments == 0 {
			t.Errorf("found %q", m.Subject)
		}
	}
	unfiled := look("gauges", "--unfiled", "--attachments").Messages
	for _, m := range unfiled {
		if *m.Filed > 0 || len(*m.Items) == 0 {
			t.Errorf("%q has %d filed of %d", m.Subject, *m.Filed, len(*m.Items))
		}
	}
	if got := look("gauges", "--since", "2100-01-01"); len(got.Messages) > 0 {
		t.Errorf("received in 2100: %d", len(got.Messages))
	}

	// One with an attachment, by hand.
	var m client.Message
	for _, one := range all.Messages {
		if one.Attachments > 0 && strings.HasPrefix(one.Subject, "Readings ") {
			m = one
			break
		}
	}
	number := fmt.Sprint(m.ID)
	name := ""
	for _, i := range *m.Items {
		if !i.Inline {
			name = i.Name
		}
	}
	p := value[client.Pass](t, "messages", "file", number, "--folder", "Sorted by hand/2026")
	if p.Kind != "by hand" || p.MadeBy != demoPerson {
		t.Errorf("the pass is %+v", p)
	}
	o.filed("Sorted by hand/2026/" + name)
	o.settled()
	if out := must(t, "register", "list", "Sorted by hand", "-o", "json"); strings.Count(out, `"rule": "by hand"`) != 1 {
		t.Errorf("in the register: %s", out)
	}
	must(t, "passes", "undo", fmt.Sprint(p.ID), "--yes")
	until(t, "it is taken back", func() bool {
		_, err := os.Stat(filepath.Join(o.folder, "files", "Sorted by hand", "2026", name))
		return errors.Is(err, os.ErrNotExist)
	})
	o.settled()
	must(t, "messages", "file-again", number)
	o.filed("Sorted by hand/2026/" + name)
	o.settled()

	// A second time into another folder is another filing; the message itself, too.
	must(t, "messages", "file", number, "--folder", "Elsewhere")
	o.filed("Elsewhere/" + name)
	must(t, "messages", "file", number, "--message", "--folder", "Whole")
	until(t, "the message is filed", func() bool {
		found, _ := filepath.Glob(filepath.Join(o.folder, "files", "Whole", "*.eml"))
		return len(found) == 1
	})
	o.settled()
	says(t, "the message", must(t, "messages", "why", number), "by hand", "Sorted by hand/2026/"+name)
	// Labels, marks and moves, and back.
	change := value[client.Pass](t, "messages", "change", number, "--label", "For the audit", "--mark", "flagged",
		"--move", "Audit/2026")
	where := func(folder string) (found *client.Message) {
		for _, one := range look("gauges", "--folder", folder).Messages {
			if one.ID == m.ID {
				return &one
			}
		}
		return nil
	}
	has := func(one *client.Message, flag string) bool {
		return one != nil && slices.ContainsFunc(one.Flags, func(f string) bool { return strings.EqualFold(f, flag) })
	}
	until(t, "it is moved", func() bool {
		p, err := call[client.Pass](o.api.GetPass(t.Context(), change.ID))
		return err == nil && p.Undoable != nil && *p.Undoable == 3
	})
	if one := where("Audit/2026"); !has(one, "For_the_audit") || !has(one, `\Flagged`) {
		t.Errorf("at its new place: %+v", one)
	}
	says(t, "what taking back would do", must(t, "passes", "undo", fmt.Sprint(change.ID)), "label", "moved back")
	must(t, "passes", "undo", fmt.Sprint(change.ID), "--yes")
	until(t, "it is back", func() bool { return where("INBOX") != nil })
	until(t, "its label is off",
		func() bool { one := where("INBOX"); return !has(one, "For_the_audit") && !has(one, `\Flagged`) })
	says(t, "a second time", fails(t, "passes", "undo", fmt.Sprint(change.ID), "--yes"), "nothing to take back")

	for want, args := range map[string][]string{
		"no cabinet called":      {"messages", "file", number, "--cabinet", "nowhere", "--folder", "A"},
		"name the folder":        {"messages", "file", number, "--folder", " / "},
		"no attachment with the": {"messages", "file", number, "--folder", "A", "--item", "9"},
		"there is nothing of":    {"messages", "file", "999999", "--folder", "A"},
		"plain letters":          {"messages", "change", number, "--label", "Häfen"},
		"what to do":             {"messages", "change", number},
		"there is no folder":     {"messages", "look", "gauges", "--folder", "Nowhere"},
		"is not the number of a": {"messages", "file", "x", "--folder", "A"},
		"is a day such as":       {"messages", "look", "gauges", "--since", "yesterday"},
	} {
		says(t, strings.Join(args, " "), fails(t, args...), want)
	}
	out, _, _ := run(t, "", "messages", "take-in", written(t, "Subject: x\n\ny"), "--mailbox", "gauges")
	says(t, "taking mail into an account", out, "choose a mailbox of files")
}

// consented goes to the page at which consent is given, as a browser does, and
// answers; it gives what Ink Tray shows at the end.
func (o *office) consented(page, user, answer string) string {
	o.t.Helper()
	u, err := url.Parse(page)
	if err != nil {
		o.t.Fatal(err)
	}
	form := u.Query()
	form.Set("user", user)
	form.Set("answer", answer)
	response, err := http.PostForm(o.authority.Issuer()+"/consent", form)
	if err != nil {
		o.t.Fatal(err)
	}
	defer response.Body.Close()
	return readAll(o.t, response)
}

func TestSigningInByConsent(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	o.everything("In/<mailbox>")
	user := demo.ByConsent + "@brackwater.example"
	out := must(t, "mailboxes", "add", demo.ByConsent, "--host", "127.0.0.1", "--port", fmt.Sprint(o.mail.Port()),
		"--encryption", "none", "--user", user, "--issuer", o.authority.Issuer(), "--client", demo.ClientID)
	says(t, "adding", out, "mailboxes sign-in pilots")
	until(t, "the tray asks for it",
		func() bool { return strings.Contains(must(t, "tray", "list"), "nobody has signed in") })
	check, _, code := run(t, "", "mailboxes", "check", demo.ByConsent)
	says(t, "the check before", check, "nobody has signed in", "Sign in to it")
	if code != exitFailure {
		t.Errorf("exit code %d", code)
	}
	id := o.mailboxID(demo.ByConsent)
	console := o.service.address()
	ask := func() string {
		t.Helper()
		a, err := call[client.Asked](o.api.AskConsent(t.Context(), id, client.AskConsentJSONRequestBody{Console: &console}))
		if err != nil {
			t.Fatal(err)
		}
		return a.Page
	}
	says(t, "refused", o.consented(ask(), user, "no"), "Not signed in", "access_denied")
	page := ask()
	says(t, "given", o.consented(page, user, "yes"), "Signed in", "pilots")
	says(t, "the same once more", o.consented(page, user, "yes"), "Not signed in", "not known here")
	until(t, "it is watched", func() bool { return strings.Contains(must(t, "mailboxes", "list"), "watched live") })
	if tray := must(t, "tray", "list"); strings.Contains(tray, "pilots") {
		t.Errorf("the tray still has:\n%s", tray)
	}
	if err := o.mail.Deliver(demo.ByConsent, []byte(letterWith("pilots", "a.csv", "5")), time.Now()); err != nil {
		t.Fatal(err)
	}
	o.filed("In/pilots/a.csv")
	says(t, "the check", must(t, "mailboxes", "check", demo.ByConsent), "signed in as "+user)

	// Neither secret nor token ever comes back.
	for _, path := range []string{"/api/v1/mailboxes", "/api/v1/mailboxes/" + id} {
		if _, _, body := o.ask("GET", path, o.token, ""); strings.Contains(fmt.Sprint(body), "refresh") ||
			strings.Contains(fmt.Sprint(body), "access") {
			t.Errorf("%s says %v", path, body)
		}
	}

	// Consent is taken back: the tray says so, and signing in again mends it.
	o.authority.TakeBack(user)
	o.mail.Cut()
	until(t, "the tray asks for it", func() bool {
		l := must(t, "mailboxes", "list", "-o", "json") + must(t, "tray", "list")
		return strings.Contains(l, "no longer valid")
	})
	done := make(chan string)
	go func() { out, errs, _ := run(t, "", "mailboxes", "sign-in", demo.ByConsent); done <- out + errs }()
	until(t, "the code is entered", func() bool {
		a, err := call[client.Asked](o.api.GetAsked(t.Context(), id))
		if err == nil {
			o.authority.Allow(a.Code, user)
		}
		return err == nil
	})
	says(t, "signing in without a browser", <-done, "Signed in", "The code is")
	until(t, "it is watched again", func() bool { return strings.Contains(must(t, "mailboxes", "list"), "watched live") })
	if err := o.mail.Deliver(demo.ByConsent, []byte(letterWith("more", "b.csv", "6")), time.Now()); err != nil {
		t.Fatal(err)
	}
	o.filed("In/pilots/b.csv")

	// A token that has run out is renewed by itself.
	o.authority.Lasts = time.Second
	asked := o.authority.Asked()
	says(t, "with short tokens", o.consented(ask(), user, "yes"), "Signed in")
	until(t, "a token is renewed", func() bool {
		run(t, "", "mailboxes", "check", demo.ByConsent)
		return o.authority.Asked() > asked+1
	})
	says(t, "a state that nobody asked for", o.came("state=x&code=y", ""), "not known here", `lang="en"`)
	says(t, "the same in German", o.came("state=x&code=y", "de-AT, en;q=0.5"), "Nicht angemeldet", `lang="de"`,
		"Zurück zu Ink Tray")
	says(t, "an issuer that is not there",
		fails(t, "mailboxes", "add", "x", "--host", "h", "--user", "x", "--client", "c"), "the issuer of consent")
}

// came is what Ink Tray answers a browser that comes back.
func (o *office) came(query, languages string) string {
	o.t.Helper()
	request, err := http.NewRequestWithContext(o.t.Context(), "GET", o.service.address()+"/api/v1/consent?"+query, nil)
	if err != nil {
		o.t.Fatal(err)
	}
	request.Header.Set("Accept-Language", languages)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		o.t.Fatal(err)
	}
	defer response.Body.Close()
	if policy := response.Header.Get("Content-Security-Policy"); policy != "default-src 'none'" ||
		response.StatusCode != 200 {
		o.t.Errorf("%s, policy %q", response.Status, policy)
	}
	return readAll(o.t, response)
}

func TestServersAreFoundByAddress(t *testing.T) {
	_, address := testbed.StartDNS(t, testbed.Names{
		SRV: map[string][]net.SRV{
			"_imaps._tcp.brackwater.example.": {{Target: "imap.brackwater.example.", Port: 993, Priority: 1}},
			"_pop3s._tcp.brackwater.example.": {{Target: "pop.brackwater.example.", Port: 995}},
			"_imap._tcp.brackwater.example.":  {{Target: ".", Port: 0}},
			"_jmap._tcp.brackwater.example.":  {{Target: "jmap.brackwater.example.", Port: 443}},
		},
		Failing: map[string]bool{"_imaps._tcp.slow.example.": true, "_imap._tcp.slow.example.": true,
			"_pop3s._tcp.slow.example.": true, "_pop3._tcp.slow.example.": true},
	})
	o := openOffice(t, empty, func(s *serviceOptions) { s.resolver = address })
	o.first()
	found := value[[]client.FoundServer](t, "mailboxes", "find", "gauges@brackwater.example")
	if len(found) != 3 || found[1].Kind != "jmap" || found[1].Encryption != "tls" {
		t.Fatalf("found %+v", found)
	}
	if found[0].Host != "imap.brackwater.example" || found[0].Port != 993 ||
		found[0].Encryption != "tls" || found[2].Kind != "pop3" || found[0].Username != "gauges@brackwater.example" {
		t.Errorf("found %+v", found)
	}
	says(t, "no address", fails(t, "mailboxes", "find", "gauges"), "is not an address")
	says(t, "a domain that publishes nothing", fails(t, "mailboxes", "find", "x@tidewatch.example"),
		"does not say where its mail is read")
	says(t, "a name server that fails", fails(t, "mailboxes", "find", "x@slow.example"), "cannot be looked up")
}

func readAll(t testing.TB, r *http.Response) string {
	t.Helper()
	data, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
