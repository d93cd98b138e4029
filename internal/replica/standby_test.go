package replica_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

func standby(t *testing.T, p replica.Place, data, machine string, newest int) *replica.Standby {
	t.Helper()
	s, err := replica.NewStandby(replica.StandbyConfig{Place: p, Passphrase: passphrase, Data: data, Records: ofRecords,
		Machine: machine, For: 3 * time.Second, Newest: newest, Poll: 20 * time.Millisecond,
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for began := time.Now(); !ok(); <-time.After(10 * time.Millisecond) {
		if time.Since(began) > 20*time.Second {
			t.Fatalf("waited in vain until %s", what)
		}
	}
}

// works opens the records of a machine that has the lease. silence lets it renew that no more, as if it were killed.
func works(t *testing.T, p replica.Place, data string, l *replica.Lease) (i *installation, silence func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	go l.Keep(ctx, slog.New(slog.DiscardHandler))
	return open(t, data, p, options{lease: l}), cancel
}

func TestMachinesTakeTurnsAndLoseNothing(t *testing.T) {
	p := replica.Folder(t.TempDir())
	data := []string{t.TempDir(), t.TempDir()}
	name, err := replica.FolderName(data[0])
	if err != nil {
		t.Fatal(err)
	}
	l, err := replica.Take(t.Context(), p, replica.Held{}, replica.Held{Machine: "m0", Folder: name, For: 3 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	active, silence := works(t, p, data[0], l)
	for turn := range 4 {
		other := (turn + 1) % 2
		waits := standby(t, p, data[other], fmt.Sprint("m", other), store.NewestRecords())
		type ended struct {
			l   *replica.Lease
			err error
		}
		life, kill := context.WithCancel(t.Context())
		done := make(chan ended, 1)
		go func() {
			l, err := waits.Run(context.Background(), life)
			done <- ended{l, err}
		}()
		for n := range 20 {
			active.set(fmt.Sprintf("turn %d, change %d", turn, n))
		}
		until(t, "the copy has everything", func() bool { return waits.Status().Fresh })
		all, err := replica.Standbys(t.Context(), p)
		if err != nil || len(all) != 1 || all[0].Machine != fmt.Sprint("m", other) {
			t.Errorf("these wait: %v, %v", all, err)
		}
		last := fmt.Sprintf("turn %d, the last change", turn)
		active.set(last)
		if turn%2 == 0 { // it ends in good order, else it is silent
			active.close()
			if err := l.Give(t.Context()); err != nil {
				t.Fatal(err)
			}
		} else {
			silence()
			_ = active.store.Close()
			_ = active.replica.Close(context.Background())
		}
		e := <-done
		if e.err != nil {
			t.Fatal(e.err)
		}
		l = e.l
		active, silence = open(t, data[other], p, options{lease: l}), kill
		if got, err := active.store.Settings.Get(t.Context(), "value"); got != last || err != nil {
			t.Fatalf("the machine that took over has %q, %v; want %q", got, err, last)
		}
	}
	active.close()
	if aside, _ := filepath.Glob(filepath.Join(data[0], "aside-*", records)); len(aside) == 0 {
		t.Error("the records of a machine whose turn was over are not put aside")
	}
}

func TestAStandbyThatCannotReadTheRecordsDoesNotTakeOver(t *testing.T) {
	p := replica.Folder(t.TempDir())
	l := lease(t, p, 3*time.Second)
	i, _ := works(t, p, t.TempDir(), l)
	i.set("x")
	waits := standby(t, p, t.TempDir(), "tower", store.NewestRecords()-1)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { _, err := waits.Run(ctx, ctx); done <- err }()
	until(t, "it says so", func() bool { return strings.Contains(waits.Status().Problem, "newer Ink Tray") })
	i.close()
	if err := l.Give(t.Context()); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-done:
		t.Errorf("it took over: %v", err)
	case <-time.After(500 * time.Millisecond):
	}
	cancel()
	<-done
}

func TestWithoutALeaseNobodyTakesOver(t *testing.T) {
	p := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), p, options{})
	i.set("x")
	i.sync()
	waits := standby(t, p, t.TempDir(), "tower", store.NewestRecords())
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { _, err := waits.Run(ctx, ctx); done <- err }()
	until(t, "it says why", func() bool { return strings.Contains(waits.Status().Problem, "--lease") })
	cancel()
	<-done
	i.close()
}

func TestRecordsThatWerePutAsideAreKeptThreeTimes(t *testing.T) {
	data := t.TempDir()
	for n := range 5 {
		if err := os.WriteFile(filepath.Join(data, records), []byte{byte(n)}, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := replica.SetAside(data, ofRecords, time.Unix(int64(n), 0)); err != nil {
			t.Fatal(err)
		}
	}
	all, err := filepath.Glob(filepath.Join(data, "aside-*", records))
	if err != nil || len(all) != 3 {
		t.Errorf("%v, %v", all, err)
	}
	if newest, err := os.ReadFile(all[2]); err != nil || newest[0] != 4 {
		t.Errorf("the newest is %v, %v", newest, err)
	}
}
