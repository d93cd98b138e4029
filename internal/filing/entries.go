package filing

import (
	"cmp"
	"context"
	"errors"
	"strconv"
	"time"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// EntryOf makes the journal entry of a planned item. cabinets caches the cabinets that were looked up for other items.
func (fl *Filer) EntryOf(ctx context.Context, r *rule.Compiled, item *plan.Item, cabinets map[string]store.Cabinet,
	now time.Time) (store.Entry, error) {
	name := r.Rule.Cabinet
	if item.Target.Cabinet != "" {
		name = item.Target.Cabinet
	}
	c, ok := cabinets[name]
	if !ok {
		var err error
		if c, err = fl.Store.Cabinets.Named(ctx, name); err != nil && !errors.Is(err, store.ErrNotFound) {
			return store.Entry{}, err
		}
		cabinets[name] = c
	}
	entry := store.Entry{RuleID: r.Rule.ID, RuleRevision: r.Revision, Item: item.Item.ID, CabinetID: c.ID,
		State: store.Planned,
		Name:  item.Item.Name, Kind: string(item.Item.Kind), Wanted: item.Path(), Size: item.Item.Size, PlannedAt: now,
		Reason: item.Reason}
	switch {
	case item.Verdict != plan.Filed:
		entry.State, entry.DoneAt = store.State(item.Verdict), &now
	case c.ID == "":
		entry.State, entry.DoneAt = store.Failed, &now
		entry.Reason = reason.NoCabinet(name)
	}
	if entry.State == store.Held || entry.State == store.Failed {
		entry.Cause, entry.Topic = cmp.Or(entry.Reason.Cause(), store.CauseOther), item.Topic
	}
	return entry, nil
}

// InTray keeps the entries of one message and rule that go to the tray within bounds: where there are too many, the
// first represents all of them.
func InTray(entries []store.Entry) []store.Entry {
	waits := func(e *store.Entry) bool { return e.State == store.Held || e.State == store.Failed }
	n := 0
	for i := range entries {
		if waits(&entries[i]) {
			n++
		}
	}
	if n <= mostInTray {
		return entries
	}
	kept, first := entries[:0:0], true
	for i := range entries {
		e := entries[i]
		if !waits(&e) {
			kept = append(kept, e)
			continue
		}
		if first {
			e.Reason = reason.TooMany(strconv.Itoa(n), e.Reason)
			kept, first = append(kept, e), false
		}
	}
	return kept
}

// mostInTray bounds the entries in the tray of one message for one rule.
const mostInTray = 50

// Claim takes an entry in hand, so that no two goroutines file it.
func (fl *Filer) Claim(id int64) bool {
	fl.working.Lock()
	defer fl.working.Unlock()
	if fl.inWork[id] {
		return false
	}
	fl.inWork[id] = true
	return true
}

// Release gives back an entry that was claimed.
func (fl *Filer) Release(id int64) {
	fl.working.Lock()
	defer fl.working.Unlock()
	delete(fl.inWork, id)
}

// Working says whether an entry is claimed.
func (fl *Filer) Working(id int64) bool {
	fl.working.Lock()
	defer fl.working.Unlock()
	return fl.inWork[id]
}

// Announce sends the event that a message was decided.
func (fl *Filer) Announce(m *store.Message) {
	fl.Events.Send(events.Event{Kind: "message", ID: strconv.FormatInt(m.ID, 10), Mailbox: m.MailboxID})
	fl.Events.Send(events.Event{Kind: "tray"})
	fl.Hasten()
}
