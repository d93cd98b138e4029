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
			now := time.Now().UTC()
			var lines []Filing
			for i := range files {
				lines = append(lines, Filing{Year: 2026, Number: i + 1, JournalID: int64(i + 1), CabinetID: "c", Folder: "In",
					File: fmt.Sprint(i), FiledAt: &now})
			}
			if err := exec(s.write, statement{"PRAGMA foreign_keys = OFF", nil}); err != nil {
				b.Fatal(err)
			}
			if err := s.write.CreateInBatches(lines, 500).Error; err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				if used, err := s.Journal.FolderUsed(b.Context(), &Entry{CabinetID: "c"}, "In"); err != nil || !used {
					b.Fatal(used, err)
				}
			}
		})
	}
}
