package registry

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/store"
)

// verifyBatch is how many files are verified between two moments at which that
// is recorded.
const verifyBatch = 50

// ErrVerifying says that files are being verified already, or read for their values.
var ErrVerifying = errors.New("filed files are being read already")

// CheckVerificationPlan says what is wrong with a plan. The error, if any, is
// rule.Problems.
func CheckVerificationPlan(p store.VerificationPlan) error {
	_, err := passes.ParseHours(p.FromTime, p.ToTime)
	return err
}

// Verify looks whether the files that a query finds still lie where they were
// filed, unchanged. What is missing or changed goes to the tray.
func (rg *Registry) Verify(ctx context.Context, v store.Viewer, q register.Query) (*store.Pass, error) {
	q.Most, q.After, q.Ascending, q.Sort = 0, register.Number{}, true, register.ByNumber
	if q.States == nil {
		q.States = []register.State{register.Filed, register.Changed, register.Missing}
	}
	// What was taken back or replaced, or was never filed, is not expected anywhere.
	q.States = slices.DeleteFunc(slices.Clone(q.States), func(s register.State) bool {
		return s != register.Filed && s != register.Changed && s != register.Missing
	})
	if len(q.States) == 0 {
		return nil, rule.Problems{{Place: "text", Text: "only files that were filed and not taken back are verified: leave " +
			"the state out, or say state:filed"}}
	}
	found, err := rg.Store.Register.Find(ctx, v, q)
	if err != nil {
		return nil, err
	}
	if found.Total == 0 {
		return nil, rule.Problems{{Place: "text", Text: "nothing of that kind was filed, so there is nothing to verify"}}
	}
	left := found.Numbers
	return rg.beginVerification(ctx, v.Name, found.Total, store.VerificationPlan{},
		func(ctx context.Context) ([]store.Filing, error) {
			some := left[:min(verifyBatch, len(left))]
			left = left[len(some):]
			return rg.Store.Register.Numbered(ctx, v, some)
		})
}

// beginVerification verifies batches until there are none, as a pass.
func (rg *Registry) beginVerification(ctx context.Context, by string, total int, plan store.VerificationPlan,
	next func(ctx context.Context) ([]store.Filing, error)) (*store.Pass, error) {
	return begin(ctx, rg, "verification", by, total,
		func(ctx context.Context, pass *store.Pass, steer *passes.Steering) (store.PassState, error) {
			return rg.verifyAll(ctx, pass, steer, plan, next)
		})
}

// begin reads filed files, as a pass. One such pass runs at a time.
func begin(ctx context.Context, rg *Registry, kind, by string, total int, work func(ctx context.Context,
	pass *store.Pass, steer *passes.Steering) (store.PassState, error)) (*store.Pass, error) {
	rg.mutex.Lock()
	if rg.verifying {
		rg.mutex.Unlock()
		return nil, ErrVerifying
	}
	rg.verifying = true
	rg.mutex.Unlock()
	pass := &store.Pass{Kind: kind, MadeBy: by, State: store.Running, Total: total, StartedAt: rg.Clock()}
	if err := rg.Store.Passes.Add(ctx, pass); err != nil {
		rg.mutex.Lock()
		rg.verifying = false
		rg.mutex.Unlock()
		return nil, err
	}
	begun := *pass
	steer := rg.Passes.Begin(pass.ID)
	rg.Go("reading filed files", func(ctx context.Context) {
		state, err := work(ctx, pass, steer)
		rg.mutex.Lock()
		rg.verifying = false
		rg.mutex.Unlock()
		rg.Passes.End(pass.ID)
		if err != nil {
			state, pass.Note = store.Broken, err.Error()
		}
		ended := rg.Clock()
		pass.State, pass.EndedAt = state, &ended
		if err := rg.Store.Passes.Save(ctx, pass); err != nil {
			rg.Log.Error("keeping a pass", "error", err)
		}
		rg.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
	})
	return &begun, nil
}

