package rule

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
)

// matching makes a rule with one condition.
func matching(t testing.TB, condition string) *Compiled {
	t.Helper()
	r, err := ParseRule([]byte("name: x\ncabinet: c\nlook: {mailboxes: all}\nmatch: " + condition +
		"\nattachments: [{take: everything, folder: F}]\n"))
	if err != nil {
		t.Fatalf("%s: %v", condition, err)
	}
	c, err := Compile(r, 1, time.UTC)
	if err != nil {
		t.Fatalf("%s: %v", condition, err)
	}
	return c
}

var book = correspondent.New([]correspondent.Correspondent{
	{Name: "Tidewatch", Domains: []string{"tidewatch.example"}, Groups: []string{"Surveyors"}},
	{Name: "Oda Fenwick", Addresses: []string{"oda@tidewatch.example"}, Groups: []string{"Staff"}},
	{Name: "Marram Dredging", Domains: []string{"marram.example"}, Groups: []string{"Contractors", "Surveyors"}},
})

func TestACorrespondentIsRecognisedByTheAddressAlone(t *testing.T) {
	for _, k := range []struct {
		from, condition string
		want            Answer
		says            string
	}{
		{"Tidewatch <keld@tidewatch.example>", "{sender: {correspondent: Tidewatch}}", Yes, "sender keld@tidewatch.example " +
			"belongs to “Tidewatch”"},
		{"Tidewatch <keld@forger.example>", "{sender: {correspondent: Tidewatch}}", No, "sender is keld@forger.example, " +
			"not Tidewatch"},
		{"\"oda@tidewatch.example\" <x@forger.example>", "{sender: {correspondent: Oda Fenwick}}", No, "x@forger.example"},
		{"x@north.tidewatch.example", "{sender: {correspondent: tidewatch}}", Yes, "“Tidewatch”"},
		{"x@nottidewatch.example", "{sender: {correspondent: Tidewatch}}", No, ""},
		// the whole address is nearer than the domain
		{"oda@tidewatch.example", "{sender: {correspondent: Tidewatch}}", No, "belongs to “Oda Fenwick”"},
		{"ODA+plans@Tidewatch.example", "{sender: {correspondent: Staff}}", Yes, ""},
		{"a@marram.example", "{sender: {correspondent: [Staff, Surveyors]}}", Yes, ""},
		{"a@marram.example", "{sender: {correspondent: Staff}}", No, ""},
	} {
		m := message("From: "+k.from, "")
		r := matching(t, k.condition).Matches(&Input{Message: m, Book: book})
		if r.Answer != k.want || !strings.Contains(r.Text, k.says) {
			t.Errorf("%s, %s: %s (%s), want %s ...%s...", k.from, k.condition, r.Answer, r.Text, k.want, k.says)
		}
	}
	if r := matching(t,
		"{sender: {correspondent: Tidewatch}}").Matches(&Input{
		Message: message("From: a@tidewatch.example", "")}); r.Answer != No {
		t.Errorf("without a book: %s", r.Answer)
	}
}

