package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/desk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// troubledRule looks into two folders and has to read the text of every message.
const troubledRule = `
id: tide-gauges
name: Tide gauge readings
cabinet: harbour files
look: {mailboxes: gauges, folders: [INBOX, Papers]}
match: {words: {in: [body], all: [gauge]}}
attachments:
  - take: everything
    folder: Gauges
`

// troubled is a service whose mail server misbehaves.
type troubled struct {
	*house
	proxy   *testbed.IMAPProxy
	client  *imapclient.Client
	problem testbed.IMAPProblem
	op      sourceOperation
	want    map[string]string
}

// sourceOperation is something that is asked of a mail server.
type sourceOperation struct{ name, commands string }

var sourceOperations = []sourceOperation{
	{"signing in", `^LOGIN`},
	{"listing folders", `^LIST`},
	{"opening a folder", `^(EXAMINE|SELECT)`},
	{"reading facts", `^UID FETCH .*BODYSTRUCTURE`},
	{"reading text", `^UID FETCH .*BODY\.PEEK\[1\]`},
	{"reading an attachment", `^UID FETCH .*BODY\.PEEK\[2\]`},
	{"opening again after a cut", `^(EXAMINE|SELECT)`},
}

const mailsInTrouble = 4

// impatient is a person who does not wait five minutes after a refused sign-in.
func (x *troubled) impatient() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(50 * time.Millisecond):
				x.engine.TryNow("box")
			}
		}
	}()
	return func() { cancel(); <-done }
}

// deliver puts messages into both folders, which arrive now.
func (x *troubled) deliver() {
	x.t.Helper()
	for i := range mailsInTrouble {
		name := fmt.Sprintf("r%d.csv", i)
		content := strings.Repeat(fmt.Sprintf("reading %d;", i), 30)
		message := strings.Replace(string(raw(fmt.Sprint("reading ", i), name, content)), "See the attachments.",
			"The gauge at the quay.", 1)
		testbed.Append(x.t, x.client, []string{"INBOX", "Papers"}[i%2], []byte(message), time.Now())
		x.want["Gauges/"+name] = content
	}
}

// harm lets the operation go wrong twice from now on. Connections that are open are
// cut where the operation belongs to the beginning of one.
func (x *troubled) harm() {
	times := 2
	if x.problem == testbed.Renumbers {
		times = 1
	}
	if x.op.name == "opening again after a cut" {
		x.proxy.BreakNext(`^UID FETCH`, x.op.commands, x.problem, times)
		return
	}
	x.proxy.Break(x.op.commands, x.problem, times)
	switch x.op.name {
	case "signing in", "listing folders", "opening a folder":
		x.proxy.Cut()
	}
}

// known waits until all messages are among the records.
func (x *troubled) known() {
	x.t.Helper()
	x.until("all messages are known", func() bool {
		all, err := x.store.Messages.Find(x.t.Context(), store.System, store.MessageQuery{Most: 50})
		return err == nil && len(all) >= mailsInTrouble
	})
}

// settled waits until every message is decided: filed, or in the tray.
func (x *troubled) settled() {
	x.t.Helper()
	x.until("every attachment is filed or in the tray", func() bool {
		n, err := x.store.Register.Count(x.t.Context(), store.System, register.Query{})
		tray, trayErr := x.store.Tray.Counts(x.t.Context(), store.System)
		for _, of := range tray {
			n += of
		}
		return err == nil && trayErr == nil && n >= len(x.want)
	})
}

// servicePhase is what the service does while the mail server misbehaves.
type servicePhase struct {
	name string
	run  func(x *troubled)
}

