//go:build unix

package disk

import "syscall"

// nonblock keeps opening from waiting for somebody else.
const nonblock = syscall.O_NONBLOCK
