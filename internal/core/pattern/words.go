package pattern

import (
	"fmt"
	"strings"
)

// fieldWords says each field in words that need no explanation, as the console shows it. Dates need more than a name
// and are said by sayDate.
var fieldWords = map[string]string{
	"received": "received", "sent": "sent", "filed": "filed",
	"sender.name": "sender’s name", "sender.address": "sender’s address", "sender.local": "sender before the @",
	"sender.domain":           "sender’s domain",
	"original.sender.name":    "original sender’s name",
	"original.sender.address": "original sender’s address",
	"original.sender.local":   "original sender before the @",
	"original.sender.domain":  "original sender’s domain",
	"recipient.name":          "recipient’s name", "recipient.address": "recipient’s address",
	"recipient.local": "recipient before the @", "recipient.domain": "recipient’s domain",
	"recipient.detail": "recipient’s part after the +", "correspondent": "correspondent", "subject": "subject",
	"subject.full": "full subject", "header": "header field", "body": "text of the message", "mailbox": "mailbox",
	"folder": "mail folder", "rule": "rule", "message.key": "message key", "message.id": "Message-ID",
	"file.stem": "original name", "file.ext": "extension", "file.kind": "kind of file",
	"file.number": "number of the attachment", "file.size": "size", "file.path": "folder in the archive",
	"file.text": "text in the file", "file.code": "bar code", "invoice.number": "invoice number",
	"invoice.type": "invoice or credit note", "invoice.issued": "of the invoice", "invoice.due": "due",
	"invoice.seller": "seller", "invoice.vat": "VAT number", "invoice.buyer": "buyer", "invoice.order": "order number",
	"invoice.reference": "buyer’s reference", "invoice.currency": "currency", "invoice.net": "total without tax",
	"invoice.tax": "tax", "invoice.total": "total", "invoice.payable": "amount to pay",
	"invoice.faults": "faults of the invoice", "archive.stem": "name of the archive", "filed.list": "list of filed files",
	"filed.count": "number of filed files", "register": "register number", "register.year": "year of the register",
}

// InWords says a field in words; of a date, what follows "date" or "year". A value has its own name.
func (f *Field) InWords() string {
	if words, ok := fieldWords[f.Name]; ok {
		return words
	}
	name, _ := strings.CutPrefix(f.Name, "value.")
	return name
}

// dateNouns are what the words after a date give.
var dateNouns = map[string]string{"": "date", "week year": "year of the week", "as": "date"}

// InWords says a pattern in words, for sentences: Mail/<received year>/<file.stem> is
// "Mail / year received / original name".
func (p *Pattern) InWords() string {
	var segments []string
	for _, segment := range p.segments {
		var b strings.Builder
		for i := 0; i < len(segment); i++ {
			if i+2 < len(segment) && segment[i].only() == "month" && segment[i+1].text == " " &&
				segment[i+2].only() == "month name" {
				b.WriteString(segment[i].inWords()) // "05 May" is one month
				i += 2
				continue
			}
			if segment[i].text == " " && i > 0 && i+1 < len(segment) {
				b.WriteString(", ")
				continue
			}
			b.WriteString(segment[i].inWords())
		}
		segments = append(segments, b.String())
	}
	return strings.Join(segments, " / ")
}

// only is a piece's field with a single word, such as month; "" for any other.
func (p *piece) only() string {
	if len(p.choice) != 1 || len(p.choice[0].words) != 1 || p.choice[0].field == nil ||
		p.choice[0].before+p.choice[0].after != "" {
		return ""
	}
	return p.choice[0].words[0].name
}

func (p *piece) inWords() string {
	if p.choice == nil {
		return p.text
	}
	var all []string
	for i := range p.choice {
		all = append(all, p.choice[i].inWords())
	}
	return strings.Join(all, " or ")
}

func (c *value) inWords() string {
	if c.literal {
		return fmt.Sprintf("“%s”", c.before)
	}
	var said string
	switch {
	case c.table != "":
		var of []string
		for i := range c.of {
			of = append(of, c.of[i].inWords())
		}
		said = fmt.Sprintf("%s of the %s", c.table, strings.Join(of, " or "))
	case c.field.Type == Date:
		return c.before + c.sayDate() + c.after
	default:
		said = c.field.InWords()
		if c.argument != "" {
			said += " " + c.argument
		}
	}
	for i := range c.words {
		w := &c.words[i]
		switch w.name {
		case "find", "without":
			said = "part of the " + said
		case "first":
			unit := "characters"
			if w.unit != "" {
				unit = w.unit
			}
			said = fmt.Sprintf("first %d %s of the %s", w.number, unit, said)
		case "upper":
			said += " in capitals"
		case "lower":
			said += " in small letters"
		}
	}
	return c.before + said + c.after
}

// sayDate says a date: "year received", "date of the invoice".
func (c *value) sayDate() string {
	noun, earlier := "", ""
	for i := range c.words {
		switch w := &c.words[i]; w.name {
		case "minus":
			unit := w.unit
			if w.number > 1 {
				unit += "s"
			}
			earlier = fmt.Sprintf(", %d %s before", w.number, unit)
		case "find", "without", "first", "upper", "lower", "plain", "pad":
		default:
			noun = w.name
		}
	}
	if n, ok := dateNouns[noun]; ok {
		noun = n
	}
	when := c.field.InWords()
	if _, known := fieldWords[c.field.Name]; !known {
		when = "of " + when // a value
	}
	return noun + " " + when + earlier
}
