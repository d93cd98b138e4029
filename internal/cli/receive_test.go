package cli

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// A receiver that is killed at any moment has lost nothing that it acknowledged, and
// files nothing twice.
func TestKilledAtAnyMomentTheReceiverLosesNothing(t *testing.T) {
	const senders, kills = 4, 8
	smtp := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	p := startProcess(t, "--drop-domain", "drop.brackwater.example", "--smtp", smtp)
	ctx := t.Context()
	files := filepath.Join(p.folder, "files")
	if _, err := call[client.Cabinet](p.api.AddCabinet(ctx,
		client.CabinetSettings{Name: "files", Folder: files})); err != nil {
		t.Fatal(err)
	}
	kind, interval := client.MailboxSettingsKind("drop"), 1
	box, err := call[client.Mailbox](p.api.AddMailbox(ctx,
		client.MailboxSettings{Name: "post", Kind: &kind, IntervalSeconds: &interval}))
	if err != nil {
		t.Fatal(err)
	}
	if err := watched(ctx, p.api); err != nil {
		t.Fatal(err)
	}
	document := `{"id":"r","name":"All","cabinet":"files","look":{"mailboxes":"all"},"match":"every message","attachments":[{"take":"everything","folder":"In"}]}`
	if _, err := call[client.Rule](p.api.AddRule(ctx, []byte(document))); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Rule](p.api.SwitchRuleOn(ctx, "r", client.SwitchOnRequest{})); err != nil {
		t.Fatal(err)
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("random seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))

	var work sync.WaitGroup
	var killed atomic.Int64
	var sent [senders]int // that were acknowledged
	for s := range senders {
		work.Go(func() {
			for i := 0; killed.Load() < kills; i++ {
				raw := letterWith(fmt.Sprintf("letter %d of %d", i, s), fmt.Sprintf("%d-%d.csv", s, i),
					strings.Repeat(fmt.Sprintf("%d;%d;", s, i), 2000))
				// as a mail server does, until it is acknowledged
				for send(smtp, "oda@tidewatch.example", *box.Address, raw) != nil {
					<-time.After(5 * time.Millisecond)
				}
				sent[s]++
			}
		})
	}
	for killed.Load() < kills {
		<-time.After(time.Duration(20+random.IntN(250)) * time.Millisecond)
		p.kill()
		killed.Add(1)
		p.start()
	}
	work.Wait()
	p.kill()
	p.start()
	all := 0
	for _, n := range sent {
		all += n
	}
	t.Logf("killed %d times while %d messages came", kills, all)
	contents := func() map[string]int {
		found := map[string]int{}
		filepath.WalkDir(filepath.Join(files, "In"), func(name string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				data, _ := os.ReadFile(name)
				found[string(data)]++
			}
			return nil
		})
		return found
	}
	until(t, "everything that was acknowledged is filed", func() bool { return len(contents()) >= all })
	found := contents()
	for s := range senders {
		for i := range sent[s] {
			if n := found[strings.Repeat(fmt.Sprintf("%d;%d;", s, i), 2000)]; n != 1 {
				t.Errorf("message %d of sender %d is filed %d times", i, s, n)
			}
		}
	}
}

// spent reads how much processor time a process has used.
func spent(t testing.TB, pid int) time.Duration {
	t.Helper()
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		testbed.LeaveOut(t, "a system that tells the time of a process")
	}
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, _ := strconv.ParseInt(fields[11], 10, 64)
	system, _ := strconv.ParseInt(fields[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// BenchmarkWatchedMailboxes watches a hundred and a thousand mailboxes of a real server by IDLE
// in one process, and measures what that costs while nothing comes, and how long
// it takes from an announcement to the filing.
func BenchmarkWatchedMailboxes(b *testing.B) {
	for _, mailboxes := range []int{100, 1000} {
		b.Run(fmt.Sprint(mailboxes), func(b *testing.B) { watchedMailboxes(b, mailboxes) })
	}
}

func watchedMailboxes(b *testing.B, mailboxes int) {
	const quiet, letters = time.Minute, 100
	d := testbed.StartDovecot(b)
	p := startProcess(b)
	ctx := b.Context()
	if _, err := call[client.Cabinet](p.api.AddCabinet(ctx,
		client.CabinetSettings{Name: "files", Folder: filepath.Join(p.folder, "files")})); err != nil {
		b.Fatal(err)
	}
	secret := "pw"
	for i := range mailboxes {
		name := fmt.Sprintf("box%d", i)
		if _, err := call[client.Mailbox](p.api.AddMailbox(ctx,
			client.MailboxSettings{Name: name, Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: name,
				Secret: &secret})); err != nil {
			b.Fatal(err)
		}
	}
	for deadline := time.Now().Add(5 * time.Minute); ; <-time.After(time.Second) {
		all, err := call[[]client.Mailbox](p.api.ListMailboxes(ctx))
		if err != nil {
			b.Fatal(err)
		}
		live := 0
		for _, m := range all {
			if m.State == "watched live" {
				live++
			}
		}
		if live == mailboxes {
			break
		}
		if time.Now().After(deadline) {
			b.Fatalf("%d of %d mailboxes are watched", live, mailboxes)
		}
	}
	document := `{"id":"r","name":"All","cabinet":"files","look":{"mailboxes":"all"},"match":"every message","attachments":[{"take":"everything","folder":"In"}]}`
	if _, err := call[client.Rule](p.api.AddRule(ctx, []byte(document))); err != nil {
		b.Fatal(err)
	}
	if _, err := call[client.Rule](p.api.SwitchRuleOn(ctx, "r", client.SwitchOnRequest{})); err != nil {
		b.Fatal(err)
	}
	<-time.After(20 * time.Second) // the rule has reached every watcher
	wanted := 0
	for b.Loop() {
		wanted += letters
		before := spent(b, p.command.Process.Pid)
		begun := time.Now()
		<-time.After(quiet)
		after := spent(b, p.command.Process.Pid)
		held, _ := megabytes(b, p.command.Process.Pid)
		load := float64(after-before) / float64(time.Since(begun)) * 100
		for i := range letters {
			c := d.Client(fmt.Sprintf("box%d", i*mailboxes/letters))
			testbed.Append(b, c, "INBOX", []byte(letterWith(fmt.Sprint("letter ", i), fmt.Sprintf("%d.csv", i), fmt.Sprint(i))),
				time.Now())
			c.Close()
		}
		for deadline := time.Now().Add(time.Minute); ; <-time.After(100 * time.Millisecond) {
			r, err := call[client.RegisterPage](p.api.ListRegister(ctx, &client.ListRegisterParams{}))
			if err != nil {
				b.Fatal(err)
			}
			if r.Total >= wanted {
				break
			}
			if time.Now().After(deadline) {
				b.Fatalf("%d of %d are in the register", r.Total, wanted)
			}
		}
		p.kill()
		records, err := store.Open(p.records())
		if err != nil {
			b.Fatal(err)
		}
		delays, err := records.Journal.Delays(ctx, store.System, letters)
		records.Close()
		p.start()
		slowest := time.Duration(0)
		for _, one := range delays {
			slowest = max(slowest, one)
		}
		b.ReportMetric(load, "%-of-a-core")
		b.ReportMetric(held, "MB")
		b.ReportMetric(slowest.Seconds()*1000, "ms-slowest")
		if err != nil {
			b.Fatal(err)
		}
		if load > 2 || held > 300 || slowest > time.Second || len(delays) < letters {
			b.Errorf("%.2f %% of a core, %.0f MB, slowest %v of %d; the limits are 2 %%, 300 MB and 1 s", load, held, slowest,
				len(delays))
		}
	}
}
