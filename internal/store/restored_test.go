package store

import (
	"testing"
	"time"
)

// A mail that waited when the backup was made may have been sent since: a person is asked. A call is made again. What
// came after the restoring, by whatever clock, is nothing that was done before it.
func TestWhatWaitedToBeSentIsNotSentAfterARestoring(t *testing.T) {
	s := opened(t)
	ctx := t.Context()
	made, now := day, day.Add(3*time.Hour)
	for _, p := range []Post{{Kind: "mail", Event: "a", State: Waiting}, {Kind: "mail", Event: "b", State: Begun},
		{Kind: "mail", Event: "c", State: DidIt}, {Kind: "call", Event: "d", State: Waiting}} {
		p.Purpose, p.Content, p.MadeAt, p.NextAt = "reply", []byte("x"), made, &made
		if err := s.write.Create(&p).Error; err != nil {
			t.Fatal(err)
		}
	}
	if _, before := s.Restored.Before(made); before {
		t.Error("records that were never restored say that something came before that")
	}
	if err := s.Restored.Begin(ctx, made, now); err != nil {
		t.Fatal(err)
	}
	posts, err := list[Post](s.reading(ctx))
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]FollowState{"a": Unsure, "b": Unsure, "c": DidIt, "d": Waiting}
	for _, p := range posts {
		if p.State != want[p.Event] || p.State == Unsure && (p.Reason.IsZero() || p.NextAt != nil) {
			t.Errorf("%s %s: %s (%s), next %v", p.Kind, p.Event, p.State, p.Reason, p.NextAt)
		}
	}
	if _, _, err := s.Restored.Restored(ctx); err != nil {
		t.Fatal(err)
	}
	for at, want := range map[time.Time]bool{made.Add(-time.Hour): true, now: true, now.Add(30 * time.Minute): true,
		now.Add(2 * time.Hour): false} {
		if _, before := s.Restored.Before(at); before != want {
			t.Errorf("a message of %s came before the restoring: %t", at, before)
		}
	}
	for _, c := range []struct {
		at              time.Time
		id              int64
		waited, between bool
	}{{made.Add(-2 * time.Hour), 0, true, false}, {made.Add(time.Hour), 7, false, true},
		{now.Add(2 * time.Hour), 7, false, false}} {
		if waited, between := s.Restored.PerhapsDone(&FollowUp{ID: c.id}, c.at); waited != c.waited || between != c.between {
			t.Errorf("follow-up %d of a message of %s: waited %t, between %t", c.id, c.at, waited, between)
		}
	}
}
