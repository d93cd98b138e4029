package cli

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// readings puts messages into a mailbox, each with the same two names of attachments.
func readings(t *testing.T, d *testbed.Dovecot, user string, n int, want map[string]int) {
	t.Helper()
	box := d.Client(user)
	for i := range n {
		var b strings.Builder
		fmt.Fprintf(&b, "From: oda@tidewatch.example\r\nSubject: reading %d\r\nMessage-ID: "+
			"<%s-%d@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n", i, user, i)
		for k := range 2 {
			content := fmt.Sprintf("%s %d, attachment %d", user, i, k)
			want[content]++
			fmt.Fprintf(&b, "--b\r\nContent-Type: text/csv; name=same-%d.csv\r\n\r\n%s\r\n", k, content)
		}
		b.WriteString("--b--\r\n")
		testbed.Append(t, box, "INBOX", []byte(b.String()), time.Date(2026, 5, 12, 6, i%60, 0, 0, time.UTC))
	}
}

// machine is a process with a mailbox of its own and a cabinet in the object store.
func machine(t *testing.T, d *testbed.Dovecot, m *testbed.MinIO, node int, user string) *process {
	t.Helper()
	p := startProcess(t)
	furnish(t, p, d, m, node, user, "")
	return p
}

// furnish gives a process a mailbox, a cabinet in the object store, and a rule, with what is done afterwards.
func furnish(t *testing.T, p *process, d *testbed.Dovecot, m *testbed.MinIO, node int, user, afterwards string) {
	t.Helper()
	secret, interval, kind := "pw", 1, client.S3
	until(t, "the store takes the cabinet", func() bool {
		_, err := call[client.Cabinet](p.api.AddCabinet(t.Context(),
			client.CabinetSettings{Name: "files", Kind: &kind, Folder: "http://" + m.Nodes[node] + "/harbour/shared",
				Username: &m.Name, Secret: &m.Secret}))
		if err != nil && !strings.Contains(err.Error(), "asks to wait") {
			t.Fatal(err)
		}
		return err == nil
	})
	if _, err := call[client.Mailbox](p.api.AddMailbox(t.Context(),
		client.MailboxSettings{Name: user, Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: user,
			Secret: &secret, IntervalSeconds: &interval})); err != nil {
		t.Fatal(err)
	}
	if err := watched(t.Context(), p.api); err != nil {
		t.Fatal(err)
	}
	rule := `{"id":"r","name":"Readings","cabinet":"files","look":{"mailboxes":"all"},"match":{"subject":{"contains":"reading"}},"attachments":[{"take":"everything","folder":"Gauges/<received year>"}]` + afterwards + `}`
	if _, err := call[client.Rule](p.api.AddRule(t.Context(), []byte(rule))); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Rule](p.api.SwitchRuleOn(t.Context(), "r", client.SwitchOnRequest{})); err != nil {
		t.Fatal(err)
	}
}

// Two processes, each with mailboxes and records of its own, file into one object
// store, where both want the same names; one of them is killed on the way. Every
// attachment is there once, and each register says what is there.
func TestTwoMachinesFileIntoOneObjectStore(t *testing.T) {
	d, m := testbed.StartDovecot(t), testbed.StartMinIO(t)
	want := map[string]int{}
	const messages = 10
	for _, user := range []string{"gauges", "berths"} {
		readings(t, d, user, messages, want)
	}
	machines := []*process{machine(t, d, m, 0, "gauges"), machine(t, d, m, 1, "berths")}
	for _, p := range machines {
		if _, err := call[client.Pass](p.api.FileOldMail(t.Context(), "r", client.OldMailRequest{})); err != nil {
			t.Fatal(err)
		}
	}
	objects := func() map[string]string {
		found := map[string]string{}
		for o := range m.ListObjects(t.Context(), "harbour", minio.ListObjectsOptions{Prefix: "shared/", Recursive: true}) {
			if o.Err != nil {
				t.Fatal(o.Err)
			}
			// Beside the files lie who the cabinet is, and what a check writes for a moment.
			if name := strings.TrimPrefix(o.Key, "shared/"); !strings.HasPrefix(name, ".inktray/") {
				found[name] = o.ETag
			}
		}
		return found
	}
	until(t, "some are filed", func() bool { return len(objects()) > 10 })
	machines[1].kill()
	machines[1].start()
	until(t, "all are filed", func() bool { return len(objects()) >= len(want) })
	sums := map[string]string{} // by path
	for name := range objects() {
		r, err := m.GetObject(t.Context(), "harbour", "shared/"+name, minio.GetObjectOptions{})
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			t.Fatal(err)
		}
		if want[string(data)]--; want[string(data)] < 0 {
			t.Errorf("%s is there twice, or nobody sent it: %q", name, data)
		}
		sums[name] = fmt.Sprintf("%x", sha256.Sum256(data))
	}
	for content, n := range want {
		if n > 0 {
			t.Errorf("%q is not there", content)
		}
	}
	entered := 0
	for i, p := range machines {
		until(t, "its register is complete", func() bool {
			most := 100
			all, err := call[client.RegisterPage](p.api.ListRegister(t.Context(), &client.ListRegisterParams{Most: &most}))
			return err == nil && len(all.Filings) == 2*messages
		})
		most := 100
		all, err := call[client.RegisterPage](p.api.ListRegister(t.Context(), &client.ListRegisterParams{Most: &most}))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range all.Filings {
			entered++
			if sum := sums[path.Join(f.Folder, f.File)]; sum != f.Sha256 {
				t.Errorf("machine %d: the register says that %s has %s, and %s is there", i, f.File, f.Sha256, sum)
			}
		}
	}
	if entered != len(sums) {
		t.Errorf("%d entries for %d files", entered, len(sums))
	}
}

