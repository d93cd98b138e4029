package filing

import (
	"context"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/store"
)

// series is what the register knows of the numbered names that were asked for last: thousands of files of one name may
// come in one message, and reading all names again for each would take longer with every file. It may be behind the
// register by what others did since it was read, which costs a look at the cabinet or leaves a number free.
type series struct {
	mu   sync.Mutex
	of   string            // the cabinet, the folder and how the names begin
	sums map[string]string // by name: the SHA-256 of what is there
	read time.Time
}

// seriesFor is how long it is believed.
const seriesFor = 10 * time.Second

// asks reads it, unless that was done just now. of names it.
func (fl naming) asks(ctx context.Context, cabinetID, at, stem, ext string) (of string, err error) {
	folder, now := path.Dir(at), fl.Now()
	suffix := " (" + strconv.Itoa(mostNames) + ")"
	begins := strings.TrimSuffix(safename.Numbered(stem, ext, mostNames), suffix+safename.Ext(ext))
	if strings.HasPrefix(safename.Numbered(stem, ext, 2), begins+" (") {
		begins += " (" // the higher numbers do not shorten the name
	}
	of = strings.Join([]string{cabinetID, folder, begins}, "\x00")
	s := &fl.series
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == of && now.Sub(s.read) < seriesFor && !now.Before(s.read) {
		return of, nil
	}
	s.of, s.read = of, now
	if s.sums, err = fl.Store.Register.Series(ctx, cabinetID, folder, begins); err != nil {
		s.of = ""
	}
	return of, err
}

// isOther says whether the file that has a name is known to have another checksum.
func (s *series) isOther(of, file string, sum []byte) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of != of || of == "" {
		return false
	}
	there, known := s.sums[file]
	return known && there != string(sum)
}

// add notes that a file has its name now.
func (s *series) add(e *store.Entry) {
	s.mu.Lock()
	defer s.mu.Unlock()
	folder, file := path.Dir(e.Path), path.Base(e.Path)
	rest, here := strings.CutPrefix(s.of, e.CabinetID+"\x00"+folder+"\x00")
	switch {
	case !here || !strings.HasPrefix(file, rest):
	case e.Displaced != "":
		s.of = "" // another content has a name that is known
	default:
		s.sums[file] = string(e.SHA256)
	}
}
