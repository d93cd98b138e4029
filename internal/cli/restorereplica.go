package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"inktray.example/inktray/internal/backup"
	"inktray.example/inktray/internal/replica"
)

// moments are the forms in which a moment is given; those without a zone are of this machine's.
var moments = []string{time.RFC3339Nano, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05",
	"2006-01-02T15:04"}

// momentOf reads a moment; "" is the zero moment.
func momentOf(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range moments {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usageError{fmt.Errorf("%q is not a date and time; write it as 2026-09-01 14:30 or "+
		"2026-09-01T12:30:00Z",
		text)}
}

// restoreReplica puts a state of a replica into an empty folder.
func (c backupCommands) restoreReplica(ctx context.Context, of *placeOptions, data, moment string, yes bool) error {
	at, err := momentOf(moment)
	if err != nil {
		return err
	}
	staging, err := os.MkdirTemp("", "inktray-restore-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(staging)
	place, passphrase, err := of.open(staging, nil)
	if err != nil {
		return err
	}
	defer place.Close()
	if passphrase == "" {
		if passphrase, err = c.secret("", replicaPassphrase, "Passphrase of the replica"); err != nil {
			return err
		}
	}
	question := fmt.Sprintf("Ink Tray puts a state of the replica into %s. The installation that it comes from must "+
		"no longer run. Go on?", data)
	if err := c.confirm(question, yes); err != nil {
		return err
	}
	var r replica.Restored
	err = backup.Into(data, func(work string) error {
		if r, err = replica.Restore(ctx, place, passphrase, theRecords, at, work); err != nil {
			return err
		}
		return beginComparison(ctx, work, r.At)
	})
	var not *replica.NotKeptError
	var wrong *backup.Error
	switch {
	case errors.As(err, &wrong):
		return &exitError{exitFailure, wrong.Error()}
	case errors.Is(err, replica.ErrNone):
		return &exitError{exitMissing, fmt.Sprintf("there is no replica in %s", place)}
	case errors.As(err, &not), errors.Is(err, replica.ErrPassphrase):
		return &exitError{exitFailure, err.Error()}
	case err != nil:
		return fmt.Errorf("the replica in %s was not put back: %w", place, err)
	}
	return c.show(map[string]any{"folder": data, "at": r.At, "files": r.Files}, func() {
		c.printf("The state of %s is in %s. Start the service on it:\n\n   inktray serve --data %s\n\nIt compares "+
			"itself with mailboxes and cabinets first; inktray restored says how far it is.\n",
			r.At.Local().Format("2 January 2006, 15:04:05"), data, shellWord(data))
	})
}
