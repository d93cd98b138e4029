package cli

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
	"inktray.example/inktray/internal/texts"
)

// textsIn are the texts of a context in a language that have no gaps, by the English ones.
func textsIn(t *testing.T, language, context string) map[string]string {
	t.Helper()
	all := map[string]string{}
	if err := texts.Each(language, context, func(english, text string) {
		if !strings.Contains(english, "{") && (context == texts.Console || strings.Contains(english, " ")) {
			all[english] = text
		}
	}); err != nil {
		t.Fatal(err)
	}
	return all
}

// names are what things of the demo are called, and kinds of files.
var names = []string{"mail from files", "Filed", "filed", "Out of reach", "text"}

func TestTheConsoleSpeaksGerman(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theWeeks)
	for n := 1; n <= 3; n++ {
		l := demo.Next(n, time.Now())
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			t.Fatal(err)
		}
	}
	held, err := call[client.Tray](o.api.ListTray(t.Context(), &client.ListTrayParams{}))
	if err != nil || len(held.Groups) == 0 {
		t.Fatalf("the tray holds %+v, %v", held, err)
	}
	b := testbed.StartBrowserIn(t, "de-DE", 1280, 800)
	b.Scheme("light")
	b.Open(o.service.address() + "/")
	b.Sees("Passwort")
	b.Type("Name", demoPerson)
	b.Type("Passwort", demo.Password)
	b.Press("Anmelden")
	b.Sees("heute abgelegt")
	german, service := textsIn(t, "de", texts.Console), textsIn(t, "de", texts.Service)
	message := itoa(held.Groups[0].Matters[0].Message.ID)
	for _, p := range []struct{ name, path, sees string }{
		{"today", "/", "heute abgelegt"}, {"tray", "/tray", "Korb"}, {"rules", "/rules", "Neue Regel"},
		{"rule", "/rules/tide-gauges", "Probe"}, {"new-rule", "/rules/new", "Name der Regel"},
		{"mail", "/mail", "alle Postfächer"}, {"message", "/messages/" + message, "Was jede Regel entscheidet"},
		{"history", "/history", "Verlauf"}, {"pass", "/history/6", "Durchgang"}, {"register", "/register", "Register"},
		{"filing", "/register/2026-0001", "Was geschah"},
		{"messages", "/register?view=messages", "Nachrichten"}, {"activity", "/register?view=activity", "Nach Regel"},
		{"people", "/people", "Personen"}, {"you", "/you", "Sprache"}, {"how", "/how", "Wie Ink Tray arbeitet"},
		{"settings-mailboxes", "/settings/mailboxes", "Postfächer"}, {"settings-cabinets", "/settings/cabinets", "Schränke"},
		{"settings-correspondents", "/settings/correspondents", "Korrespondenten"},
		{"settings-topics", "/settings/topics", "Themen"}, {"settings-tables", "/settings/tables", "Tabellen"},
		{"settings-notifications", "/settings/notifications", "Benachrichtigungen"},
		{"settings-safety", "/settings/safety", "Sicherheit"}, {"settings-register", "/settings/register", "Register"},
		{"settings-service", "/settings/service", "Dienst"}, {"nowhere", "/nowhere", "Diese Seite gibt es nicht"},
	} {
		b.Open(o.service.address() + p.path)
		b.Until(p.name+" is shown", `document.querySelector("#page h1")?.innerText && `+
			`document.querySelector("#page").innerText.includes(`+strconv.Quote(p.sees)+`)`)
		b.Until("nothing is being looked for", `!document.body.innerText.includes("Sieht nach…")`)
		var shown []string
		b.Run(`(() => { const out = []; const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT); `+
			`while (walk.nextNode()) { const x = walk.currentNode.textContent.trim(); if (x) out.push(x) } `+
			`for (const e of document.querySelectorAll('[aria-label],[placeholder],[title]')) `+
			`for (const a of ['aria-label', 'placeholder', 'title']) if (e.getAttribute(a)) out.push(e.getAttribute(a)); `+
			`return out })()`, &shown)
		for _, text := range shown {
			if slices.Contains(names, text) || p.name == "people" && strings.Count(text, " ") < 2 {
				continue // what people changed is told by the keys of documents
			}
			if in := german[text]; in != "" && in != text {
				t.Errorf("%s says %q in English", p.name, text)
			} else if in := service[text]; in != "" && in != text {
				t.Errorf("%s: the service says %q in English, %q", p.name, text, in)
			}
		}
		for _, v := range b.Axe(source) {
			t.Errorf("%s: %+v", p.name, v)
		}
		picture(t, b, "de-"+p.name)
	}
}

