package replica_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

// copyReader reads the records of an installation from its replica.
type copyReader struct {
	*replica.Reader
	t      *testing.T
	copy   *store.Copy
	change atomic.Int64
	mutex  sync.Mutex
}

func reading(t *testing.T, p replica.Place, folder string) *copyReader {
	t.Helper()
	r := &copyReader{t: t, copy: store.NewCopy(), Reader: replica.NewReader(replica.ReaderConfig{Place: p,
		Passphrase: passphrase, Folder: folder, Records: records, Version: store.NewestRecords(),
		Poll: 20 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})}
	r.change.Store(-1)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		r.Run(ctx)
	}()
	t.Cleanup(func() {
		cancel()
		<-ended
		if err := r.copy.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}

// value is the setting in the copy; "" where there is no copy.
func (r *copyReader) value() (value string, err error) {
	ctx := context.Background()
	err = r.Read(func(file, history string, change int64) error {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		if r.change.Swap(change) != change {
			if err := r.copy.Renew(ctx, file, history); err != nil {
				return err
			}
		}
		if value, err = r.copy.Settings.Get(ctx, "value"); err != nil {
			return err
		}
		whole, err := r.copy.Examine(ctx, true)
		if err == nil && len(whole) > 0 {
			err = fmt.Errorf("the copy is damaged: %v", whole)
		}
		return err
	})
	if errors.Is(err, replica.ErrNoCopy) {
		return "", nil
	}
	return value, err
}

func TestACopyIsReadWhileItFollowsAndNeverGoesBack(t *testing.T) {
	p := replica.Folder(t.TempDir())
	works := open(t, t.TempDir(), p, options{})
	works.set("1")
	works.sync()
	r := reading(t, p, t.TempDir())
	until(t, "there is a copy", func() bool { return r.Status().Fresh })
	const last = 200
	go func() {
		for n := 2; n <= last; n++ {
			if err := works.store.Settings.Set(context.Background(), "value", strconv.Itoa(n)); err != nil {
				t.Error(err)
			}
			if err := works.replica.Sync(context.Background()); err != nil {
				t.Error(err)
			}
		}
	}()
	seen, states := 0, 0
	until(t, "the last change is in the copy", func() bool {
		value, err := r.value()
		if err != nil {
			t.Fatal(err)
		}
		n, _ := strconv.Atoi(value)
		if n < seen {
			t.Fatalf("the copy had %d and now has %d", seen, n)
		}
		if n > seen {
			states++
		}
		seen = n
		return n == last && r.Status().Fresh
	})
	if states < 3 {
		t.Errorf("only %d states were seen of %d changes; the copy was not read while it followed", states, last)
	}
	works.close()
	if err := r.copy.Settings.Set(context.Background(), "value", "0"); !errors.Is(err, store.ErrCopy) {
		t.Errorf("a change of the copy gives %v", err)
	}
}

// Where something is written all the time, a copy never has everything, and is as fresh as can be.
func TestACopyIsFreshWhileItIsWrittenAllTheTime(t *testing.T) {
	p := replica.Folder(t.TempDir())
	works := open(t, t.TempDir(), p, options{})
	works.set("0")
	works.sync()
	r := reading(t, p, t.TempDir())
	until(t, "there is a copy", func() bool { return r.Status().Fresh })
	ctx, cancel := context.WithCancel(t.Context())
	var writing sync.WaitGroup
	writing.Go(func() {
		for n := 1; ctx.Err() == nil; n++ {
			if err := works.store.Settings.Set(t.Context(), "value", strconv.Itoa(n)); err != nil {
				t.Error(err)
			}
			if err := works.replica.Sync(t.Context()); err != nil {
				t.Error(err)
			}
		}
	})
	first, behind := r.Status().Copy, 0
	for began := time.Now(); time.Since(began) < 3*time.Second; time.Sleep(50 * time.Millisecond) {
		if st := r.Status(); !st.Fresh || st.Problem != "" {
			behind++
		}
	}
	if behind > 0 {
		t.Errorf("the copy was not fresh at %d of 60 looks", behind)
	}
	if now := r.Status().Copy; now.Sub(first) < time.Second || time.Since(now) > lately {
		t.Errorf("after 3 s of writing the copy is of %s, at first of %s; it is %s now", now, first, time.Now())
	}
	cancel()
	writing.Wait()
	works.sync()
	until(t, "the copy has everything", func() bool {
		value, err := r.value()
		at, bad := works.store.Settings.Get(t.Context(), "value")
		return err == nil && bad == nil && value == at
	})
	works.close()
}

const lately = 10 * time.Second

func TestAReaderGoesOnWithTheMachineThatTookOver(t *testing.T) {
	p := replica.Folder(t.TempDir())
	first, second := t.TempDir(), t.TempDir()
	l := lease(t, p, 2*time.Second)
	i, silence := works(t, p, first, l)
	i.set("by the first")
	i.sync()
	r := reading(t, p, t.TempDir())
	is := func(want string) {
		t.Helper()
		until(t, "the copy says "+want, func() bool {
			value, err := r.value()
			if err != nil {
				t.Fatal(err)
			}
			return value == want
		})
	}
	is("by the first")
	silence()
	taken, err := standby(t, p, second, "second", store.NewestRecords()).Run(t.Context(), t.Context())
	if err != nil {
		t.Fatal(err)
	}
	i, silence = works(t, p, second, taken)
	defer silence()
	i.set("by the second")
	i.sync()
	is("by the second")
}

func TestACopyThatWasLeftHalfwayIsMadeAnew(t *testing.T) {
	p := replica.Folder(t.TempDir())
	works := open(t, t.TempDir(), p, options{})
	works.set("whole")
	works.sync()
	works.close()
	folder := t.TempDir()
	read := func() {
		t.Helper()
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		r := replica.NewReader(replica.ReaderConfig{Place: p, Passphrase: passphrase, Folder: folder, Records: records,
			Version: store.NewestRecords(), Poll: 20 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			r.Run(ctx)
		}()
		until(t, "there is a copy", func() bool { return r.Status().Fresh })
		cancel()
		<-ended
	}
	read()
	files, err := filepath.Glob(filepath.Join(folder, "*", records))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	// As after a power cut while pages were written: a page is of nothing, and the mark is there.
	f, err := os.OpenFile(files[0], os.O_RDWR, 0)
	if err == nil {
		_, err = f.WriteAt(make([]byte, 4096), 4096)
	}
	mark := filepath.Join(filepath.Dir(files[0]), "halfway")
	if err = errors.Join(err, f.Close(), os.WriteFile(mark, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	read()
	c := store.NewCopy()
	if err := c.Renew(t.Context(), files[0], ""); err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if value, err := c.Settings.Get(t.Context(), "value"); err != nil || value != "whole" {
		t.Errorf("the copy says %q, %v", value, err)
	}
}

func TestALongReadingKeepsNoOthersFromReading(t *testing.T) {
	p := replica.Folder(t.TempDir())
	works := open(t, t.TempDir(), p, options{})
	works.set("1")
	works.sync()
	r := reading(t, p, t.TempDir())
	until(t, "there is a copy", func() bool { return r.Status().Fresh })
	release, held := make(chan struct{}), make(chan struct{})
	go func() {
		_ = r.Read(func(string, string, int64) error {
			close(held)
			<-release
			return nil
		})
	}()
	<-held
	works.set("2")
	works.sync()
	began := time.Now()
	for time.Since(began) < time.Second {
		if _, err := r.value(); err != nil {
			t.Fatal(err)
		}
	}
	if took := time.Since(began); took > 1500*time.Millisecond {
		t.Errorf("readings waited: %v", took)
	}
	close(release)
	until(t, "the copy goes on", func() bool {
		value, err := r.value()
		return err == nil && value == "2"
	})
	works.close()
}

func TestAReaderOfAnotherVersionSaysSo(t *testing.T) {
	p := replica.Folder(t.TempDir())
	works := open(t, t.TempDir(), p, options{})
	works.set("1")
	works.sync()
	defer works.close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	r := replica.NewReader(replica.ReaderConfig{Place: p, Passphrase: passphrase, Folder: t.TempDir(), Records: records,
		Version: store.NewestRecords() + 1, Poll: 20 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
	go r.Run(ctx)
	want := fmt.Sprintf("it runs another version of Ink Tray (its records have version %d, these %d); bring both "+
		"machines to the same one", store.NewestRecords(), store.NewestRecords()+1)
	until(t, "the problem is said", func() bool { return r.Status().Problem == want })
	if err := r.Read(func(string, string, int64) error { return nil }); !errors.Is(err, replica.ErrNoCopy) {
		t.Errorf("reading gives %v", err)
	}
}
