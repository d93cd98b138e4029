package source

import (
	"fmt"
	"sync"
	"testing"
)

func TestBuffersHaveTheLengthThatIsAskedFor(t *testing.T) {
	for _, n := range []int64{0, 1, 16 << 10, 16<<10 + 1, 1 << 20, 1<<20 + 1, 4 << 20, 4<<20 + 1, 10 << 20} {
		for range 3 {
			b := Buffer(n)
			if int64(len(b)) != n || int64(cap(b)) > max(2*n, 16<<10) {
				t.Errorf("%d octets: a buffer of %d, with room for %d", n, len(b), cap(b))
			}
			Recycle(b)
		}
	}
	Recycle(nil)
	Recycle(make([]byte, 100_000)) // of another size than those that are kept
}

func TestABufferIsInOneHandOnly(t *testing.T) {
	var wait sync.WaitGroup
	for who := range 8 {
		wait.Go(func() {
			for i := range 500 {
				b := Buffer(int64(20_000 + i))
				mark := fmt.Sprint(who, i)
				copy(b, mark)
				for range 10 {
					if string(b[:len(mark)]) != mark {
						t.Error("another wrote into it")
						return
					}
				}
				Recycle(b)
			}
		})
	}
	wait.Wait()
}
