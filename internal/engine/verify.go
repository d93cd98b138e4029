package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// verifyBatch is how many files are verified between two moments at which that
// is recorded.
const verifyBatch = 50

// ErrVerifying says that files are being verified already.
var ErrVerifying = errors.New("files are being verified already")

// CheckVerificationPlan says what is wrong with a plan. The error, if any, is
// rule.Problems.
func CheckVerificationPlan(p store.VerificationPlan) error {
	_, err := hours(p.FromTime, p.ToTime)
	return err
}

// Verify looks whether the files that a query finds still lie where they were
// filed, unchanged. What is missing or changed goes to the tray.
func (e *Engine) Verify(v store.Viewer, q register.Query) (*store.Pass, error) {
	q.Most, q.After, q.Ascending, q.Sort = 0, register.Number{}, true, register.ByNumber
	if q.States == nil {
		q.States = []register.State{register.Filed, register.Changed, register.Missing}
	}
	// What was taken back or replaced, or was never filed, is not expected anywhere.
	q.States = slices.DeleteFunc(slices.Clone(q.States), func(s register.State) bool {
		return s != register.Filed && s != register.Changed && s != register.Missing
	})
	if len(q.States) == 0 {
		return nil, rule.Problems{{Place: "text", Text: "only files that were filed and not taken back are verified: leave the state out, or say state:filed"}}
	}
	found, err := e.Store.FindFilings(v, q)
	if err != nil {
		return nil, err
	}
	if found.Total == 0 {
		return nil, rule.Problems{{Place: "text", Text: "nothing of that kind was filed, so there is nothing to verify"}}
	}
	left := found.Numbers
	return e.beginVerification(v.Name, found.Total, store.VerificationPlan{}, func() ([]store.Filing, error) {
		some := left[:min(verifyBatch, len(left))]
		left = left[len(some):]
		return e.Store.FilingsNumbered(v, some)
	})
}

