package rule

import (
	"strings"
	"testing"
)

const valuesRule = `
name: Invoices
cabinet: files
look: {mailboxes: all}
match: every message
attachments: {take: everything, folder: "Invoices/<value.order>"}
values:
`

func TestValuesOfARuleAreChecked(t *testing.T) {
	for _, c := range []struct{ values, problem string }{
		{`- {name: order, from: '<subject find "BK-[0-9]+">'}`, ""},
		{`- {name: order, type: date, from: [<subject>, <received>], order: month day year}`, ""},
		{`- {name: order, type: amount, from: <file.text>, currency: EUR, decimal: comma, missing: ask}`, ""},
		{`- {name: order, type: price, from: <subject>}`, "price"},
		{`- {name: Order, from: <subject>}`, "small letters"},
		{`- {name: order}`, "the key \"from\" is missing"},
		{`- {name: order, from: []}`, "where the value stands is missing"},
		{`- {name: order, from: BK-1}`, "a text without a field"},
		{`- {name: order, from: <subjekt>}`, "there is no field"},
		{`- {name: order, from: <register>}`, "not known before the file is filed"},
		{`- {name: order, from: <filed.count>}`, "not known before the file is filed"},
		{`- {name: order, from: <value.order>}`, "there is no field"},
		{`- {name: sender, from: <subject>}`, "choose another name"},
		{`- {name: order, from: <subject>, currency: EURO}`, "no currency"},
		{`- {name: order, from: <subject>, missing: guess}`, "guess"},
		{`- {name: order, from: <subject>, again: ask}`, ""},
		{`- {name: order, from: <subject>, again: never}`, "never"},
		{"- {name: order, from: <subject>}\n- {name: order, from: <body>}", "two values called"},
		{`- {name: other, from: <subject>}`, "value.order"}, // which the folder names
	} {
		d, err := Parse([]byte("format: 1\nrules:\n" + indented(valuesRule+c.values)))
		if err == nil {
			_, err = Compile(&d.Rules[0], 1, nil)
		}
		if c.problem == "" && err != nil || c.problem != "" && (err == nil || !strings.Contains(err.Error(), c.problem)) {
			t.Errorf("%s: %v, want %q", c.values, err, c.problem)
		}
	}
}

func indented(rule string) string {
	return "  - " + strings.ReplaceAll(strings.TrimSpace(rule), "\n", "\n    ")
}

func TestARuleSaysWhichValuesItReads(t *testing.T) {
	d, err := Parse([]byte("format: 1\nrules:\n" + indented(valuesRule+
		"- {name: order, from: <subject>, missing: ask}\n- {name: due, type: date, from: <subject>}")))
	if err != nil {
		t.Fatal(err)
	}
	c, err := Compile(&d.Rules[0], 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	const want = " Of each file it reads: order* and due. Where one with * is not found, the file waits in the tray."
	if s := c.Sentence(); !strings.Contains(s, want) {
		t.Errorf("it says %q", s)
	}
}
