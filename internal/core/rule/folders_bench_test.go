package rule

import (
	"fmt"
	"testing"

	"inktray.example/inktray/internal/core/mail"
)

// BenchmarkAllFolders resolves "all" in mailboxes of many folders.
func BenchmarkAllFolders(b *testing.B) {
	for _, folders := range []int{1000, 10000} {
		b.Run(fmt.Sprint(folders), func(b *testing.B) {
			listing := []mail.Folder{{Path: "INBOX", Selectable: true}}
			for i := range folders {
				listing = append(listing, mail.Folder{Path: fmt.Sprintf("Berths/%06d", i), Selectable: true})
			}
			l := Look{Folders: []string{"all"}}
			for b.Loop() {
				if paths, _ := l.Resolve(listing); len(paths) != len(listing) {
					b.Fatalf("%d paths, want %d", len(paths), len(listing))
				}
			}
		})
	}
}

// BenchmarkLooksInto judges one folder of many, as each is when a rule is switched on.
func BenchmarkLooksInto(b *testing.B) {
	listing := []mail.Folder{{Path: "INBOX", Selectable: true}}
	for i := range 10_000 {
		listing = append(listing, mail.Folder{Path: fmt.Sprintf("Berths/%06d", i), Selectable: true})
	}
	for _, in := range []string{"all", "Berths/007000"} {
		b.Run(in, func(b *testing.B) {
			l := Look{Folders: []string{in}}
			for b.Loop() {
				if !l.LooksInto(listing, "Berths/007000") {
					b.Fatal("it does not look there")
				}
			}
		})
	}
}
