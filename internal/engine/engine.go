// Package engine is the life of the service: it watches the mailboxes, plans
// what comes, files it exactly once, tries again what failed, and tells what
// happens while it happens. What is decided is decided in core.
package engine

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Config is what the engine is given. Every field but Pause,
// Beat, Waiting and RootCAs is needed.
type Config struct {
	Store       *store.Store
	Clock       func() time.Time
	Zone        *time.Location
	Language    language.Tag
	Log         *slog.Logger
	Dial        func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error)
	OpenCabinet func(c *store.Cabinet) (cabinet.Cabinet, error)
	// Try goes through the steps of reaching a mailbox.
	Try        func(ctx context.Context, m *store.Mailbox, secret string) []source.Check
	Resolver   *net.Resolver // nil for the system's
	Mail       string        // folder for mail that is kept here
	DropDomain string        // of the drop addresses; "" where no mail is received
	Spool      string        // folder in which contents lie while they are worked on; emptied at the start
	// CrashReport is the file into which the Go runtime writes when this program
	// ends by its own fault; "" where it writes none.
	CrashReport string
	Ready       string // folder for what is made once for this machine and can be made anew: the reader of PDFs
	// Pause is how long to wait after so many failures in a row; nil for the
	// usual, from some seconds to five minutes.
	Pause func(failures int) time.Duration
	Beat  time.Duration // how often what waits is looked at; 0 for a second
	// LeaseBeat is how often this run says in a cabinet that it is there; 0 for the
	// usual, 15 seconds.
	LeaseBeat time.Duration
	// Waiting opens the folder in which contents wait for a cabinet that is down;
	// nil for one beside the spool.
	Waiting func() (disk.FS, error)
	// RootCAs are trusted where mail is sent; nil for the system's.
	RootCAs *x509.CertPool
	// Scanner is asked about viruses in what is filed; nil asks nobody.
	Scanner *scan.Scanner
	// Patience is how long the processes for one message may take while other new messages wait; 0 is the usual.
	Patience time.Duration
	// Prepare makes a place into a cabinet and returns its identity.
	Prepare func(ctx context.Context, c *store.Cabinet, now time.Time) (identity string, err error)
}

// What goes wrong with mailboxes and cabinets, for those who tell people.
type (
	MailboxError = source.Error
	CabinetError = cabinet.Error
)

// Errors that those who tell people tell apart.
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
	hub  *hub
	mark string // distinguishes this service's temporary objects in a cabinet
	run  string // and those of this run

	ctx    context.Context
	cancel context.CancelFunc
	tasks  sync.WaitGroup

	mutex       sync.Mutex
	rules       []*rule.Compiled // running, in order
	compiled    map[revision]*rule.Compiled
	watchers    map[string]*watcher
	gates       map[string]*gate
	passes      map[int64]*oldMail
	reached     map[string]int // how often each mailbox was signed in to, by its id
	takingIn    sync.Mutex
	registering sync.Mutex     // one at a time writes registers that are kept
	inHand      map[int64]bool // entries that a goroutine is filing
	verifying   bool
	moving      bool       // a cabinet is being moved
	undoing     sync.Mutex // one at a time takes filings back
	entering    sync.Mutex // and one enters files that were found
	caps        caps
	exports     exports
	consents    consents
	clock       clockWatch
	kept        disk.FS       // what waits for cabinets that are down
	wake        chan struct{} // what is to be sent

	book      *correspondent.Book
	passwords map[string][]string          // of archives, by the correspondent's name
	lookups   map[string]map[string]string // by folded names
	knowledge *knowledge                   // of the topics
	learning  sync.Mutex
	trust     Trust

	short    shortParts
	culprits culprits

	confined atomic.Pointer[[]string] // nil until it was tried out

	asked       atomic.Int64 // grows when it may have changed which mailboxes are filed from
	scannerAway atomic.Bool  // the virus scanner did not answer, or nobody knows yet
}

type revision struct {
	rule   string
	number int
}

// New makes an engine that does nothing yet.
func New(c Config) *Engine {
	ctx, cancel := context.WithCancel(context.Background())
	if c.Beat == 0 {
		c.Beat = time.Second
	}
	if c.Patience == 0 {
		c.Patience = usualPatience
	}
	if c.Pause == nil {
		c.Pause = pause
	}
	e := &Engine{Config: c, hub: newHub(), ctx: ctx, cancel: cancel, compiled: map[revision]*rule.Compiled{}, watchers: map[string]*watcher{},
		gates: map[string]*gate{}, passes: map[int64]*oldMail{}, reached: map[string]int{}, inHand: map[int64]bool{}, wake: make(chan struct{}, 1), run: strings.ToLower(store.NewID()[:8])}
	e.scannerAway.Store(true)
	return e
}

