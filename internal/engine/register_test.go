package engine

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// filedHouse is a house in which so many messages with one file each were filed.
func filedHouse(t *testing.T, n int) (*house, *postbox) {
	t.Helper()
	box := newPostbox()
	h := newHouse(t, box.dial)
	h.hurry()
	h.watched()
	h.rule(gaugesRule)
	for i := range n {
		box.deliver("INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), fmt.Sprint(i)))
	}
	h.until("all is filed", func() bool { return h.count("") == n })
	return h, box
}

// count counts what a search finds.
func (h *house) count(search string) int {
	h.t.Helper()
	s, err := register.ParseSearch(search, time.UTC)
	if err != nil {
		h.t.Fatal(err)
	}
	n, err := h.store.Register.Count(h.t.Context(), store.System, register.Query{Search: s})
	if err != nil {
		h.t.Fatal(err)
	}
	return n
}

// verify verifies everything and waits for the end.
func (h *house) verify() store.Pass {
	h.t.Helper()
	p, err := h.engine.Registry.Verify(h.t.Context(), store.System, register.Query{})
	if err != nil {
		h.t.Fatal(err)
	}
	var done store.Pass
	h.until("it is verified", func() bool {
		done, err = h.store.Passes.ByID(h.t.Context(), store.System, p.ID)
		return err == nil && done.State != store.Running
	})
	return done
}

func (h *house) filing(number int) store.Filing {
	h.t.Helper()
	f, err := h.store.Register.ByNumber(h.t.Context(), store.System, time.Now().Year(), number)
	if err != nil {
		h.t.Fatal(err)
	}
	return f
}

func TestWhatIsMissingOrChangedIsFoundAndGoesToTheTray(t *testing.T) {
	h, _ := filedHouse(t, 5)
	if p := h.verify(); p.State != store.Done || p.Looked != 5 || p.Matched != 0 || p.Note != "" {
		t.Errorf("all is as it was, and the pass says %+v", p)
	}
	at := func(n int) string { return filepath.Join(h.files, h.filing(n).Folder, h.filing(n).File) }
	first, second := at(1), at(2)
	if err := errors.Join(os.Remove(first), os.WriteFile(second, []byte("corrected"), 0o644)); err != nil {
		t.Fatal(err)
	}
	if p := h.verify(); p.Matched != 2 || p.Note != "1 missing; 1 changed" {
		t.Errorf("the pass says %+v", p)
	}
	if h.count("state:missing") != 1 || h.count("state:changed") != 1 || h.count("") != 5 {
		t.Errorf("%d missing, %d changed, %d in all", h.count("state:missing"), h.count("state:changed"), h.count(""))
	}
	counts, err := h.store.Tray.Counts(t.Context(), store.System)
	if err != nil || counts[store.CauseMissing] != 1 || counts[store.CauseChanged] != 1 {
		t.Errorf("the tray has %v, %v", counts, err)
	}
	if news, err := h.store.Alarms.NewsSince(t.Context(), time.Time{}); err != nil || len(news.Filings) != 2 ||
		!strings.Contains(fmt.Sprint(outbox.Summary(&news, nil).Groups), h.filing(1).File) {
		t.Errorf("somebody is told of %+v, %v", news.Filings, err)
	}
	// The missing one is put back, and the changed one is accepted.
	if err := os.WriteFile(first, []byte(contentOf(h.filing(1))), 0o644); err != nil {
		t.Fatal(err)
	}
	m, err := h.store.Tray.OfCause(t.Context(), store.System, store.CauseMissing)
	if err != nil || len(m.Filings) != 1 {
		t.Fatal(m, err)
	}
	if n, err := h.engine.Desk.Again(t.Context(), store.System, m); n != 1 || err != nil || h.count("state:missing") != 0 {
		t.Errorf("looked at again: %d, %v; still %d missing", n, err, h.count("state:missing"))
	}
	if m, err = h.store.Tray.OfCause(t.Context(), store.System, store.CauseChanged); err != nil {
		t.Fatal(err)
	}
	if n, err := h.engine.Desk.SetAside(t.Context(), store.System, m, "the harbour master corrected it"); n != 1 ||
		err != nil {
		t.Errorf("accepted: %d, %v", n, err)
	}
	h.verify()
	if n, err := h.store.Tray.Count(t.Context(), store.System); n != 0 || err != nil {
		t.Errorf("%d wait in the tray, %v", n, err)
	}
	for number, want := range map[int]string{1: "missing found again", 2: "changed settled"} {
		var kinds []string
		later, err := h.store.Register.HappeningsOf(t.Context(), register.Number{Year: time.Now().Year(), Number: number})
		for _, e := range later {
			kinds = append(kinds, e.Kind)
		}
		if err != nil || strings.Join(kinds, " ") != want {
			t.Errorf("the story of %d: %v, %v; want %s", number, kinds, err, want)
		}
	}
}

// contentOf is what the file of a filing held.
func contentOf(f store.Filing) string {
	return strings.TrimSuffix(strings.TrimPrefix(f.File, "r"), ".csv")
}

func TestAMissingFileIsFiledAgainFromItsMessage(t *testing.T) {
	h, _ := filedHouse(t, 2)
	f := h.filing(1)
	if err := os.Remove(filepath.Join(h.files, f.Folder, f.File)); err != nil {
		t.Fatal(err)
	}
	h.verify()
	m, err := h.store.Tray.OfCause(t.Context(), store.System, store.CauseMissing)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := h.engine.Desk.FileMissingAgain(t.Context(), store.System, m); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	h.until("it is there again", func() bool { return h.tree()[f.Folder+"/"+f.File] == contentOf(f) })
	h.until("it has a number of its own", func() bool { return h.count("3") == 1 && h.filing(3).File == f.File })
	if was := h.filing(1); was.State() != register.TakenBack {
		t.Errorf("the first filing is %s", was.State())
	}
	if n, _ := h.store.Tray.Count(t.Context(), store.System); n != 0 {
		t.Errorf("%d wait in the tray", n)
	}
	if n, err := h.engine.Desk.FileMissingAgain(t.Context(), store.System, m); n != 0 {
		t.Errorf("a second time it is filed %d times more (%v)", n, err)
	}
}

func TestAnUnmountedCabinetMakesNothingMissing(t *testing.T) {
	h, _ := filedHouse(t, 3)
	away := h.files + "-away"
	if err := errors.Join(os.Rename(h.files, away), os.Mkdir(h.files, 0o755)); err != nil {
		t.Fatal(err)
	}
	h.until("it is noticed", func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") != nil })
	p := h.verify()
	if h.count("state:missing") != 0 || p.Matched != 0 || !strings.Contains(p.Note, "not verified") {
		t.Errorf("%d are missing; the pass says %+v", h.count("state:missing"), p)
	}
	if err := errors.Join(os.Remove(h.files), os.Rename(away, h.files)); err != nil {
		t.Fatal(err)
	}
	h.until("it is back", func() bool { return h.engine.Cabinets.CheckCabinet(t.Context(), "cab") == nil })
	if p := h.verify(); p.Looked != 3 || p.Note != "" {
		t.Errorf("once it is back: %+v", p)
	}
}

func TestFilesAreVerifiedByPlan(t *testing.T) {
	const files = 60 // more than one batch
	h, _ := filedHouse(t, files)
	if err := h.store.Settings.PlanVerification(t.Context(), store.VerificationPlan{EveryDays: 30}, 0,
		"test"); err != nil {
		t.Fatal(err)
	}
	if n, _ := h.store.Verifications.CountDue(t.Context(), h.engine.Clock().AddDate(0, 0, -30)); n != 0 {
		t.Fatalf("%d are due at once", n)
	}
	h.later(31 * 24 * time.Hour)
	h.until("it was verified by itself",
		func() bool {
			n, err := h.store.Verifications.Count(t.Context(), store.System)
			return n == files && err == nil
		})
	h.until("the pass has ended",
		func() bool {
			last, err := h.store.Verifications.Last(t.Context())
			return err == nil && last.State == store.Done
		})
	last, err := h.store.Verifications.Last(t.Context())
	if err != nil || last.MadeBy != "the plan" || last.Total != files || last.Looked != files {
		t.Errorf("the pass is %+v, %v", last, err)
	}
	// A cabinet that is out of reach: one pass, not one every few seconds.
	h.later(40 * 24 * time.Hour)
	away := h.files + "-away"
	if err := errors.Join(os.Rename(h.files, away), os.Mkdir(h.files, 0o755)); err != nil {
		t.Fatal(err)
	}
	h.until("it is tried", func() bool {
		last, err := h.store.Verifications.Last(t.Context())
		return err == nil && last.State == store.Done && strings.Contains(last.Note, fmt.Sprint(files, " not verified"))
	})
	if last, err = h.store.Verifications.Last(t.Context()); err != nil || last.Looked != files {
		t.Errorf("with the cabinet out of reach: %+v, %v", last, err)
	}
	if err := h.engine.Registry.VerifyDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	if again, _ := h.store.Verifications.Last(t.Context()); again.ID != last.ID {
		t.Error("it is tried again at once")
	}
	if err := errors.Join(os.Remove(h.files), os.Rename(away, h.files)); err != nil {
		t.Fatal(err)
	}
	now := h.engine.Now()
	plan := store.VerificationPlan{EveryDays: 1, FromTime: now.Add(2 * time.Hour).Format("15:04"),
		ToTime: now.Add(3 * time.Hour).Format("15:04")}
	if err := h.store.Settings.PlanVerification(t.Context(), plan, 0, "test"); err != nil {
		t.Fatal(err)
	}
	h.later(48 * time.Hour)
	if err := h.engine.Registry.VerifyDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	if after, _ := h.store.Verifications.Last(t.Context()); after.ID != last.ID {
		t.Error("it verifies outside its hours")
	}
	if err := registry.CheckVerificationPlan(store.VerificationPlan{FromTime: "25:00", ToTime: "1"}); err == nil {
		t.Error("a time that is none is taken")
	}
}

// table reads a register that is kept as CSV.
func table(t *testing.T, data string) [][]string {
	t.Helper()
	rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(data, "\ufeff"))).ReadAll()
	if err != nil {
		t.Fatalf("%v in %q", err, data)
	}
	return rows
}

