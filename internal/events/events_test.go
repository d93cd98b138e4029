package events

import "testing"

func TestEveryListenerGetsEveryEvent(t *testing.T) {
	h := NewHub()
	one, stopOne := h.Listen()
	two, stopTwo := h.Listen()
	defer stopTwo()
	h.Send(Event{Kind: Pass, ID: "7"})
	for _, l := range []<-chan Event{one, two} {
		if got, want := <-l, (Event{Kind: Pass, ID: "7"}); got != want {
			t.Errorf("a listener got %v, want %v", got, want)
		}
	}
	stopOne()
	stopOne() // a second time does nothing
	if _, open := <-one; open {
		t.Error("the channel is open after stop")
	}
}

func TestAListenerThatDoesNotReadHoldsNobodyUp(t *testing.T) {
	h := NewHub()
	l, stop := h.Listen()
	defer stop()
	for range 10 * buffered {
		h.Send(Event{Kind: Tray})
	}
	if got := len(l); got != buffered {
		t.Errorf("%d events wait, want %d", got, buffered)
	}
}

func TestAClosedHubEndsAllListening(t *testing.T) {
	h := NewHub()
	before, stop := h.Listen()
	h.Close()
	h.Send(Event{Kind: Tray})
	after, _ := h.Listen()
	for name, l := range map[string]<-chan Event{"before": before, "after": after} {
		if e, open := <-l; open {
			t.Errorf("a listener from %s the end got %v", name, e)
		}
	}
	stop()
}
