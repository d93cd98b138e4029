package source

import "context"

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
	Numbering(ctx context.Context, folder string) (Numbering, error)
	// Number gives the names that have no number yet the next ones, in their
	// order, and returns the numbers of all of them.
	Number(ctx context.Context, folder string, names []string) (map[string]uint32, error)
}

// Numbered is what a session knows of the numbers: they are read once for each
// folder, and after that only names are asked for that are new.
type Numbered struct {
	Numbers Numbers
	folders map[string]*Numbering
}

// Of gives a folder's numbers once all of the names have one. What it returns is
// not to be changed.
func (n *Numbered) Of(ctx context.Context, folder string, names []string) (*Numbering, error) {
	known := n.folders[folder]
	if known == nil {
		read, err := n.Numbers.Numbering(ctx, folder)
		if err != nil {
			return nil, err
		}
		if n.folders == nil {
			n.folders = map[string]*Numbering{}
		}
		known = &read
		n.folders[folder] = known
	}
	var fresh []string
	for _, name := range names {
		if known.UIDs[name] == 0 {
			fresh = append(fresh, name)
		}
	}
	if len(fresh) == 0 {
		return known, nil
	}
	given, err := n.Numbers.Number(ctx, folder, fresh)
	if err != nil {
		return nil, err
	}
	for name, uid := range given {
		known.UIDs[name] = uid
		known.UIDNext = max(known.UIDNext, uid+1)
	}
	return known, nil
}
