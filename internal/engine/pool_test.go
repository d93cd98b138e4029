package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// manyNames is old mail in which the same names come again and again, some in other letters, with contents of all
// sizes.
func manyNames(t testing.TB, d *testbed.Dovecot, n int) (contents []string) {
	r := rand.New(rand.NewPCG(7, 7))
	box := d.Client("gauges")
	for i := range n {
		var parts []string
		most := 200_000
		if i >= 300 {
			most = 2000
		}
		add := func(name string) {
			content := fmt.Sprintf("%d/%d ", i, len(parts)/2) + strings.Repeat("x", r.IntN(1+r.IntN(most)))
			parts, contents = append(parts, name, content), append(contents, content)
		}
		if i < 300 {
			add([]string{"Levels.csv", "levels.csv", "LEVELS.csv"}[r.IntN(3)])
		} else {
			add(fmt.Sprintf("levels %d.csv", i))
		}
		for range r.IntN(4) {
			add(fmt.Sprintf("own %d-%d.csv", i, len(parts)/2))
		}
		testbed.Append(t, box, "INBOX", raw(fmt.Sprint("reading ", i), parts...),
			time.Date(2026, 5, 12, 6, 0, i, 0, time.UTC))
	}
	return contents
}

// overIMAP reaches a server or a proxy before it.
func overIMAP(host string, port int) func(context.Context, *store.Mailbox, string) (source.Session, error) {
	return func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return imap.Dial(ctx, imap.Config{Server: reach.Server{Host: host, Port: port, Encryption: reach.None},
			Username: m.Username, Password: secret, Timeout: 5 * time.Second})
	}
}

// inOrder proves that every content is filed once, and that names and numbers follow the order of the messages.
func (h *house) inOrder(contents []string) {
	h.t.Helper()
	filings, err := h.store.Register.List(h.t.Context(), store.System, register.Query{Most: 10_000})
	if err != nil {
		h.t.Fatal(err)
	}
	if len(filings) != len(contents) {
		h.t.Fatalf("%d filings, want %d", len(filings), len(contents))
	}
	tree, named := h.tree(), 0
	found := map[int]store.Filing{}
	for _, f := range filings {
		found[f.Number] = f
	}
	for i, content := range contents {
		f := found[i+1]
		at := f.Folder + "/" + f.File
		if got := tree[at]; got != content {
			h.t.Fatalf("number %d is %s with %.10q, want %.10q", i+1, at, got, content)
		}
		delete(tree, at)
		if !strings.Contains(content, "/0 ") {
			continue
		}
		named++
		want := ".csv"
		if named > 1 {
			want = fmt.Sprintf(" (%d).csv", named)
		}
		if !strings.EqualFold(f.File, "levels"+want) {
			h.t.Fatalf("the %d. of the same name is %s", named, f.File)
		}
	}
	if len(tree) > 0 {
		h.t.Errorf("%d files are there that nobody filed", len(tree))
	}
}

func TestOldMailThatIsFiledAtOnceHasItsNamesAndNumbersInTheOrderOfTheMessages(t *testing.T) {
	d := testbed.StartDovecot(t)
	contents := manyNames(t, d, 300)
	h := newHouse(t, overIMAP(d.Host, d.IMAP))
	h.watched()
	h.fileOld(h.rule(gaugesRule))
	h.inOrder(contents)
	h.fileOld("tide-gauges") // nothing twice
	h.inOrder(contents)
}

