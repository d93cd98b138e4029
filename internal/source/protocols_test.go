package source_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"regexp"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/jmap"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

// bothWays is how a message is seen by a protocol.
type bothWays struct {
	seen
	message *mail.Message
	whole   bool
}

// transferEncoding is the end of a line about an item, which differs where parts come decoded.
var transferEncoding = regexp.MustCompile(`(?m) [^ \n]*$`)

// byOctets reads every message, by the checksum of its octets.
func byOctets(t *testing.T, s source.Session) map[[32]byte]bothWays {
	t.Helper()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	uids, err := s.UIDs(t.Context(), source.Query{})
	if err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), uids)
	if err != nil || len(facts) != len(uids) {
		t.Fatalf("%d facts of %d messages: %v", len(facts), len(uids), err)
	}
	part := func(f *source.Facts, item string) ([]byte, error) {
		r, err := s.Part(t.Context(), f, item)
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(r)
		return data, errors.Join(err, r.Close())
	}
	found := map[[32]byte]bothWays{}
	for i := range facts {
		f := &facts[i]
		raw, err := part(f, source.Whole)
		if err != nil {
			t.Fatal(err)
		}
		m := f.Message("INBOX")
		what := describe(m, func(item mail.Item) ([]byte, error) {
			data, err := part(f, item.ID)
			if err != nil {
				return nil, err
			}
			return io.ReadAll(mail.Decode(item.Encoding, bytes.NewReader(data)))
		})
		what.items = transferEncoding.ReplaceAllString(what.items, "")
		found[sha256.Sum256(raw)] = bothWays{what, m, f.Whole}
	}
	return found
}

// A message is the same message, with the same items and the same contents, by whichever protocol the same server is
// asked for it.
func TestAMessageIsTheSameByIMAPAndByJMAP(t *testing.T) {
	messages := corpus(t)
	c := testbed.StartCyrus(t, "ann")
	outside := c.Client("ann")
	for name, raw := range sourcetest.Messages() {
		messages = append(messages, sourcetest.Odd{Name: name, Raw: []byte(raw)})
	}
	refused, ambiguous := 0, map[string]bool{}
	for _, m := range messages {
		subject := mail.Parse(m.Raw).Message.Envelope.Subject
		ambiguous[subject] = ambiguous[subject] || m.Ambiguous
		crlf := bytes.ReplaceAll(m.Raw, []byte("\r\n"), []byte("\n")) // this server takes no other line ends
		m.Raw = bytes.ReplaceAll(crlf, []byte("\n"), []byte("\r\n"))
		put := outside.Append("INBOX", int64(len(m.Raw)), &imaplib.AppendOptions{Time: time.Now()})
		if _, err := put.Write(m.Raw); err != nil {
			t.Fatal(err)
		}
		if err := put.Close(); err != nil {
			t.Fatal(err)
		}
		if _, err := put.Wait(); err != nil { // such as one without a header
			refused++
			t.Logf("the server takes no message such as %s: %v", m.Name, err)
		}
	}
	byIMAP, err := imap.Dial(t.Context(), imap.Config{Server: reach.Server{Host: c.Host, Port: c.IMAP,
		Encryption: reach.None}, Username: "ann", Password: "pw"})
	if err != nil {
		t.Fatal(err)
	}
	defer byIMAP.Close()
	byJMAP, err := jmap.Dial(t.Context(), jmap.Config{Server: reach.Server{Host: c.Host, Port: c.HTTP,
		Encryption: reach.None}, Username: "ann", Password: "pw", Numbers: &sourcetest.Numbers{}})
	if err != nil {
		t.Fatal(err)
	}
	defer byJMAP.Close()
	one, other := byOctets(t, byIMAP), byOctets(t, byJMAP)
	if len(one) != len(other) || len(one) < 200 {
		t.Errorf("%d messages by IMAP, %d by JMAP, %d were refused", len(one), len(other), refused)
	}
	whole, unlike := 0, 0
	for sum, a := range one {
		b, ok := other[sum]
		switch {
		case !ok:
			t.Errorf("%q is not there by JMAP", a.message.Envelope.Subject)
			continue
		case a.items != b.items:
			t.Errorf("%q: by JMAP and by IMAP%s", a.message.Envelope.Subject, differences(b.items, a.items))
		case a.contents != b.contents && !ambiguous[a.message.Envelope.Subject]:
			t.Errorf("%q: other contents by JMAP%s", a.message.Envelope.Subject, differences(b.contents, a.contents))
		case a.message.Likeness() == b.message.Likeness():
		case a.message.Header.MessageID() == "" && ambiguous[a.message.Envelope.Subject]:
			unlike++ // only its sizes could tell, and the server counts them in its own way
		default:
			t.Errorf("%q: another likeness by JMAP", a.message.Envelope.Subject)
		}
		if b.whole {
			whole++
		}
	}
	if unlike > 1 {
		t.Errorf("%d messages without a Message-ID are not recognised", unlike)
	}
	t.Logf("%d messages, of which %d are read whole over JMAP and %d are not recognised; the server refused %d", len(one),
		whole, unlike, refused)
}
