package source

import (
	"math/bits"
	"sync"
)

// Parts of messages come and go by the thousand, and most are of a few sizes: their buffers are used again.

// The sizes of buffers that are kept, as powers of two of octets.
const (
	smallest = 14 // 16 kB
	largest  = 22 // 4 MB
)

var buffers [largest + 1]sync.Pool

// Buffer gives n octets of any content, to be handed to Recycle when nobody reads them any more.
func Buffer(n int64) []byte {
	class := max(bits.Len64(uint64(max(n, 1)-1)), smallest)
	if class > largest {
		return make([]byte, n)
	}
	if kept, ok := buffers[class].Get().(*[]byte); ok {
		return (*kept)[:n]
	}
	return make([]byte, n, 1<<class)
}

// Recycle lets a buffer be used for something else.
func Recycle(b []byte) {
	class := bits.Len(uint(cap(b))) - 1
	if class < smallest || class > largest || cap(b) != 1<<class {
		return
	}
	b = b[:0]
	buffers[class].Put(&b)
}
