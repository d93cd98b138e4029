package engine

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// otherwise is a mailbox whose server gives the whole message otherwise than its parts: without its last line.
type otherwise struct {
	*memorySession
	differs bool
}

func (s *otherwise) Part(ctx context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	r, err := s.memorySession.Part(ctx, f, item)
	if err != nil || item != source.Whole || !s.differs {
		return r, err
	}
	data, err := io.ReadAll(r)
	return io.NopCloser(bytes.NewReader(bytes.ReplaceAll(data, []byte("content"), []byte("cont")))), err
}

// A server looks for each part from the beginning of the message, so many parts are taken out of the whole message.
func TestManyPartsOfAMessageAreReadAtOnce(t *testing.T) {
	for _, differs := range []bool{false, true} {
		box := &memory{validity: 1}
		h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
			s, err := box.dial(ctx, m, secret)
			return &otherwise{s.(*memorySession), differs}, err
		})
		h.watched()
		h.rule(bundles("\n  - {take: everything, folder: B}\n"))
		var many []string
		want := map[string]string{}
		for i := range 60 {
			name, content := fmt.Sprintf("%02d.csv", i), fmt.Sprintf("content of %d", i)
			many = append(many, name, content)
			want["B/"+name] = content
		}
		box.add(raw("many", many...))
		h.expect(want)
		wholes, singles := 0, 0
		box.mutex.Lock()
		for _, p := range box.parts {
			if strings.HasSuffix(p, "/"+source.Whole) {
				wholes++
			} else {
				singles++
			}
		}
		box.mutex.Unlock()
		// on a slow machine another lane goes on with the message, and counts anew
		if wholes < 1 || wholes > 4 || !differs && singles > 8*wholes+8 || differs && singles < 60 {
			t.Errorf("the whole message was read %d times, and %d parts (it differs: %v)", wholes, singles, differs)
		}
	}
}
