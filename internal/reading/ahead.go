package reading

import (
	"bytes"
	"context"
	"io"
	"strings"
	"sync"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Ahead is a session over which parts of messages are read before they are needed, many by one exchange. Several
// goroutines may read parts from it; one that was not read ahead is asked for when it is needed, one at a time.
type Ahead struct {
	session source.Session
	turn    sync.Mutex // of those who use the connection

	mutex sync.Mutex
	held  map[source.Wanted][]byte
	size  int64
	freed chan struct{} // signals that there is more room
}

// Bounds of what is read ahead, in octets as the parts are encoded.
const (
	mostAhead     = 16 << 20 // in all
	mostAheadPart = 4 << 20  // of one part: a larger one is streamed
	mostAheadOf   = 200      // parts of one message: a server looks for each from its beginning
)

// NewAhead reads ahead over a session.
func NewAhead(s source.Session) *Ahead {
	return &Ahead{session: s, held: map[source.Wanted][]byte{}, freed: make(chan struct{}, 1)}
}

// Want lists what filing entries of a message will read, as far as that can be read ahead, and how large it is.
func (a *Ahead) Want(l *Message, entries []store.Entry) (wanted []source.Wanted, size int64) {
	if _, can := a.session.(source.Fetcher); !can || l.Facts.Whole {
		return nil, 0
	}
	seen := map[string]bool{}
	for i := range entries {
		if len(wanted) == mostAheadOf {
			break
		}
		item := entries[i].Item
		if entries[i].State != store.Planned || entries[i].ID == 0 {
			continue
		}
		root, _, _ := strings.Cut(item, "!")
		octets := int64(-1)
		if strings.HasPrefix(item, "copy:") {
			root, octets = source.Whole, l.Facts.Size
		} else if found, ok := l.Mail.Find(root); ok {
			octets = found.Encoded
		}
		if seen[root] || octets < 0 || octets > mostAheadPart || l.files[root] != "" {
			continue
		}
		seen[root] = true
		wanted, size = append(wanted, source.Wanted{UID: l.Facts.UID, Item: root}), size+octets
	}
	return wanted, size
}

// Fetch reads what is wanted, once there is room for so many octets. The error is the mailbox's.
func (a *Ahead) Fetch(ctx context.Context, wanted []source.Wanted, size int64) error {
	for {
		a.mutex.Lock()
		room := a.size == 0 || a.size+size <= mostAhead
		a.mutex.Unlock()
		if room {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-a.freed:
		}
	}
	a.turn.Lock()
	defer a.turn.Unlock()
	f, can := a.session.(source.Fetcher)
	if !can {
		return nil
	}
	return f.Parts(ctx, wanted, mostAheadPart, func(w source.Wanted, content []byte) {
		a.mutex.Lock()
		defer a.mutex.Unlock()
		if _, twice := a.held[w]; !twice {
			a.held[w], a.size = content, a.size+int64(len(content))
		}
	})
}

// Holds says whether a part was read ahead.
func (a *Ahead) Holds(uid uint32, item string) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	_, there := a.held[source.Wanted{UID: uid, Item: item}]
	return there
}

// Forget lets go of what was read of a message. Nobody may read it any more.
func (a *Ahead) Forget(wanted []source.Wanted) {
	a.mutex.Lock()
	for _, w := range wanted {
		if content, there := a.held[w]; there {
			a.size -= int64(len(content))
			delete(a.held, w)
			source.Recycle(content)
		}
	}
	a.mutex.Unlock()
	select {
	case a.freed <- struct{}{}:
	default:
	}
}

// Part opens a part that was read ahead, or asks for it. Until what was asked for is closed, others who ask wait.
func (a *Ahead) Part(ctx context.Context, facts *source.Facts, item string) (io.ReadCloser, error) {
	a.mutex.Lock()
	content, there := a.held[source.Wanted{UID: facts.UID, Item: item}]
	a.mutex.Unlock()
	if there && !facts.Whole {
		return io.NopCloser(bytes.NewReader(content)), nil
	}
	a.turn.Lock()
	r, err := a.session.Part(ctx, facts, item)
	if err != nil {
		a.turn.Unlock()
		return nil, err
	}
	return &turned{ReadCloser: r, end: sync.OnceFunc(a.turn.Unlock)}, nil
}

// turned is a part that is read over the connection itself.
type turned struct {
	io.ReadCloser
	end func()
}

func (t *turned) Close() error {
	defer t.end()
	return t.ReadCloser.Close()
}

// Head reads the first octets of a part.
func (a *Ahead) Head(ctx context.Context, facts *source.Facts, item string, octets int64) ([]byte, error) {
	a.mutex.Lock()
	content, there := a.held[source.Wanted{UID: facts.UID, Item: item}]
	a.mutex.Unlock()
	if there && !facts.Whole {
		return content[:min(octets, int64(len(content)))], nil
	}
	a.turn.Lock()
	defer a.turn.Unlock()
	return a.session.Head(ctx, facts, item, octets)
}
