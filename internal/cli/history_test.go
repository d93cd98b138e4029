package cli

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
)

// arriving lets the demo's next messages arrive while the rules are on.
func (o *office) arriving(n int) {
	o.t.Helper()
	for i := 1; i <= n; i++ {
		l := demo.Next(i, time.Now())
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			o.t.Fatal(err)
		}
	}
}

// files lists the files of the office's cabinet.
func (o *office) files() (all []string) {
	o.t.Helper()
	root := filepath.Join(o.folder, "files")
	err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if within, _ := filepath.Rel(root, name); !strings.HasPrefix(within, ".inktray") {
			all = append(all, within)
		}
		return nil
	})
	if err != nil {
		o.t.Fatal(err)
	}
	return all
}

// sent reads what the office sent, of a kind: ".eml" or ".json".
func (o *office) sent(ext string) (all []string) {
	names, _ := filepath.Glob(filepath.Join(o.folder, "sent", "*"+ext))
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			o.t.Fatal(err)
		}
		all = append(all, string(data))
	}
	return all
}

// asDescribed compares a call with the webhooks of openapi.yaml.
func asDescribed(event string) error {
	spec, err := api.GetSpec()
	if err != nil {
		return err
	}
	var content map[string]any
	if err := json.Unmarshal([]byte(event), &content); err != nil {
		return err
	}
	hook := spec.Webhooks[fmt.Sprint(content["type"])]
	if hook == nil {
		return fmt.Errorf("there is no call %v", content["type"])
	}
	return hook.Post.RequestBody.Value.Content["application/cloudevents+json"].Schema.Value.VisitJSON(content)
}

func says(t *testing.T, what, out string, want ...string) {
	t.Helper()
	for _, w := range want {
		if !strings.Contains(out, w) {
			t.Errorf("%s does not say %q:\n%s", what, w, out)
		}
	}
}

