package source_test

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/jmap"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkBacklog reads the facts of 400 messages and the attachment of each (40 kB), as a pass over old mail does, by
// both protocols of the same server, and over IMAP also compressed (RFC 4978).
func BenchmarkBacklog(b *testing.B) {
	const messages = 400
	c := testbed.StartCyrus(b, "ann")
	outside := c.Client("ann")
	random := rand.NewChaCha8([32]byte{})
	for i := range messages {
		octets := make([]byte, 30_000) // as pictures and PDFs are: they cannot be made smaller
		if _, err := random.Read(octets); err != nil {
			b.Fatal(err)
		}
		content := base64.StdEncoding.EncodeToString(octets)
		var lines bytes.Buffer
		for at := 0; at < len(content); at += 76 {
			lines.WriteString(content[at:min(at+76, len(content))] + "\r\n")
		}
		testbed.Append(b, outside, "INBOX", fmt.Appendf(nil, "From: Oda Fenwick <oda@tidewatch.example>\r\nMessage-ID: "+
			"<%d@tidewatch.example>\r\nSubject: reading\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n"+
			"Content-Type: text/plain\r\n\r\nSee the file.\r\n--b\r\nContent-Type: text/csv; name=readings.csv\r\n"+
			"Content-Transfer-Encoding: base64\r\n\r\n%s--b--\r\n", i, lines.Bytes()), time.Now())
	}
	for _, way := range []struct {
		name string
		port int
		dial func(port int) (source.Session, error)
	}{
		{"IMAP", c.IMAP, func(port int) (source.Session, error) {
			return imap.Dial(b.Context(), imap.Config{Server: reach.Server{Host: "127.0.0.1", Port: port,
				Encryption: reach.None}, Username: "ann", Password: "pw"})
		}},
		{"IMAP, compressed", c.IMAP, func(port int) (source.Session, error) {
			return imap.Dial(b.Context(), imap.Config{Server: reach.Server{Host: "127.0.0.1", Port: port,
				Encryption: reach.None}, Username: "ann", Password: "pw", Compress: true})
		}},
		{"JMAP", c.HTTP, func(port int) (source.Session, error) {
			return jmap.Dial(b.Context(), jmap.Config{Server: reach.Server{Host: "127.0.0.1", Port: port,
				Encryption: reach.None}, Username: "ann", Password: "pw", Numbers: &sourcetest.Numbers{}})
		}},
	} {
		pass := func(b *testing.B, port int) {
			s, err := way.dial(port)
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			if _, err := s.Open(b.Context(), "INBOX"); err != nil {
				b.Fatal(err)
			}
			uids, err := s.UIDs(b.Context(), source.Query{})
			if err != nil {
				b.Fatal(err)
			}
			facts, err := s.Facts(b.Context(), uids)
			if err != nil || len(facts) != messages || facts[0].Whole {
				b.Fatal(len(facts), err)
			}
			wanted := make([]source.Wanted, len(uids))
			for i, uid := range uids {
				wanted[i] = source.Wanted{UID: uid, Item: "2"}
			}
			got := 0
			err = s.(source.Fetcher).Parts(b.Context(), wanted, 1<<20, func(_ source.Wanted, content []byte) {
				got++
				source.Recycle(content)
			})
			if err != nil || got != messages {
				b.Fatal(got, err)
			}
		}
		b.Run(way.name, func(b *testing.B) {
			through, octets := counting(b, way.port)
			pass(b, through) // the time is taken without what counts
			b.ResetTimer()
			for b.Loop() {
				pass(b, way.port)
			}
			b.ReportMetric(messages*float64(b.N)/b.Elapsed().Seconds(), "messages/s")
			b.ReportMetric(float64(octets.Load())/messages, "octets/message")
		})
	}
}
