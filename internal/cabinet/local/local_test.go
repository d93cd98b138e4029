package local_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"

	"inktray.example/inktray/internal/testbed"
)

var now = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

func place(t *testing.T, dir string) cabinettest.Place {
	t.Helper()
	folder := filepath.Join(dir, "cabinet")
	id, err := local.Prepare(folder, now)
	if err != nil {
		t.Fatal(err)
	}
	c := local.New(folder, id)
	t.Cleanup(func() { c.Close() })
	return cabinettest.OnDisk(c, folder)
}

func TestConformance(t *testing.T) {
	cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, t.TempDir()) })
}

func TestConformanceOnASecondFileSystem(t *testing.T) {
	if _, err := os.Stat("/dev/shm"); err != nil {
		testbed.LeaveOut(t, "a second file system at /dev/shm")
	}
	cabinettest.Run(t, func(t *testing.T) cabinettest.Place {
		dir, err := os.MkdirTemp("/dev/shm", "cabinet")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.RemoveAll(dir) })
		return place(t, dir)
	})
}

func TestASymbolicLinkDoesNotLeadOut(t *testing.T) {
	dir := t.TempDir()
	p := place(t, dir)
	outside := filepath.Join(dir, "outside")
	if err := errors.Join(os.Mkdir(outside, 0o755),
		os.Symlink(outside, filepath.Join(dir, "cabinet", "Way"))); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Cabinet.Stage(t.Context(), "a", now, strings.NewReader("x")); err != nil {
		t.Fatal(err)
	}
	if err := p.Cabinet.Commit(t.Context(), "a", "Way/out.txt"); err == nil {
		t.Error("the file was taken")
	}
	if entries, _ := os.ReadDir(outside); len(entries) != 0 {
		t.Errorf("outside the cabinet there is %v", entries)
	}
}

func TestPreparingTwiceKeepsTheIdentity(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "c")
	first, err := local.Prepare(folder, now)
	if err != nil {
		t.Fatal(err)
	}
	if second, err := local.Prepare(folder, now.Add(time.Hour)); err != nil || second != first {
		t.Errorf("%s then %s (%v)", first, second, err)
	}
	var e *cabinet.Error
	if err := local.New(folder, "another").Check(t.Context()); !errors.As(err, &e) ||
		!strings.Contains(e.Problem, "another cabinet") {
		t.Errorf("another's folder passed: %v", err)
	}
	for name, says := range map[string]string{"relative/path": "not a whole path",
		filepath.Join(folder, "no", "such"): "not there"} {
		if _, err := local.Prepare(name, now); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want ...%s...", name, err, says)
		}
	}
}

// powered is a prepared cabinet on the forgetful file system.
func powered(t *testing.T) (*faultfs.FS, *local.Cabinet) {
	t.Helper()
	f := faultfs.New()
	for _, name := range []string{".inktray", ".inktray/staging"} {
		if err := f.Mkdir(name); err != nil {
			t.Fatal(err)
		}
	}
	w, err := f.Create(".inktray/cabinet.json")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(w, `{"id":"x"}`)
	if err := errors.Join(w.Sync(), f.SyncDir(".inktray"), f.SyncDir(".")); err != nil {
		t.Fatal(err)
	}
	return f, local.On("memory", "x", func() (disk.FS, error) { return f, nil })
}

// TestThePowerMayGoAtAnyMoment cuts at every operation of a filing. What the
// cabinet said was done must be there afterwards, and nothing may be partial.
func TestThePowerMayGoAtAnyMoment(t *testing.T) {
	const content = "all of the content"
	file := func(c *local.Cabinet) (staged, committed bool) {
		if _, err := c.Stage(t.Context(), "s", now, strings.NewReader(content)); err != nil {
			return false, false
		}
		return true, c.Commit(t.Context(), "s", "A/B/plan.pdf") == nil
	}
	f, c := powered(t)
	before := f.Steps()
	if _, ok := file(c); !ok {
		t.Fatal("the filing fails with the power on")
	}
	total := f.Steps() - before
	if total < 8 {
		t.Fatalf("only %d operations", total)
	}
	for cut := 1; cut <= total+1; cut++ {
		f, c := powered(t)
		f.CutAt(cut)
		staged, committed := file(c)
		f.PowerUp()
		c = local.On("memory", "x", func() (disk.FS, error) { return f, nil })
		files := f.Files()
		got, there := files["A/B/plan.pdf"]
		if there && got != content {
			t.Errorf("cut at %d: the file is partial: %q", cut, got)
		}
		if committed && !there {
			t.Errorf("cut at %d: the commit was confirmed and the file is gone", cut)
		}
		waits, err := c.Staged(t.Context(), "s")
		if err != nil {
			t.Errorf("cut at %d: %v", cut, err)
		}
		if staged && !there && !waits {
			t.Errorf("cut at %d: what was staged is gone", cut)
		}
		if waits && !there && files[".inktray/staging/s.part"] != content && staged {
			t.Errorf("cut at %d: what was staged is partial", cut)
		}
	}
}

