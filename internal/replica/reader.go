package replica

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"filippo.io/age"
)

// ReaderConfig says whose records are read, and where their copy lies.
type ReaderConfig struct {
	Place      Place
	Passphrase string
	Folder     string // of the copy, which has it for itself
	Records    string // the name of their file
	Version    int    // the version of records that this program reads
	Poll       time.Duration
	Log        *slog.Logger
	Changed    func() // is called after the copy has changed; nil for nothing
}

// Reader keeps a copy of the records of another installation and lets it be read. It takes no turn: it never writes at
// the place. Its methods may be called by several goroutines at once.
type Reader struct {
	config ReaderConfig
	gate   gate

	mutex   sync.Mutex
	status  ReaderStatus
	serving string // the file that is read; "" where there is none yet
	history string // of serving
	source  string // the history that was the newest when all of them were looked at
	looked  time.Time
	met     time.Time // when it was looked whose records are at the place
	mixed   bool      // pages were written in part: the copy cannot be read before they are written again
}

// ReaderStatus is how fresh a copy is.
type ReaderStatus struct {
	Installation string    // whose records these are; "" before the place was met
	Copy         time.Time // of when the newest change is that the copy has; zero where there is none
	Fresh        bool      // the copy has everything that came to the place, save that of the last ten seconds
	Problem      string    // why the copy is not followed; "" where it is
}

// ErrNoCopy says that there is no copy to read yet.
var ErrNoCopy = errors.New("the records of this machine have not been read yet")

// NewReader makes a Reader. Run makes and keeps the copy.
func NewReader(c ReaderConfig) *Reader {
	if c.Poll == 0 {
		c.Poll = 700 * time.Millisecond
	}
	r := &Reader{config: c}
	r.gate.init()
	return r
}

// Status says how fresh the copy is.
func (r *Reader) Status() ReaderStatus {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.status
}

// Read lets f read the copy: the file does not change until f returns. change differs between two states of the copy,
// history between two files that do not follow from one another. ErrNoCopy where there is no copy yet.
func (r *Reader) Read(f func(file, history string, change int64) error) error {
	change := r.gate.enter()
	defer r.gate.leave()
	r.mutex.Lock()
	file, history := r.serving, r.history
	r.mutex.Unlock()
	if file == "" {
		return ErrNoCopy
	}
	return f(file, history, change)
}

