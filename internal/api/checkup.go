package api

import (
	"context"

	"inktray.example/inktray/internal/checkup"
	"inktray.example/inktray/internal/store"
)

// CheckEverything looks whether the installation can do its work.
func (s *placeHandlers) CheckEverything(ctx context.Context,
	_ CheckEverythingRequestObject) (CheckEverythingResponseObject, error) {
	// Kept secrets are used. A full disk is to be found, not to be in the way.
	err := s.Store.Note(ctx, viewerOf(ctx).Name, "check everything", "")
	if err != nil && store.TroubleOf(err) == nil {
		return nil, err
	}
	e := s.Engine
	in := checkup.Installation{Store: s.Store, Office: e.Office, Mailboxes: e.Mailboxes, Cabinets: e.Cabinets,
		Registry: e.Registry, Backups: e.Backups, Outbox: e.Outbox, Reader: e.Reader, Scanner: e.Scanner, Clock: s.Clock,
		Steady: e.ClockSteady, Status: e.Status, TLS: s.TLS, Reached: s.Reached, DropDomain: e.DropDomain,
		Resolver: e.Resolver}
	if s.Replica != nil {
		in.Replica = s.Replica.Report
	}
	found, err := in.Everything(ctx, viewerOf(ctx))
	if err != nil {
		return nil, err
	}
	out := Checkup{State: CheckupState(checkup.Worst(found)), At: s.Clock(), Version: s.Version}
	for _, f := range found {
		out.Findings = append(out.Findings, CheckupFinding{About: f.About, Name: optional(f.Name),
			State: CheckupState(f.State), Text: f.Text, Advice: optional(f.Advice)})
	}
	return CheckEverything200JSONResponse(out), nil
}
