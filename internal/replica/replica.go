// Package replica keeps a copy of an installation at a place beside it, as it changes: the pages of the records by
// Litestream, and the files beside them. It knows which of two machines may work (the lease), keeps a second copy fresh
// from the place (the standby), and puts an installation back as it was at any moment that is kept.
//
// What a place holds, all of it written once and sealed but for the first two:
//
//	replica.json      whose replica it is
//	lease/NUMBER      which machine may work; the greatest number counts
//	keys/NUMBER.age   what opens the rest, sealed with the passphrase; the greatest number counts
//	history/NAME/…    the pages of the records, as one folder of records wrote them
//	files/…, gone/…   mail that only Ink Tray holds, and what waits for a cabinet
//	standby/…         the machines that wait
package replica

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/benbjohnson/litestream"

	"inktray.example/inktray/internal/disk"
)

// Config says what is replicated, and where to.
type Config struct {
	Place        Place
	Passphrase   string        // seals the keys at the place
	Data         string        // the folder of the records
	Records      string        // the name of the records in it
	Installation string        // names the installation
	Every        time.Duration // between two writings where nobody waits for them; 0 for a second
	Keep         time.Duration // how long earlier states are kept; 0 for seven days
	Lease        *Lease        // where another machine may take over; nil where none may
	Machine      string        // how this one is called
	Keys         func() [][32]byte
	Opened       func() error // the replica holds the log of the records from now on
	Clock        func() time.Time
	Log          *slog.Logger
}

// Status is how a replica does.
type Status struct {
	Place   string
	Begun   bool          // something is in it
	At      time.Time     // until when the records are in it, all of them
	Behind  time.Duration // the age of the oldest change that is not in it; 0 where all are
	Problem string        // why nothing can be written, "" where it can
	Since   time.Time     // since when
}

// Report is how a replica does, whose turn it is, and who waits.
type Report struct {
	Status
	Keep      time.Duration // how long states can be restored
	Earliest  time.Time     // the earliest state that can be; zero where it is not known yet
	Lease     time.Duration // after how long a silence another machine may take over; 0 where none may
	Machine   string
	Waiting   []Seen // by name
	NotListed string // why they cannot be listed
}

// Seen is what a machine that waits said last.
type Seen struct {
	Waiting
	Silent time.Duration // for how long it has said nothing new, by this machine's clock
}

// Replica keeps the replica of open records. Its methods may be called by several goroutines at once.
type Replica struct {
	config Config
	closed chan struct{} // nobody waits any more
	kick   chan struct{}

	syncing disk.Flushes
	meeting sync.Mutex // one at a time meets the place

	mutex   sync.Mutex
	open    *opened // nil until the place was met
	changed time.Time
	changes int64
	status  Status

	emptying bool // the log holds what was erased
	emptied  time.Time

	earliest  time.Time
	waiting   map[string]heard // by folder
	notListed string
}

// heard is what a machine said, and since when it has said nothing else.
type heard struct {
	said  Waiting
	since time.Time
}

// opened is a replica whose place was met.
type opened struct {
	db    *litestream.DB
	store *litestream.Store
	pages *pages
	files *files
	keys  keys
}

// local is what a folder of records remembers of its replica.
type local struct {
	Folder   string `json:"folder"`   // names this folder of records
	History  string `json:"history"`  // what it writes to
	Identity string `json:"identity"` // opens the replica
	Place    string `json:"place"`    // the place's own name
	Turns    bool   `json:"turns"`    // another machine may have taken over since
}

// about is what a place says of itself.
type about struct {
	Format       int    `json:"format"`
	Installation string `json:"installation"`
	Place        string `json:"place"` // names the place
}

const (
	aboutFile     = "replica.json"
	historyFolder = "history"
	localFolder   = "replica" // in the folder of the records
	localFile     = "state.json"
	format        = 1
)

// New makes a Replica. Nothing is written before Run.
func New(c Config) *Replica {
	if c.Every == 0 {
		c.Every = time.Second
	}
	if c.Keep == 0 {
		c.Keep = 7 * 24 * time.Hour
	}
	return &Replica{config: c, closed: make(chan struct{}), kick: make(chan struct{}, 1),
		status: Status{Place: c.Place.String()}}
}

// FolderName names the folder of records, and gives it its name where it has none.
func FolderName(data string) (string, error) {
	l, err := readLocal(data)
	if err != nil || l.Folder != "" {
		return l.Folder, err
	}
	l.Folder = strings.ToLower(newName())
	return l.Folder, l.write(data)
}

// TakesTurns says whether records ever had a lease, so that another machine may have taken over since.
func TakesTurns(data string) (bool, error) {
	l, err := readLocal(data)
	return l.Turns, err
}