// A mailbox goes from one installation to the other: what was filed is filed no more,
// also where old mail is asked for, and what came meanwhile is.
func TestAMailboxIsHandedOverWithItsMarks(t *testing.T) {
	d, m := testbed.StartDovecot(t), testbed.StartMinIO(t)
	want := map[string]int{}
	readings(t, d, "gauges", 5, want)
	from, to := machine(t, d, m, 0, "gauges"), machine(t, d, m, 1, "berths")
	oldMail := func(p *process) {
		t.Helper()
		pass, err := call[client.Pass](p.api.FileOldMail(t.Context(), "r", client.OldMailRequest{}))
		if err != nil {
			t.Fatal(err)
		}
		until(t, "the pass is done", func() bool {
			pass, err = call[client.Pass](p.api.GetPass(t.Context(), pass.ID))
			return err == nil && pass.State == "done" && pass.Waiting == 0
		})
	}
	filed := func(p *process) int {
		most := 500
		all, err := call[client.RegisterPage](p.api.ListRegister(t.Context(), &client.ListRegisterParams{Most: &most}))
		if err != nil {
			t.Fatal(err)
		}
		return len(all.Filings)
	}
	oldMail(from)
	until(t, "all is filed", func() bool { return filed(from) == 10 })
	on := func(p *process) {
		t.Setenv("INKTRAY_SERVICE", p.url)
		t.Setenv("INKTRAY_TOKEN", p.token)
	}
	file := filepath.Join(t.TempDir(), "gauges.mailbox")
	on(from)
	says(t, "the preview", must(t, "mailboxes", "hand-over", "gauges", "--file", file), "Nothing was changed")
	says(t, "the handing over", must(t, "mailboxes", "hand-over", "gauges", "--file", file, "--yes"),
		"no longer watched here")
	if all := value[[]client.Mailbox](t, "mailboxes", "list"); len(all) != 0 {
		t.Errorf("it is here still: %v", all)
	}
	box := d.Client("gauges")
	for i := range 3 {
		testbed.Append(t, box, "INBOX",
			fmt.Appendf(nil, "From: oda@tidewatch.example\r\nSubject: reading late %d\r\nMessage-ID: "+
				"<late-%d@tidewatch.example>\r\nContent-Type: text/csv; name=late.csv\r\n\r\nlate %d\r\n", i, i, i), time.Now())
	}

	on(to)
	t.Setenv("INKTRAY_SECRET", "pw")
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"half": whole[:len(whole)/2], "nothing": nil,
		"something else": []byte("From: x")} {
		broken := filepath.Join(t.TempDir(), "broken")
		if err := os.WriteFile(broken, data, 0o600); err != nil {
			t.Fatal(err)
		}
		says(t, name, fails(t, "mailboxes", "take-over", broken),
			"this is not the file of a mailbox that was handed over, or a part of it is missing")
	}
	if strings.Contains(string(unzipped(t, whole)), `"pw"`) {
		t.Error("the secret is in the file")
	}
	says(t, "the taking over", must(t, "mailboxes", "take-over", file), "is watched here from where it was left")
	says(t, "again", fails(t, "mailboxes", "take-over", file), "is here already")
	until(t, "what came meanwhile is filed", func() bool { return filed(to) == 3 })
	oldMail(to)
	if n := filed(to); n != 3 {
		t.Errorf("%d are filed here, want only the 3 that came meanwhile", n)
	}
	says(t, "why", must(t, "messages", "list", "--text", "reading 1"), "reading 1")
	objects := 0
	for o := range m.ListObjects(t.Context(), m.Bucket,
		minio.ListObjectsOptions{Prefix: "shared/Gauges/", Recursive: true}) {
		if o.Err != nil {
			t.Fatal(o.Err)
		}
		objects++
	}
	if objects != 13 {
		t.Errorf("%d files lie in the store, want 13", objects)
	}
}

func unzipped(t *testing.T, data []byte) []byte {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return text
}