func TestARegisterIsKeptAsAFileAndFollowsWhatHappens(t *testing.T) {
	h, box := filedHouse(t, 3)
	year := fmt.Sprint(time.Now().Year())
	if _, err := h.engine.Registry.SaveRegisterFile(t.Context(), "", 0,
		registry.RegisterFileOf{Name: "Register", Cabinet: "harbour files", Folder: "Lists", Format: "csv"},
		"test"); err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.Registry.SaveRegisterFile(t.Context(), "", 0,
		registry.RegisterFileOf{Name: "Others", Cabinet: "harbour files", OfFolder: "Elsewhere", Format: "xlsx"},
		"test"); err != nil {
		t.Fatal(err)
	}
	kept := func() string { return h.tree()["Lists/Register "+year+".csv"] }
	if rows := table(t, kept()); len(rows) != 4 || rows[1][0] != year+"-1" || rows[3][0] != year+"-3" {
		t.Fatalf("it begins with %v", rows)
	}
	box.deliver("INBOX", raw("one more", "more.csv", "more"))
	h.until("the new filing stands there", func() bool { return strings.Contains(kept(), "more.csv") })
	f := h.filing(2)
	h.undone(0, f.JournalID)
	h.until("that it was taken back stands there", func() bool { return strings.Contains(kept(), "taken back") })
	if rows := table(t, kept()); len(rows) != 5 || rows[2][0] != year+"-2" {
		t.Errorf("no number goes, and there are %v", rows)
	}
	if h.tree()["Others "+year+".xlsx"] != "" {
		t.Error("a register without a filing was written")
	}
	// Somebody types into it: that is kept, and told.
	if err := os.WriteFile(filepath.Join(h.files, "Lists", "Register "+year+".csv"), []byte("typed by hand"),
		0o644); err != nil {
		t.Fatal(err)
	}
	box.deliver("INBOX", raw("and more", "and-more.csv", "and more"))
	h.until("it is right again", func() bool { return strings.Contains(kept(), "and-more.csv") })
	found := false
	for name, content := range h.tree() {
		found = found || strings.Contains(name, "(changed ") && content == "typed by hand"
	}
	if !found {
		t.Errorf("what was typed is lost: %v", h.tree())
	}
	h.until("it is told", func() bool {
		n, _ := h.store.Tray.Notices(t.Context(), store.System)
		return slices.ContainsFunc(n,
			func(n store.Notice) bool { return strings.Contains(n.Text, "A person or program changed the register") })
	})
}

