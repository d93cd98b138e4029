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

// otherwise is a mailbox whose server gives the whole message otherwise than its parts.
type otherwise struct {
	*memorySession
	differs func(message []byte) []byte // nil where it does not
}

func (s *otherwise) Part(ctx context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	r, err := s.memorySession.Part(ctx, f, item)
	if err != nil || item != source.Whole || s.differs == nil {
		return r, err
	}
	data, err := io.ReadAll(r)
	return io.NopCloser(bytes.NewReader(s.differs(data))), err
}

// A server looks for each part from the beginning of the message, so many parts are taken out of the whole message.
func TestManyPartsOfAMessageAreReadAtOnce(t *testing.T) {
	const more = "--b\r\nContent-Type: text/csv; name=more.csv\r\n\r\nmore\r\n--b--"
	for what, differs := range map[string]func([]byte) []byte{
		"the same":                  nil,
		"more parts than announced": func(m []byte) []byte { return bytes.ReplaceAll(m, []byte("--b--"), []byte(more)) },
		"other lengths":             func(m []byte) []byte { return bytes.ReplaceAll(m, []byte("content"), []byte("cont")) },
		// every part has the length of another one, and what is at its place is another attachment
		"another order": func(m []byte) []byte {
			m = bytes.ReplaceAll(m, []byte("10.csv"), []byte("xx.csv"))
			m = bytes.ReplaceAll(m, []byte("11.csv"), []byte("10.csv"))
			m = bytes.ReplaceAll(m, []byte("xx.csv"), []byte("11.csv"))
			m = bytes.ReplaceAll(m, []byte("content of 10"), []byte("content of xx"))
			m = bytes.ReplaceAll(m, []byte("content of 11"), []byte("content of 10"))
			return bytes.ReplaceAll(m, []byte("content of xx"), []byte("content of 11"))
		},
	} {
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
		taken := what == "the same" || what == "more parts than announced"
		if wholes < 1 || wholes > 4 || taken && singles > 8*wholes+8 || !taken && singles < 40 {
			t.Errorf("%s: the whole message was read %d times, and %d parts", what, wholes, singles)
		}
	}
}
