package engine

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// mostCrashes is how often the program may end on a message that it reads alone
// before the message goes to the tray.
const mostCrashes = 3

// notes is the folder of what is in hand.
func (e *Engine) notes() string { return filepath.Join(filepath.Dir(e.Spool), "in-hand") }

// take writes down which messages of the open folder are read from here on.
func (v *visit) take(uids []uint32) error {
	v.hand.Notes = v.engine.notes()
	return v.hand.Take(fault.InHand{Mailbox: v.mailbox.ID, Folder: v.open, UIDValidity: v.state.UIDValidity, UIDs: uids})
}

// countCrashes reads what was in hand when the program ended by its own fault.
func (e *Engine) countCrashes(ctx context.Context) error {
	return fault.WasInHand(e.notes(), e.CrashReport, func(h fault.InHand) error {
		var list []store.Retry
		for _, uid := range h.UIDs {
			list = append(list, store.Retry{MailboxID: h.Mailbox, Folder: h.Folder, UIDValidity: h.UIDValidity, UID: uid})
		}
		if err := e.Store.Retries.Suspect(ctx, list, e.Clock()); err != nil {
			return err
		}
		e.Log.Warn("the program ended by its own fault while it read messages", "mailbox", h.Mailbox, "folder", h.Folder,
			"messages", len(h.UIDs))
		return nil
	})
}

// facts reads the facts of messages of the open folder, where nothing is decided
// yet. Messages on which the program ended before are read one by one. unread are
// those that the server does not give.
func (v *visit) facts(ctx context.Context, uids []uint32) (all []source.Facts, unread []uint32, err error) {
	retries, err := v.engine.Store.Retries.In(ctx, v.mailbox.ID, v.open, v.state.UIDValidity)
	if err != nil {
		return nil, nil, err
	}
	for len(uids) > 0 {
		n := v.together(uids, retries)
		some := uids[:n]
		key := fmt.Sprintf("%s/%d/%d", v.open, v.state.UIDValidity, some[0])
		if n == 1 && (v.pace.Failed[key] || retries[some[0]].Crashes >= mostCrashes) {
			unread, uids = append(unread, some[0]), uids[1:]
			continue
		}
		if err := v.take(some); err != nil {
			return nil, nil, err
		}
		found, err := v.session.Facts(ctx, some)
		v.hand.LetGo()
		if err == nil {
			all, uids = append(all, found...), uids[n:]
			v.pace.Faster()
			continue
		}
		how := fault.Of(ctx, err)
		if how == fault.Machine {
			return nil, nil, err
		}
		v.pace.Slower()
		if n == 1 {
			if v.pace.Failed == nil {
				v.pace.Failed = map[string]bool{}
			}
			v.pace.Failed[key] = true
		}
		if how == fault.Mailbox {
			return nil, nil, err
		}
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, unread, nil
}

// together is how many of the messages, from the first on, are read at once. One
// that was in hand when the program ended is read alone.
func (v *visit) together(uids []uint32, retries map[uint32]store.Retry) int {
	n := min(v.pace.Most(), len(uids))
	for i := range n {
		if _, suspect := retries[uids[i]]; suspect {
			return max(1, i)
		}
	}
	return n
}
