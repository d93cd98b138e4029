// Package store keeps the service's records in SQLite. It is the only room that
// knows SQL. Every query that returns mail or filings takes the viewer and
// keeps to what he may see.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	"github.com/libtnb/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	sqlite3 "modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"inktray.example/inktray/internal/core/register"
)

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("there is none")
	ErrTaken    = errors.New("the name is taken")
	ErrChanged  = errors.New("another person changed it meanwhile")
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the open database. It may be used by several goroutines at once.
type Store struct {
	Opened int // files and folders that other users of the machine could read until now

	Settings      *Settings
	People        *People
	Passkeys      *Passkeys
	Trail         *Trail
	Mailboxes     *Mailboxes
	Cabinets      *Cabinets
	Rules         *Rules
	Book          *Book
	Topics        *Topics
	Messages      *Messages
	Retries       *Retries
	Journal       *Journal
	Passes        *Passes
	Undoing       *Undoing
	FollowUps     *FollowUps
	Tray          *Tray
	Alarms        *Alarms
	Register      *Register
	RegisterFiles *RegisterFiles
	Verifications *Verifications
	Restored      *Restored
	Erasure       *Erasure
	Replication   *Replication
	Machines      *Machines
	Words         *Words // nil where the records are a copy

	write    *gorm.DB // one connection: writers wait for each other here, not in SQLite
	read     *gorm.DB
	jobs     chan job
	later    chan job // of those that have time
	done     chan struct{}
	keys     atomic.Pointer[keyring]
	rotating sync.RWMutex // the key is not changed while a copy of it and of the records is made
	lock     *flock.Flock

	index     register.Index // of the register, as far as change number indexed
	indexed   int64
	loaded    bool
	following sync.Mutex
	written   int64 // the last change that the file of the index has seen
	erased    bool  // something was erased since the register was read

	copied bool   // it is a copy of another installation's records, and only read
	copyOf string // the history that it is read from

	path    string                  // of the database, for people
	harm    atomic.Pointer[Trouble] // the records are damaged
	refused atomic.Pointer[Trouble] // the last change came to nothing because of the records

	replica atomic.Pointer[Replica]
	settled chan settled // commits whose makers hear of them once they are in the replica

	counters   *counters
	restored   atomic.Pointer[Restoring] // as it was read last; nil where the records came out of no backup
	interrupt  atomic.Pointer[func(after bool) error]
	full       atomic.Bool // see Fill
	statements atomic.Int64
	statement  atomic.Pointer[func(sql string)]
}

// OnStatement lets tests see the text of every statement once it was run; nil ends that.
func (s *Store) OnStatement(f func(sql string)) { s.statement.Store(&f) }

// Explain is how SQLite carries out a statement, a line for each step (EXPLAIN QUERY PLAN).
func (s *Store) Explain(sql string) (steps []string, err error) {
	args := make([]any, strings.Count(sql, "?"))
	var rows []struct{ Detail string }
	err = s.read.Raw("EXPLAIN QUERY PLAN "+sql, args...).Scan(&rows).Error
	for _, r := range rows {
		steps = append(steps, r.Detail)
	}
	return steps, err
}

// Statements is how many SQL statements were run since the records were opened.
func (s *Store) Statements() int64 { return s.statements.Load() }

// Prepared counts the statements that SQLite translated since the program began; the others were used again.
func (s *Store) Prepared() int64 { return preparations.Load() }

// count counts the statements of a connection.
func (s *Store) count(db *gorm.DB) error {
	add := func(*gorm.DB) { s.statements.Add(1) }
	told := func(db *gorm.DB) {
		if f := s.statement.Load(); f != nil && *f != nil {
			(*f)(db.Statement.SQL.String())
		}
	}
	c := db.Callback()
	return inOrder(func() error { return c.Query().After("*").Register("told", told) },
		func() error { return c.Row().After("*").Register("told", told) },
		func() error { return c.Raw().After("*").Register("told", told) },
		func() error { return c.Create().After("*").Register("told", told) },
		func() error { return c.Update().After("*").Register("told", told) },
		func() error { return c.Delete().After("*").Register("told", told) },
		func() error { return c.Query().Before("*").Register("count", add) },
		func() error { return c.Row().Before("*").Register("count", add) },
		func() error { return c.Raw().Before("*").Register("count", add) },
		func() error { return c.Create().Before("*").Register("count", add) },
		func() error { return c.Update().Before("*").Register("count", add) },
		func() error { return c.Delete().Before("*").Register("count", add) })
}

