package cabinet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/safename"
)

// What a cabinet keeps in its own folder.
const (
	IdentityFile = Reserved + "/cabinet.json"
	Staging      = Reserved + "/staging"  // what has no final name yet
	Replaced     = Reserved + "/replaced" // what was moved out of the way
	NotesFolder  = Reserved + "/notes"    // what those who file here tell one another
)

// MaxNote bounds a note, in octets.
const MaxNote = 16 << 10

// Identity is what a cabinet is known by.
type Identity struct {
	ID   string    `json:"id"`
	Made time.Time `json:"made"`
	Note string    `json:"note"`
}

// NewIdentity makes an identity and what the identity file holds.
func NewIdentity(now time.Time) (Identity, []byte, error) {
	made := Identity{ID: strings.ToLower(rand.Text()), Made: now.UTC().Truncate(time.Second),
		Note: "Ink Tray knows its cabinet by this file. Leave it here."}
	data, err := json.MarshalIndent(made, "", "  ")
	return made, append(data, '\n'), err
}

// ReadIdentity reads an identity file.
func ReadIdentity(r io.Reader) (Identity, error) {
	var found Identity
	err := json.NewDecoder(io.LimitReader(r, 64<<10)).Decode(&found)
	if err == nil && found.ID == "" {
		err = errors.New("it names nobody")
	}
	return found, err
}

// Missing and Foreign say that a place, named as people know it, is not the cabinet
// that it should be.
func Missing(place string) error {
	return &Error{Problem: fmt.Sprintf("%s is there, but its identity file %s is not", place, IdentityFile),
		Advice: "Perhaps a share is not mounted. If it was emptied on purpose, add the cabinet again."}
}

// Foreign says that another cabinet is there.
func Foreign(place string) error {
	return &Error{Problem: place + " belongs to another cabinet", Advice: "Perhaps another share is mounted there. " +
		"Mount the right one, or add this one as a cabinet of its own."}
}

// Clean refuses paths that could not have come from a plan.
func Clean(name string) error {
	for s := range strings.SplitSeq(name, "/") {
		if s == "" || s == "." || s == ".." || len(s) > safename.MaxSegment || strings.ContainsAny(s, "\x00\\") {
			return &Error{Problem: fmt.Sprintf("%q cannot be a path in a cabinet", name), Lasting: true}
		}
	}
	if first, _, _ := strings.Cut(name, "/"); safename.Fold(first) == safename.Fold(Reserved) {
		return &Error{Problem: fmt.Sprintf("%q is the cabinet's own folder", Reserved),
			Advice: "Choose another folder in the rule.", Lasting: true}
	}
	return nil
}

// CleanKept refuses what cannot be the name of a file that is kept.
func CleanKept(kept string) error {
	if err := Clean(kept); err != nil || strings.Contains(kept, "/") {
		return &Error{Problem: fmt.Sprintf("%q cannot be the name of a file that is kept", kept), Lasting: true}
	}
	return nil
}

// Reading reads for as long as its context lasts and remembers whether it was the
// reading that failed, and not the writing of what was read.
type Reading struct {
	Reader  io.Reader
	Context context.Context
	Err     error
}

func (r *Reading) Read(p []byte) (int, error) {
	if err := r.Context.Err(); err != nil {
		r.Err = err
		return 0, err
	}
	n, err := r.Reader.Read(p)
	if err != nil && err != io.EOF {
		r.Err = err
	}
	return n, err
}

// Measure reads to the end and says what was read.
func Measure(ctx context.Context, r io.Reader) (Content, error) {
	var content Content
	sum := sha256.New()
	var err error
	if content.Size, err = io.Copy(sum, &Reading{Reader: r, Context: ctx}); err != nil {
		return content, err
	}
	sum.Sum(content.SHA256[:0])
	return content, nil
}