// Start takes up what was left unfinished and begins to watch.
func (e *Engine) Start() error {
	var err error
	if e.mark, err = e.Store.Setting("mark"); err == nil && e.mark == "" {
		e.mark = store.NewID()[:8]
		err = e.Store.SetSetting("mark", e.mark)
	}
	if err != nil {
		return err
	}
	if err := e.emptySpool(); err != nil {
		return err
	}
	if err := e.openWaiting(); err != nil {
		return err
	}
	if err := e.sweepKept(); err != nil {
		return err
	}
	if err := e.countCrashes(); err != nil {
		return err
	}
	if err := errors.Join(e.LoadBook(), e.LoadTopics(""), e.loadTrust(), e.LoadRules(), e.Store.EndLivePasses(e.Clock()), e.Store.EndVerifications(e.Clock())); err != nil {
		return err
	}
	if err := e.tick(); err != nil {
		return err
	}
	e.tasks.Go(e.tryConfinement)
	e.beginRun()
	cabinets, err := e.Store.Cabinets()
	if err != nil {
		return err
	}
	for _, c := range cabinets {
		if _, err := e.Store.Settle("copy", c.ID); err != nil {
			return err
		}
		e.recover(e.ctx, c.ID)
		e.sweep(e.ctx, c.ID)
	}
	mailboxes, err := e.Store.Mailboxes(store.System)
	if err != nil {
		return err
	}
	if err := e.sweepMail(mailboxes); err != nil {
		e.Log.Error("removing what was half delivered", "error", err) // the watchers say what is wrong with it
	}
	for _, m := range mailboxes {
		e.Watch(m.ID)
	}
	unfinished, err := e.Store.UnfinishedPasses()
	if err != nil {
		return err
	}
	for i := range unfinished {
		e.runPass(&unfinished[i])
	}
	e.tasks.Go(e.tend)
	e.tasks.Go(e.carry)
	e.tasks.Go(func() { // so that the first who asks need not wait
		if err := e.Store.Follow(); err != nil && e.ctx.Err() == nil {
			e.Log.Error("reading the register", "error", err)
		}
	})
	e.tasks.Go(func() {
		if _, err := e.ExamineRecords(e.ctx, false); err != nil && e.ctx.Err() == nil {
			e.Log.Error("looking whether the records are whole", "error", err)
		}
	})
	e.tasks.Go(e.keepRegisters)
	e.tasks.Go(e.keepVerifying)
	return nil
}

// ExamineRecords looks whether the records are whole, and tells where they are not.
func (e *Engine) ExamineRecords(ctx context.Context, full bool) ([]string, error) {
	found, err := e.Store.Examine(ctx, full)
	if err != nil {
		return found, err
	}
	if len(found) == 0 {
		_, err := e.Store.Settle("records", "records")
		return found, err
	}
	e.Log.Error("the records are damaged", "file", e.Store.Path(), "found", found)
	e.hub.send(Event{Kind: "tray"})
	err = e.Store.Tell(&store.Notice{Kind: "records", Object: "records", MadeAt: e.Clock(),
		Text: fmt.Sprintf("Ink Tray's records in %s are damaged: %s.", e.Store.Path(), found[0]), Advice: store.DamagedAdvice})
	if err != nil { // it may be what is damaged that cannot be written
		e.Log.Error("telling that the records are damaged", "error", err)
	}
	return found, nil
}

// emptySpool makes the folder to work in, without what a crash left there.
func (e *Engine) emptySpool() error {
	if err := os.RemoveAll(e.Spool); err != nil {
		return fmt.Errorf("emptying the folder to work in: %w", err)
	}
	if err := os.MkdirAll(e.Spool, 0o700); err != nil {
		return fmt.Errorf("making the folder to work in: %w", err)
	}
	return nil
}

// Stop ends all watching and waits until nothing is in hand.
func (e *Engine) Stop() {
	e.cancel()
	e.tasks.Wait()
	e.hub.close()
	ctx, cancel := context.WithTimeout(context.Background(), leaving)
	defer cancel()
	var leave sync.WaitGroup
	for _, g := range e.gates {
		leave.Go(func() {
			g.leave(ctx)
			g.cabinet.Close()
		})
	}
	leave.Wait()
	e.endRun()
	if e.kept != nil {
		e.kept.Close()
	}
}

