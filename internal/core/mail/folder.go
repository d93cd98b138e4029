package mail

import (
	"slices"
	"strings"
)

// Folder is a mail folder as a mailbox lists it.
type Folder struct {
	Path       string `json:"path"` // "/" between levels; the inbox is "INBOX"
	Role       string `json:"role"` // inbox, archive, drafts, sent, junk, trash, all, flagged or "" (RFC 6154)
	Selectable bool   `json:"selectable"`
	Shared     bool   `json:"shared,omitempty"` // it belongs to another user or to everybody (RFC 2342)
	// Unreadable says that the server gives the folder a name that cannot be decoded, so that it cannot be opened. Path
	// is the name as the server sent it.
	Unreadable bool `json:"unreadable,omitempty"`
}

// roleNames are the names that mail programs give to folders for a purpose, where the server does not say the purpose.
var roleNames = map[string]string{
	"drafts": "drafts", "sent": "sent", "sent items": "sent", "sent messages": "sent", "junk": "junk", "spam": "junk",
	"trash": "trash", "deleted items": "trash", "deleted messages": "trash", "archive": "archive", "archives": "archive",
}

// RoleByName is the purpose of a folder as far as its name says it; "" where the name says nothing.
func RoleByName(path string) string {
	return roleNames[strings.ToLower(strings.TrimPrefix(path, "INBOX/"))]
}

// Aside says whether a role is that of folders that "every folder" leaves out: deleted, unsent and sent mail, and
// folders that only show what is in other folders.
func Aside(role string) bool {
	switch role {
	case "trash", "junk", "drafts", "sent", "all", "flagged":
		return true
	}
	return false
}

// FindFolder returns the path of the folder with a path or a role; "" where there is none that can be opened.
func FindFolder(listing []Folder, name string) string {
	if strings.EqualFold(name, "inbox") {
		return "INBOX"
	}
	found := ""
	for _, f := range listing {
		switch {
		case !f.Selectable:
		case f.Path == name:
			return f.Path
		case strings.EqualFold(f.Path, name), f.Role != "" && strings.EqualFold(f.Role, name) && found == "":
			found = f.Path
		}
	}
	return found
}

// WithFolder returns a listing that has a folder. Where it is missing, it and the folders around it are added, with the
// roles that their names say.
func WithFolder(listing []Folder, path string) []Folder {
	if slices.ContainsFunc(listing, func(f Folder) bool { return f.Path == path }) {
		return listing
	}
	listing = slices.Clip(listing)
	for at := path; at != ""; at = parentFolder(at) {
		if !slices.ContainsFunc(listing, func(f Folder) bool { return f.Path == at }) {
			listing = append(listing, Folder{Path: at, Role: RoleByName(at), Selectable: true})
		}
	}
	return listing
}

func parentFolder(path string) string { return path[:max(0, strings.LastIndexByte(path, '/'))] }
