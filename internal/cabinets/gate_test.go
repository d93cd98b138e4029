package cabinets

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/store"
)

// shelf is an installation with one local cabinet and a clock that the test moves.
type shelf struct {
	*Cabinets
	folder string
	shows  time.Time
	woken  int
}

func newShelf(t *testing.T) *shelf {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	h := &shelf{folder: filepath.Join(t.TempDir(), "files"), shows: time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)}
	identity, err := local.Prepare(h.folder, h.shows)
	if err != nil {
		t.Fatal(err)
	}
	err = s.Cabinets.Add(t.Context(), &store.Cabinet{ID: "cab", Name: "harbour files", Kind: "local", Folder: h.folder,
		Identity: identity,
		MadeAt:   h.shows}, "test")
	if err != nil {
		t.Fatal(err)
	}
	b := base.New(base.Base{Store: s, Clock: func() time.Time { return h.shows }, Zone: time.UTC,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Pause: func(n int) time.Duration { return time.Minute << n }})
	b.Installation = "mark"
	b.WakeAll = func() { h.woken++ }
	h.Cabinets = New(Config{Base: b, Office: office.New(b), Passes: passes.New(), Data: t.TempDir(),
		OpenCabinet: func(c *store.Cabinet) (cabinet.Cabinet, error) { return local.New(c.Folder, c.Identity), nil }})
	h.BeginRun()
	t.Cleanup(func() {
		h.Close()
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return h
}

func TestAFailingCabinetIsClosedForAGrowingWhile(t *testing.T) {
	h := newShelf(t)
	g, err := h.Gate(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	away := h.folder + "-away"
	if err := os.Rename(h.folder, away); err != nil {
		t.Fatal(err)
	}
	var closed *ClosedError
	for n, pause := range []time.Duration{time.Minute, 2 * time.Minute, 4 * time.Minute} {
		h.shows = h.shows.Add(10 * time.Minute)
		if err := g.Ready(t.Context()); !errors.As(err, &closed) || closed.Until.Sub(h.shows) != pause {
			t.Errorf("failure %d: %v, want it closed for %v", n+1, err, pause)
		}
		if h.Problem("cab") == nil {
			t.Error("the problem is not known")
		}
	}
	if told, err := h.Store.Tray.HasNotice(t.Context(), "cabinet", "cab"); err != nil || !told {
		t.Errorf("people are told: %v (%v)", told, err)
	}
	if err := os.Rename(away, h.folder); err != nil {
		t.Fatal(err)
	}
	if err := g.Ready(t.Context()); !errors.As(err, &closed) {
		t.Errorf("within the pause: %v, want it closed", err)
	}
	h.shows, h.woken = h.shows.Add(10*time.Minute), 0
	if err := g.Ready(t.Context()); err != nil || h.woken == 0 {
		t.Errorf("after the pause: %v, and mailboxes were woken %d times", err, h.woken)
	}
	if told, err := h.Store.Tray.HasNotice(t.Context(), "cabinet", "cab"); err != nil || told {
		t.Errorf("the notice is still there: %v (%v)", told, err)
	}
}

func TestNothingIsChangedInACabinetThatIsHeldStill(t *testing.T) {
	h := newShelf(t)
	g, err := h.Gate(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	still := g.Cabinet.(*held)
	still.hold(true)
	for name, change := range map[string]func(ctx context.Context) error{
		"commit":  func(ctx context.Context) error { return g.Cabinet.Commit(ctx, "id", "a.csv") },
		"discard": func(ctx context.Context) error { return g.Cabinet.Discard(ctx, "id") },
		"retire":  func(ctx context.Context) error { return cabinet.Retire(ctx, g.Cabinet, "a.csv", "kept") },
	} {
		var known *cabinet.Error
		if err := change(t.Context()); !errors.As(err, &known) || known.Lasting {
			t.Errorf("%s: %v, want a passing error", name, err)
		}
	}
	still.hold(false)
	if err := g.Cabinet.Discard(t.Context(), "id"); err != nil {
		t.Errorf("after the move: %v", err)
	}
}

func TestFoldersOfTheSystemAndOtherCabinetsAreNoPlaces(t *testing.T) {
	h := newShelf(t)
	inside := filepath.Join(h.folder, "inside")
	for folder, may := range map[string]bool{
		"/etc/inktray": false, "/": false, h.Data: false, inside: false, filepath.Dir(h.folder): false,
		filepath.Join(t.TempDir(), "other"): true,
	} {
		err := h.mayBeCabinet(t.Context(), &store.Cabinet{Kind: "local", Folder: folder})
		if (err == nil) != may {
			t.Errorf("%s: %v, want that it may be one: %v", folder, err, may)
		}
	}
}

// A cabinet is found in order by somebody else at the moment when its failure is being told: the notice does not stay.
func TestACabinetThatIsInOrderWhileItsFailureIsToldIsNotToldOf(t *testing.T) {
	h := newShelf(t)
	g, err := h.Gate(t.Context(), "cab")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	for at := range 2 { // before the outage is recorded, and before the notice is
		changes, looking := 0, false
		h.Store.Interrupt(func(after bool) error {
			if after || looking {
				return nil
			}
			if changes++; changes == at+1 {
				looking = true
				h.shows = h.shows.Add(time.Hour)
				if err := g.Ready(context.Background()); err != nil {
					t.Error(err)
				}
				looking = false
			}
			return nil
		})
		_ = g.Trip(t.Context(), errors.New("one file was refused"))
		h.Store.Interrupt(func(bool) error { return nil })
		notices, err := h.Store.Tray.Notices(t.Context(), store.System)
		if err != nil || len(notices) > 0 {
			t.Errorf("change %d: the tray has %+v, %v", at, notices, err)
		}
	}
}
