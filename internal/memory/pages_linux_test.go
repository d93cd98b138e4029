package memory

import (
	"os"
	"strconv"
	"strings"
	"testing"
)

// ofFiles is how much of the process's memory are pages of files, in kB (proc(5), RssFile).
func ofFiles(t *testing.T) int {
	t.Helper()
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(status), "RssFile:")
	n, err := strconv.Atoi(strings.Fields(rest)[0])
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestPagesOfTheProgramThatNobodyUsesAreLetGoOf(t *testing.T) {
	readProgram(t)
	before := ofFiles(t)
	letGoOfPages()
	if after := ofFiles(t); after > before*3/4 {
		t.Errorf("%d kB before, %d kB afterwards", before, after)
	}
	readProgram(t) // it is all there
}

// readProgram has every page of the program in memory, as far as it is mapped for reading.
func readProgram(t *testing.T) {
	t.Helper()
	mem, err := os.Open("/proc/self/mem")
	if err != nil {
		t.Fatal(err)
	}
	defer mem.Close()
	err = pages(func(from, size uintptr) {
		if _, err := mem.ReadAt(make([]byte, size), int64(from)); err != nil {
			t.Error(err)
		}
	})
	if err != nil {
		t.Fatal(err)
	}
}
