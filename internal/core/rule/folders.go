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
	found := pathList{has: map[string]bool{}}
	if l.Every() {
		found.add("INBOX")
		found.add(within(listing, "", false)...)
		return found.paths, nil
	}
	for _, name := range l.In() {
		path := mail.FindFolder(listing, name)
		if path == "" && l.Subfolders { // a level that only holds other folders
			if i := slices.IndexFunc(listing, func(f mail.Folder) bool { return strings.EqualFold(f.Path, name) }); i >= 0 {
				found.add(within(listing, listing[i].Path+"/", true)...)
				continue
			}
		}
		if path == "" {
			missing = append(missing, name)
			continue
		}
		found.add(path)
		if l.Subfolders {
			found.add(within(listing, path+"/", true)...)
		}
	}
	return found.paths, missing
}

// LooksInto says whether a rule looks into a folder of a mailbox with this listing. A folder that the listing does not
// have counts with what its path says.
func (l *Look) LooksInto(listing []mail.Folder, path string) bool {
	paths, _ := l.Resolve(l.around(mail.WithFolder(listing, path), path))
	return slices.Contains(paths, path)
}

// around is the part of a listing on which it hangs whether the rule looks into a folder: the folder, those it is in,
// and those that the rule names. A mailbox may have ten thousand folders, each of which is judged.
func (l *Look) around(listing []mail.Folder, path string) (some []mail.Folder) {
	names := l.In()
	for i := range listing {
		f := &listing[i]
		around := strings.HasPrefix(path, f.Path) && (len(path) == len(f.Path) || path[len(f.Path)] == '/')
		if around || slices.ContainsFunc(names, func(name string) bool {
			return strings.EqualFold(f.Path, name) || f.Role != "" && strings.EqualFold(f.Role, name)
		}) {
			some = append(some, *f)
		}
	}
	return some
}

// pathList is paths in their order, each once.
type pathList struct {
	paths []string
	has   map[string]bool
}

// add appends the paths that are not there yet.
func (p *pathList) add(more ...string) {
	for _, path := range more {
		if !p.has[path] {
			p.has[path] = true
			p.paths = append(p.paths, path)
		}
	}
}

// within lists the folders whose paths begin with top, without those that are set aside.
func within(listing []mail.Folder, top string, shared bool) (paths []string) {
	aside := map[string]bool{}
	for i := range listing {
		if mail.Aside(listing[i].Role) {
			aside[listing[i].Path] = true
		}
	}
	isAside := func(path string) bool { // the folder, or one that it is in
		for at := len(path); at >= 0; at = strings.LastIndexByte(path[:at], '/') {
			if aside[path[:at]] {
				return true
			}
		}
		return false
	}
	for i := range listing {
		f := &listing[i]
		if f.Selectable && (shared || !f.Shared) && strings.HasPrefix(f.Path, top) && !isAside(f.Path) {
			paths = append(paths, f.Path)
		}
	}
	return paths
}
