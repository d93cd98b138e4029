package rule

import (
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
)

// Resolve returns the paths of the folders that a rule looks into, by a mailbox's listing, and the names in the rule
// that the listing does not have. Folders that are found only because they are within another one do not include
// trash, junk, drafts and sent mail. "all" also leaves out folders that are shared.
func (l *Look) Resolve(listing []mail.Folder) (paths, missing []string) {
	if l.Every() {
		return add([]string{"INBOX"}, within(listing, "", false)...), nil
	}
	for _, name := range l.In() {
		path := mail.FindFolder(listing, name)
		if path == "" && l.Subfolders { // a level that only holds other folders
			if i := slices.IndexFunc(listing, func(f mail.Folder) bool { return strings.EqualFold(f.Path, name) }); i >= 0 {
				paths = add(paths, within(listing, listing[i].Path+"/", true)...)
				continue
			}
		}
		if path == "" {
			missing = append(missing, name)
			continue
		}
		paths = add(paths, path)
		if l.Subfolders {
			paths = add(paths, within(listing, path+"/", true)...)
		}
	}
	return paths, missing
}

// LooksInto says whether a rule looks into a folder of a mailbox with this listing. A folder that the listing does not
// have counts with what its path says.
func (l *Look) LooksInto(listing []mail.Folder, path string) bool {
	paths, _ := l.Resolve(mail.WithFolder(listing, path))
	return slices.Contains(paths, path)
}

// add appends the paths that are not there yet.
func add(paths []string, more ...string) []string {
	for _, path := range more {
		if !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	return paths
}

// within lists the folders whose paths begin with top, without those that are set aside.
func within(listing []mail.Folder, top string, shared bool) (paths []string) {
	var aside []string
	for i := range listing {
		if mail.Aside(listing[i].Role) {
			aside = append(aside, listing[i].Path)
		}
	}
	isAside := func(path string) bool {
		return slices.ContainsFunc(aside, func(o string) bool { return path == o || strings.HasPrefix(path, o+"/") })
	}
	for i := range listing {
		f := &listing[i]
		if f.Selectable && (shared || !f.Shared) && strings.HasPrefix(f.Path, top) && !isAside(f.Path) {
			paths = append(paths, f.Path)
		}
	}
	return paths
}
