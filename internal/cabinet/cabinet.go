// Package cabinet is what every place for files offers to the engine: content
// is staged first, and gets its final name by a step that cannot overwrite.
package cabinet

import (
	"context"
	"errors"
	"io"
	"time"
)

// Reserved is the folder in which a cabinet keeps its own things: the identity
// file and what is being staged. Rules cannot file there.
const Reserved = ".inktray"

// Probe begins the identities of temporary objects by which a cabinet checks
// itself. One that is left over may be removed by anybody at any time.
const Probe = "check-"

// Content is what was written or found: size in octets and checksum.
type Content struct {
	Size   int64
	SHA256 [32]byte
}

// Entry is what a folder holds.
type Entry struct {
	Name     string
	Folder   bool
	Other    bool      // neither a file nor a folder: a pipe, a device, a link that leads to none or outside
	Size     int64     // of a file, in octets
	Modified time.Time // of a file; zero where it is not known
}

// Spot is the exact place for a wanted name. Folders that are there already and
// differ from the wanted ones only in case or Unicode form are used.
type Spot struct {
	Path  string // with "/" between levels
	Taken bool   // something of that name, or of one that counts as the same, is there
	Other bool   // that is no file that can be read: a folder, a pipe, a link that leads to none
	By    string // its path
	Size  int64  // of a file, in octets; -1 where only reading it tells
	New   string // the topmost folder that is not there yet; "" where all are
}

// Cabinet is a place for files. It may be used by several goroutines at once,
// and several programs may write to the same place. These are the calls that filing
// needs; what a place can do beyond them is in the interfaces below, each with a
// function that uses it where it is there.
type Cabinet interface {
	// Check proves that this is the cabinet that it was: there, with its
	// identity file, and writable. It leaves nothing behind.
	Check(ctx context.Context) error
	// Resolve finds the exact place for folders and a file name.
	Resolve(ctx context.Context, folders []string, file string) (Spot, error)
	// Stage streams content into a temporary object called id and flushes it.
	// A leftover of the same id is replaced. Nothing shows under a final name.
	Stage(ctx context.Context, id string, received time.Time, r io.Reader) (Content, error)
	// Staged says whether the temporary object is still there and has not got
	// its final name.
	Staged(ctx context.Context, id string) (bool, error)
	// Commit gives the staged object its final name, making folders as needed,
	// and flushes. It never overwrites: ErrTaken where the name is there, even
	// when several writers want it at once.
	Commit(ctx context.Context, id, path string) error
	// Discard removes a temporary object; none is no error.
	Discard(ctx context.Context, id string) error
	// List lists a folder, "" for the cabinet itself, by name; without its own.
	// ErrMissing where there is no such folder.
	List(ctx context.Context, within string) ([]Entry, error)
	// Open opens a file for reading; ErrMissing where there is none, also where
	// something else has the name. It never waits for others.
	Open(ctx context.Context, path string) (io.ReadCloser, error)
	io.Closer
}

// Sweeper is a cabinet that knows what was staged and left there.
type Sweeper interface {
	// Leftovers lists the temporary objects.
	Leftovers(ctx context.Context) ([]string, error)
}

// Summer is a cabinet that has a way of its own to measure a file.
type Summer interface {
	// Sum reads a file and returns its size and checksum; ErrMissing where
	// there is none, also where something else has the name. It never waits for others.
	Sum(ctx context.Context, path string) (Content, error)
}

// Renewer is a cabinet in which the service keeps files of its own up to date.
type Renewer interface {
	// Renew gives the staged object the name of a file that the service itself keeps
	// up to date, and flushes. Where a file is there it takes its place, but only
	// if its content is one of ours: ErrTaken where it is another. At any moment
	// anyone who opens the name finds the old content or the new one, whole. Where
	// no file is there it is as Commit.
	Renew(ctx context.Context, id, path string, ours ...[32]byte) error
}

// Keeper is a cabinet that keeps files out of the way: those that were replaced or taken back.
type Keeper interface {
	// Retire moves a file out of the way into the cabinet's own folder, where it
	// is kept under a name, and flushes; ErrMissing where there is no such file,
	// ErrTaken where another content is kept under that name. Where the same is
	// kept already, only the first name is taken away.
	Retire(ctx context.Context, path, kept string) error
	// Restore gives a file that was moved out of the way a name back, and flushes;
	// ErrMissing where it is no longer kept, ErrTaken where the name is taken.
	Restore(ctx context.Context, kept, path string) error
	// Forget removes a file that was moved out of the way; none is no error.
	Forget(ctx context.Context, kept string) error
	// Kept opens a file that was moved out of the way; ErrMissing where there is none.
	Kept(ctx context.Context, kept string) (io.ReadCloser, error)
	// AllKept lists the files that were moved out of the way.
	AllKept(ctx context.Context) ([]Entry, error)
}

// Prover is a cabinet that can try its promises out.
type Prover interface {
	// Prove tries the promises of Commit and Renew out on the place itself, by
	// temporary objects, and says in words what holds. The first that does not hold
	// is an error.
	Prove(ctx context.Context) ([]string, error)
}

// ErrNotEmpty says that something is in a folder.
var ErrNotEmpty = errors.New("the folder is not empty")

// Pruner is a cabinet that has folders of their own, which stay when their last file goes.
type Pruner interface {
	// RemoveFolder removes an empty folder: ErrNotEmpty where something is in it, also
	// where that came at this very moment. None is no error. removed says whether there was one.
	RemoveFolder(ctx context.Context, folder string) (removed bool, err error)
}

// Roomy is a cabinet that can say how much room is left.
type Roomy interface {
	// Room is the room that is left, in octets; -1 where the place does not say.
	Room(ctx context.Context) (int64, error)
}

// Notebook is a cabinet in whose own folder those who file in it leave notes for one
// another. A note is written by one of them only. A reader may meet a note in the midst
// of its writing, so what cannot be understood is read again.
type Notebook interface {
	// WriteNote writes a note, in the place of an earlier one of that name. A name
	// has letters, digits, hyphens and dots.
	WriteNote(ctx context.Context, name string, data []byte) error
	// Notes reads the notes whose names begin so, by name.
	Notes(ctx context.Context, prefix string) (map[string][]byte, error)
	// RemoveNote removes a note; none is no error.
	RemoveNote(ctx context.Context, name string) error
}

// Errors that callers tell apart.
var (
	ErrTaken   = errors.New("the name is taken")
	ErrMissing = errors.New("the file is not there")
)

// Error is a failure of a cabinet, with what to do about it.
type Error struct {
	During  string // what was being done, in words that Problem begins with; "" where it does not
	Problem string // a sentence without its full stop
	Advice  string
	Lasting bool          // of the item, not of the cabinet: trying again will not help
	After   time.Duration // how long the place asks to be left alone; 0 where it does not say
	Err     error
}

func (e *Error) Error() string {
	if e.Advice == "" {
		return e.Problem
	}
	return e.Problem + ". " + e.Advice
}

func (e *Error) Unwrap() error { return e.Err }
