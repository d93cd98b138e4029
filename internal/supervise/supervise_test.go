package supervise

import (
	"context"
	"net"
	"path/filepath"
	"testing"
	"time"
)

// heard listens as a service manager does.
func heard(t *testing.T) *net.UnixConn {
	t.Helper()
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	t.Setenv("NOTIFY_SOCKET", path)
	return l
}

func next(t *testing.T, l *net.UnixConn, within time.Duration) string {
	t.Helper()
	b := make([]byte, 200)
	if err := l.SetReadDeadline(time.Now().Add(within)); err != nil {
		t.Fatal(err)
	}
	n, err := l.Read(b)
	if err != nil {
		return ""
	}
	return string(b[:n])
}

func TestTheManagerHearsWhatItIsTold(t *testing.T) {
	l := heard(t)
	Tell("READY=1")
	if got := next(t, l, 10*time.Second); got != "READY=1" {
		t.Errorf("it heard %q", got)
	}
	t.Setenv("NOTIFY_SOCKET", "")
	Tell("nothing") // without a manager
	t.Setenv("NOTIFY_SOCKET", "/nowhere/at/all")
	Tell("nothing")
}

// As long as the program answers itself, the manager hears that it is alive; not where it hangs.
func TestTheManagerHearsThatTheProgramIsAlive(t *testing.T) {
	l := heard(t)
	t.Setenv("WATCHDOG_USEC", "60000")
	ctx, cancel := context.WithCancel(t.Context())
	hang, hung, done := make(chan bool, 1), make(chan bool), make(chan bool)
	go func() {
		defer close(done)
		Alive(ctx, func(ctx context.Context) {
			select {
			case <-hang:
				close(hung)
				<-ctx.Done()
			default:
			}
		})
	}()
	for range 3 {
		if got := next(t, l, 10*time.Second); got != "WATCHDOG=1" {
			t.Fatalf("it heard %q", got)
		}
	}
	hang <- true
	<-hung
	for next(t, l, 300*time.Millisecond) != "" { // what was told before
	}
	if got := next(t, l, 300*time.Millisecond); got != "" {
		t.Errorf("it heard %q of a program that hangs", got)
	}
	cancel()
	<-done
	t.Setenv("WATCHDOG_PID", "1")
	Alive(t.Context(), func(context.Context) { t.Error("another program is meant") })
}
