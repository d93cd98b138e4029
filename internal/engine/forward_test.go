package engine

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// encodedForward writes a message that forwards another one in a transfer encoding.
func encodedForward(encoding, inner string) []byte {
	body := inner
	switch encoding {
	case "base64":
		body = base64.StdEncoding.EncodeToString([]byte(inner))
	case "quoted-printable":
		body = strings.NewReplacer("=", "=3D").Replace(inner)
	}
	return fmt.Appendf(nil, "From: Oda <oda@tidewatch.example>\r\nSubject: Fwd\r\nMessage-ID: "+
		"<%s@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=out\r\n\r\n--out\r\n\r\nsee "+
		"below\r\n--out\r\nContent-Type: message/rfc822\r\nContent-Transfer-Encoding: %s\r\n\r\n%s\r\n--out--\r\n",
		encoding, encoding, body)
}

func TestAForwardThatIsEncodedIsOpened(t *testing.T) {
	inner := "From: Keld <keld@marram.example>\r\nSubject: Berth plan\r\nContent-Type: multipart/mixed; " +
		"boundary=in\r\n\r\n--in\r\n\r\ntext\r\n--in\r\nContent-Type: text/csv; name=plan.csv\r\n\r\na;b\r\n--in--\r\n"
	for _, encoding := range []string{"base64", "quoted-printable", "7bit"} {
		t.Run(encoding, func(t *testing.T) {
			box := newPostbox()
			h := newHouse(t, box.dial)
			h.watched()
			h.rule(gaugesRule + "    name: <original.sender.name> <file.stem>\n")
			box.deliver("INBOX", encodedForward(encoding, inner))
			h.filed(1)
			h.expect(map[string]string{"Gauges/" + time.Now().UTC().Format("2006/01") + "/Keld plan.csv": "a;b"})
		})
	}
}

func TestAForwardWithinAForwardThatAreBothEncodedIsOpened(t *testing.T) {
	innermost := "From: Mara <mara@marram.example>\r\nSubject: Innermost\r\nContent-Type: text/csv; " +
		"name=deep.csv\r\n\r\ndeep"
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.deliver("INBOX", encodedForward("base64", string(encodedForward("base64", innermost))))
	h.filed(1)
	h.expect(map[string]string{"Gauges/" + time.Now().UTC().Format("2006/01") + "/deep.csv": "deep"})
}

func TestAMessageWhosePartsCannotBeToldApartGoesToTheTray(t *testing.T) {
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.watched()
	h.rule(gaugesRule)
	box.deliver("INBOX", []byte("From: oda@tidewatch.example\r\nSubject: garbled\r\nContent-Type: multipart/mixed; "+
		"boundary=lost\r\n\r\nJVBERi0xLjQKJSBiZXJ0aCBwbGFuCg==\r\n"))
	box.deliver("INBOX", []byte("From: keld@marram.example\r\nSubject: garbled too, and for no rule\r\nContent-Type: "+
		"multipart/mixed; boundary=lost\r\n\r\nJVBERi0xLjQKJSBiZXJ0aCBwbGFuCg==\r\n"))
	box.deliver("INBOX", raw("next", "a.csv", "1"))
	h.filed(1)
	tray, err := h.store.Retries.InTray(t.Context(), store.System, 10)
	if err != nil || len(tray) != 1 || tray[0].Subject != "garbled" ||
		!strings.Contains(tray[0].Reason.String(), "no line parts them") {
		t.Errorf("the tray says %+v, %v", tray, err)
	}
}

func TestAMessageThatMailProgramsCanReadIsRead(t *testing.T) {
	part := "\r\n--edge\r\nContent-Type: text/csv; name=a.csv\r\n\r\n1\r\n--edge--\r\n"
	header := "From: oda@tidewatch.example\r\nSubject: odd\r\nMessage-ID: <%d@tidewatch.example>\r\n"
	for name, text := range map[string]string{
		"no boundary": header + "Content-Type: multipart/mixed\r\n\r\n" + part,
		"lines that end with CR": strings.ReplaceAll(header+"Content-Type: multipart/mixed; boundary=edge\r\n\r\n"+part,
			"\r\n", "\r"),
		"an empty line at the top": "\r\n" + header + "Content-Type: multipart/mixed; boundary=edge\r\n\r\n" + part,
		"lines that end with CR CR LF": strings.ReplaceAll(header+"Content-Type: multipart/mixed; boundary=edge\r\n\r\n"+part,
			"\r\n", "\r\r\n"),
	} {
		t.Run(name, func(t *testing.T) {
			h, _, deliver := dovecot(t)
			h.watched()
			h.rule(gaugesRule)
			deliver("INBOX", []byte(text))
			h.filed(1)
			if got := strings.TrimRight(h.tree()["Gauges/2026/05/a.csv"], "\r"); got != "1" {
				t.Errorf("filed: %q", h.tree())
			}
		})
	}
}
