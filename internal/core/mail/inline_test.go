package mail

import (
	"fmt"
	"testing"
)

func TestOnlyPicturesThatTheTextCanShowCountAsShownInIt(t *testing.T) {
	for _, one := range []struct {
		within, disposition, id string
		inline                  bool
	}{
		{"related", "inline", "Content-ID: <a>\r\n", true},
		{"related", "attachment", "Content-ID: <a>\r\n", true}, // some programs name every picture an attachment
		{"mixed", "inline", "Content-ID: <a>\r\n", true},
		{"mixed", "attachment", "Content-ID: <a>\r\n", false},
		{"mixed", "inline", "", false}, // a photo put into the text: nothing else shows it
		{"related", "inline", "", false},
	} {
		m := Parse([]byte(fmt.Sprintf("From: a@b.example\r\nContent-Type: multipart/%s; boundary=b\r\n\r\n--b\r\n"+
			"Content-Type: text/html\r\n\r\n<img src=cid:a>\r\n--b\r\n%sContent-Type: image/png; name=p.png\r\n"+
			"Content-Disposition: %s\r\n\r\nx\r\n--b--\r\n", one.within, one.id, one.disposition))).Message
		items := m.Items()
		if len(items) != 1 || items[0].Inline != one.inline {
			t.Errorf("in multipart/%s, %s, %q: %+v, want inline %v", one.within, one.disposition, one.id, items, one.inline)
		}
	}
}
