package mailfile

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/disk"
)

// ErrNoMessage says that a file holds no message.
var ErrNoMessage = errors.New("this is not a message: it does not begin with header fields")

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

// Report accounts for a file that was taken in. Every octet of it belongs to a message
// that was taken in, was there before, or was refused.
type Report struct {
	Found   int   // messages in the file
	Taken   int   // messages that are new
	Known   int   // messages that were taken in before
	Octets  int64 // of the file
	Refused []Refusal
}

// Refusal is a part of a file that was not taken in.
type Refusal struct {
	Message int   // which message of the file, from 1; 0 for what is before the first
	Offset  int64 // where it begins, in octets
	Size    int64 // octets
	Reason  string
}

// Take takes one message in and says whether it was new. received is the time of its
// file, or of the line that parts it from others; zero where there is none. A message
// whose time is nowhere to be found gets the time 0 (1970), which is read as unknown.
func (in *Intake) Take(raw []byte, received, now time.Time) (bool, error) {
	if len(mail.HeaderOf(raw)) == 0 {
		return false, ErrNoMessage
	}
	sum := sha256.Sum256(raw)
	name := "taken-" + hex.EncodeToString(sum[:16])
	if in.there[name] {
		return false, nil
	}
	if received.Year() < 1971 || received.After(now.Add(24*time.Hour)) {
		received = time.Unix(0, 0)
	}
	err := deliver(in.disk, ".", name, received, bytes.NewReader(raw))
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	in.there[name] = err == nil
	return err == nil, err
}

// TakeFile takes in what a file holds: one message, or the messages of an mbox file.
// What of it is no message is in the report, and the rest is taken in all the same. The
// error is the disk's or the reader's; the report then says what was taken in before.
func (in *Intake) TakeFile(r io.Reader, now time.Time) (Report, error) {
	file := bufio.NewReader(r)
	if begin, _ := file.Peek(len("From ")); string(begin) == "From " { // no message begins so
		return in.TakeMbox(file, now)
	}
	raw, err := io.ReadAll(io.LimitReader(file, maxMessage+1))
	report := Report{Octets: int64(len(raw))}
	if err != nil {
		return report, err
	}
	if len(raw) > maxMessage {
		rest, err := io.Copy(io.Discard, file)
		report.Octets += rest
		report.refuse(Boxed{Begun: true, Size: report.Octets}, tooLarge)
		return report, err
	}
	err = in.count(&report, Boxed{Raw: raw, Begun: true, Size: report.Octets}, now)
	return report, err
}

var tooLarge = fmt.Sprintf("it has more than %d MB", maxMessage>>20)

// TakeMbox takes every message of an mbox file in.
func (in *Intake) TakeMbox(r io.Reader, now time.Time) (report Report, err error) {
	err = Mbox(r, func(m Boxed) error {
		report.Octets += m.Size
		switch {
		case !m.Begun && len(bytes.TrimSpace(m.Raw)) == 0:
			return nil // empty lines before the first message
		case !m.Begun:
			report.refuse(m, "it is before the first line that begins with “From ” and a date")
			return nil
		case m.Raw == nil:
			report.refuse(m, tooLarge)
			return nil
		}
		return in.count(&report, m, now)
	})
	return report, err
}

// count takes one message in and accounts for it.
func (in *Intake) count(report *Report, m Boxed, now time.Time) error {
	fresh, err := in.Take(m.Raw, m.Received, now)
	switch {
	case errors.Is(err, ErrNoMessage):
		report.refuse(m, ErrNoMessage.Error())
		return nil
	case err != nil:
		return err
	case fresh:
		report.Taken++
	default:
		report.Known++
	}
	report.Found++
	return nil
}

func (r *Report) refuse(m Boxed, reason string) {
	number := 0
	if m.Begun {
		r.Found++
		number = r.Found
	}
	r.Refused = append(r.Refused, Refusal{Message: number, Offset: m.Offset, Size: m.Size, Reason: reason})
}
