package cabinets

import (
	"fmt"
	"os"
	"strings"
)

// here says in which space of process numbers this process is, until the machine is
// restarted; "" where that is not known.
func here() string {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	space, err := os.Readlink("/proc/self/ns/pid")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(boot)) + " " + space
}

// begun says when a process of this space began, in the system's own count; "" where
// there is no such process. Numbers of processes are used again, this tells them apart.
func begun(process int) string {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", process))
	if err != nil {
		return ""
	}
	// The second field is a name in parentheses, which may hold anything; see proc_pid_stat(5).
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
		return ""
	}
	return fields[19]
}
