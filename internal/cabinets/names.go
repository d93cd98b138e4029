package cabinets

import (
	"context"
	"errors"
	"path"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/fault"
)

// MostLooks is how often a cabinet that is in order is asked for something that it does not give, before the fault
// counts as that of the file or folder.
const MostLooks = 3

// Resolve finds the place for a name. Where it cannot be found though the cabinet is in order, this is no fault of the
// cabinet: other files are filed in it.
func Resolve(ctx context.Context, c cabinet.Cabinet, folders []string, file string) (spot cabinet.Spot, err error) {
	for range MostLooks {
		if spot, err = c.Resolve(ctx, folders, file); err == nil || !OnlyOf(ctx, c, err) {
			return spot, err
		}
	}
	return spot,
		&cabinet.Error{Problem: "the folder " + path.Join(folders...) + " cannot be looked into: " +
			phrase.TrimStop(err.Error()), Advice: "Look at the folder in the cabinet, then try again.", Lasting: true, Err: err}
}

// LookAt measures what has a name. isFile is false where that cannot be read though the cabinet is in order.
func LookAt(ctx context.Context, c cabinet.Cabinet, name string) (there cabinet.Content, isFile bool, err error) {
	for range MostLooks {
		if there, err = cabinet.Sum(ctx, c, name); err == nil || !OnlyOf(ctx, c, err) {
			return there, err == nil, err
		}
	}
	return cabinet.Content{}, false, nil
}

// OnlyOf says whether an error is about one name only: the cabinet itself is in order, as its own check says.
func OnlyOf(ctx context.Context, c cabinet.Cabinet, err error) bool {
	var known *cabinet.Error
	if ctx.Err() != nil || errors.Is(err, cabinet.ErrMissing) || !errors.As(err, &known) || known.Lasting {
		return false
	}
	return c.Check(ctx) == nil
}

// OnlyName says the same of an error that came when a file was to get its name: giving others theirs works.
func OnlyName(ctx context.Context, c cabinet.Cabinet, err error) bool {
	if fault.IsDisk(err) || !OnlyOf(ctx, c, err) {
		return false
	}
	_, err = cabinet.Prove(ctx, c)
	return err == nil
}
