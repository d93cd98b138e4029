// Package fault decides whose failure an error is: that of one message, of its mailbox or of this machine. What has to
// wait depends on it.
package fault

import (
	"context"
	"errors"
	"os"
	"sync"
	"syscall"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Side says whose failure an error is.
type Side int

const (
	Message Side = iota // the other messages go on over the same connection
	Mailbox             // the connection is of no more use
	Machine             // the disk, the memory or the records; or the service ends
)

// Of decides whose failure an error is, by its type and codes.
func Of(ctx context.Context, err error) Side {
	var reach *source.Error
	switch {
	case ctx.Err() != nil, store.TroubleOf(err) != nil:
		return Machine
	case errors.As(err, &reach) && reach.Step != source.Folders:
		return Mailbox
	}
	if IsDisk(err) {
		return Machine
	}
	return Message
}

// IsDisk says whether an error is one that a disk, or the system for all files, gives.
func IsDisk(err error) bool {
	for _, code := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EROFS, syscall.EIO, syscall.EMFILE,
		syscall.ENFILE, syscall.ENOMEM} {
		if errors.Is(err, code) {
			return true
		}
	}
	return false
}

// MostTries is how often something is tried that may have failed by itself before it counts as broken.
const MostTries = 5

// mostKeys bounds how many messages are counted.
const mostKeys = 10_000

// Again counts a failure under a key and returns how often that key failed.
func (j *Judge) Again(key string) int {
	j.counting.Lock()
	defer j.counting.Unlock()
	if j.times == nil || len(j.times) > mostKeys {
		j.times = map[string]int{}
	}
	j.times[key]++
	return j.times[key]
}

// Judge decides whose failure an error is that came while one message was in work. It remembers what failed before. Its
// methods may be called by several goroutines at once.
type Judge struct {
	Spool string // the folder in which there must be room to work

	counting sync.Mutex
	times    map[string]int // failures by key
}

// Of decides whose failure an error is that came while one message was in work; key names the message. What looks like
// a failure of this machine is the message's own if it comes MostTries times with this message and the machine has room
// to work: no message may stop the others.
func (j *Judge) Of(ctx context.Context, key string, err error) Side {
	how := Of(ctx, err)
	if err == nil || how != Machine || ctx.Err() != nil || store.TroubleOf(err) != nil {
		return how
	}
	if j.Again(key) >= MostTries && j.well() {
		return Message
	}
	return Machine
}

// roomToWork is how much room the machine must have for its work to count as well, in octets.
const roomToWork = 4 << 20

// well says whether this machine can do its part: there is room to work in.
func (j *Judge) well() bool {
	f, err := os.CreateTemp(j.Spool, "room-")
	if err != nil {
		return false
	}
	_, err = f.Write(make([]byte, roomToWork))
	return errors.Join(err, f.Sync(), f.Close(), os.Remove(f.Name())) == nil
}