// The tray is worked, a pass and a filing are taken back, and the history tells
// of it, all by the command line.
func TestTheTrayAndTheHistoryByTheCommandLine(t *testing.T) {
	o := openOffice(t, theWeeks)
	must(t, "trust", "set", "--replies=false") // this mail is neither signed nor reported on
	says(t, "the tray", must(t, "tray", "list"), "Not what its name says (1, cause \"disguised\")",
		"named .pdf, but it is a Windows program")
	held := value[client.Tray](t, "tray", "list").Groups[0].Matters[0]
	says(t, "elsewhere", must(t, "tray", "elsewhere", held.ID, "--cabinet", "harbour files", "--folder", "Sorted by hand"),
		"1 filed elsewhere.")
	until(t, "it is filed there", func() bool {
		_, err := os.Stat(filepath.Join(o.folder, "files", "Sorted by hand", "certificate.pdf"))
		return err == nil
	})
	says(t, "the empty tray", must(t, "tray", "list"), "The tray is empty")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"tray", "again"}, exitUsage, "name lines of the tray"},
		{[]string{"tray", "again", "x7"}, exitInvalid, "matters"},
		{[]string{"tray", "elsewhere", held.ID, "--cabinet", "nowhere", "--folder", "A"}, exitInvalid,
			"there is no cabinet called “nowhere”"},
		{[]string{"tray", "elsewhere", held.ID, "--cabinet", "harbour files", "--folder", "/"}, exitInvalid,
			"name the folder"},
		{[]string{"passes", "undo", "9999"}, exitMissing, "nothing of that name or number"},
		{[]string{"passes", "list", "--kind", "odd"}, exitInvalid, "kind"},
		{[]string{"passes", "list", "--from", "yesterday"}, exitUsage, "is a day such as"},
		{[]string{"register", "undo", "2026-99999"}, exitMissing, "nothing of that name or number"},
		{[]string{"messages", "file-again", "1"}, exitInvalid, "nothing of this message was taken back"},
		{[]string{"alarms", "silence", "x", "--rule", "No such rule", "--tell", "Nobody"}, exitInvalid,
			"there is no rule called “No such rule”"},
		{[]string{"alarms", "remove", "x"}, exitMissing, "there is no alarm called"},
		{[]string{"addressees", "add", "Agent", "--mail", "no address"}, exitInvalid, "is not a mail address"},
		{[]string{"addressees", "add", "Agent", "--call", "ftp://agents.example"}, exitInvalid, "must begin with https"},
		{[]string{"addressees", "add", "harbour master", "--mail", "a@b.example"}, exitInvalid,
			"there is a notification called"},
		{[]string{"addressees", "remove", "Berth planner", "--yes"}, exitInvalid,
			"Ink Tray notifies “Berth planner” by: Waste declarations, " +
				"the alarm “Out of reach”"},
		{[]string{"outgoing", "set", "--host", "smtp.brackwater.example", "--from", "office"}, exitInvalid,
			"is not a mail address"},
		{[]string{"limits", "set", "--rule-files", "-1"}, exitInvalid, "rule_files"},
		{[]string{"limits", "set", "--account-connections", "1"}, exitInvalid, "at least 2 connections are needed"},
	} {
		if out, errs, code := run(t, "", c.args...); code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%v: %d, %s%s; want %d: ...%s...", c.args, code, out, errs, c.code, c.says)
		}
	}

	// A pass over old mail is taken back: its files go, its messages return.
	waste := filepath.Join(o.folder, "files", "Waste")
	files := func() (n int) {
		filepath.WalkDir(waste, func(_ string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				n++
			}
			return nil
		})
		return n
	}
	var pass client.Pass
	for _, p := range value[[]client.Pass](t, "passes", "list", "--rule", "Waste declarations") {
		if p.Kind == "old mail" {
			pass = p
		}
	}
	had := files()
	until(t, "the messages are moved", func() bool {
		all := value[[]client.Decided](t, "passes", "messages", itoa(pass.ID), "--matching")
		for _, d := range all {
			for _, s := range d.Steps {
				if s.Kind == "move" && s.State != "done" {
					return false
				}
			}
		}
		return len(all) > 0
	})
	says(t, "the messages of the pass", must(t, "passes", "messages", itoa(pass.ID)), "Waste declaration",
		"tell Berth planner: left out not sent: the message arrived before the rule was on", "move Filed/Waste: done",
		"no rule applied")
	says(t, "the preview", must(t, "passes", "undo", itoa(pass.ID)), "the file is taken out of its folder and kept for "+
		"a while", "would be moved back to where they were", "Nothing was changed. To do it, add --yes.")
	if files() != had || had == 0 {
		t.Fatalf("the preview changed something: %d files, before %d", files(), had)
	}
	says(t, "the undoing", must(t, "passes", "undo", itoa(pass.ID), "--yes"), "takes it back")
	until(t, "all is taken back", func() bool { return files() == 0 })
	says(t, "the history", must(t, "passes", "list", "--kind", "undo"), "undo", "pass "+itoa(pass.ID), "Ines Halloway")
	var message client.Message
	for _, m := range value[[]client.Message](t, "messages", "list", "--text", "waste") {
		message = m
	}
	until(t, "the message is back", func() bool {
		return value[client.Explanation](t, "messages", "why", itoa(message.ID)).Message.Folder == "INBOX"
	})
	says(t, "the message", must(t, "messages", "why", itoa(message.ID)), "taken back", "return INBOX",
		"inktray messages file-again")
	says(t, "filing again", must(t, "messages", "file-again", itoa(message.ID)), "1 item filed again.")
	until(t, "it is filed again", func() bool { return files() == 1 })

	// What arrives is answered, told of and called about.
	for from, subject := range map[string]string{"office@saltmarsh.example": "Waste declaration 12/2026",
		"certificates@kelpmutual.example": "Insurance certificate MV Thrift"} {
		raw := "From: " + from + "\r\nTo: safety@brackwater.example\r\nSubject: " + subject + "\r\nMessage-ID: <new-" + from +
			">\r\nContent-Type: application/pdf; name=paper.pdf\r\n\r\n%PDF-1.4 " + subject + "\r\n"
		if err := o.mail.Deliver("safety", []byte(raw), time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	defer func() {
		if t.Failed() {
			t.Logf("passes:\n%s\ntray:\n%s\nmailboxes:\n%s\nsafety:\n%s\nsent: %d mails, %d calls", must(t, "passes", "list"),
				must(t, "tray", "list"), must(t, "mailboxes", "list"), must(t, "messages", "look", "safety"), len(o.sent(".eml")),
				len(o.sent(".json")))
		}
	}()
	// The tray writes mail of its own, at any time: mails are told apart by what they say, not counted.
	until(t, "the sender is answered, the harbour master told, the planner called", func() bool {
		mails := strings.Join(o.sent(".eml"), "\n")
		return strings.Contains(mails, "Auto-Submitted: auto-replied") && strings.Contains(mails, "filed from") &&
			len(o.sent(".json")) > 0
	})
	mails := strings.Join(o.sent(".eml"), "\n")
	says(t, "the mails", mails, "To: <harbour.master@brackwater.example>")
	says(t, "the call", o.sent(".json")[0], `"type":"inktray.message.filed"`, `"rule":"Waste declarations"`)
	for _, event := range o.sent(".json") {
		if err := asDescribed(event); err != nil {
			t.Errorf("a call is not as openapi.yaml describes it: %v\n%s", err, event)
		}
	}
	says(t, "the metrics", must(t, "metrics"), `inktray_tray{cause="disguised"} 0`, `inktray_items{state="filed"}`,
		`inktray_mailbox_up{mailbox="gauges"} 1`)
	says(t, "outgoing", must(t, "outgoing", "check"), "lets Ink Tray in")
	says(t, "a trial", must(t, "addressees", "trial", "Berth planner"), "on its way")
	says(t, "limits", must(t, "limits", "set", "--kept-days", "30"), "kept-days            30",
		"rule-files           2000", "account-connections  8", "host-connections     0")
	says(t, "an alarm",
		must(t, "alarms", "reach", "Files away", "--cabinet", "harbour files", "--after-minutes", "120", "--tell",
			"Duty desk"), "Tell Duty desk when the cabinet “harbour files” has been out of reach for longer than 2 hours.")
	says(t, "the alarms", must(t, "alarms", "list"), "Files away", "No tide readings", "filed fewer than 1 in the day "+
		"before")
}

// The same in the console, in both looks without barriers.
func TestTheTrayHistoryAndTakingBackInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theWeeks)
	o.arriving(12)
	o.settled()
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	barriers := barriersIn(t, b, source, "dark", "light")
	b.Press("Tray")
	b.Sees("Not what its name says")
	barriers("the tray")
	b.Press("Set aside…: certificate.pdf")
	b.Sees("It leaves the tray, and Ink Tray files nothing of it")
	barriers("setting aside")
	b.Press("Keep it")
	b.Press("File elsewhere…: certificate.pdf")
	b.Type("Folder", "/")
	b.Press("File it")
	b.Sees("Name the folder in which to file")
	b.Type("Folder", "Sorted by hand/2026")
	barriers("filing elsewhere")
	b.Press("File it")
	b.Sees("The tray is empty")
	until(t, "it is filed there", func() bool {
		_, err := os.Stat(filepath.Join(o.folder, "files", "Sorted by hand", "2026", "certificate.pdf"))
		return err == nil
	})

	b.Press("History")
	b.Sees("old mail")
	barriers("the history")
	picture(t, b, "history")
	var pass client.Pass
	for _, p := range value[[]client.Pass](t, "passes", "list", "--rule", "Waste declarations", "--kind", "old mail") {
		pass = p
	}
	b.Press(itoa(pass.ID))
	b.Sees("move to “Filed/Waste”")
	barriers("a pass")
	b.Press("Take it back…")
	b.Sees("No rule files it again until you say so.")
	barriers("the preview of taking back")
	picture(t, b, "undo")
	b.Press("Take back")
	b.Sees("taken back")
	until(t, "all is taken back", func() bool {
		p := value[[]client.Pass](t, "passes", "list", "--kind", "undo")
		return len(p) == 1 && p[0].State == "done"
	})
	b.Sees("move back to “INBOX”")
	var message client.Message
	for _, m := range value[[]client.Message](t, "messages", "list", "--text", "waste declaration 10") {
		message = m
	}
	b.Open(o.service.address() + "/messages/" + itoa(message.ID))
	b.Sees("What was done with it")
	b.Press("File it again")
	b.Sees("Take it back…")

	section(b, "Notifications")
	b.Sees("filed fewer than 1 in the day before")
	b.Press("Check outgoing mail")
	b.Sees("lets Ink Tray in")
	b.Press("Add a notification")
	b.Type("Name", "Pilots")
	b.Type("Addresses", "pilots at brackwater")
	b.Press("Add")
	b.Sees("is not a mail address")
	barriers("adding somebody")
	b.Type("Addresses", "pilots@brackwater.example")
	b.Press("Add")
	b.Sees("pilots@brackwater.example")
	b.Press("Set an alarm")
	b.Type("Name", "No crew lists")
	b.Press("Pilots")
	barriers("an alarm")
	b.Press("Set alarm")
	b.Sees("Tell Pilots at 10:00")
	section(b, "Safety")
	b.Press("Change the limits")
	b.Type("A rule: files", "50")
	barriers("the limits")
	b.Press("Save")
	b.Sees("In an hour a rule files at most 50 files")

	b.Open(o.service.address() + "/rules/crew-lists")
	b.Sees("the message stays as it is.")
	b.Press("+ mark it…")
	b.Press("+ move it…")
	b.Press("+ notify people…")
	b.Press("Who gets it: …")
	b.Sees("Pilots")
	barriers("who is told")
	b.Press("Pilots")
	b.Leave()
	b.Sees("move to “Filed/")
	barriers("the letter with follow-ups")
	picture(t, b, "afterwards")
	b.Press("Save")
	until(t, "it is kept", func() bool {
		document := string(value[client.Rule](t, "rules", "show", "Crew lists").Document)
		return strings.Contains(document, `"move"`) && strings.Contains(document, `"Pilots"`)
	})
}