// Interrupt calls f before and after every change, for tests. An error before the change refuses it; an error after it
// is returned though the change was committed.
func (s *Store) Interrupt(f func(after bool) error) { s.interrupt.Store(&f) }

// Fill simulates a full disk in tests: the database cannot grow beyond its present size, and every change begins by
// needing more, or all that ends again. SQLite answers as on a full disk.
func (s *Store) Fill(ctx context.Context, full bool) error {
	s.full.Store(false)
	err := s.change(ctx, func(tx *gorm.DB) error {
		if full {
			return tx.Exec("PRAGMA max_page_count = 1").Error // as many as there are
		}
		return inOrder(func() error { return tx.Exec("PRAGMA max_page_count = 4294967294").Error },
			func() error { return tx.Exec("DROP TABLE IF EXISTS filling").Error })
	})
	s.full.Store(full)
	return err
}

// needingMore is a change that needs more of the disk than there is.
func needingMore(f func(tx *gorm.DB) error) func(tx *gorm.DB) error {
	return func(tx *gorm.DB) error {
		return inOrder(func() error { return tx.Exec("CREATE TABLE IF NOT EXISTS filling (room BLOB)").Error },
			func() error { return tx.Exec("INSERT INTO filling VALUES (zeroblob(65536))").Error },
			func() error { return f(tx) })
	}
}

type job struct {
	ctx    context.Context
	f      func(tx *gorm.DB) error
	result chan error
	early  bool // it is told before a replica has it
}

// dialector gives GORM the errors of the driver that is used here.
type dialector struct{ sqlite.Dialector }

func (d dialector) Translate(err error) error {
	var e *sqlite3.Error
	if errors.As(err, &e) {
		switch e.Code() {
		case codes.SQLITE_CONSTRAINT_UNIQUE, codes.SQLITE_CONSTRAINT_PRIMARYKEY:
			return gorm.ErrDuplicatedKey
		case codes.SQLITE_CONSTRAINT_FOREIGNKEY:
			return gorm.ErrForeignKeyViolated
		case codes.SQLITE_CONSTRAINT_CHECK:
			return gorm.ErrCheckConstraintViolated
		}
	}
	return err
}

// open opens the database; vfs is another file system under it, for tests.
func open(path, vfs string, connections int) (*gorm.DB, error) {
	dsn := "file:" + filepath.ToSlash(path) +
		"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)" +
		"&_txlock=immediate&_time_format=sqlite&_timezone=UTC&_texttotime=1"
	if vfs != "" {
		dsn += "&vfs=" + vfs
	}
	db, err := gorm.Open(dialector{sqlite.Dialector{DriverName: preparing, DSN: dsn}}, &gorm.Config{
		Logger: logger.Default.LogMode(logger.Silent), TranslateError: true, SkipDefaultTransaction: true,
		NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

// Open opens the records in a folder and brings them up to date. The folder
// also holds the key that seals secrets.
func Open(folder string) (*Store, error) { return openOn(folder, "") }

func openOn(folder, vfs string) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for the records: %w", err)
	}
	lock, err := lockFolder(folder)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, recordsFile)
	s := &Store{jobs: make(chan job, 1024), later: make(chan job, 1024), done: make(chan struct{}), lock: lock,
		settled: make(chan settled, 64), path: path, written: -1, counters: newCounters()}
	s.group()
	s.Words = &Words{records: s, folder: folder}
	if s.Opened, err = keepPrivate(folder); err == nil && vfs == "" {
		err = makePrivate(path)
	}
	if err != nil {
		_ = lock.Unlock()
		return nil, fmt.Errorf("keeping %s for Ink Tray alone: %w", folder, err)
	}
	opened := false
	defer func() {
		if !opened {
			_ = lock.Unlock()
		}
	}()
	var ring keyring
	if s.write, ring, err = unlocked(folder, vfs); err != nil {
		return nil, err
	}
	s.keys.Store(&ring)
	if s.read, err = open(path, vfs, 4); err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	if err := watchStates(s.write); err != nil {
		return nil, err
	}
	if err := s.count(s.read); err != nil {
		return nil, err
	}
	if err := s.count(s.write); err != nil {
		return nil, err
	}
	opened = true
	told := make(chan struct{})
	go s.Replication.answer(told)
	go func() {
		s.writer()
		close(s.settled)
		<-told
		close(s.done)
	}()
	return s, nil
}

