package store

import (
	"fmt"
	"testing"
	"time"
)

// What is read beside the other messages is mostly made to take long; an ordinary message among it goes first.
func TestOfWhatIsReadBesideTheSmallestComeFirstAndTheOldestHasItsTurn(t *testing.T) {
	s := opened(t)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	for i, size := range []int64{9_000_000, 8_000_000, 300, 7_000_000, 200, 400, 6_000_000} {
		m := &Message{MailboxID: "box", Folder: "INBOX", UIDValidity: 1, UID: uint32(i + 1), Size: size,
			Fingerprint: fmt.Append(nil, i), ReceivedAt: now, SeenAt: now, Subject: fmt.Sprint(i),
			Flags: []string{}, Header: []byte{}, Structure: []byte("{}")}
		if err := s.write.Create(m).Error; err != nil {
			t.Fatal(err)
		}
		if err := s.write.Create(&Retry{MailboxID: "box", Folder: "INBOX", UIDValidity: 1, UID: m.UID, MessageID: m.ID,
			State: RetryWaiting, Rules: []string{}, Slow: SideLane.Slow(), MadeAt: now}).Error; err != nil {
			t.Fatal(err)
		}
	}
	for lane, want := range map[Lane]string{SideLane: "[5 3 6 1]", AnyLane: "[1 2 3 4]", MainLane: "[]"} {
		rows, err := s.Retries.Due(t.Context(), "box", now, nil, lane, 4)
		if err != nil {
			t.Fatal(err)
		}
		uids := []uint32{}
		for _, r := range rows {
			uids = append(uids, r.UID)
		}
		if got := fmt.Sprint(uids); got != want {
			t.Errorf("in lane %d: %v, want %s", lane, got, want)
		}
	}
}
