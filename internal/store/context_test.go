package store

import (
	"context"
	"errors"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
)

// Who asks may go away; what is told of what was done is kept all the same.
func TestAQuestionEndsWithItsContextAndAChangeIsMadeAllTheSame(t *testing.T) {
	s := opened(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := s.Settings.Set(ctx, "office", "Brackwater"); err != nil {
		t.Errorf("a change: %v", err)
	}
	if kept, err := s.Settings.Get(t.Context(), "office"); err != nil || kept != "Brackwater" {
		t.Errorf("it kept %q, %v", kept, err)
	}
	for what, ask := range map[string]func() error{
		"a setting":    func() error { _, err := s.Settings.Get(ctx, "office"); return err },
		"the register": func() error { _, err := s.Register.List(ctx, System, register.Query{Most: 5}); return err },
		"messages":     func() error { _, err := s.Messages.Find(ctx, System, MessageQuery{Most: 5}); return err },
	} {
		if err := ask(); !errors.Is(err, context.Canceled) || TroubleOf(err) != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	if s.Refusal() != nil || s.Harm() != nil {
		t.Errorf("the records count as in trouble: %v, %v", s.Refusal(), s.Harm())
	}
}

// A long question is given up while SQLite works on it.
func TestALongQuestionIsGivenUp(t *testing.T) {
	s := opened(t)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	var n int64
	err := explain(s.reading(ctx).Raw("WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c WHERE x < 1e12) " +
		"SELECT count(*) FROM c").Scan(&n).Error)
	if err == nil || TroubleOf(err) != nil || ctx.Err() == nil {
		t.Errorf("it ended with %v", err)
	}
	if _, err := s.Settings.Get(t.Context(), "office"); err != nil && !errors.Is(err, ErrNotFound) {
		t.Errorf("the next question: %v", err)
	}
}
