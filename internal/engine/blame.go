package engine

import (
	"context"
	"errors"
	"os"
	"sync"
	"syscall"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// blame says whose failure an error is, which decides what waits: one message,
// its mailbox, or everything on this machine.
type blame int

const (
	ofMessage blame = iota // the other messages go on over the same connection
	ofMailbox              // the connection is of no more use
	ofMachine              // the disk, the memory or the records; or the service ends
)

// whose finds out whose failure an error is. It looks at types and codes only.
func whose(ctx context.Context, err error) blame {
	var reach *source.Error
	switch {
	case ctx.Err() != nil, store.TroubleOf(err) != nil:
		return ofMachine
	case errors.As(err, &reach) && reach.Step != source.Folders:
		return ofMailbox
	}
	if ofDisk(err) {
		return ofMachine
	}
	return ofMessage
}

// ofDisk says whether an error is one that a disk, or the system for all files, gives.
func ofDisk(err error) bool {
	for _, code := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EROFS, syscall.EIO, syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM} {
		if errors.Is(err, code) {
			return true
		}
	}
	return false
}

// culprits counts how often this machine failed while one message was in hand. It may be used by several goroutines.
type culprits struct {
	mutex sync.Mutex
	times map[string]int
}

// mostCulprits bounds how many messages are counted.
const mostCulprits = 10_000

func (c *culprits) again(key string) int {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.times == nil || len(c.times) > mostCulprits {
		c.times = map[string]int{}
	}
	c.times[key]++
	return c.times[key]
}

// whoseOf finds out whose failure an error is that came while one message was in hand. What looks like the machine's
// is the message's own if it comes again and again with this message, and the machine does well without it: nothing
// inside of a message stops the others.
func (e *Engine) whoseOf(ctx context.Context, key string, err error) blame {
	how := whose(ctx, err)
	if err == nil || how != ofMachine || ctx.Err() != nil || store.TroubleOf(err) != nil {
		return how
	}
	if e.culprits.again(key) >= mostReadings && e.well() {
		return ofMessage
	}
	return ofMachine
}

// roomToWork is how much room the machine must have for its work to count as well, in octets.
const roomToWork = 4 << 20

// well says whether this machine can do its part: there is room to work in.
func (e *Engine) well() bool {
	f, err := os.CreateTemp(e.Spool, "room-")
	if err != nil {
		return false
	}
	_, err = f.Write(make([]byte, roomToWork))
	return errors.Join(err, f.Sync(), f.Close(), os.Remove(f.Name())) == nil
}
