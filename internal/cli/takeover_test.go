package cli

import (
	"cmp"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/minio/minio-go/v7"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

var (
	takeOvers = flag.Int("takeovers", 2, "how often the machine that works is killed")
	leaseTime = flag.Duration("lease", 3*time.Second, "how long its lease lasts")
)

// mailsTaken is a mail server that counts what it takes.
type mailsTaken struct {
	mutex sync.Mutex
	by    map[string]int // by subject
	port  int
}

func startMails(t testing.TB) *mailsTaken { return takeMails(t, 0) }

// takeMails takes mail at a port; 0 for any that is free.
func takeMails(t testing.TB, port int) *mailsTaken {
	t.Helper()
	r := &mailsTaken{by: map[string]int{}}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		t.Fatal(err)
	}
	r.port = l.Addr().(*net.TCPAddr).Port
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailSession{r}, nil }))
	s.Domain = "localhost"
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return r
}

type mailSession struct{ r *mailsTaken }

func (*mailSession) Reset()                               {}
func (*mailSession) Logout() error                        { return nil }
func (*mailSession) Mail(string, *smtp.MailOptions) error { return nil }
func (*mailSession) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *mailSession) Data(in io.Reader) error {
	data, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	s.r.mutex.Lock()
	defer s.r.mutex.Unlock()
	for line := range strings.Lines(string(data)) {
		if subject, ok := strings.CutPrefix(line, "Subject: "); ok {
			s.r.by[strings.TrimSpace(subject)]++
			break
		}
	}
	return nil
}

// pair are two machines with one replica in an object store.
type pair struct {
	t        *testing.T
	store    *testbed.MinIO
	d        *testbed.Dovecot
	machines [2]*process
	working  int
	down     *process // is kept down
	again    int      // how often a machine lost its lease to a slow store, and was started again
	user     string
	sent     int
	want     map[string]int
	mails    *mailsTaken
}

// startPair starts two machines. The first one reaches the store by an address of its own; "" is that of its node.
func startPair(t *testing.T, by func(node string) string) *pair {
	t.Helper()
	x := &pair{t: t, store: testbed.StartMinIO(t), d: testbed.StartDovecot(t), user: "gauges", want: map[string]int{}}
	t.Setenv(replicaSecret, x.store.Secret)
	t.Setenv(replicaPassphrase, "correct horse battery")
	options := func(i int) []string {
		node := x.store.Nodes[i]
		if i == 0 && by != nil {
			node = by(node)
		}
		return []string{"--replica", "s3+http://" + node + "/harbour/replica", "--replica-user", x.store.Name,
			"--lease", leaseTime.String(), "--machine", []string{"quay", "tower"}[i]}
	}
	t.Cleanup(func() {
		for _, p := range x.machines {
			if p != nil && t.Failed() {
				t.Logf("the log of %s:\n%s", p.url, strings.Join(p.warnings(40), ""))
			}
		}
	})
	x.machines[0] = startProcess(t, options(0)...)
	x.machines[0].args[0] = "serve"
	host, from, encryption := "127.0.0.1", "office@brackwater.example", client.OutgoingSettingsEncryption("none")
	x.mails = startMails(t)
	if _, err := call[nothing](x.machines[0].api.SetOutgoing(t.Context(), &client.SetOutgoingParams{},
		client.OutgoingSettings{Host: &host, Port: &x.mails.port, From: &from, Encryption: &encryption})); err != nil {
		t.Fatal(err)
	}
	addresses := []string{"desk@brackwater.example"}
	if _, err := call[client.Addressee](x.machines[0].api.AddAddressee(t.Context(),
		client.AddresseeSettings{Kind: "mail", Name: "Desk", Addresses: &addresses})); err != nil {
		t.Fatal(err)
	}
	furnish(t, x.machines[0], x.d, x.store, 0, x.user,
		`,"afterwards":[{"tell":{"who":"Desk","subject":"Filed: <subject>"}},{"move":"Done"}]`)
	x.machines[0].args[0] = "standby" // from its next start on
	folder := t.TempDir()
	listen := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	other := &process{t: t, folder: folder, url: "http://" + listen, token: x.machines[0].token}
	other.args = append([]string{"standby", "--data", other.records(), "--listen", listen, "--time-zone", "UTC"},
		options(1)...)
	t.Cleanup(other.kill)
	other.begin()
	var err error
	if other.api, err = (&command{service: other.url}).connectWith(other.token); err != nil {
		t.Fatal(err)
	}
	x.machines[1] = other
	return x
}

