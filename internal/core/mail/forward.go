package mail

import (
	"regexp"
	"slices"
	"strings"
)

var (
	replyMark    = regexp.MustCompile(`(?i)^\s*(re|aw|antw|sv|rif|odp|ynt|atb|res|réf)\s*(\[\d+\]|\(\d+\))?\s*[:：]`)
	writtenField = regexp.MustCompile(`^[\s>|*_]*([\p{L}][\p{L} .'-]{0,30}?)\s*[*_]*\s*[:：][\s*_]*(.*)$`)
	someAddress  = regexp.MustCompile(`[^\s<>\[\]"'(),;:]+@[^\s<>\[\]"'(),;:]+`)
	wroteIt      = strings.Split(
		"from|von|de|da|van|od|fra|från|lähettäjä|feladó|kimden|expéditeur|mittente|remitente|afzender|avsender|"+
			"afsender|avsändare|nadawca|odesílatel|от|отправитель|від|από|发件人|寄件者|差出人|보낸 사람", "|")
)

// mostLines is how many lines of a text are looked at for such fields.
const mostLines = 1000

// Originals are the senders of the messages that this one forwards: of those that are
// attached (RFC 2046 section 5.2.1), else of the one whose header fields the forwarding
// program wrote into the text. known is false where the text has not been read yet and
// could tell.
func (m *Message) Originals() (senders []Address, known bool) {
	var walk func(p *Part)
	walk = func(p *Part) {
		if p.Envelope != nil && len(p.Envelope.From) > 0 {
			senders = append(senders, p.Envelope.Sender())
		}
		for i := range p.Children {
			walk(&p.Children[i])
		}
	}
	walk(&m.Root)
	for _, i := range m.Items() { // encoded forwards, once they are opened
		if i.Type == "message/rfc822" && i.Opens {
			if o := m.Inside[i.ID]; o != nil && o.Forward != nil && len(o.Forward.From) > 0 {
				senders = append(senders, o.Forward.Sender())
			}
		}
	}
	switch {
	case len(senders) > 0 || replyMark.MatchString(m.Envelope.Subject):
		return senders, true
	case m.Text == nil:
		return nil, m.TextError != "" || m.Encrypted()
	}
	if a := originalIn(*m.Text); a != (Address{}) {
		senders = []Address{a}
	}
	return senders, true
}

// originalIn finds the original sender in the header fields that a mail program wrote into the text of a forward: at
// least three consecutive lines, one of them with the sender. There is no standard for them.
func originalIn(text string) Address {
	fields, lines, sender := 0, 0, ""
	for line := range strings.Lines(text) {
		if lines++; lines > mostLines {
			break
		}
		line = strings.TrimRight(line, "\r\n")
		found := writtenField.FindStringSubmatch(line)
		switch {
		case found != nil:
			fields++
			if sender == "" && slices.Contains(wroteIt, strings.ToLower(found[1])) {
				sender = found[2]
			}
			if fields >= 3 && sender != "" {
				if a := writtenAddress(sender); a != (Address{}) {
					return a
				}
			}
		case strings.Trim(line, " \t>|") != "":
			fields, sender = 0, ""
		}
	}
	return Address{}
}

// writtenAddress reads an address as programs write it for people: Oda <oda@x.example>,
// Oda [mailto:oda@x.example], or only a name.
func writtenAddress(s string) Address {
	s = strings.TrimSpace(strings.ReplaceAll(s, "mailto:", ""))
	at := someAddress.FindStringIndex(s)
	if at == nil {
		return Address{Name: strings.Trim(s, ` "'*`)}
	}
	return makeAddress(strings.Trim(s[:at[0]], ` "'<[(*`), strings.TrimRight(s[at[0]:at[1]], ".*"))
}
