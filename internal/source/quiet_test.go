package source_test

import (
	"fmt"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/jmap"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

// counting passes connections on to a port of this machine, and counts the octets of both directions.
func counting(t testing.TB, port int) (through int, octets *atomic.Int64) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	octets = &atomic.Int64{}
	pass := func(to, from net.Conn) {
		buffer := make([]byte, 32<<10)
		for {
			n, err := from.Read(buffer)
			octets.Add(int64(n))
			if _, failed := to.Write(buffer[:n]); err != nil || failed != nil {
				to.Close()
				return
			}
		}
	}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				in.Close()
				continue
			}
			go pass(in, out)
			go pass(out, in)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, octets
}

// BenchmarkQuietLook looks into an account of a hundred folders in which nothing is new, as the watcher does: the inbox
// is opened and the others are asked for their state.
func BenchmarkQuietLook(b *testing.B) {
	c := testbed.StartCyrus(b, "ann")
	outside := c.Client("ann")
	folders := []string{"INBOX"}
	for i := 1; i < 100; i++ {
		folders = append(folders, fmt.Sprintf("Station %d", i))
	}
	testbed.MakeFolders(b, outside, folders[1:]...)
	raw := []byte(sourcetest.Messages()["one attachment"])
	for i, f := range folders {
		if i%10 == 0 {
			testbed.Append(b, outside, f, append(fmt.Appendf(nil, "X-Number: %d\r\n", i), raw...), time.Now())
		}
	}
	imapPort, byIMAP := counting(b, c.IMAP)
	httpPort, byJMAP := counting(b, c.HTTP)
	for _, way := range []struct {
		name   string
		octets *atomic.Int64
		dial   func() (source.Session, error)
	}{
		{"IMAP", byIMAP, func() (source.Session, error) {
			return imap.Dial(b.Context(), imap.Config{Server: reach.Server{Host: "127.0.0.1", Port: imapPort,
				Encryption: reach.None}, Username: "ann", Password: "pw"})
		}},
		{"JMAP", byJMAP, func() (source.Session, error) {
			return jmap.Dial(b.Context(), jmap.Config{Server: reach.Server{Host: "127.0.0.1", Port: httpPort,
				Encryption: reach.None}, Username: "ann", Password: "pw", Numbers: &sourcetest.Numbers{}})
		}},
	} {
		b.Run(way.name, func(b *testing.B) {
			s, err := way.dial()
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			look := func() {
				if _, err := s.Open(b.Context(), "INBOX"); err != nil {
					b.Fatal(err)
				}
				states, err := s.(source.Glancer).Glance(b.Context(), folders[1:])
				if err != nil || len(states) != len(folders)-1 {
					b.Fatal(len(states), err)
				}
			}
			look()
			before := way.octets.Load()
			b.ResetTimer()
			for b.Loop() {
				look()
			}
			b.ReportMetric(float64(way.octets.Load()-before)/float64(b.N), "octets/look")
		})
	}
}

// BenchmarkQuietDay measures a day of an account of a hundred folders in which nothing comes, by what one look costs
// and how often there is one: each minute without announcements, each ten minutes with them (RFC 5465), when waiting is
// begun anew as well.
func BenchmarkQuietDay(b *testing.B) {
	d := testbed.StartDovecot(b)
	outside := d.Client("ann")
	folders := []string{"INBOX"}
	for i := 1; i < 100; i++ {
		folders = append(folders, fmt.Sprintf("Station %d", i))
	}
	testbed.MakeFolders(b, outside, folders[1:]...)
	port, octets := counting(b, d.IMAP)
	for _, way := range []struct {
		name      string
		looks     int
		announces bool
	}{{"at the interval", 24 * 60, false}, {"announced", 24 * 6, true}} {
		b.Run(way.name, func(b *testing.B) {
			s, err := imap.Dial(b.Context(), imap.Config{Server: reach.Server{Host: "127.0.0.1", Port: port,
				Encryption: reach.None}, Username: "ann", Password: "pw"})
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			if _, err := s.Folders(b.Context()); err != nil {
				b.Fatal(err)
			}
			if way.announces {
				if err := s.Announce(b.Context(), false); err != nil || !s.Announces() {
					b.Fatal("the server does not announce", err)
				}
			}
			before := octets.Load()
			for b.Loop() {
				for range way.looks {
					if _, err := s.Open(b.Context(), "INBOX"); err != nil {
						b.Fatal(err)
					}
					states, err := s.Glance(b.Context(), folders[1:])
					if err != nil || len(states) != len(folders)-1 {
						b.Fatal(len(states), err)
					}
					if _, err := s.Wait(b.Context(), time.Millisecond, nil); err != nil {
						b.Fatal(err)
					}
				}
			}
			b.ReportMetric(float64(octets.Load()-before)/float64(b.N)/1e6, "MB/day")
			b.ReportMetric(float64(way.looks), "looks/day")
		})
	}
}
