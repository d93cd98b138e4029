package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// A register file is written in full under a temporary name and replaced in one step, so that it can be opened at any
// moment. The checksums of the old and of the new content are recorded first, so that it is corrected after a crash.

// RegisterFileOf says how a register is to be kept.
type RegisterFileOf struct {
	Name, Cabinet, Folder, Format string
	Per                           string // "filing" or "message"; "" for filing
	Rule                          string // its name; "" for all
	OfFolder                      string // of the cabinet; "" for all
	Columns                       []string
}

// SaveRegisterFile keeps a register as a file and writes it at once; one without
// an id is new. The error, if any, is rule.Problems, or the cabinet's.
func (rg *Registry) SaveRegisterFile(ctx context.Context, id string, revision int, of RegisterFileOf,
	actor string) (store.RegisterFile, error) {
	f := store.RegisterFile{ID: id, Name: safename.Segment(strings.TrimSpace(of.Name)), Format: of.Format,
		Per: cmp.Or(of.Per, "filing"), Scope: "all", Columns: append([]string{}, of.Columns...)}
	var problems rule.Problems
	wrong := func(place, text string) { problems = append(problems, rule.Problem{Place: place, Text: text}) }
	if strings.TrimSpace(of.Name) == "" {
		wrong("name", "a name is needed")
	}
	c, err := rg.Store.Cabinets.Named(ctx, of.Cabinet)
	if err != nil {
		wrong("cabinet", fmt.Sprintf("there is no cabinet called “%s”", of.Cabinet))
	}
	f.CabinetID = c.ID
	f.Folder = strings.Join(safename.Folder(of.Folder), "/")
	if len(of.Columns) > 0 {
		values, err := ValueNames(ctx, rg, store.System)
		if err != nil {
			return f, err
		}
		if _, err := register.ColumnsNamed(of.Columns, values...); err != nil {
			wrong("columns", err.Error())
		}
	}
	switch {
	case of.Rule != "" && of.OfFolder != "":
		wrong("of_folder", "name a rule or a folder, not both")
	case of.Rule != "":
		rows, err := rg.Store.Rules.All(ctx)
		if err != nil {
			return f, err
		}
		i := slices.IndexFunc(rows, func(r store.Rule) bool { return strings.EqualFold(r.Name, of.Rule) })
		if i < 0 {
			wrong("rule", fmt.Sprintf("there is no rule called “%s”", of.Rule))
			break
		}
		f.Scope, f.RuleID = "rule", rows[i].ID
	case of.OfFolder != "":
		f.Scope, f.OfFolder = "folder", strings.Join(safename.Folder(of.OfFolder), "/")
	}
	if len(problems) > 0 {
		return f, problems
	}
	if err := rg.Store.RegisterFiles.Save(ctx, &f, revision, rg.Clock(), actor); err != nil {
		return f, err
	}
	err = rg.WriteRegisterFile(ctx, &f)
	if errors.Is(err, errForeign) && id == "" { // nothing of it is kept
		return f, errors.Join(rule.Problems{
			{Place: "name", Text: "a file of that name is there already, and Ink Tray did not write it; choose another name " +
				"or folder"}}, rg.Store.RegisterFiles.Remove(ctx, f.ID, actor))
	}
	return f, nil // what else is wrong is told with it, and it is tried again
}

// errForeign says that a file that somebody else made has the name.
var errForeign = errors.New("a file of that name is there, and Ink Tray did not write it")

// WriteRegisterFile writes the years that changed since it was written.
func (rg *Registry) WriteRegisterFile(ctx context.Context, f *store.RegisterFile) error {
	rg.registering.Lock()
	defer rg.registering.Unlock()
	years, last, err := rg.Store.RegisterFiles.ChangesSince(ctx, f.LastChange)
	if err == nil {
		for _, year := range years {
			if err = rg.writeYear(ctx, f, year); err != nil {
				break
			}
		}
	}
	if err == nil && len(years) == 0 && f.Problem == "" {
		return nil
	}
	was := f.Problem
	f.Problem, f.Advice = "", ""
	switch {
	case err == nil:
		f.LastChange = last
	case ctx.Err() != nil:
		return ctx.Err()
	default:
		var known *cabinet.Error
		f.Problem, f.Advice = err.Error(), "Ink Tray writes it as soon as that is repaired."
		if errors.As(err, &known) {
			f.Problem = known.Problem
			f.Advice = strings.TrimSpace(known.Advice + " Ink Tray writes it as soon as that is repaired.")
		}
	}
	if f.Problem != was {
		if err := rg.tellOfRegisterFile(ctx, f); err != nil {
			return err
		}
	}
	return errors.Join(err, rg.Store.RegisterFiles.WrittenUpTo(ctx, f))
}

