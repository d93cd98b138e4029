package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/register"
)

// A damaged file of words is thrown away when that turns out, and the records are not said to be damaged.
func TestDamagedWordsAreThrownAway(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, wordsFile)
	kept := func(s *Store) int {
		t.Helper()
		found, err := s.Words.Match(t.Context(), []string{"water"})
		if err != nil {
			t.Fatal(err)
		}
		return len(found)
	}
	var whole []byte
	for _, from := range []int{-1, 0, 4096, 3 * 4096} { // from where on it is damaged
		if from >= 0 {
			broken := append([]byte(nil), whole...)
			copy(broken[from:], strings.Repeat("\xa5", len(broken)-from))
			if err := os.WriteFile(path, broken, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s, err := Open(folder)
		if err != nil {
			t.Fatal(err)
		}
		if from >= 0 {
			if err := s.Words.Follow(t.Context(), []string{"r"}); err != nil {
				t.Errorf("damaged from %d on: %v", from, err)
			}
			if n := kept(s); n != 0 {
				t.Errorf("damaged from %d on: %d are found", from, n)
			}
			stats, err := s.Words.Stats(t.Context())
			if err != nil || stats.Files != 0 {
				t.Errorf("damaged from %d on: %+v, %v", from, stats, err)
			}
		}
		for i := range 400 {
			f := &Filing{Year: 2026, Number: i + 1, RuleID: "r", SHA256: []byte{1}}
			text := "oily water " + strings.Repeat(fmt.Sprintf("word%d ", i), 40)
			if err := s.Words.Put(t.Context(), f, text, ""); err != nil {
				t.Fatal(err)
			}
		}
		if n := kept(s); n != 400 {
			t.Errorf("%d are found", n)
		}
		if err := errors.Join(s.Words.Overwrite(t.Context()), s.Close()); err != nil {
			t.Fatal(err)
		}
		if whole, err = os.ReadFile(path); err != nil {
			t.Fatal(err)
		}
	}
}

func TestNoWordsAreKeptBeforeARuleWantsThem(t *testing.T) {
	folder := t.TempDir()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := errors.Join(s.Words.Drop(t.Context(), register.Number{Year: 2026, Number: 1}),
		s.Words.Overwrite(t.Context())); err != nil {
		t.Error(err)
	}
	if stats, err := s.Words.Stats(t.Context()); err != nil || stats.Octets != 0 || !s.Words.None() {
		t.Errorf("%+v, %v; none are kept: %v", stats, err, s.Words.None())
	}
	if _, err := (*Words)(nil).Match(t.Context(), []string{"water"}); !errors.Is(err, ErrNoWords) {
		t.Errorf("a copy says %v", err)
	}
}
