package store

import (
	"errors"

	sqlite3 "modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"
)

// Trouble says why the records cannot be used now.
type Trouble struct {
	Problem string // what is wrong, in words for an office
	Advice  string // what to do about it
	Full    bool   // the disk is full
	Damaged bool   // the file holds what no database may hold
	Err     error
}

// Error gives the problem, then what the database said.
func (t *Trouble) Error() string { return t.Problem + " (" + t.Err.Error() + ")" }

// Unwrap gives what the database said.
func (t *Trouble) Unwrap() error { return t.Err }

// TroubleOf tells whether an error comes from the records themselves: their disk
// is full, they cannot be read or written, or they are damaged. It is nil for
// every other error, such as a row that is not there.
func TroubleOf(err error) *Trouble {
	var known *Trouble
	if errors.As(err, &known) {
		return known
	}
	var answer *sqlite3.Error
	if !errors.As(err, &answer) {
		return nil
	}
	const again = "Ink Tray tries again by itself."
	switch code := answer.Code(); code & 0xff { // the low byte is the primary result code
	case codes.SQLITE_FULL:
		return &Trouble{Problem: "the disk that holds Ink Tray's records is full", Advice: "Free some space. Ink Tray then " +
			"goes on by itself.", Full: true, Err: err}
	case codes.SQLITE_CORRUPT, codes.SQLITE_NOTADB:
		return &Trouble{Problem: "Ink Tray's records are damaged", Advice: DamagedAdvice, Damaged: true, Err: err}
	case codes.SQLITE_READONLY, codes.SQLITE_PERM, codes.SQLITE_CANTOPEN:
		return &Trouble{Problem: "Ink Tray may not write its records", Advice: "Look at the rights on the folder of the " +
			"records, and whether its disk is mounted for writing.", Err: err}
	case codes.SQLITE_IOERR, codes.SQLITE_NOMEM:
		return &Trouble{Problem: "the disk that holds Ink Tray's records gives errors", Advice: "Look at that disk. " + again,
			Err: err}
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return &Trouble{Problem: "another program keeps Ink Tray's records locked", Advice: "Find out which program has " +
			"the file inktray.db open. " + again, Err: err}
	}
	return nil
}
