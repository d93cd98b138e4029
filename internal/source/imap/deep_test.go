package imap

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

// A message whose structure nobody can read is read whole, also where it came after the folder was opened: the answer
// is at fault then, and not the connection.
func TestAMessageOfTooDeepStructureDoesNotEndTheSession(t *testing.T) {
	d := testbed.StartDovecot(t)
	c := d.Client("gauges")
	s, err := Dial(t.Context(), Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS,
		RootCAs: d.Roots}, Username: "gauges", Password: "pw"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	var uids []uint32
	for _, depth := range []int{1, 60, 99, 100, 101, 150, 400, 2} {
		inner := "Content-Type: text/csv; name=deep.csv\r\n\r\na;b"
		for i := range depth {
			inner = fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n%s\r\n--b%d--\r\n", i, i, inner, i)
		}
		uids = append(uids, testbed.Append(t, c, "INBOX", []byte(fmt.Sprintf("Subject: %d deep\r\n", depth)+inner),
			time.Now()))
	}
	facts, err := s.Facts(t.Context(), uids)
	if err != nil || len(facts) != len(uids) {
		t.Fatalf("%d of %d messages: %v", len(facts), len(uids), err)
	}
	for _, at := range []int{0, len(facts) - 1} {
		if items := facts[at].Message("INBOX").Items(); len(items) != 1 || !strings.HasPrefix(items[0].Name, "deep") {
			t.Errorf("message %d has %+v", uids[at], items)
		}
	}
}
