// Package supervise tells the service manager that started the program how it does (sd_notify(3)): that it is ready,
// that it is alive, that it ends. Without such a manager nothing is told. It guarantees that the program runs on
// whether or not anybody listens.
package supervise

import (
	"context"
	"net"
	"os"
	"strconv"
	"time"
)

// Tell tells the service manager a state, such as "READY=1". It is nothing without a manager, and nothing that fails
// matters to the service.
func Tell(state string) {
	socket := os.Getenv("NOTIFY_SOCKET")
	if socket == "" {
		return
	}
	if socket[0] == '@' { // an abstract socket (unix(7))
		socket = "\x00" + socket[1:]
	}
	conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		return
	}
	defer conn.Close()
	_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = conn.Write([]byte(state))
}

// interval is how often the manager wants to hear that the program is alive; 0 where it does not ask.
func interval() time.Duration {
	micro, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64)
	if err != nil || micro <= 0 {
		return 0
	}
	if pid := os.Getenv("WATCHDOG_PID"); pid != "" && pid != strconv.Itoa(os.Getpid()) {
		return 0 // another program is meant
	}
	return time.Duration(micro) * time.Microsecond
}

// Alive tells the manager that the program is alive, as long as alive comes to its end in time, until ctx ends.
// Whatever alive finds wrong, the program is alive: what cannot be mended by a new start must not cause one.
func Alive(ctx context.Context, alive func(ctx context.Context)) {
	every := interval() / 3
	if every == 0 {
		return
	}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		alive(ctx)
		if ctx.Err() != nil {
			return
		}
		Tell("WATCHDOG=1")
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}
