package rule

import (
	"strings"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/pattern"
)

// Example is a path that the rule could give a file, for an invented message; "" for a rule that files nothing. What
// only a real message tells, such as a value, stands as "…".
func (c *Compiled) Example() string {
	target, tests := c.rest, []ItemTest(nil)
	for i := range c.entries {
		if !c.entries[i].leave {
			target, tests = &c.entries[i].target, c.Rule.Attachments[i].Take.Any
			break
		}
	}
	if target == nil {
		return ""
	}
	sample := sample{zone: c.Zone, ext: "pdf", rule: c.Rule.Name, mailbox: strings.Join(c.Rule.Look.Mailboxes, "")}
	if len(tests) > 0 && len(tests[0].Kind) > 0 {
		sample.kind = string(tests[0].Kind[0])
		if ext := map[string]string{"spreadsheet": "xlsx", "picture": "jpg", "document": "docx", "text": "txt",
			"e-invoice": "xml", "archive": "zip", "presentation": "pptx"}[sample.kind]; ext != "" {
			sample.ext = ext
		}
	}
	path := target.Folder.Make(&sample).Segments
	if target.Own != nil {
		path = append(path, target.Own.Make(&sample).Segments...)
	}
	name := strings.Join(target.Name.Make(&sample).Segments, "")
	return strings.Join(append(path, name+"."+sample.ext), "/")
}

// sample gives the values of an invented message.
type sample struct {
	zone                     *time.Location
	ext, kind, rule, mailbox string
}

func (s *sample) Language() language.Tag { return language.English }

func (s *sample) Lookup(_, key string) (string, bool) { return key, true }

func (s *sample) Value(field, _ string) pattern.Value {
	zone := s.zone
	if zone == nil {
		zone = time.UTC
	}
	texts := map[string]string{"sender.name": "Oda Fenwick", "sender.address": "oda@tidewatch.example",
		"sender.local": "oda", "sender.domain": "tidewatch.example", "correspondent": "Tidewatch",
		"recipient.name": "Harbour office", "recipient.address": "office@brackwater.example", "recipient.local": "office",
		"recipient.domain": "brackwater.example", "subject": "Readings of May", "subject.full": "Readings of May",
		"mailbox": s.mailbox, "folder": "Inbox", "rule": s.rule, "message.key": "k3x9q2mfa7bd", "file.stem": "Readings May",
		"file.ext": s.ext, "file.kind": s.kind, "file.number": "1", "register": "12", "register.year": "2026"}
	switch field {
	case "received", "sent", "filed", "invoice.issued", "invoice.due":
		return pattern.Value{Time: time.Date(2026, 5, 12, 8, 2, 0, 0, zone)}
	}
	if text, ok := texts[field]; ok && text != "" {
		return pattern.Value{Text: text}
	}
	return pattern.Value{Unknown: true}
}
