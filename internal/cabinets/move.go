package cabinets

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/passes"
	"inktray.example/inktray/internal/store"
)

// mostCopies is how often one file is copied before the move is given up.
const mostCopies = 8

// moveWorkers is how many files are copied at once when a cabinet is moved.
const moveWorkers = 4

// aside is the name at the new place that a kept file has for a moment.
const aside = "ink-tray-is-moving-"

// held is a cabinet that can be held still: nothing is changed in it then. Calls that
// change something wait for nobody; they fail and are made again later.
type held struct {
	cabinet.Cabinet
	holds func(ctx context.Context) error // proves that this run may publish; nil where it need not
	mutex sync.RWMutex
	still bool
}

// publish changes something under a final name, which only one run at a time may.
func (h *held) publish(ctx context.Context, f func() error) error {
	return h.change(func() error {
		if h.holds != nil {
			if err := h.holds(ctx); err != nil {
				return err
			}
		}
		return f()
	})
}

func (h *held) change(f func() error) error {
	h.mutex.RLock()
	defer h.mutex.RUnlock()
	if h.still {
		return &cabinet.Error{Problem: "the cabinet is being moved to another place", Advice: "Files for it wait, and " +
			"Ink Tray files them at the new place."}
	}
	return f()
}

// hold lets changes that are under way end, and no others begin; or lets go again.
func (h *held) hold(still bool) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	h.still = still
}

func (h *held) Check(ctx context.Context) error {
	return h.change(func() error { return h.Cabinet.Check(ctx) })
}

func (h *held) Stage(ctx context.Context, id string, received time.Time, r io.Reader) (c cabinet.Content, err error) {
	err = h.change(func() error { c, err = h.Cabinet.Stage(ctx, id, received, r); return err })
	return c, err
}

func (h *held) Commit(ctx context.Context, id, name string) error {
	return h.publish(ctx, func() error { return h.Cabinet.Commit(ctx, id, name) })
}

func (h *held) Renew(ctx context.Context, id, name string, ours ...[32]byte) error {
	return h.publish(ctx, func() error { return cabinet.Renew(ctx, h.Cabinet, id, name, ours...) })
}

func (h *held) Discard(ctx context.Context, id string) error {
	return h.change(func() error { return h.Cabinet.Discard(ctx, id) })
}

func (h *held) Retire(ctx context.Context, name, kept string) error {
	return h.publish(ctx, func() error { return cabinet.Retire(ctx, h.Cabinet, name, kept) })
}

func (h *held) Restore(ctx context.Context, kept, name string) error {
	return h.publish(ctx, func() error { return cabinet.Restore(ctx, h.Cabinet, kept, name) })
}

func (h *held) Forget(ctx context.Context, kept string) error {
	return h.change(func() error { return cabinet.Forget(ctx, h.Cabinet, kept) })
}

func (h *held) Kept(ctx context.Context, kept string) (io.ReadCloser, error) {
	return cabinet.Kept(ctx, h.Cabinet, kept)
}

func (h *held) AllKept(ctx context.Context) ([]cabinet.Entry, error) {
	return cabinet.AllKept(ctx, h.Cabinet)
}

func (h *held) Sum(ctx context.Context, name string) (cabinet.Content, error) {
	return cabinet.Sum(ctx, h.Cabinet, name)
}

func (h *held) Leftovers(ctx context.Context) ([]string, error) {
	return cabinet.Leftovers(ctx, h.Cabinet)
}

func (h *held) Prove(ctx context.Context) ([]string, error) { return cabinet.Prove(ctx, h.Cabinet) }

// Room is that of the cabinet, where it says.
func (h *held) Room(ctx context.Context) (int64, error) {
	if roomy, ok := h.Cabinet.(cabinet.Roomy); ok {
		return roomy.Room(ctx)
	}
	return -1, nil
}

// ErrMoving says that a cabinet is being moved already.
var ErrMoving = errors.New("a cabinet is being moved already")

// mover copies a cabinet to another place.
type mover struct {
	owner    *Cabinets
	from, to cabinet.Cabinet
	pass     *store.Pass
	steer    *passes.Steering
	mutex    sync.Mutex
	copied   map[string]cabinet.Entry // by path, as they were when they were copied
}

