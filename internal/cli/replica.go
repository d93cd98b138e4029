package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

// recordsName is the file of the records in their folder.
const recordsName = "inktray.db"

// theRecords are what a replica has to know of them.
var theRecords = replica.Records{Name: recordsName, Key: "secret.key", Fit: store.FittingKey}

// replicate lets a replica follow the records, where a place is given for one.
func (s *service) replicate(ctx context.Context, o *serviceOptions) error {
	if o.replica.place == "" {
		return nil
	}
	place, passphrase, err := o.replica.open(filepath.Join(o.data, "replica", "staging"), nil)
	if err != nil {
		return err
	}
	installation, err := s.store.Settings.Installation(ctx)
	if err != nil {
		return err
	}
	s.lease = o.holds
	s.replica = replica.New(replica.Config{Place: place, Passphrase: passphrase, Data: o.data, Records: recordsName,
		Installation: installation, Every: o.replica.every, Keep: o.replica.keep, Lease: o.holds,
		Machine: o.replica.name(), Keys: s.store.Replication.Keys,
		Opened: s.store.Replication.HoldLog, Clock: time.Now, Log: o.log})
	if err := s.store.Replication.Follow(s.replica); err != nil {
		return err
	}
	going, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	s.endReplica = func(ctx context.Context) error {
		err := s.replica.Close(ctx)
		cancel()
		<-ended
		if s.lease != nil && err == nil { // a standby need not wait
			err = s.lease.Give(ctx)
		}
		return errors.Join(err, place.Close())
	}
	go func() {
		defer close(ended)
		s.replica.Run(going)
	}()
	return nil
}

// turning is a replica whose machine can give its turn away.
type turning struct {
	*replica.Replica
	turns chan<- string
}

// GiveTurn ends the service, and lets the records in a folder take over.
func (t turning) GiveTurn(folder string) {
	select {
	case t.turns <- folder:
	default: // it is being given already
	}
}

// replicated is the replica for the interface; nil where there is none.
func (s *service) replicated() api.Replicated {
	if s.replica == nil {
		return nil
	}
	return turning{s.replica, s.turns}
}

// lost is closed once another machine may work in the place of this one.
func (s *service) lost() <-chan struct{} {
	if s.lease == nil {
		return nil
	}
	return s.lease.Ended()
}

// silentFor is how long a machine that waits may say nothing before it counts as one that is gone.
const silentFor = 15 * time.Second

// lateAfter is how long it may be that the replica cannot be written before people are told.
const lateAfter = 30 * time.Second

// watchReplica tells in the tray that the replica cannot be written for so long.
func (s *service) watchReplica(lateAfter time.Duration) func(ctx context.Context) {
	return func(ctx context.Context) { s.tellOfReplica(ctx, lateAfter) }
}

func (s *service) tellOfReplica(ctx context.Context, lateAfter time.Duration) {
	told := map[string]string{}     // what the tray says, by what it is about
	since := map[string]time.Time{} // since when something is wrong
	for {
		s.letOthers(lateAfter)
		notices := s.replicaNotices(told)
		for object := range since {
			if notices[object] == nil {
				delete(since, object)
			}
		}
		for object, n := range notices {
			var err error
			switch {
			case n == nil:
				_, err = s.store.Tray.Settle(ctx, "replica", object)
			case since[object].IsZero():
				since[object] = time.Now()
				continue
			case time.Since(since[object]) < lateAfter, told[object] == n.Text:
				continue
			default:
				err = s.store.Tray.Tell(ctx, n)
			}
			switch {
			case err != nil && ctx.Err() == nil:
				s.engine.Log.Error("telling of the replica", "error", err)
			case n != nil:
				told[object] = n.Text
				s.engine.Events.Send(events.Event{Kind: "tray"})
			default:
				if _, was := told[object]; was {
					s.engine.Events.Send(events.Event{Kind: "tray"})
				}
				told[object] = ""
			}
		}
		if !pause(ctx, lateAfter/6) {
			return
		}
	}
}

// letOthers gives the turn away where this machine cannot bring its changes into the replica for so long, while another
// one waits that has everything and can write there: the fault is this machine's, such as a disk that is full.
func (s *service) letOthers(lateAfter time.Duration) {
	r := s.replica.Report()
	if s.lease == nil || r.Problem == "" || time.Since(r.Since) < lateAfter {
		return
	}
	for i := range r.Waiting {
		w := &r.Waiting[i]
		if w.Problem == "" && w.Fresh && w.Silent < silentFor {
			s.engine.Log.Error("this machine cannot work, and lets another one take over", "problem", r.Problem, "other",
				w.Machine)
			turning{s.replica, s.turns}.GiveTurn(w.Folder)
			return
		}
	}
}

