package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// Bounds of exports.
const (
	mostOfOne    = 2         // of one person, so that others find room
	mostExports  = 4         // written at the same time
	exportsFor   = time.Hour // how long one is kept
	linesAtOnce  = 500       // read from the records
	exportFolder = "exports" // in the folder to work in
)

// Export is a table of the register that is being written, or was.
type Export struct {
	ID     string
	Format string // "csv" or "xlsx"
	Name   string // of the file
	State  store.PassState
	Rows   int // there will be
	Done   int
	Size   int64 // octets, 0 until it is done
	Error  string
	MadeAt time.Time

	owner  string
	cancel context.CancelFunc
}

// ExportOf says what is to be written.
type ExportOf struct {
	Format  string
	Columns []register.Column
	Letters bool           // one line a message, with all its files
	Query   register.Query // its page is passed over
	Machine string         // what this machine is called, where others are asked, too; else ""
	NotHere bool           // this machine's register has no part in it
	Others  []Elsewhere    // registers of other machines
}

// Elsewhere is the register of another machine of the office.
type Elsewhere struct {
	Machine string
	// Read lets f read it with the rights of who exports; f is not called where she is not known there. It does not
	// change while f runs.
	Read func(ctx context.Context, f func(rg *Registry, v store.Viewer) error) error
}

// ErrTooMany says that enough is being written.
var ErrTooMany = errors.New("several exports are being written already; wait until one is done, or stop one")

// Exports write tables of the register in the background. They are part of the registry.
type Exports struct{ *Registry }

// exports are those that are kept.
type exports struct {
	mutex sync.Mutex
	all   map[string]*Export
}

// Start writes what a viewer's query finds as a table, in the background.
func (rg *Exports) Start(ctx context.Context, v store.Viewer, of ExportOf) (Export, error) {
	of.Query.Most, of.Query.After = 0, register.Number{}
	rg.exports.mutex.Lock()
	defer rg.exports.mutex.Unlock()
	if rg.exports.all == nil {
		rg.exports.all = map[string]*Export{}
	}
	running, his := 0, 0
	for _, x := range rg.exports.all {
		if x.State == store.Running {
			running++
			if x.owner == v.ID {
				his++
			}
		}
	}
	if running >= mostExports || his >= mostOfOne {
		return Export{}, ErrTooMany
	}
	if err := rg.Store.People.Record(ctx, v, "export register", of.Format); err != nil {
		return Export{}, err
	}
	within, cancel := context.WithCancel(context.WithoutCancel(ctx)) // it goes on when nobody waits for it
	x := &Export{ID: store.NewID(), Format: of.Format, State: store.Running, MadeAt: rg.Clock(), owner: v.ID,
		cancel: cancel}
	x.Name = "Register " + rg.Now().Format("2006-01-02 1504") + "." + of.Format
	rg.exports.all[x.ID] = x
	rg.Go("export", func(ctx context.Context) {
		defer cancel()
		defer context.AfterFunc(ctx, cancel)()
		size, err := rg.writeExport(within, v, x, &of)
		rg.exports.mutex.Lock()
		switch {
		case within.Err() != nil:
			x.State = store.Stopped
		case err != nil:
			x.State, x.Error = store.Broken, err.Error()
			rg.Log.Error("exporting the register", "error", err)
		default:
			x.State, x.Size = store.Done, size
		}
		kept := x.State == store.Done && rg.exports.all[x.ID] == x
		rg.exports.mutex.Unlock()
		if !kept {
			_ = os.Remove(rg.exportPath(x.ID))
		}
		rg.Events.Send(events.Event{Kind: "export", ID: x.ID})
	})
	return *x, nil
}

// dropExports throws away what was kept for long enough.
func (rg *Exports) dropExports() {
	rg.exports.mutex.Lock()
	defer rg.exports.mutex.Unlock()
	for id, x := range rg.exports.all {
		if x.State != store.Running && rg.Clock().Sub(x.MadeAt) > exportsFor {
			_ = os.Remove(rg.exportPath(id)) // emptied at the next start in any case
			delete(rg.exports.all, id)
		}
	}
}

