package cabinets

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// A run of the service files in a cabinet only while it holds the lease of its
// records there: two copies of one data folder would file everything twice. Each run
// keeps a note of its own in the cabinet, and reads those of the others.

const (
	leaseBeat = 15 * time.Second // how often a note is renewed
	leaseFor  = 2 * time.Second  // how long a lease that was looked at is taken to hold
	leaseLate = 10               // beats without a change after which a run elsewhere has ended, in thirds
)

// leaseNote is what a run says of itself in a cabinet.
type leaseNote struct {
	Run     string    `json:"run"`
	Host    string    `json:"host"`    // the machine, for people
	Process int       `json:"process"` // its number
	Space   string    `json:"space"`   // where that number counts; "" where that is not known
	Begun   string    `json:"begun"`   // when the process began, in the system's own count
	Taken   time.Time `json:"taken"`
	Files   bool      `json:"files"`          // it holds the lease
	Turn    int64     `json:"turn,omitempty"` // since which turn of several machines it works; 0 where there is one
	Beat    int       `json:"beat"`           // grows with every renewal
}

// runs are those of this process.
var runs = struct {
	sync.Mutex
	alive map[string]bool
}{alive: map[string]bool{}}

// lease is what a gate knows of its cabinet's lease.
type lease struct {
	mutex   sync.Mutex
	note    leaseNote
	written time.Time // by the monotonic clock, as the others
	looked  time.Time
	others  map[string]*otherRun
	told    bool // that another copy runs
	books   int64
}

type otherRun struct {
	text  string
	since time.Time // when it was first seen so
	moved bool      // it changed since it was first seen
}

// BeginRun enters this run of the program among those that are alive in this process, for the leases of cabinets.
func (cs *Cabinets) BeginRun() {
	runs.Lock()
	defer runs.Unlock()
	runs.alive[cs.Run] = true
}

func (cs *Cabinets) endRun() {
	runs.Lock()
	defer runs.Unlock()
	delete(runs.alive, cs.Run)
}

func (cs *Cabinets) leaseName(run string) string {
	return "lease-" + cs.Installation + "." + run + ".json"
}

// plain is the cabinet without what holds changes back, for what only some cabinets can do.
func (g *Gate) plain() cabinet.Cabinet {
	if h, ok := g.Cabinet.(*held); ok {
		return h.Cabinet
	}
	return g.Cabinet
}

// notebook is a cabinet's notebook, nil where it has none.
func (g *Gate) notebook() cabinet.Notebook {
	book, _ := g.plain().(cabinet.Notebook)
	return book
}

// holds proves that this run holds the cabinet's lease, and takes it where it is free.
func (g *Gate) holds(ctx context.Context) error {
	book := g.notebook()
	if book == nil {
		return nil
	}
	l := &g.lease
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.note.Files && time.Since(l.looked) < leaseFor {
		return nil
	}
	if l.note.Run == "" {
		l.others = map[string]*otherRun{}
		host, err := os.Hostname()
		if err != nil {
			host = "a machine without a name"
		}
		l.note = leaseNote{Run: g.owner.Run, Host: host, Process: os.Getpid(), Space: here(), Begun: begun(os.Getpid()),
			Turn: g.owner.turn()}
	}
	ahead, err := g.ahead(ctx, book)
	if err != nil {
		return err
	}
	if ahead == nil && !l.note.Files {
		if err := g.compareBooks(ctx, book); err != nil {
			return err
		}
		l.note.Files = true
		if err := g.renew(ctx, book); err != nil {
			l.note.Files = false
			return err
		}
		// Another may have taken it in the same moment: then both step back.
		if ahead, err = g.ahead(ctx, book); ahead == nil && err == nil {
			ahead = g.filing()
		}
		if err != nil || ahead != nil {
			l.note.Files = false
			if renewed := g.renew(ctx, book); renewed != nil {
				return renewed
			}
		}
		if err != nil {
			return err
		}
	}
	if ahead != nil {
		l.note.Files = false
		return g.second(ahead)
	}
	l.looked = time.Now()
	if err := g.writeBooks(ctx, book); err != nil {
		return err
	}
	return g.tellOfCopies(ctx)
}

