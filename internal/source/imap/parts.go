package imap

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/source"
)

var _ source.Fetcher = (*Session)(nil)

// Parts reads parts by one FETCH for all messages of which the same parts are wanted. All commands are sent at once,
// and the answers are taken as they come, by one reader for each command: a server may answer in any order.
func (s *Session) Parts(ctx context.Context, wanted []source.Wanted, most int64,
	got func(w source.Wanted, content []byte)) error {
	if len(wanted) == 0 {
		return nil
	}
	fetches, err := together(wanted)
	if err != nil {
		return err
	}
	var mutex sync.Mutex
	give := func(w source.Wanted, content []byte) {
		mutex.Lock()
		defer mutex.Unlock()
		got(w, content)
	}
	errs := make([]error, len(fetches))
	err = s.run(ctx, func() error {
		var wait sync.WaitGroup
		for i, f := range fetches {
			cmd := s.client.Fetch(uidSet(f.uids), &imaplib.FetchOptions{UID: true, BodySection: f.sections})
			wait.Go(func() { errs[i] = f.collect(cmd, most, give) })
		}
		wait.Wait()
		for _, err := range errs {
			if err != nil && !errors.As(err, new(*imaplib.Error)) { // what the server refuses is asked for alone
				return err
			}
		}
		return nil
	})
	switch {
	case err == nil:
		return nil
	case s.unreadable(err) && ctx.Err() == nil:
		return s.again(ctx) // each is asked for alone
	}
	return s.lost(source.Connection, "reading parts of messages", err)
}

// partsFetch is one FETCH: the same parts of several messages.
type partsFetch struct {
	uids     []uint32
	items    []string
	sections []*imaplib.FetchItemBodySection
}

// together joins what is wanted of the same messages, and messages of which the same is wanted.
func together(wanted []source.Wanted) (fetches []*partsFetch, err error) {
	var uids []uint32
	items := map[uint32][]string{}
	for _, w := range wanted {
		if items[w.UID] == nil {
			uids = append(uids, w.UID)
		}
		items[w.UID] = append(items[w.UID], w.Item)
	}
	found := map[string]*partsFetch{}
	for _, uid := range uids {
		key := strings.Join(items[uid], " ")
		f := found[key]
		if f == nil {
			f = &partsFetch{items: items[uid]}
			for _, item := range f.items {
				section := &imaplib.FetchItemBodySection{Peek: true}
				if item != source.Whole {
					if section, err = sectionOf(item); err != nil {
						return nil, err
					}
				}
				f.sections = append(f.sections, section)
			}
			found[key], fetches = f, append(fetches, f)
		}
		f.uids = append(f.uids, uid)
	}
	return fetches, nil
}

// collect takes the answers to a FETCH.
func (f *partsFetch) collect(cmd *imapclient.FetchCommand, most int64, give func(source.Wanted, []byte)) error {
	for m := cmd.Next(); m != nil; m = cmd.Next() {
		var uid uint32
		for data := m.Next(); data != nil; data = m.Next() {
			switch data := data.(type) {
			case imapclient.FetchItemDataUID:
				uid = uint32(data.UID)
			case imapclient.FetchItemDataBodySection:
				if data.Literal == nil || data.Literal.Size() == 0 || data.Section == nil {
					continue
				}
				i := slices.IndexFunc(f.sections,
					func(s *imaplib.FetchItemBodySection) bool { return slices.Equal(s.Part, data.Section.Part) })
				if i < 0 || uid == 0 || data.Literal.Size() > most {
					if _, err := io.Copy(io.Discard, data.Literal); err != nil {
						return err
					}
					continue
				}
				content := source.Buffer(data.Literal.Size())
				if _, err := io.ReadFull(data.Literal, content); err != nil {
					_ = cmd.Close()
					return fmt.Errorf("a part ends too early: %w", err)
				}
				give(source.Wanted{UID: uid, Item: f.items[i]}, content)
			}
		}
	}
	return cmd.Close()
}
