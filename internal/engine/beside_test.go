package engine

import (
	"fmt"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

func TestABurstOfSlowMessagesDoesNotAddUp(t *testing.T) {
	a := newAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	begin := now
	for n := range 20 { // each takes all that it may
		share := a.share(now)
		if n == 0 && share != 400*time.Millisecond {
			t.Errorf("the first may take %v, want 400ms", share)
		}
		a.spend(share)
		now = now.Add(share)
	}
	if took := now.Sub(begin); took > 2200*time.Millisecond {
		t.Errorf("20 slow messages took %v together", took)
	}
	if got := a.share(now.Add(2 * time.Second)); got != 400*time.Millisecond {
		t.Errorf("after a quiet time a message may take %v, want 400ms", got)
	}
}

func TestQuickMessagesDoNotUseTheAllowanceUp(t *testing.T) {
	a := newAllowance(400 * time.Millisecond)
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	for range 1000 {
		a.share(now)
		a.spend(20 * time.Millisecond)
		now = now.Add(20 * time.Millisecond)
	}
	if got := a.share(now); got != 400*time.Millisecond {
		t.Errorf("after 1000 quick messages one may take %v, want 400ms", got)
	}
}

// A message of thousands of attachments is filed beside the others in portions. It must not keep those waiting that
// were put there after it, which can be ordinary ones on a busy machine.
func TestAMessageOfManyAttachmentsKeepsNobodyWaitingBeside(t *testing.T) {
	h, box, cabinet := slowly(t, "stage")
	h.engine.Stop()
	cabinet.takes = 10 * time.Millisecond // for each item, so that the machine's speed hardly matters
	h.patience = time.Second
	h.start()
	h.watched()
	h.rule(gaugesRule)
	const many, few = 700, 100 // at least 7 s, and 1 s, of which some is left for the watcher beside
	bundle := func(name string, items int) []byte {
		var files []string
		for i := range items {
			files = append(files, fmt.Sprintf("%s %03d.csv", name, i), fmt.Sprint(name, i))
		}
		return raw(name, files...)
	}
	box.deliver("INBOX", bundle("many", many))
	h.until("it is being filed", func() bool { return h.count("") > 0 })
	box.deliver("INBOX", bundle("few", few))
	filed := func(message int64) (n int) {
		entries, err := h.store.Journal.OfMessage(t.Context(), store.System, message)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			if e.State == store.Filed {
				n++
			}
		}
		return n
	}
	h.until("the message after it is filed", func() bool { return filed(2) == few })
	if filed(1) == many {
		t.Error("the message after it waited for all of it")
	}
	h.until("all is filed", func() bool { return filed(1) == many })
}
