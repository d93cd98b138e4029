package safename

import "strings"

// Folder returns the levels of a folder that a person typed, each safe in a cabinet. Empty levels, "." and ".." are
// left out.
func Folder(folder string) []string {
	var all []string
	for _, s := range strings.Split(folder, "/") {
		if s = strings.TrimSpace(s); s == "" || s == "." || s == ".." {
			continue
		}
		all = append(all, Segment(s))
	}
	return all
}
