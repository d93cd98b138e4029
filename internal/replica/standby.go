package replica

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/benbjohnson/litestream"
	"github.com/superfly/ltx"
)

// StandbyConfig says of what a machine keeps a second copy, and where.
type StandbyConfig struct {
	Place      Place
	Passphrase string
	Data       string        // the folder that the records have once this machine works
	Records    Records       // what they are called
	Machine    string        // its name, for people
	For        time.Duration // how long the lease lasts that it takes
	Newest     int           // the newest version of records that this program can read
	Poll       time.Duration // between two looks; 0 for half a second
	Log        *slog.Logger
}

// Standby keeps a second copy of an installation fresh, until this machine takes over. Its methods may be called by
// several goroutines at once.
type Standby struct {
	config StandbyConfig
	folder string // the name of the folder of records
	watch  *Watch

	mutex  sync.Mutex
	status StandbyStatus
}

// StandbyStatus is how a standby does.
type StandbyStatus struct {
	Machine string
	Active  Held      // whose turn it is
	Copy    time.Time // of when the newest change is that the copy has; zero where there is none
	Fresh   bool      // the copy has everything that came to the place, save that of the last ten seconds
	Problem string    // why it could not take over, "" where it could
}

// standbyFolder is where the copy is, in the folder of the records, and where standbys say at the place that they are
// there.
const standbyFolder = "standby"

// Waiting is what a standby says of itself at the place.
type Waiting struct {
	Folder  string    `json:"folder"`
	Machine string    `json:"machine"`
	Copy    time.Time `json:"copy"`
	Fresh   bool      `json:"fresh"`
	Problem string    `json:"problem,omitempty"`
	At      time.Time `json:"at"` // by its own clock
}

// NewStandby makes a Standby. What lies in its folder of records and is not what the machine before wrote is put aside
// by Run.
func NewStandby(c StandbyConfig) (*Standby, error) {
	if c.Poll == 0 {
		c.Poll = 500 * time.Millisecond
	}
	name, err := FolderName(c.Data)
	if err != nil {
		return nil, err
	}
	return &Standby{config: c, folder: name, watch: NewWatch(c.Place), status: StandbyStatus{Machine: c.Machine}}, nil
}

// Status says how the standby does.
func (s *Standby) Status() StandbyStatus {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.status
}

func (s *Standby) set(f func(*StandbyStatus)) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	f(&s.status)
}

// Run keeps the copy fresh until this machine has the lease and the newest records in its folder, or ctx ends. The
// lease is kept from then on, until it is given away or lost, or life ends.
func (s *Standby) Run(ctx, life context.Context) (*Lease, error) {
	var copying *follower
	defer func() { copying.stop() }()
	said := time.Time{}
	for {
		l, free, err := s.watch.Look(ctx, s.folder)
		own := false
		if err == nil {
			s.set(func(st *StandbyStatus) { st.Active = l })
			own, err = s.own(l)
		}
		switch {
		case err != nil:
		case l.Number == 0:
			err = errors.New("no machine has worked with a lease yet; start the first one with inktray serve --lease")
		case own:
			s.set(func(st *StandbyStatus) { st.Copy, st.Fresh = l.At, true })
		default:
			if copying, err = s.follow(ctx, copying, l.History); err == nil {
				err = s.compare(ctx, copying)
			}
		}
		if err == nil && free {
			var lease *Lease
			lease, err = s.takeOver(ctx, life, own, copying, l)
			switch {
			case err == nil:
				s.unsay(ctx)
				return lease, nil
			case errors.Is(err, ErrHeld):
				err = nil // another one was faster
			}
		}
		if err != nil && ctx.Err() == nil {
			if before := s.Status().Problem; before != err.Error() && !errors.Is(err, errCopying) {
				s.config.Log.Warn("this machine could not take over", "problem", err)
			}
			s.set(func(st *StandbyStatus) {
				if st.Problem = err.Error(); errors.Is(err, errCopying) {
					st.Problem = "" // that it has no copy is said by itself
				}
			})
		} else if err == nil {
			s.set(func(st *StandbyStatus) { st.Problem = "" })
		}
		if time.Since(said) > 3*time.Second {
			said = time.Now()
			_ = s.say(ctx) // it is said again
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(s.config.Poll):
		}
	}
}