func (rg *Registry) tellOfRegisterFile(ctx context.Context, f *store.RegisterFile) error {
	defer rg.Events.Send(events.Event{Kind: "tray"})
	if f.Problem == "" {
		_, err := rg.Store.Tray.Settle(ctx, "register file", f.ID)
		return err
	}
	return rg.Store.Tray.Tell(ctx, &store.Notice{Kind: "register file", Object: f.ID,
		Text:   fmt.Sprintf("The register “%s” could not be written: %s.", f.Name, phrase.TrimStop(f.Problem)),
		Advice: f.Advice, MadeAt: rg.Clock()})
}

// registerQuery is what of a year a register file holds: every number, whatever became of it.
func registerQuery(f *store.RegisterFile, cabinetName string, year int) register.Query {
	q := register.Query{Year: year, Ascending: true, Search: register.Search{States: register.All}}
	switch f.Scope {
	case "rule":
		q.RuleID = f.RuleID
	case "folder":
		q.Cabinet, q.Folder = cabinetName, f.OfFolder
	}
	return q
}

func (rg *Registry) writeYear(ctx context.Context, f *store.RegisterFile, year int) error {
	g, err := rg.Cabinets.Gate(ctx, f.CabinetID)
	if errors.Is(err, store.ErrNotFound) {
		return &cabinet.Error{Problem: "its cabinet was removed", Advice: "Choose another cabinet."}
	}
	if err != nil {
		return err
	}
	if err := g.Ready(ctx); err != nil {
		return err
	}
	all, err := rg.Store.RegisterFiles.Years(ctx, f.ID)
	if err != nil {
		return err
	}
	y := store.RegisterFileYear{FileID: f.ID, Year: year}
	if i := slices.IndexFunc(all, func(y store.RegisterFileYear) bool { return y.Year == year }); i >= 0 {
		y = all[i]
	}
	rows, err := rg.tableRows(ctx, store.System, registerQuery(f, g.Row.Name, year), f.Per == "message", true)
	if err != nil || len(rows) == 0 && y.Path == "" {
		return err
	}
	// No filing may have a value any more that was known when the columns were chosen.
	columns, err := register.ColumnsNamed(f.Columns, register.ValuesNamed(f.Columns)...)
	if err != nil {
		return err
	}
	columns = append(columns, register.WrittenWith(RightsOf(f)))
	if y.Path == "" {
		spot, err := g.Cabinet.Resolve(ctx, safename.Folder(f.Folder),
			safename.File(f.Name+" "+strconv.Itoa(year), "."+f.Format))
		if err != nil {
			return err
		}
		if y.Path = spot.Path; spot.Taken {
			return errForeign
		}
	}
	if err := rg.showChanged(ctx, g, f, &y); err != nil {
		return err
	}
	id := rg.Installation + "-register-" + f.ID[:8] + "-" + rg.Run
	reading, writing := io.Pipe()
	writer := make(chan error, 1)
	go func() {
		err := rg.writeTable(ctx, writing, f.Format, columns, f.Per == "message",
			[]*tableSource{here(rg, "", store.System, rows)}, register.CompareLines("", true), func(int) {})
		writing.CloseWithError(err)
		writer <- err
	}()
	content, err := g.Cabinet.Stage(ctx, id, time.Time{}, reading)
	reading.CloseWithError(errors.New("the cabinet takes no more"))
	if err = errors.Join(err, <-writer); err != nil {
		return errors.Join(err, g.Cabinet.Discard(ctx, id))
	}
	var ours [][32]byte
	for _, sum := range [][]byte{y.SHA256, y.NextSHA256} {
		if len(sum) == 32 {
			ours = append(ours, [32]byte(sum))
		}
	}
	there, err := cabinet.Sum(ctx, g.Cabinet, y.Path)
	if err == nil && there == content && slices.Contains(ours, content.SHA256) {
		if err := g.Cabinet.Discard(ctx, id); err != nil {
			return err
		}
		y.NextSHA256 = content.SHA256[:]
		return rg.Store.RegisterFiles.EndYear(ctx, &y, len(rows), rg.Clock())
	}
	y.NextSHA256 = content.SHA256[:]
	if err := rg.Store.RegisterFiles.BeginYear(ctx, &y); err != nil {
		return err
	}
	err = cabinet.Renew(ctx, g.Cabinet, id, y.Path, append(ours, content.SHA256)...)
	if errors.Is(err, cabinet.ErrTaken) {
		if len(ours) == 0 {
			return errors.Join(errForeign, g.Cabinet.Discard(ctx, id))
		}
		if err := rg.keepChanged(ctx, g, f, &y); err != nil {
			return err
		}
		err = g.Cabinet.Commit(ctx, id, y.Path)
	}
	if err != nil {
		return errors.Join(err, g.Cabinet.Discard(ctx, id))
	}
	return rg.Store.RegisterFiles.EndYear(ctx, &y, len(rows), rg.Clock())
}

