package plan

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/topic"
)

var writeDocs = flag.Bool("write-docs", false, "write docs/reference.md anew")

// The message of the reference, with its attachments. It is made from bytes, so
// every example of the document is what the code does.
const referenceMail = "Delivered-To: readings+north@brackwater.example\nReceived: by mx.brackwater.example; Tue, 12 " +
	"May 2026 06:02:00 +0000\nFrom: Oda Fenwick <oda.fenwick@tidewatch.example>\nTo: Gauges " +
	"<gauges+north@brackwater.example>\n" +
	"Date: Tue, 12 May 2026 05:58:00 +0000\nSubject: Re: Readings BK-20417, station 3\nMessage-ID: " +
	"<42@tidewatch.example>\nX-Station: ST-03\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=b\n\n" +
	"--b\nContent-Type: text/plain\n\nThe gauge at the ferry steps, order 7731.\n" +
	"--b\nContent-Type: text/csv; name=\"ST-03 levels.csv\"\nContent-Disposition: attachment\n\nstation;level\n3;2.10\n" +
	"--b\nContent-Type: application/pdf; name=protocol.pdf\nContent-Disposition: attachment\n\n%PDF-1.7 protocol\n" +
	"--b\nContent-Type: application/zip; name=May.zip\nContent-Disposition: attachment\n\nPK\n" +
	"--b\nContent-Type: image/png; name=image001.png\nContent-Disposition: inline\nContent-ID: <l>\n\nx\n--b--\n"

func reference() (*mail.Message, Setting) {
	data := []byte(strings.ReplaceAll(referenceMail, "\n", "\r\n"))
	m := mail.Parse(data).Message
	m.AllHeader, _ = mail.ParseHeader(data)
	m.Received = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)
	m.Flags, m.Folder = []string{`\Seen`, "To_file"}, "Gauges/North"
	text := "The gauge at the ferry steps, order 7731."
	m.Text = &text
	zip, _ := m.Find("4")
	m.Inside = map[string]*mail.Opened{
		"4": {Items: []mail.Item{mail.Inner(&zip, "1", "north/st4.csv", "", 120),
			mail.Inner(&zip, "2", "readme.txt", "", 40)}}}
	m.Texts = map[string]*mail.Read{"2": {Text: "station;level 3;2.10"}, "3": {Text: "Gauge protocol of order 7731"}}
	m.Proof = &mail.Proof{Proven: true, Text: "signed by tidewatch.example (DKIM)"}
	var examples []topic.Example
	for _, s := range []string{"Readings of the gauge", "Levels of station 4", "Readings, week 18",
		"Gauge protocol and readings", "Station readings for May"} {
		examples = append(examples, topic.Example{Mail: topic.Mail{Subject: s}, About: true},
			topic.Example{Mail: topic.Mail{Subject: "Invoice for " + strings.Repeat("berth ", len(examples)/2+1)}})
	}
	book := correspondent.New([]correspondent.Correspondent{
		{Name: "Tidewatch Instruments", Domains: []string{"tidewatch.example"}, Groups: []string{"Surveyors"}}})
	lookup := func(table, key string) (string, bool) {
		v, ok := map[string]string{"st-03": "Ferry steps"}[strings.ToLower(key)]
		return v, ok && table == "stations"
	}
	return m, Setting{Mailbox: "gauges", Now: time.Date(2026, 5, 12, 6, 3, 0, 0, time.UTC), Language: language.English,
		Book: book, Lookup: lookup, Topics: topic.NewPanel(map[string]*topic.Topic{"Readings": topic.Learn(examples, nil)}),
		Explain: true}
}

