package jmap

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"

	"inktray.example/inktray/internal/source"
)

var _ source.Fetcher = (*Session)(nil)

const (
	atOnce = 4   // parts that are fetched at the same time
	recent = 400 // messages whose structure is remembered from their facts until their parts are read
)

// remember keeps the structures of messages, so that reading their parts need not ask for them again.
func remember(s *Session, found []email) {
	if s.recent == nil || len(s.recent) > recent {
		s.recent = map[string]*email{}
	}
	for i := range found {
		s.recent[found[i].ID] = &found[i]
	}
}

// Parts reads parts, several at the same time. They come without their transfer encoding, so it is only for messages
// that are not read whole.
func (s *Session) Parts(ctx context.Context, wanted []source.Wanted, most int64,
	got func(w source.Wanted, content []byte)) error {
	uids := make([]uint32, len(wanted))
	for i, w := range wanted {
		uids[i] = w.UID
	}
	names, err := s.named(ctx, uids)
	if err != nil {
		return err
	}
	byUID := map[uint32]*email{}
	var ask []string
	for id, uid := range names {
		if byUID[uid] = s.recent[id]; byUID[uid] == nil {
			ask = append(ask, id)
		}
	}
	for some := range slices.Chunk(ask, max(1, min(factsBatch, s.client.session.limits.ObjectsInGet))) {
		found, err := s.emails(ctx, some)
		if err != nil {
			return s.client.explain(source.Folders, "reading messages", err)
		}
		for i := range found {
			byUID[names[found[i].ID]] = &found[i]
		}
	}
	type job struct {
		source.Wanted
		blob string
	}
	var jobs []job
	for _, w := range wanted {
		e := byUID[w.UID]
		if e == nil {
			continue // Part says what is the matter
		}
		blob, size := e.BlobID, e.Size.is
		if w.Item != source.Whole {
			p := e.BodyStructure.is.find(w.Item)
			if p == nil || p.BlobID == nil {
				continue
			}
			blob, size = *p.BlobID, p.Size
		}
		if size <= most {
			jobs = append(jobs, job{w, blob})
		}
	}
	var mutex sync.Mutex
	var failed error
	queue := make(chan job)
	var workers sync.WaitGroup
	for range min(atOnce, len(jobs)) {
		workers.Go(func() {
			for j := range queue {
				content, err := readAll(ctx, s, j.blob, most)
				mutex.Lock()
				switch {
				case err == nil && content != nil:
					got(j.Wanted, content)
				case err != nil && !errors.Is(err, source.ErrGone) && failed == nil:
					failed = err
				}
				mutex.Unlock()
			}
		})
	}
	for _, j := range jobs {
		mutex.Lock()
		stop := failed != nil
		mutex.Unlock()
		if stop {
			break
		}
		queue <- j
	}
	close(queue)
	workers.Wait()
	return failed
}

// readAll reads a blob; nil where it is longer than it may be.
func readAll(ctx context.Context, s *Session, blob string, most int64) ([]byte, error) {
	r, err := s.blob(ctx, blob)
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(io.LimitReader(r, most+1))
	if err = errors.Join(err, r.Close()); err != nil {
		return nil, s.client.explain(source.Connection, "reading a part of a message", err)
	}
	if int64(len(content)) > most {
		return nil, nil
	}
	return content, nil
}
