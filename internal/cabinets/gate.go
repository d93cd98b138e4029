// Package cabinets looks after the places where files go: it opens each of them once, closes a failing one for a while
// (circuit breaker), proves that this run is the only one that files there (lease), moves cabinets to other places, and
// notices other installations that file the same mail. It guarantees that nothing is published in a cabinet without the
// lease, nor while the cabinet moves. It never decides what is filed.
package cabinets

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/store"
)

// Config is what Cabinets are given. Every field but LeaseBeat and OnMoved is needed.
type Config struct {
	*base.Base
	Office      *office.Office
	Passes      *passes.Passes
	Data        string // the folder of the records: nothing is filed into it
	OpenCabinet func(c *store.Cabinet) (cabinet.Cabinet, error)
	// Prepare makes a place into a cabinet and returns its identity.
	Prepare func(ctx context.Context, c *store.Cabinet, now time.Time) (identity string, err error)
	// Browse lists a place on a server that need not be a cabinet. It first makes a folder in it, where one is named.
	Browse func(ctx context.Context, c *store.Cabinet, made string) ([]cabinet.Entry, error)
	// LeaseBeat is how often this run says in a cabinet that it is there; 0 for the usual, 15 seconds.
	LeaseBeat time.Duration
	// Turn is since which turn of the machines that work by turns this one works, as long as it is its turn; 0 otherwise.
	// Runs of earlier turns have ended. nil where no other machine takes turns.
	Turn func() int64
	// OnMoved is called once a cabinet has moved, so that what was staged in it is looked after.
	OnMoved func(ctx context.Context, cabinetID string)
}

// Cabinets are those of this installation. Its methods may be called by several goroutines at once.
type Cabinets struct {
	Config
	mutex  sync.Mutex
	gates  map[string]*Gate // by the cabinet's id
	moving bool             // a cabinet is being moved
	closed map[string]bool  // cabinets in which nothing is filed before they were compared with restored records, by id
	asked  atomic.Int64     // grows when it may have changed which mailboxes are filed from
}

// New makes Cabinets none of which is opened yet.
func New(c Config) *Cabinets {
	return &Cabinets{Config: c, gates: map[string]*Gate{}, closed: map[string]bool{}}
}

// Gate is a cabinet's circuit breaker. After a failure nothing is tried for a pause that grows with each failure, so
// that a cabinet that is down does not delay the others.
type Gate struct {
	owner   *Cabinets
	Row     store.Cabinet
	Cabinet cabinet.Cabinet

	Replacing sync.Mutex // one replacement at a time: each looks at what is there first
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

// Gate finds a cabinet's gate.
func (cs *Cabinets) Gate(ctx context.Context, id string) (*Gate, error) {
	cs.mutex.Lock()
	g := cs.gates[id]
	cs.mutex.Unlock()
	if g != nil {
		return g, nil
	}
	row, err := cs.Store.Cabinets.ByID(ctx, id)
	if err != nil {
		return nil, err
	}
	c, err := cs.OpenCabinet(&row)
	if err != nil {
		return nil, err
	}
	cs.mutex.Lock()
	defer cs.mutex.Unlock()
	if there := cs.gates[id]; there != nil {
		c.Close()
		return there, nil
	}
	g = &Gate{owner: cs, Row: row}
	g.Cabinet = &held{Cabinet: c, holds: g.holds}
	cs.gates[id] = g
	return g, nil
}

// ForgetCabinet lets go of a cabinet that was removed.
func (cs *Cabinets) ForgetCabinet(id string) {
	cs.mutex.Lock()
	g := cs.gates[id]
	delete(cs.gates, id)
	cs.mutex.Unlock()
	if g != nil {
		ctx, cancel := context.WithTimeout(context.Background(), leaving)
		defer cancel()
		g.leave(ctx)
		g.Cabinet.Close()
	}
}

// Close lets go of all cabinets, at the end of a run.
func (cs *Cabinets) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), leaving)
	defer cancel()
	var leave sync.WaitGroup
	for _, g := range cs.gates {
		leave.Go(func() {
			g.leave(ctx)
			g.Cabinet.Close()
		})
	}
	leave.Wait()
	cs.endRun()
}

// Named finds the gate of a cabinet by the cabinet's name; nil where it cannot be opened.
func (cs *Cabinets) Named(ctx context.Context, name string) *Gate {
	row, err := cs.Store.Cabinets.Named(ctx, name)
	if err != nil {
		return nil
	}
	g, err := cs.Gate(ctx, row.ID)
	if err != nil {
		return nil
	}
	return g
}

// RemoveFolder removes a folder in which nothing is; removed is false where the cabinet cannot do that.
func (g *Gate) RemoveFolder(ctx context.Context, folder string) (removed bool, err error) {
	pruner, ok := g.plain().(cabinet.Pruner)
	whole, changes := g.Cabinet.(*held)
	if !ok || !changes {
		return false, nil
	}
	err = whole.publish(ctx, func() (err error) { removed, err = pruner.RemoveFolder(ctx, folder); return err })
	return removed, err
}

// ClosedError says that a cabinet is not to be tried now.
type ClosedError struct {
	Until   time.Time
	problem error
}

func (e *ClosedError) Error() string { return e.problem.Error() }

// BackupFolder is the folder of a cabinet in which backups are kept.
const BackupFolder = "Ink Tray backups"

// Shut lets nothing be filed in a cabinet before it is opened.
func (cs *Cabinets) Shut(id string) {
	cs.mutex.Lock()
	defer cs.mutex.Unlock()
	cs.closed[id] = true
}