// TestThePowerMayGoWhileManyFileInNewFolders lets many file at once into folders that they make themselves, over a disk
// on which making a name last takes a while, and cuts at every few operations.
func TestThePowerMayGoWhileManyFileInNewFolders(t *testing.T) {
	const writers = 8
	for cut := 2; cut < 140; cut += 3 {
		f, c := powered(t)
		slow := slowFlushes{f}
		c = local.On("memory", "x", func() (disk.FS, error) { return slow, nil })
		f.CutAt(cut)
		var mutex sync.Mutex
		var done []string
		var wait sync.WaitGroup
		for i := range writers {
			wait.Go(func() {
				id, name := fmt.Sprint("s", i), fmt.Sprintf("A/B/C%d/%d.csv", i%2, i)
				if _, err := c.Stage(t.Context(), id, now, strings.NewReader(name)); err != nil {
					return
				}
				if c.Commit(t.Context(), id, name) == nil {
					mutex.Lock()
					done = append(done, name)
					mutex.Unlock()
				}
			})
		}
		wait.Wait()
		f.PowerUp()
		files := f.Files()
		for _, name := range done {
			if files[name] != name {
				t.Fatalf("cut at %d: the commit of %s was confirmed, and the file is gone", cut, name)
			}
		}
	}
}

// slowFlushes is a file system on which others come between a name and its flush.
type slowFlushes struct{ *faultfs.FS }

func (s slowFlushes) SyncDir(name string) error {
	time.Sleep(200 * time.Microsecond)
	return s.FS.SyncDir(name)
}

func TestLeavingOutAFlushIsNoticed(t *testing.T) {
	for _, kind := range []string{"file", "dir"} {
		f, c := powered(t)
		f.Skip[kind] = true
		if _, err := c.Stage(t.Context(), "s", now, strings.NewReader("content")); err != nil {
			t.Fatal(err)
		}
		if err := c.Commit(t.Context(), "s", "A/plan.pdf"); err != nil {
			t.Fatal(err)
		}
		f.PowerUp()
		if got := f.Files()["A/plan.pdf"]; got == "content" {
			t.Errorf("without flushing the %s nothing is forgotten: this file system proves nothing", kind)
		}
	}
}

func TestFailuresAreSaidInWords(t *testing.T) {
	for _, c := range []struct {
		name, op string
		err      error
		says     string
	}{
		{"full", "write", syscall.ENOSPC, "no room left"},
		{"full at the flush", "sync", syscall.ENOSPC, "no room left"},
		{"read-only", "create", syscall.EROFS, "may not be written to"},
		{"not allowed", "create", fs.ErrPermission, "right to write"},
		{"gone", "create", fs.ErrNotExist, "mount the share"},
		{"broken", "sync", syscall.EIO, "input/output error"},
	} {
		f, cab := powered(t)
		f.Fail(func(op, name string) error {
			if op == c.op {
				return c.err
			}
			return nil
		})
		_, err := cab.Stage(t.Context(), "s", now, strings.NewReader("x"))
		var e *cabinet.Error
		if !errors.As(err, &e) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want ...%s...", c.name, err, c.says)
		}
		f.Fail(nil)
		if left, _ := cabinet.Leftovers(t.Context(), cab); len(left) != 0 {
			t.Errorf("%s: left over: %v", c.name, left)
		}
	}
}

func BenchmarkFileOneKilobyte(b *testing.B) {
	folder := filepath.Join(b.TempDir(), "c")
	id, err := local.Prepare(folder, now)
	if err != nil {
		b.Fatal(err)
	}
	c := local.New(folder, id)
	content := strings.Repeat("x", 1000)
	n := 0
	for b.Loop() {
		n++
		name := fmt.Sprint("f", n)
		if _, err := c.Stage(b.Context(), name, now, strings.NewReader(content)); err != nil {
			b.Fatal(err)
		}
		if err := c.Commit(b.Context(), name, "Folder/"+name); err != nil {
			b.Fatal(err)
		}
	}
}

func TestFilesAndFoldersHaveTheModeAndOwnerThatWereSet(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "files")
	id, err := local.Prepare(folder, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	owner := ""
	if os.Getuid() == 0 {
		owner = "12:34"
	}
	access, err := local.ParseAccess("0640", owner)
	if err != nil {
		t.Fatal(err)
	}
	c := local.New(folder, id).With(access)
	defer c.Close()
	if _, err := c.Stage(t.Context(), "a", time.Time{}, strings.NewReader("x")); err != nil {
		t.Fatal(err)
	}
	if err := c.Commit(t.Context(), "a", "A/B/x.txt"); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]fs.FileMode{"A": 0o750, "A/B": 0o750, "A/B/x.txt": 0o640} {
		info, err := os.Stat(filepath.Join(folder, name))
		if err != nil || info.Mode().Perm() != want {
			t.Errorf("%s has the mode %v (%v), want %v", name, info.Mode(), err, want)
		}
		if s := fmt.Sprint(info.Sys()); owner != "" && !strings.Contains(s, " 12 34 ") {
			t.Errorf("%s belongs to another: %s", name, s)
		}
	}
	for _, bad := range [][2]string{{"rw", ""}, {"0444", ""}, {"07777", ""}, {"", "nobody-of-that-name"},
		{"", ":no-group-of-that-name"}} {
		if _, err := local.ParseAccess(bad[0], bad[1]); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

// BenchmarkThroughput compares with dd, which flushes each file as well.
func BenchmarkThroughput(b *testing.B) {
	dir := b.TempDir()
	folder := filepath.Join(dir, "cabinet")
	id, err := local.Prepare(folder, now)
	if err != nil {
		b.Fatal(err)
	}
	c := local.New(folder, id)
	defer c.Close()
	cabinettest.Throughput(b, c, func(b *testing.B, into string, files []string) {
		if err := os.MkdirAll(filepath.Join(dir, into), 0o755); err != nil {
			b.Error(err)
		}
		for _, f := range files {
			if out, err := exec.Command("dd", "if="+f, "of="+filepath.Join(dir, into, filepath.Base(f)), "bs=1M",
				"conv=fsync").CombinedOutput(); err != nil {
				b.Errorf("%v %s", err, out)
			}
		}
	})
}
