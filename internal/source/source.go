// Package source is what every kind of mailbox offers to the engine: messages
// are listed cheaply first, and parts are read only where a rule takes them.
// Only a Changer changes a mailbox.
package source

import (
	"context"
	"errors"
	"io"
	"maps"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/reach"
)

// Folder is a mail folder.
type Folder = mail.Folder

// State is what a folder says of itself when it is opened (RFC 9051 section 2.3.1.1).
type State struct {
	UIDValidity uint32
	UIDNext     uint32 // the next message will have this UID or a higher one
	Messages    uint32
	ModSeq      uint64 // highest mod-sequence (RFC 7162); 0 where the server has none
}

// Facts are what is kept of a message without reading its contents.
type Facts struct {
	UID       uint32
	Received  time.Time   // when the mail server took the message in (INTERNALDATE); zero where the source does not know
	Stored    time.Time   // when the message's file was written, where that is the moment of delivery; else zero
	Origin    mail.Origin // from where Received is known, of a message that was kept before; else ""
	Size      int64
	Flags     []string
	Header    mail.Header // the fields of mail.HeaderFields
	Structure mail.Structure
	Whole     bool // the server's account of the structure was unusable; parts are read from the whole message
}

// Arrived is when the message came to the place where it is now, as far as that does
// not depend on what the message says of itself. It is zero where nobody knows.
func (f *Facts) Arrived() time.Time {
	if f.Received.IsZero() {
		return f.Stored
	}
	return f.Received
}

// Message makes the facts into a message.
func (f *Facts) Message(folder string) *mail.Message {
	m := mail.New(f.Header, &f.Structure)
	m.Origin = f.Origin
	m.Received, m.Size, m.Flags, m.Folder = f.Received, f.Size, f.Flags, folder
	return m
}

// Query narrows a folder's messages. Zero values narrow nothing.
type Query struct {
	From, To uint32    // UIDs, both included; To 0 is the last
	Since    time.Time // received on this day or later; wide by a day, since servers have zones of their own
	Keywords []string  // any of these keywords or flags
}

// Event is something that the server announced.
type Event struct {
	At      time.Time // when the announcement arrived
	Arrived bool      // messages came
	Flags   bool      // flags changed
	Folders Names     // other folders in which something happened, by their paths
	All     bool      // something happened in a folder, and it is not known which
}

// Names are names of folders.
type Names map[string]bool

// With adds others.
func (n Names) With(others Names) Names {
	all := Names{}
	maps.Copy(all, n)
	maps.Copy(all, others)
	return all
}

// Moment is when the announcement arrived; nil where there was none.
func (e Event) Moment() *time.Time {
	if e.At.IsZero() {
		return nil
	}
	return &e.At
}

// What Part gives beside the parts of a message.
const (
	Header = "header"
	Whole  = "whole"
)

// Opener opens the contents of messages of the open folder.
type Opener interface {
	// Part opens one part's content, still in its transfer encoding; Header and
	// Whole stand for the message's header and for all of it. A stream
	// that was cut ends with io.ErrUnexpectedEOF. It must be closed before the
	// next call.
	Part(ctx context.Context, facts *Facts, item string) (io.ReadCloser, error)
	// Head reads the first octets of a part, still in its transfer encoding.
	Head(ctx context.Context, facts *Facts, item string, octets int64) ([]byte, error)
}

// Session is one connection to a mailbox. It is for one goroutine. Every call
// ends by a deadline even where the server is silent. After an error that is
// not ErrGone the session may be unusable: close it and open another.
type Session interface {
	// Folders lists the mailbox's folders.
	Folders(ctx context.Context) ([]Folder, error)
	// Open opens a folder for reading only. The other calls are about it.
	Open(ctx context.Context, folder string) (State, error)
	// UIDs lists messages in ascending order.
	UIDs(ctx context.Context, q Query) ([]uint32, error)
	// Facts reads the facts of messages, in the order of their UIDs. Those that
	// are gone by now are missing from the answer.
	Facts(ctx context.Context, uids []uint32) ([]Facts, error)
	Opener
	// Changed lists messages whose flags changed after the mod-sequence.
	Changed(ctx context.Context, since uint64) ([]uint32, error)
	// Wait returns when the server announces something, or after the longest
	// time, or when woken; the zero Event then. Pushes says whether it can
	// announce at all: otherwise Wait only asks at its end.
	Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (Event, error)
	Pushes() bool
	io.Closer
}

// Wanted is a part of a message, as Part takes it.
type Wanted struct {
	UID  uint32
	Item string
}

// Fetcher is a session that can read many parts of messages of the open folder in few exchanges.
type Fetcher interface {
	// Parts reads parts, still in their transfer encoding, and hands each to got as it comes, in any order, by one
	// goroutine at a time. Parts of more than most octets, and those that the server does not give, are left out: Part
	// says of them what is the matter. The content is got's, which may hand it to Recycle.
	Parts(ctx context.Context, wanted []Wanted, most int64, got func(w Wanted, content []byte)) error
}

// Glancer is a session that can say how folders stand without opening them.
type Glancer interface {
	// Glance gives the state of folders. A folder that does not exist is not in the result.
	Glance(ctx context.Context, folders []string) (map[string]State, error)
}

// Letter is a message that is to be sent.
type Letter struct {
	Sender  string   // address of the From field
	Bounces string   // address that learns of failures; "" for nobody's
	To      []string // addresses
	Content []byte   // the message with its header
}

// Submitter is a session whose server also sends mail for the account.
type Submitter interface {
	// Submit has a message sent. The error is an *Error if it was certainly not sent, and ErrUnsure where the connection
	// ended before the server said whether it was.
	Submit(ctx context.Context, l Letter) error
	// Submits says whether the server takes mail to send.
	Submits() bool
}

// ErrUnsure says that a message may have been sent.
var ErrUnsure = errors.New("the mail server did not say whether it sent the message")

// Herald is a session whose server can announce what comes into any folder of the account.
type Herald interface {
	// Announce has the server do so, where it can; with labels, also which flags change.
	Announce(ctx context.Context, labels bool) error
	// Announces says whether it does.
	Announces() bool
}

// ErrGone says that the message is no longer in the folder.
var ErrGone = errors.New("the message is no longer in the folder")

// ErrRenumbered says that the messages of the open folder got new UIDs
// (RFC 9051 section 2.3.1.1) while the connection was made again.
var ErrRenumbered = errors.New("the messages of the folder got new numbers")

// ErrNothing says that the server gave nothing of a part that has octets according
// to the message's structure.
var ErrNothing = errors.New("the mail server gave nothing of a part that has content")

// Step and Error are those of reaching a server.
type (
	Step  = reach.Step
	Error = reach.Error
)

// The steps of reaching a mailbox.
const (
	NameLookup = reach.NameLookup
	Connection = reach.Connection
	Encryption = reach.Encrypting
	SignIn     = reach.SignIn
	Folders    = reach.Folders
	Push       = reach.Push
)

// Check is one line of a mailbox's check.
type Check struct {
	Step   Step   `json:"step"`
	OK     bool   `json:"ok"`
	Detail string `json:"detail"`
	Advice string `json:"advice,omitempty"`
}

// Tidier is a session that can take messages off a server which keeps them for as
// long as they are left there.
type Tidier interface {
	// Tidy removes messages of the open folder.
	Tidy(ctx context.Context, uids []uint32) error
}