// Open ends what Shut began.
func (cs *Cabinets) Open(id string) {
	cs.mutex.Lock()
	defer cs.mutex.Unlock()
	delete(cs.closed, id)
}

// Closed says whether a cabinet is shut.
func (cs *Cabinets) Closed(id string) bool {
	cs.mutex.Lock()
	defer cs.mutex.Unlock()
	return cs.closed[id]
}

// errShut is why nothing is filed in a cabinet that is shut.
var errShut = errors.New("the cabinet is first compared with the records, which were restored from a backup")

// Ready proves that the cabinet can be written to, unless that was proved just now, and that it is not shut.
func (g *Gate) Ready(ctx context.Context) error {
	if g.owner.Closed(g.Row.ID) {
		return &ClosedError{g.owner.Clock().Add(g.owner.Beat), errShut}
	}
	return g.Reachable(ctx)
}

// Reachable proves that the cabinet can be written to, unless that was proved just now.
func (g *Gate) Reachable(ctx context.Context) error {
	now := g.owner.Clock()
	g.mutex.Lock()
	if now.Before(g.until) {
		defer g.mutex.Unlock()
		return &ClosedError{g.until, g.problem}
	}
	if g.failures == 0 && now.Sub(g.checked) < checkFor {
		g.mutex.Unlock()
		return nil
	}
	g.mutex.Unlock()
	if err := g.Cabinet.Check(ctx); err != nil {
		return g.Trip(ctx, err)
	}
	if err := g.holds(ctx); err != nil {
		return g.Trip(ctx, err)
	}
	g.mutex.Lock()
	closed := g.failures > 0 || !g.proved // a run before this one may have told of it
	g.proved = true
	g.failures, g.until, g.problem, g.checked = 0, time.Time{}, nil, now
	g.mutex.Unlock()
	if err := g.owner.Store.Alarms.EndOutage(ctx, "cabinet", g.Row.ID); err != nil {
		return err
	}
	if closed {
		if _, err := g.owner.Store.Tray.Settle(ctx, "cabinet", g.Row.ID); err != nil {
			return err
		}
		if err := g.owner.Store.Journal.Hasten(ctx, g.Row.ID); err != nil {
			return err
		}
		g.owner.WakeAll()
		g.owner.Events.Send(events.Event{Kind: "cabinet", ID: g.Row.ID})
		g.owner.Events.Send(events.Event{Kind: "tray"})
	}
	return nil
}

// leaving is how long a run takes to say that it leaves a cabinet.
const leaving = 3 * time.Second

// Trip closes the gate for a while that doubles with every failure.
func (g *Gate) Trip(ctx context.Context, problem error) error {
	now := g.owner.Clock()
	g.mutex.Lock()
	g.failures++
	pause := g.owner.Pause(g.failures - 1)
	var asked *cabinet.Error
	if errors.As(problem, &asked) {
		pause = max(pause, asked.After)
	}
	g.until, g.problem = now.Add(pause), problem
	out := &ClosedError{g.until, problem}
	g.mutex.Unlock()
	if err := g.owner.Store.Alarms.BeginOutage(ctx, "cabinet", g.Row.ID, now); err != nil {
		g.owner.Log.Error("recording what is out of reach", "error", err)
	}
	g.owner.Log.Warn("a cabinet fails", "cabinet", g.Row.Name, "error", problem, "again in", pause)
	err := g.owner.Store.Tray.Tell(ctx, &store.Notice{Kind: "cabinet", Object: g.Row.ID,
		Text:   fmt.Sprintf("The cabinet “%s” cannot be used: %s.", g.Row.Name, phrase.TrimStop(problem.Error())),
		Advice: "Files for it wait. Ink Tray files them once the cabinet is back.", MadeAt: now})
	if err == nil {
		err = g.recovered(ctx)
	}
	if err != nil {
		g.owner.Log.Error("telling of a cabinet", "error", err)
	}
	g.owner.Events.Send(events.Event{Kind: "cabinet", ID: g.Row.ID})
	g.owner.Events.Send(events.Event{Kind: "tray"})
	return out
}

// recovered takes back what was told of a failure, where the cabinet was found in order while that was being told.
func (g *Gate) recovered(ctx context.Context) error {
	g.mutex.Lock()
	well := g.failures == 0
	g.mutex.Unlock()
	if !well {
		return nil
	}
	if err := g.owner.Store.Alarms.EndOutage(ctx, "cabinet", g.Row.ID); err != nil {
		return err
	}
	_, err := g.owner.Store.Tray.Settle(ctx, "cabinet", g.Row.ID)
	return err
}

// Down says whether the cabinet failed, and its pause is over at a moment, so that it is to be tried again.
func (g *Gate) Down(now time.Time) bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return g.failures > 0 && !now.Before(g.until)
}

// Problem says what is wrong with a cabinet, nil where nothing is known to be.
func (cs *Cabinets) Problem(cabinetID string) error {
	cs.mutex.Lock()
	g := cs.gates[cabinetID]
	cs.mutex.Unlock()
	if g == nil {
		return nil
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return g.problem
}

// CheckCabinet looks at a cabinet now.
func (cs *Cabinets) CheckCabinet(ctx context.Context, id string) error {
	g, err := cs.Gate(ctx, id)
	if err != nil {
		return err
	}
	g.mutex.Lock()
	g.until, g.checked = time.Time{}, time.Time{}
	g.mutex.Unlock()
	return g.Ready(ctx)
}