// active is the machine that works, as far as it is known.
func (x *pair) active() *process { return x.machines[x.working] }

// keepUp starts machines again that have ended by themselves, as what keeps services running does.
func (x *pair) keepUp() {
	for _, p := range x.machines {
		if p != x.down && p.ended() {
			_ = p.command.Wait()
			x.again++
			p.begin()
		}
	}
}

// waits says whether the other machine has a fresh copy.
func (x *pair) waits() bool {
	if x.keepUp(); x.again > 0 && !x.active().answers() && x.machines[1-x.working].answers() {
		x.working = 1 - x.working
	}
	r, err := call[client.Replica](x.active().api.GetReplica(x.t.Context()))
	return err == nil && len(r.Waiting) == 1 && r.Waiting[0].Ready
}

// send sends messages with two attachments each.
func (x *pair) send(n int) {
	x.t.Helper()
	box := x.d.Client(x.user)
	for range n {
		x.sent++
		var b strings.Builder
		fmt.Fprintf(&b, "From: oda@tidewatch.example\r\nTo: office@brackwater.example\r\nSubject: reading %d\r\n"+
			"Message-ID: <%d@tidewatch.example>\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n", x.sent, x.sent)
		for k := range 2 {
			content := fmt.Sprintf("reading %d, attachment %d", x.sent, k)
			x.want[content]++
			fmt.Fprintf(&b, "--b\r\nContent-Type: text/csv; name=same-%d.csv\r\n\r\n%s\r\n", k, content)
		}
		b.WriteString("--b--\r\n")
		testbed.Append(x.t, box, "INBOX", []byte(b.String()), time.Now())
	}
}

// objects are the files in the cabinet, with their content.
func (x *pair) objects() map[string]string {
	found := map[string]string{}
	for o := range x.store.ListObjects(x.t.Context(), "harbour", minio.ListObjectsOptions{Prefix: "shared/",
		Recursive: true}) {
		if o.Err != nil {
			return nil // a node is away
		}
		if name := strings.TrimPrefix(o.Key, "shared/"); !strings.HasPrefix(name, ".inktray/") {
			found[name] = o.ETag
		}
	}
	return found
}

// Whoever works is killed at random moments while mail arrives, and the other one takes over: each attachment is filed
// once, no number is given twice, no mail is sent twice, and the killed machine waits for its next turn.
func TestAStandbyTakesOverHoweverOftenTheOtherIsKilled(t *testing.T) {
	x := startPair(t, nil)
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	var took []time.Duration
	for turn := range *takeOvers {
		untilWithin(t, time.Minute, "the other machine waits with a fresh copy", x.waits)
		x.send(1 + random.IntN(3))
		<-time.After(time.Duration(random.IntN(400)) * time.Millisecond)
		x.down = x.active()
		x.down.kill()
		killed := time.Now()
		x.send(1)
		probe := fmt.Sprintf("reading %d, attachment 1", x.sent)
		x.working = 1 - x.working
		untilWithin(t, time.Minute, "the other machine works", func() bool { x.keepUp(); return x.active().answers() })
		up := time.Since(killed)
		sum := fmt.Sprintf("%x", sha256.Sum256([]byte(probe)))
		untilWithin(t, time.Minute, "it files", func() bool {
			x.keepUp()
			all, err := call[client.RegisterPage](x.active().api.ListRegister(t.Context(), &client.ListRegisterParams{}))
			return err == nil && slices.ContainsFunc(all.Filings, func(f client.Filing) bool { return f.Sha256 == sum })
		})
		took = append(took, time.Since(killed))
		t.Logf("turn %d: up after %v, files after %v", turn+1, up.Round(time.Millisecond),
			took[turn].Round(time.Millisecond))
		if took[turn] > 15*time.Second {
			for _, p := range x.machines {
				all := p.warnings(10_000)
				t.Logf("the end of the log of %s:\n%s", p.url, strings.Join(all[max(0, len(all)-20):], ""))
			}
		}
		x.down.begin()
		x.down = nil
	}
	for range 2 {
		x.giveTurn()
	}
	x.compare()
	slices.Sort(took)
	t.Logf("%d take-overs with a lease of %v: next filing after %v (median), %v (longest); %d times a machine lost its "+
		"lease to a slow store", len(took), *leaseTime, took[len(took)/2].Round(time.Millisecond),
		took[len(took)-1].Round(time.Millisecond), x.again)
	if *writeDocs && !t.Failed() {
		testbed.WriteSection(t, "../../docs/reliability.md", "takeovers", fmt.Sprintf("| %d | %d | %v | %.1f s | %.1f s | "+
			"0 | 0 | 0 |\n", len(took), 2*x.sent, *leaseTime, took[len(took)/2].Seconds(), took[len(took)-1].Seconds()))
	}
}

