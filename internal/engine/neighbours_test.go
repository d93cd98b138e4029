package engine

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

// Whatever lies under a wanted name, the file gets the next one, and the cabinet goes on for all others.
func TestWhateverLiesUnderTheNameAFileGetsTheNextOne(t *testing.T) {
	for _, n := range cabinettest.Neighbours {
		if n.After {
			continue // the cabinets' own tests have these
		}
		t.Run(n.Name, func(t *testing.T) {
			h, box := live(t, bundles("\n  - {take: everything, folder: Gauges}\n"), 0)
			folder := filepath.Join(h.files, "Gauges")
			if err := errors.Join(os.Mkdir(folder, 0o755),
				os.WriteFile(filepath.Join(folder, "beside.csv"), []byte("beside"), 0o644)); err != nil {
				t.Fatal(err)
			}
			if err := n.Make(filepath.Join(folder, "May.csv")); errors.Is(err, cabinettest.ErrNoNeighbour) {
				t.Skip(err)
			} else if err != nil {
				t.Fatal(err)
			}
			box.add(raw("May", "May.csv", "new"))
			box.add(raw("after", "after.csv", "another one"))
			h.until(n.Name+": the file after it is filed", func() bool { return h.filesIn("after.csv") == "another one" })
			if got := h.filesIn("May (2).csv"); got != "new" {
				t.Errorf("the next name holds %q: %s", got, h.said())
			}
			if notices, err := h.store.Tray.Notices(t.Context(), store.System); err != nil || len(notices) > 0 {
				t.Errorf("the tray has %+v, %v", notices, err)
			}
			if err := h.engine.Cabinets.CheckCabinet(t.Context(), "cab"); err != nil {
				t.Errorf("the cabinet: %v", err)
			}
			h.said() // waits until all is entered
			// Verification does not wait either.
			filings, err := h.store.Register.List(t.Context(), store.System, register.Query{Most: 10})
			if err != nil || len(filings) != 2 {
				t.Fatalf("%d filings, %v", len(filings), err)
			}
			for i := range filings {
				if err := os.Remove(filepath.Join(folder, filings[i].File)); err != nil {
					t.Fatal(err)
				}
				if err := n.Make(filepath.Join(folder, filings[i].File)); err != nil && !os.IsExist(err) {
					t.Fatal(err)
				}
				began := time.Now()
				if err := h.engine.Registry.VerifyFiling(t.Context(), &filings[i]); err != nil {
					t.Errorf("verifying: %v", err)
				}
				if took := time.Since(began); took > cabinettest.Long {
					t.Errorf("verifying took %v", took)
				}
			}
		})
	}
}

func (h *house) filesIn(name string) string {
	info, err := os.Stat(filepath.Join(h.files, "Gauges", name))
	if err != nil || !info.Mode().IsRegular() {
		return ""
	}
	data, _ := os.ReadFile(filepath.Join(h.files, "Gauges", name))
	return string(data)
}

// A folder on the way that is none, or leads outside, concerns the files that want it only.
func TestAFolderThatIsNoneConcernsItsOwnFilesOnly(t *testing.T) {
	outside := t.TempDir()
	for name, make := range map[string]func(at string) error{
		"a link outside":    func(at string) error { return os.Symlink(outside, at) },
		"a link to nothing": func(at string) error { return os.Symlink("nowhere", at) },
		"a link to itself":  func(at string) error { return os.Symlink(filepath.Base(at), at) },
		"a file":            func(at string) error { return os.WriteFile(at, nil, 0o644) },
	} {
		t.Run(name, func(t *testing.T) {
			h, box := live(t, "name: Bundles\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: every "+
				"message\nattachments:\n  - {take: everything, folder: <subject>}\n", 0)
			if err := make(filepath.Join(h.files, "Bad")); err != nil {
				t.Fatal(err)
			}
			box.add(raw("Bad", "bad.csv", "1"))
			box.add(raw("Gauges", "good.csv", "2"))
			h.until("the other file is filed", func() bool { return h.filesIn("good.csv") == "2" })
			entries, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
			if err != nil || len(entries) != 1 || entries[0].Cause != store.CauseCabinet ||
				!strings.Contains(entries[0].Reason.String(), "Bad") {
				t.Errorf("the tray has %+v, %v", entries, err)
			}
			if notices, err := h.store.Tray.Notices(t.Context(), store.System); err != nil || len(notices) > 0 {
				t.Errorf("the cabinet is told of: %+v, %v", notices, err)
			}
			if left, err := os.ReadDir(outside); err != nil || len(left) > 0 {
				t.Errorf("%d things lie outside", len(left))
			}
		})
	}
}

