package memory

import (
	"bytes"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// letGoOfPages lets go of the pages of the program's own file. The system keeps them as long as it has room, and they
// are there again as soon as they are used; much of them is used at the start only. What cannot be let go of stays.
func letGoOfPages() {
	_ = pages(func(from, size uintptr) { _, _, _ = unix.Syscall(unix.SYS_MADVISE, from, size, unix.MADV_DONTNEED) })
}

// pages gives what of the program's own file is in memory and never written to.
func pages(do func(from, size uintptr)) error {
	program, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return err
	}
	maps, err := os.ReadFile("/proc/self/maps") // proc(5): from-to permissions offset device inode path
	if err != nil {
		return err
	}
	for line := range bytes.Lines(maps) {
		fields := strings.Fields(string(line))
		if len(fields) < 6 || strings.Join(fields[5:], " ") != program || strings.Contains(fields[1], "w") {
			continue
		}
		first, last, _ := strings.Cut(fields[0], "-")
		from, err := strconv.ParseUint(first, 16, 64)
		if err != nil {
			return err
		}
		to, err := strconv.ParseUint(last, 16, 64)
		if err != nil {
			return err
		}
		do(uintptr(from), uintptr(to-from))
	}
	return nil
}
