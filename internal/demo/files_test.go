package demo

import (
	"bytes"
	"testing"
)

// New mail of the demo goes on coming for weeks: only so many of its pictures are kept in memory.
func TestPicturesThatAreKeptAreBounded(t *testing.T) {
	for seed := range uint64(2 * mostDrawings) {
		again := drawn("a test "+string(rune('a'+seed)), func() []byte { return []byte{byte(seed)} })
		if !bytes.Equal(again, []byte{byte(seed)}) {
			t.Fatalf("picture %d is %v", seed, again)
		}
	}
	if n := len(drawings.kept); n > mostDrawings {
		t.Errorf("%d pictures are kept, want at most %d", n, mostDrawings)
	}
	if !bytes.Equal(photo(7), drawPhoto(7)) || !bytes.Equal(photo(7), photo(7)) {
		t.Error("a picture that is kept is another than the one that is drawn")
	}
}
