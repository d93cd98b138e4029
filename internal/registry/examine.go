package registry

import (
	"context"
	"fmt"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// ExamineAtStart looks whether the records are whole, once.
func (rg *Registry) ExamineAtStart(ctx context.Context) {
	if _, err := rg.ExamineRecords(ctx, false); err != nil && ctx.Err() == nil {
		rg.Log.Error("looking whether the records are whole", "error", err)
	}
}

// ExamineRecords looks whether the records are whole, and tells where they are not.
func (rg *Registry) ExamineRecords(ctx context.Context, full bool) ([]string, error) {
	found, err := rg.Store.Examine(ctx, full)
	if err != nil {
		return found, err
	}
	if len(found) == 0 {
		_, err := rg.Store.Tray.Settle(ctx, "records", "records")
		return found, err
	}
	rg.Log.Error("the records are damaged", "file", rg.Store.Path(), "found", found)
	rg.Events.Send(events.Event{Kind: "tray"})
	err = rg.Store.Tray.Tell(ctx, &store.Notice{Kind: "records", Object: "records", MadeAt: rg.Clock(),
		Text:   fmt.Sprintf("Ink Tray's records in %s are damaged: %s.", rg.Store.Path(), found[0]),
		Advice: store.DamagedAdvice})
	if err != nil { // it may be what is damaged that cannot be written
		rg.Log.Error("telling that the records are damaged", "error", err)
	}
	return found, nil
}
