package engine

import (
	"strings"

	"inktray.example/inktray/internal/child"
)

// Confined says what processes that read attachments could do here beyond reading them, in words such as "open
// connections": none where they are confined fully. known is false until it was tried out, or where it cannot be.
func (e *Engine) Confined() (could []string, known bool) {
	if c := e.confined.Load(); c != nil {
		return *c, true
	}
	return nil, false
}

// tryConfinement tries out what a process that reads attachments could do, and tells the log.
func (e *Engine) tryConfinement() {
	could, err := child.Confined(e.ctx, e.Ready, e.Spool)
	switch {
	case e.ctx.Err() != nil:
		return
	case err != nil:
		e.Log.Warn("it could not be tried out what processes that read attachments may do here", "error", err)
		return
	case len(could) > 0:
		e.Log.Warn("this system does not confine the processes that read attachments fully", "they could",
			strings.Join(could, ", "))
	default:
		e.Log.Info("processes that read attachments can open no other files, connections or programs")
	}
	e.confined.Store(&could)
}
