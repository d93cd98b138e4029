package webdav

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"net/http"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/safename"
)

// With two writers at once a MOVE with "Overwrite: F" is let through for both by
// some servers, and so are a conditional PUT and LOCK: they look first and act
// then. Making a folder is one step everywhere. So anyone who wants to give a name makes
// a folder that represents the name first, and takes it away afterwards.
const claims = cabinet.Reserved + "/claims"

const (
	holdFor    = 30 * time.Second // how long a name is claimed at most
	staleAfter = 3 * holdFor      // then its owner has ended
	lockAfter  = 10 * time.Minute // the same of who takes a stale claim away
	waitFor    = 2 * time.Minute  // for others, before the engine tries later
)

// Claim is the folder that represents a name; names that count as the same have
// the same one.
func Claim(name string) string {
	sum := sha256.Sum256([]byte(safename.Fold(name)))
	return claims + "/" + hex.EncodeToString(sum[:16])
}

// Move gives a file its name while it is claimed. Once begun, the exchanges for that are
// not cut off by the caller, each has its own end: a claim of which nobody heard would
// hold the name up.
func (t *Tree) Move(ctx context.Context, from, to string) error {
	wait, cancel := context.WithTimeout(ctx, waitFor)
	defer cancel()
	mine, whole := Claim(to), context.WithoutCancel(ctx)
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := t.Mkdir(whole, mine)
		if errors.Is(err, fs.ErrNotExist) {
			if err := t.Mkdir(wait, claims); err != nil && !errors.Is(err, fs.ErrExist) {
				return err
			}
			continue
		}
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		if _, err := t.Stat(wait, to); err == nil {
			return fs.ErrExist
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := t.breakStale(wait, mine); err != nil {
			return err
		}
		select {
		case <-time.After(pause):
		case <-wait.Done():
			if err := ctx.Err(); err != nil {
				return err
			}
			return &cabinet.Error{Problem: "another service has been giving this name for minutes", Advice: "It is tried again."}
		}
	}
	defer func() {
		end, cancel := context.WithTimeout(whole, holdFor)
		defer cancel()
		_ = t.done(end, http.MethodDelete, t.at(mine, true), nil) // else it is stale one day
	}()
	hold, cancelHold := context.WithTimeout(whole, holdFor)
	defer cancelHold()
	// Some servers move a file into a folder that has the name.
	if _, err := t.Stat(hold, to); err == nil {
		return fs.ErrExist
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	err := t.unlocked(hold, "MOVE", t.at(from, false), map[string]string{"Destination": t.at(to, false), "Overwrite": "F"})
	if status(err) == http.StatusForbidden { // what some say where there is nothing to move
		if _, gone := t.Stat(hold, from); errors.Is(gone, fs.ErrNotExist) {
			return gone
		}
	}
	if err == nil || status(err) != 0 {
		return err
	}
	// It is not known whether it was done: the name was free, and is claimed.
	after, cancelAfter := context.WithTimeout(whole, exchange)
	defer cancelAfter()
	if _, fromErr := t.Stat(after, from); errors.Is(fromErr, fs.ErrNotExist) {
		if _, toErr := t.Stat(after, to); toErr == nil {
			return nil
		}
	}
	return err
}

// age is how old a folder is by the server's own clock; ok is false where it is not
// there or the server does not say.
func (t *Tree) age(ctx context.Context, folder string) (age time.Duration, ok bool, err error) {
	all, err := t.find(ctx, folder, true, "0", nil)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, false, nil
	}
	if err != nil || len(all) == 0 || all[0].Modified.IsZero() || all[0].date.IsZero() {
		return 0, false, err
	}
	return all[0].date.Sub(all[0].Modified), true, nil
}

// breakStale takes a claim away whose owner has ended. One at a time does so, and
// looks again once nobody else can: a claim that was made again meanwhile stays.
func (t *Tree) breakStale(ctx context.Context, stale string) error {
	old := func(folder string, than time.Duration) (bool, error) {
		age, ok, err := t.age(ctx, folder)
		return ok && age > than, err
	}
	if is, err := old(stale, staleAfter); err != nil || !is {
		return err
	}
	lock := stale + "-ends"
	err := t.Mkdir(ctx, lock)
	if errors.Is(err, fs.ErrExist) {
		if is, err := old(lock, lockAfter); err != nil || !is {
			return err
		}
		return t.gone(ctx, lock)
	}
	if err != nil {
		return err
	}
	if is, err := old(stale, staleAfter); err != nil {
		return err
	} else if is {
		if err := t.gone(ctx, stale); err != nil {
			return err
		}
	}
	return t.gone(ctx, lock)
}

func (t *Tree) gone(ctx context.Context, folder string) error {
	if err := t.done(ctx, http.MethodDelete, t.at(folder, true), nil); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Sweep takes away the claims of names that nobody has wanted since their owner ended.
func (t *Tree) Sweep(ctx context.Context) error {
	left, err := t.List(ctx, claims)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, c := range left {
		if age, ok, err := t.age(ctx, claims+"/"+c.Name); err != nil {
			return err
		} else if ok && age > lockAfter {
			if err := t.breakStale(ctx, claims+"/"+c.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
