// Package cabinettest is the conformance suite of cabinets: every kind must
// keep these promises, against a real server where it has one.
package cabinettest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"inktray.example/inktray/internal/cabinet"
)

// Place is an empty cabinet under test, and ways to look at it and change it
// from outside.
type Place struct {
	Cabinet  cabinet.Cabinet
	Files    func(t *testing.T) map[string]string // path to contents, without the cabinet's own folder
	Put      func(t *testing.T, path, content string)
	Modified func(t *testing.T, path string) time.Time // nil where files have no time
	Read     func(path string) ([]byte, error)         // as a colleague opens a file; nil for by the cabinet itself
	Full     func(path string) string                  // on this machine; nil where the files lie elsewhere
	// by a server that reads what is there by itself, and follows links
	Served  bool
	Like    func(t *testing.T, path string) // gives what was put there to whom the place belongs
	Unmount func(t *testing.T)              // leaves an empty folder in its place; nil where there is no such thing
}

var received = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

// Open makes an empty cabinet.
type Open = func(t *testing.T) Place

// promise is what a cabinet must keep.
type promise struct {
	proves string
	run    func(t *testing.T, open Open)
}

// Run proves what every cabinet promises.
func Run(t *testing.T, open Open) {
	for _, p := range promises {
		t.Run(p.proves, func(t *testing.T) { p.run(t, open) })
	}
}