func TestARegisterFileTakesNobodysPlaceAndSaysWhatIsWrong(t *testing.T) {
	h, _ := filedHouse(t, 1)
	year := fmt.Sprint(time.Now().Year())
	if err := os.WriteFile(filepath.Join(h.files, "Mine "+year+".csv"), []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		of    registry.RegisterFileOf
		place string
	}{
		"a name that is taken in the cabinet": {
			registry.RegisterFileOf{Name: "Mine", Cabinet: "harbour files", Format: "csv"}, "name"},
		"no name":         {registry.RegisterFileOf{Name: " ", Cabinet: "harbour files", Format: "csv"}, "name"},
		"no such cabinet": {registry.RegisterFileOf{Name: "R", Cabinet: "attic", Format: "csv"}, "cabinet"},
		"no such rule": {registry.RegisterFileOf{Name: "R", Cabinet: "harbour files", Format: "csv", Rule: "none"},
			"rule"},
		"a rule and a folder": {
			registry.RegisterFileOf{Name: "R", Cabinet: "harbour files", Format: "csv", Rule: "Tide gauge readings",
				OfFolder: "x"}, "of_folder"},
		"no such column": {
			registry.RegisterFileOf{Name: "R", Cabinet: "harbour files", Format: "csv", Columns: []string{"colour"}}, "columns"},
	} {
		_, err := h.engine.Registry.SaveRegisterFile(t.Context(), "", 0, c.of, "test")
		var problems rule.Problems
		if !errors.As(err, &problems) || problems[0].Place != c.place {
			t.Errorf("%s: %v", name, err)
		}
	}
	if all, err := h.store.RegisterFiles.All(t.Context()); len(all) != 0 || err != nil {
		t.Errorf("kept all the same: %+v, %v", all, err)
	}
	if h.tree()["Mine "+year+".csv"] != "mine" {
		t.Error("somebody's file was replaced")
	}
}

