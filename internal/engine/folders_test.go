package engine

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// A rule that looks into everything within a folder meets what is made there later,
// and leaves what somebody has thrown away.
func TestFoldersThatAppearAreLookedInto(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.hurry()
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Projects", "Projects/Old", "Trash")
	deliver("Projects/Old", raw("there before", "before.csv", "0"))
	h.watched()
	h.rule(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`,
		`look: {mailboxes: gauges, folders: Projects, subfolders: true}`, 1))
	h.until("the folders were looked into", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "Projects/Old")
		return err == nil && f.UIDNext == 2
	})
	deliver("Projects/Old", raw("reading one", "one.csv", "1"))
	h.engine.WakeAll()
	h.filed(1)
	testbed.MakeFolders(t, c, "Projects/New")
	now := time.Now().Add(time.Minute)
	testbed.Append(t, c, "Projects/New", raw("reading two", "two.csv", "2"), now)
	h.engine.WakeAll()
	h.filed(2)
	// Under another name it is the same folder: nothing is filed twice.
	if err := c.Rename("Projects/New", "Projects/Newer", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	testbed.Append(t, c, "Projects/Newer", raw("reading three", "three.csv", "3"), now.Add(time.Minute))
	h.engine.WakeAll()
	h.filed(3)
	h.expect(map[string]string{"Gauges/2026/05/one.csv": "1", now.UTC().Format("Gauges/2006/01") + "/two.csv": "2",
		now.UTC().Format("Gauges/2006/01") + "/three.csv": "3"})
}

// A rule that is changed to look further meets what lies there as old mail: nothing of
// it is filed, and nothing is told. What is made after that is new.
func TestARuleThatLooksFurtherFilesNothingOld(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.hurry()
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Projects", "Projects/Old")
	testbed.Append(t, c, "Projects/Old", raw("there before", "before.csv", "0"), time.Now().Add(-2*arrivalMargin))
	h.watched()
	h.rule(gaugesRule)
	deliver("INBOX", raw("reading one", "one.csv", "1"))
	h.filed(1)
	r, err := rule.ParseRule(
		[]byte(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`,
			`look: {mailboxes: gauges, folders: [INBOX, Projects], subfolders: true}`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.Office.SaveRule(t.Context(), r, 1, "test"); err != nil {
		t.Fatal(err)
	}
	h.until("the folders were looked into", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "Projects/Old")
		return err == nil && f.UIDNext == 2
	})
	deliver("INBOX", raw("reading two", "two.csv", "2"))
	h.filed(2)
	if notices, err := h.store.Tray.Notices(t.Context(), store.System); err != nil || len(notices) > 0 {
		t.Errorf("told: %v, %v", notices, err)
	}
	testbed.MakeFolders(t, c, "Projects/New")
	testbed.Append(t, c, "Projects/New", raw("reading three", "three.csv", "3"), time.Now())
	h.engine.WakeAll()
	h.filed(3)
}

// A folder that a rule names and that somebody renames is told, with its new name.
func TestAFolderThatIsRenamedIsTold(t *testing.T) {
	h, d, deliver := dovecot(t)
	h.hurry()
	c := d.Client("gauges")
	testbed.MakeFolders(t, c, "Readings")
	deliver("Readings", raw("there before", "before.csv", "0"))
	h.watched()
	h.rule(strings.Replace(gaugesRule, `look: {mailboxes: gauges}`, `look: {mailboxes: gauges, folders: Readings}`, 1))
	h.until("it was looked into", func() bool {
		f, err := h.store.Mailboxes.Folder(t.Context(), "box", "Readings")
		return err == nil && f.UIDNext == 2
	})
	if err := c.Rename("Readings", "Readings of 2026", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	h.until("it is told", func() bool {
		h.engine.WakeAll()
		notices, err := h.store.Tray.Notices(t.Context(), store.System)
		return err == nil &&
			slices.ContainsFunc(notices,
				func(n store.Notice) bool { return strings.Contains(n.Text, "seems to be “Readings of 2026” now") })
	})
	// The mailbox goes on meanwhile, and once the folder is back the notice is gone.
	if err := c.Rename("Readings of 2026", "Readings", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	h.until("it is settled", func() bool {
		h.engine.WakeAll()
		notices, err := h.store.Tray.Notices(t.Context(), store.System)
		return err == nil && len(notices) == 0
	})
}

// deaf is a mailbox whose server announces nothing of what comes between a look and
// the waiting for news, as some do.
type deaf struct {
	*boxSession
	between *atomic.Pointer[func()]
}

func (deaf) Pushes() bool { return true }

func (s deaf) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	if f := s.between.Swap(nil); f != nil {
		(*f)()
	}
	s.box.mutex.Lock()
	announced := s.box.wake
	s.box.mutex.Unlock()
	select {
	case <-announced:
		return source.Event{At: time.Now(), Arrived: true}, nil
	case <-time.After(longest):
	case <-wake:
	case <-ctx.Done():
		return source.Event{}, ctx.Err()
	}
	return source.Event{}, nil
}

func TestWhatComesBetweenALookAndTheWaitingIsFiledSoon(t *testing.T) {
	box, between := newPostbox(), &atomic.Pointer[func()]{}
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := box.dial(ctx, m, secret)
		if err != nil {
			return nil, err
		}
		return deaf{s.(*boxSession), between}, nil
	})
	h.watched()
	h.rule(gaugesRule)
	box.deliver("INBOX", raw("one", "a.csv", "1"))
	h.filed(1)
	h.watched()
	quietly := func() { box.deliver("INBOX", raw("three", "c.csv", "3")) }
	between.Store(&quietly) // once the second was filed, before its server is listened to again
	box.deliver("INBOX", raw("two", "b.csv", "2"))
	h.filed(3)
}
