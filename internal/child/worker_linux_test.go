package child

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
)

// names opens an archive with a worker.
func names(t testing.TB, w *Worker, f *os.File) (found []string, err error) {
	t.Helper()
	err = w.Unpack(t.Context(), f, unpack.Request{Name: "a.zip"}, func() { found = nil },
		func(e unpack.Entry, _ io.Reader) error {
			found = append(found, e.Name)
			return nil
		})
	return found, err
}

// waits is the process of the worker's child that waits, 0 where none does.
func (w *Worker) waits() int {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.resting == nil {
		return 0
	}
	return w.resting.cmd.Process.Pid
}

// ended says whether a process has ended.
func ended(pid int) bool { return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }

// ends waits until a process has ended.
func ends(t *testing.T, pid int) {
	t.Helper()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	late := time.After(20 * time.Second)
	for !ended(pid) {
		select {
		case <-late:
			t.Fatalf("process %d is still there", pid)
		case <-tick.C:
		}
	}
}

func TestAWorkerReadsTheFilesOfAMessageInOneProcess(t *testing.T) {
	Rest()
	var w Worker
	defer w.Close()
	before := Started()
	for i := range 20 {
		name := fmt.Sprintf("%d.txt", i)
		if found, err := names(t, &w, file(t, zipped(t, name))); err != nil || !slices.Equal(found, []string{name}) {
			t.Fatalf("%d: %v, %v", i, found, err)
		}
		if _, err := names(t, &w, file(t, []byte("PK\x03\x04 no archive"))); err == nil {
			t.Fatal("what is no archive was opened")
		}
		if got, err := w.Text(t.Context(), file(t, []byte("berth "+name)),
			text.Request{Name: name, Type: "text/plain"}); err != nil || got.Text != "berth "+name {
			t.Fatalf("%q, %v", got.Text, err)
		}
	}
	if n := Started() - before; n != 1 {
		t.Errorf("%d processes were started", n)
	}
	pid := w.waits()
	if w.Close(); !ended(pid) {
		t.Error("the process is still there after the worker was closed")
	}
	if found, err := names(t, &w, file(t, zipped(t, "after.txt"))); err != nil || len(found) != 1 {
		t.Errorf("after it was closed: %v, %v", found, err)
	}
	ends(t, w.waits()) // of itself
	if pid := w.waits(); pid != 0 {
		t.Errorf("process %d counts as waiting", pid)
	}
}

func TestAFileIsNotBlamedForTheOneBefore(t *testing.T) {
	huge, err := base64.StdEncoding.DecodeString(
		"/Td6WFoAAATm1rRGAgAhASUAAAA7eHtBAQAGbGV2ZWxzCgAA5CJbLT+uvTkAAR8HFi64cx+2830BAAAAAARZWg==")
	if err != nil {
		t.Fatal(err)
	}
	Rest()
	var w Worker
	defer w.Close()
	if _, err := names(t, &w, file(t, zipped(t, "a.txt"))); err != nil {
		t.Fatal(err)
	}
	before := Started()
	var known *unpack.Error // a process of its own says why it ended
	if err := w.Unpack(t.Context(), file(t, huge), unpack.Request{Name: "x.xz", Contents: true}, func() {},
		func(_ unpack.Entry, content io.Reader) error {
			_, err := io.Copy(io.Discard, content)
			return err
		}); !errors.As(err, &known) || !strings.Contains(known.Problem, "512 MB of memory") {
		t.Errorf("a huge dictionary: %v", err)
	}
	if n := Started() - before; n != 1 { // none is made ready for a second try
		t.Errorf("%d processes were started", n)
	}
	if found, err := names(t, &w, file(t, zipped(t, "b.txt"))); err != nil || len(found) != 1 {
		t.Errorf("after it: %v, %v", found, err)
	}
	if err := syscall.Kill(w.waits(), syscall.SIGKILL); err != nil { // as by a system short of memory
		t.Fatal(err)
	}
	if found, err := names(t, &w, file(t, zipped(t, "c.txt"))); err != nil || len(found) != 1 {
		t.Errorf("after the process was killed: %v, %v", found, err)
	}
}

func TestTheProcessForTheNextMessageIsReady(t *testing.T) {
	Rest()
	defer Rest()
	archive := file(t, zipped(t, "a.txt"))
	read := func() (pid int) {
		t.Helper()
		var w Worker
		defer w.Close()
		if found, err := names(t, &w, archive); err != nil || len(found) != 1 {
			t.Fatalf("%v, %v", found, err)
		}
		return w.waits()
	}
	ready := func() int {
		spare.mutex.Lock()
		starting := spare.starting
		spare.mutex.Unlock()
		if starting != nil {
			<-starting
		}
		spare.mutex.Lock()
		defer spare.mutex.Unlock()
		if spare.waiting == nil {
			return 0
		}
		return spare.waiting.cmd.Process.Pid
	}
	if first := read(); ready() != 0 {
		t.Errorf("after one message (%d) a process is ready", first)
	}
	used := map[int]bool{read(): true}
	for range 5 { // no process reads what is in two messages
		next := ready()
		if pid := read(); pid != next || used[pid] {
			t.Errorf("process %d read the message, %d was ready, %v were used", pid, next, used)
		}
		used[next] = true
	}
	pid := ready()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil { // as by a system short of memory
		t.Fatal(err)
	}
	if got := read(); got == pid {
		t.Error("a process that had ended read the message")
	}
	ends(t, ready()) // of itself, as no message came
	if pid := ready(); pid != 0 {
		t.Errorf("process %d counts as ready", pid)
	}
	read()
	read()
	pid = ready()
	if Rest(); !ended(pid) {
		t.Error("the process is still there after the rest")
	}
}

// Whatever goes wrong with an entry in the service is the message's own trouble, and leaves no process behind.
func TestAPanicLeavesNoProcess(t *testing.T) {
	var w Worker
	defer w.Close()
	f := file(t, zipped(t, "a.txt"))
	if _, err := names(t, &w, f); err != nil {
		t.Fatal(err)
	}
	pid := w.waits()
	func() {
		defer func() {
			if recover() == nil {
				t.Error("the panic did not come through")
			}
		}()
		_ = w.Unpack(t.Context(), f, unpack.Request{Name: "a.zip"}, func() {},
			func(unpack.Entry, io.Reader) error { panic("an odd entry") })
	}()
	if !ended(pid) || w.waits() != 0 {
		t.Errorf("the process ended: %v, another waits: %d", ended(pid), w.waits())
	}
}

func TestAWorkerServesSeveralAtOnce(t *testing.T) {
	var w Worker
	var group sync.WaitGroup
	for i := range 4 {
		f := file(t, zipped(t, fmt.Sprintf("%d.txt", i)))
		group.Go(func() {
			for range 5 {
				if found, err := names(t, &w, f); err != nil || len(found) != 1 || found[0] != fmt.Sprintf("%d.txt", i) {
					t.Errorf("%d: %v, %v", i, found, err)
				}
			}
		})
	}
	group.Wait()
	pid := w.waits()
	w.Close()
	ends(t, pid)
}

// BenchmarkWorker is what each further file of a message costs.
func BenchmarkWorker(b *testing.B) {
	var w Worker
	defer w.Close()
	f := file(b, zipped(b, "a.txt"))
	for b.Loop() {
		if _, err := names(b, &w, f); err != nil {
			b.Fatal(err)
		}
	}
}
