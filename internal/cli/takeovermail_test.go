package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// Mail that a machine took in, and said so, is filed once by the machine that takes over, though the first one is lost
// with its disk at that very moment. While the place of the replica is away, no mail is taken in.
func TestMailThatWasTakenInIsFiledByTheMachineThatTakesOver(t *testing.T) {
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	place, files := filepath.Join(t.TempDir(), "replica"), filepath.Join(t.TempDir(), "files")
	if err := os.Mkdir(place, 0o700); err != nil {
		t.Fatal(err)
	}
	smtps := []string{fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t)), fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))}
	options := func(i int) []string {
		return []string{"--replica", place, "--lease", "3s", "--machine", fmt.Sprint("machine ", i), "--drop-domain",
			"drop.brackwater.example", "--smtp", smtps[i]}
	}
	p := startProcess(t, options(0)...)
	if _, err := call[client.Cabinet](p.api.AddCabinet(t.Context(),
		client.CabinetSettings{Name: "files", Folder: files})); err != nil {
		t.Fatal(err)
	}
	kind, interval := client.MailboxSettingsKind("drop"), 1
	box, err := call[client.Mailbox](p.api.AddMailbox(t.Context(),
		client.MailboxSettings{Name: "post", Kind: &kind, IntervalSeconds: &interval}))
	if err != nil {
		t.Fatal(err)
	}
	if err := watched(t.Context(), p.api); err != nil {
		t.Fatal(err)
	}
	document := `{"id":"r","name":"All","cabinet":"files","look":{"mailboxes":"all"},"match":"every message","attachments":[{"take":"everything","folder":"In"}]}`
	if _, err := call[client.Rule](p.api.AddRule(t.Context(), []byte(document))); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Rule](p.api.SwitchRuleOn(t.Context(), "r", client.SwitchOnRequest{})); err != nil {
		t.Fatal(err)
	}
	sent := 0
	letter := func() string {
		sent++
		return letterWith(fmt.Sprint("letter ", sent), fmt.Sprintf("%d.csv", sent), fmt.Sprintf("content %d;", sent))
	}
	filed := func() map[string]int {
		found := map[string]int{}
		_ = filepath.WalkDir(filepath.Join(files, "In"), func(name string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				data, _ := os.ReadFile(name)
				found[strings.TrimSpace(string(data))]++
			}
			return nil
		})
		return found
	}
	active := p
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("the log:\n%s", strings.Join(active.warnings(40), ""))
		}
	})
	for turn := range 2 {
		other := 1 - turn
		next := &process{t: t, folder: t.TempDir(), url: fmt.Sprintf("http://127.0.0.1:%d", testbed.FreePort(t)),
			token: p.token}
		next.args = append([]string{"standby", "--data", next.records(), "--listen",
			strings.TrimPrefix(next.url, "http://"), "--time-zone", "UTC"}, options(other)...)
		t.Cleanup(next.kill)
		next.begin()
		if next.api, err = (&command{service: next.url}).connectWith(p.token); err != nil {
			t.Fatal(err)
		}
		untilWithin(t, time.Minute, "the other machine waits with a fresh copy", func() bool {
			r, err := call[client.Replica](active.api.GetReplica(t.Context()))
			return err == nil && len(r.Waiting) > 0 && r.Waiting[0].Ready
		})
		for range 5 {
			if err := send(smtps[turn], "oda@tidewatch.example", *box.Address, letter()); err != nil {
				t.Fatal(err)
			}
		}
		active.kill()
		if err := os.RemoveAll(active.records()); err != nil {
			t.Fatal(err)
		}
		active = next
		untilWithin(t, time.Minute, "the other machine works", active.answers)
		untilWithin(t, time.Minute, "what was taken in is filed", func() bool { return len(filed()) >= sent })
	}
	for content, n := range filed() {
		if n != 1 {
			t.Errorf("%s is filed %d times", content, n)
		}
	}

	// The place goes away: what is not in the replica is not said to be taken in.
	if err := os.Rename(place, place+".away"); err != nil {
		t.Fatal(err)
	}
	if err := send(smtps[0], "oda@tidewatch.example", *box.Address, letter()); err == nil {
		t.Error("mail was taken in while the replica was away")
	}
}