// giveTurn lets the machine that waits take over while mail arrives.
func (x *pair) giveTurn() {
	x.t.Helper()
	untilWithin(x.t, time.Minute, "the other machine waits with a fresh copy", x.waits)
	x.send(3)
	asked := time.Now()
	if _, err := call[client.WaitingMachine](x.active().api.GiveTurn(x.t.Context(),
		client.GiveTurnJSONRequestBody{})); err != nil {
		x.t.Fatal(err)
	}
	x.working = 1 - x.working
	untilWithin(x.t, time.Minute, "it has its turn", x.active().answers)
	x.t.Logf("a planned switch took %v", time.Since(asked).Round(time.Millisecond))
	x.send(1)
}

// compare compares files and register with what was sent, once all is decided.
func (x *pair) compare() {
	t := x.t
	t.Helper()
	untilWithin(t, 2*time.Minute, "all are filed", func() bool { return len(x.objects()) >= len(x.want) })
	sums := map[string]string{} // by path
	got := map[string]int{}
	for name := range x.objects() {
		r, err := x.store.GetObject(t.Context(), "harbour", "shared/"+name, minio.GetObjectOptions{})
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			t.Fatal(err)
		}
		got[string(data)]++
		sums[name] = fmt.Sprintf("%x", sha256.Sum256(data))
	}
	for content, n := range x.want {
		if got[content] != n {
			t.Errorf("sent %d times, filed %d times: %s", n, got[content], content)
		}
	}
	for content := range got {
		if x.want[content] == 0 {
			t.Errorf("filed, and nobody sent it: %.60q", content)
		}
	}
	var all []client.Filing
	untilWithin(t, time.Minute, "the register is complete", func() bool {
		all = nil
		after, most := "", 500
		for {
			p := &client.ListRegisterParams{Most: &most}
			if after != "" {
				p.After = &after
			}
			page, err := call[client.RegisterPage](x.active().api.ListRegister(t.Context(), p))
			if err != nil {
				return false
			}
			all = append(all, page.Filings...)
			if page.Next == nil {
				return len(all) >= len(x.want)
			}
			after = *page.Next
		}
	})
	numbers := map[string]bool{}
	for _, f := range all {
		if numbers[f.Entry] {
			t.Errorf("the number %s was given twice", f.Entry)
		}
		numbers[f.Entry] = true
		if sum := sums[path.Join(f.Folder, f.File)]; f.Sha256 != "" && sum != f.Sha256 {
			t.Errorf("the register says that %s has %s, and %s is there", f.File, f.Sha256, cmp.Or(sum, "nothing"))
		}
	}
	if len(all) != len(x.want) {
		t.Errorf("%d entries for %d files", len(all), len(x.want))
	}
	untilWithin(t, time.Minute, "somebody is told of each message, or the tray says that it is not certain", func() bool {
		tray, err := call[client.Tray](x.active().api.ListTray(t.Context(), &client.ListTrayParams{}))
		x.mails.mutex.Lock()
		defer x.mails.mutex.Unlock()
		return err == nil && len(x.mails.by)+tray.Count >= x.sent
	})
	x.mails.mutex.Lock()
	defer x.mails.mutex.Unlock()
	for subject, n := range x.mails.by {
		if n > 1 {
			t.Errorf("the mail “%s” was sent %d times", subject, n)
		}
	}
	t.Logf("%d messages, %d mails told of them", x.sent, len(x.mails.by))
}

