package rule

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
)

const tideGauges = `format: 1
rules:
  - id: tide-gauges
    name: Tide gauge readings
    cabinet: harbour-files
    look: {mailboxes: [gauges], folders: [inbox]}
    match:
      all:
        - sender: {domain: tidewatch.example}
        - any:
            - subject: {contains any: [reading, water level]}
            - words: {in: [subject, body], all: [gauge, station]}
    unless:
      - subject: {begins: Draft}
    attachments:
      - leave: [{inline: true, smaller: 20 KB}]
      - take: [{kind: spreadsheet}, {name: "*.csv"}]
        folder: Gauges/<received year>/<received month> <received month name>/<sender.domain>
        name: <received date> <file.stem>
        if name exists: number
    rest: leave
    then: continue
`

func one(t *testing.T, document string) *Compiled {
	t.Helper()
	doc, err := Parse([]byte(document))
	if err != nil {
		t.Fatal(err)
	}
	c, err := Compile(&doc.Rules[0], 1, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestDocumentKeepsThroughYAMLAndJSON(t *testing.T) {
	doc, err := Parse([]byte(tideGauges))
	if err != nil {
		t.Fatal(err)
	}
	first, err := json.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	y, err := YAML(doc)
	if err != nil {
		t.Fatal(err)
	}
	for _, form := range [][]byte{first, y} {
		again, err := Parse(form)
		if err != nil {
			t.Fatalf("%v in\n%s", err, form)
		}
		second, _ := json.Marshal(again)
		if string(second) != string(first) {
			t.Errorf("changed on the way:\n%s\n%s", first, second)
		}
	}
	if strings.ContainsAny(string(y), `{"`) && !strings.Contains(string(y), "*.csv") {
		t.Errorf("the YAML is not for people:\n%s", y)
	}
}

func TestScalarsAreTakenAsWritten(t *testing.T) {
	c := one(t, strings.Replace(tideGauges, "begins: Draft", "is: [0042, 1e3, yes, 2026-05-12]", 1))
	if got := c.Rule.Unless[0].Subject.Is; !slices.Equal(got, []string{"0042", "1e3", "yes", "2026-05-12"}) {
		t.Errorf("got %q", got)
	}
}

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	for _, c := range []struct{ name, old, new, place, says, meant string }{
		{"unknown key", "sender: {domain", "sneder: {domain", "rules[0].match.all[0].sneder", "no key", "sender"},
		{"unknown key deep down", "begins: Draft", "begns: Draft", "rules[0].unless[0].subject.begns", "no key", "begins"},
		{"a topic without a name", "sender: {domain: tidewatch.example}", "topic: {confidence: 90%}",
			"rules[0].match.all[0].topic", `"is" is missing`, ""},
		{"a confidence beyond measure", "sender: {domain: tidewatch.example}", "topic: {is: berths, confidence: 30%}",
			"rules[0].match.all[0].topic.confidence", "from 50% to 99%", ""},
		{"a caution that is none", "    then: continue", "    then: continue\n    hold: [viruses]", "rules[0].hold[0]",
			"not known here", ""},
		{"unknown kind", "kind: spreadsheet", "kind: spreadsheat", "rules[0].attachments[1].take[0].kind", "not known here",
			"spreadsheet"},
		{"bad size", "20 KB", "20 bananas", "rules[0].attachments[0].leave[0].smaller", "a size is a number", ""},
		{"missing key", "    name: Tide gauge readings\n", "", "rules[0]", `"name" is missing`, ""},
		{"key twice", "    then: continue", "    then: continue\n    then: stop", "rules[0].then", "twice", ""},
		{"map wanted", "sender: {domain: tidewatch.example}", "sender: tidewatch.example", "rules[0].match.all[0].sender",
			"a map of keys", ""},
		{"text wanted", "name: Tide gauge readings", "name: [a]", "rules[0].name", "this must be a text", ""},
		{"not for all messages by accident", "match:\n", "match: every mesage\n    old:\n", "rules[0].match", "every message",
			"every message"},
		{"broken YAML", "rest: leave", "rest: [leave", "", "cannot be read", ""},
		{"anchors", "cabinet: harbour-files", "cabinet: &x harbour-files", "rules[0].cabinet", "anchors", ""},
		{"format", "format: 1", "format: 7", "format", "format 7", ""},
	} {
		document := strings.Replace(tideGauges, c.old, c.new, 1)
		if document == tideGauges {
			t.Fatalf("%s: nothing was replaced", c.name)
		}
		_, err := Parse([]byte(document))
		var problems Problems
		if !errors.As(err, &problems) {
			t.Errorf("%s: no problem was told (%v)", c.name, err)
			continue
		}
		p := problems[0]
		if p.Place != c.place || !strings.Contains(p.Text, c.says) || p.Meant != c.meant || c.place != "format" &&
			p.Line == 0 {
			t.Errorf("%s: %+v, want place %q, text ...%q..., meant %q", c.name, p, c.place, c.says, c.meant)
		}
	}
}

func TestCompileChecksWhatTheDocumentCannot(t *testing.T) {
	for _, c := range []struct{ name, old, new, place, says string }{
		{"unknown field", "<sender.domain>", "<sender.domian>", "attachments[1].folder", "sender.domian"},
		{"inner folders of nothing", "        if name exists: number\n", "        inner folders: drop\n",
			"attachments[1].inner folders", "nothing is unpacked"},
		{"the same copy twice", "    then: continue", "    copies: [{as: eml}, {as: eml}]", "copies[1].as", "twice"},
		{"a header without a name", "subject: {begins: Draft}", "header: {name: 'no name', is: x}", "unless[0].header.name",
			"not the name of a header field"},
		{"bad expression", "begins: Draft", "matches: '('", "unless[0].subject.matches", "regular expression"},
		{"nothing compared", "begins: Draft", "", "unless[0].subject", "has no comparison"},
		{"not a domain", "domain: tidewatch.example", "domain: oda@tidewatch.example", "match.all[0].sender.domain",
			"is not a domain"},
		{"not an address", "domain: tidewatch.example", "address: tidewatch.example", "match.all[0].sender.address",
			"an @ is missing"},
		{"empty group", "match:\n      all:", "match:\n      any: []\n      all:", "match.any", "empty"},
		{"no folder", "        folder: Gauges/<received year>/<received month> <received month name>/<sender.domain>\n", "",
			"attachments[1].folder", "the folder to file in is missing"},
		{"unknown zone", "    then: continue", "    time zone: Europe/Brackwater", "time zone", "no time zone"},
	} {
		document := strings.Replace(tideGauges, c.old, c.new, 1)
		doc, err := Parse([]byte(document))
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		_, err = Compile(&doc.Rules[0], 1, nil)
		var problems Problems
		if !errors.As(err, &problems) || problems[0].Place != c.place || !strings.Contains(problems[0].Text, c.says) {
			t.Errorf("%s: %v, want %s: ...%s...", c.name, err, c.place, c.says)
		}
	}
}

func message(headers, body string) *mail.Message {
	m := mail.Parse([]byte(strings.ReplaceAll(headers, "\n", "\r\n") + "\r\n\r\n" + body)).Message
	m.Received = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)
	return m
}