func TestTheCommandLineSpeaksTheLanguageOfItsPerson(t *testing.T) {
	for env, want := range map[string]string{"LANG=de_DE.UTF-8": "de-DE", "LANG=C.UTF-8": "", "LANG=POSIX": "", "": "",
		"LC_ALL=C LANG=de_DE.UTF-8": "", "LC_MESSAGES=de_AT LANG=en_GB.UTF-8": "de-AT", "LANG=de_DE@euro": "de-DE"} {
		got := languageOf(func(name string) string {
			for _, pair := range strings.Fields(env) {
				if value, ok := strings.CutPrefix(pair, name+"="); ok {
					return value
				}
			}
			return ""
		})
		if got != want {
			t.Errorf("%q asks for %q, want %q", env, got, want)
		}
	}
	openOffice(t, theLast)
	t.Setenv("LC_ALL", "de_DE.UTF-8")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--help"}, "legt ihre Anhänge in datierten, benannten Ordnern ab"},
		{[]string{"rules", "save", "--help"}, "Beispiele:\n  inktray rules save rule.yaml"},
		{[]string{"rules", "list"}, "NAME"},
		{[]string{"rules", "list"}, "  ja  "},
		{[]string{"passes", "list"}, "alte Post"},
		{[]string{"passes", "list"}, "fertig"},
		{[]string{"register", "list", "--columns", "number,state"}, "abgelegt"},
		{[]string{"mailboxes", "list"}, "wird live überwacht"},
		{[]string{"mailboxes", "show", "gauges"}, "Verschlüsselung"},
		{[]string{"alarms", "list"}, "nie"},
		{[]string{"limits", "show"}, "Tage, die ersetzte oder zurückgenommene Dateien aufbewahrt werden; 0 für immer"},
		{[]string{"doctor"}, "die Aufzeichnungen sind unversehrt"},
		{[]string{"rules", "show", "Nothing"}, "es gibt keine Regel namens"},
		{[]string{"rules", "lst"}, "es gibt keinen Befehl „inktray rules lst“"},
		{[]string{"messages", "why", "1"}, "ENTSCHIEDEN DURCH"},
		{[]string{"mailboxes", "add", "x", "--kindd", "imap"}, "hat keine Option „--kindd“; meinten Sie „--kind“?"},
	} {
		out, errs, _ := run(t, "", c.args...)
		if !strings.Contains(out+errs, c.says) {
			t.Errorf("inktray %s says\n%s%s\nwithout %q", strings.Join(c.args, " "), out, errs, c.says)
		}
	}
	out, _, _ := run(t, "", "rules", "list", "--output", "json")
	if !strings.Contains(out, `"sentence": "`) || strings.Contains(out, "For messages") {
		t.Errorf("the JSON of rules is not in German:\n%.400s", out)
	}
}