func TestMoreConditions(t *testing.T) {
	raw := "From: a@b.example\nTo: gauges@brackwater.example\nDelivered-To: readings+north@brackwater.example\nSubject: " +
		"levels\nX-Station: =?utf-8?Q?N=C3=B8rd?=\nX-Empty:\n" +
		"Content-Type: multipart/mixed; boundary=b\n\n--b\n\nhello\n--b\nContent-Type: application/pdf; " +
		"name=a.pdf\n\nx\n--b\nContent-Disposition: attachment\nContent-Type: application/octet-stream; name=scan\n\nx\n--b--"
	m := message(raw, "")
	m.Folder, m.Flags = "Gauges/North", []string{`\Seen`}
	m.AllHeader, _ = mail.ParseHeader([]byte(strings.ReplaceAll(raw, "\n", "\r\n")))
	now := time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC)
	for condition, want := range map[string]string{
		"{delivered to: {address: readings+north@brackwater.example}}": "yes: address of delivery " +
			"is readings+north@brackwater.example",
		"{delivered to: {detail: north}}": "yes",
		"{delivered to: {domain: tidewatch.example}}": "no: address of delivery is brackwater.example, not " +
			"tidewatch.example",
		"{recipient: {detail: north}}":          "yes",
		"{header: {name: X-Station, is: nørd}}": "yes: header field X-Station is “Nørd”, which is “nørd”",
		"{header: {name: x-station:, contains: syd}}": "no: header field x-station is “Nørd”, which does not " +
			"contain “syd”",
		"{header: {name: X-Missing, contains: syd}}":             "no: there is no header field X-Missing",
		"{header: {name: X-Missing, there: true}}":               "no: there is no header field X-Missing",
		"{header: {name: X-Missing, there: false}}":              "yes",
		"{header: {name: X-Station, matches: '^N'}}":             "yes",
		"{folder: Gauges/North}":                                 "yes: the message is in “Gauges/North”",
		"{folder: [archive, 'gauges/*']}":                        "yes",
		"{folder: Gauges}":                                       "no: the message is in “Gauges/North”, not in “Gauges”",
		"{received: {older: 1 month}}":                           "yes: received on 2026-05-12, more than 1 month ago",
		"{received: {older: 1 year}}":                            "no: received on 2026-05-12, not more than 1 year ago",
		"{received: {within: 1 year}}":                           "yes",
		"{taken earlier: false}":                                 "yes: no earlier rule takes anything of it",
		"{taken earlier: true}":                                  "no",
		"{attachment: {kind: drawing}}":                          "not yet: an attachment was not looked into yet",
		"{attachment: {kind: pdf}}":                              "yes: “a.pdf”: kind pdf",
		"{attachments: {at least: 2, at most: 2}}":               "yes: the message has 2 attachments",
		"{none: [{sender: {domain: b.example}}]}":                "no",
		"{none: [{sender: {domain: c.example}}, {read: false}]}": "yes",
		"{any: [{none: [{read: true}]}, {all: [{read: true}, {attachments: {at least: 1}}]}]}": "yes",
	} {
		c := matching(t, condition)
		in := &Input{Message: m, Now: now, Book: book}
		r := c.Matches(in)
		got := r.Answer.String() + ": " + r.Text
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s\n got %s\nwant %s", condition, got, want)
		}
		if a, _ := c.Answer(in); a != r.Answer {
			t.Errorf("%s: the quick answer is %s, the explained one %s", condition, a, r.Answer)
		}
	}
	in := &Input{Message: m, Taken: "Readings"}
	if r := matching(t, "{taken earlier: false}").Matches(in); r.Answer != No || r.Text != "the earlier rule “Readings” "+
		"takes something of it" {
		t.Errorf("after a rule that took something: %+v", r)
	}
}

func TestWhatIsNeededIsNamed(t *testing.T) {
	m := message("From: a@b.example\nSubject: levels\nContent-Type: multipart/mixed; "+
		"boundary=b\n\n--b\n\nhello\n--b\nContent-Type: application/ms-tnef; name=winmail.dat\n\nx\n--b\nContent-Type: "+
		"application/octet-stream\nContent-Disposition: attachment; filename=scan\n\nx\n--b--", "")
	for condition, want := range map[string]string{
		"{words: {in: body, any: gauge}}":                                      "{true false [] []}",
		"{header: {name: X-Station, is: n}}":                                   "{false true [] []}",
		"{header: {name: List-Id, is: n}}":                                     "no",
		"{attachment: {kind: drawing}}":                                        "{false false [2] [3]}",
		"{attachment: {name: '*.dwg'}}":                                        "{false false [2] []}",
		"{attachments: {at least: 5}}":                                         "{false false [2] []}",
		"{attachments: {at most: 0}}":                                          "no",
		"{sender: {verified: true}}":                                           "the proof",
		"{sender: {domain: other.example, verified: true}}":                    "no", // the address settles it
		"{attachment: {extension: pdf, text: {contains: x}}}":                  "{false false [2] []}",
		"{sender: {domain: other.example}, words: {in: body, any: gauge}}":     "no", // the sender settles it
		"{any: [{subject: {is: levels}}, {header: {name: X-Station, is: n}}]}": "yes",
	} {
		a, needs := matching(t, condition).Answer(&Input{Message: m})
		got := a.String()
		if a == NotYet {
			got = fmt.Sprintf("{%v %v %v %v}", needs.Text, needs.Header, needs.Open, needs.Heads)
			if needs.Proof {
				got = "the proof"
			}
			if len(needs.Texts) > 0 {
				got = fmt.Sprint("texts ", needs.Texts)
			}
		}
		if got != want {
			t.Errorf("%s: %s, want %s", condition, got, want)
		}
	}
	m.Inside = map[string]*mail.Opened{
		"2": {Items: []mail.Item{mail.Inner(&mail.Item{ID: "2", Name: "winmail.dat"}, "1", "berth 4.dwg", "", 10)}}}
	r := matching(t, "{attachment: {name: '*.dwg'}}").Matches(&Input{Message: m})
	if r.Answer != Yes || r.Text != "“berth 4.dwg”: name is like *.dwg" {
		t.Errorf("once opened: %+v", r)
	}
	m.Inside["2"] = &mail.Opened{Problem: "it is broken"}
	if r := matching(t, "{attachment: {name: '*.dwg'}}").Matches(&Input{Message: m}); r.Answer != Unknowable {
		t.Errorf("what cannot be opened: %+v", r)
	}
}

