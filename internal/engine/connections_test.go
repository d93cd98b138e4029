package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// With an interval of an hour nothing but an announcement (RFC 5465) lets mail of other folders be seen soon.
func TestMailInAnyFolderIsFiledAtOnce(t *testing.T) {
	h, d, deliver := dovecot(t)
	testbed.MakeFolders(t, d.Client("gauges"), "Papers", "Papers/Häfen")
	m, err := h.store.Mailboxes.ByID(t.Context(), store.System, "box")
	if err != nil {
		t.Fatal(err)
	}
	m.IntervalSeconds = 3600
	if err := h.store.Mailboxes.Change(t.Context(), &m, nil, m.Revision, "test"); err != nil {
		t.Fatal(err)
	}
	h.restart()
	h.watched()
	h.rule(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`,
		`look: {mailboxes: gauges, folders: Papers, subfolders: true}`, 1))
	h.until("the folders were looked into", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "Papers/Häfen")
		return err == nil && f.UIDNext == 1
	})
	time.Sleep(soonAfter + time.Second) // the looks that follow the first are over
	began := time.Now()
	deliver("Papers/Häfen", raw("reading one", "one.csv", "1"))
	h.filed(1)
	deliver("Papers", raw("reading two", "two.csv", "2"))
	h.filed(2)
	testbed.MakeFolders(t, d.Client("gauges"), "Papers/Made later")
	c := d.Client("gauges")
	now := time.Now().Add(time.Minute)
	testbed.Append(t, c, "Papers/Made later", raw("reading three", "three.csv", "3"), now)
	h.filed(3)
	if took := time.Since(began); took > 30*time.Second {
		t.Errorf("it took %v", took)
	}
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1", "Gauges/2026/05/two.csv": "2",
		now.UTC().Format("Gauges/2006/01") + "/three.csv": "3"})
}

// openSession counts the sessions that are open.
type openSession struct {
	source.Session
	now *atomic.Int32
}

func (o openSession) Close() error {
	o.now.Add(-1)
	return o.Session.Close()
}

// Five mailboxes of a host that allows three connections take turns, and all that comes is filed.
func TestMailboxesThatShareAHostTakeTurns(t *testing.T) {
	h, d, deliver := dovecot(t)
	var now, most atomic.Int32
	dial := h.dial
	h.dial = func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := dial(ctx, m, secret)
		if err != nil {
			return nil, err
		}
		for n := now.Add(1); ; {
			if was := most.Load(); n <= was || most.CompareAndSwap(was, n) {
				break
			}
		}
		return openSession{s, &now}, nil
	}
	limits := store.UsualLimits
	limits.HostConnections = 3
	if err := h.store.Settings.SetLimits(t.Context(), limits, 0, "test"); err != nil {
		t.Fatal(err)
	}
	users := []string{"berths", "safety", "pilots", "dues"}
	for _, user := range users {
		if err := h.store.Mailboxes.Add(t.Context(), &store.Mailbox{ID: user, Name: user, Kind: "imap", Host: "localhost",
			Encryption: "tls", Username: user, IntervalSeconds: 1, MadeAt: time.Now()}, "pw", "test"); err != nil {
			t.Fatal(err)
		}
	}
	h.restart()
	h.engine.Mailboxes.Counter.Turn = 20 * time.Millisecond
	h.until("each was looked into", func() bool {
		for _, id := range append(users, "box") {
			if h.engine.Status(id).Looked.IsZero() {
				return false
			}
		}
		return true
	})
	h.rule(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`,
		`look: {mailboxes: [gauges, berths, safety, pilots, dues]}`, 1))
	want := map[string]string{"Gauges/2026/05/gauges.csv": "of gauges"}
	for _, user := range users {
		c := d.Client(user)
		testbed.Append(t, c, "INBOX", raw("of "+user, user+".csv", "of "+user), may)
		want["Gauges/2026/05/"+user+".csv"] = "of " + user
	}
	deliver("INBOX", raw("of gauges", "gauges.csv", "of gauges"))
	h.expect(want)
	h.until("they are said to take turns", func() bool {
		turns := 0
		for _, id := range append(users, "box") {
			if h.engine.Status(id).State == mailboxes.InTurns {
				turns++
			}
		}
		return turns >= 3
	})
	if n := most.Load(); n > 3 {
		t.Errorf("%d connections at once, 3 allowed", n)
	}
	notices, err := h.store.Tray.Notices(t.Context(), store.System)
	if err != nil || len(notices) > 0 {
		t.Errorf("told: %v, %v", notices, err)
	}
}

// A server that asks to do less is told as such, and its account is left alone until then; another account goes on.
func TestAServerThatAsksToDoLessSlowsOnlyThatAccount(t *testing.T) {
	h, d, _ := dovecot(t)
	var slow atomic.Bool
	var tried atomic.Int32
	dial := h.dial
	h.dial = func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		if m.ID == "box" && slow.Load() {
			tried.Add(1)
			e := &reach.Error{Step: reach.SignIn, Problem: "the server lets nobody sign in now (Try again in 10 minutes)"}
			e.Slow, e.After = reach.SlowDown("[THROTTLED] Try again in 10 minutes")
			return nil, e
		}
		return dial(ctx, m, secret)
	}
	if err := h.store.Mailboxes.Add(t.Context(), &store.Mailbox{ID: "other", Name: "berths", Kind: "imap",
		Host: "localhost", Encryption: "tls", Username: "berths", IntervalSeconds: 1, MadeAt: time.Now()}, "pw",
		"test"); err != nil {
		t.Fatal(err)
	}
	slow.Store(true)
	h.beat = 5 * time.Millisecond
	h.restart()
	h.until("it is said to be slowed down", func() bool { return h.engine.Status("box").State == mailboxes.Slowed })
	h.until("the other is watched", func() bool { return h.engine.Status("other").State == mailboxes.Live })
	h.rule(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`, `look: {mailboxes: berths}`, 1))
	testbed.Append(t, d.Client("berths"), "INBOX", raw("reading", "one.csv", "1"), may)
	h.filed(1)
	err := h.engine.Mailboxes.With(t.Context(), &h.mailbox, func(source.Session) error { return nil })
	var known *reach.Error
	if !errors.As(err, &known) || !known.Slow || !strings.Contains(err.Error(), "asked to do less") {
		t.Errorf("meanwhile: %v", err)
	}
	if n := tried.Load(); n != 1 {
		t.Errorf("tried %d times within ten minutes", n)
	}
	if s := h.engine.Status("box"); !strings.Contains(s.Told("gauges"), "more slowly") {
		t.Errorf("told: %s", s.Told("gauges"))
	}
	slow.Store(false)
	h.engine.TryNow("box") // somebody asks for it
	h.until("it is watched", func() bool { return h.engine.Status("box").State == mailboxes.Live })
	h.until("others may use it", func() bool {
		return h.engine.Mailboxes.With(t.Context(), &h.mailbox, func(s source.Session) error {
			folders, err := s.Folders(t.Context())
			if err == nil && len(folders) == 0 {
				return fmt.Errorf("no folders")
			}
			return err
		}) == nil
	})
}