// TestLoneWordsAreInEveryLanguage looks for the labels of what is shown by name, and for the words of the interface
// that stand in columns.
func TestLoneWordsAreInEveryLanguage(t *testing.T) {
	spec, err := openapi3.NewLoader().LoadFromFile(filepath.Join("..", "api", "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	schema := func(name, property string) *openapi3.Schema {
		s := spec.Components.Schemas[name]
		if property != "" && s != nil {
			s = s.Value.Properties[property]
		}
		if s == nil {
			t.Fatalf("openapi.yaml has no %s %s", name, property)
		}
		return s.Value
	}
	for _, language := range texts.Languages() {
		words := map[string]bool{}
		known := func(english, text string) { words[english] = text != "" }
		if err := texts.Each(language, texts.Service, known); err != nil {
			t.Fatal(err)
		}
		said := func(use, word string) {
			if !words[use+": "+word] {
				t.Errorf("the catalogue %s has no “%s: %s”", language, use, word)
			}
		}
		for _, name := range []string{"Mailbox", "Cabinet", "Correspondent", "Addressee", "Alarm", "Person", "Group",
			"Topic"} {
			eachLabel(schema(name, ""), "", func(label string) { said("label", label) })
		}
		for _, of := range [][2]string{{"Role"}, {"CheckupState"}, {"Mailbox", "state"}, {"Pass", "kind"}, {"Pass", "state"},
			{"Filing", "state"}, {"UnreadMessage", "state"}, {"TopicVerdict", "decision"}, {"Alarm", "kind"},
			{"Addressee", "kind"}, {"Addressee", "tray"}, {"Person", "state"}} {
			for _, word := range schema(of[0], of[1]).Enum {
				said("state", word.(string))
			}
		}
	}
}

// eachLabel calls f with the labels that facts makes of a schema, but for that which heads the table.
func eachLabel(s *openapi3.Schema, within string, f func(label string)) {
	for _, part := range s.AllOf {
		eachLabel(part.Value, within, f)
	}
	for name, p := range s.Properties {
		label := within + strings.ReplaceAll(name, "_", " ")
		switch {
		case len(p.Value.Properties) > 0 || len(p.Value.AllOf) > 0:
			eachLabel(p.Value, label+" ", f)
		case name != "id" && label != "name":
			f(label)
		}
	}
}

// TestWhatIsReadInALanguageCanBeWrittenBack reads rules, topics and notes as people of two languages do: only texts of
// Ink Tray may differ.
func TestWhatIsReadInALanguageCanBeWrittenBack(t *testing.T) {
	openOffice(t, theLast)
	rule := `format: 1
rules:
  - name: the rest is left
    cabinet: harbour files
    look: {mailboxes: gauges}
    match: {words: {any: [rule, message, the rest is left]}}
    attachments:
      - take: [{kind: pdf, text: {contains: the file is empty}}]
        folder: the rest is left/<received year>
    afterwards:
      - {reply: {text: "the rest is left and the file is empty"}}
`
	if _, errs, code := run(t, "", "rules", "save", write(t, "rule.yaml", rule)); code != 0 {
		t.Fatal(errs)
	}
	if _, errs, code := run(t, "", "register", "note", "2026-1", "the rest is left"); code != 0 {
		t.Fatal(errs)
	}
	read := func() (document, note string) {
		document, errs, code := run(t, "", "rules", "export", "the rest is left")
		if code != 0 {
			t.Fatal(errs)
		}
		shown, errs, code := run(t, "", "register", "show", "2026-1", "--output", "json")
		if code != 0 {
			t.Fatal(errs)
		}
		return document, shown
	}
	english, _ := read()
	t.Setenv("LC_ALL", "de_DE.UTF-8")
	german, shown := read()
	if english != german {
		t.Errorf("the rule is\n%s\nin English and\n%s\nin German", english, german)
	}
	if !strings.Contains(shown, `"text": "the rest is left"`) {
		t.Errorf("the note is not as it was written:\n%s", shown)
	}
	out, errs, code := run(t, "", "rules", "save", write(t, "again.yaml", german))
	if code != 0 || !strings.Contains(out, "ist schon, wie die Datei sagt") {
		t.Errorf("saved again: %s%s", out, errs)
	}
}

func TestMailOfTheOfficeIsInItsLanguage(t *testing.T) {
	o := openOffice(t, theWeeks, func(o *serviceOptions) { o.language = "de-AT" })
	must(t, "notifications", "trial", "Harbour master")
	must(t, "notifications", "change", "Harbour master", "--tray", "at once")
	must(t, "people", "invite", "Rowan Tidd", "--mail", "rowan@brackwater.example", "--send")
	raw := "From: certificates@kelpmutual.example\r\nTo: safety@brackwater.example\r\n" +
		"Subject: Insurance certificate MV Thrift\r\nMessage-ID: <new@kelpmutual.example>\r\n" +
		"Content-Type: application/pdf; name=paper.pdf\r\n\r\n%PDF-1.4 x\r\n"
	if err := o.mail.Deliver("safety", []byte(raw), time.Now()); err != nil {
		t.Fatal(err)
	}
	until(t, "all is sent", func() bool {
		mails := strings.Join(o.sent(".eml"), "\n")
		for _, says := range []string{"Ein Test von Ink Tray", "Ihr Zugang zu Ink Tray", "mit diesem Link",
			": 1 abgelegt"} {
			if !strings.Contains(mails, says) {
				return false
			}
		}
		return true
	})
	for _, m := range o.sent(".eml") {
		for _, english := range []string{"A trial from", "Your way into", "with this link", "filed from", "in the tray"} {
			if strings.Contains(m, english) {
				t.Errorf("a mail says %q:\n%s", english, m)
			}
		}
	}
}
