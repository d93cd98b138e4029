package cabinet

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// least is a cabinet that can do only what every one can.
type least struct {
	Cabinet
	files map[string]io.Reader
}

func (l *least) Open(_ context.Context, path string) (io.ReadCloser, error) {
	r, ok := l.files[path]
	if !ok {
		return nil, ErrMissing
	}
	return io.NopCloser(r), nil
}

// A kind of cabinet needs only the calls of Cabinet. What it cannot do is told as trouble of the item, with advice, or
// is done in another way.
func TestACabinetMayDoOnlyWhatEveryOneCan(t *testing.T) {
	ctx := t.Context()
	c := &least{files: map[string]io.Reader{"a.csv": strings.NewReader("a;b"),
		"b.csv": iotest.ErrReader(io.ErrNoProgress)}}
	if got, err := Sum(ctx, c, "a.csv"); err != nil || got != (Content{3, sha256.Sum256([]byte("a;b"))}) {
		t.Errorf("measured %+v, %v", got, err)
	}
	if _, err := Sum(ctx, c, "b.csv"); !errors.Is(err, io.ErrNoProgress) {
		t.Errorf("a file that cannot be read: %v", err)
	}
	if _, err := Sum(ctx, c, "none.csv"); !errors.Is(err, ErrMissing) {
		t.Errorf("a file that is not there: %v", err)
	}
	for what, err := range map[string]error{"renew": Renew(ctx, c, "id", "a.csv"), "retire": Retire(ctx, c, "a.csv", "k"),
		"restore": Restore(ctx, c, "k", "a.csv")} {
		var told *Error
		if !errors.As(err, &told) || !told.Lasting || told.Advice == "" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := Kept(ctx, c, "k"); !errors.Is(err, ErrMissing) {
		t.Errorf("what it keeps: %v", err)
	}
	left, err := Leftovers(ctx, c)
	holds, provesErr := Prove(ctx, c)
	if len(left) != 0 || len(holds) != 0 || errors.Join(err, provesErr, Forget(ctx, c, "k")) != nil {
		t.Errorf("left over %v, %v; holds %v, %v", left, err, holds, provesErr)
	}
}