// Every key of a condition has an example here; the test fails where one is
// missing or names a key that is gone.
var conditionExamples = map[string]string{
	"all": "all: [{read: true}, {size: {smaller: 5 MB}}]", "any": "any: [{read: false}, {size: {smaller: 5 MB}}]",
	"none":                          "none: [{read: false}, {flagged: true}]",
	"sender.correspondent":          "sender: {correspondent: [Tidewatch Instruments, Insurers]}",
	"sender.address":                "sender: {address: oda.fenwick@tidewatch.example}",
	"sender.domain":                 "sender: {domain: [tidewatch.example, marram.example]}",
	"original sender.correspondent": "original sender: {correspondent: Tidewatch Instruments}",
	"original sender.address":       "original sender: {address: oda.fenwick@tidewatch.example}",
	"original sender.domain":        "original sender: {domain: tidewatch.example}",
	"original sender.exactly":       "original sender: {domain: tidewatch.example, exactly: true}",
	"original sender.name":          "original sender: {name: fenwick}",
	"original sender.detail":        "original sender: {detail: north}",
	"sender.exactly":                "sender: {domain: example, exactly: true}", "sender.name": "sender: {name: fenwick}",
	"sender.detail":           "sender: {detail: north}",
	"recipient.correspondent": "recipient: {correspondent: Surveyors}",
	"recipient.address":       "recipient: {address: gauges+north@brackwater.example}",
	"recipient.domain":        "recipient: {domain: brackwater.example}",
	"recipient.exactly":       "recipient: {domain: brackwater.example, exactly: true}",
	"recipient.name":          "recipient: {name: gauges}", "recipient.detail": "recipient: {detail: north}",
	"delivered to.correspondent": "delivered to: {correspondent: Surveyors}",
	"delivered to.address":       "delivered to: {address: readings+north@brackwater.example}",
	"delivered to.domain":        "delivered to: {domain: brackwater.example}",
	"delivered to.exactly":       "delivered to: {domain: brackwater.example, exactly: true}",
	"delivered to.name":          "delivered to: {name: x}", "delivered to.detail": "delivered to: {detail: north}",
	"subject.contains":     "subject: {contains: [reading, water level]}",
	"subject.contains all": "subject: {contains all: [reading, station]}", "subject.is": "subject: {is: Readings}",
	"subject.begins": "subject: {begins: readings}",
	"subject.ends":   "subject: {ends: station 3}", "subject.like": "subject: {like: 'readings*station ?'}",
	"subject.matches":           `subject: {matches: 'BK-\d{5}'}`,
	"subject.full.contains":     "subject.full: {contains: 'Re:'}",
	"subject.full.contains all": "subject.full: {contains all: ['Re:', BK]}",
	"subject.full.is":           "subject.full: {is: readings}", "subject.full.begins": "subject.full: {begins: 'Re:'}",
	"subject.full.ends": "subject.full: {ends: station 3}", "subject.full.like": "subject.full: {like: 're: *'}",
	"subject.full.matches": "subject.full: {matches: '^Re: '}",
	"header.name":          "header: {name: List-Id, there: true}", "header.there": "header: {name: X-Station, there: " +
		"true}", "header.contains": "header: {name: X-Station, contains: st}",
	"header.contains all": "header: {name: X-Station, contains all: [st, '03']}",
	"header.is":           "header: {name: X-Station, is: [st-03, st-04]}",
	"header.begins":       "header: {name: X-Station, begins: ST}", "header.ends": "header: {name: X-Station, ends: 04}",
	"header.like": "header: {name: X-Station, like: 'ST-??'}", "header.matches": "header: {name: X-Station, matches: " +
		"'^ST-0[1-5]$'}",
	"words.in": "words: {in: [body], any: [ferry steps, north mole]}", "words.any": "words: {any: [gauge, survey]}",
	"words.all":      "words: {all: [gauge, protocol, station]}",
	"received.after": "received: {after: 2026-05-01}", "received.before": "received: {before: 2026-05-12}",
	"received.within": "received: {within: 14 days}", "received.older": "received: {older: 3 months}",
	"sent.after": "sent: {after: 2026-05-01}", "sent.before": "sent: {before: 2027-01-01}",
	"sent.within": "sent: {within: 1 year}", "sent.older": "sent: {older: 2 weeks}",
	"size.larger": "size: {larger: 10 MB}", "size.smaller": "size: {smaller: 10 MB}",
	"folder": "folder: [Gauges/*, archive]", "label": "label: To file", "read": "read: true", "flagged": "flagged: true",
	"attachments.at least": "attachments: {at least: 2}", "attachments.at most": "attachments: {at most: 2}",
	"attachment.kind": "attachment: {kind: [spreadsheet, pdf]}", "attachment.extension": "attachment: {extension: csv}",
	"attachment.type": "attachment: {type: 'image/*'}", "attachment.name": "attachment: {name: 'st-*.csv'}",
	"attachment.name matches": `attachment: {name matches: '^ST-\d+'}`, "attachment.larger": "attachment: {larger: 1 MB}",
	"attachment.smaller": "attachment: {kind: pdf, smaller: 1 MB}", "attachment.inline": "attachment: {inline: true}",
	"taken earlier": "taken earlier: false", "sender.verified": "sender: {domain: tidewatch.example, verified: true}",
	"attachment.electronic invoice": "attachment: {electronic invoice: any}",
	"attachment.value":              "attachment: {value: {name: order, like: '77*'}}",
	"attachment.all values":         "attachment: {all values: [{name: order, found: true}, {name: order, is: '7731'}]}",
	"attachment.text":               "attachment: {text: {contains: [gauge protocol, low water]}}",
	"topic.is":                      "topic: {is: [Readings, Surveys]}",
	"topic.confidence":              "topic: {is: Readings, confidence: 95%}",
}