// follower keeps the copy of one history up to date.
type follower struct {
	pages   *pages
	history string
	records string
	cancel  context.CancelFunc
	done    chan struct{} // closed once it has ended
	err     error         // why, then
	fresh   freshness
}

func (f *follower) stop() {
	if f != nil {
		f.cancel()
		<-f.done
	}
}

// at is the newest transaction of the copy; 0 where there is none yet.
func (f *follower) at() ltx.TXID {
	id, err := litestream.ReadTXIDFile(f.records)
	if err != nil {
		return 0
	}
	return id
}

// follow follows a history, in the place of another one.
func (s *Standby) follow(ctx context.Context, now *follower, history string) (*follower, error) {
	if now != nil && now.history == history {
		select {
		case <-now.done: // such as: what it needs next is not kept any more; it begins again
			if now.err != nil && ctx.Err() == nil {
				s.config.Log.Warn("the copy is read again from the replica", "problem", now.err)
			}
			if err := s.removeCopies(""); err != nil {
				return nil, err
			}
		default:
			return now, nil
		}
	} else {
		now.stop()
	}
	if history == "" {
		return nil, errors.New("the active machine has written nothing into the replica yet")
	}
	if err := s.removeCopies(history); err != nil {
		return nil, err
	}
	return s.startCopy(ctx, history, time.Second)
}

func (s *Standby) startCopy(ctx context.Context, history string, every time.Duration) (*follower, error) {
	k, err := readKeys(ctx, s.config.Place, s.config.Passphrase)
	if err != nil {
		return nil, err
	}
	id, err := age.ParseX25519Identity(k.Identity)
	if err != nil {
		return nil, err
	}
	p := newPages(s.config.Place, path.Join(historyFolder, history), id)
	return copying(ctx, p, filepath.Join(s.config.Data, standbyFolder), s.config.Records.Name, every, s.config.Log, nil)
}

// copying copies a history into a folder of its name, and follows it. apply is as in pages, from when there is a copy.
func copying(ctx context.Context, p *pages, within, records string, every time.Duration, log *slog.Logger,
	apply func(*follower, io.ReadCloser) (io.ReadCloser, error)) (*follower, error) {
	history := path.Base(p.history)
	folder := filepath.Join(within, history)
	f := &follower{pages: p, history: history, records: filepath.Join(folder, records), done: make(chan struct{})}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	_, partly := os.Stat(filepath.Join(folder, halfway))
	if _, err := os.Stat(f.records); err == nil && (f.at() == 0 || partly == nil) { // it was being written at the end
		if err := inTurn(func() error { return os.RemoveAll(folder) },
			func() error { return os.MkdirAll(folder, 0o700) }); err != nil {
			return nil, err
		}
	}
	if apply != nil {
		p.apply = func(r io.ReadCloser) (io.ReadCloser, error) {
			if f.at() == 0 { // all of it is being put together, under another name
				return r, nil
			}
			return apply(f, r)
		}
	}
	var following context.Context
	following, f.cancel = context.WithCancel(context.WithoutCancel(ctx))
	options := litestream.NewRestoreOptions()
	options.OutputPath, options.Follow, options.FollowInterval = f.records, true, every
	go func() {
		defer close(f.done)
		f.err = newReader(f.pages, slog.New(warnings{log.Handler()})).Restore(following, options)
	}()
	return f, nil
}

// removeCopies removes the copies of other histories.
func (s *Standby) removeCopies(but string) error {
	return removeCopies(filepath.Join(s.config.Data, standbyFolder), but)
}

func removeCopies(within, but string) error {
	entries, err := os.ReadDir(within)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if e.Name() != but {
			err = errors.Join(err, os.RemoveAll(filepath.Join(within, e.Name())))
		}
	}
	return err
}

var errCopying = errors.New("the first copy is still being made")

