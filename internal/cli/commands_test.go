package cli

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/testbed"
)

func TestTheDemoFilesItsOldMail(t *testing.T) {
	o := openOffice(t, theWhole)
	rules := value[[]client.Rule](t, "rules", "list")
	total := 0
	for _, r := range rules {
		if !r.Running || r.Filed == 0 {
			t.Errorf("the rule %s is on=%v and filed %d", r.Name, r.Running, r.Filed)
		}
		total += r.Filed
	}
	page := value[client.RegisterPage](t, "register", "list", "--most", "500")
	if page.Total != total || len(demo.OldMail(time.Now())) < 150 {
		t.Errorf("%d in the register, %d by the rules, of %d messages", page.Total, total, len(demo.OldMail(time.Now())))
	}
	for _, f := range page.Filings {
		info, err := os.Stat(filepath.Join(o.folder, "files", f.Folder, f.File))
		if err != nil || info.Size() != f.Size || info.ModTime().Unix() != f.ReceivedAt.Unix() {
			t.Fatalf("%s: %v, %v", f.Entry, info, err)
		}
		if strings.Contains(f.File, "image001") || strings.HasPrefix(f.Folder, "..") {
			t.Errorf("%s was filed as %s/%s", f.Entry, f.Folder, f.File)
		}
	}
	if out := must(t, "health"); !strings.Contains(out, "is alive and ready") {
		t.Errorf("health says %q", out)
	}
	for _, table := range [][]string{{"mailboxes", "list"}, {"cabinets", "list"}, {"rules", "list"}, {"passes", "list"},
		{"register", "list"}, {"tray", "list"}, {"messages", "list"}, {"rules", "show", "Crew lists"},
		{"mailboxes", "folders", "gauges"}, {"version"}} {
		if out := must(t, table...); strings.Count(out, "\n") < 2 {
			t.Errorf("inktray %s says %q", strings.Join(table, " "), out)
		}
	}
}