// replicaNotices are what people are to know of the replica: nil for what is in order.
func (s *service) replicaNotices(told map[string]string) map[string]*store.Notice {
	r := s.replica.Report()
	all := map[string]*store.Notice{}
	note := func(object string, wrong bool, text, advice string) {
		if _, before := told[object]; !wrong && before && told[object] == "" {
			return
		}
		all[object] = nil
		if wrong {
			all[object] = &store.Notice{Kind: "replica", Object: object, MadeAt: time.Now(), Text: text, Advice: advice}
		}
	}
	note("replica", r.Problem != "",
		fmt.Sprintf("Ink Tray has not been able to write the replica since %s: "+
			"%s.", r.Since.In(s.engine.Zone).Format("15:04"), r.Problem),
		"Until then, a loss of this machine would lose what was filed since. Look at the place, and at inktray replica "+
			"show.")
	for i := range r.Waiting {
		w := &r.Waiting[i]
		note("machine "+w.Machine, w.Silent > silentFor,
			fmt.Sprintf("Ink Tray no longer hears from the machine “%s”, which waited to take over.", w.Machine),
			"Check whether inktray standby runs there. If that machine should no longer wait, settle this notice.")
		note("problem of "+w.Machine, w.Problem != "" && w.Silent <= silentFor,
			fmt.Sprintf("The machine “%s”, which waits, could not take over: %s.", w.Machine, w.Problem),
			"Look at its log.")
	}
	return all
}

var errEnded = &exitError{exitFailure, "the service was ended before it had begun"}

// pause waits, and says whether ctx lasts.
func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// acquire gets the lease that a service needs where a standby may take over: at once where it is free, else once it is
// over. The records have to be those that the machine before wrote.
func (o *serviceOptions) acquire(ctx context.Context) error {
	if o.replica.place == "" || o.holds != nil {
		return nil
	}
	place, _, err := o.replica.open(filepath.Join(o.data, "replica", "staging"), nil)
	if err != nil {
		return err
	}
	name, err := replica.FolderName(o.data)
	if err != nil {
		return err
	}
	watch, said := replica.NewWatch(place), false
	for {
		l, free, err := watch.Look(ctx, name)
		if err != nil && o.replica.lease == 0 {
			if turns, localErr := replica.TakesTurns(o.data); localErr != nil || turns {
				return fmt.Errorf("another machine may be active in place of this one, and Ink Tray cannot check this: %w",
					errors.Join(err, localErr))
			}
			return nil // the replica follows once its place can be reached
		}
		if err != nil {
			if !said {
				o.log.Warn("waiting until it can be seen which machine works", "problem", err)
			}
			said = true
			if !pause(ctx, time.Second) {
				return errEnded
			}
			continue
		}
		own, err := replica.Own(o.data, l)
		switch {
		case err != nil:
			return err
		case o.replica.lease == 0 && l.Number == 0:
			return nil
		case o.replica.lease == 0:
			return &exitError{exitFailure, fmt.Sprintf("a standby may take over from the replica at %s, so this service needs "+
				"a lease: start it with --lease %v, or give it another place", place, l.For)}
		case !own:
			return &exitError{exitFailure, fmt.Sprintf("the machine “%s” works since, and has newer records than %s; start "+
				"this one with inktray standby, which puts these records aside and takes over when it is its turn", l.Machine,
				o.data)}
		case free:
			o.holds, err = replica.Take(ctx, place, l, replica.Held{Machine: o.replica.name(), Folder: name,
				History: l.History, For: o.replica.lease, At: time.Now().UTC()})
			if errors.Is(err, replica.ErrHeld) {
				continue
			}
			if err == nil {
				go o.holds.Keep(context.WithoutCancel(ctx), o.log)
				err = replica.NoteTurns(o.data)
			}
			return err
		case !said:
			said = true
			o.log.Info("waiting until the lease is free", "of", l.Machine, "at most", l.For+l.For/replica.Margin)
		}
		if !pause(ctx, 300*time.Millisecond) {
			return errEnded
		}
		if l.Folder != name {
			if again, _, err := watch.Look(ctx, name); err == nil && again.Number != l.Number && !again.Given {
				return &exitError{exitFailure, fmt.Sprintf("the machine “%s” works at this moment; start this one with inktray "+
					"standby", again.Machine)}
			}
		}
	}
}
