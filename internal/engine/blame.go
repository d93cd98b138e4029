package engine

import (
	"context"
	"errors"
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
	for _, code := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EROFS, syscall.EIO, syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM} {
		if errors.Is(err, code) {
			return ofMachine
		}
	}
	return ofMessage
}
