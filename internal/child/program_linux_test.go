package child

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"inktray.example/inktray/internal/core/text"
)

// using lets children be a program until the test ends.
func using(t testing.TB, program []byte) {
	t.Helper()
	reset := func(compressed string) {
		Rest()
		if small.file != nil {
			small.file.Close()
		}
		small.once, small.path, small.file = sync.Once{}, "", nil
		Use(compressed)
	}
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	if _, err := w.Write(program); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	reset(out.String())
	t.Cleanup(func() { reset("") })
}

// running is the program that the worker's process is.
func (w *Worker) running(t *testing.T) string {
	t.Helper()
	link, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", w.waits()))
	if err != nil {
		t.Fatal(err)
	}
	return link
}

// built is where a command was built.
func built(t testing.TB, command string) (path string) {
	t.Helper()
	path = filepath.Join(t.TempDir(), command)
	if out, err := exec.Command("go", "build", "-o", path, "../../cmd/"+command).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return path
}

func TestTheReaderIsAProgramOfItsOwn(t *testing.T) {
	path := built(t, "inktray-reader")
	if out, err := exec.Command(path).CombinedOutput(); err == nil || !strings.Contains(string(out), "Start inktray") {
		t.Errorf("started by hand it says %q, %v", out, err)
	}
	program, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	using(t, program)
	var w Worker
	defer w.Close()
	if found, err := names(t, &w, file(t, zipped(t, "a.txt"))); err != nil || len(found) != 1 {
		t.Fatalf("%v, %v", found, err)
	}
	if got, err := w.Text(t.Context(), file(t, []byte("berth 4")), text.Request{Name: "a.txt",
		Type: "text/plain"}); err != nil || got.Text != "berth 4" {
		t.Errorf("%q, %v", got.Text, err)
	}
	if running := w.running(t); !strings.Contains(running, "memfd:inktray-reader") {
		t.Errorf("the process is %s", running)
	}
	if err := os.WriteFile(small.path, []byte("another"), 0); err == nil {
		t.Error("the program in memory was overwritten")
	}
	could, err := Confined(t.Context(), t.TempDir(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	small.path = ""
	own, err := Confined(t.Context(), t.TempDir(), t.TempDir())
	if err != nil || strings.Join(own, "\n") != strings.Join(could, "\n") {
		t.Errorf("it could %q, this program %q, %v", could, own, err)
	}
}

func TestWhatIsNoProgramIsNotStarted(t *testing.T) {
	for what, program := range map[string][]byte{"no program": []byte("no program"), "nothing": nil} {
		using(t, program)
		for range 2 {
			var w Worker
			if found, err := names(t, &w, file(t, zipped(t, "a.txt"))); err != nil || len(found) != 1 {
				t.Fatalf("%s: %v, %v", what, found, err)
			}
			if running := w.running(t); strings.Contains(running, "memfd") {
				t.Errorf("%s: the process is %s", what, running)
			}
			if small.path != "" {
				t.Errorf("%s: it is tried again", what)
			}
			w.Close()
		}
	}
}
