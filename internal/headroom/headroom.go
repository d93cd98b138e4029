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
		r.Files = Use{int64(len(open)), field(at("proc/self/limits"), "Max open files")}
	}
	r.Memory = Use{field(at("proc/self/status"), "VmRSS:") << 10, field(at("proc/meminfo"), "MemTotal:") << 10}
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

// field is the first number that stands in a line after its name; 0 where there is none.
func field(name, key string) int64 {
	text, err := os.ReadFile(name)
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		rest, ok := strings.CutPrefix(line, key)
		if words := strings.Fields(rest); ok && len(words) > 0 {
			n, err := strconv.ParseInt(words[0], 10, 64)
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

// state is what was told of one thing.
type state int

const (
	unknown state = iota // an earlier run may have told of a shortage
	enough
	short
)

// Watch reads every so often, and tells what becomes short, and what is enough: at first, and again after it was short;
// until ctx ends. What could not be told is told at the next reading.
func Watch(ctx context.Context, every time.Duration, read func() Reading, tell func(Shortage) error,
	settle func(kind string) error) {
	var files, memory state
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for ctx.Err() == nil {
		r := read()
		look := func(was *state, u Use, s Shortage) {
			next := *was
			switch {
			case *was != short && u.over(tight):
				next = short
			case *was == unknown || *was == short && !u.over(loose):
				next = enough
			}
			switch {
			case next == *was:
			case next == short && tell(s) == nil, next == enough && settle(s.Kind) == nil:
				*was = next
			}
		}
		look(&files, r.Files, Shortage{Kind: Files,
			Text: fmt.Sprintf("The service has %d files and connections open, of %d that it may have.", r.Files.Now,
				r.Files.Most),
			Advice: "If it reaches the limit, mailboxes and cabinets wait, and nothing is lost. Raise the limit: " +
				"LimitNOFILE in its unit, or ulimit -n."})
		look(&memory, r.Memory, Shortage{Kind: Memory,
			Text: fmt.Sprintf("The service uses %d MB of memory, of %d MB that it may have.", r.Memory.Now>>20,
				r.Memory.Most>>20),
			Advice: "If it reaches the limit, the system ends it. Nothing is lost, and it goes on at the next start. Give " +
				"it more memory: MemoryMax in its unit, or a larger machine."})
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
}
