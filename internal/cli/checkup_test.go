package cli

import (
	"archive/zip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

func TestTheDoctorSaysWhatIsWrongAndWhatToDo(t *testing.T) {
	o := openOffice(t, theLast)
	out, errs, code := run(t, "", "doctor")
	says(t, "the doctor", out, "STATE", "CHECKED", "records", "the records are whole",
		"mailbox", "gauges", "cabinet", "harbour files",
		"it can be written to", "rules are on", "What to do:", "no backup has been made, and none is planned",
		"backups: Plan backups in Settings")
	// The demo's drop domain is nowhere to be found, which is what a new office has to hear.
	says(t, "the doctor", out, "no mail server can be found for "+o.options.receive.domain,
		"drop addresses: Publish an MX record")
	if code != exitFailure || errs != "" {
		t.Errorf("code %d, %s", code, errs)
	}
	// A cabinet that is gone and a mailbox whose server is down are named.
	if err := os.Rename(filepath.Join(o.folder, "files"), filepath.Join(o.folder, "elsewhere")); err != nil {
		t.Fatal(err)
	}
	out, _, _ = run(t, "", "doctor", "--output", "json")
	var found client.Checkup
	if err := json.Unmarshal([]byte(out), &found); err != nil {
		t.Fatal(err)
	}
	wrong := map[string]string{}
	for _, f := range found.Findings {
		if f.State == client.Wrong {
			wrong[f.About+" "+deref(f.Name)] = f.Text
			if f.Advice == nil {
				t.Errorf("%+v says not what to do", f)
			}
		}
	}
	if wrong["cabinet harbour files"] == "" || found.State != client.Wrong || wrong["mailbox gauges"] != "" {
		t.Errorf("wrong: %v", wrong)
	}

	// What is sent to somebody who helps holds no secret and nothing of messages.
	name := filepath.Join(t.TempDir(), "support.zip")
	says(t, "the bundle", must(t, "support-bundle", name), "no password")
	z, err := zip.OpenReader(name)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	var all strings.Builder
	names := map[string]bool{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		names[f.Name] = true
		all.Write(data)
	}
	for _, want := range []string{"README.txt", "checkup.json", "metrics.txt", "version.json", "mailboxes.json",
		"cabinets.json", "rules.json", "passes.json", "limits.json"} {
		if !names[want] || !strings.Contains(aboutBundle, want) && want != "README.txt" {
			t.Errorf("%s is missing: %v", want, names)
		}
	}
	says(t, "the bundle", all.String(), "inktray_items", `"harbour files"`, `"Tide gauge readings"`)
	address := ""
	for _, m := range value[[]client.Mailbox](t, "mailboxes", "list") {
		address += deref(m.Address)
	}
	for _, secret := range []string{address, "Waste declaration MV", "saltmarsh", "kelpmutual.example", "Kelp Mutual"} {
		if secret == "" || strings.Contains(all.String(), secret) {
			t.Errorf("the bundle holds %q", secret)
		}
	}
	if _, errs, code := run(t, "", "support-bundle", name); code != exitInvalid ||
		!strings.Contains(errs, "there is a file") {
		t.Errorf("again: %d, %s", code, errs)
	}

	// Errors are JSON where JSON is asked for (RFC 9457).
	for _, c := range []struct {
		args []string
		code int
		kind string
	}{
		{[]string{"rules", "show", "No such rule", "--output", "json"}, exitMissing, "not-found"},
		{[]string{"limits", "set", "--account-connections", "1", "-o", "json"}, exitInvalid, "invalid"},
		{[]string{"--output=json", "rules", "shew"}, exitUsage, "usage"},
		{[]string{"health", "--output", "json", "--service", "http://127.0.0.1:1"}, exitReach, "not-reached"},
	} {
		out, errs, code := run(t, "", c.args...)
		var f failure
		if err := json.Unmarshal([]byte(errs), &f); err != nil || out != "" || code != c.code || f.ExitCode != c.code ||
			!strings.HasPrefix(f.Type, "urn:inktray:problem:") || f.Detail == "" || f.Title == "" {
			t.Errorf("%v: %d, %q, %q, %v", c.args, code, out, errs, err)
		} else if c.kind != strings.TrimPrefix(f.Type, "urn:inktray:problem:") {
			t.Errorf("%v: %s, want %s", c.args, f.Type, c.kind)
		}
	}

	// The interface describes itself, to anybody.
	status, headers, raw := o.request("GET", "/api/v1/openapi.yaml", "", "")
	if status != 200 || headers.Get("Content-Type") != "application/yaml" ||
		!strings.Contains(string(raw), "operationId: GetInterface") {
		t.Errorf("%d, %v, %.100s", status, headers, raw)
	}

	// A shell completes names and values.
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"__complete", "rules", "show", "Tide"}, "Tide gauge readings\n"},
		{[]string{"__complete", "mailboxes", "check", "GAU"}, "gauges\n"},
		{[]string{"__complete", "cabinets", "check", ""}, "harbour files\n"},
		{[]string{"__complete", "passes", "list", "--rule", "Dive"}, "Dive surveys\n"},
		{[]string{"__complete", "health", "--output", ""}, "table\njson\n"},
	} {
		if out := must(t, c.args...); !strings.HasPrefix(out, c.want) {
			t.Errorf("%v: %q, want %q", c.args, out, c.want)
		}
	}
	if out := must(t, "version"); !strings.Contains(out, "go1.") || !strings.Contains(out, "service") {
		t.Error(out)
	}
}

