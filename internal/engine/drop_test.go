package engine

import (
	"context"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// What reaches a drop address before anybody has looked at it came after it was made,
// and so it is new to the rules that are on; in an account it may have lain for years.
func TestWhatComesBeforeTheFirstLookIsNewWhereInkTrayKeepsTheMail(t *testing.T) {
	own := map[string]*memory{"drop": {}, "files": {}, "imap": {}}
	box := &memory{}
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		if b := own[m.ID]; b != nil {
			return b.dial(ctx, m, secret)
		}
		return box.dial(ctx, m, secret)
	})
	h.watched()
	h.rule(strings.Replace(gaugesRule, "mailboxes: gauges", "mailboxes: all", 1))
	for id, b := range own {
		b.add(raw("first at "+id, id+".csv", id))
		m := store.Mailbox{ID: id, Name: id, Kind: id, Host: "localhost", Encryption: "tls", Username: id, IntervalSeconds: 1,
			MadeAt: time.Now()}
		if err := h.store.Mailboxes.Add(t.Context(), &m, "pw", "test"); err != nil {
			t.Fatal(err)
		}
		h.engine.Watch(id)
	}
	h.expect(map[string]string{"Gauges/2026/05/drop.csv": "drop", "Gauges/2026/05/files.csv": "files"})
	h.until("the account was looked into",
		func() bool { _, err := h.store.Mailboxes.Folder(t.Context(), "imap", "INBOX"); return err == nil })
	for id, b := range own {
		b.add(raw("second at "+id, id+" 2.csv", id+" 2"))
	}
	h.expect(map[string]string{"Gauges/2026/05/drop.csv": "drop", "Gauges/2026/05/files.csv": "files",
		"Gauges/2026/05/drop 2.csv": "drop 2", "Gauges/2026/05/files 2.csv": "files 2",
		"Gauges/2026/05/imap 2.csv": "imap 2"})
	if notices, err := h.store.Tray.Notices(t.Context(), store.System); err != nil || len(notices) != 0 {
		t.Errorf("people are told %+v, %v", notices, err)
	}
}
