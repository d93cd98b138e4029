package reading

import (
	"context"
	"strings"

	"inktray.example/inktray/internal/child"
)

// Confined says what processes that read attachments could do here beyond reading them, in words such as "open
// connections": none where they are confined fully. known is false until it was tried out, or where it cannot be.
func (rd *Reader) Confined() (could []string, known bool) {
	if c := rd.confined.Load(); c != nil {
		return *c, true
	}
	return nil, false
}

// Processes counts the processes that were started to read hostile files in, since the program began.
func (rd *Reader) Processes() int64 { return child.Started() }

// TryConfinement tries out what a process that reads attachments could do, and tells the log.
func (rd *Reader) TryConfinement(ctx context.Context) {
	could, err := child.Confined(ctx, rd.Ready, rd.Spool)
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		rd.Log.Warn("it could not be tried out what processes that read attachments may do here", "error", err)
		return
	case len(could) > 0:
		rd.Log.Warn("this system does not confine the processes that read attachments fully", "they could",
			strings.Join(could, ", "))
	default:
		rd.Log.Info("processes that read attachments can open no other files, connections or programs")
	}
	rd.confined.Store(&could)
}
