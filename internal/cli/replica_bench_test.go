package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkFilingWithAReplica files 1,000 small attachments of old mail: without a replica, and where everything that
// is told has to be in a replica first, so that a standby can take over.
func BenchmarkFilingWithAReplica(b *testing.B) {
	d := testbed.StartDovecot(b)
	store := testbed.StartMinIO(b)
	b.Setenv(replicaSecret, store.Secret)
	b.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	folder := b.TempDir()
	const messages = 1000
	box := d.Client("gauges")
	for i := range messages {
		testbed.Append(b, box, "INBOX", fmt.Appendf(nil, "From: oda@tidewatch.example\r\nSubject: reading %d\r\nMessage-ID: "+
			"<%d@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/csv; "+
			"name=reading-%d.csv\r\n\r\nreading %d %s\r\n--b--\r\n", i, i, i, i, strings.Repeat("x", 2000)),
			time.Date(2026, 5, 12, 6, i%60, 0, 0, time.UTC))
	}
	for _, c := range []struct {
		name  string
		place func(n int) []string
	}{
		{"without", func(int) []string { return nil }},
		{"in a folder", func(n int) []string {
			place := filepath.Join(folder, fmt.Sprint("place", n))
			if err := os.Mkdir(place, 0o700); err != nil {
				b.Fatal(err)
			}
			return []string{"--replica", place, "--lease", "6s"}
		}},
		{"in an object store", func(n int) []string {
			return []string{"--replica", fmt.Sprintf("s3+http://%s/harbour/replica%d", store.Nodes[0], n), "--replica-user",
				store.Name, "--lease", "6s"}
		}},
	} {
		n := 0
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				n++
				p := startProcess(b, c.place(n)...)
				oldMailRule(b, p, d)
				b.StartTimer()
				pass, err := call[client.Pass](p.api.FileOldMail(b.Context(), "r", client.OldMailRequest{}))
				untilWithin(b, 5*time.Minute, "everything is filed", func() bool {
					if err != nil {
						b.Fatal(err)
					}
					pass, err = call[client.Pass](p.api.GetPass(b.Context(), pass.ID))
					return err == nil && pass.State == "done" && pass.Waiting == 0
				})
				b.StopTimer()
				if pass.Filed != messages {
					b.Fatalf("%d filed, want %d", pass.Filed, messages)
				}
				written, err := filepath.Glob(filepath.Join(folder, fmt.Sprint("place", n), "history", "*", "0", "*"))
				if err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(float64(len(written)), "writings")
				p.kill()
				b.StartTimer()
			}
		})
	}
}

// oldMailRule gives a process the mailbox, a local cabinet and a rule.
func oldMailRule(b *testing.B, p *process, d *testbed.Dovecot) {
	b.Helper()
	secret := "pw"
	if _, err := call[client.Cabinet](p.api.AddCabinet(b.Context(),
		client.CabinetSettings{Name: "files", Folder: filepath.Join(p.folder, "files")})); err != nil {
		b.Fatal(err)
	}
	if _, err := call[client.Mailbox](p.api.AddMailbox(b.Context(),
		client.MailboxSettings{Name: "gauges", Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: "gauges",
			Secret: &secret})); err != nil {
		b.Fatal(err)
	}
	if err := watched(b.Context(), p.api); err != nil {
		b.Fatal(err)
	}
	rule := `{"id":"r","name":"Readings","cabinet":"files","look":{"mailboxes":"gauges"},` +
		`"match":{"subject":{"contains":"reading"}},"attachments":[{"take":"everything","folder":"Gauges/<received year>"}]}`
	if _, err := call[client.Rule](p.api.AddRule(b.Context(), []byte(rule))); err != nil {
		b.Fatal(err)
	}
	if _, err := call[client.Rule](p.api.SwitchRuleOn(b.Context(), "r", client.SwitchOnRequest{})); err != nil {
		b.Fatal(err)
	}
}
