package mail

import (
	"strings"
	"testing"
)

// Forwarded messages as mail programs write them into a text.
func TestOriginalSendersOfForwardedMessages(t *testing.T) {
	for name, c := range map[string]struct{ subject, text, want string }{
		"dashes": {"Fwd: readings",
			"For the register.\n\n---------- Forwarded message ---------\nFrom: Oda Fenwick <oda@tidewatch.example>\nDate: " +
				"Tue, 12 May 2026 at 06:02\nSubject: readings\nTo: <gauges@brackwater.example>\n\nAttached.\n",
			"Oda Fenwick|oda@tidewatch.example"},
		"bold, sent": {"FW: readings",
			"*From:* Oda Fenwick <oda@tidewatch.example>\n*Sent:* 12 May 2026 06:02\n*To:* Gauges\n*Subject:* readings\n",
			"Oda Fenwick|oda@tidewatch.example"},
		"mailto": {"WG: Pegel",
			"Von: Fenwick, Oda [mailto:oda@tidewatch.example]\r\nGesendet: Dienstag, 12. Mai 2026 06:02\r\nAn: " +
				"Pegel\r\nBetreff: Pegel\r\n", "Fenwick, Oda|oda@tidewatch.example"},
		"not first": {"Fwd: readings",
			"-------- Weitergeleitete Nachricht --------\nBetreff: \tPegel\nDatum: \tTue, 12 May 2026\nVon: \tOda Fenwick " +
				"<oda@tidewatch.example>\nAn: \tgauges@brackwater.example\n", "Oda Fenwick|oda@tidewatch.example"},
		"quoted": {"Tr: relevés",
			"> Début du message transféré :\n> \n> De: oda@tidewatch.example\n> Objet: relevés\n> Date: 12 mai 2026\n",
			"|oda@tidewatch.example"},
		"address twice": {"FW: x",
			"From: Oda Fenwick <oda@tidewatch.example<mailto:oda@tidewatch.example>>\nSent: Tuesday\nTo: Gauges\n",
			"Oda Fenwick|oda@tidewatch.example"},
		"only a name": {"FW: x", "From: Oda Fenwick\nSent: Tuesday\nTo: Gauges\n", "Oda Fenwick|"},
		"wide colons": {"转发: x", "发件人：Oda <oda@tidewatch.example>\n日期：2026-05-12\n主题：x\n", "Oda|oda@tidewatch.example"},
		"the outer of two": {"Fwd: Fwd: x",
			"From: Oda <oda@tidewatch.example>\nDate: Tue\nSubject: Fwd: x\n\nFrom: Brill <brill@hollin.example>\nDate: " +
				"Mon\nSubject: x\n", "Oda|oda@tidewatch.example"},
		"without a mark": {"readings", "From: Oda <oda@tidewatch.example>\nDate: Tue\nSubject: x\n",
			"Oda|oda@tidewatch.example"},
		"a reply":           {"Re: readings", "From: Oda <oda@tidewatch.example>\nDate: Tue\nSubject: x\n", ""},
		"no forward":        {"readings", "From: here on nothing.\n\nNote: mind the step.\n", ""},
		"fields with words": {"readings", "From: oda@tidewatch.example\nand then some text\nDate: Tue\nSubject: x\n", ""},
		"too far down": {"Fwd: x", strings.Repeat("a line\n", 1000) + "From: oda@tidewatch.example\nDate: " +
			"Tue\nSubject: x\n", ""},
	} {
		m := &Message{Envelope: Envelope{Subject: c.subject}, Text: &c.text}
		senders, known := m.Originals()
		got := ""
		if len(senders) > 0 {
			got = senders[0].Name + "|" + senders[0].String()
		}
		if got != c.want || !known {
			t.Errorf("%s: %q, %v, want %q", name, got, known, c.want)
		}
	}
	unread := &Message{Envelope: Envelope{Subject: "Fwd: x"}}
	if _, known := unread.Originals(); known {
		t.Error("it is known before the text is read")
	}
	unread.TextError = "gone"
	if _, known := unread.Originals(); !known {
		t.Error("it is asked for again, though the text cannot be read")
	}
	attached := &Message{
		Root: Part{Type: "multipart/mixed",
			Children: []Part{
				{Type: "message/rfc822", Envelope: &Envelope{From: []Address{{Local: "oda", Domain: "tidewatch.example"}}}}}}}
	if senders, known := attached.Originals(); !known || len(senders) != 1 ||
		senders[0].String() != "oda@tidewatch.example" {
		t.Errorf("attached: %v, %v", senders, known)
	}
}

func TestHTMLTextIsWhatPeopleRead(t *testing.T) {
	for in, want := range map[string]string{
		"<p>Tide <b>gauge</b>s,\n  new</p><p>order&nbsp;55</p>": "Tide gauges, new\norder 55",
		"From: Oda &lt;oda@tidewatch.example&gt;<br>Date: Tue<br/>Subject: x": "From: Oda " +
			"<oda@tidewatch.example>\nDate: Tue\nSubject: x",
		"<style>p{}</style><script>x</script><td>a</td><td>b</td><tr><td>c</td></tr>": "a b\nc",
		"": "",
	} {
		if got := HTMLText(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