func TestConditions(t *testing.T) {
	base := message("From: Oda Fenwick <oda@Gauges.tidewatch.example>\nTo: gauges+north@brackwater.example\nDate: Mon, "+
		"11 May 2026 10:00:00 +0000\nSubject: Re: AW: Water LEVEL readings, stra\u00dfe 3\nContent-Type: application/pdf; "+
		"name=\"plan ③.pdf\"", strings.Repeat("x", 2000))
	base.Flags = []string{`\Flagged`, "To_file"}
	text := "All stations report."
	base.Text = &text
	now := time.Date(2026, 5, 20, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		condition string
		want      Answer
		says      string
	}{
		{"sender: {domain: tidewatch.example}", Yes, "sender is oda@gauges.tidewatch.example"},
		{"sender: {domain: tidewatch.example, exactly: true}", No,
			"sender is gauges.tidewatch.example, not tidewatch.example"},
		{"sender: {domain: watch.example}", No, ""},
		{"sender: {address: [x@y.example, ODA@gauges.tidewatch.example]}", Yes, ""},
		{"sender: {name: oda}", Yes, "called “Oda Fenwick”"},
		{"sender: {name: tidewatch.example}", No, ""},
		{"recipient: {detail: north}", Yes, ""},
		{"recipient: {domain: brackwater.example}", Yes, ""},
		{"subject: {begins: water level}", Yes, "begins with “water level”"},
		{"subject: {begins: 're:'}", No, "does not begin with"},
		{"subject.full: {begins: 're:'}", Yes, ""},
		{"subject: {contains: STRASSE}", Yes, ""},
		{"subject: {contains all: [water, readings]}", Yes, ""},
		{"subject: {contains all: [water, diver]}", No, "does not contain “diver”"},
		{"subject: {like: 'water*3'}", Yes, ""},
		{"subject: {like: 'water'}", No, ""},
		{"subject: {matches: 'readings?, \\S+ \\d'}", Yes, ""},
		{"subject: {ends: '3'}", Yes, ""},
		{"received: {after: 2026-05-12}", Yes, "received on 2026-05-12"},
		{"received: {before: 2026-05-12}", No, ""},
		{"received: {within: 8 days}", Yes, ""},
		{"received: {within: 1 week}", No, ""},
		{"sent: {before: 2026-05-12}", Yes, ""},
		{"size: {larger: 2 KB}", Yes, ""},
		{"size: {smaller: 2 KB}", No, ""},
		{"label: to file", Yes, "the label “to file” is on the message"},
		{"label: other", No, ""},
		{"read: false", Yes, "the message is unread"},
		{"read: true", No, "is unread"},
		{"flagged: true", Yes, ""},
		{"attachments: {at least: 1}", Yes, "1 attachment"},
		{"attachments: {at most: 0}", No, ""},
		{"attachment: {kind: pdf, larger: 1 KB}", Yes, "“plan ③.pdf”: kind pdf, 2 KB, over 1 KB"},
		{"attachment: {kind: pdf, larger: 1 MB}", No, ""},
		{"attachment: {name: 'PLAN 3.*'}", Yes, ""},
		{"attachment: {type: application/*}", Yes, ""},
		{"words: {all: [stations, plan]}", Yes, ""},
		{"words: {in: subject, any: [stations]}", No, "does not stand in the subject"},
		{"any: [{read: true}, {flagged: true}]", Yes, "flagged"},
		{"all: [{read: false}, {flagged: false}]", No, ""},
		{"none: [{read: true}, {label: other}]", Yes, ""},
		{"none: [{read: false}]", No, ""},
		{"{sender: {name: oda}, read: true}", No, "is unread"},
	} {
		document := strings.Replace(tideGauges[:strings.Index(tideGauges, "    match:")], "format", "format", 1) +
			"    match:\n      " + c.condition + "\n    rest: {folder: A}\n"
		if strings.HasPrefix(c.condition, "{") {
			document = strings.Replace(document, "match:\n      {", "match: {", 1)
		}
		rule := one(t, document)
		r := rule.Matches(&Input{Message: base, Now: now})
		if r.Answer != c.want || !strings.Contains(r.Text, c.says) || r.Text == "" {
			t.Errorf("%s: %s, %q; want %s, ...%q...", c.condition, r.Answer, r.Text, c.want, c.says)
		}
		if s := rule.Sentence(); strings.Contains(s, "  ") || !strings.HasPrefix(s, "Look in gauges, folder inbox. For "+
			"messages ") {
			t.Errorf("%s reads %q", c.condition, s)
		}
	}
}