func (rg *Registry) verifyAll(ctx context.Context, pass *store.Pass, steer *passes.Steering,
	plan store.VerificationPlan, next func(ctx context.Context) ([]store.Filing, error)) (store.PassState, error) {
	hours, _ := passes.ParseHours(plan.FromTime, plan.ToTime) // it was checked
	missing, changed, passed := 0, 0, 0
	for {
		rows, err := next(ctx)
		if err != nil || len(rows) == 0 {
			return store.Done, err
		}
		var fine []register.Number
		for i := range rows {
			f := &rows[i]
			if asked := steer.Asked(); asked != "" || ctx.Err() != nil || !hours.Include(rg.Now()) {
				if err := rg.Store.Verifications.Fine(ctx, fine, rg.Clock()); err != nil {
					return "", err
				}
				pass.Matched, pass.Note = missing+changed, verified(missing, changed, passed)
				if asked == "" && ctx.Err() == nil {
					pass.Note = phrase.Join(pass.Note, "goes on tomorrow")
					return store.Done, nil
				}
				return store.Stopped, nil
			}
			began := rg.Clock()
			state, err := rg.VerifyOne(ctx, f)
			switch {
			case err != nil:
				passed++
			case state == "":
				fine = append(fine, f.Entry())
			default:
				if state == "missing" {
					missing++
				} else {
					changed++
				}
				if err := rg.Store.Verifications.Wrong(ctx, f, state, rg.Clock()); err != nil {
					return "", err
				}
				rg.Events.Send(events.Event{Kind: "tray"})
			}
			pass.Looked++
			if plan.MBPerSecond > 0 {
				due := time.Duration(float64(f.Size) / float64(plan.MBPerSecond) / 1e6 * float64(time.Second))
				steer.Rest(ctx, due-rg.Clock().Sub(began))
			}
		}
		if err := rg.Store.Verifications.Fine(ctx, fine, rg.Clock()); err != nil {
			return "", err
		}
		pass.Matched, pass.Note = missing+changed, verified(missing, changed, passed)
		if err := rg.Store.Passes.Save(ctx, pass); err != nil {
			return "", err
		}
		rg.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
	}
}

// verified says in words what a verification found.
func verified(missing, changed, passed int) string {
	note := ""
	if missing > 0 {
		note = fmt.Sprintf("%d missing", missing)
	}
	if changed > 0 {
		note = phrase.Join(note, fmt.Sprintf("%d changed", changed))
	}
	if passed > 0 {
		note = phrase.Join(note, fmt.Sprintf("%d not verified, since the cabinet is out of reach", passed))
	}
	return note
}

// VerifyOne says whether a file is "missing", "changed" or, as "", as it was
// filed. The error is the cabinet's: then nothing can be said.
func (rg *Registry) VerifyOne(ctx context.Context, f *store.Filing) (string, error) {
	g, err := rg.Cabinets.Gate(ctx, f.CabinetID)
	if errors.Is(err, store.ErrNotFound) {
		return "missing", nil // the cabinet was removed
	}
	if err != nil {
		return "", err
	}
	if err := g.Ready(ctx); err != nil {
		return "", err
	}
	there, err := cabinet.Sum(ctx, g.Cabinet, path.Join(f.Folder, f.File))
	switch {
	case errors.Is(err, cabinet.ErrMissing):
		if err := g.Cabinet.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
			return "", g.Trip(ctx, err)
		}
		return "missing", nil
	case err != nil && cabinets.OnlyOf(ctx, g.Cabinet, err):
		return "changed", nil // nobody can read it any more
	case err != nil:
		return "", err
	case there.Size != f.Size || string(there.SHA256[:]) != string(f.SHA256):
		return "changed", nil
	}
	return "", nil
}

// VerifyFiling verifies one filing now.
func (rg *Registry) VerifyFiling(ctx context.Context, f *store.Filing) error {
	state, err := rg.VerifyOne(ctx, f)
	if err != nil {
		return err
	}
	defer rg.Events.Send(events.Event{Kind: "tray"})
	if state == "" {
		return rg.Store.Verifications.Fine(ctx, []register.Number{f.Entry()}, rg.Clock())
	}
	return rg.Store.Verifications.Wrong(ctx, f, state, rg.Clock())
}

// KeepVerifying verifies by plan.
func (rg *Registry) KeepVerifying(ctx context.Context) {
	ticker := time.NewTicker(20 * rg.Beat)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if err := rg.VerifyDue(ctx); err != nil && !errors.Is(err, ErrVerifying) {
			rg.Log.Error("verifying by plan", "error", err)
		}
	}
}

// VerifyDue begins a verification by plan where one is due and the hours of the plan allow it.
func (rg *Registry) VerifyDue(ctx context.Context) error {
	plan, err := rg.Store.Settings.VerificationPlan(ctx)
	if err != nil || plan.EveryDays == 0 {
		return err
	}
	if hours, err := passes.ParseHours(plan.FromTime, plan.ToTime); err != nil || !hours.Include(rg.Now()) {
		return nil
	}
	// Once an hour at most: what becomes due one by one is gathered, and a cabinet
	// that is out of reach does not fill the history.
	if last, err := rg.Store.Verifications.Last(ctx); err == nil && last.MadeBy == byPlan &&
		rg.Clock().Sub(last.StartedAt).Abs() < time.Hour {
		return nil
	}
	before := rg.Clock().AddDate(0, 0, -plan.EveryDays)
	n, err := rg.Store.Verifications.CountDue(ctx, before)
	if err != nil || n == 0 {
		return err
	}
	var after *store.Filing
	_, err = rg.beginVerification(ctx, byPlan, n, plan, func(ctx context.Context) ([]store.Filing, error) {
		rows, err := rg.Store.Verifications.DueForVerification(ctx, before, after, verifyBatch)
		if len(rows) > 0 {
			last := rows[len(rows)-1] // as it was found: it is changed by being verified
			after = &last
		}
		return rows, err
	})
	return err
}

// byPlan is who verifies by plan.
const byPlan = "the plan"
