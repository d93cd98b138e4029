package filing

import (
	"context"
	"errors"
	"fmt"
	"path"
	"runtime/debug"
	"strings"
	"sync"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// A Line lets several goroutines file messages at once, whose files still get their names and numbers in the order of
// the messages: contents are staged beside one another, and what stands first in the line is named. What is staged at
// the same moment shares commits of the records.
type Line struct {
	filer *Filer

	mutex   sync.Mutex
	given   int            // turns so far
	next    int            // whose names are given next
	chunks  map[int]*chunk // that wait, by turn
	ended   map[int]bool   // turns after the next one
	leading bool           // somebody gives names
}

// Turn is the place of a message in a Line.
type Turn struct {
	line *Line
	n    int
}

// chunk is what of one message gets its names together.
type chunk struct {
	items []*prepared
	last  bool // nothing follows in this turn
	errs  []error
	done  chan struct{}
}

// NewLine makes a line in which nobody stands.
func (fl *Filer) NewLine() *Line {
	return &Line{filer: fl, chunks: map[int]*chunk{}, ended: map[int]bool{}}
}

// Turn gives the next message its place. Whoever gets it has to call FileInTurn or End.
func (q *Line) Turn() *Turn {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	q.given++
	return &Turn{q, q.given - 1}
}

// mostTogether bounds what shares a commit, and what of one message is staged before it is named.
const mostTogether = 128

// End ends the turn of a message of which nothing is to be filed.
func (t *Turn) End(ctx context.Context) {
	q := t.line
	q.mutex.Lock()
	if t.n >= q.next {
		q.ended[t.n] = true
	}
	lead := !q.leading
	q.leading = true
	q.mutex.Unlock()
	if lead {
		q.lead(ctx)
	}
}

// name gives prepared entries their names once it is their turn. errs are those of the entries with the same index.
func (t *Turn) name(ctx context.Context, items []*prepared, last bool) (errs []error) {
	q, c := t.line, &chunk{items: items, last: last, done: make(chan struct{})}
	q.mutex.Lock()
	q.chunks[t.n] = c
	lead := !q.leading
	q.leading = true
	q.mutex.Unlock()
	if lead {
		q.lead(ctx)
	}
	<-c.done
	return c.errs
}

// lead names what stands first, until that is somebody who is not ready.
func (q *Line) lead(ctx context.Context) {
	for {
		q.mutex.Lock()
		var ready []*chunk
		for n := 0; n < mostTogether; {
			if c := q.chunks[q.next]; c != nil {
				delete(q.chunks, q.next)
				ready, n = append(ready, c), n+len(c.items)
				q.ended[q.next] = c.last
			}
			if !q.ended[q.next] {
				break
			}
			delete(q.ended, q.next)
			q.next++
		}
		if len(ready) == 0 {
			q.leading = false
			q.mutex.Unlock()
			return
		}
		q.mutex.Unlock()
		var all []*prepared
		for _, c := range ready {
			all = append(all, c.items...)
		}
		errs := q.filer.naming().nameTogether(ctx, all)
		for _, c := range ready {
			c.errs, errs = errs[:len(c.items)], errs[len(c.items):]
			close(c.done)
		}
	}
}

// FileInTurn files entries of a message that were planned and committed just now. The error, if any, is the mailbox's:
// its session is to be given up. Whatever else goes wrong is in the journal. staging bounds how many stage contents at
// once: it takes one for each.
func (fl *Filer) FileInTurn(ctx context.Context, s source.Opener, l *reading.Message, entries []store.Entry,
	turn *Turn, staging chan struct{}) error {
	var ready []*prepared
	ended := false
	defer func() {
		if !ended {
			turn.End(ctx)
		}
	}()
	name := func(last bool) (first error) {
		if len(ready) == 0 {
			return nil
		}
		ended = last
		for i, err := range turn.name(ctx, ready, last) {
			entry := ready[i].entry
			err = fl.conclude(ctx, l, entry, err)
			fl.Release(entry.ID)
			if first == nil {
				first = err
			}
		}
		ready = nil
		return first
	}
	for i := range entries {
		entry := &entries[i]
		if !isPlanned(*entry) || !fl.Claim(entry.ID) {
			continue
		}
		staging <- struct{}{}
		p, err := fl.prepareSafely(ctx, s, l, entry)
		<-staging
		if err == nil && p != nil {
			if ready = append(ready, p); len(ready) >= mostTogether {
				err = name(false)
			}
			if err != nil {
				return err
			}
			continue
		}
		err = fl.conclude(ctx, l, entry, err)
		fl.Release(entry.ID)
		if err != nil {
			return errors.Join(err, name(true))
		}
	}
	return name(true)
}

// nameTogether gives prepared entries their names in their order. errs are those of the entries with the same index.
func (fl naming) nameTogether(ctx context.Context, all []*prepared) (errs []error) {
	errs = make([]error, len(all))
	for at := 0; at < len(all); {
		n := fl.nameSome(ctx, all[at:], errs[at:])
		if n == 0 { // what is special about it is looked at alone
			errs[at] = fl.nameSafely(ctx, all[at])
			n = 1
		}
		at += n
	}
	return errs
}

// nameSome names as many entries together, from the first on, as are filed under names that are free: n is how many.
// Whatever is special about an entry, such as a name that is taken by one before it, ends the group before it.
func (fl naming) nameSome(ctx context.Context, all []*prepared, errs []error) (n int) {
	var group []*prepared
	defer func() {
		if p := recover(); p != nil {
			fl.Log.Error("attachments could not be named together", "cause", p, "stack", string(debug.Stack()))
			n = max(1, len(group))
			for i := range n {
				errs[i] = &fault.PanicError{Cause: p}
			}
		}
	}()
	group = fl.fresh(ctx, all)
	if len(group) < 2 {
		return 0
	}
	failed := func(err error) int {
		for i := range group {
			errs[i] = err
		}
		return len(group)
	}
	if err := fl.number(ctx, group); err != nil {
		return failed(err)
	}
	if group = fl.free(ctx, group); len(group) < 2 {
		return 0
	}
	changed, err := fl.Store.Journal.StageTogether(ctx, several(group), fl.Now())
	if err != nil {
		return failed(err)
	}
	results := make([]error, len(group))
	var wait sync.WaitGroup
	for i, p := range group {
		if changed[i] {
			continue
		}
		wait.Go(func() {
			defer recovered(fl.Log, p.entry, &results[i])
			results[i] = p.cabinet.Commit(ctx, fl.Temporary(p.entry), p.entry.Path)
		})
	}
	wait.Wait()
	fl.fileNamed(ctx, group, changed, results, errs)
	for i, p := range group {
		switch {
		case changed[i]:
			errs[i] = fl.switchedOff(ctx, p)
		case errors.Is(results[i], cabinet.ErrTaken): // somebody was quicker: the next name
			p.refused = map[string]bool{p.entry.Path: true}
			errs[i] = fl.nameSafely(ctx, p)
		case results[i] != nil:
			errs[i] = fl.named(ctx, p, results[i])
		case errs[i] == nil:
			errs[i] = fl.tallied(ctx, p.l, p.entry)
		}
	}
	return len(group)
}

// fileNamed records what has its name now.
func (fl naming) fileNamed(ctx context.Context, group []*prepared, changed []bool, results, errs []error) {
	var filed []*store.Entry
	for i, p := range group {
		if !changed[i] && results[i] == nil {
			filed = append(filed, p.entry)
		}
	}
	if len(filed) == 0 {
		return
	}
	err := fl.Store.Journal.FileTogether(ctx, filed, fl.Now())
	for i := range group {
		if !changed[i] && results[i] == nil {
			errs[i] = err
		}
	}
}

// fresh takes those entries, from the first on, of which nothing is known that makes them special.
func (fl naming) fresh(ctx context.Context, all []*prepared) []*prepared {
	if fl.Store.Restored.Active() { // each may have been filed before
		return nil
	}
	seen := map[string]bool{} // the same attachment of the same message
	for i, p := range all {
		e := p.entry
		key := fmt.Sprintf("%s/%d/%x/%s", e.RuleID, e.Round, p.l.Row.Likeness, e.Item)
		if i == mostTogether || seen[key] || e.State != store.Planned || e.Given != "" || p.item.IfExists == "replace" {
			return all[:i]
		}
		if p.numbered() != all[0].numbered() { // these draw their numbers before they are named, the others after
			return all[:i]
		}
		if _, found, err := fl.Store.Journal.FiledBefore(ctx, e, p.l.Row, e.SHA256); found || err != nil {
			return all[:i]
		}
		seen[key] = true
	}
	return all
}

// number draws the numbers of entries that have them in their names.
func (fl naming) number(ctx context.Context, group []*prepared) error {
	if !group[0].numbered() {
		return nil
	}
	return fl.Store.Journal.DrawTogether(ctx, several(group), fl.Now())
}

// free finds the names of entries, up to the first whose name is not free, or not certain to be once those before it
// have theirs.
func (fl naming) free(ctx context.Context, group []*prepared) []*prepared {
	taken := map[string]string{} // folders and files of those before, by cabinet and folded path
	for i, p := range group {
		fl.aim(p)
		done, why, err := fl.name(ctx, p.cabinet, p.entry, p.item.Segments, p.item.Stem, p.item.Ext, p.item.IfExists,
			p.l.Mail.Received, nil)
		if err != nil || done != "" {
			return group[:i]
		}
		key := func(name string) string { return p.entry.CabinetID + "\x00" + safename.Fold(name) }
		if _, there := taken[key(p.entry.Path)]; there {
			return group[:i]
		}
		for folder := path.Dir(p.entry.Path); folder != "."; folder = path.Dir(folder) {
			if other, there := taken[key(folder)]; there && other != folder {
				return group[:i]
			}
		}
		for folder := path.Dir(p.entry.Path); folder != "."; folder = path.Dir(folder) {
			taken[key(folder)] = folder
		}
		taken[key(p.entry.Path)] = strings.Repeat("/", 2) // nothing can be in it
		p.entry.Reason = reason.And(why, p.remark)
	}
	return group
}

func several(group []*prepared) (all store.Several) {
	for _, p := range group {
		all.Entries, all.Of = append(all.Entries, p.entry), append(all.Of, p.l.Row)
	}
	return all
}
