package cli

import (
	"context"
	"time"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/headroom"
	"inktray.example/inktray/internal/store"
)

// watchHeadroom tells in the tray that there is little left of open files or memory; nil reads this machine's.
func (s *service) watchHeadroom(read func() headroom.Reading) func(context.Context) {
	if read == nil {
		read = headroom.Read
	}
	return func(ctx context.Context) {
		told := func(err error) error {
			if err != nil && ctx.Err() == nil {
				s.engine.Log.Error("telling of open files and memory", "error", err)
			}
			s.engine.Events.Send(events.Event{Kind: "tray"})
			return err
		}
		headroom.Watch(ctx, 30*time.Second, read, func(short headroom.Shortage) error {
			s.engine.Log.Warn("there is little left", "of", short.Kind, "text", short.Text)
			return told(s.store.Tray.Tell(ctx, &store.Notice{Kind: "headroom", Object: short.Kind, MadeAt: time.Now(),
				Text: short.Text, Advice: short.Advice}))
		}, func(kind string) error {
			_, err := s.store.Tray.Settle(ctx, "headroom", kind)
			return told(err)
		})
	}
}