func TestNothingIsReadThatCannotChangeTheAnswer(t *testing.T) {
	c := one(t, tideGauges)
	for _, k := range []struct {
		name, from, subject string
		want                Answer
	}{
		{"another sender settles it", "a@marram.example", "hello", No},
		{"the subject settles it", "a@tidewatch.example", "Readings", Yes},
		{"the exception settles it", "a@tidewatch.example", "Draft reading", No},
		{"only the text can tell", "a@tidewatch.example", "station hello", NotYet},
	} {
		m := message("From: "+k.from+"\nSubject: "+k.subject, "")
		if r := c.Matches(&Input{Message: m}); r.Answer != k.want {
			t.Errorf("%s: %s (%s), want %s", k.name, r.Answer, r.Text, k.want)
		}
	}
	m := message("From: a@tidewatch.example\nSubject: x\nContent-Type: application/pkcs7-mime; smime-type=enveloped-data",
		"")
	if r := c.Matches(&Input{Message: m}); r.Answer != Unknowable || !strings.Contains(r.Text, "encrypted") {
		t.Errorf("an encrypted text: %s (%s)", r.Answer, r.Text)
	}
}

func TestChoose(t *testing.T) {
	c := one(t, tideGauges)
	for _, k := range []struct {
		item  mail.Item
		leave bool
		says  string
	}{
		{mail.Item{Name: "a.xlsx", Kind: mail.Spreadsheet}, false, "kind spreadsheet"},
		{mail.Item{Name: "B.CSV", Kind: mail.Other}, false, "name is like *.csv"},
		{mail.Item{Name: "logo.png", Kind: mail.Picture, Inline: true, Size: 4096}, true,
			"inline picture, 4 KB, under 20 KB"},
		{mail.Item{Name: "photo.png", Kind: mail.Picture, Inline: true, Size: 400_000}, true, "the rest is left"},
		{mail.Item{Name: "smime.p7s", Detached: true}, true, "detached signature"},
		{mail.Item{Name: "x.csv.lnk", Active: true}, true, "makes a computer act"},
	} {
		if got := c.Choose(&k.item, nil); got.Leave != k.leave || !strings.Contains(got.Text, k.says) {
			t.Errorf("%s: leave=%v, %q; want leave=%v, ...%q...", k.item.Name, got.Leave, got.Text, k.leave, k.says)
		}
	}
	all := one(t, strings.Replace(tideGauges, "rest: leave", "rest: {folder: Other}\n    leave out: []", 1))
	if got := all.Choose(&mail.Item{Name: "smime.p7s", Detached: true}, nil); got.Leave || got.Text != "the rest" {
		t.Errorf("with an empty list of defaults: %+v", got)
	}
	if got := all.Target(Choice{Entry: 2}).Folder.String(); got != "Other" {
		t.Errorf("the rest goes to %q", got)
	}
}

