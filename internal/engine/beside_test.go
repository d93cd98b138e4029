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

// A message of thousands of attachments is filed beside the others in portions. It must not keep those waiting that were
// put there after it, which can be ordinary ones on a busy machine.
func TestAMessageOfManyAttachmentsKeepsNobodyWaitingBeside(t *testing.T) {
	h, box := live(t, bundles(unpacking), 20*time.Millisecond)
	if err := h.store.Settings.SetLimits(store.Limits{}, 0, "test"); err != nil { // as many as come are filed
		t.Fatal(err)
	}
	const many = 3000
	var names []string
	for i := range many {
		names = append(names, fmt.Sprintf("%04d.csv", i), fmt.Sprint("content ", i))
	}
	box.add(raw("many", names...))
	h.until("it is being filed", func() bool { return h.inB("0000.csv") })
	var files []string
	for i := range 40 {
		files = append(files, fmt.Sprintf("in %d.csv", i), fmt.Sprint("zipped ", i))
	}
	box.add(attached("after", "after.zip", "application/zip", []byte(zipped(t, files...))))
	h.until("the archive after it is filed", func() bool { return h.inB("in 39.csv") })
	if n := len(h.tree()); n >= many {
		t.Errorf("%d files are there already: the archive waited for all of them", n)
	}
	h.until("all is filed", func() bool { return len(h.tree()) == many+len(files)/2 })
}
