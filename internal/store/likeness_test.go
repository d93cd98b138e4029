package store

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// twoWays is a message as its octets tell it, and as a server does that takes the transfer encoding off.
func twoWays(t testing.TB, id string) (encoded, decoded *source.Facts) {
	t.Helper()
	raw := mail.Parse([]byte("From: oda@tidewatch.example\r\n" + id + "Subject: reading\r\nContent-Type: " +
		"multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\n" +
		"x\r\n--b\r\nContent-Type: application/pdf; name=a.pdf\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\nJVBERi0xLjcK\r\n--b--\r\n"))
	encoded = &source.Facts{UID: 1, Received: day, Header: raw.Message.Header, Structure: raw.Structure()}
	other := *encoded
	other.Structure.Alike = true
	other.Structure.Children = append([]mail.Structure{}, encoded.Structure.Children...)
	if id != "" { // of others a server's account is not relied on
		other.Structure.Children[1].Size, other.Structure.Children[1].Encoding = 9, "binary"
	}
	return encoded, &other
}

func row(t testing.TB, folder string, validity uint32, f *source.Facts) *Message {
	t.Helper()
	m, _, err := NewMessage("box", folder, validity, f, day)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestAMessageIsKnownByWhicheverProtocolItIsRead(t *testing.T) {
	for name, id := range map[string]string{"with a Message-ID": "Message-ID: <1@tidewatch.example>\r\n", "without": ""} {
		encoded, decoded := twoWays(t, id)
		for way, c := range map[string][2]*source.Facts{"IMAP, then JMAP": {encoded, decoded},
			"JMAP, then IMAP": {decoded, encoded}, "JMAP twice": {decoded, decoded}, "IMAP twice": {encoded, encoded}} {
			s := opened(t)
			first := row(t, "INBOX", 1, c[0])
			look := Look{Messages: []*Message{first}, Entries: map[*Message][]Entry{first: {{RuleID: "r", Item: "2",
				State: Planned, Name: "a.pdf", Wanted: "A/a.pdf", CabinetID: "c", PlannedAt: day}}}}
			if err := s.Messages.Commit(t.Context(), look); err != nil {
				t.Fatal(err)
			}
			e := look.Entries[first][0]
			e.Path, e.Size, e.SHA256 = "A/a.pdf", 9, make([]byte, 32)
			if err := s.Journal.Stage(t.Context(), &e, nil, day); err != nil {
				t.Fatal(err)
			}
			if err := s.Journal.File(t.Context(), &e, day); err != nil {
				t.Fatal(err)
			}
			second := row(t, "INBOX", 2, c[1])
			if known, err := s.Messages.Known(t.Context(), second, "INBOX", 2); err != nil || !known {
				t.Errorf("%s, %s: known %v, %v", name, way, known, err)
			}
			if moved, err := s.Messages.Moved(t.Context(), second, "INBOX", 1); err != nil || moved.ID != first.ID {
				t.Errorf("%s, %s: found again: %d, %v", name, way, moved.ID, err)
			}
			again := Entry{RuleID: "r", Item: "2"}
			if was, found, err := s.Journal.FiledBefore(t.Context(), &again, second, make([]byte, 32)); err != nil || !found ||
				was.ID != e.ID {
				t.Errorf("%s, %s: filed before: %v, %v", name, way, found, err)
			}
			if !first.Is(c[1].Message("INBOX")) {
				t.Errorf("%s, %s: it is not the same message", name, way)
			}
		}
	}
	// What has the same header and other sizes is another message, as long as both tell exact sizes.
	s := opened(t)
	encoded, _ := twoWays(t, "Message-ID: <1@tidewatch.example>\r\n")
	if err := s.Messages.Commit(t.Context(), Look{Messages: []*Message{row(t, "INBOX", 1, encoded)}}); err != nil {
		t.Fatal(err)
	}
	other := *encoded
	other.Structure.Children = append([]mail.Structure{}, encoded.Structure.Children...)
	other.Structure.Children[1].Size++
	if known, err := s.Messages.Known(t.Context(), row(t, "INBOX", 2, &other), "INBOX", 2); err != nil || known {
		t.Errorf("a message of another size is known: %v, %v", known, err)
	}
}

func TestOlderRecordsGetTheirLikeness(t *testing.T) {
	encoded, decoded := twoWays(t, "Message-ID: <1@tidewatch.example>\r\n")
	structure, err := json.Marshal(encoded.Structure)
	if err != nil {
		t.Fatal(err)
	}
	insert := func(uid int, header, structure string) string {
		return fmt.Sprintf("INSERT INTO messages (mailbox_id, folder, uid_validity, uid, fingerprint, received_at, size, "+
			"flags, subject, sender_name, sender_address, attachments, header, structure, whole, seen_at) VALUES "+
			"('box', 'INBOX', 1, %d, x'00', '%s', 1, '[]', '', '', '', 0, CAST('%s' AS BLOB), '%s', FALSE, '%[2]s')",
			uid, day.Format(time.RFC3339), header, structure)
	}
	folder := t.TempDir()
	header := strings.ReplaceAll(string(encoded.Header.Bytes()), "'", "''")
	recordsOf(t, folder, 23, insert(1, header, string(structure)), insert(2, "", "{}"), insert(3, header, "nonsense"))
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	rows, err := list[Message](s.reading(t.Context()).Order("uid"))
	if err != nil || len(rows) != 3 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	want := decoded.Message("INBOX").Likeness()
	if !bytes.Equal(rows[0].Likeness, want[:]) || rows[1].Likeness != nil || rows[2].Likeness != nil {
		t.Errorf("likenesses %x, %x, %x; want %x and none", rows[0].Likeness, rows[1].Likeness, rows[2].Likeness, want)
	}
}

// Among many messages the same one is found by its indices.
func TestTheSameMessageIsFoundByAnIndex(t *testing.T) {
	s := opened(t)
	encoded, decoded := twoWays(t, "Message-ID: <1@tidewatch.example>\r\n")
	for name, f := range map[string]*source.Facts{"exact": encoded, "decoded": decoded} {
		m := row(t, "INBOX", 1, f)
		var plan []struct{ Detail string }
		if err := s.write.Raw("EXPLAIN QUERY PLAN SELECT * FROM messages WHERE id IN ("+sameMessages+") AND +mailbox_id = ?",
			append(m.same(), "box")...).Scan(&plan).Error; err != nil {
			t.Fatal(err)
		}
		if text := fmt.Sprint(plan); !strings.Contains(text, "messages_fingerprint") ||
			!strings.Contains(text, "messages_likeness") || strings.Contains(text, "messages_received") {
			t.Errorf("%s: %s", name, text)
		}
	}
}

// A mailbox that an earlier version handed over comes without likenesses.
func TestAMailboxFromAnEarlierVersionGetsItsLikenesses(t *testing.T) {
	encoded, _ := twoWays(t, "Message-ID: <1@tidewatch.example>\r\n")
	from, to := opened(t), opened(t)
	box := &Mailbox{ID: "box", Name: "office", Kind: "imap", MadeAt: day}
	if err := from.Mailboxes.Add(t.Context(), box, "pw", "test"); err != nil {
		t.Fatal(err)
	}
	if err := from.Messages.Commit(t.Context(), Look{Messages: []*Message{row(t, "INBOX", 1, encoded)}}); err != nil {
		t.Fatal(err)
	}
	var file, text, earlier bytes.Buffer
	if err := from.Mailboxes.HandOver(t.Context(), box, nil, nil, &file, day); err != nil {
		t.Fatal(err)
	}
	in, err := gzip.NewReader(&file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := text.ReadFrom(in); err != nil {
		t.Fatal(err)
	}
	without := regexp.MustCompile(`"Likeness":"[^"]+",`).ReplaceAll(text.Bytes(), nil)
	if len(without) == text.Len() {
		t.Fatalf("the file has no likeness: %s", text.Bytes())
	}
	out := gzip.NewWriter(&earlier)
	if _, err := out.Write(without); err != nil {
		t.Fatal(err)
	}
	if err := out.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := to.Mailboxes.TakeOver(t.Context(), &earlier, day, "test", false); err != nil {
		t.Fatal(err)
	}
	rows, err := list[Message](to.reading(t.Context()))
	want := encoded.Message("INBOX").Likeness()
	if err != nil || len(rows) != 1 || !bytes.Equal(rows[0].Likeness, want[:]) {
		t.Errorf("%+v, %v", rows, err)
	}
}