// lockFolder keeps others from the records in a folder.
func lockFolder(folder string) (*flock.Flock, error) {
	// let go by the system, however the program ends
	lock := flock.New(filepath.Join(folder, "inktray.lock"), flock.SetPermissions(0o600))
	if mine, err := lock.TryLock(); err != nil {
		return nil, fmt.Errorf("locking %s: %w", folder, err)
	} else if !mine {
		return nil, fmt.Errorf("the records in %s are in use by another Ink Tray that runs; stop it first, or choose "+
			"another folder", folder)
	}
	return lock, nil
}

// Close waits for what was begun and closes the database.
func (s *Store) Close() error {
	close(s.jobs)
	<-s.done
	var errs []error
	for _, db := range []*gorm.DB{s.read, s.write} {
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(append(errs, s.Words.close(), s.lock.Unlock())...)
}

// Ready says whether the records can be read and written. After a change that came to
// nothing because of them it tries a small one. The error is a *Trouble where it is known.
func (s *Store) Ready(ctx context.Context) error {
	if t := s.harm.Load(); t != nil {
		return t
	}
	if err := s.reading(ctx).Exec("SELECT 1").Error; err != nil {
		return explain(err)
	}
	if s.refused.Load() == nil {
		return nil
	}
	return s.Settings.Set(ctx, "tried", time.Now().UTC().Format(time.RFC3339))
}

// Refusal is why the last change came to nothing, nil where it was kept.
func (s *Store) Refusal() *Trouble { return s.refused.Load() }

// migrate brings the records to a version; 0 is the newest.
func migrate(db *gorm.DB, upTo int) error {
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return err
	}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	for _, name := range names { // sorted by their number
		base := filepath.Base(name)
		number, err := strconv.Atoi(base[:4])
		if err != nil {
			return fmt.Errorf("migration %s has no number", base)
		}
		if number <= version || upTo > 0 && number > upTo {
			continue
		}
		text, err := migrations.ReadFile(name)
		if err != nil {
			return err
		}
		err = db.Transaction(func(tx *gorm.DB) error {
			for _, statement := range strings.Split(string(text), ";\n") {
				if strings.TrimSpace(statement) == "" {
					continue
				}
				if err := tx.Exec(statement).Error; err != nil {
					return fmt.Errorf("%s: %w", base, err)
				}
			}
			return tx.Exec("PRAGMA user_version = " + strconv.Itoa(number)).Error
		})
		if err != nil {
			return err
		}
		version = number
	}
	return nil
}

// How many changes share one commit, and how many commits of others those wait for that have time.
const (
	mostGrouped   = 256
	mostUnhurried = 4  // of these are large, as those of a pass over old mail are
	mostBefore    = 16 // so that they come to an end, too
)

type unhurried struct{}

// Unhurried marks what has time: changes that others make with another context are committed first.
func Unhurried(ctx context.Context) context.Context { return context.WithValue(ctx, unhurried{}, true) }

// queue is where a change waits for its commit.
func (s *Store) queue(ctx context.Context) chan job {
	if ctx.Value(unhurried{}) != nil {
		return s.later
	}
	return s.jobs
}

// writer commits changes in groups: those that wait at the same moment share a
// flush. Each is on its own within the group: one that fails undoes itself only.
func (s *Store) writer() {
	for before := 0; ; {
		from, most := s.jobs, mostGrouped
		var first job
		open := true
		select {
		case first, open = <-from:
		default:
			select {
			case first, open = <-from:
			case first = <-s.later:
				from = s.later
			}
		}
		if !open { // nothing follows
			for group := waiting(s.later, mostUnhurried); len(group) > 0; group = waiting(s.later, mostUnhurried) {
				s.commit(group)
			}
			return
		}
		if before++; from == s.later {
			before, most = 0, mostUnhurried
		}
		s.commit(append([]job{first}, waiting(from, most-1)...))
		if before >= mostBefore {
			before = 0
			s.commit(waiting(s.later, mostUnhurried))
		}
	}
}

// waiting takes what waits in a queue at this moment.
func waiting(from chan job, most int) (group []job) {
	for len(group) < most {
		select {
		case next, open := <-from:
			if !open {
				return group
			}
			group = append(group, next)
		default:
			return group
		}
	}
	return group
}