// TestNumbersFollowTheMessagesAlsoWhereSomeNamesHoldThem mixes files that have their numbers in their names with
// others.
func TestNumbersFollowTheMessagesAlsoWhereSomeNamesHoldThem(t *testing.T) {
	box := &memory{validity: 1}
	const messages = 60
	for i := range messages {
		box.add(raw(fmt.Sprint("reading ", i), fmt.Sprintf("%d.%s", i, []string{"csv", "txt"}[i%2]), fmt.Sprint(i)))
	}
	h := newHouse(t, box.dial)
	h.watched()
	h.fileOld(h.rule(strings.Replace(gaugesRule, "  - take: everything\n", "  - take: {extension: csv}\n    folder: "+
		"Numbered\n    name: <register> <file.stem>\n  - take: everything\n", 1)))
	filings, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 100})
	if err != nil || len(filings) != messages {
		t.Fatalf("%d filings, %v", len(filings), err)
	}
	for _, f := range filings {
		want := fmt.Sprintf("%d.txt", f.Number-1)
		if f.Number%2 == 1 {
			want = fmt.Sprintf("%d %d.csv", f.Number, f.Number-1)
		}
		if f.File != want {
			t.Errorf("number %d is %s, want %s", f.Number, f.File, want)
		}
	}
}

func TestOldMailIsFiledInOrderOverOneConnection(t *testing.T) {
	d := testbed.StartDovecot(t)
	contents := manyNames(t, d, 60)
	a := &account{dial: overIMAP(d.Host, d.IMAP), most: 2} // the watcher's and one more
	h := newHouse(t, a.reach)
	h.watched()
	h.fileOld(h.rule(gaugesRule))
	h.inOrder(contents)
	if a.refused.Load() == 0 {
		t.Error("no third connection was asked for")
	}
}

// account allows so many connections at once.
type account struct {
	dial    func(context.Context, *store.Mailbox, string) (source.Session, error)
	most    int64
	open    atomic.Int64
	refused atomic.Int64
}

// counted is one of them.
type counted struct {
	*imap.Session
	close func()
}

func (c *counted) Close() error {
	c.close()
	return c.Session.Close()
}

func (a *account) reach(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
	if a.open.Add(1) > a.most {
		a.open.Add(-1)
		a.refused.Add(1)
		return nil, &source.Error{Step: source.SignIn, Problem: "too many connections"}
	}
	s, err := a.dial(ctx, m, secret)
	if err != nil {
		a.open.Add(-1)
		return nil, err
	}
	return &counted{s.(*imap.Session), sync.OnceFunc(func() { a.open.Add(-1) })}, nil
}

// TestOldMailIsFiledOnceThoughConnectionsAreCut cuts all connections again and again, with parts outstanding.
func TestOldMailIsFiledOnceThoughConnectionsAreCut(t *testing.T) {
	d := testbed.StartDovecot(t)
	contents := manyNames(t, d, 200)
	proxy := testbed.StartIMAPProxy(t, d.IMAP)
	h := newHouse(t, overIMAP(proxy.Host, proxy.Port))
	h.hurry()
	h.watched()
	id := h.rule(gaugesRule)
	done := make(chan struct{})
	cuts := 0
	go func() {
		defer close(done)
		for range 12 {
			proxy.Break("FETCH.*BODY.PEEK", testbed.CutInside, 1)
			for until := time.Now().Add(2 * time.Second); proxy.Struck() == 0 && time.Now().Before(until); {
				<-time.After(time.Millisecond)
			}
			cuts += proxy.Struck()
		}
		proxy.Heal()
	}()
	h.fileOld(id)
	proxy.Heal()
	<-done
	if cuts < 3 {
		t.Errorf("the connection was cut %d times only", cuts)
	}
	h.once(contents)
}

// once waits until every content is in the register, and proves that it is filed exactly once.
func (h *house) once(contents []string) {
	h.t.Helper()
	h.until("all is filed", func() bool {
		n, _ := h.store.Register.Count(h.t.Context(), store.System, register.Query{})
		return n == len(contents)
	})
	files := map[string]int{}
	for _, content := range h.tree() {
		files[content]++
	}
	for _, content := range contents {
		if files[content] != 1 {
			h.t.Errorf("%.12q is there %d times", content, files[content])
		}
	}
	if len(files) != len(contents) {
		h.t.Errorf("%d contents are there, want %d", len(files), len(contents))
	}
}

