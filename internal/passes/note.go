package passes

import (
	"strings"

	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/store"
)

// EndNote names the difference between the messages that were there when the pass
// began and those that were decided.
func EndNote(pass *store.Pass) string {
	var parts []string
	if pass.Unread > 0 {
		parts = append(parts, phrase.Count(pass.Unread, "message", "messages")+" could not be read and wait in the tray")
	}
	if pass.Gone > 0 {
		parts = append(parts, phrase.Count(pass.Gone, "message", "messages")+" left the mailbox before Ink Tray read them")
	}
	return strings.Join(parts, "; ")
}
