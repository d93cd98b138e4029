//go:build unix

package disk

import (
	"io/fs"
	"syscall"
)

// Links is how many names a file has.
func Links(info fs.FileInfo) int {
	switch s := info.Sys().(type) {
	case *syscall.Stat_t:
		return int(s.Nlink)
	case interface{ Links() int }:
		return s.Links()
	}
	return 1
}