var servicePhases = []servicePhase{
	{"first look", func(x *troubled) {
		x.proxy.Down(true)
		x.rule(troubledRule)
		x.deliver()
		x.harm()
		x.proxy.Down(false)
		x.settled()
	}},
	{"live", func(x *troubled) {
		x.watched()
		x.rule(troubledRule)
		x.looked("Papers")
		x.harm()
		x.deliver()
		x.settled()
	}},
	{"old mail", func(x *troubled) {
		x.deliver()
		x.watched()
		id := x.ruleFromNowOn()
		x.harm()
		pass, err := x.engine.FileOldMail(x.t.Context(), OldMailOf{RuleID: id}, tester)
		if err != nil {
			x.t.Fatal(err)
		}
		x.settled()
		x.passDone(pass.ID)
	}},
	{"rehearsal", func(x *troubled) {
		x.deliver()
		x.watched()
		document, err := rule.ParseRule([]byte(troubledRule))
		if err != nil {
			x.t.Fatal(err)
		}
		x.harm()
		for range 3 { // what goes wrong may be told
			_, _ = x.engine.Rehearser.Rehearse(x.t.Context(), store.System,
				rehearsal.RehearsalOf{Rule: document, Last: 10, Thorough: true})
		}
		x.proxy.Heal()
		var got *rehearsal.Rehearsal
		x.until("it can be rehearsed", func() bool {
			got, err = x.engine.Rehearser.Rehearse(x.t.Context(), store.System,
				rehearsal.RehearsalOf{Rule: document, Last: 10, Thorough: true})
			return err == nil
		})
		if got.Matching != mailsInTrouble || got.Files != mailsInTrouble {
			x.t.Errorf("rehearsed afterwards: %+v, %v", got, err)
		}
		x.fileOld(x.ruleFromNowOn())
		x.settled()
	}},
	{"by hand", func(x *troubled) {
		x.deliver()
		x.watched()
		x.ruleFromNowOn()
		x.known()
		all, err := x.store.Messages.Find(x.t.Context(), store.System, store.MessageQuery{Most: 50})
		if err != nil {
			x.t.Fatal(err)
		}
		x.harm()
		_, _ = x.engine.Desk.LookInto(x.t.Context(), store.System, "box", desk.LookIntoOf{Most: 10})
		var handed []desk.Handed
		for i := range all {
			handed = append(handed, desk.Handed{Message: all[i].ID})
		}
		if _, err := x.engine.Desk.FileByHand(x.t.Context(), store.System, handed, "harbour files", "Gauges"); err != nil {
			x.t.Fatal(err)
		}
		x.settled()
	}},
	{"trying again", func(x *troubled) {
		x.watched()
		x.rule(troubledRule)
		x.looked("Papers")
		x.proxy.Break(`^UID FETCH .*BODY\.PEEK\[2\]`, testbed.SaysNo, 1000)
		x.deliver()
		x.trayOf(mailsInTrouble)
		x.harm()
		x.tryAgain()
		x.until("all are tried again", func() bool { return len(x.waitingInTray()) < mailsInTrouble || x.proxy.Struck() > 1 })
		x.settled()
	}},
	{"follow-ups", func(x *troubled) {
		x.watched()
		x.rule(troubledRule + "afterwards: [{mark: flagged}]\n")
		x.looked("Papers")
		x.harm()
		x.deliver()
		x.settled()
	}},
}

// looked waits until a folder was looked into once.
func (x *troubled) looked(folder string) {
	x.t.Helper()
	x.until("the folder is looked into",
		func() bool {
			_, err := x.store.Mailboxes.Folder(x.t.Context(), "box", folder)
			return err == nil
		})
}

// ruleFromNowOn switches the rule on so that what is there already is old.
func (x *troubled) ruleFromNowOn() string {
	x.t.Helper()
	x.ahead.Store(int64(2 * arrivalMargin))
	defer x.ahead.Store(0)
	return x.rule(troubledRule)
}

func (x *troubled) passDone(id int64) {
	x.t.Helper()
	var p store.Pass
	x.until("the pass is done", func() bool {
		p, _ = x.store.Passes.ByID(x.t.Context(), store.System, id)
		return p.State == store.Done
	})
	if p.Total != mailsInTrouble || p.Looked+p.Unread+p.Gone != p.Total || p.Gone != 0 {
		x.t.Errorf("the pass says %d of %d, %d not read, %d gone: %s", p.Looked, p.Total, p.Unread, p.Gone, p.Note)
	}
}

func (x *troubled) waitingInTray() []int64 {
	items, err := x.store.Tray.Entries(x.t.Context(), store.System, 0, 100)
	if err != nil {
		x.t.Fatal(err)
	}
	var ids []int64
	for i := range items {
		ids = append(ids, items[i].ID)
	}
	return ids
}

// tryAgain tries everything in the tray again.
func (x *troubled) tryAgain() {
	x.t.Helper()
	m := store.Matters{Items: x.waitingInTray()}
	unread, err := x.store.Retries.InTray(x.t.Context(), store.System, 100)
	if err != nil {
		x.t.Fatal(err)
	}
	for i := range unread {
		m.Messages = append(m.Messages, unread[i].ID)
	}
	follow, err := x.store.Tray.FollowUps(x.t.Context(), store.System, 100)
	if err != nil {
		x.t.Fatal(err)
	}
	for i := range follow {
		m.FollowUps = append(m.FollowUps, follow[i].ID)
	}
	if m.Len() == 0 {
		return
	}
	if _, err := x.engine.Desk.Again(x.t.Context(), store.System, m); err != nil {
		x.t.Fatal(err)
	}
}

// flagged counts the messages that bear the flag.
func (x *troubled) flagged() int {
	n := 0
	for _, folder := range []string{"INBOX", "Papers"} {
		if _, err := x.client.Select(folder, nil).Wait(); err != nil {
			x.t.Fatal(err)
		}
		found, err := x.client.UIDSearch(&imaplib.SearchCriteria{Flag: []imaplib.Flag{imaplib.FlagFlagged}}, nil).Wait()
		if err != nil {
			x.t.Fatal(err)
		}
		n += len(found.AllUIDs())
	}
	return n
}

