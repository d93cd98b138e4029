// Package headroom watches how much of what the machine lets the service have is in use: open files and memory. It only
// reads; telling somebody is for others to do.
package headroom

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Use is what is in use of one thing. The zero Use is one of which nothing is known.
type Use struct{ Now, Most int64 }

// Reading is what is in use at a moment: open files, and memory in octets. Nothing is known of it on other systems than
// Linux.
type Reading struct{ Files, Memory Use }

// What counts as little headroom, and from where on it is enough again, in parts of a hundred.
const (
	tight = 80
	loose = 70
)

// over says whether more than so many parts of a hundred are in use.
func (u Use) over(percent int64) bool { return u.Most > 0 && u.Now*100 > u.Most*percent }

// Read reads what is in use of this process.
func Read() Reading { return readFrom("/") }

func readFrom(root string) (r Reading) {
	at := func(name string) string { return filepath.Join(root, name) }
	if open, err := os.ReadDir(at("proc/self/fd")); err == nil {
		r.Files = Use{int64(len(open)), field(at("proc/self/limits"), "Max open files", 0)}
	}
	r.Memory = Use{field(at("proc/self/status"), "VmRSS:", 0) << 10, field(at("proc/meminfo"), "MemTotal:", 0) << 10}
	// A limit of the control group (cgroup v2, memory.max), of a container or a unit, is closer than the machine's own.
	groups, _ := os.ReadFile(at("proc/self/cgroup"))
	for line := range strings.Lines(string(groups)) {
		group, ok := strings.CutPrefix(strings.TrimSpace(line), "0::")
		for ; ok && group != "." && group != "/"; group = filepath.Dir(group) {
			r.Memory.Most = least(r.Memory.Most, limitOf(at(filepath.Join("sys", "fs", "cgroup", group, "memory.max"))))
		}
	}
	r.Memory.Most = least(r.Memory.Most, limitOf(at("sys/fs/cgroup/memory.max")))
	return r
}

// limitOf reads a file with a number; 0 where there is none, or no limit.
func limitOf(name string) int64 {
	text, err := os.ReadFile(name)
	if err != nil {
		return 0
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil { // "max"
		return 0
	}
	return n
}

func least(a, b int64) int64 {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// field is the number that stands in a line after its name; 0 where there is none.
func field(name, key string, index int) int64 {
	text, err := os.ReadFile(name)
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		rest, ok := strings.CutPrefix(line, key)
		if words := strings.Fields(rest); ok && index < len(words) {
			n, err := strconv.ParseInt(words[index], 10, 64)
			if err != nil {
				return 0
			}
			return n
		}
	}
	return 0
}

// Shortage is what there is little of.
type Shortage struct{ Kind, Text, Advice string }

// The kinds of shortages.
const (
	Files  = "open files"
	Memory = "memory"
)

// Watch reads every so often, and tells what becomes short, and what is enough: at first, and again after it was short;
// until ctx ends.
func Watch(ctx context.Context, every time.Duration, read func() Reading, short func(Shortage),
	enough func(kind string)) {
	is := map[string]bool{Files: true, Memory: true} // as an earlier run may have told
	limit := int64(tight)
	told := map[string]bool{}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for ctx.Err() == nil {
		r := read()
		look := func(kind string, u Use, s Shortage) {
			switch {
			case u.over(tight) && !(is[kind] && told[kind]):
				is[kind], told[kind] = true, true
				s.Kind = kind
				short(s)
			case is[kind] && !u.over(limit):
				is[kind], told[kind] = false, true
				enough(kind)
			}
		}
		look(Files, r.Files, Shortage{
			Text: fmt.Sprintf("The service has %d files and connections open, of %d that it may have.", r.Files.Now,
				r.Files.Most),
			Advice: "If there are no more, nothing is lost, and mailboxes and cabinets wait. Let it have more: LimitNOFILE in " +
				"its unit, or ulimit -n."})
		look(Memory, r.Memory, Shortage{
			Text: fmt.Sprintf("The service uses %d MB of memory, of %d MB that it may have.", r.Memory.Now>>20,
				r.Memory.Most>>20),
			Advice: "If there is no more, the machine ends it; nothing is lost, and it goes on at the next start. Let it have " +
				"more: MemoryMax in its unit, or a larger machine."})
		limit = loose
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}
