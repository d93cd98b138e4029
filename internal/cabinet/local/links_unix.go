//go:build unix

package local

import (
	"io/fs"
	"syscall"
)

// links is how many names a file has.
func links(info fs.FileInfo) int {
	switch s := info.Sys().(type) {
	case *syscall.Stat_t:
		return int(s.Nlink)
	case interface{ Links() int }:
		return s.Links()
	}
	return 1
}