// Every key of an entry of attachments has an example: the keys beside take.
var entryExamples = map[string]string{
	"leave": "leave: [{inline: true}, {kind: archive}]", "take": "take: [{kind: spreadsheet}]\nfolder: Gauges",
	"unpack":        "take: [{kind: archive}]\nunpack: files\nfolder: Gauges/<archive.stem>",
	"inner folders": "take: [{kind: archive}]\nunpack: both\ninner folders: drop\nfolder: Gauges",
	"cabinet":       "take: [{kind: pdf}]\ncabinet: attic\nfolder: Protocols", "folder": "take: [{kind: pdf}]\nfolder: " +
		"Protocols/<received year>/<correspondent or sender.domain>",
	"own folder": "take: [{kind: pdf}]\nfolder: Protocols\nown folder: true", "name": "take: [{kind: pdf}]\nfolder: " +
		"Protocols\nname: <received date> <file.stem>", "if name exists": "take: [{kind: pdf}]\nfolder: Protocols\nif name " +
		"exists: replace",
}

var fieldExamples = map[string]string{"header": `header "X-Station"`, "body": `body find "order ([0-9]+)"`,
	"file.text": `file.text find "level ([0-9]+)"`, "file.code": `file.code find "ST-[0-9]+"`}

func keys(t reflect.Type, f func(key, doc string, of reflect.Type)) {
	for _, field := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		of := field.Type
		if of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		f(name, field.Tag.Get("doc"), of)
	}
}

func cell(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "|", "\\|"), "\n", "<br>")
}

func code(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = "`" + cell(lines[i]) + "`"
	}
	return strings.Join(lines, "<br>")
}