// TestThePowerMayGoWhileARegisterIsWritten cuts the cabinet's power at every
// operation of writing a register anew, starts the service again, and reads what
// is there: the old one or the new one, whole, and then the new one.
func TestThePowerMayGoWhileARegisterIsWritten(t *testing.T) {
	run := func(cut int) (steps int) {
		box := &memory{}
		h := newHouse(t, box.dial)
		defer func() { h.engine.Stop() }()
		f := faultfs.New()
		prepareFault(t, f)
		h.open = func(*store.Cabinet) (cabinet.Cabinet, error) {
			return local.On("memory", "x", func() (disk.FS, error) { return f, nil }), nil
		}
		h.beat = time.Hour // it is written only when this test says so
		h.restart()
		h.watched()
		h.rule(gaugesRule)
		box.add(raw("one", "a.csv", "first"))
		h.until("it is filed", func() bool { return h.count("") == 1 })
		of, err := h.engine.Registry.SaveRegisterFile(t.Context(), "", 0,
			registry.RegisterFileOf{Name: "Register", Cabinet: "harbour files", Format: "csv"}, "test")
		if err != nil {
			t.Fatal(err)
		}
		name := fmt.Sprintf("Register %d.csv", time.Now().Year())
		old := f.Files()[name]
		box.add(raw("two", "b.csv", "second"))
		h.until("the second is filed", func() bool { return h.count("") == 2 })
		write := func() error {
			kept, err := h.store.RegisterFiles.ByID(t.Context(), of.ID)
			return errors.Join(err, h.engine.Registry.WriteRegisterFile(context.Background(), &kept))
		}
		before := f.Steps()
		if cut > 0 {
			f.CutAt(cut)
		}
		err = write()
		if steps = f.Steps() - before; cut == 0 && err != nil {
			t.Fatal(err)
		}
		h.engine.Stop()
		f.PowerUp()
		there := f.Files()[name]
		if there != old && !strings.Contains(there, "b.csv") {
			t.Fatalf("cut at %d: %q is there", cut, there)
		}
		if rows := table(t, there); len(rows) != 2 && len(rows) != 3 {
			t.Fatalf("cut at %d: %v", cut, rows)
		}
		h.later(time.Hour)
		h.start()
		if err := write(); err != nil {
			t.Fatalf("cut at %d: afterwards %v", cut, err)
		}
		if rows := table(t, f.Files()[name]); len(rows) != 3 || !strings.Contains(rows[2][1], "b.csv") {
			t.Fatalf("cut at %d: afterwards %v", cut, rows)
		}
		for other := range f.Files() {
			if strings.Contains(other, "changed") || strings.Contains(other, "staging") {
				t.Errorf("cut at %d: %s is left over", cut, other)
			}
		}
		return steps
	}
	n := run(0)
	if n < 8 {
		t.Fatalf("only %d operations", n)
	}
	for cut := 1; cut <= n; cut++ {
		run(cut)
	}
	t.Logf("the power was cut at each of %d operations", n)
}

