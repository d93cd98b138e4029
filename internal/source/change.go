package source

import (
	"context"
	"errors"
)

// Place is where a message is. UID is 0 where the server did not say.
type Place struct {
	Folder           string
	UIDValidity, UID uint32
}

// Changer is a session that can also change its mailbox. Its calls are about
// the folder that was opened by Write. ErrGone says that the message is not there.
type Changer interface {
	Session
	// Write opens a folder for changing.
	Write(ctx context.Context, folder string) (State, error)
	// Mark puts flags and keywords on a message and takes others off, and gives
	// those that it has then. ErrNoLabels where the folder cannot keep one of them.
	Mark(ctx context.Context, uid uint32, on, off []string) ([]string, error)
	// Move moves a message to another folder, which is made if it is missing.
	Move(ctx context.Context, uid uint32, folder string) (Place, error)
	// Named lists the messages that have a Message-ID, given without its brackets.
	Named(ctx context.Context, messageID string) ([]uint32, error)
	// Remove takes a message out of the open folder.
	Remove(ctx context.Context, uid uint32) error
	// Append puts a message into a folder, which is made if it is missing.
	Append(ctx context.Context, folder string, message []byte, flags []string) error
}

// ErrNoLabels says that a mail server keeps no labels of a person's own choice.
var ErrNoLabels = errors.New("the mail server keeps no labels in this folder")
