// Package engine is the life of the service: it watches the mailboxes, plans
// what comes, files it exactly once, tries again what failed, and tells what
// happens while it happens. What is decided is decided in core.
package engine

import (
	"context"
	"crypto/x509"
	"net"
	"path/filepath"
	"sync"
	"time"

	"inktray.example/inktray/internal/backups"
	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/clock"
	"inktray.example/inktray/internal/desk"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/filing"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/turn"
)

// Config is what the engine is given. Every field but LeaseBeat, Waiting, RootCAs, Scanner and Patience is needed.
type Config struct {
	*base.Base
	Dial        func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error)
	OpenCabinet func(c *store.Cabinet) (cabinet.Cabinet, error)
	// Try goes through the steps of reaching a mailbox.
	Try        func(ctx context.Context, m *store.Mailbox, secret string) []source.Check
	Resolver   *net.Resolver // nil for the system's
	Mail       string        // folder for mail that is kept here
	DropDomain string        // of the drop addresses; "" where no mail is received
	// KeepMail sees to it that a file of Mail lasts elsewhere, too; nil where it is kept here only.
	KeepMail func(ctx context.Context, file string) error
	Spool    string // folder in which contents lie while they are worked on; emptied at the start
	// CrashReport is the file into which the Go runtime writes when this program ends by its own fault; "" for none.
	CrashReport string
	Version     string // of this program
	Ready       string // folder for what is made once for this machine and can be made again: the reader of PDFs
	// LeaseBeat is how often this run says in a cabinet that it is there; 0 for the usual, 15 seconds.
	LeaseBeat time.Duration
	// Turn is as in cabinets.Config; nil where no other machine takes turns with this one.
	Turn func() int64
	// Waiting opens the folder in which contents wait for a cabinet that is down; nil for one beside the spool.
	Waiting func() (disk.FS, error)
	// RootCAs are trusted where mail is sent; nil for the system's.
	RootCAs *x509.CertPool
	// Scanner is asked about viruses in what is filed; nil asks nobody.
	Scanner *scan.Scanner
	// Patience is how long the processes for one message may take while other new messages wait; 0 is the usual.
	Patience time.Duration
	Prepare  func(ctx context.Context, c *store.Cabinet, now time.Time) (string, error) // as in cabinets.Config
	Browse   func(ctx context.Context, c *store.Cabinet, made string) ([]cabinet.Entry, error)
}

// What goes wrong with mailboxes and cabinets, for those who tell people.
type (
	MailboxError = source.Error
	CabinetError = cabinet.Error
)

// Errors that the interface tells apart.
var (
	ErrMissing     = cabinet.ErrMissing // a file is not where it was filed
	ErrGone        = source.ErrGone
	ErrRenumbered  = source.ErrRenumbered
	ErrGaveNothing = source.ErrNothing
)

// Engine is the running service. Its methods may be called by several
// goroutines at once.
type Engine struct {
	Config
	Office    *office.Office       // the settings that messages are planned with
	Cabinets  *cabinets.Cabinets   // the places where files go
	Mailboxes *mailboxes.Mailboxes // how mailboxes are reached
	Reader    *reading.Reader      // what reads messages
	Filer     *filing.Filer        // what files their items
	Outbox    *outbox.Outbox       // what leaves the service
	Registry  *registry.Registry   // what the register offers
	Backups   *backups.Backups     // copies of everything that the installation consists of
	Rehearser *rehearsal.Rehearser // what says what rules would do
	Desk      *desk.Desk           // where people work on single messages

	mutex    sync.Mutex
	watchers map[string]*watcher
	passes   *passes.Passes
	reached  map[string]int // how often each mailbox was signed in to, by its id
	clock    *clock.Watch

	newMail turn.Precedence

	faults *fault.Judge
}

