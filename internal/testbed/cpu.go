package testbed

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// CPU is the processor time of a process and of all that it started, living or ended, as Linux tells it (proc(5)).
func CPU(t testing.TB, pid int) time.Duration {
	t.Helper()
	const tick = 10 * time.Millisecond // USER_HZ is 100 wherever Linux runs Go
	type process struct {
		parent int
		used   time.Duration
	}
	all := map[int]process{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil {
			continue // it ended meanwhile
		}
		id, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		_, rest, _ := strings.Cut(string(text), ") ")
		fields := strings.Fields(rest)
		if len(fields) < 15 {
			continue
		}
		var ticks int
		for _, field := range fields[11:15] { // its own, and those of its children that ended
			n, _ := strconv.Atoi(field)
			ticks += n
		}
		parent, _ := strconv.Atoi(fields[1])
		all[id] = process{parent, time.Duration(ticks) * tick}
	}
	if _, there := all[pid]; !there {
		LeaveOut(t, "a system that tells the processor time of a process")
	}
	var total time.Duration
	for id, p := range all {
		for at, steps := id, 0; at > 1 && steps < 50; at, steps = all[at].parent, steps+1 {
			if at == pid {
				total += p.used
				break
			}
		}
	}
	return total
}