// MoveCabinet moves a cabinet to another place, of another kind or not: files are
// copied and read back there while filing goes on; then filing waits for a moment, what
// came or went meanwhile is done as well, and the cabinet is the new place. What is at
// the old place stays there. to has the same identity in the records.
func (cs *Cabinets) MoveCabinet(ctx context.Context, to *store.Cabinet, by string) (*store.Pass, error) {
	g, err := cs.Gate(ctx, to.ID)
	if err != nil {
		return nil, err
	}
	if err := cs.mayBeCabinet(ctx, to); err != nil {
		return nil, err
	}
	if err := g.Ready(ctx); err != nil {
		return nil, err
	}
	if to.Identity, err = cs.Prepare(ctx, to, cs.Clock()); err != nil {
		return nil, err
	}
	rows, err := cs.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, other := range rows {
		if other.Identity == to.Identity {
			return nil, rule.Problems{{Place: "folder", Text: fmt.Sprintf("this place is the cabinet “%s” already", other.Name)}}
		}
	}
	if err := cs.proved(ctx, to); err != nil {
		return nil, err
	}
	total, err := cs.Store.Cabinets.FilesIn(ctx, to.ID)
	if err != nil {
		return nil, err
	}
	cs.mutex.Lock()
	if cs.moving {
		cs.mutex.Unlock()
		return nil, ErrMoving
	}
	cs.moving = true
	cs.mutex.Unlock()
	target, err := cs.OpenCabinet(to)
	ended := func() {
		cs.mutex.Lock()
		cs.moving = false
		cs.mutex.Unlock()
	}
	if err != nil {
		ended()
		return nil, err
	}
	pass := &store.Pass{Kind: "move", MadeBy: by, State: store.Running, Total: total, StartedAt: cs.Clock(),
		Note: fmt.Sprintf("“%s” from %s to %s", g.Row.Name, g.Row.Folder, to.Folder)}
	if err := cs.Store.Passes.Add(ctx, pass); err != nil {
		ended()
		return nil, errors.Join(err, target.Close())
	}
	begun := *pass
	m := &mover{owner: cs, from: g.Cabinet, to: target, pass: pass, steer: cs.Passes.Begin(pass.ID),
		copied: map[string]cabinet.Entry{}}
	cs.Go("moving a cabinet", func(ctx context.Context) {
		defer ended()
		note := pass.Note
		err := errors.Join(m.run(ctx, g, to, by), target.Close())
		cs.Passes.End(pass.ID)
		at := cs.Clock()
		pass.State, pass.EndedAt, pass.Note = store.Done, &at, note
		switch {
		case m.steer.Asked() != "" || ctx.Err() != nil:
			pass.State, pass.Note = store.Stopped,
				phrase.Join(note, "stopped; nothing was changed, and what was copied need not be copied again")
		case err != nil:
			pass.State, pass.Note = store.Broken, phrase.Join(note, err.Error())
		}
		if err := cs.Store.Passes.Save(ctx, pass); err != nil {
			cs.Log.Error("keeping a pass", "error", err)
		}
		cs.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(pass.ID)})
		cs.Events.Send(events.Event{Kind: "cabinet", ID: to.ID})
	})
	return &begun, nil
}

var errStopped = errors.New("it was stopped")

func (m *mover) stopped(ctx context.Context) error {
	if m.steer.Asked() != "" {
		return errStopped
	}
	return ctx.Err()
}

// run copies while filing goes on, then holds the cabinet still, copies the rest and
// switches.
func (m *mover) run(ctx context.Context, g *Gate, to *store.Cabinet, by string) error {
	if err := m.walk(ctx); err != nil {
		return err
	}
	still := g.Cabinet.(*held)
	still.hold(true)
	switched := false
	defer func() {
		if !switched {
			still.hold(false)
		}
	}()
	seen := m.copied
	m.copied = map[string]cabinet.Entry{}
	if err := m.again(ctx, seen); err != nil {
		return err
	}
	kept, err := m.owner.Store.Cabinets.KeptIn(ctx, to.ID)
	if err != nil {
		return err
	}
	for _, name := range kept {
		if err := m.keep(ctx, name); err != nil {
			return err
		}
	}
	if err := m.stopped(ctx); err != nil {
		return err
	}
	if err := m.owner.Store.Cabinets.Moved(ctx, to, by); err != nil {
		return err
	}
	switched = true // code that still holds the old place changes nothing in it
	m.owner.ForgetCabinet(to.ID)
	if _, err := m.owner.Store.Tray.Settle(ctx, "cabinet", to.ID); err != nil {
		return err
	}
	m.owner.OnMoved(ctx, to.ID) // what was staged at the old place is read again
	if err := m.owner.Store.Journal.Hasten(ctx, to.ID); err != nil {
		return err
	}
	m.owner.WakeAll()
	return nil
}

// walk copies every file, several at once.
func (m *mover) walk(ctx context.Context) error {
	return m.each(ctx, func(ctx context.Context, name string, e cabinet.Entry) error { return m.copy(ctx, name, e) })
}

