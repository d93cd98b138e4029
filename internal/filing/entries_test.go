package filing

import (
	"fmt"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/store"
)

func TestOneMessageFillsTheTrayWithNoMoreThanAPersonCanSee(t *testing.T) {
	entries := make([]store.Entry, 3*mostInTray)
	for i := range entries {
		entries[i].State, entries[i].Reason = store.Held, reason.Failing(fmt.Sprint(i))
		if i%3 == 0 {
			entries[i].State = store.Planned
		}
	}
	if kept := InTray(entries); len(kept) != mostInTray+1 ||
		!strings.HasPrefix(kept[1].Reason.String(), "100 files of this message wait") {
		t.Errorf("%d entries are kept", len(kept))
	}
}
