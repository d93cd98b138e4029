package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"github.com/libtnb/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// ErrCopy says that a copy of another installation's records is only read.
var ErrCopy = errors.New("this is a copy of another machine's records, which is only read")

// Copy are another installation's records, which are only read: every change is ErrCopy. Secrets cannot be read.
type Copy struct{ *Store }

// NewCopy makes a Copy. It reads nothing before Renew.
func NewCopy() *Copy {
	s := &Store{jobs: make(chan job), written: -1, counters: newCounters(), copied: true}
	s.keys.Store(&keyring{now: &[32]byte{}})
	s.group()
	return &Copy{s}
}

// Renew reads a state of the copy from a file, which does not change until the next call of Renew or Close. Nobody may
// be reading meanwhile. history differs between files of which the later one does not follow from the earlier one.
func (s *Copy) Renew(ctx context.Context, file, history string) error {
	if err := s.Close(); err != nil {
		return err
	}
	dsn := "file:" + filepath.ToSlash(file) + "?mode=ro&immutable=1&_pragma=query_only(1)" +
		"&_time_format=sqlite&_timezone=UTC&_texttotime=1"
	db, err := gorm.Open(dialector{sqlite.Dialector{DriverName: preparing, DSN: dsn}}, &gorm.Config{
		Logger: logger.Default.LogMode(logger.Silent), TranslateError: true, SkipDefaultTransaction: true,
		NowFunc: func() time.Time { return time.Now().UTC() }})
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	pool.SetMaxOpenConns(4)
	pool.SetMaxIdleConns(4)
	if err := s.count(db); err != nil {
		return errors.Join(err, pool.Close())
	}
	var version int
	err = db.WithContext(ctx).Raw("PRAGMA user_version").Scan(&version).Error
	if err == nil && version != newest() {
		err = fmt.Errorf("its records have version %d, these %d", version, newest())
	}
	if err != nil {
		return errors.Join(err, pool.Close())
	}
	s.following.Lock()
	defer s.following.Unlock()
	if s.read, s.path = db, file; s.copyOf != history {
		s.copyOf, s.loaded, s.indexed = history, false, 0
		s.index.Reset()
	}
	return nil
}

// Close closes the file that the copy is read from.
func (s *Copy) Close() error {
	if s.read == nil {
		return nil
	}
	pool, err := s.read.DB()
	if err == nil {
		err = pool.Close()
	}
	s.read = nil
	return err
}

// followCopy lets the index go on with a copy. Where some changes are no longer listed, or the records are an earlier
// state than before, it is read anew.
func followCopy(ctx context.Context, s *Store, last int64) error {
	var since int64
	if err := s.reading(ctx).Raw("SELECT count(*) FROM register_changes WHERE id > ?", s.indexed).Scan(
		&since).Error; err != nil {
		return err
	}
	if last >= s.indexed && since == last-s.indexed {
		return s.catchUp(ctx)
	}
	s.loaded = false
	s.index.Reset()
	if err := s.load(ctx); err != nil {
		s.index.Reset()
		return err
	}
	s.loaded, s.indexed = true, last
	return nil
}
