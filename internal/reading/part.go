package reading

import (
	"context"
	"fmt"
	"io"
	"sync"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// shortPart says that a mail server gave fewer octets of a part than it announced.
// Either an exchange went wrong, or the server counts otherwise than others do.
type shortPart struct{ got, announced int64 }

func (s *shortPart) Error() string {
	return fmt.Sprintf("the mail server announced %d bytes of this part and gave %d", s.announced, s.got)
}

// shortParts remembers parts that came shorter than announced. It may be used by
// several goroutines.
type shortParts struct {
	mutex sync.Mutex
	seen  map[string]int64 // octets by message and item
}

// mostShort bounds how many such parts are remembered.
const mostShort = 10_000

// note notes that a part came short, and says whether it had the same length before.
func (s *shortParts) note(key string, got int64) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	before, known := s.seen[key]
	if s.seen == nil || len(s.seen) > mostShort {
		s.seen = map[string]int64{}
	}
	s.seen[key] = got
	return known && before == got
}

func (s *shortParts) known(key string) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	_, known := s.seen[key]
	return known
}

// mostWhole bounds the messages that are read whole for the sake of one part, in octets.
const mostWhole = 100 << 20

// part opens one part of a message, still in its transfer encoding. Where the server
// gives nothing of a part that has octets, or fewer octets than it announced, reading
// ends with an error. The next time, the part is taken out of the whole message, which
// is another way to the same octets; of a very large message it is read again, and
// the same length counts as whole.
func (rd *Reader) part(ctx context.Context, s source.Opener, l *Message, item string, announced int64) (io.ReadCloser,
	error) {
	if l.Facts.Whole || announced == 0 {
		return s.Part(ctx, l.Facts, item)
	}
	if l.single++; l.single > mostSingle && l.Facts.Size <= mostInHand && !ahead(s, l, item) {
		if r := rd.fromWhole(ctx, s, l, item, announced); r != nil {
			return r, nil
		}
	}
	key := fmt.Sprintf("%x/%s", l.Row.Fingerprint, item)
	if rd.short.known(key) && l.Facts.Size <= mostWhole {
		whole := *l.Facts
		whole.Whole = true
		return s.Part(ctx, &whole, item)
	}
	r, err := s.Part(ctx, l.Facts, item)
	if err != nil {
		return nil, err
	}
	return &countedPart{ReadCloser: r, announced: announced, short: &rd.short, key: key}, nil
}

// ahead says whether a part was read ahead.
func ahead(s source.Opener, l *Message, item string) bool {
	a, ok := s.(*Ahead)
	return ok && a.Holds(l.Facts.UID, item)
}

// Where many parts of a message are read, it is read whole, once: a server looks for each part from the message's
// beginning, so that thousands of them would take it minutes.
const (
	mostSingle = 8        // parts of a message that are asked for one by one
	mostInHand = 16 << 20 // octets of a message that is kept in memory for its parts
)

// wholeMessage is a message that was read whole for its parts.
type wholeMessage struct {
	raw  *mail.Raw       // nil where it could not be read
	same map[string]bool // the parts of which the server's account is that of the bytes
}

// fromWhole takes a part out of the whole message. It is nil where the message cannot be read whole, or where its
// bytes have another structure than the server announced: then the part itself is asked for.
func (rd *Reader) fromWhole(ctx context.Context, s source.Opener, l *Message, item string,
	announced int64) io.ReadCloser {
	if l.whole == nil {
		l.whole = readWhole(ctx, s, l)
	}
	if !l.whole.same[item] {
		return nil
	}
	part, err := l.whole.raw.Open(item)
	if err != nil {
		return nil
	}
	if there, ok := part.(interface{ Len() int }); !ok || int64(there.Len()) != announced {
		return nil
	}
	return io.NopCloser(part)
}

// readWhole reads a message whole. What is wrong with the connection shows when the next part is asked for.
func readWhole(ctx context.Context, s source.Opener, l *Message) *wholeMessage {
	none := &wholeMessage{}
	r, err := s.Part(ctx, l.Facts, source.Whole)
	if err != nil {
		return none
	}
	data, err := io.ReadAll(io.LimitReader(r, mostInHand+1))
	if closeErr := r.Close(); err != nil || closeErr != nil || len(data) > mostInHand {
		return none
	}
	whole := mail.Parse(data)
	return &wholeMessage{raw: whole, same: sameParts(l.Mail, whole.Message)}
}

// sameParts lists the parts on which two accounts of a message agree, from its beginning up to where they differ: a
// server may count fewer parts than there are. After a difference, one part could be taken for another of the same
// length.
func sameParts(a, b *mail.Message) map[string]bool {
	same := map[string]bool{}
	items, others := a.Items(), b.Items()
	for i, x := range items {
		if i >= len(others) {
			return same
		}
		y := others[i]
		if x.ID != y.ID || x.Name != y.Name || x.Type != y.Type || x.Encoding != y.Encoding || x.Encoded != y.Encoded {
			return same
		}
		same[x.ID] = true
	}
	if len(items) < len(others) {
		return same
	}
	texts := b.TextParts()
	for i, x := range a.TextParts() {
		if i >= len(texts) || x.Item != texts[i].Item || x.Type != texts[i].Type || x.Size != texts[i].Size {
			return same
		}
		same[x.Item] = true
	}
	return same
}

// countedPart counts what comes of a part. How it ended stays so, however often it is
// read again.
type countedPart struct {
	io.ReadCloser
	got, announced int64
	short          *shortParts
	key            string
	ended          error
}

func (c *countedPart) Read(p []byte) (int, error) {
	if c.ended != nil {
		return 0, c.ended
	}
	n, err := c.ReadCloser.Read(p)
	c.got += int64(n)
	if err == io.EOF {
		err = c.end()
	}
	c.ended = err
	return n, err
}

// end says how a part ended that gives no more.
func (c *countedPart) end() error {
	switch {
	case c.got >= c.announced, c.got == 0 && c.announced <= 2: // an empty part may have a line end
		return io.EOF
	case c.short.note(c.key, c.got):
		return io.EOF
	case c.got == 0:
		return source.ErrNothing
	}
	return &shortPart{c.got, c.announced}
}
