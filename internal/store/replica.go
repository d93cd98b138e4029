package store

import "context"

// Replica keeps a copy of the records elsewhere, as they change.
type Replica interface {
	// Committed hears of every commit, and does not wait.
	Committed()
	// Wait returns once everything that was committed before the call is in the copy, if that is promised.
	Wait(ctx context.Context) error
	// Truncate empties the log of the records, which the replica holds.
	Truncate(ctx context.Context) error
	// NextKeys hears of the keys with which the records can be sealed before one of them is.
	NextKeys(ctx context.Context, all ...[32]byte) error
}

// Follow lets a replica follow the records. From now on a change is told to whoever made it once the replica has it,
// where that promises so much. It is called before anything else is done with the records.
func (s *Replication) Follow(r Replica) error {
	s.replica.Store(&r)
	return nil
}

// HoldLog leaves it to the replica to move what is in the log into the records, once it has a copy of it. Until it can,
// as while its place was not met yet, SQLite does so, and the log does not grow.
func (s *Replication) HoldLog() error {
	select {
	case <-s.done: // nothing is changed any more
		return nil
	default:
		return s.write.Exec("PRAGMA wal_autocheckpoint = 0").Error
	}
}

// Keys are the keys with which the records are sealed: the present one, and while it is changed the other one.
func (s *Replication) Keys() (all [][32]byte) {
	ring := s.keys.Load()
	if ring.former != nil {
		all = append(all, *ring.former)
	}
	return append(all, *ring.now)
}

// settled are changes that were committed together, or came to nothing.
type settled struct {
	group   []job
	results []error
}

func (s settled) say() {
	for i, j := range s.group {
		j.result <- s.results[i]
	}
}

// answer tells everyone what came of a change. Where the replica has to have it first, those that wait at one moment
// share a round trip, while others are committed.
func (s *Replication) answer(done chan struct{}) {
	defer close(done)
	for one := range s.settled {
		all := append([]settled{one}, waitingIn(s.settled)...)
		err := (*s.replica.Load()).Wait(context.Background())
		for _, one := range all {
			for i := range one.results {
				if one.results[i] == nil {
					one.results[i] = err
				}
			}
			one.say()
		}
	}
}

// waitingIn takes what waits at this moment.
func waitingIn(from chan settled) (all []settled) {
	for len(all) < cap(from) {
		select {
		case next, open := <-from:
			if !open {
				return all
			}
			all = append(all, next)
		default:
			return all
		}
	}
	return all
}

// truncate empties the log of the records.
func (s *Replication) truncate(ctx context.Context) error {
	if r := s.replica.Load(); r != nil {
		return (*r).Truncate(context.WithoutCancel(ctx))
	}
	return s.write.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error
}