func TestEachCommandHasAManualPage(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "man1")
	says(t, "the manual", must(t, "manual", folder), "manual pages are in "+folder)
	page, err := os.ReadFile(filepath.Join(folder, "inktray-mailboxes-add.1"))
	if err != nil {
		t.Fatal(err)
	}
	says(t, "a page", string(page), "Ink Tray", "--host")
}

// The palette goes everywhere by the keyboard, shortcuts are listed, pages name themselves, and the check-up is a page.
func TestThePaletteAndTheCheckUpInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	barriers := barriersIn(t, b, source, "dark", "light")
	palette := func(text, sees string) {
		t.Helper()
		b.Chord("k")
		b.Until("the palette is open", `!!document.querySelector('[role=combobox]')`)
		b.Key(text)
		b.Until(text+" is found",
			`[...document.querySelectorAll('[role=option][aria-selected=true]')].some(x => x.innerText.includes(`+strconv.Quote(sees)+`))`)
	}
	palette("harbour d", "Harbour dues")
	barriers("the palette")
	picture(t, b, "palette")
	b.Key("\r")
	b.Until("the rule is open", `location.pathname.startsWith('/rules/') && document.title === 'Harbour dues – Ink Tray'`)
	palette("regis", "Register")
	b.Key("\r")
	b.Until("the register is open", `location.pathname === '/register' && document.title === 'Register – Ink Tray'`)
	number := ""
	until(t, "something is filed", func() bool {
		for _, f := range value[client.RegisterPage](t, "register", "list").Filings {
			number = f.Entry
		}
		return number != ""
	})
	palette(number, number)
	b.Key("\r")
	b.Until("the filing is found", `location.search === '?text=`+number+`' && document.body.innerText.includes(`+
		strconv.Quote(number)+`)`)
	b.Chord("k")
	b.Key("no such thing at all")
	b.Sees("Nothing has this name")
	b.Key(testbed.Escape)
	b.Key("?")
	b.Sees("Keyboard shortcuts")
	barriers("the shortcuts")
	b.Key(testbed.Escape)
	b.Press("How Ink Tray works")
	b.Sees("From a message to a file in a folder")
	b.Until("the page has its name", `document.title === 'How Ink Tray works – Ink Tray'`)
	barriers("how it works")
	picture(t, b, "how")
	section(b, "Service")
	b.Press("Check everything")
	b.Sees("Something does not work.")
	b.Sees("can be written to;")
	barriers("the check-up")
	b.Run(`document.querySelector("#check-up").scrollIntoView()`, nil)
	picture(t, b, "checkup")
}