// renew writes this run's note.
func (g *Gate) renew(ctx context.Context, book cabinet.Notebook) error {
	l := &g.lease
	if l.note.Taken.IsZero() {
		l.note.Taken = g.owner.Clock().UTC()
	}
	l.note.Beat++
	data, err := json.Marshal(&l.note)
	if err != nil {
		return err
	}
	if err := book.WriteNote(ctx, g.owner.leaseName(l.note.Run), data); err != nil {
		return err
	}
	l.written = time.Now()
	return nil
}

// ahead reads the notes of all runs, and finds one that has the lease before this one.
func (g *Gate) ahead(ctx context.Context, book cabinet.Notebook) (*leaseNote, error) {
	l, e := &g.lease, g.owner
	if l.written.IsZero() || time.Since(l.written) > e.leaseBeat() {
		if err := g.renew(ctx, book); err != nil {
			return nil, err
		}
	}
	notes, err := book.Notes(ctx, "lease-"+e.Installation+".")
	if err != nil {
		return nil, err
	}
	if _, mine := notes[e.leaseName(l.note.Run)]; !mine {
		// Somebody took this run for ended, or emptied the cabinet's own folder.
		l.note.Files, l.note.Taken = false, time.Time{}
		if err := g.renew(ctx, book); err != nil {
			return nil, err
		}
	}
	for name := range l.others {
		if _, there := notes[name]; !there {
			delete(l.others, name)
		}
	}
	var first *leaseNote
	for name, text := range notes {
		if name == e.leaseName(l.note.Run) {
			continue
		}
		other, over := g.ended(name, text)
		if over {
			if err := book.RemoveNote(ctx, name); err != nil {
				return nil, err
			}
			delete(l.others, name)
			continue
		}
		if ranks(other, &l.note) {
			first = other
		}
	}
	return first, nil
}

// ranks says whether a run has the lease before another: who files, and of two that
// file, or wait, who came first.
func ranks(a, b *leaseNote) bool {
	if a.Files != b.Files {
		return a.Files
	}
	if c := a.Taken.Compare(b.Taken); c != 0 {
		return c < 0
	}
	return a.Run < b.Run
}

// filing finds another run that files.
func (g *Gate) filing() *leaseNote {
	for _, o := range g.lease.others {
		if n := o.note(); n.Files {
			return n
		}
	}
	return nil
}

// note is the lease note of another run. A note that cannot be parsed may be incomplete, because it is being written,
// and counts as the note of a run that files.
func (o *otherRun) note() *leaseNote {
	n := leaseNote{}
	if err := json.Unmarshal([]byte(o.text), &n); err != nil || n.Run == "" {
		return &leaseNote{Run: "?", Host: "another machine", Files: true}
	}
	return &n
}

// ended says what another run says of itself, and whether it has ended.
func (g *Gate) ended(name string, text []byte) (*leaseNote, bool) {
	l, e := &g.lease, g.owner
	o := l.others[name]
	if o == nil {
		o = &otherRun{text: string(text), since: time.Now()}
		l.others[name] = o
	} else if o.text != string(text) {
		o.text, o.since, o.moved = string(text), time.Now(), true
	}
	n := o.note()
	if turn := e.turn(); turn > n.Turn && n.Turn > 0 { // its turn is over
		return n, true
	}
	if n.Space != "" && n.Space == l.note.Space { // of this machine: its process is there or not
		if n.Process == l.note.Process && n.Begun == l.note.Begun {
			runs.Lock()
			defer runs.Unlock()
			o.moved = runs.alive[n.Run]
		} else {
			o.moved = begun(n.Process) == n.Begun
		}
		return n, !o.moved
	}
	return n, time.Since(o.since) > e.leaseBeat()*leaseLate/3
}

// turn is since which turn of several machines this run works; 0 where there is one, or where its turn is over.
func (cs *Cabinets) turn() int64 {
	if cs.Turn == nil {
		return 0
	}
	return cs.Turn()
}