// Run follows the records until ctx ends.
func (r *Reader) Run(ctx context.Context) {
	var following *follower
	defer func() { following.stop() }()
	told := ""
	for {
		var err error
		following, err = r.look(ctx, following)
		if ctx.Err() != nil {
			return
		}
		r.mutex.Lock()
		r.status.Problem = ""
		if err != nil && !errors.Is(err, errCopying) {
			r.status.Problem, r.status.Fresh = err.Error(), false
		}
		problem := r.status.Problem
		r.mutex.Unlock()
		if problem != told {
			if told = problem; problem != "" {
				r.config.Log.Warn("the records of another machine are not followed", "place", r.config.Place.String(),
					"problem", problem)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(r.config.Poll):
		}
	}
}

// look brings the copy on, and notes how fresh it is.
func (r *Reader) look(ctx context.Context, now *follower) (*follower, error) {
	if err := r.meet(ctx); err != nil {
		return now, err
	}
	history, err := r.newestHistory(ctx)
	if err != nil {
		return now, err
	}
	ended := false
	if now != nil {
		select {
		case <-now.done:
			ended = true
		default:
		}
	}
	if now == nil || ended || now.history != history {
		now.stop()
		if ended && now.err != nil { // such as: what it needs next is not kept any more
			r.config.Log.Warn("the copy of another machine's records is read again", "problem", now.err)
			if err := r.begin(now.history); err != nil {
				return nil, err
			}
		}
		k, err := readKeys(ctx, r.config.Place, r.config.Passphrase)
		if err != nil {
			return nil, err
		}
		id, err := age.ParseX25519Identity(k.Identity)
		if err != nil {
			return nil, err
		}
		p := newPages(r.config.Place, path.Join(historyFolder, history), id)
		if now, err = copying(ctx, p, r.config.Folder, r.config.Records, r.config.Poll, r.config.Log, r.apply); err != nil {
			return nil, err
		}
	}
	at := now.at()
	last, made, err := now.pages.reached(ctx, at)
	if err != nil {
		return now, err
	}
	r.mutex.Lock()
	mixed := r.mixed
	r.mutex.Unlock()
	if mixed {
		return now, errors.New("what came could not be written into the copy, as on a full disk; it is written again")
	}
	if at == 0 {
		return now, errCopying
	}
	version, err := versionOf(now.records)
	if err == nil && version != r.config.Version {
		err = fmt.Errorf("it runs another version of Ink Tray (its records have version %d, these %d); bring both "+
			"machines to the same one", version, r.config.Version)
	}
	if err != nil {
		r.set("", "")
		return now, err
	}
	r.mutex.Lock()
	changed := r.status.Copy
	if r.status.Fresh = now.fresh.look(at, last.MaxTXID, time.Now()); !made.IsZero() {
		r.status.Copy = made
	}
	fresh := r.serving != now.records || !changed.Equal(r.status.Copy)
	before := r.serving
	r.mutex.Unlock()
	if before != now.records {
		r.set(now.records, history)
		if err := removeCopies(r.config.Folder, history); err != nil {
			return now, err
		}
	}
	if fresh && r.config.Changed != nil {
		r.config.Changed()
	}
	return now, nil
}

// meet looks whose records are at the place, now and then.
func (r *Reader) meet(ctx context.Context) error {
	r.mutex.Lock()
	met := r.met
	r.mutex.Unlock()
	if !met.IsZero() && time.Since(met) < allHistories {
		return nil
	}
	a, err := readAbout(ctx, r.config.Place)
	if err == nil {
		r.mutex.Lock()
		r.status.Installation, r.met = a.Installation, time.Now()
		r.mutex.Unlock()
	}
	return err
}

// set says which file is read from now on.
func (r *Reader) set(file, history string) {
	r.gate.begin()
	r.mutex.Lock()
	r.serving, r.history = file, history
	r.mutex.Unlock()
	r.gate.end()
}

// Leave lets nobody read the copy any more, once those that do are done. Run has ended.
func (r *Reader) Leave() { r.set("", "") }

// begin removes the copy of a history, so that it is made anew.
func (r *Reader) begin(history string) error {
	r.mutex.Lock()
	read := r.history == history
	r.mutex.Unlock()
	if read {
		r.set("", "")
	}
	return os.RemoveAll(filepath.Join(r.config.Folder, history))
}

// allHistories is how often it is looked which history is the newest, where no machine says so by a lease, and whose
// records are at the place.
const allHistories = 15 * time.Second

func (r *Reader) newestHistory(ctx context.Context) (string, error) {
	l, err := readLease(ctx, r.config.Place)
	if err != nil || l.History != "" {
		return l.History, err
	}
	r.mutex.Lock()
	source, looked := r.source, r.looked
	r.mutex.Unlock()
	if source != "" && time.Since(looked) < allHistories {
		return source, nil
	}
	p, err := sourceAt(ctx, r.config.Place, nil, time.Time{})
	if err != nil {
		return "", err
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.source, r.looked = path.Base(p.history), time.Now()
	return r.source, nil
}

// halfway is the file that is there while pages are written into a copy: where it stays, the copy is of two states.
const halfway = "halfway"

// apply lets pages be written into the copy while nobody reads it. They have come from the place by then.
func (r *Reader) apply(f *follower, pages io.ReadCloser) (io.ReadCloser, error) {
	folder := filepath.Dir(f.records)
	whole, err := fetched(pages, folder)
	if err != nil {
		return nil, err
	}
	mark := filepath.Join(folder, halfway)
	if err := os.WriteFile(mark, nil, 0o600); err != nil {
		return nil, errors.Join(err, whole.Close())
	}
	r.gate.begin()
	return &applied{ReadCloser: whole, end: func(all bool) {
		if all {
			_ = os.Remove(mark) // else the copy is made anew at the next start
		}
		r.mutex.Lock()
		if r.mixed = !all; r.mixed {
			r.serving, r.history = "", ""
		}
		r.mutex.Unlock()
		r.gate.end()
	}}, nil
}

// applied are pages that are being written into a copy. The library closes them once they are there, or cannot be
// written.
type applied struct {
	io.ReadCloser
	once sync.Once
	end  func(all bool)
}

func (a *applied) Close() error {
	a.once.Do(func() {
		n, _ := a.Read(make([]byte, 1))
		a.end(n == 0)
	})
	return a.ReadCloser.Close()
}

// inMemory bounds what of a file of pages is held in memory, in octets; a larger one lies in a file meanwhile.
const inMemory = 4 << 20

// fetched reads all of a file of pages.
func fetched(r io.ReadCloser, folder string) (_ io.ReadCloser, err error) {
	defer func() { err = errors.Join(err, r.Close()) }()
	var head bytes.Buffer
	n, err := io.CopyN(&head, r, inMemory)
	if errors.Is(err, io.EOF) && n < inMemory {
		return io.NopCloser(&head), nil
	}
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(folder, "pages-*")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name()) // it is there until it is closed
	if _, err = io.Copy(f, io.MultiReader(&head, r)); err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// gate lets many read, or one write. Who wants to write waits a while for a moment in which nobody reads, and lets
// nobody new in only then: a long reading keeps no others waiting.
type gate struct {
	mutex   sync.Mutex
	free    *sync.Cond
	readers int
	closed  bool // someone writes, or has waited for long
	changes int64
}

// patience is how long who wants to write lets others go before.
const patience = 2 * time.Second

func (g *gate) init() { g.free = sync.NewCond(&g.mutex) }

func (g *gate) enter() (change int64) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	for g.closed {
		g.free.Wait()
	}
	g.readers++
	return g.changes
}

func (g *gate) leave() {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.readers--
	g.free.Broadcast()
}

func (g *gate) begin() {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	until := time.Now().Add(patience)
	late := time.AfterFunc(patience, func() {
		g.mutex.Lock() // so that the waiting below has begun
		defer g.mutex.Unlock()
		g.free.Broadcast()
	})
	defer late.Stop()
	for mine := false; ; {
		if (mine || !g.closed) && g.readers == 0 {
			g.closed = true
			return
		}
		if !mine && !g.closed && !time.Now().Before(until) {
			g.closed, mine = true, true
		}
		g.free.Wait()
	}
}

func (g *gate) end() {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.closed = false
	g.changes++
	g.free.Broadcast()
}

// Whose says which installation's replica is at a place. ErrNone where there is none, ErrPassphrase where the
// passphrase does not open it.
func Whose(ctx context.Context, p Place, passphrase string) (installation string, err error) {
	a, err := readAbout(ctx, p)
	if err != nil {
		return "", err
	}
	_, err = readKeys(ctx, p, passphrase)
	return a.Installation, err
}
