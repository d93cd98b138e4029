package api

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/store"
)

// VisitHandOverMailboxResponse sends the file.
func (f fileResponse) VisitHandOverMailboxResponse(c fiber.Ctx) error {
	return f.VisitGetFileResponse(c)
}

// HandOverMailbox hands a mailbox over.
func (s *handOverHandlers) HandOverMailbox(ctx context.Context,
	r HandOverMailboxRequestObject) (HandOverMailboxResponseObject, error) {
	try := r.Params.Try != nil && *r.Params.Try
	name, err := s.Engine.HandOver(ctx, viewerOf(ctx), r.ID, try)
	var not *engine.HandOverError
	if errors.As(err, &not) {
		return nil, &problem{status: 409, kind: "not-now", text: not.Problem, advice: not.Advice}
	}
	if err != nil {
		return nil, err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && try { // it is there until it is sent
		err = errors.Join(os.Remove(name), os.Remove(filepath.Dir(name)))
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return fileResponse{body: f, name: filepath.Base(name), size: info.Size()}, nil
}

// TakeOverMailbox takes over a mailbox that was handed over.
func (s *handOverHandlers) TakeOverMailbox(ctx context.Context,
	r TakeOverMailboxRequestObject) (TakeOverMailboxResponseObject, error) {
	try := r.Params.Try != nil && *r.Params.Try
	m, err := s.Store.Mailboxes.TakeOver(ctx, r.Body, s.Clock(), viewerOf(ctx).Name, try)
	var not *store.HandoverError
	if errors.As(err, &not) {
		return nil, &problem{status: 422, kind: "handover", text: not.Problem, advice: not.Advice}
	}
	if err != nil {
		return nil, err
	}
	if try {
		return TakeOverMailbox201JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
	}
	if err := s.Engine.TakenOver(ctx, &m); err != nil {
		return nil, err
	}
	return TakeOverMailbox201JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
}
