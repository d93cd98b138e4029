package registry

import (
	"context"
	"errors"
	"io"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

func TestAStoppedExportWithoutAFileIsThrownAway(t *testing.T) {
	rg := New(Config{Base: base.New(base.Base{Clock: time.Now, Zone: time.UTC}), Spool: t.TempDir()})
	ines := store.Viewer{ID: "i"}
	rg.exports.all = map[string]*Export{
		"stopped": {ID: "stopped", State: store.Stopped, owner: ines.ID, cancel: func() {}}}
	if err := rg.Exports.Stop(store.Viewer{ID: "r"}, "stopped"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another person stops it: %v", err)
	}
	if err := rg.Exports.Stop(ines, "stopped"); err != nil {
		t.Errorf("it is not thrown away: %v", err)
	}
	if _, err := rg.Exports.ByID(ines, "stopped"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("it is still known: %v", err)
	}
}

func TestATableIsNotWrittenOnceItsExportIsStopped(t *testing.T) {
	rg := New(Config{Base: base.New(base.Base{Clock: time.Now, Zone: time.UTC}), Spool: t.TempDir()})
	columns, err := register.ColumnsNamed(nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	rows := [][]register.Number{{{Year: 2026, Number: 1}}}
	err = rg.writeTable(ctx, io.Discard, "xlsx", columns, false,
		[]*tableSource{here(rg, "", store.System, rows)}, register.CompareLines("", true), func(int) {})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("got %v, want %v", err, context.Canceled)
	}
}
