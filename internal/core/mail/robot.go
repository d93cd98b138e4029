package mail

import (
	"slices"
	"strings"
)

// robots are local parts that no person reads.
var robots = []string{"mailer-daemon", "postmaster", "noreply", "no-reply", "donotreply", "do-not-reply", "listserv",
	"majordomo", "bounce", "bounces"}

// NoReply says why a message must not be answered by a program, "" where it may
// be (RFC 3834 section 2).
func (m *Message) NoReply() string {
	h := m.Header
	word := func(name string) string {
		v, _, _ := strings.Cut(h.Get(name), ";")
		return strings.ToLower(strings.TrimSpace(v))
	}
	sender := m.Envelope.Sender()
	local := strings.ToLower(sender.Local)
	switch path := h.All("Return-Path"); {
	case len(path) > 0 && strings.Trim(path[0], " \t\r\n") == "<>":
		return "its return path is empty, as robots write"
	case word("Auto-Submitted") != "" && word("Auto-Submitted") != "no":
		return "it was sent by a program (Auto-Submitted: " + word("Auto-Submitted") + ")"
	case h.Get("List-Id") != "" || h.Get("List-Post") != "" || h.Get("List-Unsubscribe") != "":
		return "it came by way of a mailing list"
	case slices.Contains([]string{"bulk", "list", "junk"}, word("Precedence")):
		return "it was sent to many (Precedence: " + word("Precedence") + ")"
	case h.Get("X-Auto-Response-Suppress") != "" && word("X-Auto-Response-Suppress") != "none":
		return "its sender asks for no automatic reply"
	case m.Root.Type == "multipart/report":
		return "it is a report of a mail server"
	case sender.Local == "" || sender.Domain == "":
		return "it has no sender's address"
	case slices.Contains(robots, local), strings.HasPrefix(local, "owner-"), strings.HasSuffix(local, "-request"),
		strings.HasPrefix(local, "bounce+"), strings.HasPrefix(local, "bounces+"):
		return "its sender " + sender.String() + " is read by no person"
	}
	return ""
}

// ReplyTo is where an automatic reply goes: the return path where the message
// has one, else its author (RFC 3834 section 4).
func (m *Message) ReplyTo() Address {
	if path := m.Header.Get("Return-Path"); path != "" {
		if a := ParseAddresses(path); len(a) > 0 && a[0].Local != "" && a[0].Domain != "" {
			return a[0]
		}
	}
	return m.Envelope.Sender()
}

// Thread gives the fields of a reply that join it to the message: In-Reply-To
// and References (RFC 5322 section 3.6.4), with their angle brackets.
func (m *Message) Thread() (inReplyTo, references string) {
	id := m.Envelope.MessageID
	if id == "" || strings.ContainsAny(id, " \t\r\n<>") {
		return "", ""
	}
	inReplyTo = "<" + id + ">"
	var ids []string
	for _, known := range strings.Fields(unfold(m.Header.Get("References"))) {
		if strings.HasPrefix(known, "<") && strings.HasSuffix(known, ">") && known != inReplyTo {
			ids = append(ids, known)
		}
	}
	if len(ids) == 0 {
		for _, known := range strings.Fields(unfold(m.Header.Get("In-Reply-To"))) {
			if strings.HasPrefix(known, "<") && strings.HasSuffix(known, ">") {
				ids = append(ids, known)
			}
		}
	}
	ids = append(ids[max(0, len(ids)-20):], inReplyTo)
	return inReplyTo, strings.Join(ids, " ")
}
