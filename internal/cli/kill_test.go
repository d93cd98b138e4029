package cli

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

var (
	writeDocs    = flag.Bool("write-docs", false, "write what came of it into docs/reliability.md")
	killTimes    = flag.Int("kills", 30, "how often the process is killed")
	killMessages = flag.Int("kill-messages", 60, "how many messages it files meanwhile")
)

// TestKilledAtAnyMomentItFilesEverythingOnce kills the real process with
// SIGKILL at random moments while it files from a real IMAP server, labels and
// moves the messages, starts it again, and compares the files, the register and
// the mailbox with what was sent.
func TestKilledAtAnyMomentItFilesEverythingOnce(t *testing.T) {
	messages, kills := *killMessages, *killTimes
	d := testbed.StartDovecot(t)
	seed := uint64(time.Now().UnixNano())
	t.Logf("random seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))

	box := d.Client("gauges")
	want := map[string]int{} // contents, and how often they were sent
	for i := range messages {
		var b strings.Builder
		fmt.Fprintf(&b, "From: oda@tidewatch.example\r\nSubject: reading %d\r\nMessage-ID: "+
			"<%d@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n", i, i)
		for k := range 2 {
			content := fmt.Sprintf("message %d, attachment %d: %s", i, k, strings.Repeat("x", random.IntN(20_000)))
			want[content]++
			name := "same-name.csv" // every message has the same names, so that they must be numbered
			if k == 1 {
				name = fmt.Sprintf("own-%d.csv", i)
			}
			fmt.Fprintf(&b, "--b\r\nContent-Type: text/csv; name=%s\r\n\r\n%s\r\n", name, content)
		}
		b.WriteString("--b--\r\n")
		testbed.Append(t, box, "INBOX", []byte(b.String()), time.Date(2026, 5, 12, 6, i%60, 0, 0, time.UTC))
	}

	p := startProcess(t)
	ctx, service, files := t.Context(), p.api, filepath.Join(p.folder, "files")
	secret, interval := "pw", 1
	if _, err := call[client.Cabinet](service.AddCabinet(ctx,
		client.CabinetSettings{Name: "files", Folder: files})); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Mailbox](service.AddMailbox(ctx,
		client.MailboxSettings{Name: "gauges", Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: "gauges",
			Secret: &secret, IntervalSeconds: &interval})); err != nil {
		t.Fatal(err)
	}
	if err := watched(ctx, service); err != nil {
		t.Fatal(err)
	}
	rule := `{"id":"r","name":"Readings","cabinet":"files","look":{"mailboxes":"gauges"},"match":{"subject":{"contains":"reading"}},"attachments":[{"take":"everything","folder":"Gauges/<received year>"}],"afterwards":[{"label":"Filed"},{"move":"Filed/Gauges"}]}`
	if _, err := call[client.Rule](service.AddRule(ctx, []byte(rule))); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Rule](service.SwitchRuleOn(ctx, "r", client.SwitchOnRequest{})); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Pass](service.FileOldMail(ctx, "r", client.OldMailRequest{})); err != nil {
		t.Fatal(err)
	}
	count := func() int { // files under final names
		n := 0
		filepath.WalkDir(filepath.Join(files, "Gauges"), func(_ string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				n++
			}
			return nil
		})
		return n
	}
	killed, working := 0, 0 // kills in all, and those after which there was still something to file
	for killed < kills {
		before := count()
		if before < 2*messages {
			working++
		}
		// Some are killed while they start, most once they have got on with their work.
		wait := time.Duration(random.IntN(250)) * time.Millisecond
		if random.IntN(5) > 0 && before < 2*messages {
			wait = 10 * time.Second
		}
		more := 1 + random.IntN(4)
		for begun := time.Now(); time.Since(begun) < wait && count() < before+more; {
			<-time.After(time.Millisecond)
		}
		<-time.After(time.Duration(random.IntN(15)) * time.Millisecond)
		p.kill()
		killed++
		p.begin()
	}
	t.Logf("%d of %d kills while there was something to file", working, killed)
	defer func() {
		if !t.Failed() && *writeDocs {
			testbed.WriteSection(t, "../../docs/reliability.md", "kills",
				fmt.Sprintf("| %d | %d | %d | 0 | 0 | 0 | 0 |\n", killed, working, 2*messages))
		}
	}()
	t.Logf("killed %d times; %d files were there after the last", killed, count())
	until(t, "the service answers", p.answers)
	moved := func(folder string) (n int, labelled bool) {
		data, err := box.Select(folder, &imap.SelectOptions{ReadOnly: true}).Wait()
		if err != nil {
			return 0, false
		}
		if data.NumMessages == 0 {
			return 0, true
		}
		found, err := box.Search(&imap.SearchCriteria{Flag: []imap.Flag{"Filed"}}, nil).Wait()
		return int(data.NumMessages), err == nil && len(found.AllSeqNums()) == int(data.NumMessages)
	}
	until(t, "every message is moved", func() bool { n, _ := moved("Filed/Gauges"); return n >= messages })
	if n, labelled := moved("Filed/Gauges"); n != messages || !labelled {
		t.Errorf("%d messages lie where they were moved to, want %d; all labelled: %v", n, messages, labelled)
	}
	until(t, "nothing is left in the inbox", func() bool { n, ok := moved("INBOX"); return ok && n == 0 })
	until(t, "everything is decided", func() bool {
		passes, err := call[[]client.Pass](service.ListPasses(ctx, &client.ListPassesParams{}))
		if err != nil {
			return false
		}
		for _, p := range passes {
			if p.State == "running" || p.Waiting > 0 {
				return false
			}
		}
		return count() >= 2*messages
	})

	got := map[string]int{}
	sums := map[string][32]byte{}
	err := filepath.WalkDir(files, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(name, ".inktray") {
			return err
		}
		data, err := os.ReadFile(name)
		got[string(data)]++
		relative, _ := filepath.Rel(files, name)
		sums[relative] = sha256.Sum256(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for content, n := range want {
		if got[content] != n {
			t.Errorf("sent %d times, filed %d times: %.40q", n, got[content], content)
		}
	}
	for content := range got {
		if want[content] == 0 {
			t.Errorf("a file holds what was not sent: %.40q (%d octets)", content, len(content))
		}
	}
	entered := map[string]bool{}
	after, most := "", 500
	for {
		p := &client.ListRegisterParams{Most: &most}
		if after != "" {
			p.After = &after
		}
		page, err := call[client.RegisterPage](service.ListRegister(ctx, p))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range page.Filings {
			path := filepath.Join(f.Folder, f.File)
			sum, there := sums[path]
			if !there || fmt.Sprintf("%x", sum) != f.Sha256 {
				t.Errorf("the register says %s is %s, which is not so", f.Entry, path)
			}
			if entered[path] {
				t.Errorf("%s is in the register twice", path)
			}
			entered[path] = true
		}
		if page.Next == nil {
			break
		}
		after = *page.Next
	}
	if len(entered) != 2*messages {
		t.Errorf("%d files in the register, want %d", len(entered), 2*messages)
	}
	left, err := os.ReadDir(filepath.Join(files, ".inktray", "staging"))
	if err != nil || len(left) > 0 {
		t.Errorf("unfinished files are left: %v, %v", left, err)
	}
}
