package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/api/client"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// process is the real program, run as a service with one administrator.
type process struct {
	t       testing.TB
	args    []string
	folder  string // with "records" and "files" in it
	url     string
	command *exec.Cmd
	api     *client.Client
}

// startProcess sets the program up and starts it.
func startProcess(t testing.TB, args ...string) *process {
	t.Helper()
	listen := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	p := &process{t: t, folder: t.TempDir(), url: "http://" + listen}
	p.args = append([]string{"serve", "--data", filepath.Join(p.folder, "records"), "--listen", listen, "--time-zone", "UTC"}, args...)
	records, err := store.Open(p.records())
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(p.records(), 0o700); err == nil {
			records, err = store.Open(p.records())
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	err = errors.Join(records.AddPerson(store.Person{ID: "p", Name: demoPerson, Password: api.HashPassword("a long password"), Role: store.Administrator, MadeAt: time.Now()}, "test"), records.Close())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.kill)
	p.start()
	c := &command{service: p.url}
	token, err := c.tokenFor(t.Context(), demoPerson, "a long password", "")
	if err != nil {
		t.Fatal(err)
	}
	if p.api, err = c.connectWith(token); err != nil {
		t.Fatal(err)
	}
	return p
}

func (p *process) records() string { return filepath.Join(p.folder, "records") }

func (p *process) start() {
	p.t.Helper()
	p.command = exec.Command(os.Args[0], p.args...)
	p.command.Env = append(os.Environ(), "INKTRAY_TEST_RUN=1")
	if err := p.command.Start(); err != nil {
		p.t.Fatal(err)
	}
	deadline := time.After(30 * time.Second)
	for {
		response, err := http.Get(p.url + "/api/v1/ready")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == 200 {
				return
			}
		}
		select {
		case <-deadline:
			p.t.Fatal("the service does not answer")
		case <-time.After(10 * time.Millisecond):
		}
	}
}

func (p *process) kill() {
	if p.command != nil {
		p.command.Process.Kill()
		p.command.Wait()
		p.command = nil
	}
}

// A receiver that is killed at any moment has lost nothing that it acknowledged, and
// files nothing twice.
func TestKilledAtAnyMomentTheReceiverLosesNothing(t *testing.T) {
	const senders, kills = 4, 8
	smtp := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	p := startProcess(t, "--drop-domain", "drop.brackwater.example", "--smtp", smtp)
	ctx := t.Context()
	files := filepath.Join(p.folder, "files")
	if _, err := call[client.Cabinet](p.api.AddCabinet(ctx, client.CabinetSettings{Name: "files", Folder: files})); err != nil {
		t.Fatal(err)
	}
	kind, interval := client.MailboxSettingsKind("drop"), 1
	box, err := call[client.Mailbox](p.api.AddMailbox(ctx, client.MailboxSettings{Name: "post", Kind: &kind, IntervalSeconds: &interval}))
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
				raw := letterWith(fmt.Sprintf("letter %d of %d", i, s), fmt.Sprintf("%d-%d.csv", s, i), strings.Repeat(fmt.Sprintf("%d;%d;", s, i), 2000))
				for send(smtp, "oda@tidewatch.example", *box.Address, raw) != nil { // as a mail server does, until it is acknowledged
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

// usage reads what a process has used: processor time, and memory in octets.
func usage(t testing.TB, pid int) (time.Duration, int64) {
	t.Helper()
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, _ := strconv.ParseInt(fields[11], 10, 64)
	system, _ := strconv.ParseInt(fields[12], 10, 64)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	memory := int64(0)
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			memory = kb << 10
		}
	}
	return time.Duration(user+system) * 10 * time.Millisecond, memory
}

// BenchmarkAThousandMailboxes watches a thousand mailboxes of a real server by IDLE
// in one process, and measures what that costs while nothing comes, and how long
// it takes from an announcement to the filing.
func BenchmarkAThousandMailboxes(b *testing.B) {
	const mailboxes, quiet, letters = 1000, time.Minute, 100
	d := testbed.StartDovecot(b)
	p := startProcess(b)
	ctx := b.Context()
	if _, err := call[client.Cabinet](p.api.AddCabinet(ctx, client.CabinetSettings{Name: "files", Folder: filepath.Join(p.folder, "files")})); err != nil {
		b.Fatal(err)
	}
	secret := "pw"
	for i := range mailboxes {
		name := fmt.Sprintf("box%d", i)
		if _, err := call[client.Mailbox](p.api.AddMailbox(ctx, client.MailboxSettings{Name: name, Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: name, Secret: &secret})); err != nil {
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
	for b.Loop() {
		before, _ := usage(b, p.command.Process.Pid)
		begun := time.Now()
		<-time.After(quiet)
		after, memory := usage(b, p.command.Process.Pid)
		load := float64(after-before) / float64(time.Since(begun)) * 100
		for i := range letters {
			c := d.Client(fmt.Sprintf("box%d", i*mailboxes/letters))
			testbed.Append(b, c, "INBOX", []byte(letterWith(fmt.Sprint("letter ", i), fmt.Sprintf("%d.csv", i), fmt.Sprint(i))), time.Now())
			c.Close()
		}
		for deadline := time.Now().Add(time.Minute); ; <-time.After(100 * time.Millisecond) {
			found, _ := filepath.Glob(filepath.Join(p.folder, "files", "In", "*"))
			if len(found) >= letters {
				break
			}
			if time.Now().After(deadline) {
				b.Fatalf("%d of %d are filed", len(found), letters)
			}
		}
		p.kill()
		records, err := store.Open(p.records())
		if err != nil {
			b.Fatal(err)
		}
		delays, err := records.Delays(store.System, letters)
		records.Close()
		slowest := time.Duration(0)
		for _, one := range delays {
			slowest = max(slowest, one)
		}
		b.ReportMetric(load, "%-of-a-core")
		b.ReportMetric(float64(memory)/1e6, "MB")
		b.ReportMetric(slowest.Seconds()*1000, "ms-slowest")
		b.Logf("%d announced filings: %v", len(delays), err)
		if load > 2 || memory > 300e6 || slowest > time.Second || len(delays) < letters*9/10 { // some are met by a look that was under way
			b.Errorf("%.2f %% of a core, %d MB, slowest %v of %d; the limits are 2 %%, 300 MB and 1 s", load, memory/1_000_000, slowest, len(delays))
		}
	}
}