func TestTheReferenceIsWhatTheCodeDoes(t *testing.T) {
	m, s := reference()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# Every condition, selection, field and word\n\nThis page is made by a test from the code itself: each " +
		"example is run on the message below, and the test fails where\nthe page does not say what comes out. What " +
		"the parts are for is told in [rules.md](rules.md); twenty whole rules are in\n[worked-rules.md](worked-rules.md).\n")
	line("```\n%s```\nIt lies read in `Gauges/North` of the mailbox `gauges`, with the label `To file`, received on "+
		"2026-05-12 at 06:02. The\nbook has Tidewatch Instruments (tidewatch.example, in the group Surveyors), and the "+
		"table `stations` says that ST-03 is\nFerry steps. May.zip holds north/st4.csv and readme.txt; in protocol.pdf "+
		"stands: Gauge protocol of order 7731. The\nmessage is signed by tidewatch.example, and the topic Readings was "+
		"learned from ten examples.\n", referenceMail)

	line("## Conditions\n| key | tests | example | on this message |\n|---|---|---|---|")
	seen := map[string]bool{}
	row := func(key, doc string) {
		seen[key] = true
		example, ok := conditionExamples[key]
		if !ok {
			t.Errorf("the condition %s has no example", key)
			return
		}
		c := compile(t, "name: x\ncabinet: c\nlook: {mailboxes: all}\nmatch: {"+example+"}\nattachments: [{take: "+
			"everything, folder: F}]\nvalues: [{name: order, from: '<file.text find \"order ([0-9]+)\">'}]\n")
		r := c.Matches(s.input(m))
		line("| `%s` | %s | %s | %s: %s |", key, cell(doc), code(example), r.Answer, cell(r.Text))
	}
	keys(reflect.TypeFor[rule.Condition](), func(key, doc string, of reflect.Type) {
		if of.Kind() != reflect.Struct {
			row(key, doc)
			return
		}
		keys(of, func(inner, innerDoc string, _ reflect.Type) { row(key+"."+inner, doc+": "+innerDoc) })
	})
	for key := range conditionExamples {
		if !seen[key] {
			t.Errorf("there is an example of %s, which is no condition", key)
		}
	}

	line("\n## Entries of attachments\nThe first entry that fits an attachment has it.\n\n| key | holds | example | on " +
		"this message |\n|---|---|---|---|")
	keys(reflect.TypeFor[rule.Selection](), func(key, doc string, _ reflect.Type) {
		example, ok := entryExamples[key]
		if !ok {
			t.Errorf("the key %s of an entry has no example", key)
			return
		}
		entry := "  - " + strings.ReplaceAll(example, "\n", "\n    ")
		if strings.HasPrefix(example, "leave") {
			entry += "\n  - {take: everything, folder: F}"
		}
		p := Make([]*rule.Compiled{compile(t, "name: x\ncabinet: harbour files\nlook: {mailboxes: all}\nmatch: every "+
			"message\nattachments:\n"+entry+"\n")}, m, s)
		var out []string
		for _, i := range p.Rules[0].Items {
			switch {
			case i.Verdict == Filed:
				out = append(out, i.Path())
			case strings.HasPrefix(example, "leave") || strings.Contains(example, "unpack") && i.Item.ID == "4":
				out = append(out, i.Item.Name+" is left out: "+i.Reason.String())
			}
		}
		line("| `%s` | %s | %s | %s |", key, cell(doc), code(example), cell(strings.Join(out, "\n")))
	})
	for _, part := range []struct {
		heading string
		of      reflect.Type
	}{{"A rule", reflect.TypeFor[rule.Rule]()}, {"Where it looks", reflect.TypeFor[rule.Look]()},
		{"Text inside an attachment", reflect.TypeFor[rule.InnerText]()},
		{"A value, compared", reflect.TypeFor[rule.ValueTest]()}, {"The rest", reflect.TypeFor[rule.Rest]()},
		{"Copies of the message", reflect.TypeFor[rule.Copy]()}} {
		line("\n## %s\n| key | holds |\n|---|---|", part.heading)
		keys(part.of, func(key, doc string, _ reflect.Type) { line("| `%s` | %s |", key, cell(doc)) })
	}

	for _, part := range []struct {
		heading string
		of      reflect.Type
	}{{"Afterwards", reflect.TypeFor[rule.Step]()}, {"A reply, or the draft of one", reflect.TypeFor[rule.Letter]()},
		{"Telling somebody", reflect.TypeFor[rule.Tell]()}} {
		line("\n## %s\n| key | holds |\n|---|---|", part.heading)
		keys(part.of, func(key, doc string, _ reflect.Type) { line("| `%s` | %s |", key, cell(doc)) })
	}

	made := func(p string) string {
		c := compile(t, "name: Readings\ncabinet: c\nlook: {mailboxes: all}\nmatch: every message\nattachments:\n  - "+
			"{take: {kind: spreadsheet}, unpack: files, folder: F, name: '"+strings.ReplaceAll(p, "'", "''")+
			"'}\n  - {take: {kind: archive}, unpack: files, folder: F, name: '"+strings.ReplaceAll(p, "'", "''")+"'}\n")
		for _, i := range Make([]*rule.Compiled{c}, m, s).Rules[0].Items {
			if i.Verdict == Filed &&
				(i.Item.ID == "2" || i.Item.ID == "4!1" && (strings.Contains(p, "archive") || strings.Contains(p, "file.path"))) {
				return i.Stem
			}
		}
		return ""
	}
	line("\n## Fields of patterns\nFor the attachment ST-03 levels.csv; those of archives for north/st4.csv in " +
		"May.zip.\n\n| field | holds | where it is empty | on this message |\n|---|---|---|---|")
	for _, f := range pattern.Fields {
		example := f.Name
		if e := fieldExamples[f.Name]; e != "" {
			example = e
		}
		out := ""
		if f.Prose {
			c := compile(t, "name: Readings\ncabinet: c\nlook: {mailboxes: all}\nmatch: every message\nattachments: {take: "+
				"everything, folder: F}\nafterwards: {draft: {text: <"+f.Name+">}}")
			_, out = Letter(c, &c.FollowUps()[0], m, s,
				[]string{"Gauges/2026/05/ST-03 levels.csv", "Gauges/2026/05/ST-04 levels.csv"}, nil)
		} else {
			out = made("<" + example + ">")
		}
		if strings.HasPrefix(f.Name, "register") {
			out = "drawn when it is filed"
		}
		if out == "" {
			t.Errorf("the field %s makes nothing", f.Name)
		}
		line("| `<%s>` | %s | %s | %s |", cell(example), cell(f.Doc), f.Fallback, cell(out))
	}
	line("| `<lookup stations of (file.stem find \"ST-[0-9]+\")>` | what stands for a text in a table kept in Settings "+
		"| Unlisted | %s |", made(`<lookup stations of (file.stem find "ST-[0-9]+")>`))
	line("\n## Words of patterns\nThey follow a field and apply from left to right; those of dates come first.\n\n| " +
		"word | makes | example | on this message |\n|---|---|---|---|")
	for _, w := range pattern.Words {
		example := w.Example
		if strings.HasPrefix(example, "register") {
			example = "file.number pad 4"
		}
		line("| `%s` | %s | `<%s>` | %s |", w.Name, cell(w.Doc), cell(example), cell(made("<"+example+">")))
	}
	line("| `or` | the next value where this one is empty | `<original.sender.name or sender.name>` | %s |",
		made("<original.sender.name or sender.name>"))
	line("| quoted text | stands around the value and vanishes with it | `<\"for \" subject find \"BK-[0-9]+\">` | %s |",
		made(`<"for " subject find "BK-[0-9]+">`))

	line("\n## Kinds of files\nBy extension first, since senders' programs get types wrong far more often than names; " +
		"by type where the\nextension says nothing; by the first bytes where both say nothing.\n\n| kind | extensions | " +
		"media types |\n|---|---|---|")
	for _, k := range mail.Kinds {
		line("| `%s` | %s | %s |", k.Kind, strings.Join(k.Extensions, " "), strings.Join(k.Types, " "))
	}

	file := filepath.Join("..", "..", "..", "docs", "reference.md")
	if *writeDocs {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	is, err := os.ReadFile(file)
	if err != nil || string(is) != b.String() {
		at := 0
		for at < min(len(is), b.Len()) && is[at] == b.String()[at] {
			at++
		}
		t.Errorf("docs/reference.md is not what the code does (%v), from octet %d on: make generate writes it anew", err, at)
	}
}
