//go:build unix

package cabinettest

import (
	"os"
	"syscall"
)

// likeFolder gives a file to whom a folder belongs.
func likeFolder(folder, name string) error {
	info, err := os.Stat(folder)
	if err != nil {
		return err
	}
	s := info.Sys().(*syscall.Stat_t)
	return os.Lchown(name, int(s.Uid), int(s.Gid))
}
