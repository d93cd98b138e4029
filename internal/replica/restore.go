package replica

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"time"

	"filippo.io/age"
	"github.com/benbjohnson/litestream"
)

// Records say what this package has to know of records.
type Records struct {
	Name string // of their file, in their folder
	Key  string // of the file with their key, beside them
	// Fit finds the key of records among several, the newest last.
	Fit func(records string, all [][32]byte) (key [32]byte, err error)
}

// Restored is what was put back.
type Restored struct {
	At           time.Time // of the newest change that is in it
	Installation string
	Files        int // beside the records
	History      string
}

// NotKeptError says that a moment cannot be restored.
type NotKeptError struct {
	Place    string
	Earliest time.Time // that can be
}

func (e *NotKeptError) Error() string {
	return fmt.Sprintf("%s holds no state of that time; its earliest is of %s", e.Place,
		e.Earliest.UTC().Format("2006-01-02 15:04:05 MST"))
}

// Restore puts an installation back into an empty folder as it was at a moment; the zero moment is the newest. The
// error is ErrNone where the place has no replica, ErrPassphrase, or a *NotKeptError.
func Restore(ctx context.Context, p Place, passphrase string, of Records, at time.Time, into string) (r Restored,
	err error) {
	a, err := readAbout(ctx, p)
	if err != nil {
		return r, err
	}
	k, err := readKeys(ctx, p, passphrase)
	if err != nil {
		return r, err
	}
	id, err := age.ParseX25519Identity(k.Identity)
	if err != nil {
		return r, err
	}
	r.Installation = a.Installation
	source, err := sourceAt(ctx, p, id, at)
	if err != nil {
		return r, err
	}
	r.History = path.Base(source.history)
	if r.At, err = source.restore(ctx, at, filepath.Join(into, of.Name)); err != nil {
		return r, fmt.Errorf("reading the records out of the replica: %w", err)
	}
	if err := of.writeKey(into, filepath.Join(into, of.Name), k); err != nil {
		return r, err
	}
	r.Files, err = putBack(ctx, p, id, at, into)
	return r, err
}

// Try says why a place cannot be used for the replica of an installation with this passphrase, as far as it can be seen
// without writing: an empty place can.
func Try(ctx context.Context, p Place, passphrase string) error {
	if _, err := readAbout(ctx, p); err != nil {
		if errors.Is(err, ErrNone) {
			return nil
		}
		return err
	}
	_, err := readKeys(ctx, p, passphrase)
	if errors.Is(err, ErrNone) {
		return nil
	}
	return err
}

// sourceAt finds the history that has the records as they were at a moment: of those that had begun by then, the
// newest. Where a machine holds the lease, the newest state is in the history that it writes.
func sourceAt(ctx context.Context, p Place, id *age.X25519Identity, at time.Time) (*pages, error) {
	names, err := histories(ctx, p)
	if err != nil {
		return nil, err
	}
	if at.IsZero() {
		l, err := readLease(ctx, p)
		if err != nil {
			return nil, err
		}
		if l.History != "" {
			names = []string{l.History}
		}
	}
	var found *pages
	var newest, earliest time.Time
	for _, name := range names {
		one := newPages(p, path.Join(historyFolder, name), id)
		first, last, err := one.bounds(ctx)
		if err != nil {
			return nil, err
		}
		if first.IsZero() {
			continue
		}
		if earliest.IsZero() || first.Before(earliest) {
			earliest = first
		}
		switch {
		case at.IsZero() && last.After(newest):
			found, newest = one, last
		case !at.IsZero() && !first.After(at) && first.After(newest):
			found, newest = one, first
		}
	}
	switch {
	case found != nil:
		return found, nil
	case earliest.IsZero():
		return nil, ErrNone
	}
	return nil, &NotKeptError{p.String(), earliest}
}

// restore writes the records as they were at a moment, and returns the moment of the newest change that is in them.
func (p *pages) restore(ctx context.Context, at time.Time, to string) (newest time.Time, err error) {
	_, last, err := p.bounds(ctx)
	if err != nil {
		return newest, err
	}
	if at.After(last) {
		at = time.Time{} // as it was at the end
	}
	log := slog.New(slog.DiscardHandler)
	plan, err := litestream.CalcRestorePlan(ctx, p, 0, at, log)
	if err != nil {
		return newest, err
	}
	for _, info := range plan {
		if info.CreatedAt.After(newest) {
			newest = info.CreatedAt
		}
	}
	options := litestream.NewRestoreOptions()
	options.OutputPath, options.Timestamp = to, at
	options.IntegrityCheck = litestream.IntegrityCheckQuick
	return newest, newReader(p, log).Restore(ctx, options)
}

// newReader is the library's view of a history from which is only read.
func newReader(p *pages, log *slog.Logger) *litestream.Replica {
	nowhere := litestream.NewDB("")
	nowhere.SetLogger(log)
	return litestream.NewReplicaWithClient(nowhere, p)
}

// bounds are the first and the last moment that a history can give back; zero where it can none.
func (p *pages) bounds(ctx context.Context) (first, last time.Time, err error) {
	for _, level := range levels {
		all, err := p.list(ctx, level)
		if err != nil {
			return first, last, err
		}
		for _, info := range all {
			if info.MinTXID == 1 && (first.IsZero() || info.CreatedAt.Before(first)) { // it holds all pages
				first = info.CreatedAt
			}
			if info.CreatedAt.After(last) {
				last = info.CreatedAt
			}
		}
	}
	return first, last, nil
}

// writeKey puts the key of records into a folder.
func (of Records) writeKey(into, records string, k keys) error {
	var all [][32]byte
	for _, one := range k.Records {
		var key [32]byte
		if n, err := hex.Decode(key[:], []byte(one)); err != nil || n != len(key) || len(one) != 2*len(key) {
			return errors.New("a key in the replica is damaged")
		}
		all = append(all, key)
	}
	key, err := of.Fit(records, all)
	if err != nil {
		return err
	}
	return writeFile(filepath.Join(into, of.Key), []byte(hex.EncodeToString(key[:])+"\n"))
}

// writeFile writes a file that only its owner can read, flushed.
func writeFile(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}
