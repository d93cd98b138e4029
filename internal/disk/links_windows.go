package disk

import "io/fs"

// Links is how many names a file has, where that can be told.
func Links(info fs.FileInfo) int {
	if s, ok := info.Sys().(interface{ Links() int }); ok {
		return s.Links()
	}
	return 1
}