// TestEveryProblemInEveryOperationOfEveryPhase lets every exchange with a real mail
// server go wrong in every way, whatever the service is doing. Afterwards every
// message is filed once, or was in the tray and is filed when it is tried again.
// Every fifth combination is tried, so that each phase still meets each operation and
// each problem; with -write-docs all are.
func TestEveryProblemInEveryOperationOfEveryPhase(t *testing.T) {
	d := testbed.StartDovecot(t)
	type cell struct{ runs, struck, tray int }
	var mutex sync.Mutex
	table := map[[2]string]*cell{}
	t.Run("runs", func(t *testing.T) {
		for i, phase := range servicePhases {
			for j, op := range sourceOperations {
				for k, problem := range testbed.IMAPProblems {
					if !*writeDocs && (i+j+k)%5 != 0 {
						continue
					}
					t.Run(phase.name+"/"+op.name+"/"+string(problem), func(t *testing.T) {
						t.Parallel()
						struck, tray := runTrouble(t, d, phase, op, problem)
						mutex.Lock()
						defer mutex.Unlock()
						c := table[[2]string{string(problem), phase.name}]
						if c == nil {
							c = &cell{}
							table[[2]string{string(problem), phase.name}] = c
						}
						c.runs++
						c.struck += min(struck, 1)
						c.tray += tray
					})
				}
			}
		}
	})
	if t.Failed() || !*writeDocs {
		return
	}
	lines := []string{"| problem |", "|---|"}
	for _, phase := range servicePhases {
		lines[0] += " " + phase.name + " |"
		lines[1] += "---|"
	}
	for _, problem := range testbed.IMAPProblems {
		line := "| " + string(problem)
		for _, phase := range servicePhases {
			c := table[[2]string{string(problem), phase.name}]
			line += fmt.Sprintf(" | %d / %d", c.struck, c.tray)
		}
		lines = append(lines, line+" |")
	}
	testbed.WriteSection(t, "../../docs/reliability.md", "server-trouble", strings.Join(lines, "\n")+"\n")
}

// runTrouble runs one phase with one problem. It gives how often the problem struck
// and how many messages went to the tray on the way.
func runTrouble(t *testing.T, d *testbed.Dovecot, phase servicePhase, op sourceOperation,
	problem testbed.IMAPProblem) (struck, tray int) {
	user := "u" + store.NewID()[:12]
	proxy := testbed.StartIMAPProxy(t, d.IMAP)
	x := &troubled{proxy: proxy, op: op, problem: problem, want: map[string]string{}}
	x.client = d.Client(user)
	testbed.MakeFolders(t, x.client, "Papers")
	x.house = newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: proxy.Host, Port: proxy.Port, Encryption: reach.None}, Username: user,
				Password: secret, Timeout: 400 * time.Millisecond})
	})
	x.hurry()
	stop := x.impatient()
	defer stop()
	phase.run(x)
	struck = proxy.Heal()
	counts, err := x.store.Tray.Counts(t.Context(), store.System)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range counts {
		tray += n
	}
	x.until("all is filed once it is tried again", func() bool {
		n, err := x.store.Register.Count(t.Context(), store.System, register.Query{})
		if err == nil && n < len(x.want) {
			x.tryAgain()
		}
		return err == nil && n >= len(x.want) && len(x.tree()) >= len(x.want)
	})
	x.expect(x.want)
	if phase.name == "follow-ups" {
		x.until("all messages are flagged", func() bool { x.tryAgain(); return x.flagged() == mailsInTrouble })
	}
	n := 0
	x.until("each has a line in the register", func() bool {
		lines, err := x.store.Register.List(t.Context(), store.System, register.Query{})
		if phase.name == "by hand" { // where the rule took a message, too, that has a line of its own
			lines = slices.DeleteFunc(lines, func(f store.Filing) bool { return f.RuleID != store.ByHand })
		}
		n = len(lines)
		return err == nil && n >= len(x.want)
	})
	if n != len(x.want) {
		t.Errorf("%d lines in the register, want %d", n, len(x.want))
	}
	x.until("nothing is left to be read", func() bool {
		var left []store.Retry
		for _, folder := range []string{"INBOX", "Papers"} {
			row, err := x.store.Mailboxes.Folder(t.Context(), "box", folder)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			found, err := x.store.Retries.In(t.Context(), "box", folder, row.UIDValidity)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range found {
				left = append(left, r)
			}
		}
		return !slices.ContainsFunc(left, func(r store.Retry) bool { return r.State != store.RetryFailed || len(x.want) > 0 })
	})
	return struck, tray
}
