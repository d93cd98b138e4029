package office

import (
	"fmt"
	"sync"
	"testing"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/topic"
	"inktray.example/inktray/internal/store"
)

func noticed(o *Office, t *testing.T, from, to int) {
	t.Helper()
	var all sync.WaitGroup
	for i := from; i < to; i++ {
		all.Go(func() {
			text := fmt.Sprintf("Brackwater harbour: berth %d", i)
			header := mail.Header{{Name: "Message-ID", Value: fmt.Sprint(i)}}
			o.Notice(t.Context(), &mail.Message{Text: &text, Header: header})
		})
	}
	all.Wait()
}

// Messages are counted once there is a topic, each once, by several passes at the same time, and over a restart.
func TestMessagesAreCountedForTopics(t *testing.T) {
	o := opened(t)
	noticed(o, t, 0, 60)
	if n := o.common.counts.Messages(); n != 0 {
		t.Errorf("without topics %d messages are counted", n)
	}
	if err := o.Topics.Save(t.Context(), &store.Topic{Name: "Berths"}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	noticed(o, t, 0, topic.LeastNoticed-1)
	noticed(o, t, 0, topic.LeastNoticed-1) // a rehearsal reads them again
	if n := o.common.counts.Messages(); n != topic.LeastNoticed-1 || o.Settings().topics.weighting != nil {
		t.Errorf("%d messages are counted, weighted already: %v", n, o.Settings().topics.weighting != nil)
	}
	noticed(o, t, topic.LeastNoticed, 2*topic.LeastNoticed)
	first := o.Settings().topics.weighting
	if first == nil || first.Messages != topic.LeastNoticed {
		t.Fatalf("the weighting is %v", first != nil)
	}
	noticed(o, t, 500, 500+2*saveEvery)
	if w := o.Settings().topics.weighting; w == first || w.Messages < 4*topic.LeastNoticed {
		t.Errorf("after many more messages the weighting is of %d", w.Messages)
	}
	again := New(o.Base)
	if err := again.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	if w := again.Settings().topics.weighting; w == nil || w.Messages < 2*saveEvery {
		t.Errorf("after a restart the weighting is %+v", w != nil)
	}
	if err := o.Store.Topics.KeepCommon(t.Context(), []byte("odd")); err != nil {
		t.Fatal(err)
	}
	again = New(o.Base)
	if err := again.Load(t.Context()); err != nil || again.Settings().topics.weighting != nil {
		t.Errorf("counts that are broken: %v", err)
	}
}

// On a full disk the topics are learned all the same, and the counts are saved once there is room.
func TestCountsAreSavedOnceThereIsRoom(t *testing.T) {
	o := opened(t)
	if err := o.Topics.Save(t.Context(), &store.Topic{Name: "Berths"}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	if err := o.Store.Fill(t.Context(), true); err != nil {
		t.Fatal(err)
	}
	noticed(o, t, 0, topic.LeastNoticed)
	if kept, err := o.Store.Topics.Common(t.Context()); err != nil || kept != nil ||
		o.Settings().topics.weighting == nil {
		t.Errorf("on a full disk %d octets are kept, %v; weighted: %v", len(kept), err,
			o.Settings().topics.weighting != nil)
	}
	if err := o.Store.Fill(t.Context(), false); err != nil {
		t.Fatal(err)
	}
	noticed(o, t, topic.LeastNoticed, topic.LeastNoticed+1)
	again := New(o.Base)
	if err := again.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	if n := again.common.counts.Messages(); n != topic.LeastNoticed+1 {
		t.Errorf("with room again, %d messages are saved", n)
	}
}
