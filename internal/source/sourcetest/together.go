package sourcetest

import (
	"bytes"
	"context"
	"io"
	"testing"

	"inktray.example/inktray/internal/source"
)

// together proves that parts that are read together are those that are read one by one, where a session can do that.
func together(t *testing.T, ctx context.Context, s source.Session, facts *source.Facts, name string) {
	t.Helper()
	f, can := s.(source.Fetcher)
	if !can || facts.Whole {
		return
	}
	wanted := []source.Wanted{{UID: facts.UID, Item: source.Whole}, {UID: facts.UID + 1_000_000, Item: "1"}}
	for _, item := range facts.Message("INBOX").Items() {
		wanted = append(wanted, source.Wanted{UID: facts.UID, Item: item.ID})
	}
	const most = 100_000
	got := map[source.Wanted][]byte{}
	if err := f.Parts(ctx, wanted, most, func(w source.Wanted, content []byte) { got[w] = content }); err != nil {
		t.Errorf("%s: reading its parts together: %v", name, err)
		return
	}
	for _, w := range wanted {
		content, there := got[w]
		if w.UID != facts.UID {
			if there {
				t.Errorf("%s: a message that is not there has a part", name)
			}
			continue
		}
		r, err := s.Part(ctx, facts, w.Item)
		if err != nil {
			t.Errorf("%s: part %s: %v", name, w.Item, err)
			continue
		}
		alone, err := io.ReadAll(r)
		if closeErr := r.Close(); err != nil || closeErr != nil {
			t.Errorf("%s: part %s: %v, %v", name, w.Item, err, closeErr)
		}
		if there && (!bytes.Equal(content, alone) || len(content) > most) {
			t.Errorf("%s: part %s has %d octets together with others and %d alone", name, w.Item, len(content), len(alone))
		}
		if !there && len(alone) > 0 && len(alone) <= most && !facts.Whole {
			t.Logf("%s: part %s is not given together with others", name, w.Item)
		}
	}
}
