//go:build !linux

package replica

import "time"

var start = time.Now()

// monotonic is a clock that never goes back.
func monotonic() time.Duration { return time.Since(start) }