// ended says whether a machine's program has ended by itself, or ends within a time.
func ended(p *process, within time.Duration) bool {
	done := make(chan struct{})
	go func() {
		_ = p.command.Wait()
		close(done)
	}()
	select {
	case <-done:
		p.command = nil
		return true
	case <-time.After(within):
		return false
	}
}

// A machine that cannot reach the place of the replica any more, or that stood still, stops before the other one
// begins, and ends once it knows; it waits for its next turn afterwards. A node of the store that is away changes
// nothing.
func TestNeverDoTwoMachinesWorkAtOnce(t *testing.T) {
	var wire *testbed.Wire
	x := startPair(t, func(node string) string {
		wire = testbed.StartWire(t, node)
		return wire.Address
	})
	ready := func() { t.Helper(); untilWithin(t, time.Minute, "the other machine waits with a fresh copy", x.waits) }
	// over lets the machine that works lose its turn.
	over := func(what string, lose, again func(p *process)) {
		ready()
		before := x.active()
		x.send(2)
		lose(before)
		x.send(2)
		x.working = 1 - x.working
		untilWithin(t, time.Minute, what+": the other machine works", x.active().answers)
		again(before)
		if !ended(before, 30*time.Second) {
			t.Fatalf("%s: the machine whose turn is over goes on", what)
		}
		x.send(1)
		before.begin() // as the service manager does
		x.compare()
	}
	over("its wire to the store is cut", func(*process) { wire.Cut(true) }, func(*process) {})
	wire.Cut(false)
	over("it stands still", func(p *process) { stopProcess(t, p.command.Process) },
		func(p *process) { resumeProcess(t, p.command.Process) })

	ready()
	x.store.Each[3].Stop()
	x.send(3)
	x.compare()
	if err := x.store.Each[3].Start(); err != nil {
		t.Fatal(err)
	}
	if !x.active().answers() {
		t.Error("a node of the store that was away ended the machine's turn")
	}
	if *takeOvers <= 2 {
		return
	}
	for node := range x.store.Each { // also those by which one of the machines reaches the store
		ready()
		x.store.Each[node].Stop()
		x.send(2)
		<-time.After(2 * *leaseTime) // for so long that a turn ends where it has to
		x.send(1)
		if err := x.store.Each[node].Start(); err != nil {
			t.Fatal(err)
		}
		x.settle()
		x.compare()
		t.Logf("node %d was away for %v", node, 2**leaseTime)
	}
}

// settle begins machines again that have ended, as the service manager does, and finds out which one works: one does.
func (x *pair) settle() {
	x.t.Helper()
	waiting := func(p *process) bool {
		answer, err := http.Get(p.url + "/api/v1/standby")
		if err != nil {
			return false
		}
		defer answer.Body.Close()
		return answer.StatusCode == http.StatusOK
	}
	silent := [2]time.Time{}
	untilWithin(x.t, 3*time.Minute, "one machine works and one waits", func() bool {
		works, waits := -1, -1
		for i, p := range x.machines {
			switch {
			case waiting(p):
				waits, silent[i] = i, time.Time{}
			case p.answers():
				if works >= 0 {
					x.t.Fatal("both machines work")
				}
				works, silent[i] = i, time.Time{}
			case silent[i].IsZero():
				silent[i] = time.Now()
			case time.Since(silent[i]) > 10*time.Second:
				p.kill()
				p.begin()
				silent[i] = time.Time{}
			}
		}
		if works >= 0 && waits >= 0 {
			x.working = works
		}
		return works >= 0 && waits >= 0
	})
}