// The program may end before or after each change of the records: what it wrote
// is known as its own afterwards, and nothing is taken for a person's change.
func TestTheProgramMayEndWhileARegisterIsWritten(t *testing.T) {
	h, box := filedHouse(t, 1)
	h.beat = time.Hour
	h.restart()
	of, err := h.engine.Registry.SaveRegisterFile(t.Context(), "", 0,
		registry.RegisterFileOf{Name: "Register", Cabinet: "harbour files", Format: "csv"}, "test")
	if err != nil {
		t.Fatal(err)
	}
	name, ends := fmt.Sprintf("Register %d.csv", time.Now().Year()), errors.New("the program ends")
	write := func() error {
		kept, err := h.store.RegisterFiles.ByID(t.Context(), of.ID)
		if err != nil {
			return err
		}
		return h.engine.Registry.WriteRegisterFile(context.Background(), &kept)
	}
	sent := 1
	another := func() {
		h.watched()
		sent++
		box.deliver("INBOX", raw(fmt.Sprint("more ", sent), fmt.Sprintf("more%d.csv", sent), fmt.Sprint(sent)))
		h.until("it is filed", func() bool { return h.count("") == sent })
	}
	for n := 1; ; n++ {
		another()
		h.engine.Stop() // so that the end meets nobody else's change
		at, reached := 0, false
		h.store.Interrupt(func(bool) error {
			if at++; at >= n { // and nothing is recorded any more
				reached = true
				return ends
			}
			return nil
		})
		err := write()
		h.store.Interrupt(func(bool) error { return nil })
		h.start()
		if !reached {
			if err != nil || n < 5 {
				t.Fatalf("%d changes, %v", n-1, err)
			}
			break
		}
		another() // so that what is written next is not what was written
		if err := write(); err != nil {
			t.Fatalf("after the end at %d: %v", n, err)
		}
		rows := table(t, h.tree()[name])
		if len(rows) != sent+1 || !strings.Contains(rows[sent][1], fmt.Sprintf("more%d.csv", sent)) {
			t.Fatalf("after the end at %d it holds %v", n, rows)
		}
	}
	for other := range h.tree() {
		if strings.Contains(other, "changed") {
			t.Errorf("its own file was taken for a person's: %s", other)
		}
	}
}

