package engine

import (
	"context"
	"strings"

	"inktray.example/inktray/internal/child"
)

// Confinement is what processes that read attachments could do here beyond reading them, as it was tried out at the
// start.
type Confinement struct {
	Could []string // in words, such as "open connections"; none where they are confined fully
	Known bool     // it could be tried out
}

// Confined says how far this machine confines the processes that read attachments; false until it was tried out.
func (e *Engine) Confined() (Confinement, bool) {
	c := e.confined.Load()
	if c == nil {
		return Confinement{}, false
	}
	return *c, true
}

// tryConfinement tries out what a process that reads attachments could do, and tells the log.
func (e *Engine) tryConfinement() {
	ctx, cancel := context.WithCancel(e.ctx)
	defer cancel()
	could, err := child.Confined(ctx, e.Ready, e.Spool)
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		e.Log.Warn("it could not be tried out what processes that read attachments may do here", "error", err)
	case len(could) > 0:
		e.Log.Warn("this system does not confine the processes that read attachments fully", "they could",
			strings.Join(could, ", "))
	default:
		e.Log.Info("processes that read attachments can open no other files, connections or programs")
	}
	e.confined.Store(&Confinement{Could: could, Known: err == nil})
}