// New makes an engine that does nothing yet.
func New(c Config) *Engine {
	if c.Patience == 0 {
		c.Patience = reading.UsualPatience
	}
	e := &Engine{Config: c, watchers: map[string]*watcher{},
		passes: passes.New(), reached: map[string]int{}}
	e.clock, e.Office, e.faults = clock.New(c.Base), office.New(c.Base), &fault.Judge{Spool: c.Spool}
	e.Mailboxes = mailboxes.New(mailboxes.Config{Base: c.Base, Dial: c.Dial, Try: c.Try, Resolver: c.Resolver,
		Mail:       c.Mail,
		DropDomain: c.DropDomain, Keep: c.KeepMail, OnConsent: e.Watch})
	e.Reader = reading.New(reading.Config{Base: c.Base, Office: e.Office, Mailboxes: e.Mailboxes, Spool: c.Spool,
		Ready:    c.Ready,
		Resolver: c.Resolver, Scanner: c.Scanner})
	e.Cabinets = cabinets.New(cabinets.Config{Base: c.Base, Office: e.Office, Passes: e.passes,
		Data:        filepath.Dir(c.Spool),
		OpenCabinet: c.OpenCabinet, Prepare: c.Prepare, Browse: c.Browse, LeaseBeat: c.LeaseBeat, Turn: c.Turn,
		OnMoved: func(ctx context.Context, id string) { e.Filer.Recover(ctx, id) }})
	e.Filer = filing.New(filing.Config{Base: c.Base, Office: e.Office, Cabinets: e.Cabinets, Reader: e.Reader,
		Faults: e.faults,
		Data:   filepath.Dir(c.Spool), Waiting: c.Waiting, Beside: e.beside})
	e.Outbox = outbox.New(c.Base, e.Office, c.RootCAs)
	e.Outbox.Through = e.Mailboxes
	e.Registry = registry.New(registry.Config{Base: c.Base, Office: e.Office, Cabinets: e.Cabinets, Filer: e.Filer,
		Reader: e.Reader, Passes: e.passes,
		Watch: e.clock, Spool: c.Spool})
	e.Backups = backups.New(c.Base, e.Cabinets, filepath.Dir(c.Spool), c.Version)
	e.Rehearser = rehearsal.New(c.Base, e.Office, e.Cabinets, e.Mailboxes, e.Reader)
	e.Desk = desk.New(c.Base, e.Office, e.Mailboxes, e.Reader, e.Registry)
	c.Base.WakeAll, c.Base.Wake, c.Base.Hasten = e.wakeAll, e.rouse, e.Outbox.Hasten
	return e
}

// Start takes up what was left unfinished and begins to watch.
func (e *Engine) Start() error {
	var err error
	if e.Installation, err = e.Store.Settings.Installation(e.Context()); err != nil {
		return err
	}
	if err := e.Reader.EmptySpool(); err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{e.Filer.Open, e.countCrashes, e.Office.Load,
		e.Reader.BeginScans} {
		if err := step(e.Context()); err != nil {
			return err
		}
	}
	if err := e.Store.Passes.EndLive(e.Context(), e.Clock()); err != nil {
		return err
	}
	if err := e.Store.Verifications.End(e.Context(), e.Clock()); err != nil {
		return err
	}
	if err := e.clock.Tick(e.Context()); err != nil {
		return err
	}
	e.Go("trying out how far processes are confined", e.Reader.TryConfinement)
	e.Cabinets.BeginRun()
	cabinets, err := e.Store.Cabinets.All(e.Context())
	if err != nil {
		return err
	}
	if err := e.Registry.Comparison.Begin(e.Context(), cabinets); err != nil {
		return err
	}
	for _, c := range cabinets {
		if _, err := e.Store.Tray.Settle(e.Context(), "copy", c.ID); err != nil {
			return err
		}
		e.Filer.Recover(e.Context(), c.ID)
		e.Filer.Sweep(e.Context(), c.ID)
	}
	mailboxes, err := e.Store.Mailboxes.All(e.Context(), store.System)
	if err != nil {
		return err
	}
	if err := e.Mailboxes.SweepMail(mailboxes); err != nil {
		e.Log.Error("removing what was half delivered", "error", err) // the watchers say what is wrong with it
	}
	for _, m := range mailboxes {
		e.Watch(m.ID)
	}
	unfinished, err := e.Store.Passes.Unfinished(e.Context())
	if err != nil {
		return err
	}
	for i := range unfinished {
		e.runPass(&unfinished[i])
	}
	e.Go("looking after the cabinets", e.tend)
	e.Go("sending", e.Outbox.Carry)
	e.Go("removing what is old", e.Registry.KeepRetention)
	e.Go("reading the register", e.Registry.ReadRegister)
	e.Go("examining the records", e.Registry.ExamineAtStart)
	e.Go("writing register files", e.Registry.KeepRegisters)
	e.Go("verifying by plan", e.Registry.KeepVerifying)
	e.Go("keeping the words inside of files", registry.KeepWords(e.Registry))
	e.Backups.Start()
	return nil
}