// commit makes several changes in one transaction.
func (s *Store) commit(group []job) {
	if len(group) == 0 {
		return
	}
	results, began := make([]error, len(group)), time.Now()
	err := s.write.Transaction(func(tx *gorm.DB) error {
		for i, j := range group {
			results[i] = safely(tx.WithContext(j.ctx), j.f)
		}
		return nil
	})
	s.counters.commits.add(time.Since(began))
	if err != nil {
		blame(results, err)
	}
	r := s.replica.Load()
	if r != nil {
		(*r).Committed()
	}
	var waits settled
	for i, j := range group {
		if r == nil || j.early || err != nil {
			j.result <- results[i]
		} else {
			waits.group, waits.results = append(waits.group, j), append(waits.results, results[i])
		}
	}
	if len(waits.group) > 0 {
		s.settled <- waits
	}
}

// blame gives changes that were committed together, and came to nothing together, the error that says why: where one
// met a full disk, SQLite takes back the others, too, and says of them only that their transaction is gone.
func blame(results []error, err error) {
	for _, one := range results {
		if one != nil && TroubleOf(explain(one)) != nil {
			err = one
			break
		}
	}
	for i := range results {
		if results[i] == nil || TroubleOf(explain(err)) != nil {
			results[i] = err
		}
	}
}

// inOrder does one step after another, up to the first that fails.
func inOrder(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// safely runs one change in a savepoint.
func safely(tx *gorm.DB, f func(tx *gorm.DB) error) (err error) {
	if err := tx.Exec("SAVEPOINT one").Error; err != nil {
		return err
	}
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a change of the records failed: %v", p)
		}
		if err != nil {
			err = errors.Join(err, tx.Exec("ROLLBACK TO one").Error)
		}
		err = errors.Join(err, tx.Exec("RELEASE one").Error)
	}()
	return f(tx)
}

// reading are the records to be read, as long as ctx lasts.
func (s *Store) reading(ctx context.Context) *gorm.DB { return s.read.WithContext(ctx) }

// change runs f in a transaction and returns once it is flushed to disk. What is changed tells mostly of what was done
// already, so a change is made to its end, also where ctx ends meanwhile. Where another machine may take over, it is in
// the replica by then.
func (s *Store) change(ctx context.Context, f func(tx *gorm.DB) error) error {
	return made(s, &job{ctx: ctx, f: f})
}

// early is change for what tells of something that is found out again where it is lost: it does not wait for a replica.
// Nothing may be done, on the strength of it, that cannot be taken back, and nothing promised.
func early(ctx context.Context, s *Store, f func(tx *gorm.DB) error) error {
	return made(s, &job{ctx: ctx, f: f, early: true})
}

// made makes a change.
func made(s *Store, j *job) error {
	if s.copied {
		return ErrCopy
	}
	stop := s.interrupt.Load()
	if stop != nil {
		if err := (*stop)(false); err != nil {
			s.refused.Store(TroubleOf(err))
			return err
		}
	}
	if s.full.Load() {
		j.f = needingMore(j.f)
	}
	queue := s.queue(j.ctx)
	j.ctx, j.result = context.WithoutCancel(j.ctx), make(chan error, 1)
	queue <- *j
	err := explain(<-j.result)
	t := TroubleOf(err)
	if s.refused.Store(t); t != nil && t.Damaged {
		s.damaged(t)
	}
	if stop != nil && err == nil {
		err = (*stop)(true)
	}
	return err
}

func explain(err error) error {
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrTaken
	}
	if t := TroubleOf(err); t != nil {
		return t
	}
	return err
}

// statement is one SQL statement with its arguments.
type statement struct {
	sql  string
	args []any
}

// exec runs statements one after the other and stops at the first that fails.
func exec(tx *gorm.DB, all ...statement) error {
	for _, one := range all {
		if err := tx.Exec(one.sql, one.args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// first reads one row.
func first[T any](db *gorm.DB) (T, error) {
	var row T
	err := db.Take(&row).Error
	return row, explain(err)
}

// there says whether a query finds anything. It stops at the first row: count(*) goes through all of them, also with a
// LIMIT.
func there(db *gorm.DB) (bool, error) {
	var found []int
	err := db.Select("1").Limit(1).Scan(&found).Error
	return len(found) > 0, explain(err)
}

// list reads rows.
func list[T any](db *gorm.DB) ([]T, error) {
	var rows []T
	err := db.Find(&rows).Error
	return rows, explain(err)
}

// forEach does something with each of a kind, until the first error.
func forEach[T any](tx *gorm.DB, do func(*T) error) error {
	all, err := list[T](tx)
	if err != nil {
		return err
	}
	for i := range all {
		if err := do(&all[i]); err != nil {
			return err
		}
	}
	return nil
}
