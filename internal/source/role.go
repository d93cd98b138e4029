package source

import "strings"

// called are the names that programs give to folders for a purpose (RFC 6154 has
// the purposes), where nothing else says what a folder is for.
var called = map[string]string{"drafts": "drafts", "sent": "sent", "sent items": "sent", "sent messages": "sent", "junk": "junk", "spam": "junk", "trash": "trash", "deleted items": "trash", "deleted messages": "trash", "archive": "archive", "archives": "archive"}

// RoleByName is what a folder is for by its name, "" where that says nothing.
func RoleByName(path string) string {
	return called[strings.ToLower(strings.TrimPrefix(path, "INBOX/"))]
}

// Aside says whether a role is that of folders that nobody means by "every folder":
// what was thrown away, is not sent yet or was sent, and those that only show what
// lies elsewhere.
func Aside(role string) bool {
	switch role {
	case "trash", "junk", "drafts", "sent", "all", "flagged":
		return true
	}
	return false
}