// Stop ends all watching and waits until nothing is in hand.
func (e *Engine) Stop() {
	e.End()
	e.Events.Close()
	e.Cabinets.Close()
	e.Filer.Close()
	e.Registry.KeepIndex(context.WithoutCancel(e.Context()))
	child.Rest()
}

// Watch begins to watch a mailbox, or begins again after its settings changed.
func (e *Engine) Watch(mailboxID string) {
	e.Unwatch(mailboxID)
	e.Cabinets.Recheck()
	ctx, cancel := context.WithCancel(e.Context())
	w := &watcher{engine: e, mailbox: mailboxID, cancel: cancel, done: make(chan struct{}), wake: make(chan struct{}, 1),
		now:  make(chan struct{}, 1),
		slow: [2]chan struct{}{make(chan struct{}, 1), make(chan struct{}, 1)}, last: store.LastLane}
	w.set(Status{State: mailboxes.Connecting, Since: e.Clock()})
	e.mutex.Lock()
	e.watchers[mailboxID] = w
	e.mutex.Unlock()
	e.Go("watching a mailbox", func(context.Context) {
		defer close(w.done)
		var beside sync.WaitGroup
		for _, lane := range []store.Lane{store.SideLane, store.LastLane} {
			beside.Go(func() { w.runBeside(ctx, lane) })
		}
		w.run(ctx)
		beside.Wait()
	})
}

// Unwatch stops watching a mailbox and waits until it has stopped.
func (e *Engine) Unwatch(mailboxID string) {
	e.mutex.Lock()
	w := e.watchers[mailboxID]
	delete(e.watchers, mailboxID)
	e.mutex.Unlock()
	if w != nil {
		w.cancel()
		<-w.done
	}
}

// Status says how a mailbox does.
func (e *Engine) Status(mailboxID string) Status {
	if w := e.watcherOf(mailboxID); w != nil {
		return w.status()
	}
	return Status{State: mailboxes.NotWatched}
}

// watcherOf is a mailbox's watcher; nil where it is not watched.
func (e *Engine) watcherOf(mailboxID string) *watcher {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	return e.watchers[mailboxID]
}

// ClockSteady says whether this machine's clock can be trusted.
func (e *Engine) ClockSteady(ctx context.Context) (bool, error) { return e.clock.Steady(ctx) }

// TryNow ends the pause that a mailbox's watcher makes after a failure.
func (e *Engine) TryNow(mailboxID string) {
	if w := e.watcherOf(mailboxID); w != nil {
		signal(w.now)
	}
}

// arrived notes that a mailbox was signed in to.
func (e *Engine) arrived(mailboxID string) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	e.reached[mailboxID]++
}

// arrivals is how often a mailbox was signed in to since the start.
func (e *Engine) arrivals(mailboxID string) int {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	return e.reached[mailboxID]
}

// rouse lets a mailbox's watcher look at once.
func (e *Engine) rouse(mailboxID string) {
	if w := e.watcherOf(mailboxID); w != nil {
		w.rouse()
	}
}

// wakeAll lets every watcher look at once.
func (e *Engine) wakeAll() {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	for _, w := range e.watchers {
		w.rouse()
	}
}

// tend finishes what was staged when a cabinet failed, once it is back.
func (e *Engine) tend(ctx context.Context) {
	ticker := time.NewTicker(e.Beat)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if err := e.clock.Tick(ctx); err != nil {
			e.Log.Error("noting the time", "error", err)
		}
		cabinets, err := e.Store.Cabinets.All(ctx)
		if err != nil {
			e.Log.Error("reading the cabinets", "error", err)
			continue
		}
		for _, c := range cabinets {
			g, err := e.Cabinets.Gate(ctx, c.ID)
			if err != nil {
				continue
			}
			if g.Down(e.Clock()) && g.Ready(ctx) == nil {
				e.WakeAll()
			}
			g.Beat(ctx)
			e.Filer.Recover(ctx, c.ID)
		}
		e.Filer.FileKept(ctx)
		e.Registry.TakeBack(ctx)
	}
}
