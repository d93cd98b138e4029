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

// pages gives what of the program's own file is in memory and is as it is in the file: a mapping in which anything was
// changed, such as addresses that were filled in when the program was loaded, would lose that.
func pages(do func(from, size uintptr)) error {
	program, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return err
	}
	maps, err := os.ReadFile("/proc/self/smaps") // proc(5): from-to permissions offset device inode path, then sizes
	if err != nil {
		return err
	}
	var from, to uint64
	unchanged := map[string]bool{}
	for line := range bytes.Lines(maps) {
		fields := strings.Fields(string(line))
		switch {
		case len(fields) >= 5 && !strings.HasSuffix(fields[0], ":"):
			from, to = 0, 0
			unchanged = map[string]bool{}
			if len(fields) < 6 || strings.Join(fields[5:], " ") != program || strings.Contains(fields[1], "w") {
				continue
			}
			first, last, _ := strings.Cut(fields[0], "-")
			if from, err = strconv.ParseUint(first, 16, 64); err != nil {
				return err
			}
			if to, err = strconv.ParseUint(last, 16, 64); err != nil {
				return err
			}
		case len(fields) == 3 && fields[1] == "0":
			unchanged[fields[0]] = true
		}
		if from > 0 && unchanged["Anonymous:"] && unchanged["Swap:"] {
			do(uintptr(from), uintptr(to-from))
			from = 0
		}
	}
	return nil
}
