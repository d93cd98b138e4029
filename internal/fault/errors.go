package fault

import (
	"errors"
	"fmt"

	"inktray.example/inktray/internal/source"
)

// CrashError says that the program ended by its own fault while it read a message.
type CrashError struct{ Times int }

func (c *CrashError) Error() string {
	return fmt.Sprintf("Ink Tray itself crashed %d times while it read this message", c.Times)
}

// PanicError says that understanding a message panicked.
type PanicError struct{ Cause any }

func (p *PanicError) Error() string { return "Ink Tray could not understand this message" }

// StructureError says that the parts of a message cannot be told apart.
type StructureError struct{ Why string }

func (s *StructureError) Error() string {
	return "the structure of the message cannot be read: " + s.Why
}

// Lasts says whether reading a message again would end the same way.
func Lasts(err error) bool {
	var panicked *PanicError
	var crashed *CrashError
	var structure *StructureError
	return errors.As(err, &panicked) || errors.As(err, &crashed) || errors.As(err, &structure)
}

// Reason is an error as people read it.
func Reason(err error) string {
	var reach *source.Error
	if errors.As(err, &reach) {
		return reach.Problem
	}
	return err.Error()
}
