package store

import (
	"errors"
	"testing"
)

// Changes that are committed together come to nothing together, and each is told why.
func TestChangesThatComeToNothingTogetherAreToldWhy(t *testing.T) {
	full := &Trouble{Problem: "the disk is full", Full: true, Err: errors.New("SQLITE_FULL")}
	gone := errors.New("cannot commit - no transaction is active")
	results := []error{nil, full, errors.New("no such savepoint: one"), nil}
	blame(results, gone)
	for i, err := range results {
		if trouble := TroubleOf(err); trouble == nil || !trouble.Full {
			t.Errorf("change %d is told %v", i, err)
		}
	}
	results = []error{nil, ErrTaken}
	blame(results, gone)
	if !errors.Is(results[0], gone) || !errors.Is(results[1], ErrTaken) {
		t.Errorf("without trouble they are told %v", results)
	}
}
