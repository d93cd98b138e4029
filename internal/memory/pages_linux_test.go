package memory

import (
	"os"
	"strconv"
	"strings"
	"testing"
)

// Four megabytes of the program that nothing but this test uses, so that nothing else has them in memory again.
const (
	words  = "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcde\n"
	page   = words + words + words + words + words + words + words + words
	pages8 = page + page + page + page + page + page + page + page
	more   = pages8 + pages8 + pages8 + pages8 + pages8 + pages8 + pages8 + pages8
	most   = more + more + more + more + more + more + more + more
	filler = most + most
)

// ofProgram is how much of the program's own file is in memory, in bytes, counted page by page (proc(5), smaps): the
// sums in /proc/self/status are late where a process has several processors.
func ofProgram(t *testing.T) int {
	t.Helper()
	program, err := os.Readlink("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	smaps, err := os.ReadFile("/proc/self/smaps")
	if err != nil {
		t.Fatal(err)
	}
	sum, own := 0, false
	for line := range strings.Lines(string(smaps)) {
		fields := strings.Fields(line)
		switch {
		case len(fields) >= 5 && !strings.HasSuffix(fields[0], ":"):
			own = strings.HasSuffix(strings.TrimSpace(line), program)
		case own && len(fields) == 3 && fields[0] == "Rss:":
			n, err := strconv.Atoi(fields[1])
			if err != nil {
				t.Fatal(err)
			}
			sum += n * 1024
		}
	}
	return sum
}

func TestPagesOfTheProgramThatNobodyUsesAreLetGoOf(t *testing.T) {
	lines := strings.Count(filler[len(os.Args):], "\n")
	before := ofProgram(t)
	if before < len(filler) {
		t.Fatalf("%d bytes of the program are in memory, %d were just read", before, len(filler))
	}
	letGoOfPages()
	if after := ofProgram(t); after > before-len(filler)*3/4 {
		t.Errorf("%d bytes before, %d bytes afterwards", before, after)
	}
	if again := strings.Count(filler[len(os.Args):], "\n"); again != lines {
		t.Errorf("%d lines before, %d afterwards: it is not all there", lines, again)
	}
}