// again copies what came or was changed since, and takes away at the new place what
// went.
func (m *mover) again(ctx context.Context, seen map[string]cabinet.Entry) error {
	err := m.each(ctx, func(ctx context.Context, name string, e cabinet.Entry) error {
		before, was := seen[name]
		if was && before.Size == e.Size && before.Modified.Equal(e.Modified) {
			m.mutex.Lock()
			m.copied[name] = e
			m.mutex.Unlock()
			return nil
		}
		if was {
			if err := m.takeAway(ctx, name); err != nil {
				return err
			}
		}
		return m.copy(ctx, name, e)
	})
	if err != nil {
		return err
	}
	for name := range seen {
		if _, there := m.copied[name]; !there {
			if err := m.takeAway(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// each goes through all files of the old place.
func (m *mover) each(ctx context.Context, do func(ctx context.Context, name string, e cabinet.Entry) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	type job struct {
		name  string
		entry cabinet.Entry
	}
	jobs := make(chan job)
	var workers sync.WaitGroup
	for range moveWorkers {
		workers.Go(func() {
			for j := range jobs {
				if context.Cause(ctx) != nil {
					continue
				}
				if err := do(ctx, j.name, j.entry); err != nil {
					cancel(err)
				}
			}
		})
	}
	var into func(folder string) error
	into = func(folder string) error {
		entries, err := m.from.List(ctx, folder)
		if err != nil {
			if errors.Is(err, cabinet.ErrMissing) && folder != "" {
				return nil // it went meanwhile
			}
			return err
		}
		for _, e := range entries {
			name := path.Join(folder, e.Name)
			if e.Folder {
				if err := into(name); err != nil {
					return err
				}
				continue
			}
			if err := m.stopped(ctx); err != nil {
				return err
			}
			select {
			case jobs <- job{name, e}:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		return nil
	}
	err := into("")
	close(jobs)
	workers.Wait()
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}

func (m *mover) id(name string) string {
	sum := sha256.Sum256([]byte(name))
	return m.owner.Installation + "-" + m.owner.Run + "-move" + hex.EncodeToString(sum[:12])
}

// copy copies one file and reads it back at its new place, again and again while a
// server is only out of sorts.
func (m *mover) copy(ctx context.Context, name string, e cabinet.Entry) error {
	for attempt := 1; ; attempt++ {
		err := m.once(ctx, name, e)
		if errors.Is(err, cabinet.ErrMissing) {
			return nil // it went meanwhile
		}
		if err == nil {
			break
		}
		var told *cabinet.Error
		if !errors.As(err, &told) || told.Lasting || attempt == mostCopies {
			return fmt.Errorf("copying %s: %w", name, err)
		}
		select {
		case <-time.After(max(told.After, m.owner.Pause(attempt-1))):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if err := m.stopped(ctx); err != nil {
			return err
		}
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.copied[name] = e
	m.pass.Looked++
	m.pass.Total = max(m.pass.Total, m.pass.Looked)
	m.pass.Matched = m.pass.Looked
	if m.pass.Looked%50 == 0 {
		if err := m.owner.Store.Passes.Save(ctx, m.pass); err != nil {
			return err
		}
		m.owner.Events.Send(events.Event{Kind: "pass", ID: fmt.Sprint(m.pass.ID)})
	}
	return nil
}

func (m *mover) once(ctx context.Context, name string, e cabinet.Entry) error {
	if there, err := cabinet.Sum(ctx, m.to, name); err == nil && there.Size == e.Size { // copied before
		if was, err := cabinet.Sum(ctx, m.from, name); err != nil || was == there {
			return err
		}
	}
	r, err := m.from.Open(ctx, name)
	if err != nil {
		return err
	}
	return errors.Join(m.put(ctx, r, name, e.Modified), r.Close())
}

// put stages content at the new place, gives it its name, and reads it back.
func (m *mover) put(ctx context.Context, r io.Reader, name string, modified time.Time) error {
	id := m.id(name)
	content, err := m.to.Stage(ctx, id, modified, r)
	if err != nil {
		return err
	}
	err = m.to.Commit(ctx, id, name)
	taken := errors.Is(err, cabinet.ErrTaken)
	if err != nil && !taken {
		return err
	}
	there, err := cabinet.Sum(ctx, m.to, name)
	if taken {
		err = errors.Join(err, m.to.Discard(ctx, id))
	}
	switch {
	case err != nil:
		return err
	case there != content && taken:
		return &cabinet.Error{Problem: fmt.Sprintf("there is already another file at the new place: %s", name),
			Advice: "Move it away there, or choose an empty place; then move the cabinet again.", Lasting: true}
	case there != content:
		return &cabinet.Error{Problem: fmt.Sprintf("what was read back from %s is not what was written", name),
			Advice: "Do not use this place: its disk or its server loses contents.", Lasting: true}
	}
	return nil
}

// takeAway removes a copy at the new place.
func (m *mover) takeAway(ctx context.Context, name string) error {
	id := m.id(name)
	if err := cabinet.Retire(ctx, m.to, name, id); err != nil && !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	return cabinet.Forget(ctx, m.to, id)
}

// keep copies a file that was moved out of the way; undoing needs it.
func (m *mover) keep(ctx context.Context, kept string) error {
	if there, err := cabinet.Kept(ctx, m.to, kept); err == nil {
		return there.Close()
	} else if !errors.Is(err, cabinet.ErrMissing) {
		return err
	}
	r, err := cabinet.Kept(ctx, m.from, kept)
	if errors.Is(err, cabinet.ErrMissing) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := errors.Join(m.put(ctx, r, aside+kept, time.Time{}), r.Close()); err != nil {
		return fmt.Errorf("copying what was replaced: %w", err)
	}
	return cabinet.Retire(ctx, m.to, aside+kept, kept)
}
