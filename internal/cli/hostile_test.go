package cli

import (
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

var (
	hostileMessages  = flag.Int("hostile", 60, "how many hostile messages are sent")
	ordinaryMessages = flag.Int("ordinary", 12, "how many ordinary messages are sent among them")
	hostileRate      = flag.Float64("hostile-rate", 4, "hostile messages a second")
	hostileSeed      = flag.Uint64("hostile-seed", 0, "the seed they are made from; 0 takes another one each time")
)

// memoryOf is how much memory a process has, and had at most, in kB (proc(5)).
func memoryOf(pid int) (now, most int) {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.SplitSeq(string(data), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 2 {
			continue
		}
		n, _ := strconv.Atoi(fields[1])
		switch fields[0] {
		case "VmRSS:":
			now = n
		case "VmHWM:":
			most = n
		}
	}
	return now, most
}

// TestAmongHostileMessagesTheOrdinaryOnesAreFiledAtOnce sends hostile and ordinary messages to the real program by a
// real server, with every kind of neighbour in the cabinet.
func TestAmongHostileMessagesTheOrdinaryOnesAreFiledAtOnce(t *testing.T) {
	d := testbed.StartDovecot(t)
	folder := t.TempDir()
	// as in a service that has read a PDF before
	if err := os.CopyFS(filepath.Join(folder, "records", "ready"), os.DirFS(testbed.Ready(t))); err != nil {
		t.Fatal(err)
	}
	setUp(t, filepath.Join(folder, "records"), nil)
	p := startProcessIn(t, folder)
	ctx, files := t.Context(), filepath.Join(p.folder, "files")
	secret, interval := "pw", 1
	if _, err := call[client.Cabinet](p.api.AddCabinet(ctx,
		client.CabinetSettings{Name: "files", Folder: files})); err != nil {
		t.Fatal(err)
	}
	for _, folder := range []string{"tidewatch.example", "hostile.example"} {
		if err := os.MkdirAll(filepath.Join(files, "In", folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	neighbours := 0
	for i, n := range cabinettest.Neighbours { // under names that messages want
		at := filepath.Join(files, "In", "hostile.example", []string{"a.csv", "deep.csv", "p.csv"}[i%3])
		if i >= 3 {
			at = filepath.Join(files, "In", "tidewatch.example", fmt.Sprintf("ordinary-%d.csv", i))
		}
		if os.WriteFile(filepath.Join(filepath.Dir(at), "beside.csv"), nil, 0o644) == nil && n.Make(at) == nil {
			neighbours++
		}
	}
	limits, err := call[client.Limits](p.api.GetLimits(ctx))
	if err != nil {
		t.Fatal(err)
	}
	limits.RuleFiles, limits.RuleMb, limits.RuleFolders = 0, 0, 0
	limits.SenderFiles, limits.SenderMb, limits.SenderFolders, limits.Revision = 0, 0, 0, nil
	if _, err := call[client.Limits](p.api.SetLimits(ctx, &client.SetLimitsParams{}, limits)); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Mailbox](p.api.AddMailbox(ctx,
		client.MailboxSettings{Name: "gauges", Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: "gauges",
			Secret: &secret, IntervalSeconds: &interval})); err != nil {
		t.Fatal(err)
	}
	if err := watched(ctx, p.api); err != nil {
		t.Fatal(err)
	}
	rules := []string{
		`{"id":"all","name":"All","cabinet":"files","look":{"mailboxes":"gauges"},"match":"every message","attachments":[{"take":"everything","unpack":"files","folder":"In/<sender.domain>"}]}`,
		`{"id":"words","name":"Words","cabinet":"files","look":{"mailboxes":"gauges"},"match":{"attachment":{"text":{"contains":["never found"]}}},"attachments":[{"take":"everything","folder":"Words"}]}`,
	}
	for i, document := range rules {
		if _, err := call[client.Rule](p.api.AddRule(ctx, []byte(document))); err != nil {
			t.Fatal(err)
		}
		if _, err := call[client.Rule](p.api.SwitchRuleOn(ctx, []string{"all", "words"}[i],
			client.SwitchOnRequest{})); err != nil {
			t.Fatal(err)
		}
	}
	seed := *hostileSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("random seed %d, %d neighbours", seed, neighbours)
	random := rand.New(rand.NewPCG(seed, 2))
	sending := d.Client("gauges")
	kinds := map[string]int{}
	type sent struct {
		at    time.Time
		paths []string
	}
	waiting := map[int]sent{}
	var delays []time.Duration
	var slow []string // which ordinary ones were filed late, and when
	look := func() {
		for i, s := range waiting {
			for _, path := range s.paths {
				if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() &&
					info.Size() == int64(len(ordinaryContent(i))) {
					took := time.Since(s.at)
					if delays = append(delays, took); took > 2*time.Second {
						slow = append(slow, fmt.Sprintf("%s %d after %v", time.Now().UTC().Format("15:04:05"), i,
							took.Round(time.Millisecond)))
					}
					delete(waiting, i)
					break
				}
			}
		}
	}
	began := time.Now()
	early, ordinary := 0, 0
	for i := range *hostileMessages {
		kind, message := testbed.Hostile(random, i)
		kinds[kind]++
		testbed.Append(t, sending, "INBOX", message, time.Now())
		for ordinary < (i+1)*(*ordinaryMessages)/(*hostileMessages) {
			name := fmt.Sprintf("ordinary-%d.csv", ordinary)
			testbed.Append(t, sending, "INBOX",
				[]byte("From: Oda <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nSubject: ordinary "+name+
					"\r\nMessage-ID: <"+name+"@tidewatch.example>\r\nContent-Type: text/csv; name="+name+
					"\r\nContent-Disposition: attachment; filename="+name+"\r\n\r\n"+ordinaryContent(ordinary)), time.Now())
			base := filepath.Join(files, "In", "tidewatch.example", strings.TrimSuffix(name, ".csv"))
			waiting[ordinary] = sent{time.Now(), []string{base + ".csv", base + " (2).csv", base + " (3).csv"}}
			ordinary++
		}
		due := began.Add(time.Duration(float64(i+1) / *hostileRate * float64(time.Second)))
		for look(); time.Now().Before(due); look() {
			<-time.After(5 * time.Millisecond)
		}
		if i == *hostileMessages/5 {
			early, _ = memoryOf(p.command.Process.Pid)
		}
	}
	untilWithin(t, 10*time.Minute, "every ordinary message is filed", func() bool { look(); return len(waiting) == 0 })
	slices.Sort(delays)
	at := func(share float64) time.Duration { return delays[min(len(delays)-1, int(share*float64(len(delays))))] }
	t.Logf("%d ordinary messages among %d hostile ones were filed after %v (median), %v (99th percentile), %v (longest)",
		ordinary, *hostileMessages, at(0.5).Round(time.Millisecond), at(0.99).Round(time.Millisecond),
		at(1).Round(time.Millisecond))
	rest := 10*time.Minute + time.Since(began)/2 // for the hostile messages that take longest
	total := *hostileMessages + ordinary
	last := ""
	defer func() {
		if t.Failed() {
			t.Log(last)
		}
	}()
	untilWithin(t, rest, "nothing is under way any more", func() bool {
		status, _, counts := p.ask("/api/v1/metrics")
		last = counts
		idle := strings.Contains(counts, "inktray_messages_waiting{mailbox=\"gauges\"} 0\n") &&
			!strings.Contains(counts, `inktray_items{state="planned"}`) &&
			!strings.Contains(counts, `inktray_items{state="staged"}`)
		return status == 200 && idle
	})
	late, most := memoryOf(p.command.Process.Pid)
	if !strings.Contains(last, "inktray_tray{cause=\"gone\"} 0\n") {
		t.Error("messages count as gone, and none is")
	}
	t.Logf("%d hostile of %d kinds and %d ordinary messages in %v; ordinary ones filed after %v (median), %v (99th "+
		"percentile), %v (longest); memory %d MB early, %d MB late, %d MB at most",
		*hostileMessages, len(kinds), ordinary, time.Since(began).Round(time.Second), at(0.5).Round(time.Millisecond),
		at(0.99).Round(time.Millisecond), at(1).Round(time.Millisecond), early/1024, late/1024, most/1024)
	if *hostileMessages >= 1000 {
		if at(0.99) > 2*time.Second {
			t.Errorf("the 99th percentile is %v: %s\n%s", at(0.99), strings.Join(slow, ", "),
				strings.Join(p.warnings(200), ""))
		}
		if late > early+early/2+100_000 {
			t.Errorf("the memory grew from %d to %d kB", early, late)
		}
	}
	if err := p.command.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := p.command.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
	p.command = nil
	// Each is decided or set aside by name.
	records, err := store.Open(p.records())
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	rows, err := records.Messages.Find(ctx, store.System, store.MessageQuery{Most: total + 100})
	if err != nil {
		t.Fatal(err)
	}
	aside, err := records.Retries.InTray(ctx, store.System, total+100)
	if err != nil {
		t.Fatal(err)
	}
	known := map[string]bool{}
	for i := range rows {
		known[rows[i].Subject] = true
	}
	for i := range aside {
		known[aside[i].Subject] = true
		if aside[i].Reason.IsZero() {
			t.Errorf("%s is set aside without a reason", aside[i].Called())
		}
	}
	if len(known) != total {
		t.Errorf("of %d messages %d are known by name", total, len(known))
	}
	for name, left := range map[string]string{"spool": p.records() + "/spool", "staging": files + "/.inktray/staging",
		"in hand": p.records() + "/in-hand"} {
		if there, err := os.ReadDir(left); err == nil && len(there) > 0 && name != "spool" || name == "spool" &&
			len(there) > 1 {
			t.Errorf("%d things are left (%s): %v", len(there), name, there)
		}
	}
	if !t.Failed() && *writeDocs {
		testbed.WriteSection(t, "../../docs/security.md", "hostile hour", fmt.Sprintf("| %d | %d | %d | %v | %v | %v | %d "+
			"MB | %d MB |\n", *hostileMessages, ordinary, neighbours, at(0.5).Round(time.Millisecond),
			at(0.99).Round(time.Millisecond), at(1).Round(time.Millisecond), early/1024, late/1024))
	}
}

// ask asks the program for something and gives the answer as text.
func (p *process) ask(at string) (status int, header http.Header, text string) {
	p.t.Helper()
	r, err := http.NewRequestWithContext(p.t.Context(), http.MethodGet, p.url+at, nil)
	if err != nil {
		p.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+p.token)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, nil, err.Error()
	}
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	if err != nil {
		return 0, nil, err.Error()
	}
	return response.StatusCode, response.Header, string(data)
}

func ordinaryContent(i int) string { return strings.Repeat(fmt.Sprintf("reading %d;", i), 20) }
