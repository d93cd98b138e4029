package registry

import (
	"context"
	"errors"
	"slices"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/store"
)

// wordsAtOnce is how many filings are taken in hand before it is looked whether something else has changed.
const wordsAtOnce = 50

// KeepWords keeps the words inside of the files of those rules that want it, so that searches find them. It works
// beside everything else.
func KeepWords(rg *Registry) func(ctx context.Context) {
	return func(ctx context.Context) {
		keeper := wordKeeper{Registry: rg}
		ticker := time.NewTicker(2 * rg.Beat)
		defer ticker.Stop()
		for failures := 0; ; {
			more, err := keeper.look(reading.Patiently(ctx))
			switch {
			case ctx.Err() != nil:
				return
			case err != nil:
				failures++
				rg.Log.Warn("keeping the words inside of files", "error", err)
				select {
				case <-ctx.Done():
					return
				case <-time.After(rg.Pause(failures)):
				}
				continue
			}
			if failures = 0; more {
				continue
			}
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
		}
	}
}

// wordKeeper keeps the words inside of files.
type wordKeeper struct {
	*Registry
	version int64    // of the settings when rules was read
	rules   []string // whose files are searched
}

// look looks at some of the filings that have to be looked at, and says whether there are more.
func (rg *wordKeeper) look(ctx context.Context) (more bool, err error) {
	if version := rg.Office.Settings().Version; version != rg.version {
		if rg.rules, err = searched(ctx, rg.Registry); err != nil {
			return false, err
		}
		rg.version = version
	}
	rules := rg.rules
	if len(rules) == 0 && rg.Store.Words.None() {
		return false, nil
	}
	if err := rg.Store.Words.Follow(ctx, rules); err != nil {
		return false, err
	}
	next, err := rg.Store.Words.Next(ctx, rg.Clock(), wordsAtOnce)
	for _, n := range next {
		if err := wordsOf(ctx, rg.Registry, n, rules); err != nil { // the others go on
			if ctx.Err() != nil {
				return false, ctx.Err()
			}
			rg.Log.Warn("the words inside of a file are read later", "filing", n.String(), "error", err)
			if err := rg.Store.Words.Later(ctx, n, rg.Clock()); err != nil {
				return false, err
			}
		}
	}
	return len(next) == wordsAtOnce, err
}

// searched are the rules whose files are searched.
func searched(ctx context.Context, rg *Registry) (ids []string, err error) {
	rows, err := rg.Store.Rules.All(ctx)
	for i := range rows {
		document, err := rows[i].Parsed()
		if err == nil && document.FullText { // one that cannot be read is told elsewhere
			ids = append(ids, rows[i].ID)
		}
	}
	return ids, err
}

// wordsOf keeps the words inside of a filed file, or forgets them where it is filed no longer. The error is the
// machine's, or says that the cabinet cannot be used now.
func wordsOf(ctx context.Context, rg *Registry, n register.Number, rules []string) error {
	f, err := rg.Store.Register.ByNumber(ctx, store.System, n.Year, n.Number)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err != nil || !slices.Contains(rules, f.RuleID) || f.FiledAt == nil || f.ErasedAt != nil ||
		f.State() == register.TakenBack {
		return rg.Store.Words.Drop(ctx, n)
	}
	if known, err := rg.Store.Words.Has(ctx, n, f.SHA256); known || err != nil {
		return err
	}
	text, problem := "", ""
	read, err := Inside(ctx, rg, &f)
	switch {
	case err == nil:
		text, problem = read.Text, read.Missing()
	case errors.Is(err, errLarge):
		problem = err.Error()
	case errors.Is(err, errOther) || f.State() == register.Missing: // as the last verification found
		problem = "its file is not as it was filed"
	default:
		return err
	}
	return rg.Store.Words.Put(ctx, &f, text, problem)
}

// forgetWords forgets the words of filings whose traces were erased, at once.
func forgetWords(ctx context.Context, rg *Registry, filings []store.Filing) error {
	for i := range filings {
		if err := rg.Store.Words.Drop(ctx, filings[i].Entry()); err != nil {
			return err
		}
	}
	if len(filings) == 0 {
		return nil
	}
	return rg.Store.Words.Overwrite(ctx)
}