func TestARuleThatCanNeverMatchIsTold(t *testing.T) {
	for condition, want := range map[string]string{
		"{all: [{subject: {is: a}}, {subject: {is: b}}]}": "a subject cannot be " +
			"“a” and “b”",
		"{all: [{subject: {is: [a, b]}}, {subject: {is: B}}]}": "",
		"{all: [{sender: {domain: marram.example}}, {sender: {domain: tidewatch.example}}]}": "a sender cannot be at " +
			"marram.example and at tidewatch.example at the same time",
		"{all: [{sender: {domain: tidewatch.example}}, {sender: {address: x@n.tidewatch.example}}]}": "",
		"{received: {after: 2026-05-12, before: 2026-05-12}}": "no message is " +
			"received on or after 2026-05-12 and before 2026-05-12",
		"{received: {after: 2026-05-12, before: 2026-05-13}}": "",
		"{size: {larger: 1 MB, smaller: 1 MB}}": "no message is larger than 1 MB and smaller " +
			"than 1 MB",
		"{attachments: {at least: 3}, all: [{attachments: {at most: 2}}]}": "no message has at least 3 and at most 2 " +
			"attachments",
		"{read: true, all: [{read: false}]}":                           "\"read\" is asked to be both true and false",
		"{any: [{size: {larger: 2 MB, smaller: 1 MB}}, {read: true}]}": "",
		"{any: [{size: {larger: 2 MB, smaller: 1 MB}}]}": "no message is larger than 2 MB and " +
			"smaller than 1 MB",
	} {
		got := ""
		if p := matching(t, condition).Never(); len(p) > 0 {
			got = p[0].Text
		}
		if got != want {
			t.Errorf("%s: %q, want %q", condition, got, want)
		}
	}
	c := one(t, strings.Replace(tideGauges, "- take: [{kind: spreadsheet}", "- take: everything\n        folder: All\n  "+
		"    - take: [{kind: spreadsheet}", 1))
	if p := c.Never(); len(p) != 1 || !strings.Contains(p[0].Text, "nothing is left for this one") {
		t.Errorf("an entry after everything: %v", p)
	}
	c = one(t, strings.Replace(tideGauges, "- subject: {begins: Draft}", "- all: [{sender: {domain: tidewatch.example}}]",
		1))
	if p := c.Never(); len(p) != 0 {
		t.Errorf("an exception that is only a part of the condition: %v", p)
	}
}