func stage(t *testing.T, c cabinet.Cabinet, id, content string) cabinet.Content {
	t.Helper()
	got, err := c.Stage(t.Context(), id, received, strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// only says that a place has these files, and no others.
func only(t *testing.T, p Place, want map[string]string) {
	t.Helper()
	got := p.Files(t)
	for name, content := range want {
		if got[name] != content {
			t.Errorf("%s holds %.40q, want %.40q", name, got[name], content)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d files, want %d: %v", len(got), len(want), got)
	}
}

var promises = []promise{
	{"whatever has the name already, it counts as taken", neighbours},
	{"a file that is kept up to date is renewed in its place, and nobody else's", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		sums := map[string][32]byte{}
		renew := func(content string, ours ...string) error {
			t.Helper()
			sums[content] = stage(t, p.Cabinet, "r1", content).SHA256
			var known [][32]byte
			for _, o := range ours {
				known = append(known, sums[o])
			}
			return cabinet.Renew(ctx, p.Cabinet, "r1", "Lists/Register 2026.csv", known...)
		}
		if err := renew("one"); err != nil {
			t.Fatal(err)
		}
		only(t, p, map[string]string{"Lists/Register 2026.csv": "one"})
		for _, step := range [][2]string{{"one and two", "one"}, {"one, two and three", "one and two"}} {
			if err := renew(step[0], step[1]); err != nil {
				t.Fatal(err)
			}
			only(t, p, map[string]string{"Lists/Register 2026.csv": step[0]})
		}
		if err := renew("four", "one", "one, two and three"); err != nil { // one of several
			t.Fatal(err)
		}
		p.Put(t, "Lists/Register 2026.csv", "a person's")
		if err := renew("five", "four"); !errors.Is(err, cabinet.ErrTaken) {
			t.Errorf("over a person's file: %v", err)
		}
		only(t, p, map[string]string{"Lists/Register 2026.csv": "a person's"})
		if there, err := p.Cabinet.Staged(ctx, "r1"); err != nil || !there {
			t.Errorf("what could not take the place is staged: %t, %v", there, err)
		}
		if err := cabinet.Renew(ctx, p.Cabinet, "none", "Lists/other.csv"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("with nothing staged: %v", err)
		}
	}},
	{"whoever opens a file while it is renewed finds it whole", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		content := func(n int) string { return strings.Repeat(fmt.Sprintf("line %d\n", n), 2000) }
		was := stage(t, p.Cabinet, "r0", content(0)).SHA256
		if err := cabinet.Renew(ctx, p.Cabinet, "r0", "Lists/r.csv"); err != nil {
			t.Fatal(err)
		}
		read := p.Read
		if read == nil {
			read = func(name string) ([]byte, error) {
				r, err := p.Cabinet.Open(ctx, name)
				if err != nil {
					return nil, err
				}
				defer r.Close()
				return io.ReadAll(r)
			}
		}
		stop, torn := make(chan struct{}), make(chan string, 1)
		var reading sync.WaitGroup
		reading.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				data, err := read("Lists/r.csv")
				var n int
				if _, scanErr := fmt.Sscanf(string(data), "line %d", &n); err != nil || scanErr != nil ||
					string(data) != content(n) {
					torn <- fmt.Sprintf("%d octets that begin with %.20q, %v", len(data), data, err)
					return
				}
			}
		})
		for n := 1; n <= 50; n++ {
			now := stage(t, p.Cabinet, "r1", content(n)).SHA256
			if err := cabinet.Renew(ctx, p.Cabinet, "r1", "Lists/r.csv", was); err != nil {
				t.Fatal(err)
			}
			was = now
		}
		close(stop)
		reading.Wait()
		select {
		case what := <-torn:
			t.Errorf("somebody found %s", what)
		default:
		}
	}},
	{"what is staged is filed whole, with its checksum and time", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		content := strings.Repeat("readings;", 100_000)
		got, err := p.Cabinet.Stage(ctx, "a1", received, iotest.HalfReader(strings.NewReader(content)))
		if err != nil {
			t.Fatal(err)
		}
		if got.Size != int64(len(content)) || got.SHA256 != sha256.Sum256([]byte(content)) {
			t.Errorf("staged %d octets %x", got.Size, got.SHA256)
		}
		only(t, p, nil) // nothing is half-visible
		if err := p.Cabinet.Commit(ctx, "a1", "Gauges/2026/05 May/st3.csv"); err != nil {
			t.Fatal(err)
		}
		only(t, p, map[string]string{"Gauges/2026/05 May/st3.csv": content})
		if p.Modified != nil {
			if at := p.Modified(t, "Gauges/2026/05 May/st3.csv"); !at.Equal(received) {
				t.Errorf("the file's time is %v, want %v", at, received)
			}
		}
		if sum, err := cabinet.Sum(ctx, p.Cabinet, "Gauges/2026/05 May/st3.csv"); err != nil || sum != got {
			t.Errorf("read back %+v, %v", sum, err)
		}
		r, err := p.Cabinet.Open(ctx, "Gauges/2026/05 May/st3.csv")
		if err != nil {
			t.Fatal(err)
		}
		back, _ := io.ReadAll(r)
		r.Close()
		if !bytes.Equal(back, []byte(content)) {
			t.Error("other contents came back")
		}
	}},
	{"a taken name is never overwritten", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		p.Put(t, "A/plan.pdf", "by hand")
		stage(t, p.Cabinet, "b1", "mine")
		if err := p.Cabinet.Commit(ctx, "b1", "A/plan.pdf"); !errors.Is(err, cabinet.ErrTaken) {
			t.Errorf("commit: %v, want ErrTaken", err)
		}
		if still, err := p.Cabinet.Staged(ctx, "b1"); err != nil || !still {
			t.Errorf("the staged object is gone: %v", err)
		}
		if err := p.Cabinet.Commit(ctx, "b1", "A/plan (2).pdf"); err != nil {
			t.Error(err)
		}
		only(t, p, map[string]string{"A/plan.pdf": "by hand", "A/plan (2).pdf": "mine"})
	}},
	{"of many writers at once one wins and the others are told", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		for round := range 5 {
			const writers = 8
			name := fmt.Sprintf("Race/%d/plan.pdf", round)
			errs := make([]error, writers)
			for i := range writers {
				stage(t, p.Cabinet, fmt.Sprintf("r%d-%d", round, i), fmt.Sprint("writer ", i))
			}
			var all sync.WaitGroup
			for i := range writers {
				all.Go(func() { errs[i] = p.Cabinet.Commit(ctx, fmt.Sprintf("r%d-%d", round, i), name) })
			}
			all.Wait()
			winner := -1
			for i, err := range errs {
				switch {
				case err == nil && winner >= 0:
					t.Errorf("writers %d and %d both won", winner, i)
				case err == nil:
					winner = i
				case !errors.Is(err, cabinet.ErrTaken):
					t.Errorf("writer %d: %v", i, err)
				}
			}
			if winner < 0 {
				t.Fatal("nobody won")
			}
			if got := p.Files(t)[name]; got != fmt.Sprint("writer ", winner) {
				t.Errorf("%q is there, but writer %d won", got, winner)
			}
			for i := range writers {
				if err := p.Cabinet.Discard(ctx, fmt.Sprintf("r%d-%d", round, i)); err != nil {
					t.Error(err)
				}
			}
		}
	}},
	{"names that differ only in case or Unicode form are the same name", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		p.Put(t, "Berths/Café.pdf", "there")
		spot, err := p.Cabinet.Resolve(ctx, []string{"BERTHS"}, "cafe\u0301.PDF")
		if err != nil || !spot.Taken || spot.By != "Berths/Café.pdf" {
			t.Errorf("%+v, %v", spot, err)
		}
		spot, err = p.Cabinet.Resolve(ctx, []string{"berths", "New"}, "x.pdf")
		if err != nil || spot.Taken || spot.Path != "Berths/New/x.pdf" {
			t.Errorf("%+v, %v", spot, err)
		}
		stage(t, p.Cabinet, "c1", "new")
		if err := p.Cabinet.Commit(ctx, "c1", spot.Path); err != nil {
			t.Fatal(err)
		}
		if spot, err = p.Cabinet.Resolve(ctx, []string{"berths", "new"}, "X.pdf"); err != nil || !spot.Taken {
			t.Errorf("after the commit: %+v, %v", spot, err)
		}
	}},
	{"a stream that breaks leaves nothing", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		broken := io.MultiReader(strings.NewReader("half"), iotest.ErrReader(io.ErrUnexpectedEOF))
		if _, err := p.Cabinet.Stage(ctx, "d1", received, broken); !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("got %v", err)
		}
		if left, err := cabinet.Leftovers(ctx, p.Cabinet); err != nil || len(left) != 0 {
			t.Errorf("left over: %v, %v", left, err)
		}
		ended, cancel := context.WithCancel(ctx)
		cancel()
		if _, err := p.Cabinet.Stage(ended, "d2", received, strings.NewReader("x")); !errors.Is(err, context.Canceled) {
			t.Errorf("with an ended context: %v", err)
		}
	}},
	{"a file that is moved out of the way is kept and frees its name", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		p.Put(t, "Reports/latest.xlsx", "old")
		if err := cabinet.Retire(ctx, p.Cabinet, "Reports/latest.xlsx", "k-1"); err != nil {
			t.Fatal(err)
		}
		only(t, p, nil)
		r, err := cabinet.Kept(ctx, p.Cabinet, "k-1")
		if err != nil {
			t.Fatal(err)
		}
		kept, err := io.ReadAll(r)
		if err := errors.Join(err, r.Close()); err != nil || string(kept) != "old" {
			t.Errorf("kept is %q, %v", kept, err)
		}
		if all, err := cabinet.AllKept(ctx, p.Cabinet); err != nil || len(all) != 1 || all[0].Name != "k-1" ||
			all[0].Size != 3 && all[0].Size != -1 {
			t.Errorf("kept are %v, %v", all, err)
		}
		stage(t, p.Cabinet, "k1", "new")
		if err := p.Cabinet.Commit(ctx, "k1", "Reports/latest.xlsx"); err != nil {
			t.Error(err)
		}
		if err := cabinet.Retire(ctx, p.Cabinet, "Reports/latest.xlsx", "k-1"); !errors.Is(err, cabinet.ErrTaken) {
			t.Errorf("what is kept was overwritten: %v", err)
		}
		only(t, p, map[string]string{"Reports/latest.xlsx": "new"})
		p.Put(t, "Reports/back.xlsx", "old")
		if err := cabinet.Retire(ctx, p.Cabinet, "Reports/back.xlsx", "k-1"); err != nil {
			t.Errorf("the same content is kept already: %v", err)
		}
		only(t, p, map[string]string{"Reports/latest.xlsx": "new"})
		if err := cabinet.Retire(ctx, p.Cabinet, "Reports/none.xlsx", "k-2"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("nothing was moved: %v", err)
		}
		if _, err := cabinet.Kept(ctx, p.Cabinet, "k-2"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("nothing is kept: %v", err)
		}
		for _, odd := range []string{"../x", "a/b", ""} {
			if err := cabinet.Retire(ctx, p.Cabinet, "Reports/latest.xlsx", odd); err == nil {
				t.Errorf("%q was taken as a name", odd)
			}
		}
	}},
	{"what was moved out of the way gets a name back, or goes", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		p.Put(t, "Reports/latest.xlsx", "old")
		if err := cabinet.Retire(ctx, p.Cabinet, "Reports/latest.xlsx", "k-3"); err != nil {
			t.Fatal(err)
		}
		p.Put(t, "Reports/latest.xlsx", "another's")
		if err := cabinet.Restore(ctx, p.Cabinet, "k-3", "Reports/latest.xlsx"); !errors.Is(err, cabinet.ErrTaken) {
			t.Errorf("a name that is taken: %v", err)
		}
		if err := cabinet.Restore(ctx, p.Cabinet, "k-3", "Elsewhere/New/latest.xlsx"); err != nil {
			t.Fatal(err)
		}
		only(t, p, map[string]string{"Reports/latest.xlsx": "another's", "Elsewhere/New/latest.xlsx": "old"})
		if err := cabinet.Restore(ctx, p.Cabinet, "k-3", "Elsewhere/again.xlsx"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("what is kept no more: %v", err)
		}
		for _, odd := range []string{"../x", "a/b", ""} {
			if err := cabinet.Restore(ctx, p.Cabinet, odd, "Reports/x.xlsx"); !errors.Is(err, cabinet.ErrMissing) {
				t.Errorf("%q is kept: %v", odd, err)
			}
			if err := cabinet.Forget(ctx, p.Cabinet, odd); err != nil {
				t.Errorf("forgetting %q: %v", odd, err)
			}
		}
		if err := cabinet.Restore(ctx, p.Cabinet, "k-3", "../outside.xlsx"); err == nil {
			t.Error("a file was put back outside")
		}
		if err := cabinet.Retire(ctx, p.Cabinet, "Elsewhere/New/latest.xlsx", "k-4"); err != nil {
			t.Fatal(err)
		}
		if err := cabinet.Forget(ctx, p.Cabinet, "k-4"); err != nil {
			t.Errorf("forgetting, twice: %v", err)
		}
		if err := cabinet.Forget(ctx, p.Cabinet, "k-4"); err != nil {
			t.Errorf("forgetting, twice: %v", err)
		}
		if _, err := cabinet.Kept(ctx, p.Cabinet, "k-4"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("it is kept all the same: %v", err)
		}
		only(t, p, map[string]string{"Reports/latest.xlsx": "another's"})
	}},
	{"leftovers are known and can be swept", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		stage(t, p.Cabinet, "e1", "x")
		stage(t, p.Cabinet, "e1", "staged again")
		if left, err := cabinet.Leftovers(ctx, p.Cabinet); err != nil || len(left) != 1 || left[0] != "e1" {
			t.Errorf("left over: %v, %v", left, err)
		}
		for range 2 {
			if err := p.Cabinet.Discard(ctx, "e1"); err != nil {
				t.Error(err)
			}
		}
		if still, err := p.Cabinet.Staged(ctx, "e1"); err != nil || still {
			t.Errorf("staged after the sweep: %v, %v", still, err)
		}
		if err := p.Cabinet.Commit(ctx, "e1", "A/x"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("commit of nothing: %v", err)
		}
	}},
	{"no path leaves the cabinet or enters its own folder", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		stage(t, p.Cabinet, "f1", "x")
		for _, name := range []string{"../x", "a/../../x", "/x", "a//x", "", ".", ".inktray/x", ".INKTRAY/staging/x",
			"a/./x"} {
			if err := p.Cabinet.Commit(ctx, "f1", name); err == nil {
				t.Errorf("%q was taken", name)
			}
		}
		if _, err := p.Cabinet.Resolve(ctx, []string{".."}, "x"); err == nil {
			t.Error("a folder above was resolved")
		}
		only(t, p, nil)
	}},
	{"what is not there is told", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		if _, err := cabinet.Sum(ctx, p.Cabinet, "A/none.pdf"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("sum: %v", err)
		}
		if _, err := p.Cabinet.Open(ctx, "none.pdf"); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("open: %v", err)
		}
	}},
	{"folders are listed level by level, without the cabinet's own", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		for _, name := range []string{"Tide gauges/2026/a.csv", "Tide gauges/2025/b.csv", "Berth plans/c.pdf", "d.pdf"} {
			p.Put(t, name, "x")
		}
		for within, want := range map[string]string{"": "Berth plans Tide gauges", "Tide gauges": "2025 2026",
			"Tide gauges/2026": ""} {
			if got, err := cabinet.Folders(ctx, p.Cabinet, within); err != nil || strings.Join(got, " ") != want {
				t.Errorf("within %q: %q (%v), want %q", within, got, err, want)
			}
		}
		for _, none := range []string{"None", "d.pdf"} {
			if got, err := p.Cabinet.List(ctx, none); !errors.Is(err, cabinet.ErrMissing) {
				t.Errorf("within %s: %v, %v", none, got, err)
			}
		}
		for _, bad := range []string{cabinet.Reserved, "../x", "/"} {
			var e *cabinet.Error
			if got, err := p.Cabinet.List(ctx, bad); !errors.As(err, &e) {
				t.Errorf("within %s: %v, %v", bad, got, err)
			}
		}
	}},
	{"an empty folder is removed, and never one in which something lies", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		pruner := p.Cabinet.(cabinet.Pruner)
		spot, err := p.Cabinet.Resolve(ctx, []string{"Gauges", "2026", "05 May"}, "a.csv")
		if err != nil || spot.New != "Gauges" {
			t.Errorf("of the first file %q is new, %v", spot.New, err)
		}
		stage(t, p.Cabinet, "e1", "a")
		if err := p.Cabinet.Commit(ctx, "e1", spot.Path); err != nil {
			t.Fatal(err)
		}
		if spot, err = p.Cabinet.Resolve(ctx, []string{"Gauges", "2026", "06 June"}, "b.csv"); err != nil || spot.New == "" ||
			!strings.HasPrefix("Gauges/2026/06 June/", spot.New+"/") {
			t.Errorf("of the second file %q is new, %v", spot.New, err)
		}
		for _, folder := range []string{"Gauges/2026/05 May", "Gauges"} {
			if _, err := pruner.RemoveFolder(ctx, folder); !errors.Is(err, cabinet.ErrNotEmpty) {
				t.Errorf("removing %s with a file in it: %v", folder, err)
			}
		}
		only(t, p, map[string]string{"Gauges/2026/05 May/a.csv": "a"})
		if err := cabinet.Retire(ctx, p.Cabinet, "Gauges/2026/05 May/a.csv", "e1-back"); err != nil {
			t.Fatal(err)
		}
		for _, folder := range []string{"Gauges/2026/05 May", "Gauges/2026", "Gauges", "Gauges"} {
			if _, err := pruner.RemoveFolder(ctx, folder); err != nil {
				t.Errorf("removing the empty %s: %v", folder, err)
			}
		}
		if found, err := p.Cabinet.List(ctx, ""); err != nil || len(found) != 0 {
			t.Errorf("there is left: %v, %v", found, err)
		}
		if _, err := pruner.RemoveFolder(ctx, ".inktray"); err == nil {
			t.Error("the cabinet's own folder may be removed")
		}
		// What was removed is made again.
		stage(t, p.Cabinet, "e2", "again")
		if spot, err = p.Cabinet.Resolve(ctx, []string{"Gauges", "2026"}, "a.csv"); err != nil || spot.New != "Gauges" {
			t.Errorf("afterwards %q is new, %v", spot.New, err)
		}
		if err := p.Cabinet.Commit(ctx, "e2", spot.Path); err != nil {
			t.Fatal(err)
		}
		only(t, p, map[string]string{"Gauges/2026/a.csv": "again"})
	}},
	{"a cabinet knows itself", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		if err := p.Cabinet.Check(ctx); err != nil {
			t.Fatal(err)
		}
		if left, err := cabinet.Leftovers(ctx, p.Cabinet); err != nil || len(left) != 0 {
			t.Errorf("the check left %v (%v)", left, err)
		}
		only(t, p, nil)
		if said, err := cabinet.Prove(ctx, p.Cabinet); err != nil || len(said) < 3 {
			t.Errorf("its promises are %q, %v", said, err)
		}
		if left, err := cabinet.Leftovers(ctx, p.Cabinet); err != nil || len(left) != 0 {
			t.Errorf("the proof left %v (%v)", left, err)
		}
		if roomy, ok := p.Cabinet.(cabinet.Roomy); ok {
			if room, err := roomy.Room(ctx); err != nil || room == 0 {
				t.Errorf("room: %d, %v", room, err)
			}
		}
		if p.Unmount == nil {
			return
		}
		p.Unmount(t)
		var e *cabinet.Error
		if err := p.Cabinet.Check(ctx); !errors.As(err, &e) || e.Advice == "" {
			t.Errorf("an empty folder passed for the cabinet: %v", err)
		}
	}},
	{"notes are written over, read by their beginnings and removed, and are no files", func(t *testing.T, open Open) {
		ctx := t.Context()
		p := open(t)
		book, ok := p.Cabinet.(cabinet.Notebook)
		if !ok {
			t.Fatal("it keeps no notes")
		}
		read := func(want map[string]string) {
			t.Helper()
			got, err := book.Notes(ctx, "lease-")
			if err != nil || len(got) != len(want) {
				t.Errorf("notes are %q (%v), want %q", got, err, want)
			}
			for name, text := range want {
				if string(got[name]) != text {
					t.Errorf("%s says %q, want %q", name, got[name], text)
				}
			}
		}
		read(nil)
		for _, note := range [][2]string{{"lease-a.1.json", "one"}, {"lease-a.2.json", "two"}, {"claim-a.json", "other"},
			{"lease-a.1.json", "one again"}} {
			if err := book.WriteNote(ctx, note[0], []byte(note[1])); err != nil {
				t.Fatal(err)
			}
		}
		read(map[string]string{"lease-a.1.json": "one again", "lease-a.2.json": "two"})
		for range 2 {
			if err := book.RemoveNote(ctx, "lease-a.1.json"); err != nil {
				t.Fatal(err)
			}
		}
		read(map[string]string{"lease-a.2.json": "two"})
		only(t, p, nil)
		if left, err := cabinet.Leftovers(ctx, p.Cabinet); err != nil || len(left) != 0 {
			t.Errorf("notes count as left over: %v (%v)", left, err)
		}
	}},
}
