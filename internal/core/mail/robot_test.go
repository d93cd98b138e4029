package mail

import (
	"strings"
	"testing"
)

func TestRobotsListsAndReportsGetNoReply(t *testing.T) {
	plain := "From: Oda Fenwick <oda@tidewatch.example>\r\nReturn-Path: <oda@tidewatch.example>\r\n"
	for name, c := range map[string]struct {
		head string
		says string
	}{
		"a person":              {plain, ""},
		"marked as no robot":    {plain + "Auto-Submitted: no\r\n", ""},
		"no return path at all": {"From: oda@tidewatch.example\r\n", ""},
		"an empty return path":  {"From: oda@tidewatch.example\r\nReturn-Path: <>\r\n", "return path is empty"},
		"sent by a program":     {plain + "Auto-Submitted: auto-generated; x=y\r\n", "auto-generated"},
		"a reply by a program":  {plain + "Auto-Submitted: Auto-Replied\r\n", "auto-replied"},
		"a list":                {plain + "List-Id: <pilots.brackwater.example>\r\n", "mailing list"},
		"a newsletter":          {plain + "List-Unsubscribe: <mailto:x@y.example>\r\n", "mailing list"},
		"bulk mail":             {plain + "Precedence: Bulk\r\n", "sent to many"},
		"suppressed":            {plain + "X-Auto-Response-Suppress: All\r\n", "asks for no automatic reply"},
		"nobody reads it":       {"From: no-reply@tidewatch.example\r\n", "read by no person"},
		"the server's own":      {"From: MAILER-DAEMON@tidewatch.example\r\n", "read by no person"},
		"a list's owner":        {"From: owner-pilots@tidewatch.example\r\n", "read by no person"},
		"no sender":             {"Subject: x\r\n", "no sender's address"},
		"a delivery report": {plain + "Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n",
			"report of a mail server"},
		"a name like a robot's":  {"From: Noreply Smith <smith@tidewatch.example>\r\n", ""},
		"a request by a request": {"From: pilots-request@tidewatch.example\r\n", "read by no person"},
	} {
		m := Parse([]byte(c.head + "\r\n--b\r\n\r\nx\r\n--b--\r\n")).Message
		got := m.NoReply()
		if c.says == "" && got != "" || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q, want ...%s...", name, got, c.says)
		}
	}
}

func TestAReplyJoinsTheThread(t *testing.T) {
	m := Parse([]byte("From: Oda <oda@tidewatch.example>\r\nReturn-Path: <bounce-oda@relay.example>\r\nMessage-ID: " +
		"<3@t.example>\r\nReferences: <1@t.example>\r\n <2@t.example> junk\r\n\r\nx")).Message
	in, references := m.Thread()
	if in != "<3@t.example>" || references != "<1@t.example> <2@t.example> <3@t.example>" {
		t.Errorf("In-Reply-To %q, References %q", in, references)
	}
	if to := m.ReplyTo().String(); to != "bounce-oda@relay.example" {
		t.Errorf("the reply goes to %s, want the return path", to)
	}
	odd := Parse([]byte("From: oda@tidewatch.example\r\nMessage-ID: <a b\r\n c>\r\n\r\nx")).Message
	if in, references := odd.Thread(); in != "" || references != "" {
		t.Errorf("an odd Message-ID gives %q, %q", in, references)
	}
}
