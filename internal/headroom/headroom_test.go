package headroom

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// machine writes files as Linux has them.
func machine(t *testing.T, files map[string]string) (root string) {
	t.Helper()
	root = t.TempDir()
	for name, text := range files {
		at := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

func TestWhatIsInUseIsRead(t *testing.T) {
	files := map[string]string{"proc/self/fd/0": "", "proc/self/fd/1": "", "proc/self/fd/2": "",
		"proc/self/limits": "Limit                     Soft Limit           Hard Limit           Units     \n" +
			"Max open files            1024                 524288               files     \n",
		"proc/self/status": "Name:\tinktray\nVmRSS:\t   90112 kB\n", "proc/meminfo": "MemTotal:       2048000 kB\n",
		"proc/self/cgroup": "0::/system.slice/inktray.service\n"}
	if r := readFrom(machine(t, files)); r.Files != (Use{3, 1024}) || r.Memory != (Use{90112 << 10, 2048000 << 10}) {
		t.Errorf("on a machine without limits %+v", r)
	}
	files["sys/fs/cgroup/system.slice/inktray.service/memory.max"] = "max\n"
	files["sys/fs/cgroup/system.slice/memory.max"] = "536870912\n"
	if r := readFrom(machine(t, files)); r.Memory != (Use{90112 << 10, 512 << 20}) {
		t.Errorf("where the slice has a limit %+v", r)
	}
	files["proc/self/cgroup"], files["sys/fs/cgroup/memory.max"] = "0::/\n", "268435456\n"
	if r := readFrom(machine(t, files)); r.Memory.Most != 256<<20 {
		t.Errorf("in a container %+v", r)
	}
	files["proc/self/limits"] = "Max open files            unlimited            unlimited            files     \n"
	if r := readFrom(machine(t, files)); r.Files.Most != 0 || r.Files.over(tight) {
		t.Errorf("without a limit of files %+v", r)
	}
	if r := readFrom(t.TempDir()); r != (Reading{}) {
		t.Errorf("where nothing can be read %+v", r)
	}
	if r := Read(); runtime.GOOS == "linux" && (r.Files.Now < 3 || r.Files.Most < r.Files.Now || r.Memory.Now < 1<<20 ||
		r.Memory.Most < r.Memory.Now) {
		t.Errorf("of this process %+v", r)
	}
}

// It is told once that something becomes short, and once that there is enough again; what goes up and down around the
// limit is not told again and again.
func TestAShortageIsToldOnce(t *testing.T) {
	readings := []Reading{{Files: Use{10, 100}}, {Files: Use{81, 100}, Memory: Use{50, 100}}, {Files: Use{90, 100}},
		{Files: Use{75, 100}, Memory: Use{99, 100}}, {Files: Use{85, 100}, Memory: Use{99, 100}}, {Files: Use{60, 100}},
		{Files: Use{82, 100}}}
	var told []string
	ctx, cancel := context.WithCancel(t.Context())
	i, tries := 0, 0
	Watch(ctx, time.Microsecond, func() Reading {
		r := readings[i]
		if i++; i == len(readings) {
			cancel()
		}
		return r
	}, func(s Shortage) error {
		if tries++; tries == 1 { // such as a full disk: it is told at the next reading
			return errors.New("not now")
		}
		told = append(told, s.Kind+" short")
		return nil
	}, func(kind string) error { told = append(told, kind+" enough"); return nil })
	want := "open files enough, memory enough, open files short, memory short, open files enough, memory enough, " +
		"open files short"
	if got := strings.Join(told, ", "); got != want {
		t.Errorf("told is %s, want %s", got, want)
	}
	told = nil // a run that begins with too much in use
	ctx, cancel = context.WithCancel(t.Context())
	Watch(ctx, time.Microsecond, func() Reading { cancel(); return Reading{Memory: Use{99, 100}} },
		func(s Shortage) error { told = append(told, s.Text+" "+s.Advice); return nil },
		func(kind string) error { told = append(told, kind); return nil })
	if len(told) != 2 || told[0] != Files || !strings.Contains(told[1], "MemoryMax") {
		t.Errorf("at a beginning told is %q", told)
	}
}
