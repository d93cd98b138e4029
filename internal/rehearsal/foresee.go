package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/store"
)

// foreseen is a cabinet as it would be after the rehearsed filing: the existing files and the rehearsed ones. Names are
// chosen as in filing, in the same order.
type foreseen struct {
	viewer  store.Viewer
	owner   *Rehearser
	gate    *cabinets.Gate    // nil where the cabinet cannot be reached
	folders map[string]string // how folders are spelled, by their folded paths
	exact   map[string]string // and by the wanted ones
	files   map[string]wouldBe
	next    map[string]int // from which number on names are tried, by the folded path without one
}

// wouldBe is a file that a rehearsal has put there.
type wouldBe struct {
	path     string
	received time.Time
	content  cabinet.Content // zero where it is not known
}

func foresee(ctx context.Context, e *Rehearser, v store.Viewer, cabinetName string) *foreseen {
	return &foreseen{owner: e, viewer: v, gate: e.cabinets.Named(ctx, cabinetName), folders: map[string]string{},
		exact: map[string]string{}, files: map[string]wouldBe{}, next: map[string]int{}}
}

// spot finds the exact place for a name, and what is there: a file of the rehearsal, one
// of the cabinet, or none.
func (f *foreseen) spot(ctx context.Context, folders []string, file string) (at string, would *wouldBe, there string) {
	at = path.Join(path.Join(folders...), file)
	if f.gate != nil {
		if s, err := f.gate.Cabinet.Resolve(ctx, folders, file); err == nil {
			at = s.Path
			if s.Taken {
				there = s.By
			}
		} else {
			f.gate = nil // out of reach; the tray says so
		}
	}
	folder, name := path.Split(at)
	at = f.spelled(folder) + name
	if w, ok := f.files[safename.Fold(at)]; ok {
		return at, &w, w.path
	}
	return at, nil, there
}

// spelled gives a folder as it would be spelled: as the first one that is made, where
// several differ only in case or Unicode form. A folder ends with "/".
func (f *foreseen) spelled(folder string) string {
	if as, ok := f.exact[folder]; ok {
		return as
	}
	as := ""
	for _, part := range strings.SplitAfter(folder, "/") {
		as += part
		key := safename.Fold(as)
		if first, ok := f.folders[key]; ok {
			as = first
		} else {
			f.folders[key] = as
		}
	}
	f.exact[folder] = as
	return as
}

// place gives an item the name that it would get. Its content is known where another
// rule filed it; else it is taken to be like no other.
func (f *foreseen) place(ctx context.Context, item *RehearsedItem, received time.Time, content cabinet.Content) {
	if len(item.Unknown) > 0 && !item.Placed {
		item.As = item.Path() // not settled before a number is drawn
		return
	}
	file := item.Stem + item.Ext
	first := ""
	base := ""
	for n := 2; ; n++ {
		at, would, there := f.spot(ctx, item.Segments, file)
		if base == "" {
			base = safename.Fold(at)
		}
		if there == "" {
			item.As = at
			f.files[safename.Fold(at)] = wouldBe{at, received, content}
			if first != "" {
				item.Clash = fmt.Sprintf("%s; with another content this one becomes “%s”", first, path.Base(at))
				f.next[base] = n
			}
			return
		}
		filing := f.filing(ctx, would, there)
		shown := there
		if filing != nil && !f.viewer.MaySee(filing.MailboxID) { // of what came to other mailboxes nothing is told
			shown = path.Join(path.Join(item.Segments...), file)
		}
		switch {
		case content.Size > 0 && content == f.contentOf(would, filing):
			item.Verdict, item.Reason, item.Clash = plan.There, reason.SameContent(shown), ""
			return
		case item.IfExists == "keep":
			item.Verdict, item.Reason, item.Clash = plan.LeftOut, reason.KeptFile(shown),
				fmt.Sprintf("“%s” is kept", path.Base(shown))
			return
		case item.IfExists == "replace" && first == "":
			if why, may := mayBeReplaced(would, filing, received); may {
				item.As, item.Clash = there, fmt.Sprintf("“%s” is replaced and kept aside%s", path.Base(shown), why)
				f.files[safename.Fold(there)] = wouldBe{there, received, content}
				return
			}
		}
		if first == "" {
			first = fmt.Sprintf("“%s” is there already", path.Base(shown))
			if would != nil {
				first = fmt.Sprintf("an earlier attachment of this list is filed as “%s”", path.Base(there))
			}
			if content.Size == 0 { // like no other, so the names up to there are passed over
				n = max(n, f.next[base])
			}
		}
		file = safename.Numbered(item.Stem, item.Ext, n)
	}
}

// filing is the line of the register for an existing file, nil where there is none.
func (f *foreseen) filing(ctx context.Context, would *wouldBe, there string) *store.Filing {
	if would != nil || f.gate == nil {
		return nil
	}
	folder := path.Dir(there)
	if folder == "." {
		folder = ""
	}
	filing, err := f.owner.Store.Register.At(ctx, f.gate.Row.ID, folder, path.Base(there))
	if err != nil {
		if !errors.Is(err, store.ErrNotFound) {
			f.owner.Log.Warn("looking for what lies in a cabinet", "cause", err)
		}
		return nil
	}
	return &filing
}

func (f *foreseen) contentOf(would *wouldBe, filing *store.Filing) cabinet.Content {
	switch {
	case would != nil:
		return would.content
	case filing != nil && len(filing.SHA256) == 32:
		return cabinet.Content{Size: filing.Size, SHA256: [32]byte(filing.SHA256)}
	}
	return cabinet.Content{}
}

// mayBeReplaced says whether a file would be replaced by what was received at a moment.
func mayBeReplaced(would *wouldBe, filing *store.Filing, received time.Time) (why string, may bool) {
	switch {
	case would != nil:
		return "", received.After(would.received)
	case filing != nil:
		return ", if nobody has changed it", received.After(filing.ReceivedAt)
	}
	return "", false
}
