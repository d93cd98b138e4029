package mailfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/disk"
)

// ErrNoMessage says that a file holds no message.
var ErrNoMessage = errors.New("this is no message: it does not begin with header fields")

// Intake takes messages into a Maildir of Ink Tray's own. A message that is there
// already, with the same bytes, is passed over.
type Intake struct {
	disk  disk.FS
	there map[string]bool
}

// NewIntake looks at what is there already.
func NewIntake(d disk.FS) (*Intake, error) {
	in := &Intake{disk: d, there: map[string]bool{}}
	entries, err := d.ReadDir(".")
	if err != nil {
		return nil, err
	}
	dirs := []string{"."}
	for _, e := range entries {
		if e.IsDir() && strings.HasPrefix(e.Name(), ".") {
			dirs = append(dirs, e.Name())
		}
	}
	for _, dir := range dirs {
		for _, sub := range []string{"new", "cur"} {
			files, err := d.ReadDir(path.Join(dir, sub))
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
			for _, f := range files {
				name, _, _ := strings.Cut(f.Name(), ":")
				in.there[name] = true
			}
		}
	}
	return in, nil
}

// Take takes one message in and says whether it was new. received is when it came,
// zero where that is not known otherwise than from the message.
func (in *Intake) Take(raw []byte, received, now time.Time) (bool, error) {
	header, _ := mail.ParseHeader(raw)
	if len(header.Keep([]string{"From", "To", "Subject", "Date", "Message-ID", "Received"})) == 0 {
		return false, ErrNoMessage
	}
	sum := sha256.Sum256(raw)
	name := "taken-" + hex.EncodeToString(sum[:16])
	if in.there[name] {
		return false, nil
	}
	if received.IsZero() {
		m := mail.Message{Header: header, Envelope: header.Envelope()}
		m.SetReceived(time.Time{}, now)
		if received = m.Received; received.IsZero() {
			received = m.Envelope.Date
		}
		if received.IsZero() || received.After(now) || received.Year() < 1971 {
			received = now
		}
	}
	err := deliver(in.disk, ".", name, received, bytes.NewReader(raw))
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	in.there[name] = err == nil
	return err == nil, err
}

// TakeMbox takes every message of an mbox file in.
func (in *Intake) TakeMbox(r io.Reader, now time.Time) (taken, known int, err error) {
	err = Mbox(r, func(raw []byte, received time.Time) error {
		fresh, err := in.Take(raw, received, now)
		switch {
		case errors.Is(err, ErrNoMessage):
			return nil // such as what some programs keep for themselves at the beginning
		case err != nil:
			return err
		case fresh:
			taken++
		default:
			known++
		}
		return nil
	})
	return taken, known, err
}
