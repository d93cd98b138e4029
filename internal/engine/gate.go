package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/store"
)

// gate stands before a cabinet. While the cabinet fails it is closed for a
// growing while, so that one cabinet that is down stops nothing else.
type gate struct {
	engine  *Engine
	row     store.Cabinet
	cabinet cabinet.Cabinet

	replacing sync.Mutex // one replacement at a time: each looks at what is there first
	lease     lease
	claims    claims

	mutex    sync.Mutex
	proved   bool // since the start
	failures int
	until    time.Time // closed until then
	checked  time.Time
	problem  error
}

// checkFor is how long a cabinet that was found in order is taken to be so.
const checkFor = time.Second

// gate finds a cabinet's gate.
func (e *Engine) gate(id string) (*gate, error) {
	e.mutex.Lock()
	g := e.gates[id]
	e.mutex.Unlock()
	if g != nil {
		return g, nil
	}
	row, err := e.Store.CabinetByID(id)
	if err != nil {
		return nil, err
	}
	c, err := e.OpenCabinet(&row)
	if err != nil {
		return nil, err
	}
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if there := e.gates[id]; there != nil {
		c.Close()
		return there, nil
	}
	g = &gate{engine: e, row: row}
	g.cabinet = &held{Cabinet: c, holds: g.holds}
	e.gates[id] = g
	return g, nil
}

// ForgetCabinet lets go of a cabinet that was removed.
func (e *Engine) ForgetCabinet(id string) {
	e.mutex.Lock()
	g := e.gates[id]
	delete(e.gates, id)
	e.mutex.Unlock()
	if g != nil {
		ctx, cancel := context.WithTimeout(context.Background(), leaving)
		defer cancel()
		g.leave(ctx)
		g.cabinet.Close()
	}
}

// closedError says that a cabinet is not to be tried now.
type closedError struct {
	until   time.Time
	problem error
}

func (e *closedError) Error() string { return e.problem.Error() }

// ready proves that the cabinet can be written to, unless that was proved just now.
func (g *gate) ready(ctx context.Context) error {
	now := g.engine.Clock()
	g.mutex.Lock()
	if now.Before(g.until) {
		defer g.mutex.Unlock()
		return &closedError{g.until, g.problem}
	}
	if g.failures == 0 && now.Sub(g.checked) < checkFor {
		g.mutex.Unlock()
		return nil
	}
	g.mutex.Unlock()
	if err := g.cabinet.Check(ctx); err != nil {
		return g.trip(err)
	}
	if err := g.holds(ctx); err != nil {
		return g.trip(err)
	}
	g.mutex.Lock()
	closed := g.failures > 0 || !g.proved // a run before this one may have told of it
	g.proved = true
	g.failures, g.until, g.problem, g.checked = 0, time.Time{}, nil, now
	g.mutex.Unlock()
	if err := g.engine.back("cabinet", g.row.ID); err != nil {
		return err
	}
	if closed {
		if _, err := g.engine.Store.Settle("cabinet", g.row.ID); err != nil {
			return err
		}
		if err := g.engine.Store.Hasten(g.row.ID); err != nil {
			return err
		}
		g.engine.WakeAll()
		g.engine.hub.send(Event{Kind: "cabinet", ID: g.row.ID})
		g.engine.hub.send(Event{Kind: "tray"})
	}
	return nil
}

// leaving is how long a run takes to say that it leaves a cabinet.
const leaving = 3 * time.Second

// trip closes the gate for a while that doubles with every failure.
func (g *gate) trip(problem error) error {
	now := g.engine.Clock()
	g.mutex.Lock()
	g.failures++
	pause := g.engine.Pause(g.failures - 1)
	var asked *cabinet.Error
	if errors.As(problem, &asked) {
		pause = max(pause, asked.After)
	}
	g.until, g.problem = now.Add(pause), problem
	out := &closedError{g.until, problem}
	g.mutex.Unlock()
	g.engine.out("cabinet", g.row.ID)
	g.engine.Log.Warn("a cabinet fails", "cabinet", g.row.Name, "error", problem, "again in", pause)
	err := g.engine.Store.Tell(&store.Notice{Kind: "cabinet", Object: g.row.ID, Text: fmt.Sprintf("The cabinet “%s” cannot be used: %s.", g.row.Name, trimStop(problem.Error())),
		Advice: "What is to be filed there waits and is filed by itself once the cabinet is back.", MadeAt: now})
	if err != nil {
		g.engine.Log.Error("telling of a cabinet", "error", err)
	}
	g.engine.hub.send(Event{Kind: "cabinet", ID: g.row.ID})
	g.engine.hub.send(Event{Kind: "tray"})
	return out
}

func (g *gate) down(now time.Time) bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return g.failures > 0 && !now.Before(g.until)
}

// Problem says what is wrong with a cabinet, nil where nothing is known to be.
func (e *Engine) Problem(cabinetID string) error {
	e.mutex.Lock()
	g := e.gates[cabinetID]
	e.mutex.Unlock()
	if g == nil {
		return nil
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return g.problem
}

// CheckCabinet looks at a cabinet now.
func (e *Engine) CheckCabinet(ctx context.Context, id string) error {
	g, err := e.gate(id)
	if err != nil {
		return err
	}
	g.mutex.Lock()
	g.until, g.checked = time.Time{}, time.Time{}
	g.mutex.Unlock()
	return g.ready(ctx)
}

func trimStop(s string) string {
	if len(s) > 0 && s[len(s)-1] == '.' {
		return s[:len(s)-1]
	}
	return s
}