func (rg *Exports) exportPath(id string) string { return filepath.Join(rg.Spool, exportFolder, id) }

func (rg *Exports) writeExport(ctx context.Context, v store.Viewer, x *Export, of *ExportOf) (size int64, err error) {
	if err := os.MkdirAll(filepath.Join(rg.Spool, exportFolder), 0o700); err != nil {
		return 0, err
	}
	f, err := os.OpenFile(rg.exportPath(x.ID), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	sources, rows, err := rg.sourcesOf(ctx, v, of)
	if err != nil {
		return 0, err
	}
	rg.exports.mutex.Lock()
	x.Rows = rows
	rg.exports.mutex.Unlock()
	compare := register.CompareLines(of.Query.Sort, of.Query.Ascending)
	err = rg.writeTable(ctx, f, of.Format, of.Columns, of.Letters, sources, compare, func(done int) {
		rg.exports.mutex.Lock()
		x.Done = done
		rg.exports.mutex.Unlock()
	})
	if err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// tableRows are the lines of the register that stand in each row of a table: one, or all of a
// message. only leaves out lines of these messages that the query does not find.
func (rg *Registry) tableRows(ctx context.Context, v store.Viewer, q register.Query, letters,
	only bool) ([][]register.Number, error) {
	found, err := rg.Store.Register.Find(ctx, v, q)
	if err != nil {
		return nil, err
	}
	rows := make([][]register.Number, 0, found.Total)
	if !letters {
		for i := range found.Numbers {
			rows = append(rows, found.Numbers[i:i+1])
		}
		return rows, nil
	}
	all, _, err := rg.Store.Register.FindMessages(ctx, v, q)
	if err != nil {
		return nil, err
	}
	asked := map[register.Number]bool{}
	if only {
		for _, n := range found.Numbers {
			asked[n] = true
		}
	}
	for _, l := range all {
		if only {
			l.Numbers = slices.DeleteFunc(l.Numbers, func(n register.Number) bool { return !asked[n] })
		}
		if len(l.Numbers) > 0 {
			rows = append(rows, l.Numbers)
		}
	}
	return rows, nil
}

// tableSource is a register of which lines are written: this one, or that of another machine.
type tableSource struct {
	machine string
	read    func(ctx context.Context, f func(rg *Registry, v store.Viewer) error) error
	rows    [][]register.Number // that are left
	lines   []register.Line     // read of them
}

// here is a register itself as a source.
func here(rg *Registry, machine string, v store.Viewer, rows [][]register.Number) *tableSource {
	return &tableSource{machine: machine, rows: rows,
		read: func(_ context.Context, f func(*Registry, store.Viewer) error) error { return f(rg, v) }}
}

// sourcesOf are the registers whose lines an export has, and how many lines it has.
func (rg *Exports) sourcesOf(ctx context.Context, v store.Viewer, of *ExportOf) (all []*tableSource, rows int,
	err error) {
	if !of.NotHere {
		found, err := rg.tableRows(ctx, v, of.Query, of.Letters, false)
		if err != nil {
			return nil, 0, err
		}
		all, rows = append(all, here(rg.Registry, of.Machine, v, found)), len(found)
	}
	for _, o := range of.Others {
		one := &tableSource{machine: o.Machine, read: o.Read}
		err := o.Read(ctx, func(rg *Registry, v store.Viewer) (err error) {
			one.rows, err = rg.tableRows(ctx, v, of.Query, of.Letters, false)
			return err
		})
		if err != nil {
			return nil, 0, fmt.Errorf("the machine “%s”: %w", o.Machine, err)
		}
		all, rows = append(all, one), rows+len(one.rows)
	}
	return all, rows, nil
}

// fill reads the next lines of a source where none is left of those that were read; letters makes one line of each
// row's lines.
func (t *tableSource) fill(ctx context.Context, letters, withMessages bool) error {
	for len(t.lines) == 0 && len(t.rows) > 0 {
		var numbers []register.Number
		some := 0
		for ; some < len(t.rows) && len(numbers) < linesAtOnce; some++ {
			numbers = append(numbers, t.rows[some]...)
		}
		t.rows = t.rows[some:]
		err := t.read(ctx, func(rg *Registry, v store.Viewer) error {
			filings, err := rg.Store.Register.Numbered(ctx, v, numbers)
			if err != nil {
				return err
			}
			lines, err := rg.Lines(ctx, filings, withMessages)
			for n := 1; len(lines) > 0 && err == nil; lines, filings, n = lines[n:], filings[n:], 1 {
				line := lines[0]
				if letters { // a line may have gone meanwhile, so they are told by their message
					for n < len(lines) && filings[n].MessageID == filings[0].MessageID {
						n++
					}
					line = register.Together(lines[:n])
				}
				line.Machine = t.machine
				t.lines = append(t.lines, line)
			}
			return err
		})
		if err != nil && t.machine != "" {
			err = fmt.Errorf("the machine “%s”: %w", t.machine, err)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writeTable writes lines of registers as a table, in the order of compare; letters makes one line of each row's lines.
func (rg *Registry) writeTable(ctx context.Context, w io.Writer, format string, columns []register.Column,
	letters bool, sources []*tableSource, compare func(a, b *register.Line) int, told func(done int)) error {
	if letters {
		files := 0
		for _, s := range sources {
			for _, r := range s.rows {
				files = max(files, len(r))
			}
		}
		columns = register.ByMessage(columns, files)
	}
	var table register.Writer
	var err error
	if format == "xlsx" {
		table, err = register.NewXLSX(w, columns, rg.Zone, rg.Spool)
	} else {
		table, err = register.NewCSV(w, columns, rg.Zone)
	}
	if err != nil {
		return err
	}
	withMessages := slices.ContainsFunc(columns, func(c register.Column) bool { return c.Name == "message" })
	for done := 0; ; {
		if err := ctx.Err(); err != nil {
			return errors.Join(err, table.Discard())
		}
		var next *tableSource
		for _, s := range sources {
			if err := s.fill(ctx, letters, withMessages); err != nil {
				return errors.Join(err, table.Discard())
			}
			if len(s.lines) > 0 && (next == nil || compare(&s.lines[0], &next.lines[0]) < 0) {
				next = s
			}
		}
		if next == nil {
			break
		}
		done++
		if err := table.Write(&next.lines[0]); err != nil {
			return errors.Join(fmt.Errorf("writing line %d: %w", done, err), table.Discard())
		}
		if next.lines = next.lines[1:]; done%linesAtOnce == 0 || len(next.lines) == 0 {
			told(done)
		}
	}
	return table.Close()
}

// exportOf finds an export of a viewer.
func (rg *Exports) exportOf(v store.Viewer, id string) (*Export, error) {
	x := rg.exports.all[id]
	if x == nil || x.owner != v.ID {
		return nil, store.ErrNotFound
	}
	return x, nil
}

// ByID says how far an export has come.
func (rg *Exports) ByID(v store.Viewer, id string) (Export, error) {
	rg.exports.mutex.Lock()
	defer rg.exports.mutex.Unlock()
	x, err := rg.exportOf(v, id)
	if err != nil {
		return Export{}, err
	}
	return *x, nil
}

// Stop stops an export, or throws it away.
func (rg *Exports) Stop(v store.Viewer, id string) error {
	rg.exports.mutex.Lock()
	defer rg.exports.mutex.Unlock()
	x, err := rg.exportOf(v, id)
	if err != nil {
		return err
	}
	x.cancel()
	if x.State != store.Running {
		delete(rg.exports.all, id)
		if err := os.Remove(rg.exportPath(id)); !errors.Is(err, fs.ErrNotExist) { // one that was stopped has none
			return err
		}
	}
	return nil
}

// ErrNotReady says that an export is not done.
var ErrNotReady = errors.New("the export is not done yet, or was stopped")

// Open opens an export's table.
func (rg *Exports) Open(v store.Viewer, id string) (io.ReadCloser, Export, error) {
	x, err := rg.ByID(v, id)
	if err == nil && x.State != store.Done {
		err = ErrNotReady
	}
	if err != nil {
		return nil, x, err
	}
	f, err := os.Open(rg.exportPath(id))
	return f, x, err
}
