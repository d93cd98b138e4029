package sourcetest

import (
	"context"
	"sync"

	"inktray.example/inktray/internal/source"
)

// Numbers keeps numbers in memory.
type Numbers struct {
	mutex   sync.Mutex
	folders map[string]*source.Numbering
}

func (n *Numbers) of(folder string) *source.Numbering {
	if n.folders == nil {
		n.folders = map[string]*source.Numbering{}
	}
	if n.folders[folder] == nil {
		n.folders[folder] = &source.Numbering{UIDValidity: 7, UIDNext: 1, UIDs: map[string]uint32{}}
	}
	return n.folders[folder]
}

// Numbering reads the numbers of a folder.
func (n *Numbers) Numbering(_ context.Context, folder string) (source.Numbering, error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	f := *n.of(folder)
	uids := map[string]uint32{}
	for name, uid := range f.UIDs {
		uids[name] = uid
	}
	f.UIDs = uids
	return f, nil
}

// Number gives numbers.
func (n *Numbers) Number(_ context.Context, folder string, names []string) (map[string]uint32, error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	f := n.of(folder)
	given := map[string]uint32{}
	for _, name := range names {
		if f.UIDs[name] == 0 {
			f.UIDs[name] = f.UIDNext
			f.UIDNext++
		}
		given[name] = f.UIDs[name]
	}
	return given, nil
}
