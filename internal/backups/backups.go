// Package backups makes backups by plan and on request, where the settings say, proves that each can be read, and
// removes old ones. It guarantees that a backup that is told of was read back to its end, and that none is removed
// before a newer one was. It never restores.
package backups

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"inktray.example/inktray/internal/backup"
	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/store"
)

// Backups make backups. Its methods may be called by several goroutines at once.
type Backups struct {
	*base.Base
	cabinets *cabinets.Cabinets
	data     string // the folder of the records
	version  string // of this program

	mutex  sync.Mutex
	since  time.Time          // when the one that is being made was begun; zero where none is
	asking singleflight.Group // what the place keeps
}

// New makes Backups of the records in the folder data. version is that of the program.
func New(b *base.Base, c *cabinets.Cabinets, data, version string) *Backups {
	return &Backups{Base: b, cabinets: c, data: data, version: version}
}

// tryAgain is how long to wait after a backup that failed.
const tryAgain = time.Hour

// Start removes what was left of backups, and makes them by plan until the service ends.
func (b *Backups) Start() {
	if err := backup.Sweep(b.data); err != nil {
		b.Log.Error("removing what was left of a backup", "error", err)
	}
	b.Go("backing up", b.keep)
}

func (b *Backups) keep(ctx context.Context) {
	ticker := time.NewTicker(max(b.Beat, 100*time.Millisecond))
	defer ticker.Stop()
	for {
		if due, err := b.due(ctx); err != nil && ctx.Err() == nil {
			b.Log.Error("looking whether a backup is due", "error", err)
		} else if due {
			_ = b.Make(ctx) // it is told
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

func (b *Backups) due(ctx context.Context) (bool, error) {
	plan, _, err := b.Store.Settings.BackupPlan(ctx)
	if err != nil || plan.Place == "" {
		return false, err
	}
	done, failed, err := b.Store.Settings.Backups(ctx)
	if err != nil {
		return false, err
	}
	now := b.Now()
	if failed != nil && now.Sub(failed.At).Abs() < tryAgain {
		return false, nil
	}
	return done == nil || !now.Before(Next(&plan, done.At.In(b.Zone))), nil
}

// Next is when a backup is due after one.
func Next(p *store.BackupPlan, last time.Time) time.Time {
	at, err := time.Parse("15:04", p.At)
	if err != nil {
		at = time.Date(0, 1, 1, 2, 30, 0, 0, time.UTC)
	}
	next := time.Date(last.Year(), last.Month(), last.Day(), at.Hour(), at.Minute(), 0, 0, last.Location())
	if last.Before(next) { // one that was made before the time of its day counts for the day before
		next = next.AddDate(0, 0, -1)
	}
	return next.AddDate(0, 0, max(1, p.EveryDays))
}

// Late says whether the last backup is older than twice the time between two, or the first one failed.
func Late(p *store.BackupPlan, done *store.BackupDone, failed *store.BackupFailed, now time.Time) bool {
	if done == nil {
		return failed != nil
	}
	return now.Sub(done.At) > time.Duration(max(1, p.EveryDays))*48*time.Hour
}

// Running says since when a backup is being made; zero where none is.
func (b *Backups) Running() time.Time {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.since
}

// begin notes that a backup is being made, unless one is.
func (b *Backups) begin() bool {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if !b.since.IsZero() {
		return false
	}
	b.since = b.Clock()
	return true
}

func (b *Backups) end() {
	b.mutex.Lock()
	b.since = time.Time{}
	b.mutex.Unlock()
	b.Changed("backup")
}

// ErrNoPlan says that no place for backups is set.
var ErrNoPlan = errors.New("no place for backups is set")

// Begin makes a backup in the background, unless one is being made. What comes of it is kept and told.
func (b *Backups) Begin() {
	if b.begin() {
		b.Changed("backup")
		b.Go("making a backup", func(ctx context.Context) { _ = b.finish(ctx) })
	}
}

// Make makes a backup where the settings say, reads it back, and removes old ones, unless one is being made. What comes
// of it is kept and told.
func (b *Backups) Make(ctx context.Context) error {
	if !b.begin() {
		return nil
	}
	b.Changed("backup")
	return b.finish(ctx)
}

func (b *Backups) finish(ctx context.Context) error {
	defer b.end()
	began := b.Clock()
	done, err := b.make(ctx, began)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, ErrNoPlan):
		return err
	case err != nil:
		b.Log.Error("the backup failed", "error", err)
		return errors.Join(err, b.failed(ctx, phrase.TrimStop(err.Error())))
	}
	done.Seconds = b.Clock().Sub(began).Seconds()
	b.Log.Info("a backup was made and read back", "place", done.Place, "name", done.Name, "octets", done.Size, "files",
		done.Files, "seconds", done.Seconds)
	if err := b.Store.Settings.BackedUp(ctx, done, nil); err != nil {
		return err
	}
	_, err = b.Store.Tray.Settle(ctx, "backup", "backup")
	return err
}

// failed keeps and tells why no backup came of a try.
func (b *Backups) failed(ctx context.Context, problem string) error {
	now := b.Clock()
	if err := b.Store.Settings.BackedUp(ctx, nil, &store.BackupFailed{At: now.UTC(), Problem: problem}); err != nil {
		return err
	}
	return b.Store.Tray.Tell(ctx, &store.Notice{Kind: "backup", Object: "backup", MadeAt: now,
		Text:   "The backup could not be made: " + problem + ".",
		Advice: "Ink Tray tries again every hour. You set the place in Settings."})
}

func (b *Backups) make(ctx context.Context, began time.Time) (*store.BackupDone, error) {
	plan, passphrase, err := b.Store.Settings.BackupPlan(ctx)
	if err != nil {
		return nil, err
	}
	place, err := b.placeOf(ctx, &plan)
	if err != nil {
		return nil, err
	}
	seal := &backup.Seal{Passphrase: passphrase, PublicKeys: plan.PublicKeys}
	recipients, witness, err := seal.Witness()
	if err != nil {
		return nil, err
	}
	at := strings.ReplaceAll(began.In(b.Zone).Format("2006-01-02-150405.000"), ".", "-")
	done := &store.BackupDone{At: began.UTC(), Place: place.words(),
		Name: fmt.Sprintf("inktray-%s-%s.age", b.Installation, at)}
	r, w := io.Pipe()
	made := make(chan error, 1)
	var contents backup.Contents
	go func() {
		var err error
		contents, err = b.job(began).Make(ctx, w, recipients...)
		made <- errors.Join(err, w.CloseWithError(err))
	}()
	done.Size, err = place.write(ctx, done.Name, r)
	_ = r.CloseWithError(cmp.Or(err, io.ErrClosedPipe))
	if makeErr := <-made; makeErr != nil && (err == nil || !errors.Is(makeErr, err)) {
		err = errors.Join(makeErr, err)
	}
	if err != nil {
		return nil, err
	}
	read, err := place.read(ctx, done.Name)
	if err != nil {
		return nil, fmt.Errorf("reading it back: %w", err)
	}
	defer read.Close()
	again, err := backup.Read(ctx, read, nil, witness)
	if err == nil && !slices.Equal(again.Files, contents.Files) {
		err = errors.New("it is not what was written")
	}
	if err != nil {
		return nil, fmt.Errorf("reading it back: %w", err)
	}
	done.Files = len(contents.Files)
	return done, b.removeOld(ctx, place, plan.Keep)
}

func (b *Backups) job(at time.Time) *backup.Job {
	return &backup.Job{Data: b.data, Snapshot: b.Store.Snapshot, About: backup.About{Version: b.version,
		Records: b.Store.Version(), MadeAt: at.UTC(), Installation: b.Installation}}
}

// Write writes a backup for somebody who keeps it.
func (b *Backups) Write(ctx context.Context, w io.Writer, seal *backup.Seal) (backup.Contents, error) {
	recipients, err := seal.Recipients()
	if err != nil {
		return backup.Contents{}, err
	}
	return b.job(b.Clock()).Make(ctx, w, recipients...)
}

// Kept lists the backups at the place that is set, the newest first. A place that does not answer is an error.
func (b *Backups) Kept(ctx context.Context) ([]Kept, error) {
	plan, _, err := b.Store.Settings.BackupPlan(ctx)
	if err != nil || plan.Place == "" {
		return nil, err
	}
	place, err := b.placeOf(ctx, &plan)
	if err != nil {
		return nil, err
	}
	// A share that is away can hold a question for ever, so one at a time is asked, and who asks does not wait for it.
	going := context.WithoutCancel(ctx)
	said := b.asking.DoChan("", func() (any, error) {
		ctx, cancel := context.WithTimeout(going, time.Minute)
		defer cancel()
		return b.kept(ctx, place)
	})
	select {
	case a := <-said:
		all, _ := a.Val.([]Kept)
		return all, a.Err
	case <-time.After(silence):
		return nil, errSilent
	}
}

// silence is how long a place may take to say what it keeps.
const silence = 5 * time.Second

var errSilent = errors.New("the place for backups does not answer")

// Kept is a backup that is kept.
type Kept struct {
	Name string
	Size int64 // in octets; -1 where the place does not say
}

var ours = regexp.MustCompile(`^inktray-([a-z0-9]+)-\d{4}-\d\d-\d\d-\d{6}-\d{3}\.age$`)

// kept lists the backups of this installation at a place, the newest first.
func (b *Backups) kept(ctx context.Context, p place) ([]Kept, error) {
	all, err := p.list(ctx)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(k Kept) bool {
		m := ours.FindStringSubmatch(k.Name)
		return len(m) < 2 || m[1] != b.Installation
	})
	slices.SortFunc(all, func(a, b Kept) int { return cmp.Compare(b.Name, a.Name) })
	return all, nil
}

