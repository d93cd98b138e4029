package store

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/testbed"
)

var writeDocs = flag.Bool("write-docs", false, "write the tables of states into docs/states.md")

func TestEveryStateIsReachedAndKnown(t *testing.T) {
	for i := range Lifecycles {
		l := &Lifecycles[i]
		known := map[string]bool{}
		for _, step := range l.Steps {
			known[step.From] = true
		}
		reached := map[string]bool{}
		next := slices.Clone(l.Begin)
		for len(next) > 0 {
			state := next[0]
			next = next[1:]
			if reached[state] {
				continue
			}
			reached[state] = true
			if !known[state] {
				t.Errorf("%s: the state %q has no row", l.What, state)
			}
			for _, step := range l.Steps {
				if step.From == state {
					next = append(next, step.To...)
				}
			}
		}
		for state := range known {
			if !reached[state] {
				t.Errorf("%s: nothing leads to the state %q", l.What, state)
			}
		}
	}
}

func TestAChangeOfAStateThatNoTableHasIsNoted(t *testing.T) {
	s := opened(t)
	e := message(t, s, "box", 1, "1")
	if err := s.Journal.Stage(t.Context(), &e[0], nil, time.Now()); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Unexpected(); err != nil || len(found) != 0 {
		t.Fatalf("noted %v (%v), want nothing", found, err)
	}
	if err := exec(s.write, statement{"UPDATE journal SET state = 'held' WHERE id = ?", []any{e[0].ID}}); err != nil {
		t.Fatal(err)
	}
	want := fmt.Sprintf("journal %d: staged to held", e[0].ID)
	if found, err := s.Unexpected(); err != nil || len(found) != 1 || found[0] != want {
		t.Errorf("noted %q (%v), want %q", found, err, want)
	}
	for range mostUnexpected {
		for _, state := range []State{Staged, Held} {
			if err := exec(s.write, statement{"UPDATE journal SET state = ? WHERE id = ?", []any{state, e[0].ID}}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if found, err := s.Unexpected(); err != nil || len(found) != mostUnexpected {
		t.Errorf("noted %d (%v), want %d", len(found), err, mostUnexpected)
	}
	// a connection that is opened anew has neither the notes nor what makes them
	for _, l := range Lifecycles {
		if err := exec(s.write, statement{"DROP TRIGGER states_of_" + l.Table, nil}); err != nil {
			t.Fatal(err)
		}
	}
	if err := exec(s.write, statement{"DROP TABLE temp.unexpected", nil}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Unexpected(); err != nil || len(found) != 0 {
		t.Errorf("on a new connection: %v (%v)", found, err)
	}
	if err := exec(s.write, statement{"UPDATE journal SET state = 'staged' WHERE id = ?", []any{e[0].ID}}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Unexpected(); err != nil || len(found) != 1 {
		t.Errorf("afterwards: %v (%v)", found, err)
	}
}

func TestLookingAtTheStatesDoesNotHideThatTheDiskIsFull(t *testing.T) {
	s := opened(t)
	s.Interrupt(func(bool) error { return &Trouble{Problem: "the disk is full", Full: true} })
	if err := s.Mailboxes.SaveListing(t.Context(), "box", []mail.Folder{{Path: "INBOX"}}); TroubleOf(err) == nil {
		t.Fatalf("the listing was kept on a full disk: %v", err)
	}
	s.Interrupt(func(bool) error { return nil })
	if _, err := s.Unexpected(); err != nil {
		t.Fatal(err)
	}
	if s.Refusal() == nil {
		t.Error("nothing is said of the full disk any more, though nothing was written since")
	}
}

// TestTheDocumentHasTheTablesOfStates writes them with -write-docs.
func TestTheDocumentHasTheTablesOfStates(t *testing.T) {
	var b strings.Builder
	for i := range Lifecycles {
		l := &Lifecycles[i]
		fmt.Fprintf(&b, "\n**%s** (`%s`), beginning as %s:\n\n| state | may become | when |\n|---|---|---|\n", l.What,
			l.Table, strings.Join(l.Begin, ", "))
		for _, step := range l.Steps {
			to := strings.Join(step.To, ", ")
			if to == "" {
				to = "-"
			}
			fmt.Fprintf(&b, "| %s | %s | %s |\n", step.From, to, step.Why)
		}
	}
	testbed.CheckSection(t, filepath.Join("..", "..", "docs", "states.md"), "states", b.String(), *writeDocs)
}
