package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/replica"
)

// Replicated is a service that keeps a replica.
type Replicated interface {
	// Report says how the replica does, and who waits. It asks nobody.
	Report() replica.Report
	// GiveTurn lets a machine that waits take over, by the name of its folder. It returns at once.
	GiveTurn(folder string)
}

// seenLately is how long ago a machine that waits may have said so.
const seenLately = 15 * time.Second

// GetReplica says how the replica does.
func (s *backupHandlers) GetReplica(_ context.Context, _ GetReplicaRequestObject) (GetReplicaResponseObject, error) {
	if s.Replica == nil {
		return GetReplica200JSONResponse{Waiting: []WaitingMachine{}}, nil
	}
	r := s.Replica.Report()
	out := Replica{Kept: true, Place: r.Place, BehindSeconds: float32(r.Behind.Seconds()),
		KeepHours: float32(r.Keep.Hours()), TakesTurns: r.Lease > 0, Machine: r.Machine, Waiting: []WaitingMachine{}}
	if r.Begun {
		out.At = &r.At
	}
	if r.Problem != "" {
		out.Problem, out.ProblemSince = &r.Problem, &r.Since
	}
	if !r.Earliest.IsZero() {
		out.Earliest = &r.Earliest
	}
	if r.Lease > 0 {
		seconds := float32(r.Lease.Seconds())
		out.LeaseSeconds = &seconds
	}
	if r.NotListed != "" {
		out.WaitingProblem = &r.NotListed
	}
	for i := range r.Waiting {
		out.Waiting = append(out.Waiting, waitingMachine(&r.Waiting[i]))
	}
	return GetReplica200JSONResponse(out), nil
}

func waitingMachine(w *replica.Seen) WaitingMachine {
	one := WaitingMachine{Machine: w.Machine, Fresh: w.Fresh, SeenAt: w.At, Ready: ready(w)}
	if !w.Copy.IsZero() {
		one.CopyAt = &w.Copy
	}
	if w.Problem != "" {
		one.Problem = &w.Problem
	}
	return one
}

// ready says whether a machine could take over now.
func ready(w *replica.Seen) bool { return w.Problem == "" && w.Fresh && w.Silent < seenLately }

// GiveTurn lets a machine that waits take over.
func (s *backupHandlers) GiveTurn(_ context.Context, r GiveTurnRequestObject) (GiveTurnResponseObject, error) {
	cannot := func(advice, text string, args ...any) error {
		return &problem{status: http.StatusConflict, kind: "no-turn", text: fmt.Sprintf(text, args...), advice: advice}
	}
	if s.Replica == nil {
		return nil, cannot("Start the service with --replica and --lease.",
			"no replica is kept, so no other machine can take over")
	}
	report := s.Replica.Report()
	wanted := text(r.Body.Machine)
	switch {
	case report.Lease == 0:
		return nil, cannot("Start the service with --lease.", "no other machine may take over")
	case report.NotListed != "":
		return nil, cannot("Look at the place of the replica.", "Ink Tray cannot see which machines wait: "+
			"%s", report.NotListed)
	case len(report.Waiting) == 0:
		return nil, cannot("Start one with inktray standby.", "no machine waits to take over")
	}
	named := slices.DeleteFunc(slices.Clone(report.Waiting), func(w replica.Seen) bool {
		return wanted != "" && !strings.EqualFold(w.Machine, wanted)
	})
	var able []replica.Seen
	for i := range named {
		if ready(&named[i]) {
			able = append(able, named[i])
		}
	}
	switch {
	case len(named) == 0:
		return nil, cannot("inktray replica show lists those that wait.", "no machine called “%s” waits to take over", wanted)
	case len(able) == 0 && named[0].Problem != "":
		return nil, cannot("Look at its log.", "the machine “%s” could not take over: %s", named[0].Machine, named[0].Problem)
	case len(able) == 0 && named[0].Silent >= seenLately:
		return nil, cannot("Check whether inktray standby runs there.", "the machine “%s” has not been heard of for %v",
			named[0].Machine, named[0].Silent.Round(time.Second))
	case len(able) == 0:
		return nil, cannot("Try again in a moment.", "the copy of the machine “%s” does not have everything yet",
			named[0].Machine)
	case len(able) > 1:
		return nil, cannot("Say which one takes over.", "several machines wait: %s and %s", able[0].Machine, able[1].Machine)
	}
	s.Replica.GiveTurn(able[0].Folder)
	return GiveTurn202JSONResponse(waitingMachine(&able[0])), nil
}