func (b *Backups) removeOld(ctx context.Context, p place, keep int) error {
	all, err := b.kept(ctx, p)
	if err != nil {
		return err
	}
	for _, old := range all[min(len(all), max(1, keep)):] {
		if err := p.remove(ctx, old.Name); err != nil {
			return fmt.Errorf("removing the old backup %s: %w", old.Name, err)
		}
	}
	return nil
}

// place is where backups are kept.
type place interface {
	words() string
	write(ctx context.Context, name string, r io.Reader) (size int64, err error)
	read(ctx context.Context, name string) (io.ReadCloser, error)
	list(ctx context.Context) ([]Kept, error)
	remove(ctx context.Context, name string) error
}

func (b *Backups) placeOf(ctx context.Context, p *store.BackupPlan) (place, error) {
	switch p.Place {
	case store.BackupInFolder:
		return folder{p.Folder}, nil
	case store.BackupInCabinet:
		g, err := b.cabinets.Gate(ctx, p.CabinetID)
		if errors.Is(err, store.ErrNotFound) {
			return nil, errors.New("the cabinet for backups was removed; choose another place in Settings")
		}
		if err != nil {
			return nil, err
		}
		return shelf{b, g}, nil
	}
	return nil, ErrNoPlan
}

// CheckFolder says why backups cannot be kept in a folder, "" where they can. It is made where it is not there.
func (b *Backups) CheckFolder(name string) (problem string) {
	data, err := filepath.Abs(b.data)
	if err != nil {
		return err.Error()
	}
	switch within, err := filepath.Rel(data, filepath.Clean(name)); {
	case !filepath.IsAbs(name):
		return "give the whole path of the folder, from its beginning"
	case err == nil && within != ".." && !strings.HasPrefix(within, ".."+string(filepath.Separator)):
		return "this is in the folder of the records, and would be lost with it"
	}
	if err := os.MkdirAll(name, 0o700); err != nil {
		return "the folder cannot be made: " + err.Error()
	}
	probe, err := os.CreateTemp(name, ".inktray-check-*")
	if err != nil {
		return "nothing can be written there: " + err.Error()
	}
	_ = probe.Close()
	_ = os.Remove(probe.Name())
	return ""
}

