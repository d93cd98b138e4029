package fault

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// A message on which the program itself ends again and again would stop all
// others. So what is being read is written down beside the records first. At a
// start these notes count only where the program left a crash report, that is,
// where it ended by its own fault: a kill from outside proves nothing about the
// message that happened to be read.

// InHand is what is being read.
type InHand struct {
	Mailbox     string   `json:"mailbox"`
	Folder      string   `json:"folder"`
	UIDValidity uint32   `json:"uid_validity"`
	UIDs        []uint32 `json:"uids"`
}

// Hand notes in a folder what one goroutine is reading.
type Hand struct {
	Notes string // the folder
	file  string
}

// Take writes down what is read from here on. The page cache outlives the
// program, so there is no flush: this is about the program's end, not the machine's.
func (h *Hand) Take(what InHand) error {
	if h.file == "" {
		if err := os.MkdirAll(h.Notes, 0o700); err != nil {
			return fmt.Errorf("making the folder for what is in hand: %w", err)
		}
		f, err := os.CreateTemp(h.Notes, "*.json")
		if err != nil {
			return fmt.Errorf("writing what is in hand: %w", err)
		}
		h.file = f.Name()
		if err := f.Close(); err != nil {
			return err
		}
	}
	text, err := json.Marshal(what)
	if err != nil {
		return err
	}
	if err := os.WriteFile(h.file, text, 0o600); err != nil {
		return fmt.Errorf("writing what is in hand: %w", err)
	}
	return nil
}

// LetGo says that nothing is being read any more.
func (h *Hand) LetGo() {
	if h.file != "" {
		_ = os.Truncate(h.file, 0) // at worst a message is read alone once more
	}
}

// Leave removes the note.
func (h *Hand) Leave() {
	if h.file != "" {
		_ = os.Remove(h.file)
		h.file = ""
	}
}

// WasInHand lists what was being read when the program ended, if it ended by its own fault, and removes the notes.
// report is the file for the Go runtime's report of that.
func WasInHand(notes, report string, found func(InHand) error) error {
	crashed, err := ownFault(report)
	if err != nil {
		return err
	}
	files, err := os.ReadDir(notes)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".json") {
			continue
		}
		name := filepath.Join(notes, f.Name())
		var h InHand
		if text, err := os.ReadFile(name); crashed && err == nil && json.Unmarshal(text, &h) == nil {
			if err := found(h); err != nil {
				return err
			}
		}
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

// ownFault says whether the Go runtime reports that the program ended by its own fault.
// It reports signals that somebody sent as well; they are none.
func ownFault(report string) (bool, error) {
	if report == "" {
		return false, nil
	}
	f, err := os.Open(report)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	start := make([]byte, 64)
	n, err := io.ReadFull(f, start)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return false, err
	}
	said := string(start[:n])
	return n > 0 && !strings.HasPrefix(said, "SIGQUIT") && !strings.HasPrefix(said, "SIGABRT"), nil
}
