package outbox

import (
	"testing"
	"time"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/texts"
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
	for hours, want := range map[int]string{1: "1 hour", 5: "5 hours", 24: "1 day", 72: "3 days", 25: "25 hours"} {
		if got := lasting(hours); got != want {
			t.Errorf("%d hours: got %q, want %q", hours, got, want)
		}
	}
}

// TestWhatIsToldByItselfCanBeSaidInEveryLanguage reads what is told where a rule gives no text, in each language.
func TestWhatIsToldByItselfCanBeSaidInEveryLanguage(t *testing.T) {
	written, err := rule.ParseRule([]byte("name: Readings\ncabinet: files\nlook: {mailboxes: gauges}\n" +
		"match: every message\nattachments: [{take: everything, folder: Gauges}]\nafterwards:\n  - tell: {who: Desk}\n" +
		"  - tell: {who: Desk, subject: Filed, text: filed from <sender.name>}\n"))
	if err != nil {
		t.Fatal(err)
	}
	compiled, err := rule.Compile(written, 1, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	steps := compiled.FollowUps()
	for _, language := range texts.Languages() {
		in := texts.For(language)
		own, its := steps[0].In(in.Say), steps[1].In(in.Say)
		if own.Subject.String() != in.Say(steps[0].Subject.String()) || own.Text.String() == steps[0].Text.String() {
			t.Errorf("%s: it is told as %q, %q", language, own.Subject, own.Text)
		}
		if its.Subject != steps[1].Subject || its.Text != steps[1].Text {
			t.Errorf("%s: what the rule says became %q, %q", language, its.Subject, its.Text)
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
