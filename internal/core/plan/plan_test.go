package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

func compile(t *testing.T, document string) *rule.Compiled {
	t.Helper()
	r, err := rule.ParseRule([]byte(document))
	if err != nil {
		t.Fatal(err)
	}
	c, err := rule.Compile(r, 1, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

const readings = `
name: Readings
cabinet: harbour files
look: {mailboxes: gauges}
match: {sender: {domain: tidewatch.example}}
attachments:
  - take: {kind: spreadsheet}
    folder: Gauges/<received year>/<sender.name>
    name: <received date> <file.stem>
  - take: {kind: pdf}
    folder: Gauges/Reports
    name: <register.year>-<register pad 4> <file.stem>
`

func message(extra string) *mail.Message {
	raw := "From: \"Tide/watch: Oda\" <oda@tidewatch.example>\r\nSubject: Re: levels\r\nContent-Type: multipart/mixed; " +
		"boundary=b\r\n\r\n" +
		"--b\r\n\r\nhello\r\n--b\r\nContent-Type: text/csv; name=st3.csv\r\n\r\na;b\r\n" + extra + "--b--\r\n"
	m := mail.Parse([]byte(raw)).Message
	m.Received = time.Date(2026, 12, 31, 23, 30, 0, 0, time.UTC)
	return m
}

var setting = Setting{Mailbox: "gauges", Now: time.Date(2027, 1, 1, 8, 0, 0, 0, time.UTC), Language: language.English}

func TestPathsAreSafeAndFrozenByTheMessage(t *testing.T) {
	p := Make([]*rule.Compiled{compile(t, readings)},
		message("--b\r\nContent-Type: text/csv; name=\"../../etc/cron\"\r\n\r\nx\r\n"), setting)
	items := p.Rules[0].Items
	if len(items) != 2 {
		t.Fatalf("%d items", len(items))
	}
	for i, want := range []string{"Gauges/2026/Tide-watch- Oda/2026-12-31 st3.csv", "Gauges/2026/Tide-watch- " +
		"Oda/2026-12-31 cron"} {
		if got := items[i].Path(); got != want || items[i].Verdict != Filed {
			t.Errorf("item %d: %s %q, want %q", i, items[i].Verdict, got, want)
		}
	}
}

func TestARegisterNumberIsMarkedUntilDrawn(t *testing.T) {
	r := compile(t, readings)
	m := message("--b\r\nContent-Type: application/pdf; name=r.pdf\r\n\r\nx\r\n")
	p := Make([]*rule.Compiled{r}, m, setting)
	i := &p.Rules[0].Items[1]
	if got := i.Path(); got != "Gauges/Reports/…-… r.pdf" || len(i.Unknown) != 2 || !i.Target.NeedsRegister() {
		t.Errorf("before: %q, unknown %v", got, i.Unknown)
	}
	Number(i, r, m, setting, 2027, 31)
	if got := i.Path(); got != "Gauges/Reports/2027-0031 r.pdf" || len(i.Unknown) != 0 {
		t.Errorf("after: %q, unknown %v", got, i.Unknown)
	}
}

func TestARuleThatStopsHidesTheMessageFromLaterOnes(t *testing.T) {
	stop := compile(t, readings+"then: stop\n")
	if p := Make([]*rule.Compiled{stop, compile(t, readings)}, message(""), setting); len(p.Rules) != 1 {
		t.Errorf("%d rules saw the message, want 1", len(p.Rules))
	}
	other := compile(t, strings.Replace(readings, "tidewatch.example", "marram.example", 1)+"then: stop\n")
	if p := Make([]*rule.Compiled{other, stop}, message(""), setting); len(p.Rules) != 1 || p.Rules[0].Rule != stop {
		t.Errorf("a rule that does not match stopped the others")
	}
}

func TestWhatCannotBeKnownIsHeld(t *testing.T) {
	r := compile(t,
		strings.Replace(readings, "attachments:", "unless: [{words: {in: body, any: draft}}]\nattachments:", 1))
	m := message("")
	if p := Make([]*rule.Compiled{r}, m, setting); !p.Needs.Text {
		t.Fatal("the text was not asked for")
	}
	m.TextError = "the server refuses it"
	p := Make([]*rule.Compiled{r}, m, setting)
	if i := p.Rules[0].Items[0]; i.Verdict != Held || !strings.Contains(i.Reason.String(), "the server refuses it") {
		t.Errorf("verdict %s: %s", i.Verdict, i.Reason)
	}
	text := "a draft"
	m.Text, m.TextError = &text, ""
	if p := Make([]*rule.Compiled{r}, m, setting); len(p.Rules) != 0 {
		t.Errorf("the exception was not seen: %+v", p.Rules[0].Match)
	}
}

// BenchmarkPlan plans one message whose facts are at hand; one rule in
// ten or fifty is for it. The limits are 20 µs for 10 rules and 1 ms for 1,000, on one core.
func BenchmarkPlan(b *testing.B) {
	conditions := []string{
		"{sender: {domain: FIRM.example}}", "{sender: {address: office@FIRM.example}, subject: {contains: [order, invoice]}}",
		"{all: [{sender: {domain: [FIRM.example, tidewatch.example]}}, {any: [{subject: {begins: Berth}}, {subject: {like: " +
			"'*plan*'}}]}]}",
		"{subject: {contains all: [FIRM, plan]}}", "{recipient: {detail: FIRM}}", "{subject: {matches: 'FIRM-[0-9]{4}'}}",
		"{attachment: {kind: drawing, name: 'FIRM*'}}",
		"{received: {before: 2020-01-01}, sender: {name: FIRM}}", "{label: FIRM}", "{sender: {domain: tidewatch.example}, " +
			"subject: {contains: WANTED}}",
	}
	for _, n := range []int{10, 1000} {
		b.Run(fmt.Sprintf("%d rules", n), func(b *testing.B) {
			var rules []*rule.Compiled
			matching := max(1, n/50)
			for i := range n {
				document := strings.Replace(readings, "{sender: {domain: tidewatch.example}}",
					strings.ReplaceAll(conditions[i%len(conditions)], "FIRM", fmt.Sprintf("firm%d", i)), 1)
				wanted := fmt.Sprintf("order %d", i)
				if i%(n/matching) == 9 {
					wanted = "levels"
				}
				document = strings.Replace(document, "WANTED", wanted, 1)
				r, err := rule.ParseRule([]byte(document))
				if err != nil {
					b.Fatal(err)
				}
				c, err := rule.Compile(r, 1, time.UTC)
				if err != nil {
					b.Fatal(err)
				}
				rules = append(rules, c)
			}
			m := message("")
			if p := Make(rules, m, setting); len(p.Rules) != matching || p.Rules[0].Items[0].Verdict != Filed {
				b.Fatalf("%d rules are for the message, want %d", len(p.Rules), matching)
			}
			b.ReportAllocs()
			for b.Loop() {
				Make(rules, m, setting)
			}
			if each, limit := b.Elapsed()/time.Duration(b.N),
				map[int]time.Duration{10: 20 * time.Microsecond, 1000: time.Millisecond}[n]; each > limit {
				b.Errorf("it takes %v, over %v", each, limit)
			}
		})
	}
}