// beginVerification verifies batches until there are none, as a pass.
func (e *Engine) beginVerification(by string, total int, plan store.VerificationPlan, next func() ([]store.Filing, error)) (*store.Pass, error) {
	e.mutex.Lock()
	if e.verifying {
		e.mutex.Unlock()
		return nil, ErrVerifying
	}
	e.verifying = true
	e.mutex.Unlock()
	pass := &store.Pass{Kind: "verification", MadeBy: by, State: store.Running, Total: total, StartedAt: e.Clock()}
	if err := e.Store.AddPass(pass); err != nil {
		e.mutex.Lock()
		e.verifying = false
		e.mutex.Unlock()
		return nil, err
	}
	begun := *pass
	steer := &oldMail{}
	e.mutex.Lock()
	e.passes[pass.ID] = steer
	e.mutex.Unlock()
	e.tasks.Go(func() {
		state, err := e.verifyAll(e.ctx, pass, steer, plan, next)
		e.mutex.Lock()
		e.verifying = false
		delete(e.passes, pass.ID)
		e.mutex.Unlock()
		if err != nil {
			state, pass.Note = store.Broken, err.Error()
		}
		ended := e.Clock()
		pass.State, pass.EndedAt = state, &ended
		if err := e.Store.SavePass(pass); err != nil {
			e.Log.Error("keeping a pass", "error", err)
		}
		e.hub.send(Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
	})
	return &begun, nil
}

func (e *Engine) verifyAll(ctx context.Context, pass *store.Pass, steer *oldMail, plan store.VerificationPlan, next func() ([]store.Filing, error)) (store.PassState, error) {
	span, _ := hours(plan.FromTime, plan.ToTime) // it was checked
	missing, changed, passed := 0, 0, 0
	for {
		rows, err := next()
		if err != nil || len(rows) == 0 {
			return store.Done, err
		}
		var fine []register.Number
		for i := range rows {
			f := &rows[i]
			if asked := steer.asked(); asked != "" || ctx.Err() != nil || !withinHours(span, e.now()) {
				if err := e.Store.VerifiedFine(fine, e.Clock()); err != nil {
					return "", err
				}
				pass.Matched, pass.Note = missing+changed, verified(missing, changed, passed)
				if asked == "" && ctx.Err() == nil {
					pass.Note = joinNote(pass.Note, "goes on tomorrow")
					return store.Done, nil
				}
				return store.Stopped, nil
			}
			began := e.Clock()
			state, err := e.verifyOne(ctx, f)
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
				if err := e.Store.VerifiedWrong(f, state, e.Clock()); err != nil {
					return "", err
				}
				e.hub.send(Event{Kind: "tray"})
			}
			pass.Looked++
			if plan.MBPerSecond > 0 {
				due := time.Duration(float64(f.Size) / float64(plan.MBPerSecond) / 1e6 * float64(time.Second))
				e.rest(ctx, steer, due-e.Clock().Sub(began))
			}
		}
		if err := e.Store.VerifiedFine(fine, e.Clock()); err != nil {
			return "", err
		}
		pass.Matched, pass.Note = missing+changed, verified(missing, changed, passed)
		if err := e.Store.SavePass(pass); err != nil {
			return "", err
		}
		e.hub.send(Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
	}
}

func joinNote(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// verified says in words what a verification found.
func verified(missing, changed, passed int) string {
	note := ""
	if missing > 0 {
		note = fmt.Sprintf("%d missing", missing)
	}
	if changed > 0 {
		note = joinNote(note, fmt.Sprintf("%d changed", changed))
	}
	if passed > 0 {
		note = joinNote(note, fmt.Sprintf("%d not verified, since the cabinet is out of reach", passed))
	}
	return note
}

// verifyOne says whether a file is "missing", "changed" or, as "", as it was
// filed. The error is the cabinet's: then nothing can be said.
func (e *Engine) verifyOne(ctx context.Context, f *store.Filing) (string, error) {
	g, err := e.gate(f.CabinetID)
	if errors.Is(err, store.ErrNotFound) {
		return "missing", nil // the cabinet was removed
	}
	if err != nil {
		return "", err
	}
	if err := g.ready(ctx); err != nil {
		return "", err
	}
	there, err := g.cabinet.Sum(ctx, path.Join(f.Folder, f.File))
	switch {
	case errors.Is(err, cabinet.ErrMissing):
		if err := g.cabinet.Check(ctx); err != nil { // nothing is there where the cabinet itself is not
			return "", g.trip(err)
		}
		return "missing", nil
	case err != nil && only(ctx, g.cabinet, err):
		return "changed", nil // nobody can read it any more
	case err != nil:
		return "", err
	case there.Size != f.Size || string(there.SHA256[:]) != string(f.SHA256):
		return "changed", nil
	}
	return "", nil
}

// VerifyFiling verifies one filing now.
func (e *Engine) VerifyFiling(ctx context.Context, f *store.Filing) error {
	state, err := e.verifyOne(ctx, f)
	if err != nil {
		return err
	}
	defer e.hub.send(Event{Kind: "tray"})
	if state == "" {
		return e.Store.VerifiedFine([]register.Number{f.Entry()}, e.Clock())
	}
	return e.Store.VerifiedWrong(f, state, e.Clock())
}

// keepVerifying verifies by plan.
func (e *Engine) keepVerifying() {
	ticker := time.NewTicker(20 * e.Beat)
	defer ticker.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-ticker.C:
		}
		if err := e.verifyDue(); err != nil && !errors.Is(err, ErrVerifying) {
			e.Log.Error("verifying by plan", "error", err)
		}
	}
}

func (e *Engine) verifyDue() error {
	plan, err := e.Store.VerificationPlan()
	if err != nil || plan.EveryDays == 0 {
		return err
	}
	if span, err := hours(plan.FromTime, plan.ToTime); err != nil || !withinHours(span, e.now()) {
		return nil
	}
	// Once an hour at most: what becomes due one by one is gathered, and a cabinet
	// that is out of reach does not fill the history.
	if last, err := e.Store.LastVerification(); err == nil && last.MadeBy == byPlan && e.Clock().Sub(last.StartedAt).Abs() < time.Hour {
		return nil
	}
	before := e.Clock().AddDate(0, 0, -plan.EveryDays)
	n, err := e.Store.CountDue(before)
	if err != nil || n == 0 {
		return err
	}
	var after *store.Filing
	_, err = e.beginVerification(byPlan, n, plan, func() ([]store.Filing, error) {
		rows, err := e.Store.DueForVerification(before, after, verifyBatch)
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

// FileMissingAgain files what is missing from a cabinet once more, from its
// message.
func (e *Engine) FileMissingAgain(ctx context.Context, v store.Viewer, m store.Matters) (int, error) {
	n := 0
	for _, id := range m.Filings {
		f, err := e.Store.FilingOf(id)
		if err != nil {
			return n, err
		}
		if f, err = e.Store.FilingByNumber(v, f.Year, f.Number); err != nil {
			return n, err
		}
		state, err := e.verifyOne(ctx, &f)
		if err != nil {
			return n, err
		}
		if state != "missing" { // it came back, or lies there changed
			if err := e.VerifyFiling(ctx, &f); err != nil {
				return n, err
			}
			continue
		}
		done, err := e.Store.Refile(v, &f, e.Clock())
		if err != nil {
			return n, err
		}
		n += done
	}
	return e.decided(n, nil)
}
