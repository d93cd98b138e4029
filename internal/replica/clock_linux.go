package replica

import (
	"time"

	"golang.org/x/sys/unix"
)

// monotonic is a clock that never goes back, and goes on while the machine sleeps (clock_gettime(2), CLOCK_BOOTTIME).
func monotonic() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		return time.Since(start)
	}
	return time.Duration(t.Nano())
}

var start = time.Now()
