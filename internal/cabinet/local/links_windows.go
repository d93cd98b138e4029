package local

import "io/fs"

// links is how many names a file has, where that can be told.
func links(info fs.FileInfo) int {
	if s, ok := info.Sys().(interface{ Links() int }); ok {
		return s.Links()
	}
	return 1
}
