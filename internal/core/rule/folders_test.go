package rule

import (
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/mail"
)

var listing = []mail.Folder{
	{Path: "INBOX", Role: "inbox", Selectable: true}, {Path: "INBOX/Gauges", Selectable: true},
	{Path: "Projects", Selectable: false}, {Path: "Projects/North mole", Selectable: true},
	{Path: "Projects/North mole/2026", Selectable: true}, {Path: "Gesendet", Role: "sent", Selectable: true},
	{Path: "Sent", Role: "sent", Selectable: true}, {Path: "Sent/2026", Selectable: true},
	{Path: "Trash", Role: "trash", Selectable: true}, {Path: "Archive", Role: "archive", Selectable: true},
	{Path: "Other Users/bob/Pilots", Selectable: true, Shared: true},
}

var looks = map[string]struct {
	look    Look
	paths   string
	missing string
}{
	"nothing said":         {Look{}, "INBOX", ""},
	"the inbox and within": {Look{Subfolders: true}, "INBOX|INBOX/Gauges", ""},
	"by role":              {Look{Folders: Names{"archive", "Nowhere"}}, "Archive", "Nowhere"},
	"in other letters":     {Look{Folders: Names{"inbox/gauges"}}, "INBOX/Gauges", ""},
	"a level that only holds": {Look{Folders: Names{"projects"}, Subfolders: true},
		"Projects/North mole|Projects/North mole/2026", ""},
	"what is named is taken":   {Look{Folders: Names{"Sent"}}, "Sent", ""},
	"within what is set aside": {Look{Folders: Names{"Sent"}, Subfolders: true}, "Sent", ""},
	"every folder": {Look{Folders: Names{"all"}},
		"INBOX|INBOX/Gauges|Projects/North mole|Projects/North mole/2026|Archive", ""},
	"another user's": {Look{Folders: Names{"Other Users/bob/Pilots"}}, "Other Users/bob/Pilots", ""},
}

func TestARuleLooksIntoTheFoldersThatItsDocumentSays(t *testing.T) {
	for name, c := range looks {
		paths, missing := c.look.Resolve(listing)
		if got := strings.Join(paths, "|"); got != c.paths {
			t.Errorf("%s: got %q, want %q", name, got, c.paths)
		}
		if got := strings.Join(missing, "|"); got != c.missing {
			t.Errorf("%s: missing %q, want %q", name, got, c.missing)
		}
	}
}

func TestOneFolderIsJudgedLikeAWholeListing(t *testing.T) {
	for name, c := range looks {
		for _, f := range listing {
			want := strings.Contains("|"+c.paths+"|", "|"+f.Path+"|")
			if got := c.look.LooksInto(listing, f.Path); got != want {
				t.Errorf("%s, folder %s: got %v, want %v", name, f.Path, got, want)
			}
		}
	}
}

func TestAFolderThatIsNotListedIsJudgedByItsPath(t *testing.T) {
	every := Look{Folders: Names{"all"}}
	for path, want := range map[string]bool{
		"INBOX": true, "Projects/2027": true, "Trash/Old": false, "INBOX/Sent Items": false, "Gesendet": true,
	} {
		if got := every.LooksInto(nil, path); got != want {
			t.Errorf("%s without a listing: got %v, want %v", path, got, want)
		}
	}
	if every.LooksInto(listing, "Gesendet") {
		t.Error("the listing says that Gesendet holds sent mail, and every folder includes it")
	}
	if !(&Look{Folders: Names{"Projects"}, Subfolders: true}).LooksInto(listing, "Projects/new/er") {
		t.Error("a folder that is made later is not looked into")
	}
}
