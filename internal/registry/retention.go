// Package registry serves the register: it writes it as files and exports, verifies that files are unchanged, tells the
// story of a filing, takes filings back, erases people's traces, enters files that were found, and removes what is old.
// It guarantees that nothing is removed while the clock is in doubt, and that each step of an undo can be repeated.
package registry

import (
	"context"
	"sync"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/clock"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/reading"
)

// Config is what a Registry is given.
type Config struct {
	*base.Base
	Office   *office.Office
	Cabinets *cabinets.Cabinets
	Filer    *filing.Filer
	Reader   *reading.Reader
	Passes   *passes.Passes
	Watch    *clock.Watch
	Spool    string // the folder in which exports are written
}

// Registry serves the register. Its methods may be called by several goroutines at once.
type Registry struct {
	Config
	Exports    *Exports
	Comparison *Comparison

	mutex       sync.Mutex
	verifying   bool
	registering sync.Mutex // one at a time writes register files
	undoing     sync.Mutex // one at a time takes filings back
	entering    sync.Mutex // one at a time enters files that were found
	exports     exports
}

// New makes a registry.
func New(c Config) *Registry {
	rg := &Registry{Config: c}
	rg.Exports, rg.Comparison = &Exports{rg}, &Comparison{rg}
	return rg
}

// sweepEvery is how often old records are looked for.
const sweepEvery = time.Hour

// KeepRetention removes what is old, once an hour, until the service ends.
func (rg *Registry) KeepRetention(ctx context.Context) {
	ticker := time.NewTicker(rg.Beat)
	defer ticker.Stop()
	var swept time.Time
	for {
		if now := rg.Clock(); now.Sub(swept).Abs() > sweepEvery {
			swept = now
			if err := rg.RemoveOld(ctx); err != nil && ctx.Err() == nil {
				rg.Log.Error("letting go of what is old", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// RemoveOld removes history and kept files that are older than Settings say.
func (rg *Registry) RemoveOld(ctx context.Context) error {
	rg.Exports.dropExports()
	limits, err := rg.Store.Settings.Limits(ctx)
	if err != nil {
		return err
	}
	if steady, err := rg.Watch.Steady(ctx); err != nil || !steady {
		return err
	}
	now := rg.Clock()
	if limits.HistoryDays > 0 {
		if _, err := rg.Store.Passes.Forget(ctx, now.AddDate(0, 0, -limits.HistoryDays)); err != nil {
			return err
		}
	}
	if limits.RegisterDays > 0 {
		erased, err := rg.Store.Erasure.EraseBefore(ctx, now.AddDate(0, 0, -limits.RegisterDays), now, 500)
		if err != nil {
			return err
		}
		if erased > 0 { // what was read of their scans goes with them, and examples did
			if err := rg.Reader.Scans.Forget(ctx); err != nil {
				return err
			}
			if err := rg.Office.LoadTopics(ctx, ""); err != nil {
				return err
			}
		}
	}
	if limits.AuditDays > 0 {
		if err := rg.Store.Trail.Forget(ctx, now.AddDate(0, 0, -limits.AuditDays)); err != nil {
			return err
		}
	}
	if limits.KeptDays == 0 {
		return nil
	}
	old, err := rg.Store.Register.KeptBefore(ctx, now.AddDate(0, 0, -limits.KeptDays), 1000)
	if err != nil {
		return err
	}
	for i := range old {
		g, err := rg.Cabinets.Gate(ctx, old[i].CabinetID)
		if err == nil {
			if err := g.Ready(ctx); err != nil {
				continue // once the cabinet is back
			}
			if err := cabinet.Forget(ctx, g.Cabinet, old[i].KeptAs); err != nil {
				return err
			}
		}
		if err := rg.Store.Register.LetGo(ctx, &old[i]); err != nil {
			return err
		}
	}
	return nil
}
