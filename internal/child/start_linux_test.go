package child

import (
	"io"
	"os"
	"testing"

	"inktray.example/inktray/internal/core/unpack"
)

// BenchmarkStart is what a process of its own costs before it reads anything large, of each program that it can be.
func BenchmarkStart(b *testing.B) {
	f := file(b, zipped(b, "a.txt"))
	for _, command := range []string{"inktray-reader", "inktray"} {
		b.Run(command, func(b *testing.B) {
			program, err := os.ReadFile(built(b, command))
			if err != nil {
				b.Fatal(err)
			}
			using(b, program)
			for b.Loop() {
				if err := Unpack(b.Context(), f, unpack.Request{Name: "a.zip"},
					func(unpack.Entry, io.Reader) error { return nil }); err != nil {
					b.Fatal(err)
				}
			}
			if small.path == "" {
				b.Error("the program could not be started")
			}
		})
	}
}
