package plan

import (
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

const dues = "From: Vera <vera@quill.example>\r\nTo: berths@brackwater.example\r\nSubject: Dues BK-2001\r\n" +
	"Message-ID: <dues@quill.example>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" +
	"--b\r\nContent-Type: text/plain; name=large.txt\r\nContent-Disposition: attachment; filename=large.txt\r\n\r\nx\r\n" +
	"--b\r\nContent-Type: text/plain; name=small.txt\r\nContent-Disposition: attachment; filename=small.txt\r\n\r\nx\r\n" +
	"--b\r\nContent-Type: application/pdf; name=scan.pdf\r\nContent-Disposition: attachment; filename=scan.pdf\r\n\r\nx" +
	"\r\n--b--\r\n"

const duesValues = `
values:
  - {name: order, from: '<subject find "BK-[0-9]+">'}
  - {name: total, type: amount, from: '<file.text find "Total: ([0-9., ]+ EUR)">', decimal: comma}
  - {name: weight, type: number, from: '<file.text find "Weight: ([0-9.,]+)">'}
  - {name: due, type: date, from: '<file.text find "Due: ([0-9.]+)">'}
  - {name: paid, type: yes or no, from: '<file.text find "Paid: ([a-z]+)">'}
`

func duesMessage(read bool) *mail.Message {
	m := mail.Parse([]byte(dues)).Message
	if read {
		m.Texts = map[string]*mail.Read{"1": {Text: "Total: 1.180,50 EUR Weight: 12.5 Due: 30.11.2026 Paid: no"},
			"2": {Text: "Total: 90,00 EUR Paid: yes"}, "3": {Problem: "it is a scan", Empty: true}}
	}
	return m
}

// An entry takes the files whose values fit. What was not read yet is asked for, and what nobody can read is held.
func TestEntriesTakeWhatTheirValuesFit(t *testing.T) {
	for _, c := range []struct{ test, taken, held string }{
		{"{value: {name: total, at least: 1000}}", "large", "scan"},
		{"{value: {name: total, at least: '1.180,50 EUR'}}", "large", "scan"},
		{"{value: {name: total, more than: '1180,50'}}", "", "scan"},
		{"{value: {name: total, more than: 80, less than: 100}}", "small", "scan"},
		{"{value: {name: total, at most: 100 EUR}}", "small", "scan"},
		{"{value: {name: total, at least: 0 NOK}}", "", "scan"},
		{"{value: {name: total, is: [90, '7,00']}}", "small", "scan"},
		{"{kind: text, value: {name: total, found: true}}", "large small", ""},
		{"{kind: text, value: {name: due, found: false}}", "small", ""},
		{"{value: {name: weight, is: 12.50}}", "large", "scan"},
		{"{value: {name: due, after: 2026-11-30}}", "large", "scan"},
		{"{value: {name: due, after: 2026-12-01}}", "", "scan"},
		{"{value: {name: due, before: 2026-12-01, is: 2026-11}}", "large", "scan"},
		{"{value: {name: due, is: [2025, 30.11.2026]}}", "large", "scan"},
		{"{value: {name: paid, is: 'yes'}}", "small", "scan"},
		{"{value: {name: order, is: bk-2001}}", "large small scan", ""},
		{"{value: {name: order, like: 'bk-2*'}}", "large small scan", ""},
		{"{value: {name: order, like: 'bk-3*'}}", "", ""},
		{"{value: [{name: order, is: BK-9}, {name: total, is: 90}]}", "small", "scan"},
		{"{all values: [{name: order, like: 'BK-*'}, {name: total, is: 90}]}", "small", "scan"},
		{"{all values: [{name: order, is: BK-9}, {name: total, is: 90}]}", "", ""},
		{"{text: {contains: paid}, value: {name: total, at least: 1}}", "large small", "scan"},
		{"[{value: {name: total, at least: 1000}}, {name: small*}]", "large small", "scan"},
	} {
		r := compile(t, "name: Dues\ncabinet: files\nlook: {mailboxes: all}\nmatch: every message\nattachments:\n  - take: "+
			c.test+"\n    folder: Dues"+duesValues)
		items, needs := All(r, duesMessage(true), Setting{})
		if needs.Any() {
			t.Errorf("%s needs %+v", c.test, needs)
		}
		var taken, held []string
		for _, id := range []string{"1", "2", "3"} {
			i := items[id]
			stem, _, _ := strings.Cut(i.Item.Name, ".")
			switch i.Verdict {
			case Filed:
				taken = append(taken, stem)
			case Held:
				held = append(held, stem)
			}
		}
		if strings.Join(taken, " ") != c.taken || strings.Join(held, " ") != c.held {
			t.Errorf("%s takes %q and holds %q, want %q and %q", c.test, taken, held, c.taken, c.held)
		}
	}
	r := compile(t, "name: Dues\ncabinet: files\nlook: {mailboxes: all}\nmatch: every message\nattachments:\n  - take: "+
		"{kind: text, value: {name: total, at least: 1000}}\n    folder: Dues"+duesValues)
	if _, needs := All(r, duesMessage(false), Setting{}); strings.Join(needs.Texts, " ") != "1 2" {
		t.Errorf("it needs %+v", needs)
	}
	items, _ := All(r, duesMessage(true), Setting{})
	if one := items["1"]; one.Reason.String() != "kind text, total is “1180.50 EUR”, at least 1000" {
		t.Errorf("it says %q", one.Reason.String())
	}
	if other := items["2"]; other.Reason.String() != "the rest is left: total is “90.00 EUR”, not at least 1000" {
		t.Errorf("it says %q", other.Reason.String())
	}
}

// A rule is for the messages with a file whose values fit. A value that stands in the message asks for its text.
func TestConditionsOnValues(t *testing.T) {
	answer := func(condition, values string, m *mail.Message) rule.Reason {
		r := compile(t, "name: Dues\ncabinet: files\nlook: {mailboxes: all}\nmatch: {attachment: "+condition+
			"}\nattachments: {take: everything, folder: Dues}"+values)
		s := Setting{}
		return r.Matches(s.input(m))
	}
	if r := answer("{value: {name: total, at least: 1000}}", duesValues, duesMessage(true)); r.Answer != rule.Yes ||
		r.Text != "“large.txt”: total is “1180.50 EUR”, at least 1000" {
		t.Errorf("%v: %s", r.Answer, r.Text)
	}
	tooLate := answer("{kind: text, value: {name: due, before: 2026-11-30}}", duesValues, duesMessage(true))
	if !strings.HasSuffix(tooLate.Text,
		"among the attachments; in “large.txt” due is “2026-11-30”, not before 2026-11-30") {
		t.Error(tooLate.Text)
	}
	for condition, want := range map[string]rule.Answer{
		"{kind: text, value: {name: total, at least: 2000}}": rule.No,
		"{value: {name: total, at least: 2000}}":             rule.Unknowable, // the scan may say so
		"{value: {name: order, is: BK-7}}":                   rule.No,
	} {
		if r := answer(condition, duesValues, duesMessage(true)); r.Answer != want {
			t.Errorf("%s: %v, %s", condition, r.Answer, r.Text)
		}
	}
	if r := answer("{value: {name: total, at least: 1000}}", duesValues, duesMessage(false)); r.Answer != rule.NotYet {
		t.Errorf("unread: %v, %s", r.Answer, r.Text)
	}
	inBody := "\nvalues: [{name: order, from: '<body find \"BK-[0-9]+\">'}]\n"
	r := compile(t, "name: Dues\ncabinet: files\nlook: {mailboxes: all}\nmatch: {attachment: {value: {name: order, "+
		"found: true}}}\nattachments: {take: everything, folder: Dues}"+inBody)
	s := Setting{}
	if is, needs := r.Answer(s.input(duesMessage(true))); is != rule.NotYet || !needs.Text || len(needs.Texts) > 0 {
		t.Errorf("%v, needs %+v", is, needs)
	}
}

func TestWrongTestsOfValuesAreSaid(t *testing.T) {
	for test, problem := range map[string]string{
		"{value: {name: totel, at least: 1}}":              "reads no value called “totel”",
		"{value: {name: order, at least: 1}}":              "“order” is not a number or amount",
		"{value: {name: total, at least: much}}":           "“much” is no amount",
		"{value: {name: weight, at least: 1.234}}":         "say which with decimal",
		"{value: {name: total, after: 2026-01-01}}":        "“total” is not a date",
		"{value: {name: due, after: soon}}":                "a day is written as",
		"{value: {name: total, like: '1*'}}":               "“total” is not text",
		"{value: {name: total}}":                           "has no comparison",
		"{value: {at least: 1}}":                           "name",
		"{value: {name: total, found: true, at least: 1}}": "“found” stands alone",
		"{value: {name: due, is: Tuesday}}":                "is not a date",
		"{value: []}":                                      "the test is empty",
	} {
		r, err := rule.ParseRule([]byte("name: Dues\ncabinet: files\nlook: {mailboxes: all}\nmatch: every message\n" +
			"attachments:\n  - take: " + test + "\n    folder: Dues" + duesValues))
		if err == nil {
			_, err = rule.Compile(r, 1, nil)
		}
		if err == nil || !strings.Contains(err.Error(), problem) {
			t.Errorf("%s: %v, want %q", test, err, problem)
		}
	}
}