func TestCommandsSayWhatIsWrong(t *testing.T) {
	openOffice(t, theLast)
	unknownKey := write(t, "a.yaml",
		"format: 1\nrules:\n  - name: x\n    cabinet: harbour files\n    look: {mailboxes: gauges}\n    mach: every "+
			"message\n    rest: {folder: A}\n")
	unknownField := write(t, "b.yaml",
		"format: 1\nrules:\n  - name: x\n    cabinet: harbour files\n    look: {mailboxes: gauges}\n    match: every "+
			"message\n    rest: {folder: A/<recieved year>}\n")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"rules", "save", unknownKey}, exitInvalid, "line 6: there is no key \"mach\" here"},
		{[]string{"rules", "rehearse", unknownKey}, exitInvalid, "did you mean “match”?"},
		{[]string{"rules", "save", unknownField}, exitInvalid,
			"column 4: there is no field \"recieved\". Did you mean “received”?"},
		{[]string{"rules", "show", "Crew"}, exitMissing, "there are: Berth requests, Crew lists"},
		{[]string{"rules", "save", "/no/such/file"}, exitFailure, "the file “/no/such/file” is not there"},
		{[]string{"rules", "save", t.TempDir()}, exitFailure, "is a folder, not a file"},
		{[]string{"apply", "/no/such/file"}, exitFailure, "the file “/no/such/file” is not there"},
		{[]string{"mailboxes", "take-over", "/no/such/file"}, exitFailure, "the file “/no/such/file” is not there"},
		{[]string{"rules", "lisst"}, exitUsage,
			"there is no command “inktray rules lisst”; did you mean “inktray rules list”?"},
		{[]string{"rulse", "list"}, exitUsage, "there is no command “inktray rulse”; did you mean “inktray rules”?"},
		{[]string{"limits", "sett"}, exitUsage, "did you mean “inktray limits set”?"},
		{[]string{"records", "rehearse"}, exitUsage, "did you mean “inktray rules rehearse”?"},
		{[]string{"rules", "show"}, exitUsage, "NAME is missing: inktray rules show NAME"},
		{[]string{"rules", "show", "Crew", "lists"}, exitUsage,
			"“lists” is too much here: inktray rules show NAME. Put a name of several words in quotes"},
		{[]string{"mailboxes", "list", "all"}, exitUsage, "“all” is too much here"},
		{[]string{"rules", "bring-back", "Crew lists"}, exitUsage, "REVISION is missing: inktray rules bring-back NAME " +
			"REVISION"},
		{[]string{"rules", "rehearse", "--lats", "3"}, exitUsage,
			"inktray rules rehearse has no option “--lats”; did you mean “--last”?"},
		{[]string{"rules", "rehearse", "--last"}, exitUsage, "something is missing after “--last”"},
		{[]string{"rules", "rehearse", "--last", "many"}, exitUsage, "“many” is no whole number, as --last wants"},
		{[]string{"register", "show", "abc"}, exitInvalid, "“abc” is not a register number, such as 2026-5731"},
		{[]string{"cabinets", "add", "x", "--folder", "/nowhere/at/all"}, exitInvalid, "folder: making the folder " +
			"/nowhere/at/all failed: the folder is not there. Make the folder"},
		{[]string{"cabinets", "add", "x", "--folder", unknownKey + "/sub"}, exitInvalid, "there is a file where a folder " +
			"is needed"},
		{[]string{"cabinets", "add", "x"}, exitUsage, "--folder"},
		{[]string{"mailboxes", "remove", "gauges"}, exitInvalid,
			"is used by: Tide gauge readings. Change or remove these rules first."},
		{[]string{"mailboxes", "list", "--output", "xml"}, exitUsage, "table or json"},
		{[]string{"passes", "show", "x"}, exitUsage, "not the number of a pass"},
		{[]string{"passes", "show", "999"}, exitMissing, ""},
		{[]string{"passes", "stop", "1"}, exitInvalid, "has ended"},
		{[]string{"register", "show", "2026-99999"}, exitMissing, ""},
		{[]string{"tray", "again"}, exitUsage, "name lines of the tray"},
		{[]string{"rules", "file-old-mail", "Crew lists", "--since", "tomorrow"}, exitUsage, "a day such as 2026-05-12"},
		{[]string{"nonsense"}, exitUsage, "there is no command “inktray nonsense”; there are: "},
		{[]string{"rules", "list", "--service", "http://127.0.0.1:1"}, exitReach,
			"no Ink Tray answers at http://127.0.0.1:1"},
		{[]string{"demo", "--folder", filepath.Dir(unknownKey)}, exitFailure, "was not made by the demo"},
		{[]string{"serve", "--time-zone", "Europe/Brackwater", "--data", t.TempDir(), "--listen", "127.0.0.1:0"}, exitUsage,
			"no time zone"},
	} {
		if _, errs, code := run(t, "", c.args...); code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("inktray %s: exit code %d, %s; want %d, ...%s...", strings.Join(c.args, " "), code, errs, c.code, c.says)
		}
	}
	if out, _, code := run(t, "", "messages", "take-in", "/no/such/file"); code != exitFailure ||
		!strings.Contains(out, "the file “/no/such/file” is not there") {
		t.Errorf("taking in a file that is not there: %d, %s", code, out)
	}
	t.Setenv("INKTRAY_TOKEN", "wrong")
	if _, errs, code := run(t, "", "rules", "list"); code != exitSignIn || !strings.Contains(errs, "Sign in again") {
		t.Errorf("with a wrong token: %d, %s", code, errs)
	}
}

func TestTakenPortsAreTold(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	for _, args := range [][]string{{"serve", "--data", t.TempDir(), "--listen", l.Addr().String()},
		{"demo", "--folder", t.TempDir(), "--mail-listen", l.Addr().String()},
		{"demo", "--folder", t.TempDir(), "--listen", l.Addr().String()}} {
		if _, errs, code := run(t, "", args...); code != exitFailure ||
			!strings.Contains(errs, "is taken by another program; choose another with --") {
			t.Errorf("inktray %s: %d, %s", args[0], code, errs)
		}
	}
}

