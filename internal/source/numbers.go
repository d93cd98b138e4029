package source

// Numbering is the numbers that a folder's messages have.
type Numbering struct {
	UIDValidity uint32
	UIDNext     uint32
	UIDs        map[string]uint32 // by name
}

// Numbers keeps UIDs for mailboxes whose messages have lasting names and no
// numbers: files of a Maildir, the unique-ids of POP3. A number that was given
// is never another name's, not even after the name is gone.
type Numbers interface {
	// Numbering reads the numbers of a folder.
	Numbering(folder string) (Numbering, error)
	// Number gives the names that have no number yet the next ones, in their
	// order, and returns the numbers of all of them.
	Number(folder string, names []string) (map[string]uint32, error)
}