// keepChanged renames a register file that somebody changed, so that the new one does not overwrite the changes.
func (rg *Registry) keepChanged(ctx context.Context, g *cabinets.Gate, f *store.RegisterFile,
	y *store.RegisterFileYear) error {
	if err := cabinet.Retire(ctx, g.Cabinet, y.Path, changedName(f, y)); err != nil {
		return err
	}
	return rg.showChanged(ctx, g, f, y)
}

func changedName(f *store.RegisterFile, y *store.RegisterFileYear) string {
	return "register-" + f.ID[:8] + "-" + strconv.Itoa(y.Year)
}

// showChanged gives what was moved out of the way its name, also after a crash;
// nothing is no error.
func (rg *Registry) showChanged(ctx context.Context, g *cabinets.Gate, f *store.RegisterFile,
	y *store.RegisterFileYear) error {
	ext := path.Ext(y.Path)
	stem := strings.TrimSuffix(y.Path, ext) + " (changed " + rg.Now().Format(time.DateOnly) + ")"
	for n := 1; ; n++ {
		name := stem + ext
		if n > 1 {
			name = path.Join(path.Dir(stem), safename.Numbered(path.Base(stem), ext, n))
		}
		err := cabinet.Restore(ctx, g.Cabinet, changedName(f, y), name)
		switch {
		case errors.Is(err, cabinet.ErrMissing):
			return nil
		case errors.Is(err, cabinet.ErrTaken):
			continue
		case err == nil:
			err = rg.Store.Tray.Tell(ctx, &store.Notice{Kind: "register file changed", Object: f.ID + "/" + strconv.Itoa(y.Year),
				Text: fmt.Sprintf("A person or program changed the register “%s”. Ink Tray writes it again; the changed file "+
					"is kept as “%s”.",
					path.Base(y.Path), name),
				Advice: "Write remarks as notes on a filing: they are in the column of notes.", MadeAt: rg.Clock()})
			rg.Events.Send(events.Event{Kind: "tray"})
		}
		return err
	}
}

// RightsOf says with whose rights a register file is written: only administrators keep one, and they see everything.
func RightsOf(f *store.RegisterFile) string {
	return "an administrator, who sees everything (" + f.MadeBy + ")"
}

// KeepRegisters writes the registers that are kept as files, some seconds after
// something changed. The larger one is, the longer the pause.
func (rg *Registry) KeepRegisters(ctx context.Context) {
	next := map[string]time.Time{}
	ticker := time.NewTicker(2 * rg.Beat)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		files, err := rg.Store.RegisterFiles.All(ctx)
		if err != nil {
			rg.Log.Error("reading the registers that are kept", "error", err)
			continue
		}
		for i := range files {
			f := &files[i]
			if rg.Clock().Before(next[f.ID]) {
				continue
			}
			began := rg.Clock()
			err := rg.WriteRegisterFile(ctx, f)
			next[f.ID] = rg.Clock().Add(20 * rg.Clock().Sub(began))
			if err != nil && ctx.Err() == nil {
				next[f.ID] = rg.Clock().Add(rg.Pause(2))
				rg.Log.Warn("writing a register", "register", f.Name, "error", err)
			}
		}
	}
}