func TestTextInsideIsComparedAndTold(t *testing.T) {
	empty, err := ParseRule([]byte("name: x\ncabinet: c\nlook: {mailboxes: all}\nmatch: every message\nattachments: " +
		"[{take: [{text: {}}], folder: F}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Compile(empty, 0, nil); err == nil ||
		!strings.Contains(err.Error(), "the text to look for inside is missing") {
		t.Errorf("a text that is compared with nothing: %v", err)
	}
	m := message("From: a@b.example\nSubject: x\nContent-Type: multipart/mixed; "+
		"boundary=b\n\n--b\n\nhello\n--b\nContent-Type: application/pdf; name=a.pdf\n\nx\n--b\nContent-Type: image/png; "+
		"name=b.png\nContent-Disposition: attachment\n\nx\n--b--", "")
	for condition, want := range map[string]string{
		"{attachment: {text: {contains: [STRASSE, quay]}}}":   "yes: “a.pdf”: “STRASSE” stands in it",
		"{attachment: {text: {contains all: [straße, kai]}}}": "no: ",
		"{attachment: {text: {matches: 'BK-[0-9]+', contains: straße}}}": "yes: “a.pdf”: “straße” stands in it, " +
			"“BK-20417” stands in it",
		"{attachment: {kind: picture, text: {contains: straße}}}":                "no: ",
		"{attachment: {name: '*.doc', text: {contains: straße}}}":                "no: ",
		"{attachment: {extension: pdf, text: {contains: straße}, larger: 1 MB}}": "no: ",
	} {
		m.Texts = map[string]*mail.Read{"2": {Text: "Hafenstraße 4,\nBK-20417"}}
		r := matching(t, condition).Matches(&Input{Message: m})
		if got := r.Answer.String() + ": " + r.Text; !strings.HasPrefix(got, want) {
			t.Errorf("%s\n got %s\nwant %s", condition, got, want)
		}
	}
	m.Texts = map[string]*mail.Read{"2": {Problem: "it is locked"}}
	if r := matching(t, "{attachment: {text: {contains: x}}}").Matches(&Input{Message: m}); r.Answer != Unknowable {
		t.Errorf("what cannot be read: %+v", r)
	}
	m.Texts = nil
	if a, needs := matching(t, "{attachment: {text: {contains: x}}}").Answer(&Input{Message: m}); a != NotYet ||
		!slices.Equal(needs.Texts, []string{"2"}) {
		t.Errorf("before it was read: %s, %+v", a, needs)
	}
}

func TestElectronicInvoicesAreToldFromOthers(t *testing.T) {
	m := mail.Parse([]byte("From: a@b.example\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\nx\r\n" +
		"--b\r\nContent-Type: application/pdf; name=a.pdf\r\nContent-Disposition: attachment\r\n\r\nx\r\n" +
		"--b--\r\n")).Message
	right := &invoice.Invoice{Number: "HD-7"}
	wrong := &invoice.Invoice{Number: "HD-8", Faults: []invoice.Fault{{Rule: "BR-CO-15",
		Text: "the total with tax is 1.00, and comes to 2.00"}}}
	for _, c := range []struct {
		test, answer string
		in           *invoice.Invoice
	}{
		{"any", "yes: “a.pdf”: electronic invoice “HD-7”, which adds up", right}, {"any", "no: ", nil},
		{"any", "yes: “a.pdf”: electronic invoice “HD-8”, which does not add up: the total with tax is 1.00, and comes to " +
			"2.00 (BR-CO-15)", wrong},
		{"adds up", "yes: ", right}, {"adds up", "no: ", wrong}, {"does not add up", "yes: ", wrong},
		{"does not add up", "no: ", right},
		{"adds up, text: {contains: dues}", "yes: “a.pdf”: electronic invoice “HD-7”, which adds up, “dues” stands in it",
			right},
		{"adds up, text: {contains: gauge}", "no: ", right}, {"adds up, text: {contains: dues}", "no: ", wrong},
	} {
		m.Texts = map[string]*mail.Read{"2": {Text: "harbour dues", Invoice: c.in}}
		r := matching(t, "{attachment: {electronic invoice: "+c.test+"}}").Matches(&Input{Message: m})
		if got := r.Answer.String() + ": " + r.Text; !strings.HasPrefix(got, c.answer) {
			t.Errorf("%s\n got %s\nwant %s", c.test, got, c.answer)
		}
	}
	for _, c := range []struct {
		test   string
		empty  bool
		answer Answer
	}{{"{electronic invoice: any}", true, No}, {"{electronic invoice: any}", false, Unknowable},
		{"{electronic invoice: any, text: {contains: x}}", true, No}, {"{text: {contains: x}}", true, Unknowable}} {
		m.Texts = map[string]*mail.Read{"2": {Problem: "there is no text in it", Empty: c.empty}}
		if r := matching(t, "{attachment: "+c.test+"}").Matches(&Input{Message: m}); r.Answer != c.answer {
			t.Errorf("%s of what cannot be read, scanned: %v: %+v, want %v", c.test, c.empty, r, c.answer)
		}
	}
	m.Texts = map[string]*mail.Read{"2": {Text: "harbour dues", Unread: "the electronic invoice cannot be read: why"}}
	const unread = "cannot be known: “a.pdf”: the electronic invoice cannot be read: why"
	for test, want := range map[string]string{"{electronic invoice: any}": unread, "{text: {contains: dues}}": "yes: ",
		"{electronic invoice: adds up, text: {contains: x}}": unread} {
		r := matching(t, "{attachment: "+test+"}").Matches(&Input{Message: m})
		if got := r.Answer.String() + ": " + r.Text; !strings.HasPrefix(got, want) {
			t.Errorf("%s of a broken invoice: %s, want %s", test, got, want)
		}
	}
	m.Texts = nil
	// The kind says the same, and other kinds beside it need be no invoices.
	for test, want := range map[string][2]Answer{"{kind: e-invoice}": {Yes, No}, "{kind: [e-invoice, pdf]}": {Yes, Yes},
		"{kind: [spreadsheet, e-invoice]}": {Yes, No}, "{kind: [spreadsheet, picture]}": {No, No},
		"{kind: e-invoice, electronic invoice: does not add up}": {No, No}} {
		for i, invoice := range []*invoice.Invoice{right, nil} {
			m.Texts = map[string]*mail.Read{"2": {Text: "harbour dues", Invoice: invoice}}
			if a, _ := matching(t, "{attachment: "+test+"}").Answer(&Input{Message: m}); a != want[i] {
				t.Errorf("%s of an invoice (%v): %v, want %v", test, i == 0, a, want[i])
			}
		}
	}
	m.Texts = nil
	if a, needs := matching(t, "{attachment: {electronic invoice: any}}").Answer(&Input{Message: m}); a != NotYet ||
		!slices.Equal(needs.Texts, []string{"2"}) {
		t.Errorf("before it was read: %s, %+v", a, needs)
	}
}
