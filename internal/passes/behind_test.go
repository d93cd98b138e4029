package passes

import (
	"errors"
	"testing"
)

func TestWhatRunsBehindIsSettledByWhoeverWaits(t *testing.T) {
	var none *Behind
	if err := none.Wait(); err != nil {
		t.Error("nothing was begun:", err)
	}
	b, settled, refused := &Behind{}, false, errors.New("refused")
	begun := make(chan struct{})
	b.Do(func() (func(), error) { close(begun); return func() { settled = true }, refused })
	<-begun
	if settled {
		t.Error("settled before anybody waited")
	}
	if err := b.Wait(); !errors.Is(err, refused) || !settled {
		t.Error(err, settled)
	}
	if err := b.Wait(); err != nil {
		t.Error("told twice:", err)
	}
}