// Not every folder may become a cabinet.
func TestPlacesThatAreRefusedAsCabinets(t *testing.T) {
	h := newHouse(t, (&memory{validity: 1}).dial)
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink("/etc", link); err != nil {
		t.Fatal(err)
	}
	foreign := t.TempDir()
	if _, err := local.Prepare(foreign, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(foreign, "deep", "deeper"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(h.files, "within"), 0o755); err != nil {
		t.Fatal(err)
	}
	for folder, says := range map[string]string{
		"/": "of the system", "/etc": "of the system", "/etc/inktray": "of the system", "/usr/share": "of the system",
		"/home": "of the system", "/tmp": "of the system", "/proc/self": "of the system", "//": "of the system",
		"/etc/../usr": "of the system",
		link:          "of the system", h.data: "own data folder", filepath.Join(h.data, "spool"): "own data folder",
		filepath.Dir(h.data):             "own data folder",
		filepath.Join(h.files, "within"): "inside the cabinet “harbour files”", h.files +
			"/new": "inside the cabinet “harbour files”", filepath.Dir(h.files): "contains the cabinet “harbour files”",
		filepath.Join(foreign, "deep", "deeper"): "inside another cabinet",
	} {
		c := store.Cabinet{ID: store.NewID(), Name: "new", Kind: "local", Folder: folder, MadeAt: time.Now()}
		err := h.engine.Cabinets.AddCabinet(t.Context(), &c, "test")
		var told *cabinet.Error
		if !errors.As(err, &told) || !strings.Contains(told.Problem, says) {
			t.Errorf("%s: %v, want ...%s...", folder, err, says)
		}
		if _, err := os.Stat(filepath.Join(folder, cabinet.Reserved)); err == nil && folder != h.files {
			t.Errorf("%s was made into a cabinet all the same", folder)
		}
		c.ID = "cab"
		if _, err := h.engine.Cabinets.MoveCabinet(t.Context(), &c, "test"); !errors.As(err, &told) {
			t.Errorf("moving a cabinet to %s: %v", folder, err)
		}
	}
	good := store.Cabinet{ID: store.NewID(), Name: "good", Kind: "local", Folder: filepath.Join(t.TempDir(), "good"),
		MadeAt: time.Now()}
	if err := h.engine.Cabinets.AddCabinet(t.Context(), &good, "test"); err != nil {
		t.Errorf("a good place: %v", err)
	}
}

// A file that the cabinet does not take though it takes all others is told of, and the others are filed.
func TestAFileThatACabinetDoesNotTakeStopsNoOther(t *testing.T) {
	box := &memory{}
	h, f := onFault(t, box)
	h.hurry()
	f.Fail(func(op, name string) error {
		if op == "write" && strings.Contains(name, "-1-") && !strings.Contains(name, "/check-") {
			return syscall.EFBIG
		}
		return nil
	})
	box.add(raw("one", "large.csv", "1", "small.csv", "2"))
	h.until("the other one is filed", func() bool { return f.Files()["Gauges/2026/05/small.csv"] == "2" })
	h.until("the tray says so", func() bool {
		entries, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
		return err == nil && len(entries) == 1 && entries[0].Cause == store.CauseCabinet &&
			strings.Contains(entries[0].Reason.String(), "file too large")
	})
	h.until("the cabinet is in order", func() bool {
		n, err := h.store.Tray.Notices(t.Context(), store.System)
		return err == nil && len(n) == 0 && h.engine.Cabinets.Problem("cab") == nil
	})
}
