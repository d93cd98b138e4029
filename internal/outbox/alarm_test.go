package outbox

import (
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

func TestASilenceAlarmIsLookedAtAtItsTimeOfTheDay(t *testing.T) {
	monday := time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		days []string
		now  time.Time
		want time.Time
	}{
		{nil, monday.Add(11 * time.Hour), monday.Add(10 * time.Hour)},
		{nil, monday.Add(9 * time.Hour), monday.Add(-14 * time.Hour)},
		{[]string{"monday"}, monday.Add(9 * time.Hour), monday.Add(-7*24*time.Hour + 10*time.Hour)},
		{[]string{"friday"}, monday.Add(12 * time.Hour), monday.Add(-3*24*time.Hour + 10*time.Hour)},
	} {
		got, ok := due(&store.Alarm{ByTime: "10:00", Weekdays: c.days}, c.now)
		if !ok || !got.Equal(c.want) {
			t.Errorf("on %v at %v: got %v, %v, want %v", c.days, c.now, got, ok, c.want)
		}
	}
	if _, ok := due(&store.Alarm{ByTime: "soon"}, monday); ok {
		t.Error("a time that is none is taken")
	}
}

func TestSpansAreSaidInWords(t *testing.T) {
	for hours, want := range map[int]string{1: "hour", 5: "5 hours", 24: "day", 72: "3 days", 25: "25 hours"} {
		if got := span(hours); got != want {
			t.Errorf("%d hours: got %q, want %q", hours, got, want)
		}
	}
}

func TestFlagsAreComparedWithoutTheServersOwn(t *testing.T) {
	if !sameFlags([]string{`\Seen`, `\Recent`, "Work"}, []string{"work", `\seen`}) {
		t.Error("the same flags differ")
	}
	if sameFlags([]string{`\Seen`}, []string{`\Seen`, "Work"}) {
		t.Error("other flags are the same")
	}
}
