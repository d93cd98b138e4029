package store

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
)

// A large register takes seconds to be read line by line. So the index over it is written beside the records when the
// service ends, and read at the next start; what changed since then follows from the list of changes. The records say
// which file belongs to them: those that were restored from a backup, or moved on without the file, have another word,
// and the register is read line by line.

const (
	indexFile = "register.index"
	indexWord = "register index" // the setting that says which file belongs to the records

)

// worthAFile is how many lines a register has at least of which the index is written: fewer are read in a moment.
var worthAFile = 20_000

func (s *Store) indexPath() string { return filepath.Join(filepath.Dir(s.path), indexFile) }

// readIndex reads the index that was written before. ok is false where it does not fit.
func (s *Store) readIndex(ctx context.Context) (last int64, ok bool) {
	word, err := s.Settings.Get(ctx, indexWord)
	if err != nil || word == "" {
		return 0, false
	}
	f, err := os.Open(s.indexPath())
	if err != nil {
		return 0, false
	}
	defer f.Close()
	found, err := s.index.Read(f)
	if err != nil {
		return 0, false
	}
	var state struct{ At, Ever, Since int64 }
	at, known := cutWord(found, word)
	if known {
		err = s.reading(ctx).Raw(`SELECT ? AS at, (SELECT coalesce(max(seq), 0) FROM sqlite_sequence
			WHERE name = 'register_changes') AS ever, (SELECT count(*) FROM register_changes WHERE id > ?) AS since`, at,
			at).Scan(&state).Error
	}
	if !known || err != nil || at > state.Ever || state.Ever-at != state.Since { // some changes are no longer listed
		s.index.Reset()
		return 0, false
	}
	debug.FreeOSMemory() // what reading took is given back
	return at, true
}

// KeepIndex writes the index for the next start, where it is worth it and something changed since it was written.
func (s *Store) KeepIndex(ctx context.Context) error {
	s.following.Lock()
	defer s.following.Unlock()
	if !s.loaded || s.indexed == s.written || s.index.Len() < worthAFile {
		return nil
	}
	if s.erased { // what was erased can still be in memory: the next start reads it anew
		return s.dropIndex()
	}
	word := rand.Text()
	temporary := s.indexPath() + ".part"
	f, err := os.OpenFile(temporary, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = s.index.Write(f, joinWord(word, s.indexed))
	if err = errors.Join(err, f.Close()); err == nil {
		err = s.Settings.Set(ctx, indexWord, word)
	}
	if err == nil {
		err = os.Rename(temporary, s.indexPath()) // no flush: what does not fit is not read
	}
	if err != nil {
		return errors.Join(err, os.Remove(temporary))
	}
	s.written = s.indexed
	return nil
}

// dropIndex removes the file: it would outlive what was erased.
func (s *Store) dropIndex() error {
	err := os.Remove(s.indexPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// joinWord is what is written into the file: to which records it belongs, and the last change that it has seen.
func joinWord(word string, last int64) string { return word + " " + strconv.FormatInt(last, 10) }

func cutWord(found, word string) (last int64, ok bool) {
	first, number, _ := strings.Cut(found, " ")
	last, err := strconv.ParseInt(number, 10, 64)
	return last, err == nil && first == word
}
