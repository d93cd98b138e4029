package local

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"

	"inktray.example/inktray/internal/cabinet"
)

var _ cabinet.Notebook = (*Cabinet)(nil)

// WriteNote writes a note beside the earlier one and puts it in its place.
func (c *Cabinet) WriteNote(_ context.Context, name string, data []byte) error {
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	if err := root.Mkdir(cabinet.NotesFolder); err != nil && !errors.Is(err, fs.ErrExist) {
		return explain(err, "writing to "+c.name)
	}
	temporary := cabinet.NotesFolder + "/" + name + ".part"
	if err := root.Remove(temporary); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "writing to "+c.name)
	}
	f, err := root.Create(temporary)
	if err != nil {
		return explain(err, "writing to "+c.name)
	}
	if _, err = f.Write(data); err == nil {
		err = f.Sync() // so that no power cut leaves an empty one
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = root.Replace(temporary, cabinet.NotesFolder+"/"+name)
	}
	if err != nil {
		_ = root.Remove(temporary) // it is written over the next time
		return explain(err, "writing to "+c.name)
	}
	return nil
}

// Notes reads notes.
func (c *Cabinet) Notes(_ context.Context, prefix string) (map[string][]byte, error) {
	root, err := c.root()
	if err != nil {
		return nil, err
	}
	defer c.done(root)
	entries, err := root.ReadDir(cabinet.NotesFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "reading "+c.name)
	}
	notes := map[string][]byte{}
	for _, e := range entries {
		if !e.Type().IsRegular() || !strings.HasPrefix(e.Name(), prefix) || strings.HasSuffix(e.Name(), ".part") {
			continue
		}
		f, err := root.Open(cabinet.NotesFolder + "/" + e.Name())
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed meanwhile
		}
		if err != nil {
			return nil, explain(err, "reading "+c.name)
		}
		data, err := io.ReadAll(io.LimitReader(f, cabinet.MaxNote))
		if closed := f.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return nil, explain(err, "reading "+c.name)
		}
		notes[e.Name()] = data
	}
	return notes, nil
}

// RemoveNote removes a note.
func (c *Cabinet) RemoveNote(_ context.Context, name string) error {
	root, err := c.root()
	if err != nil {
		return err
	}
	defer c.done(root)
	if err := root.Remove(cabinet.NotesFolder + "/" + name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "writing to "+c.name)
	}
	return nil
}
