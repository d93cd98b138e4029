package office

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// Reading a thousand running rules, as at each start.
func BenchmarkLoadAThousandRules(b *testing.B) {
	s, err := store.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { s.Close() })
	for i := range 1000 {
		r, err := rule.ParseRule(fmt.Appendf(nil, `{"name":"Rule %d","cabinet":"office files","look":{"mailboxes":"all"},`+
			`"match":{"sender":{"domain":"d%d.example"}},"attachments":[{"take":"everything","folder":"F%d/<received year>"}]}`,
			i, i, i))
		if err != nil {
			b.Fatal(err)
		}
		row, err := s.Rules.Save(b.Context(), r, 0, time.Now(), "test")
		if err == nil {
			err = s.Rules.SwitchOn(b.Context(), row.ID, nil, time.Now(), "test")
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		o := New(base.New(base.Base{Store: s, Clock: time.Now, Zone: time.UTC, Log: slog.New(slog.DiscardHandler)}))
		if err := o.Load(b.Context()); err != nil {
			b.Fatal(err)
		}
		if n := len(o.Settings().Rules); n != 1000 {
			b.Fatalf("%d rules run", n)
		}
	}
}