func (cs *Cabinets) leaseBeat() time.Duration {
	if cs.LeaseBeat > 0 {
		return cs.LeaseBeat
	}
	return leaseBeat
}

// second is why this run files nothing.
func (g *Gate) second(first *leaseNote) error {
	o := g.lease.others[g.owner.leaseName(first.Run)]
	if o == nil || !o.moved {
		return &cabinet.Error{Problem: fmt.Sprintf("an earlier run of this Ink Tray on %s did not say that it ended, and "+
			"it may still be running", first.Host),
			Advice: fmt.Sprintf("Ink Tray waits for up to %d seconds and goes on by itself if it has ended.",
				int((g.owner.leaseBeat()*leaseLate/3).Seconds())+1)}
	}
	return &cabinet.Error{Problem: fmt.Sprintf("another Ink Tray with the same records runs on %s (process %d) and "+
		"files here", first.Host, first.Process),
		Advice: "Stop one of the two. A copy of a data folder must not run beside the folder that it was copied from: both " +
			"would file the same messages."}
}

// tellOfCopies tells, and stops telling, that another run waits for this one to end.
func (g *Gate) tellOfCopies(ctx context.Context) error {
	l, e := &g.lease, g.owner
	var copies []string
	for _, o := range l.others {
		if n := o.note(); o.moved && n.Run != "?" {
			copies = append(copies, fmt.Sprintf("on %s (process %d)", n.Host, n.Process))
		}
	}
	switch {
	case len(copies) > 0 && !l.told:
		slices.Sort(copies)
		err := e.Store.Tray.Tell(ctx, &store.Notice{Kind: "copy", Object: g.Row.ID, MadeAt: e.Clock(),
			Text: fmt.Sprintf("A copy of this Ink Tray with the same records runs %s and wants to file in the cabinet “%s”. "+
				"It files nothing while this one runs.", strings.Join(copies, " and "), g.Row.Name),
			Advice: "Stop the copy, or stop this one if the copy is to take its place."})
		if err != nil {
			return err
		}
		l.told = true
	case len(copies) == 0 && l.told:
		if _, err := e.Store.Tray.Settle(ctx, "copy", g.Row.ID); err != nil {
			return err
		}
		l.told = false
	default:
		return nil
	}
	e.Events.Send(events.Event{Kind: "tray"})
	return nil
}

// Beat renews this run's note where it is due, also while the gate is closed, so that the run with the lease sees that
// another one is waiting.
func (g *Gate) Beat(ctx context.Context) {
	book := g.notebook()
	if book == nil {
		return
	}
	l := &g.lease
	l.mutex.Lock()
	due := l.note.Run != "" && time.Since(l.written) > g.owner.leaseBeat()
	if due && !l.note.Files {
		err := g.Cabinet.Check(ctx)
		if err == nil {
			err = g.renew(ctx, book)
		}
		if err != nil {
			g.owner.Log.Debug("renewing the note in a cabinet", "cabinet", g.Row.Name, "error", err)
			l.written = time.Now() // not at every beat
		}
		due = false
	}
	files := l.note.Files
	l.mutex.Unlock()
	if due && g.Ready(ctx) != nil || !files {
		return
	}
	if err := g.claimMailboxes(ctx); err != nil {
		g.owner.Log.Warn("saying in a cabinet which mailboxes are watched", "cabinet", g.Row.Name, "error", err)
	}
}

// leave takes this run's note away.
func (g *Gate) leave(ctx context.Context) {
	book := g.notebook()
	if book == nil {
		return
	}
	l := &g.lease
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.note.Run == "" {
		return
	}
	if l.note.Files {
		if err := g.writeBooks(ctx, book); err != nil {
			g.owner.Log.Debug("writing a note in a cabinet", "cabinet", g.Row.Name, "error", err)
		}
	}
	if err := book.RemoveNote(ctx, g.owner.leaseName(l.note.Run)); err != nil {
		g.owner.Log.Debug("removing the note in a cabinet", "cabinet", g.Row.Name, "error", err)
	}
	l.note = leaseNote{}
	l.written, l.looked = time.Time{}, time.Time{}
}
