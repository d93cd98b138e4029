package child

import (
	"io"
	"testing"

	"inktray.example/inktray/internal/core/unpack"
)

// BenchmarkStart is what a process of its own costs before it reads anything large.
func BenchmarkStart(b *testing.B) {
	f := file(b, zipped(b, "a.txt"))
	for b.Loop() {
		if err := Unpack(b.Context(), f, unpack.Request{Name: "a.zip"},
			func(unpack.Entry, io.Reader) error { return nil }); err != nil {
			b.Fatal(err)
		}
	}
}
