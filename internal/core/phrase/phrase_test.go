package phrase

import (
	"slices"
	"testing"
)

func TestPartsOfSentences(t *testing.T) {
	for got, want := range map[string]string{
		TrimStop("Full."):               "Full",
		TrimStop(""):                    "",
		Join("one", "two"):              "one; two",
		Join("", "two"):                 "two",
		Join("one", ""):                 "one",
		Count(1, "message", "messages"): "1 message",
		Count(0, "message", "messages"): "0 messages",
		List([]string{"a", "", "c"}, 2): "“a”, “no subject” and 1 more",
		List([]string{"a"}, 2):          "“a”",
		List(nil, 2):                    "",
	} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	if got, want := Tally([]string{"b", "a", "b"}), []string{"b (2 times)", "a"}; !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}
