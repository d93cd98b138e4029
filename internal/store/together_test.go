package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"gorm.io/gorm"
)

// The entries of a message are inserted many at a time; each must have the identity of its own row afterwards, since
// its content is filed under it.
func TestEntriesThatAreInsertedTogetherHaveTheirOwnIdentities(t *testing.T) {
	s := opened(t)
	commit := func(uid uint32, entries []Entry) *Message {
		t.Helper()
		m := &Message{MailboxID: "box", Folder: "INBOX", UIDValidity: 1, UID: uid, ReceivedAt: time.Now().UTC(),
			Fingerprint: make([]byte, 32), Flags: []string{}, Header: []byte("\r\n"),
			Structure: []byte("{}")}
		if err := s.Messages.Commit(t.Context(), Look{Messages: []*Message{m},
			Entries: map[*Message][]Entry{m: entries}}); err != nil {
			t.Fatal(err)
		}
		return m
	}
	items := func(from, to int) (all []Entry) {
		for i := from; i < to; i++ {
			all = append(all, Entry{RuleID: "r", RuleRevision: 1, Item: fmt.Sprint(i), State: Planned, CabinetID: "c",
				PlannedAt: time.Now().UTC()})
		}
		return all
	}
	check := func(all []Entry, want int) {
		t.Helper()
		seen := 0
		for i := range all {
			if all[i].ID == 0 {
				continue
			}
			seen++
			if row, err := s.Journal.ByID(t.Context(), System, all[i].ID); err != nil || row.Item != all[i].Item {
				t.Fatalf("entry %d is item %s (%v), want %s", all[i].ID, row.Item, err, all[i].Item)
			}
		}
		if seen != want {
			t.Errorf("%d entries were inserted, want %d", seen, want)
		}
	}
	first := items(0, 3*atOnce+7)
	m := commit(1, first)
	check(first, len(first))
	// the same message again, with some items that are known: only the others are inserted
	again := items(atOnce, 4*atOnce)
	if same := commit(1, again); same.ID != m.ID {
		t.Fatalf("the message is %d and %d", m.ID, same.ID)
	}
	check(again, atOnce-7)
}

// What is erased is overwritten, and only that: the setting for it ends with the change, also where this fails.
func TestErasingLeavesTheRecordsAsTheyWereWhenItFails(t *testing.T) {
	s := opened(t)
	wrong := errors.New("it fails")
	for _, want := range []error{nil, wrong} {
		if err := s.erasing(t.Context(), func(*gorm.DB) error { return want }); !errors.Is(err, want) {
			t.Errorf("%v, want %v", err, want)
		}
		var on int
		if err := s.write.Raw("PRAGMA secure_delete").Scan(&on).Error; err != nil || on != 0 {
			t.Errorf("after %v secure_delete is %d (%v)", want, on, err)
		}
	}
}