func TestAnExportCanBeStoppedAndBelongsToWhoAskedForIt(t *testing.T) {
	h, _ := filedHouse(t, 4)
	columns, err := register.ColumnsNamed(nil)
	if err != nil {
		t.Fatal(err)
	}
	ines, rowan := store.Viewer{ID: "i", Name: "Ines", Role: store.Administrator, All: true, AllCabinets: true},
		store.Viewer{ID: "r", Name: "Rowan", Role: store.Reader, Only: []string{"another"}, AllCabinets: true}
	wait := func(v store.Viewer, x registry.Export) registry.Export {
		h.until("it is written", func() bool {
			x, err = h.engine.Registry.Exports.ByID(v, x.ID)
			return err == nil && x.State != store.Running
		})
		return x
	}
	x, err := h.engine.Registry.Exports.Start(t.Context(), ines,
		registry.ExportOf{Format: "csv", Columns: columns, Query: register.Query{Ascending: true}})
	if err != nil {
		t.Fatal(err)
	}
	if x = wait(ines, x); x.State != store.Done || x.Rows != 4 || x.Done != 4 || x.Size == 0 {
		t.Errorf("the export is %+v", x)
	}
	f, _, err := h.engine.Registry.Exports.Open(ines, x.ID)
	if err != nil {
		t.Fatal(err)
	}
	data, _ := io.ReadAll(f)
	f.Close()
	if rows := table(t, string(data)); len(rows) != 5 {
		t.Errorf("it holds %v", rows)
	}
	if _, err := h.engine.Registry.Exports.ByID(rowan, x.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("somebody else sees it: %v", err)
	}
	mine, err := h.engine.Registry.Exports.Start(t.Context(), rowan, registry.ExportOf{Format: "xlsx", Columns: columns})
	if err != nil {
		t.Fatal(err)
	}
	if mine = wait(rowan, mine); mine.Rows != 0 || mine.State != store.Done {
		t.Errorf("who may see nothing exports %+v", mine)
	}
	if err := h.engine.Registry.Exports.Stop(ines, x.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(h.data, "spool", "exports", x.ID)); !os.IsNotExist(err) {
		t.Errorf("what was thrown away is still there: %v", err)
	}
	h.later(61 * time.Minute)
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(h.data, "spool", "exports", mine.ID)); !os.IsNotExist(err) {
		t.Errorf("it is kept for longer than said: %v", err)
	}
}

func TestAPersonsTracesAreErasedAndTheNumbersStay(t *testing.T) {
	h, box := filedHouse(t, 2)
	other := strings.NewReplacer("oda@tidewatch.example", "rowan@tidewatch.example", "Oda Fenwick",
		"Rowan Askew").Replace(string(raw("reading of another", "other.csv", "other")))
	box.deliver("INBOX", []byte(other))
	h.until("the other's is filed", func() bool { return h.count("") == 3 })
	if err := h.store.Register.AddNote(t.Context(), store.System,
		&store.Note{Year: time.Now().Year(), Number: 1, Text: "asked Oda Fenwick about it", MadeBy: "Ines",
			MadeAt: time.Now()}); err != nil {
		t.Fatal(err)
	}
	look, stays, err := h.engine.Registry.PreviewErasure(t.Context(), "Oda@Tidewatch.example")
	if err != nil || look.Filings != 2 || look.Messages != 2 || look.Files != 2 || look.Notes != 1 || len(stays) < 3 ||
		h.count("oda") != 2 {
		t.Fatalf("the preview says %+v, %v, %v", look, stays, err)
	}
	done, _, err := h.engine.Registry.Erase(t.Context(), store.System, "oda@tidewatch.example", false)
	if err != nil || done.Filings != 2 {
		t.Fatal(done, err)
	}
	if h.count("oda") != 0 || h.count("Fenwick") != 0 || h.count("state:all") != 3 || h.count("rowan") != 1 {
		t.Errorf("found: %d by name, %d in all, %d of another", h.count("oda"), h.count("state:all"), h.count("rowan"))
	}
	f := h.filing(1)
	if f.SenderAddress != "" || f.Subject != "" || f.Size != 1 || len(f.SHA256) != 32 || f.ErasedAt == nil ||
		f.File == "" {
		t.Errorf("the line is %+v", f)
	}
	if len(h.tree()) != 3 {
		t.Errorf("files went that were to stay: %v", h.tree())
	}
	if s, err := h.engine.Registry.StoryOf(t.Context(), store.System, f); err != nil || s.MessageID != "" ||
		!strings.Contains(fmt.Sprint(s.Happenings), "erased") {
		t.Errorf("its story is %+v, %v", s, err)
	}
	for _, bad := range []string{"", "oda", "a@b.example, c@d.example"} {
		if _, _, err := h.engine.Registry.PreviewErasure(t.Context(), bad); err == nil {
			t.Errorf("%q is taken for a person", bad)
		}
	}
	// Nothing of the person is in the records' files any more.
	h.engine.Stop()
	if err := h.store.Close(); err != nil {
		t.Fatal(err)
	}
	names, err := filepath.Glob(filepath.Join(h.data, "inktray.db*"))
	if err != nil || len(names) == 0 {
		t.Fatal(names, err)
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, trace := range []string{"oda@tidewatch", "Oda Fenwick", "reading 0"} {
			if strings.Contains(strings.ToLower(string(data)), strings.ToLower(trace)) {
				t.Errorf("%s still holds %q", filepath.Base(name), trace)
			}
		}
	}
	if h.store, err = store.Open(h.data); err != nil {
		t.Fatal(err)
	}
	h.start()
	if h.count("state:all") != 3 {
		t.Errorf("after a restart there are %d lines", h.count("state:all"))
	}
}