// compare notes how fresh the copy is.
func (s *Standby) compare(ctx context.Context, f *follower) error {
	at := f.at()
	last, made, err := f.pages.reached(ctx, at)
	if err != nil {
		return err
	}
	s.set(func(st *StandbyStatus) {
		if st.Fresh = f.fresh.look(at, last.MaxTXID, time.Now()); !made.IsZero() {
			st.Copy = made
		}
	})
	if at == 0 {
		return errCopying
	}
	if version, err := versionOf(f.records); err == nil && version > s.config.Newest {
		return fmt.Errorf("the active machine runs a newer Ink Tray, whose records (version %d) this one cannot read; "+
			"bring this machine up to date", version)
	}
	return nil
}

// versionOf is the version of records, as their file says (SQLite's file format, 1.3: user version).
func versionOf(name string) (int, error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var b [4]byte
	_, err = f.ReadAt(b[:], 60)
	return int(binary.BigEndian.Uint32(b[:])), err
}

// own says whether the records of this machine are those that were written last: it worked last, and has no copy to
// make.
func (s *Standby) own(l Held) (bool, error) {
	mine, err := readLocal(s.config.Data)
	if err != nil || mine.History == "" || mine.History != l.History {
		return false, err
	}
	_, err = os.Stat(filepath.Join(s.config.Data, s.config.Records.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// takeOver takes the lease, brings the copy to its end, and puts it where the records belong.
func (s *Standby) takeOver(ctx, life context.Context, own bool, f *follower, seen Held) (*Lease, error) {
	began := time.Now()
	lease, err := Take(ctx, s.config.Place, seen, Held{Machine: s.config.Machine, Folder: s.folder, For: s.config.For,
		History: seen.History, At: time.Now().UTC()})
	if err != nil {
		return nil, err
	}
	s.config.Log.Info("this machine takes over", "from", seen.Machine, "given away", seen.Given)
	go lease.Keep(life, s.config.Log)
	if own {
		return lease, nil
	}
	err = s.finish(ctx, f, lease)
	if err == nil && !lease.Valid() {
		err = ErrLost
	}
	if err != nil {
		return nil, errors.Join(err, lease.Give(context.WithoutCancel(ctx)))
	}
	s.config.Log.Info("the newest records are here", "took", time.Since(began).Round(time.Millisecond))
	return lease, nil
}

// finish brings the copy to the end of its history, in which nobody writes any more, and puts it where it belongs.
func (s *Standby) finish(ctx context.Context, f *follower, lease *Lease) error {
	last, err := f.pages.last(ctx)
	if err != nil {
		return err
	}
	if f.at() < last.MaxTXID {
		f.stop()
		if f, err = s.startCopy(ctx, f.history, 20*time.Millisecond); err != nil {
			return err
		}
	}
	for f.at() < last.MaxTXID {
		if !lease.Valid() {
			return ErrLost
		}
		select {
		case <-ctx.Done():
			f.stop()
			return ctx.Err()
		case <-f.done:
			return fmt.Errorf("the newest records cannot be read: %w", f.err)
		case <-time.After(10 * time.Millisecond):
		}
	}
	f.stop()
	k, err := readKeys(ctx, s.config.Place, s.config.Passphrase)
	if err != nil {
		return err
	}
	id, err := age.ParseX25519Identity(k.Identity)
	if err != nil {
		return err
	}
	if err := SetAside(s.config.Data, s.config.Records, time.Now()); err != nil {
		return err
	}
	if _, err := putBack(ctx, s.config.Place, id, time.Time{}, s.config.Data); err != nil {
		return err
	}
	if err := s.config.Records.writeKey(s.config.Data, f.records, k); err != nil {
		return err
	}
	l, err := readLocal(s.config.Data)
	if err != nil {
		return err
	}
	l.History, l.Identity, l.Turns = "", k.Identity, true
	if err := l.write(s.config.Data); err != nil {
		return err
	}
	if err := os.Chmod(f.records, 0o600); err != nil {
		return err
	}
	// Last, so that a folder with records is complete.
	return os.Rename(f.records, filepath.Join(s.config.Data, s.config.Records.Name))
}

// asides is how many times records that were put aside are kept.
const (
	asides      = 3
	asidePrefix = "aside-"
	asideForm   = "20060102-150405.000"
)

// pruneAside removes records that were put aside before a moment.
func pruneAside(data string, before time.Time) error {
	all, err := filepath.Glob(filepath.Join(data, asidePrefix+"*"))
	for _, one := range all {
		at, timeErr := time.Parse(asideForm, strings.TrimPrefix(filepath.Base(one), asidePrefix))
		if err == nil && timeErr == nil && at.Before(before) {
			err = os.RemoveAll(one)
		}
	}
	return err
}

// SetAside moves records and what belongs to them out of the way, into a folder of their own beside them. The last
// three that were put aside are kept.
func SetAside(data string, of Records, now time.Time) error {
	before, err := filepath.Glob(filepath.Join(data, asidePrefix+"*")) // by name, so by time
	for len(before) >= asides && err == nil {
		err = os.RemoveAll(before[0])
		before = before[1:]
	}
	if err != nil {
		return err
	}
	aside := filepath.Join(data, asidePrefix+now.UTC().Format(asideForm))
	for _, name := range []string{of.Name, of.Name + "-wal", of.Name + "-shm", of.Key, of.Key + ".next",
		of.Key + ".former", "mail", "waiting", "staged", filepath.Join(localFolder, "pages")} {
		from := filepath.Join(data, name)
		if _, err := os.Lstat(from); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err := os.MkdirAll(aside, 0o700); err != nil {
			return err
		}
		if err := os.Rename(from, filepath.Join(aside, filepath.Base(name))); err != nil {
			return err
		}
	}
	return nil
}

// say says at the place that this machine waits.
func (s *Standby) say(ctx context.Context) error {
	st := s.Status()
	text, err := json.Marshal(Waiting{Folder: s.folder, Machine: st.Machine, Copy: st.Copy,
		Fresh: st.Fresh, Problem: st.Problem, At: time.Now().UTC()})
	if err != nil {
		return err
	}
	name := stamped(time.Now()) + "." + s.folder
	if err := put(ctx, s.config.Place, path.Join(standbyFolder, name), text); err != nil {
		return err
	}
	return s.remove(ctx, name)
}

// unsay takes back that this machine waits; what stays is not believed for long.
func (s *Standby) unsay(ctx context.Context) {
	if err := s.remove(ctx, ""); err != nil {
		s.config.Log.Warn("this machine still counts as one that waits", "problem", err)
	}
}

// remove removes what this machine said, but the newest.
func (s *Standby) remove(ctx context.Context, but string) error {
	all, err := s.config.Place.List(ctx, standbyFolder)
	for _, e := range all {
		if err == nil && e.Name != but && strings.HasSuffix(e.Name, "."+s.folder) {
			err = s.config.Place.Remove(ctx, path.Join(standbyFolder, e.Name))
		}
	}
	return err
}

// Standbys lists the machines that wait at a place.
func Standbys(ctx context.Context, p Place) (all []Waiting, err error) {
	entries, err := p.List(ctx, standbyFolder)
	if err != nil {
		return nil, err
	}
	newest := map[string]Waiting{}
	for _, e := range entries {
		text, err := read(ctx, p, path.Join(standbyFolder, e.Name))
		if isMissing(err) {
			continue // it says something newer
		}
		var w Waiting
		if err == nil {
			err = json.Unmarshal(text, &w)
		}
		if err != nil {
			return nil, err
		}
		if w.At.After(newest[w.Folder].At) {
			newest[w.Folder] = w
		}
	}
	for _, w := range newest {
		all = append(all, w)
	}
	return all, nil
}

// Own says whether the records in a folder are those that the holder of a lease wrote, or there never was one.
func Own(data string, l Held) (bool, error) {
	own, err := readLocal(data)
	return l.Number == 0 || l.History == "" || own.History == l.History, err
}

// inTurn does one thing after the other, up to the first that fails.
func inTurn(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
