package cabinet

import (
	"context"
	"errors"
	"io"
)

// unable says that a kind of cabinet cannot do something. It is of the item: other files are filed.
func unable(what string) error {
	return &Error{Problem: "this kind of cabinet cannot " + what, Advice: "Use another kind of cabinet for it.",
		Lasting: true}
}

// Folders lists the names of the folders within a folder.
func Folders(ctx context.Context, c Cabinet, within string) ([]string, error) {
	entries, err := c.List(ctx, within)
	var names []string
	for _, e := range entries {
		if e.Folder {
			names = append(names, e.Name)
		}
	}
	return names, err
}

// Leftovers lists the temporary objects of a cabinet; none where it does not know them.
func Leftovers(ctx context.Context, c Cabinet) ([]string, error) {
	if s, ok := c.(Sweeper); ok {
		return s.Leftovers(ctx)
	}
	return nil, nil
}

// Sum measures a file: see Summer. Of other cabinets the file is read.
func Sum(ctx context.Context, c Cabinet, path string) (Content, error) {
	if s, ok := c.(Summer); ok {
		return s.Sum(ctx, path)
	}
	r, err := c.Open(ctx, path)
	if err != nil {
		return Content{}, err
	}
	found, err := Measure(ctx, r)
	return found, errors.Join(err, r.Close())
}

// Renew keeps a file of the service up to date: see Renewer. Where a cabinet cannot, it is an *Error.
func Renew(ctx context.Context, c Cabinet, id, path string, ours ...[32]byte) error {
	if r, ok := c.(Renewer); ok {
		return r.Renew(ctx, id, path, ours...)
	}
	return unable("keep a file up to date")
}

// Retire moves a file out of the way: see Keeper. Where a cabinet cannot, it is an *Error.
func Retire(ctx context.Context, c Cabinet, path, kept string) error {
	if k, ok := c.(Keeper); ok {
		return k.Retire(ctx, path, kept)
	}
	return unable("keep a file out of the way")
}

// Restore gives a file that was moved out of the way a name back: see Keeper. Where a cabinet cannot, it is an *Error.
func Restore(ctx context.Context, c Cabinet, kept, path string) error {
	if k, ok := c.(Keeper); ok {
		return k.Restore(ctx, kept, path)
	}
	return unable("bring a file back")
}

// Forget removes a file that was moved out of the way: see Keeper. Other cabinets have none.
func Forget(ctx context.Context, c Cabinet, kept string) error {
	if k, ok := c.(Keeper); ok {
		return k.Forget(ctx, kept)
	}
	return nil
}

// Kept opens a file that was moved out of the way: see Keeper. Other cabinets have none, so it is ErrMissing.
func Kept(ctx context.Context, c Cabinet, kept string) (io.ReadCloser, error) {
	if k, ok := c.(Keeper); ok {
		return k.Kept(ctx, kept)
	}
	return nil, ErrMissing
}

// AllKept lists the files that were moved out of the way: see Keeper. Other cabinets have none.
func AllKept(ctx context.Context, c Cabinet) ([]Entry, error) {
	if k, ok := c.(Keeper); ok {
		return k.AllKept(ctx)
	}
	return nil, nil
}

// Prove tries a cabinet's promises out: see Prover. Others can say nothing.
func Prove(ctx context.Context, c Cabinet) ([]string, error) {
	if p, ok := c.(Prover); ok {
		return p.Prove(ctx)
	}
	return nil, nil
}