func TestAMailboxIsCheckedStepByStep(t *testing.T) {
	o := openOffice(t, theLast)
	if out := must(t, "mailboxes", "check", "gauges"); !strings.Contains(out, "signed in as gauges@brackwater.example") ||
		strings.Contains(out, "fails") {
		t.Errorf("the check says %s", out)
	}
	t.Setenv("INKTRAY_SECRET", "wrong")
	// One that cannot be reached is added only if somebody insists.
	add := []string{"mailboxes", "add", "second", "--host", "127.0.0.1", "--port", strconv.Itoa(o.mail.Port()),
		"--encryption", "none", "--user", "gauges@brackwater.example"}
	says(t, "a mailbox that lets nobody in", fails(t, add...), "refuses the name", "was not added", "--unchecked")
	_, errs, _ := run(t, "", append([]string{"--output", "json"}, add...)...)
	var problem struct{ Detail string }
	if err := json.Unmarshal([]byte(errs), &problem); err != nil || !strings.Contains(problem.Detail, "refuses the name") {
		t.Errorf("as JSON: %v, %s", err, errs)
	}
	there := func() bool {
		return slices.ContainsFunc(value[[]client.Mailbox](t, "mailboxes", "list"),
			func(m client.Mailbox) bool { return m.Name == "second" })
	}
	if there() {
		t.Error("it was added in spite of it")
	}
	must(t, append(add, "--unchecked")...)
	if !there() {
		t.Error("--unchecked adds nothing")
	}
	must(t, "mailboxes", "remove", "second", "--yes")
	must(t, "mailboxes", "change", "gauges", "--new-secret", "--interval", "7")
	out, _, code := run(t, "", "mailboxes", "check", "gauges")
	if code != exitFailure || !strings.Contains(out, "refuses the name") ||
		!strings.Contains(out, "password made for programs") {
		t.Errorf("with a wrong secret: %d, %s", code, out)
	}
	until(t, "the tray tells of it", func() bool {
		tray := value[client.Tray](t, "tray", "list")
		return len(tray.Notices) == 1 && strings.Contains(tray.Notices[0].Text, "“gauges” is out of reach: sign-in")
	})
	t.Setenv("INKTRAY_SECRET", demo.Password)
	must(t, "mailboxes", "change", "gauges", "--new-secret")
	l := demo.Next(0, time.Now())
	if err := o.mail.Deliver("gauges", l.Raw, l.Received); err != nil {
		t.Fatal(err)
	}
	until(t, "what came is filed and the notice is gone", func() bool {
		page := value[client.RegisterPage](t, "register", "list", "--mailbox", "gauges", "--from",
			time.Now().UTC().Format(time.DateOnly))
		tray := value[client.Tray](t, "tray", "list")
		return len(tray.Notices) == 0 && page.Total > 0 && time.Since(page.Filings[0].ReceivedAt) < time.Minute
	})
}

// Mailboxes of every kind stand in the file, and what it does not say of one stays.
func TestMailboxesOfEveryKindFromOneFile(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	t.Setenv("GAUGES", demo.Password)
	text := fmt.Sprintf(`format: 1
mailboxes:
  - {name: gauges, host: 127.0.0.1, port: %d, encryption: none, user: gauges@brackwater.example, secret: {env: GAUGES}}
  - {name: %[2]s, host: 127.0.0.1, port: %[1]d, encryption: none, user: pilots@brackwater.example, consent: {issuer: %[3]q, client: %[4]s}}
  - {name: to the gauges, kind: drop, word: readings, senders: [tidewatch.example], leave_days: 30}
  - {name: on disk, kind: maildir, path: %[5]s}
  - {name: dropped, kind: files}
`, o.mail.Port(), demo.ByConsent, o.authority.Issuer(), demo.ClientID, filepath.Join(o.folder, "Maildir"))
	if err := mailfile.Prepare(filepath.Join(o.folder, "Maildir")); err != nil {
		t.Fatal(err)
	}
	file := write(t, "office.yaml", text)
	says(t, "applying", must(t, "apply", file, "--yes"), "add     mailbox to the gauges", "an address at which mail is "+
		"received", "inktray mailboxes sign-in pilots", "5 changes made")
	says(t, "applying again", must(t, "apply", file, "--yes"), "Nothing to change")
	says(t, "the list", must(t, "mailboxes", "list"), "readings-", "Maildir", "nobody has signed in")
	user := demo.ByConsent + "@brackwater.example"
	page, err := call[client.Asked](o.api.AskConsent(t.Context(), o.mailboxID(demo.ByConsent),
		client.AskConsentJSONRequestBody{Console: new(o.service.address())}))
	if err != nil {
		t.Fatal(err)
	}
	says(t, "given", o.consented(page.Page, user, "yes"), "Signed in")
	until(t, "all are watched", func() bool { return strings.Count(must(t, "mailboxes", "list"), "watched live") == 5 })

	// What is changed, and what stays.
	if _, errs, code := run(t, "", "mailboxes", "change", "gauges", "--pinned", strings.Repeat("ab", 32), "--encryption",
		"none"); code != exitUsage || !strings.Contains(errs, "a secret is missing") {
		t.Errorf("another way to the server without its secret: %d, %s", code, errs)
	}
	if _, errs, code := run(t, demo.Password+"\n", "mailboxes", "change", "gauges", "--pinned", strings.Repeat("ab", 32),
		"--encryption", "none"); code != 0 {
		t.Fatal(errs)
	}
	changed := strings.NewReplacer("leave_days: 30", "leave_days: 7", "[tidewatch.example]",
		"[tidewatch.example, oda@hollin.example]", "secret: {env: GAUGES}", "interval: 30", "user: pilots@",
		"interval: 30, user: pilots@").Replace(text)
	says(t, "a change", must(t, "apply", write(t, "changed.yaml", changed), "--yes"), "leave_days: 30, then 7",
		"senders: tidewatch.example, then tidewatch.example, oda@hollin.example", "interval: 60, then 30", "3 changes made")
	for _, m := range value[[]client.Mailbox](t, "mailboxes", "list") {
		switch m.Name {
		case "gauges":
			if m.IntervalSeconds != 30 || deref(m.Pinned) == "" {
				t.Errorf("%+v", m)
			}
		case "to the gauges":
			if deref(m.LeaveDays) != 7 || len(deref(m.Senders)) != 2 {
				t.Errorf("%+v", m)
			}
		case demo.ByConsent:
			if m.Consent == nil || m.IntervalSeconds != 30 {
				t.Errorf("%+v", m)
			}
		}
	}
	says(t, "still signed in", must(t, "mailboxes", "check", demo.ByConsent), "signed in as "+user)

	for old, bad := range map[string][2]string{
		"kind: files":   {"kind: drop", "is of the kind files and cannot become drop"},
		"kind: maildir": {"kind: mailbox", "is of the kind maildir and cannot become mailbox"},
		"word: ":        {"words: ", `there is no key "words" here`},
	} {
		_, errs, exit := run(t, "", "apply", write(t, "bad.yaml", strings.Replace(text, old, bad[0], 1)), "--yes")
		if says(t, bad[0], errs, bad[1]); exit != exitInvalid {
			t.Errorf("%s: exit code %d", bad[0], exit)
		}
	}

	// Consent is for the server for which it was given: at another it is not tried.
	other := testbed.StartDovecot(t)
	must(t, "mailboxes", "change", demo.ByConsent, "--host", "localhost", "--port", fmt.Sprint(other.IMAP))
	until(t, "somebody has to sign in again",
		func() bool { return strings.Contains(must(t, "mailboxes", "list"), "nobody has signed in") })
}

