package reading

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/unpack"
)

func TestABudgetEndsWithAReason(t *testing.T) {
	var limit *unpack.Error
	none := func(context.Context) error { return nil }
	b := Budget{readings: mostReadings}
	if err := b.Child(t.Context(), none); !errors.As(err, &limit) || !limit.Limit {
		t.Errorf("too many processes: %v", err)
	}
	b = Budget{spent: mostTime}
	if err := b.Child(t.Context(), none); !errors.As(err, &limit) || !strings.Contains(limit.Problem, "3m0s") {
		t.Errorf("too much time: %v", err)
	}
	waits := func(ctx context.Context) error { <-ctx.Done(); return ctx.Err() }
	b = Budget{spent: mostTime - time.Millisecond}
	if err := b.Child(t.Context(), waits); !errors.As(err, &limit) {
		t.Errorf("the last of the time: %v", err)
	}
	b = Budget{Patience: time.Millisecond}
	if err := b.Child(t.Context(), waits); !errors.Is(err, ErrSlow) {
		t.Errorf("longer than others wait: %v", err)
	}
	if err := b.Child(t.Context(), none); !errors.Is(err, ErrSlow) {
		t.Errorf("once others waited: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	b = Budget{Patience: time.Second}
	if err := b.Child(ctx, waits); !errors.Is(err, context.Canceled) {
		t.Errorf("when the service ends: %v", err)
	}
}
