package tree

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
)

var _ cabinet.Notebook = (*Cabinet)(nil)

// writesNotes is a tree that writes a small file in one step where Create does not.
type writesNotes interface {
	WriteNote(ctx context.Context, name string, data []byte) error
}

// WriteNote writes a note.
func (c *Cabinet) WriteNote(ctx context.Context, name string, data []byte) error {
	full := cabinet.NotesFolder + "/" + name
	write := func() error {
		if t, ok := c.tree.(writesNotes); ok {
			return t.WriteNote(ctx, full, data)
		}
		return c.tree.Create(ctx, full, time.Time{}, bytes.NewReader(data))
	}
	err := write()
	if errors.Is(err, fs.ErrNotExist) {
		if err = c.tree.Mkdir(ctx, cabinet.NotesFolder); err == nil || errors.Is(err, fs.ErrExist) {
			err = write()
		}
	}
	if err != nil {
		return explain(err, "writing to "+c.tree.Place())
	}
	return nil
}

// Notes reads notes.
func (c *Cabinet) Notes(ctx context.Context, prefix string) (map[string][]byte, error) {
	entries, err := c.tree.List(ctx, cabinet.NotesFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "reading "+c.tree.Place())
	}
	notes := map[string][]byte{}
	for _, e := range entries {
		if e.Folder || !strings.HasPrefix(e.Name, prefix) {
			continue
		}
		r, err := c.tree.Open(ctx, cabinet.NotesFolder+"/"+e.Name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed meanwhile
		}
		if err != nil {
			return nil, explain(err, "reading "+c.tree.Place())
		}
		data, err := io.ReadAll(io.LimitReader(r, cabinet.MaxNote))
		if closed := r.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return nil, explain(err, "reading "+c.tree.Place())
		}
		notes[e.Name] = data
	}
	return notes, nil
}

// RemoveNote removes a note.
func (c *Cabinet) RemoveNote(ctx context.Context, name string) error {
	if err := c.tree.Remove(ctx, cabinet.NotesFolder+"/"+name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "writing to "+c.tree.Place())
	}
	return nil
}