// folder is a place on this machine.
type folder struct{ name string }

func (f folder) words() string { return f.name }

func (f folder) write(_ context.Context, name string, r io.Reader) (size int64, err error) {
	part := filepath.Join(f.name, name+".part")
	if _, err := os.Stat(f.name); err != nil { // a share that is not mounted is not made anew
		return 0, err
	}
	to, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(part)
		}
	}()
	size, err = io.Copy(to, r)
	if err == nil {
		err = to.Sync()
	}
	if err := errors.Join(err, to.Close()); err != nil {
		return size, err
	}
	if err := os.Rename(part, filepath.Join(f.name, name)); err != nil {
		return size, err
	}
	return size, disk.Flush(f.name)
}

func (f folder) read(_ context.Context, name string) (io.ReadCloser, error) {
	return os.Open(filepath.Join(f.name, name))
}

func (f folder) list(context.Context) (all []Kept, err error) {
	entries, err := os.ReadDir(f.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			all = append(all, Kept{e.Name(), info.Size()})
		}
	}
	return all, err
}

func (f folder) remove(_ context.Context, name string) error {
	return os.Remove(filepath.Join(f.name, name))
}

// shelf is a cabinet.
type shelf struct {
	owner *Backups
	gate  *cabinets.Gate
}

func (s shelf) words() string { return "the cabinet “" + s.gate.Row.Name + "”" }

func (s shelf) write(ctx context.Context, name string, r io.Reader) (int64, error) {
	if err := s.gate.Reachable(ctx); err != nil {
		return 0, err
	}
	id := s.owner.Installation + "-backup-" + s.owner.Run
	content, err := s.gate.Cabinet.Stage(ctx, id, s.owner.Clock(), r)
	if err == nil {
		err = s.gate.Cabinet.Commit(ctx, id, path.Join(cabinets.BackupFolder, name))
	}
	if err != nil {
		return 0, errors.Join(err, s.gate.Cabinet.Discard(context.WithoutCancel(ctx), id))
	}
	return content.Size, nil
}

func (s shelf) read(ctx context.Context, name string) (io.ReadCloser, error) {
	return s.gate.Cabinet.Open(ctx, path.Join(cabinets.BackupFolder, name))
}

func (s shelf) list(ctx context.Context) (all []Kept, err error) {
	entries, err := s.gate.Cabinet.List(ctx, cabinets.BackupFolder)
	if errors.Is(err, cabinet.ErrMissing) {
		return nil, nil
	}
	for _, e := range entries {
		if !e.Folder && !e.Other {
			all = append(all, Kept{e.Name, e.Size})
		}
	}
	return all, err
}

func (s shelf) remove(ctx context.Context, name string) error {
	gone := "old-backup-" + s.owner.Run
	if err := cabinet.Retire(ctx, s.gate.Cabinet, path.Join(cabinets.BackupFolder, name), gone); err != nil {
		return err
	}
	return cabinet.Forget(ctx, s.gate.Cabinet, gone)
}

// Room is the room that is left where the records are, in octets; -1 where the system does not say.
func (b *Backups) Room() (int64, error) { return disk.Room(b.data) }
