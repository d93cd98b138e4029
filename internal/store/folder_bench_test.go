package store

import (
	"fmt"
	"testing"
	"time"
)

// BenchmarkFolderUsed asks whether a folder is new, as before each file that is filed live, where it holds many files.
func BenchmarkFolderUsed(b *testing.B) {
	for _, files := range []int{10, 10_000} {
		b.Run(fmt.Sprint(files), func(b *testing.B) {
			s := opened(b)
			filedIn(b, s, files, func(i int) string { return fmt.Sprint(i) })
			for b.Loop() {
				if used, err := s.Journal.FolderUsed(b.Context(), &Entry{CabinetID: "c"}, "In"); err != nil || !used {
					b.Fatal(used, err)
				}
			}
		})
	}
}

// filedIn fills the register: n files in the folder In of a cabinet.
func filedIn(t testing.TB, s *Store, n int, name func(i int) string) {
	t.Helper()
	now := time.Now().UTC()
	var lines []Filing
	for i := range n {
		lines = append(lines, Filing{Year: 2026, Number: i + 1, JournalID: int64(i + 1), CabinetID: "c", Folder: "In",
			File: name(i), FiledAt: &now, SHA256: []byte("sum of " + name(i))})
	}
	if err := exec(s.write, statement{"PRAGMA foreign_keys = OFF", nil}); err != nil {
		t.Fatal(err)
	}
	if err := s.write.CreateInBatches(lines, 500).Error; err != nil {
		t.Fatal(err)
	}
}

// A file that arrives again and again has a line of the register each time. What is asked of the register before a
// file is named must not take longer for it.
func TestManyLinesOfOneFileDoNotSlowDownNaming(t *testing.T) {
	s := opened(t)
	const n = 20_000
	filedIn(t, s, n, func(i int) string { return fmt.Sprintf("same (%d).csv", 2+i/(n-1)) })
	ask := func() {
		sums, err := s.Register.Series(t.Context(), "c", "In", "same (")
		if err != nil || len(sums) != 2 || sums["same (3).csv"] != "sum of same (3).csv" {
			t.Fatalf("%q, %v", sums, err)
		}
		f, err := s.Register.At(t.Context(), "c", "In", "same (2).csv")
		if err != nil || f.Number != n-1 {
			t.Fatalf("line %d, %v", f.Number, err)
		}
	}
	fastest := time.Hour
	for range 20 {
		began := time.Now()
		ask()
		fastest = min(fastest, time.Since(began))
	}
	if fastest > 3*time.Millisecond { // reading every line takes about 50
		t.Errorf("it takes %v", fastest)
	}
	t.Log("it takes", fastest)
}
