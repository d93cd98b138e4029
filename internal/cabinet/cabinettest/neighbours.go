package cabinettest

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
)

// Neighbour is something that others left in a cabinet under the name that a file is to get, or beside it.
type Neighbour struct {
	Name   string
	Proves string // what a cabinet does with it
	// Make puts it at a path of this machine. ErrNoNeighbour says that this system or this user cannot make it.
	Make func(path string) error
	// Holds is what Sum finds under the name; "" where there is no file to be read.
	Holds string
	// After is done between the look for the name and its use, instead of before the look.
	After bool
}

// ErrNoNeighbour says that this system or this user cannot make a neighbour.
var ErrNoNeighbour = errors.New("it cannot be made here")

// Wanted is where neighbours lie, Long what it takes at most to say something about one.
const (
	Wanted = "Gauges/May.csv"
	Long   = 10 * time.Second
)

// neighbours proves for each kind of neighbour that the name counts as taken, that nothing waits for it, that it stays
// as it is, and that the cabinet is in order.
func neighbours(t *testing.T, open func(t *testing.T) Place) {
	for _, n := range Neighbours {
		t.Run(n.Name, func(t *testing.T) {
			p := open(t)
			if p.Full == nil {
				return // nothing but objects is there
			}
			ctx, cancel := context.WithTimeout(t.Context(), Long)
			defer cancel()
			p.Put(t, "Gauges/beside.csv", "beside")
			put := func() {
				err := n.Make(p.Full(Wanted))
				if errors.Is(err, ErrNoNeighbour) {
					t.SkipNow()
				}
				if err != nil {
					t.Fatal(err)
				}
				p.Like(t, Wanted)
			}
			if !n.After {
				put()
			}
			began := time.Now()
			spot, err := p.Cabinet.Resolve(ctx, []string{"Gauges"}, "May.csv")
			if err != nil {
				t.Fatalf("looking for the name: %v", err)
			}
			if n.After {
				put()
			} else if p.Served {
				short, cancel := context.WithTimeout(ctx, 3*time.Second)
				_, _ = cabinet.Sum(short, p.Cabinet, Wanted) // the server may say what it likes, within its time
				cancel()
			} else if there, err := cabinet.Sum(ctx, p.Cabinet, Wanted); n.Holds != "" && (err != nil ||
				there.Size != int64(len(n.Holds))) {
				t.Errorf("what lies there has %d octets, %v", there.Size, err)
			} else if n.Holds == "" && err == nil {
				t.Errorf("%d octets are read of what is no file", there.Size)
			}
			if p.Served {
				// What the server reads is its own affair.
			} else if r, err := p.Cabinet.Open(ctx, Wanted); err == nil {
				data, _ := io.ReadAll(r)
				if r.Close(); string(data) != n.Holds && !n.After {
					t.Errorf("it is opened, and %.40q is read", data)
				}
			}
			if _, err := p.Cabinet.Stage(ctx, "n1", received, strings.NewReader("new")); err != nil {
				t.Fatal(err)
			}
			err = p.Cabinet.Commit(ctx, "n1", Wanted)
			var refused *cabinet.Error // by a server that does not say why
			if !errors.Is(err, cabinet.ErrTaken) && !(p.Served && errors.As(err, &refused)) {
				t.Errorf("the name is given once more: %v", err)
			}
			if spot.Taken && !spot.Other && n.Holds == "" {
				t.Log("the server does not say that it is no file; reading it tells")
			}
			if err := p.Cabinet.Commit(ctx, "n1", "Gauges/May (2).csv"); err != nil {
				t.Errorf("another name beside it: %v", err)
			}
			if _, err := p.Cabinet.List(ctx, "Gauges"); err != nil {
				t.Errorf("listing the folder: %v", err)
			}
			if err := p.Cabinet.Check(ctx); err != nil {
				t.Errorf("the cabinet is no longer in order: %v", err)
			}
			if took := time.Since(began); took > Long {
				t.Errorf("all of it took %v", took)
			}
			got := p.Files(t)
			if got["Gauges/May (2).csv"] != "new" || got["Gauges/beside.csv"] != "beside" {
				t.Errorf("what lies there: %v", got)
			}
		})
	}
	t.Run("one that vanishes between look and use", func(t *testing.T) {
		p := open(t)
		p.Put(t, Wanted, "there")
		if spot, err := p.Cabinet.Resolve(t.Context(), []string{"Gauges"}, "May.csv"); err != nil || !spot.Taken {
			t.Fatal(spot, err)
		}
		if p.Full == nil {
			return
		}
		if err := remove(p.Full(Wanted)); err != nil {
			t.Fatal(err)
		}
		if _, err := cabinet.Sum(t.Context(), p.Cabinet, Wanted); !errors.Is(err, cabinet.ErrMissing) {
			t.Errorf("it is gone: %v", err)
		}
	})
	for name, other := range map[string]string{"in another case": "mAY.CSV", "in another normal form": "Ma\u0308rz.csv"} {
		t.Run("the same name "+name, func(t *testing.T) {
			p := open(t)
			p.Put(t, "Gauges/"+other, "another")
			wanted := "May.csv"
			if strings.HasPrefix(other, "Ma\u0308") {
				wanted = "M\u00e4rz.csv"
			}
			spot, err := p.Cabinet.Resolve(t.Context(), []string{"Gauges"}, wanted)
			if err != nil || !spot.Taken || spot.Other || spot.By != "Gauges/"+other {
				t.Errorf("%q is there, and %q is %+v, %v", other, wanted, spot, err)
			}
		})
	}
}