func TestSentence(t *testing.T) {
	want := "Look in gauges, folder inbox. For messages from tidewatch.example and (whose subject contains “reading” or " +
		"“water level” or " +
		"with “gauge” and “station” in the subject or text), unless the subject begins with “Draft”: leave out inline " +
		"pictures under 20 KB; " +
		"file spreadsheets and files named *.csv in Gauges / year received / month received / sender’s domain, named date " +
		"received, original name; " +
		"leave the rest."
	rule := one(t, tideGauges)
	if got := rule.Sentence(); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if got := rule.Example(); got != "Gauges/2026/05 May/tidewatch.example/2026-05-12 Readings May.xlsx" {
		t.Errorf("the example is %s", got)
	}
	if got := rule.Summary(); strings.Contains(got, "Gauges") || !strings.Contains(got, "file spreadsheets") ||
		!strings.HasPrefix(got, "Look in gauges, folder inbox. For messages from tidewatch.example") {
		t.Errorf("the summary is %s", got)
	}
	// What differs from usual is said.
	odd := one(t, strings.Replace(tideGauges, "    match:", "    leave out: [detached signatures, active files]\n"+
		"    hold: [disguised files]\n    match:", 1)).Sentence()
	if !strings.HasSuffix(odd, " Also takes inline pictures under 20 KB, forwarded messages themselves and delivery "+
		"reports. Does not hold office files with macros and archives with a password for your decision.") {
		t.Errorf("what differs: %s", odd)
	}
}

func TestSchemaNamesEveryKey(t *testing.T) {
	data, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{`"contains any"`, `"if name exists"`, `"every message"`, `"signature pictures"`,
		`"additionalProperties":false`, `"at least"`} {
		if !strings.Contains(string(data), key) {
			t.Errorf("the schema does not name %s", key)
		}
	}
}

func FuzzParseDocument(f *testing.F) {
	f.Add([]byte(tideGauges))
	f.Add([]byte("rules: [{match: {all: [{any: []}]}}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		doc, err := Parse(data)
		if err != nil {
			return
		}
		for i := range doc.Rules {
			c, err := Compile(&doc.Rules[i], 1, nil)
			if err != nil {
				continue
			}
			if c.Sentence() == "" {
				t.Fatal("a rule without a sentence")
			}
			c.Matches(&Input{Message: mail.Parse([]byte("From: a@b.example\r\n\r\n")).Message})
		}
		written, err := YAML(doc)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(written); err != nil {
			t.Fatalf("%v in what was written:\n%s", err, written)
		}
	})
}
