package office

import (
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/store"
)

func opened(t *testing.T) *Office {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	o := New(base.New(base.Base{Store: s, Clock: time.Now, Zone: time.UTC, Log: slog.New(slog.DiscardHandler)}))
	if err := o.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	return o
}

func TestASnapshotStaysAsItIs(t *testing.T) {
	o := opened(t)
	before := o.Settings()
	err := o.SaveLookupTable(t.Context(), &store.LookupTable{Name: "Berths", Rows: [][2]string{{"N1", "North 1"}}}, 0,
		"test")
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := before.Lookup("berths", "n1"); ok {
		t.Error("a snapshot changed after it was taken")
	}
	if got, ok := o.Settings().Lookup(" BERTHS ", "n1"); !ok || got != "North 1" {
		t.Errorf("the table has %q, %v", got, ok)
	}
	if now := o.Settings(); now.Version <= before.Version {
		t.Errorf("version %d follows %d", now.Version, before.Version)
	}
}

func TestOfManyChangesAtOnceTheLastStateWins(t *testing.T) {
	o := opened(t)
	var all sync.WaitGroup
	for n := range 20 {
		all.Go(func() {
			c := store.Correspondent{Name: fmt.Sprint("Firm ", n), Domains: []string{fmt.Sprintf("firm%d.example", n)},
				Addresses: []string{}, Groups: []string{}}
			if err := o.SaveCorrespondent(t.Context(), &c, nil, 0, "test"); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	book := o.Settings().Book
	for n := range 20 {
		if book.Find(mail.Address{Local: "x", Domain: fmt.Sprintf("firm%d.example", n)}) == nil {
			t.Errorf("firm %d is in the records and not in the settings", n)
		}
	}
}
