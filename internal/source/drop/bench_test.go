package drop

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/source/mailfile"
)

// BenchmarkOneFlush is what the disk takes to make one small file last: its
// content and its name. Deliveries are measured beside it.
func BenchmarkOneFlush(b *testing.B) {
	folder := b.TempDir()
	root, err := disk.Root(folder)
	if err != nil {
		b.Fatal(err)
	}
	defer root.Close()
	content := []byte(strings.Repeat("x", 20_000))
	n := 0
	for b.Loop() {
		n++
		f, err := root.Create(fmt.Sprint(n))
		if err != nil {
			b.Fatal(err)
		}
		if _, err := f.Write(content); err != nil {
			b.Fatal(err)
		}
		if err := f.Sync(); err != nil {
			b.Fatal(err)
		}
		f.Close()
		if err := root.SyncDir("."); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "flushes/s")
}

// BenchmarkDeliveries hands messages of 20 KB over by SMTP, each acknowledged once it
// is flushed, over one connection and over several at once.
func BenchmarkDeliveries(b *testing.B) {
	for _, senders := range []int{1, 8, 32} {
		b.Run(fmt.Sprintf("%d at once", senders), func(b *testing.B) {
			folder := filepath.Join(b.TempDir(), "box")
			if err := mailfile.Prepare(folder); err != nil {
				b.Fatal(err)
			}
			root, err := disk.Root(folder)
			if err != nil {
				b.Fatal(err)
			}
			defer root.Close()
			r := New(Config{Domain: "drop.brackwater.example", Spool: os.TempDir(), Clock: time.Now,
				Log: slog.New(slog.DiscardHandler),
				Find: func(string) (Address, bool, error) {
					return Address{Mailbox: "m", Address: "a@drop.brackwater.example"}, true, nil
				},
				Deliver: func(_ Address, at time.Time, message io.Reader) error {
					_, err := mailfile.DeliverInto(root, ".", at, message)
					return err
				}})
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				b.Fatal(err)
			}
			r.Serve(l, false)
			defer r.Shutdown(b.Context())
			raw := letter + strings.Repeat(strings.Repeat("x", 76)+"\r\n", 256)
			jobs, failed := make(chan struct{}), make(chan error, senders)
			for range senders {
				go func() {
					c, err := smtp.Dial(l.Addr().String())
					for range jobs {
						if err == nil {
							err = c.SendMail("oda@tidewatch.example", []string{"a@drop.brackwater.example"}, strings.NewReader(raw))
						}
					}
					if c != nil {
						c.Close()
					}
					failed <- err
				}()
			}
			for b.Loop() {
				jobs <- struct{}{}
			}
			close(jobs)
			for range senders {
				if err := <-failed; err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "deliveries/s")
		})
	}
}
