package engine

import (
	"context"
	"fmt"
	"io"
	"sync"

	"inktray.example/inktray/internal/source"
)

// shortPart says that a mail server gave fewer octets of a part than it announced.
// Either an exchange went wrong, or the server counts otherwise than others do.
type shortPart struct{ got, announced int64 }

func (s *shortPart) Error() string {
	return fmt.Sprintf("the mail server announced %d bytes of this part and gave %d", s.announced, s.got)
}

// shortParts remembers parts that came shorter than announced. A part that comes with
// the same length twice is taken to be whole. It may be used by several goroutines.
type shortParts struct {
	mutex sync.Mutex
	seen  map[string]int64 // octets by message and item
}

// mostShort bounds how many such parts are remembered.
const mostShort = 10_000

// again notes a length and says whether the part had it before.
func (s *shortParts) again(key string, got int64) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	before, known := s.seen[key]
	if s.seen == nil || len(s.seen) > mostShort {
		s.seen = map[string]int64{}
	}
	s.seen[key] = got
	return known && before == got
}

// part opens one part of a message, still in its transfer encoding. Where the server
// gives nothing of a part that has octets, or fewer octets than it announced, reading
// ends with an error.
func (e *Engine) part(ctx context.Context, s source.Session, l *letter, item string, announced int64) (io.ReadCloser, error) {
	r, err := s.Part(ctx, l.facts, item)
	if err != nil || l.facts.Whole || announced == 0 {
		return r, err
	}
	return &countedPart{ReadCloser: r, announced: announced, short: &e.short, key: fmt.Sprintf("%x/%s", l.row.Fingerprint, item)}, nil
}

// countedPart counts what comes of a part.
type countedPart struct {
	io.ReadCloser
	got, announced int64
	short          *shortParts
	key            string
}

func (c *countedPart) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.got += int64(n)
	if err != io.EOF || c.got >= c.announced {
		return n, err
	}
	if c.got == 0 && c.announced > 2 { // an empty part may have a line end
		return n, source.ErrNothing
	}
	if c.short.again(c.key, c.got) {
		return n, io.EOF
	}
	return n, &shortPart{c.got, c.announced}
}