func TestAWholeInstallationFromOneFile(t *testing.T) {
	o := openOffice(t, empty)
	code := setupCode(t, o)
	if _, errs, exit := run(t, "a long password\n", "sign-in", "--name", "Ines Halloway"); exit != exitSignIn ||
		!strings.Contains(errs, "first administrator is missing") || !strings.Contains(errs, "--set-up") {
		t.Errorf("signing in where there is nobody yet: %d, %s", exit, errs)
	}
	out, errs, exit := run(t, "a long password\n", "sign-in", "--name", "Ines Halloway", "--set-up", code)
	if exit != 0 || !strings.Contains(out, "Signed in as Ines Halloway") {
		t.Fatalf("sign-in: %d, %s%s", exit, out, errs)
	}
	t.Setenv("GAUGES", demo.Password)
	for _, l := range demo.OldMail(time.Now()) {
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			t.Fatal(err)
		}
	}
	text := fmt.Sprintf(`format: 1
mailboxes:
  - {name: gauges, host: 127.0.0.1, port: %d, encryption: none, user: gauges@brackwater.example, secret: {env: GAUGES}}
cabinets:
  - {name: harbour files, folder: %s}
topics:
  - {name: Moorings}
  - {name: Berth requests, learn: %s}
rules:
  - on: true
    name: Readings
    cabinet: harbour files
    look: {mailboxes: gauges}
    match: {subject: {contains: reading}}
    attachments:
      - take: {kind: spreadsheet}
        folder: Gauges/<received year>
  - name: Berths
    cabinet: harbour files
    look: {mailboxes: gauges}
    match: {topic: {is: Berth requests}}
    attachments: [{take: everything, folder: Berths}]
`, o.mail.Port(), filepath.Join(o.folder, "files"), write(t, "berths.json", `{"format":1,"name":"Quays","examples":[{"about":true,"subject":"A berth, please","text":""},{"about":false,"subject":"Invoice","text":""}]}`))
	file := write(t, "office.yaml", text)
	out, _, exit = run(t, "", "apply", file, "--preview")
	for _, line := range []string{"add     mailbox gauges", "add     cabinet harbour files", "add     topic Moorings",
		"add     topic Berth requests\n        learns from 2 examples in ", "add     rule Readings", "on      rule Readings",
		"add     rule Berths"} {
		if !strings.Contains(out, line) {
			t.Errorf("the preview does not say %q:\n%s", line, out)
		}
	}
	if exit != exitPending {
		t.Errorf("the preview's exit code is %d, want %d", exit, exitPending)
	}
	if got := value[[]client.Rule](t, "rules", "list"); len(got) != 0 {
		t.Fatal("the preview changed something")
	}
	if _, errs, exit := run(t, "", "apply", file); exit != exitUsage ||
		!strings.Contains(errs, "add --yes to confirm") {
		t.Errorf("without a yes: %d, %s", exit, errs)
	}
	must(t, "apply", file, "--yes")
	if out := must(t, "apply", file, "--yes"); !strings.Contains(out, "Nothing to change") {
		t.Errorf("the second time it says %s", out)
	}
	changed := write(t, "changed.yaml", strings.Replace(text, "Gauges/<received year>", "Tide/<received year>", 1))
	if out, _, _ := run(t, "", "apply", changed, "--preview"); !strings.Contains(out,
		"was: folder: Gauges/<received year>") || !strings.Contains(out, "now: folder: Tide/<received year>") {
		t.Errorf("the preview of a change says %s", out)
	}
	renamed := write(t, "renamed.yaml", strings.Replace(text, "name: Readings", "name: Readings of gauges", 1))
	if out, errs, _ := run(t, "", "apply", renamed, "--preview"); !strings.Contains(errs, "Is “Readings of gauges” the "+
		"rule “Readings” renamed? Then write `id: ") || !strings.Contains(out, "add     rule Readings of gauges") {
		t.Errorf("the preview of an unknown name says %s%s", errs, out)
	}
	for _, bad := range []struct{ old, new, says string }{
		{"kind: spreadsheet", "kind: spreadsheat", "did you mean “spreadsheet”?"},
		{"secret: {env: GAUGES}", "secret: hunter2", "this must be a map of keys and values: file, env"},
		{"<received year>", "<recieved year>", "rules[0].attachments[0].folder"},
		{"format: 1", "format: 2", "format 2"},
		{"folder: Gauges", "afterwards: []\n        folder: Gauges", "there is no key \"afterwards\" here"},
		{"subject: {contains: reading}", "topic: {is: Nowhere}", "there is no topic"},
		{"{name: Moorings}", "{name: Quays, learn: nowhere.json}", "the topic “Quays”: the file “"},
		{"{name: Moorings}", "{name: Quays, learn: " + write(t, "none.json", `{"format":1,"name":"Quays","examples":[]}`) +
			"}", "it holds no examples"},
		{"{name: Moorings}", "{name: Quays, learn: " + write(t, "newer.json", `{"format":2}`) + "}",
			"has format 2; this version reads format 1"},
		{"folder: " + filepath.Join(o.folder, "files"), "folder: /elsewhere", "move it: inktray cabinets move"},
	} {
		_, errs, exit := run(t, "", "apply", write(t, "bad.yaml", strings.Replace(text, bad.old, bad.new, 1)), "--yes")
		if exit != exitInvalid || !strings.Contains(errs, bad.says) {
			t.Errorf("with %s: %d, %s", bad.new, exit, errs)
		}
	}
	until(t, "the mailbox is watched", func() bool {
		all := value[[]client.Mailbox](t, "mailboxes", "list")
		return len(all) == 1 && all[0].State == "watched live"
	})
	if topics := value[[]client.Topic](t, "topics", "list"); len(topics) != 2 || topics[0].Name != "Berth requests" ||
		topics[0].About != 1 || topics[0].Others != 1 {
		t.Errorf("the topics are %+v", topics)
	}
	out = must(t, "rules", "rehearse", "Readings", "--last", "20")
	if !strings.Contains(out, "st3-st7.csv") || !strings.Contains(out, "Nothing was written.") {
		t.Errorf("the rehearsal says %s", out)
	}
	out = must(t, "rules", "file-old-mail", "Readings", "--most", "40")
	if !strings.Contains(out, "is done: 40 of 40 messages looked at") {
		t.Errorf("the pass says %s", out)
	}
	messages := value[[]client.Message](t, "messages", "list", "--mailbox", "gauges")
	if out := must(t, "messages", "why", itoa(messages[0].ID)); !strings.Contains(out, "BECAUSE") ||
		!strings.Contains(out, "Readings") {
		t.Errorf("why says %s", out)
	}
	must(t, "rules", "off", "Readings")
	must(t, "rules", "remove", "Readings", "--yes")
	must(t, "rules", "remove", "Berths", "--yes")
	must(t, "cabinets", "remove", "harbour files", "--yes")
	must(t, "mailboxes", "remove", "gauges", "--yes")
	if page := value[client.RegisterPage](t, "register", "list"); page.Total == 0 {
		t.Error("the register went with the rule")
	}
	must(t, "sign-out")
	if _, _, code := run(t, "", "rules", "list"); code != exitSignIn {
		t.Errorf("after signing out the exit code is %d", code)
	}
}
