package child

import (
	"errors"
	"os"
	"runtime"
	"sync"
)

// small is a program that holds nothing but what a child needs. It starts faster than this one, which prepares much
// that a child has no use for.
var small struct {
	compressed string
	once       sync.Once
	mutex      sync.Mutex
	path       string   // "" where it cannot be started
	file       *os.File // what path names
}

// Use lets children be a program that holds Main and nothing else, compressed by gzip (RFC 1952). It is called before
// the first child is started. Where that program cannot be started, children are this one.
func Use(compressed string) { small.compressed = compressed }

// programs are the programs that a child can be, the one to try first coming first.
func programs() ([]string, error) {
	small.once.Do(func() {
		if len(small.compressed) > 0 {
			path, err := load(small.compressed)
			if err == nil {
				small.path = path
			}
		}
	})
	self := "/proc/self/exe" // also after an upgrade has put another program in this one's place
	if runtime.GOOS != "linux" {
		var err error
		if self, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	small.mutex.Lock()
	defer small.mutex.Unlock()
	if small.path != "" {
		return []string{small.path, self}, nil
	}
	return []string{self}, nil
}

// cannot says that a program cannot be started, so that nobody tries it again where there is another.
func cannot(path string) {
	small.mutex.Lock()
	defer small.mutex.Unlock()
	if small.path == path {
		small.path = ""
	}
}

var errNoSmall = errors.New("this system starts no program that is in no file")