// NoteTurns notes that records have a lease.
func NoteTurns(data string) error {
	l, err := readLocal(data)
	if err != nil || l.Turns {
		return err
	}
	l.Turns = true
	return l.write(data)
}

func readLocal(data string) (l local, err error) {
	text, err := os.ReadFile(filepath.Join(data, localFolder, localFile))
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &l)
	}
	return l, err
}

func (l *local) write(data string) error {
	folder := filepath.Join(data, localFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	text, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	part := filepath.Join(folder, localFile+partial)
	if err = writeFile(part, text); err == nil {
		err = os.Rename(part, filepath.Join(folder, localFile))
	}
	if err != nil {
		return err
	}
	return disk.Flush(folder)
}

// Run replicates until ctx ends.
func (r *Replica) Run(ctx context.Context) {
	var mirrored, pruned, asked time.Time
	took := time.Duration(0)
	for {
		err := r.Sync(ctx)
		o := r.opened()
		if err == nil && o != nil && time.Since(mirrored) > max(5*r.config.Every, 20*took) {
			mirrored = time.Now()
			err = r.mirror(ctx, o)
			took = time.Since(mirrored)
		}
		if err == nil && o != nil && time.Since(pruned) > time.Hour {
			pruned = time.Now()
			if err = r.prune(ctx, o); err == nil {
				err = r.empty(ctx)
			}
			r.note(err)
		}
		if r.config.Lease != nil && time.Since(asked) > hearEvery {
			asked = time.Now()
			r.hear(ctx)
		}
		wait := r.config.Every
		if err != nil {
			wait = max(wait, 2*time.Second)
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-r.kick:
			mirrored = time.Time{}
		case <-timer.C:
		}
		timer.Stop()
	}
}

// mirror brings the files beside the records to the place.
func (r *Replica) mirror(ctx context.Context, o *opened) error {
	left, err := o.files.mirror(ctx)
	if err == nil {
		r.note(left)
		return nil
	}
	r.note(err)
	return err
}

const (
	hearEvery = 4 * time.Second // how often machines that wait are looked for
	forgotten = 24 * time.Hour  // after such a silence a machine no longer counts as one that waits
)

// hear looks which machines wait.
func (r *Replica) hear(ctx context.Context) {
	all, err := Standbys(ctx, r.config.Place)
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if err != nil {
		r.notListed = err.Error()
		return
	}
	now := map[string]heard{}
	own := ""
	if r.config.Lease != nil {
		own = r.config.Lease.Held().Folder
	}
	for _, w := range all {
		if w.Folder == own { // it waited before
			continue
		}
		h := heard{w, time.Now()}
		if before, ok := r.waiting[w.Folder]; ok && before.said.At.Equal(w.At) {
			h.since = before.since
		}
		if time.Since(h.since) < forgotten {
			now[w.Folder] = h
		}
	}
	r.waiting, r.notListed = now, ""
}

// Report says how the replica does, and who waits.
func (r *Replica) Report() Report {
	out := Report{Status: r.Status(), Keep: r.config.Keep, Machine: r.config.Machine}
	if r.config.Lease != nil {
		out.Lease = r.config.Lease.Held().For
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	out.Earliest, out.NotListed = r.earliest, r.notListed
	last := map[string]heard{} // a machine whose disk was lost waits with another folder
	for _, h := range r.waiting {
		if before, ok := last[h.said.Machine]; !ok || h.since.After(before.since) {
			last[h.said.Machine] = h
		}
	}
	for _, h := range last {
		out.Waiting = append(out.Waiting, Seen{h.said, time.Since(h.since)})
	}
	slices.SortFunc(out.Waiting, func(a, b Seen) int { return strings.Compare(a.Machine, b.Machine) })
	return out
}

func (r *Replica) opened() *opened {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.open
}

// note remembers whether something could be written.
func (r *Replica) note(err error) {
	if err != nil && (errors.Is(err, context.Canceled) || errors.Is(err, errClosed)) {
		return
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	switch {
	case err == nil && r.status.Problem != "":
		r.config.Log.Info("the replica is written again")
		r.status.Problem, r.status.Since = "", time.Time{}
	case err != nil:
		if r.status.Problem == "" {
			r.status.Since = r.config.Clock()
			r.config.Log.Warn("the replica cannot be written", "problem", err)
		}
		r.status.Problem = err.Error()
	}
}

// Status says how the replica does.
func (r *Replica) Status() Status {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	s := r.status
	if !r.changed.IsZero() {
		s.Behind = time.Since(r.changed)
	}
	return s
}

// Committed notes that the records were changed. It does not wait.
func (r *Replica) Committed() {
	r.mutex.Lock()
	r.changes++
	if r.changed.IsZero() {
		r.changed = time.Now()
	}
	r.mutex.Unlock()
}

var errClosed = errors.New("the service ends")

// Sync brings everything that was committed before the call into the replica.
func (r *Replica) Sync(ctx context.Context) error {
	err := r.syncing.Do("", func() error {
		r.mutex.Lock()
		before, began := r.changes, time.Now()
		r.mutex.Unlock()
		o, err := r.meet(ctx)
		if err == nil {
			err = o.db.SyncAndWait(ctx)
		}
		r.note(err)
		if err != nil {
			return err
		}
		r.mutex.Lock()
		defer r.mutex.Unlock()
		r.status.At, r.status.Begun = r.config.Clock().UTC(), true
		if r.changed = (time.Time{}); r.changes != before {
			r.changed = began
		}
		return nil
	})
	return err
}

// Wait returns once everything that was committed before the call is in the replica, where another machine may take
// over: ErrLost where this one lost its lease first. Where none may, it returns at once.
func (r *Replica) Wait(ctx context.Context) error {
	if r.config.Lease == nil {
		return nil
	}
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		if !r.config.Lease.Valid() {
			return ErrLost
		}
		err := r.Sync(ctx)
		if err == nil {
			if !r.config.Lease.Valid() { // it can have reached the place too late
				return ErrLost
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-r.closed:
			return errClosed
		case <-r.config.Lease.Ended():
			return ErrLost
		case <-time.After(pause):
		}
	}
}

// Keep brings a file beside the records to the place before it returns, where another machine may take over: then its
// sender may be told that it lasts. Where none may, it follows soon.
func (r *Replica) Keep(ctx context.Context, name string) error {
	if r.config.Lease == nil {
		select {
		case r.kick <- struct{}{}:
		default:
		}
		return nil
	}
	o, err := r.meet(ctx)
	if err == nil {
		err = o.files.keep(ctx, name)
	}
	r.note(err)
	if err == nil && !r.config.Lease.Valid() {
		err = ErrLost
	}
	return err
}

// truncateEvery is how long the log of the records may hold what was erased: to empty it brings all pages to the place.
const truncateEvery = time.Hour

// Truncate sees to it that the log of the records is emptied, so that what was erased is in none of their files: now,
// or within an hour where it was emptied in the last one.
func (r *Replica) Truncate(ctx context.Context) error {
	r.mutex.Lock()
	r.emptying = true
	due := time.Since(r.emptied) > truncateEvery
	r.mutex.Unlock()
	if !due {
		return nil
	}
	return r.empty(ctx)
}

// empty empties the log of the records if that is asked for. Where it cannot be done now, it is done later.
func (r *Replica) empty(ctx context.Context) error {
	r.mutex.Lock()
	o, wanted := r.open, r.emptying
	r.mutex.Unlock()
	if o == nil || !wanted {
		return nil // nothing holds the log yet
	}
	before, err := o.logSalts()
	if err != nil {
		return err
	}
	for range 20 { // while all pages are being read for the replica, nothing is emptied
		if err := o.db.Checkpoint(ctx, litestream.CheckpointModeTruncate); err != nil {
			return fmt.Errorf("emptying the log of the records: %w", err)
		}
		now, err := o.logSalts()
		if err != nil {
			return err
		}
		if !bytes.Equal(before, now) {
			r.mutex.Lock()
			r.emptying, r.emptied = false, time.Now()
			r.mutex.Unlock()
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// logSalts are what changes whenever the log of the records begins anew (SQLite's file format, 4.1).
func (o *opened) logSalts() ([]byte, error) {
	f, err := os.Open(o.db.WALPath())
	if err != nil {
		return nil, err
	}
	defer f.Close()
	salts := make([]byte, 8)
	_, err = f.ReadAt(salts, 16)
	return salts, err
}

// NextKeys brings the keys of the records to the place before one of them is used.
func (r *Replica) NextKeys(ctx context.Context, all ...[32]byte) error {
	o, err := r.meet(ctx)
	if err != nil {
		return err
	}
	k := o.keys.with(all)
	if err := writeKeys(ctx, r.config.Place, r.config.Passphrase, k); err != nil {
		return fmt.Errorf("bringing the new key to the replica: %w", err)
	}
	r.mutex.Lock()
	o.keys = k
	r.mutex.Unlock()
	return nil
}

// GiveUp lets nobody wait any more for the place: the service ends.
func (r *Replica) GiveUp() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	select {
	case <-r.closed:
	default:
		close(r.closed)
	}
}

// Close ends the replication: what was committed is brought to the place first, as long as ctx lasts.
func (r *Replica) Close(ctx context.Context) error {
	err := r.Sync(ctx)
	if o := r.opened(); o != nil && err == nil {
		err = r.mirror(ctx, o)
	}
	r.GiveUp()
	if o := r.opened(); o != nil {
		err = errors.Join(err, o.store.Close(ctx))
	}
	return err
}

// permitted says whether this machine may write to the place.
func (r *Replica) permitted() error {
	if r.config.Lease != nil && !r.config.Lease.Valid() {
		return ErrLost
	}
	return nil
}

// meet meets the place at first use: looks whose it is, opens its keys or makes them, and begins a history where these
// records have none there.
func (r *Replica) meet(ctx context.Context) (*opened, error) {
	if o := r.opened(); o != nil {
		return o, nil
	}
	r.meeting.Lock()
	defer r.meeting.Unlock()
	if o := r.opened(); o != nil { // somebody else met it meanwhile
		return o, nil
	}
	if err := r.permitted(); err != nil {
		return nil, err
	}
	if s, ok := r.config.Place.(interface{ Sweep() }); ok {
		s.Sweep()
	}
	a, err := r.claim(ctx)
	if err != nil {
		return nil, err
	}
	l, err := readLocal(r.config.Data)
	if err != nil {
		return nil, err
	}
	k, err := r.ownKeys(ctx, l.Identity)
	if err != nil {
		return nil, err
	}
	id, err := age.ParseX25519Identity(k.Identity)
	if err != nil {
		return nil, err
	}
	if l.Place != a.Place || l.History == "" || l.Identity != k.Identity {
		if l.Folder == "" {
			l.Folder = strings.ToLower(newName())
		}
		l.History, l.Identity, l.Place = stamped(r.config.Clock()), k.Identity, a.Place
		if err := os.RemoveAll(r.localPages()); err != nil {
			return nil, err
		}
		if err := l.write(r.config.Data); err != nil {
			return nil, err
		}
	}
	o := &opened{keys: k, pages: newPages(r.config.Place, path.Join(historyFolder, l.History), id),
		files: &files{place: r.config.Place, data: r.config.Data, identity: id, permitted: r.permitted,
			clock: r.config.Clock}}
	o.pages.permitted = r.permitted
	if err := r.config.Opened(); err != nil {
		return nil, err
	}
	if err := r.begin(ctx, o); err != nil {
		return nil, err
	}
	if r.config.Lease != nil && r.config.Lease.Held().History != l.History {
		// From here on a machine that takes over reads this history, so all records have to be in it first, and the files.
		err := o.db.SyncAndWait(ctx)
		if err == nil {
			_, err = o.files.mirror(ctx)
		}
		if err == nil {
			err = r.config.Lease.SetHistory(ctx, l.History)
		}
		if err != nil {
			return nil, errors.Join(err, o.store.Close(context.WithoutCancel(ctx)))
		}
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	select {
	case <-r.closed:
		return nil, errors.Join(errClosed, o.store.Close(context.WithoutCancel(ctx)))
	default:
	}
	r.open = o
	return o, nil
}

func (r *Replica) localPages() string { return filepath.Join(r.config.Data, localFolder, "pages") }

// begin opens the records for the library that replicates them.
func (r *Replica) begin(ctx context.Context, o *opened) error {
	o.db = litestream.NewDB(filepath.Join(r.config.Data, r.config.Records))
	o.db.SetMetaPath(r.localPages())
	o.db.MonitorInterval = 0
	o.db.BusyTimeout = 10 * time.Second
	o.db.Replica = litestream.NewReplicaWithClient(o.db, o.pages)
	o.db.Replica.MonitorEnabled = false
	levels := make(litestream.CompactionLevels, len(litestream.DefaultCompactionLevels))
	for i, l := range litestream.DefaultCompactionLevels {
		one := *l
		levels[i] = &one
	}
	o.store = litestream.NewStore([]*litestream.DB{o.db}, levels)
	o.store.Logger = slog.New(warnings{r.config.Log.Handler()})
	o.db.SetLogger(o.store.Logger)
	o.store.SnapshotRetention = r.config.Keep
	o.store.SetShutdownSyncTimeout(0)
	return o.store.Open(ctx)
}

// claim looks whose replica is at the place, and makes it this installation's where it is nobody's.
func (r *Replica) claim(ctx context.Context) (a about, err error) {
	a, err = readAbout(ctx, r.config.Place)
	if errors.Is(err, ErrNone) {
		a = about{Format: format, Installation: r.config.Installation, Place: strings.ToLower(newName())}
		var text []byte
		if text, err = json.MarshalIndent(a, "", "  "); err != nil {
			return a, err
		}
		if err = put(ctx, r.config.Place, aboutFile, text); err == nil || isTaken(err) {
			a, err = readAbout(ctx, r.config.Place)
		}
	}
	if err == nil && a.Installation != r.config.Installation {
		err = fmt.Errorf("%s holds the replica of another installation; each needs a place of its own", r.config.Place)
	}
	return a, err
}

// readAbout reads whose replica is at a place: ErrNone where there is none.
func readAbout(ctx context.Context, p Place) (a about, err error) {
	text, err := read(ctx, p, aboutFile)
	if isMissing(err) {
		return a, ErrNone
	}
	if err == nil {
		err = json.Unmarshal(text, &a)
	}
	if err != nil {
		return a, err
	}
	if a.Format > format {
		return a, fmt.Errorf("the replica at %s was written by a newer Ink Tray; use that one, or a later one", p)
	}
	return a, nil
}

// ownKeys opens the keys of the place, or writes them: where there are none, where the passphrase was changed, and
// where the records have others.
func (r *Replica) ownKeys(ctx context.Context, identity string) (k keys, err error) {
	k, err = readKeys(ctx, r.config.Place, r.config.Passphrase)
	switch {
	case errors.Is(err, ErrPassphrase) && identity == "":
		return k, fmt.Errorf("%s: %w; give the one with which it was begun, or empty the place", r.config.Place, err)
	case err != nil && !errors.Is(err, ErrNone) && !errors.Is(err, ErrPassphrase):
		return k, err
	}
	want := k.with(r.config.Keys())
	if want.Identity == "" {
		want.Identity = identity
	}
	if want.Identity == "" {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return k, err
		}
		want.Identity = id.String()
	}
	if err == nil && k.same(&want) {
		return k, nil
	}
	return want, writeKeys(ctx, r.config.Place, r.config.Passphrase, want)
}

// skew is how much the clocks of two machines may differ.
const skew = time.Hour

// prune removes what nobody can want any more: histories of before that ended before the time for which states are
// kept, and files that went before it. A history ends where the next one begins, which its name says: what is in each
// need not be listed, since a place can have many.
func (r *Replica) prune(ctx context.Context, o *opened) error {
	before := r.config.Clock().Add(-r.config.Keep)
	names, err := histories(ctx, r.config.Place)
	if err != nil {
		return err
	}
	var earliest time.Time
	for i, name := range names {
		one := newPages(r.config.Place, path.Join(historyFolder, name), nil)
		one.permitted = r.permitted
		if i+1 < len(names) && one.history != o.pages.history {
			if next, _ := stampOf(names[i+1]); next.Add(skew).Before(before) {
				if err := one.DeleteAll(ctx); err != nil {
					return err
				}
				continue
			}
		}
		if !earliest.IsZero() {
			break
		}
		if earliest, _, err = one.bounds(ctx); err != nil {
			return err
		}
	}
	r.mutex.Lock()
	r.earliest = earliest
	r.mutex.Unlock()
	if err := pruneAside(r.config.Data, before); err != nil {
		return err
	}
	if err := r.pruneWaiting(ctx); err != nil {
		return err
	}
	return o.files.prune(ctx, before)
}

// pruneWaiting removes what machines said that have not waited for long.
func (r *Replica) pruneWaiting(ctx context.Context) error {
	entries, err := r.config.Place.List(ctx, standbyFolder)
	for _, e := range entries {
		if at, ok := stampOf(e.Name); err == nil && ok && r.config.Clock().Sub(at) > 2*forgotten {
			err = r.config.Place.Remove(ctx, path.Join(standbyFolder, e.Name))
		}
	}
	return err
}

// histories lists the histories of a place, the oldest first.
func histories(ctx context.Context, p Place) (names []string, err error) {
	entries, err := p.List(ctx, historyFolder)
	for _, e := range entries {
		if _, ok := stampOf(e.Name); ok && e.Folder {
			names = append(names, e.Name)
		}
	}
	slices.Sort(names) // each begins with its moment
	return names, err
}

// warnings is a log that leaves out what only tells that something was done.
type warnings struct{ slog.Handler }

func (w warnings) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && w.Handler.Enabled(ctx, l)
}

func (w warnings) WithAttrs(a []slog.Attr) slog.Handler { return warnings{w.Handler.WithAttrs(a)} }
func (w warnings) WithGroup(name string) slog.Handler   { return warnings{w.Handler.WithGroup(name)} }