// Watch begins to watch a mailbox, or begins anew after its settings changed.
func (e *Engine) Watch(mailboxID string) {
	e.Unwatch(mailboxID)
	e.asked.Add(1)
	ctx, cancel := context.WithCancel(e.ctx)
	w := &watcher{engine: e, mailbox: mailboxID, cancel: cancel, done: make(chan struct{}), wake: make(chan struct{}, 1), now: make(chan struct{}, 1),
		slow: [2]chan struct{}{make(chan struct{}, 1), make(chan struct{}, 1)}, last: store.LastLane}
	w.set(Status{State: Connecting, Since: e.Clock()})
	e.mutex.Lock()
	e.watchers[mailboxID] = w
	e.mutex.Unlock()
	e.tasks.Go(func() {
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
	e.mutex.Lock()
	w := e.watchers[mailboxID]
	e.mutex.Unlock()
	if w == nil {
		return Status{State: NotWatched}
	}
	return w.status()
}

// TryNow ends the pause that a mailbox's watcher makes after a failure.
func (e *Engine) TryNow(mailboxID string) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if w := e.watchers[mailboxID]; w != nil {
		w.tryNow()
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
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if w := e.watchers[mailboxID]; w != nil {
		w.rouse()
	}
}

// WakeAll lets every watcher look at once.
func (e *Engine) WakeAll() {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	for _, w := range e.watchers {
		w.rouse()
	}
}

// LoadRules reads the running rules anew after a change.
func (e *Engine) LoadRules() error {
	rows, err := e.Store.Rules()
	if err != nil {
		return err
	}
	var running []*rule.Compiled
	for _, r := range rows {
		if !r.Running {
			continue
		}
		c, err := e.rule(r.ID, r.Revision)
		if err != nil {
			e.Log.Error("a rule cannot run", "rule", r.Name, "error", err)
			if err := e.Store.Tell(&store.Notice{Kind: "rule", Object: r.ID, Text: fmt.Sprintf("The rule “%s” cannot run: %v.", r.Name, err), Advice: "Open the rule, correct it and save it.", MadeAt: e.Clock()}); err != nil {
				return err
			}
			continue
		}
		running = append(running, c)
	}
	e.mutex.Lock()
	e.rules = running
	e.mutex.Unlock()
	e.asked.Add(1)
	e.hub.send(Event{Kind: "rules"})
	e.WakeAll()
	return nil
}

// rule gives a rule as it was at a revision.
func (e *Engine) rule(id string, number int) (*rule.Compiled, error) {
	key := revision{id, number}
	e.mutex.Lock()
	c := e.compiled[key]
	e.mutex.Unlock()
	if c != nil {
		return c, nil
	}
	row, err := e.Store.Revision(id, number)
	if err != nil {
		return nil, err
	}
	document, err := rule.ParseRule([]byte(row.Document))
	if err != nil {
		return nil, err
	}
	if c, err = rule.Compile(document, number, e.Zone); err != nil {
		return nil, err
	}
	e.mutex.Lock()
	e.compiled[key] = c
	e.mutex.Unlock()
	return c, nil
}

func (e *Engine) running() []*rule.Compiled {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	return e.rules
}

// claim takes an entry in hand, so that no two goroutines file it.
func (e *Engine) claim(id int64) bool {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if e.inHand[id] {
		return false
	}
	e.inHand[id] = true
	return true
}

func (e *Engine) release(id int64) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	delete(e.inHand, id)
}

// tend finishes what was staged when a cabinet failed, once it is back.
func (e *Engine) tend() {
	ticker := time.NewTicker(e.Beat)
	defer ticker.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-ticker.C:
		}
		cabinets, err := e.Store.Cabinets()
		if err != nil {
			e.Log.Error("reading the cabinets", "error", err)
			continue
		}
		for _, c := range cabinets {
			g, err := e.gate(c.ID)
			if err != nil {
				continue
			}
			if g.down(e.Clock()) && g.ready(e.ctx) == nil {
				e.WakeAll()
			}
			g.beat(e.ctx)
			e.recover(e.ctx, c.ID)
		}
		e.fileKept(e.ctx)
		e.takeBack(e.ctx)
	}
}
