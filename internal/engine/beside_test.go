package engine

import (
	"fmt"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// A message of thousands of attachments is filed beside the others in portions. It must not keep those waiting that
// were put there after it, which can be ordinary ones on a busy machine.
func TestAMessageOfManyAttachmentsKeepsNobodyWaitingBeside(t *testing.T) {
	h, box, cabinet := slowly(t, "stage")
	h.engine.Stop()
	cabinet.takes = 100 * time.Millisecond // for each item, so that the machine's speed hardly matters
	h.patience = 1500 * time.Millisecond
	h.start()
	h.watched()
	h.rule(gaugesRule)
	const many, few = 80, 6 // at least 8 s, and 0.6 s, of which half is left for the watcher beside
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
