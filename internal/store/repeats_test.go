package store

import (
	"crypto/sha256"
	"testing"
)

// The first file with a value is that of which others are repetitions, until it is left, set aside or taken back. The
// same message and the same content repeat nothing.
func TestWhichFileHadAValueFirst(t *testing.T) {
	s := opened(t)
	if err := exec(s.write, statement{"PRAGMA foreign_keys = OFF", nil}); err != nil {
		t.Fatal(err)
	}
	sum := func(text string) []byte { all := sha256.Sum256([]byte(text)); return all[:] }
	entry := func(message int64, item string, state State) *Entry {
		t.Helper()
		e := &Entry{RuleID: "r", MessageID: message, Item: item, State: state, Name: item}
		if err := s.write.Create(e).Error; err != nil {
			t.Fatal(err)
		}
		return e
	}
	earlier := func(e *Entry, text string, content []byte) int64 {
		t.Helper()
		found, err := s.Journal.EarlierWith(t.Context(), e, "invoice", text, content)
		if err != nil {
			t.Fatal(err)
		}
		if found == nil {
			return 0
		}
		return found.ID
	}
	first := entry(1, "2", Planned)
	beside, second, third := entry(1, "3", Planned), entry(2, "2", Planned), entry(3, "2", Planned)
	for _, c := range []struct {
		what    string
		e       *Entry
		text    string
		content []byte
		want    int64
	}{
		{"the first", first, "RE-1", sum("a"), 0},
		{"the first, tried again", first, "RE-1", sum("a"), 0},
		{"another of its message", beside, "RE-1", sum("b"), 0},
		{"another message", second, "re-1", sum("c"), first.ID},
		{"another message whose content was not read", second, "RE-1", nil, first.ID},
		{"the same content, while the first is not in the journal yet", second, "RE-1", sum("a"), 0},
		{"another value", second, "RE-2", sum("c"), 0},
	} {
		if got := earlier(c.e, c.text, c.content); got != c.want {
			t.Errorf("%s: %d, want %d", c.what, got, c.want)
		}
	}
	if err := s.write.Model(beside).Update("sha256", sum("b")).Error; err != nil {
		t.Fatal(err)
	}
	if got := earlier(second, "RE-1", sum("b")); got != 0 {
		t.Errorf("the content of another file of the first message: %d", got)
	}
	if got := earlier(&Entry{ID: 99, RuleID: "other", MessageID: 9}, "RE-1", sum("d")); got != 0 {
		t.Errorf("under another rule: %d", got)
	}
	for _, change := range []map[string]any{{"state": SetAside}, {"state": LeftOut}, {"state": Filed, "undo": Undone}} {
		if err := s.write.Model(first).Updates(change).Error; err != nil {
			t.Fatal(err)
		}
		if got := earlier(third, "RE-1", sum("d")); got != 0 {
			t.Errorf("once the first is %v: %d", change, got)
		}
		if got := earlier(second, "RE-1", sum("c")); got != third.ID {
			t.Errorf("then the next one is the first: %d", got)
		}
		if err := exec(s.write, statement{"UPDATE repeats SET journal_id = ?, message_id = 1", []any{first.ID}}); err != nil {
			t.Fatal(err)
		}
	}
}
