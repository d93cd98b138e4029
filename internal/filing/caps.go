package filing

import (
	"context"
	"path"
	"strconv"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/store"
)

// caps counts what rules and senders had filed within the last hour, so that a
// rule that goes wild, or a sender who floods, waits for a person.
type caps struct {
	mutex  sync.Mutex
	began  bool
	rules  map[string]*tally
	sender map[string]*tally
}

// tally is what was filed within the hour that began with since.
type tally struct {
	since   time.Time
	files   int
	bytes   int64
	folders int
}

// of gives a key's tally, begun again where its hour is over.
func of(m map[string]*tally, key string, now time.Time) *tally {
	t := m[key]
	if t == nil {
		t = &tally{since: now}
		m[key] = t
	}
	if gone := now.Sub(t.since); gone >= time.Hour {
		*t = tally{since: now}
	}
	return t
}

// begin counts what the register has of the last hour, after a start.
func (c *caps) begin(ctx context.Context, e *Filer, now time.Time) error {
	if c.began {
		return nil
	}
	c.rules, c.sender = map[string]*tally{}, map[string]*tally{}
	byRule, bySender, err := e.Store.Journal.FiledSince(ctx, now.Add(-time.Hour))
	if err != nil {
		return err
	}
	for from, into := range map[*map[string]store.Tally]map[string]*tally{&byRule: c.rules, &bySender: c.sender} {
		for key, t := range *from {
			into[key] = &tally{since: now, files: t.Files, bytes: t.Bytes}
		}
	}
	c.began = true
	return nil
}

// capped says whether an entry counts at all: what a person asked for does not.
func (fl *Filer) capped(ctx context.Context, l *reading.Message, entry *store.Entry) bool {
	if entry.Given != "" {
		return false
	}
	if l.PassKind == "" {
		if p, err := fl.Store.Passes.ByID(ctx, store.System, entry.PassID); err == nil {
			l.PassKind = p.Kind
		}
	}
	return l.PassKind == "live"
}

// overCap says by which cap an entry has to wait, none where it may be filed.
func (fl *Filer) overCap(ctx context.Context, l *reading.Message, r *rule.Compiled, entry *store.Entry,
	item *plan.Item) (reason.Reason,
	error) {
	var none reason.Reason
	if !fl.capped(ctx, l, entry) {
		return none, nil
	}
	limits, err := fl.Store.Settings.Limits(ctx)
	if err != nil {
		return none, err
	}
	now := fl.Clock()
	fl.caps.mutex.Lock()
	defer fl.caps.mutex.Unlock()
	if err := fl.caps.begin(ctx, fl, now); err != nil {
		return none, err
	}
	newFolder := 0
	if limits.RuleFolders > 0 || limits.SenderFolders > 0 {
		used, err := fl.Store.Journal.FolderUsed(ctx, entry, folderOf(item.Path()))
		if err != nil {
			return none, err
		}
		if !used {
			newFolder = 1
		}
	}
	for _, c := range []struct {
		who                            string
		t                              *tally
		files, mb, folders             int
		overFiles, overMB, overFolders func(who, count string) reason.Reason
	}{
		{r.Rule.Name, of(fl.caps.rules, r.Rule.ID, now), limits.RuleFiles, limits.RuleMB, limits.RuleFolders,
			reason.RuleFiles, reason.RuleMB, reason.RuleFolders},
		{l.Row.SenderAddress, of(fl.caps.sender, l.Row.SenderAddress, now), limits.SenderFiles, limits.SenderMB,
			limits.SenderFolders, reason.SenderFiles, reason.SenderMB, reason.SenderFolders},
	} {
		switch {
		case c.files > 0 && c.t.files >= c.files:
			return c.overFiles(c.who, strconv.Itoa(c.t.files)), nil
		case c.mb > 0 && c.t.bytes+item.Item.Size > int64(c.mb)*1e6:
			return c.overMB(c.who, strconv.Itoa(c.mb)), nil
		case c.folders > 0 && newFolder > 0 && c.t.folders >= c.folders:
			return c.overFolders(c.who, strconv.Itoa(c.t.folders)), nil
		}
	}
	return none, nil
}

// tallied counts an entry that was filed.
func (fl *Filer) tallied(ctx context.Context, l *reading.Message, entry *store.Entry) error {
	if !fl.capped(ctx, l, entry) {
		return nil
	}
	used, err := fl.Store.Journal.FolderUsed(ctx, entry, folderOf(entry.Path))
	if err != nil {
		return err
	}
	now := fl.Clock()
	fl.caps.mutex.Lock()
	defer fl.caps.mutex.Unlock()
	if !fl.caps.began {
		return nil // the register has it
	}
	for _, t := range []*tally{of(fl.caps.rules, entry.RuleID, now), of(fl.caps.sender, l.Row.SenderAddress, now)} {
		t.files++
		t.bytes += entry.Size
		if !used {
			t.folders++
		}
	}
	return nil
}

func folderOf(name string) string {
	if f := path.Dir(name); f != "." {
		return f
	}
	return ""
}