// TestOldMailIsFiledOnceThoughCommitsAreRefused refuses commits of groups, before they are made and after.
func TestOldMailIsFiledOnceThoughCommitsAreRefused(t *testing.T) {
	d := testbed.StartDovecot(t)
	contents := manyNames(t, d, 150)
	h := newHouse(t, overIMAP(d.Host, d.IMAP))
	h.hurry()
	h.watched()
	id := h.rule(gaugesRule)
	refused, n := 0, 0
	calls := make(chan struct{}, 1)
	calls <- struct{}{}
	h.store.Interrupt(func(after bool) error {
		<-calls
		defer func() { calls <- struct{}{} }()
		if n++; n > 20 && n%13 == 0 && refused < 25 {
			refused++
			return errors.New("the disk is full")
		}
		return nil
	})
	h.fileOld(id)
	h.store.Interrupt(func(bool) error { return nil })
	if refused < 10 {
		t.Errorf("%d commits were refused only", refused)
	}
	h.once(contents)
}

// TestOldMailIsFiledOnceThoughTheProcessEndsAtAnyCommit lets every commit fail from one on, as the end of the process
// does, and starts again.
func TestOldMailIsFiledOnceThoughTheProcessEndsAtAnyCommit(t *testing.T) {
	for cut := 1; cut <= 16; cut++ {
		box := &memory{validity: 1}
		var contents []string
		for i := range 30 {
			content := fmt.Sprintf("%d/0", i)
			contents = append(contents, content)
			box.add(raw(fmt.Sprint("reading ", i), fmt.Sprintf("%d.csv", i/2), content))
		}
		h := newHouse(t, box.dial)
		h.hurry()
		h.watched()
		id := h.rule(gaugesRule)
		var left atomic.Int64
		left.Store(int64(cut))
		h.store.Interrupt(func(after bool) error {
			if !after && left.Add(-1) < 0 {
				return errDead
			}
			return nil
		})
		_, refused := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
		if refused == nil {
			h.until("the process ends", func() bool { return left.Load() < 0 })
		}
		h.engine.Stop()
		h.store.Interrupt(func(bool) error { return nil })
		h.start()
		if refused != nil { // the pass itself was not kept
			h.fileOld(id)
		}
		h.once(contents)
		for _, f := range h.verdicts() {
			if !strings.Contains(f, "filed") {
				t.Errorf("cut at commit %d: %s", cut, f)
			}
		}
		h.engine.Stop()
	}
}

// TestAStoppedPassFinishesWhatItHasInHand stops a pass and counts: what was decided is filed, the rest is not there.
func TestAStoppedPassFinishesWhatItHasInHand(t *testing.T) {
	d := testbed.StartDovecot(t)
	manyNames(t, d, 1000)
	h := newHouse(t, overIMAP(d.Host, d.IMAP))
	h.watched()
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: h.rule(gaugesRule)}, tester)
	if err != nil {
		t.Fatal(err)
	}
	count := func() int { n, _ := h.store.Register.Count(t.Context(), store.System, register.Query{}); return n }
	h.until("it has begun", func() bool { return count() > 10 })
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Paused); err != nil {
		t.Fatal(err)
	}
	state := func(want store.PassState) func() bool {
		return func() bool {
			p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			pass = &p
			return err == nil && p.State == want
		}
	}
	h.until("it is paused", state(store.Paused))
	counts, err := h.store.Passes.CountsOf(t.Context(), pass.ID)
	if err != nil || counts[pass.ID].Planned != 0 || pass.Looked == 1000 || pass.Looked == 0 {
		t.Errorf("paused after %d messages with %+v, %v", pass.Looked, counts[pass.ID], err)
	}
	there := count()
	time.Sleep(100 * time.Millisecond)
	if now := count(); now != there {
		t.Errorf("%d were filed after the pause", now-there)
	}
	if err := h.engine.SteerPass(t.Context(), store.System, pass.ID, store.Running); err != nil {
		t.Fatal(err)
	}
	h.until("it is done", state(store.Done))
	if pass.Looked != 1000 {
		t.Errorf("%d messages were looked at", pass.Looked)
	}
}