func TestAPersonsFilesGoTooWhereThatIsAskedFor(t *testing.T) {
	h, box := filedHouse(t, 2)
	shared := strings.NewReplacer("oda@tidewatch.example",
		"rowan@tidewatch.example").Replace(string(raw("the same", "r0.csv", "0")))
	box.deliver("INBOX", []byte(shared)) // the file of somebody else too
	h.until("all is decided", func() bool {
		s, _ := h.store.Journal.StateCounts(t.Context(), store.System)
		return s[store.Filed]+s[store.There] == 3
	})
	done, _, err := h.engine.Registry.Erase(t.Context(), store.System, "oda@tidewatch.example", true)
	if err != nil || done.Removed != 1 {
		t.Fatalf("%+v, %v", done, err)
	}
	if got := h.tree(); len(got) != 1 {
		t.Errorf("there are still %v", got)
	}
	if f := h.filing(2); f.File != "" || f.State() != register.TakenBack {
		t.Errorf("the line is %+v", f)
	}
	if left, _ := filepath.Glob(filepath.Join(h.files, cabinet.Reserved, "replaced", "*")); len(left) > 0 {
		t.Errorf("kept out of the way: %v", left)
	}
}

func TestAfterItsTimeTheRegisterForgetsWho(t *testing.T) {
	h, _ := filedHouse(t, 2)
	limits := store.UsualLimits
	limits.RegisterDays = 100
	if err := h.store.Settings.SetLimits(t.Context(), limits, 0, "test"); err != nil {
		t.Fatal(err)
	}
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	if h.count("oda") != 2 {
		t.Error("it forgets too early")
	}
	h.later(101 * 24 * time.Hour)
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	if h.count("oda") != 0 || h.count("state:all") != 2 || len(h.tree()) != 2 {
		t.Errorf("%d by name, %d lines, %d files", h.count("oda"), h.count("state:all"), len(h.tree()))
	}
	for id := int64(1); id <= 2; id++ {
		m, err := h.store.Messages.ByID(t.Context(), store.System, id)
		entries, err2 := h.store.Journal.OfMessage(t.Context(), store.System, id)
		if err := errors.Join(err, err2); err != nil || m.Subject != "" || m.SenderAddress != "" || m.ErasedAt == nil ||
			len(m.Header) > 0 || entries[0].Name != "" {
			t.Errorf("of message %d there is still %+v, %+v, %v", id, m, entries, err)
		}
	}
	if err := h.engine.Registry.RemoveOld(t.Context()); err != nil {
		t.Fatal(err)
	}
	f := h.filing(1)
	later, err := h.store.Register.HappeningsOf(t.Context(), f.Entry())
	if n := strings.Count(fmt.Sprint(later), "erased"); n != 1 || err != nil {
		t.Errorf("it was erased %d times, %v", n, err)
	}
}
