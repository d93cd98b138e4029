package engine

import (
	"context"
	"slices"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// takeUpMoved decides messages that rules had moved after the backup was made from which the records were restored:
// they lie where no rule looks. Nothing of them is filed unless a person says so; what had been filed is recognised.
// looked notes that the mailbox was looked through, once the other folders were, too.
func (v restoredVisit) takeUpMoved(ctx context.Context) (looked func() error, err error) {
	records := v.engine.Store.Restored
	nothing := func() error { return nil }
	if !records.Active() {
		return nothing, nil
	}
	r, ok, err := records.Restored(ctx)
	if err != nil || !ok || slices.Contains(r.Looked, v.mailbox.ID) {
		return nothing, err
	}
	seen, missed := map[string]bool{}, false
	for _, c := range v.engine.Office.Settings().Rules {
		from, folders, err := v.movesBetween(ctx, c)
		if err != nil {
			return nothing, err
		}
		for _, folder := range folders {
			if key := from + "\x00" + folder; !seen[key] {
				seen[key] = true
				err := v.takeUp(ctx, folder, from, &r)
				if err != nil && !v.passesOver(folder, err) {
					return nothing, err
				}
				missed = missed || err != nil
			}
		}
	}
	if missed { // the comparison goes on until the folder can be looked into, or a person ends it
		return nothing, nil
	}
	return func() error { return records.LookedThrough(ctx, v.mailbox.ID) }, nil
}

// movesBetween says out of which folder a rule moves messages, and into which ones it may.
func (v restoredVisit) movesBetween(ctx context.Context, c *rule.Compiled) (from string, into []string, err error) {
	if !c.Rule.Look.Looks(v.mailbox.Name) {
		return "", nil, nil
	}
	looked, _, err := v.lookedInto(ctx, c)
	if err != nil || len(looked) == 0 {
		return "", nil, err
	}
	listed, err := v.list(ctx)
	if err != nil {
		return "", nil, err
	}
	into = slices.DeleteFunc(c.MovesInto(listed), func(f string) bool { return slices.Contains(looked, f) })
	return looked[0], into, nil
}

// movedHere says whether a rule that takes a message moves it to the folder that is open.
func (v restoredVisit) movedHere(ctx context.Context, p *plan.Plan) (bool, error) {
	for i := range p.Rules {
		for _, s := range p.Rules[i].Steps {
			if s.Kind != rule.DoMove {
				continue
			}
			if folder, err := v.find(ctx, s.What); err != nil || folder == v.open {
				return err == nil, err
			}
		}
	}
	return false, nil
}

// takeUp decides the messages of a folder that are not known and came after the backup, as if they lay in another one.
func (v restoredVisit) takeUp(ctx context.Context, folder, from string, r *store.Restoring) error {
	if err := v.enter(ctx, folder, true); err != nil {
		return err
	}
	uids, err := v.session.UIDs(ctx, source.Query{Since: r.MadeAt.AddDate(0, 0, -1)})
	if err != nil {
		return err
	}
	for some := range slices.Chunk(uids, batchSize) {
		facts, fresh, err := v.facts(ctx, some)
		if err != nil {
			return err
		}
		for i := range facts {
			m, _ := v.batches().understand(&facts[i])
			if m != nil {
				known, err := v.engine.Store.Messages.Known(ctx, m, "", 0)
				if err != nil {
					return err
				}
				if known {
					continue
				}
			}
			fresh = append(fresh, facts[i].UID)
		}
		err = v.batches().process(ctx, fresh, &batch{pass: v.livePass(), cameFrom: from,
			takes: func(*rule.Compiled, uint32) bool { return true }})
		if err != nil {
			return err
		}
	}
	return nil
}

// restoredVisit is the part of a visit that takes up what rules had moved before the records were restored.
type restoredVisit struct{ *visit }
