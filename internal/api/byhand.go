package api

import (
	"context"

	"inktray.example/inktray/internal/desk"
)

func flag(p *bool) bool { return p != nil && *p }

// LookInto looks into a folder of a mailbox.
func (s *handHandlers) LookInto(ctx context.Context, r LookIntoRequestObject) (LookIntoResponseObject, error) {
	v, p := viewerOf(ctx), r.Params
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	of := desk.LookIntoOf{Folder: text(p.Folder), Text: text(p.Text), Attachments: flag(p.Attachments),
		Unfiled: flag(p.Unfiled), Unread: flag(p.Unread), Since: s.day(p.Since, 0), Until: s.day(p.Until, 1),
		Most: number(p.Most, 50)}
	if p.Before != nil {
		of.Before = uint32(*p.Before)
	}
	looked, err := s.Engine.Desk.LookInto(ctx, v, r.ID, of)
	if err != nil {
		return nil, err
	}
	out := LookInto200JSONResponse{Folder: looked.Folder, Total: looked.Total, Looked: looked.Looked,
		Messages: []Message{}}
	if looked.Next > 0 {
		next := int64(looked.Next)
		out.Next = &next
	}
	for i := range looked.Messages {
		one := &looked.Messages[i]
		m := n.message(&one.Message)
		items := []Attached{}
		for k := range one.Items {
			item := &one.Items[k]
			items = append(items,
				Attached{Item: item.ID, Name: item.Name, Kind: string(item.Kind), Size: item.Size, Inline: item.Inline})
		}
		m.Items, m.Filed = &items, &one.Filed
		out.Messages = append(out.Messages, m)
	}
	return out, nil
}

// TakeIn takes mail in from a file.
func (s *handHandlers) TakeIn(ctx context.Context, r TakeInRequestObject) (TakeInResponseObject, error) {
	report, err := s.Engine.Mailboxes.TakeIn(ctx, viewerOf(ctx), r.ID, r.Body)
	if err != nil {
		return nil, err
	}
	if report.Found == len(report.Refused) && report.Taken+report.Known == 0 && len(report.Refused) == 1 {
		return nil, field("file", report.Refused[0].Reason) // a file that holds no message at all
	}
	out := TakeIn200JSONResponse{Found: report.Found, Taken: report.Taken, Known: report.Known, Octets: report.Octets,
		Refused: []RefusedMessage{}}
	for _, one := range report.Refused {
		out.Refused = append(out.Refused,
			RefusedMessage{Message: one.Message, Offset: one.Offset, Size: one.Size, Reason: one.Reason})
	}
	return out, nil
}

// FileByHand files attachments where a person says.
func (s *handHandlers) FileByHand(ctx context.Context, r FileByHandRequestObject) (FileByHandResponseObject, error) {
	var of []desk.Handed
	for _, m := range r.Body.Messages {
		h := desk.Handed{Message: m.Number}
		if m.Items != nil {
			h.Items = *m.Items
		}
		of = append(of, h)
	}
	v := viewerOf(ctx)
	p, err := s.Engine.Desk.FileByHand(ctx, v, of, r.Body.Cabinet, r.Body.Folder)
	if err != nil {
		return nil, err
	}
	out, err := s.onePass(ctx, v, p.ID)
	return FileByHand200JSONResponse(out), err
}

// ChangeByHand labels, marks or moves messages.
func (s *handHandlers) ChangeByHand(ctx context.Context, r ChangeByHandRequestObject) (ChangeByHandResponseObject,
	error) {
	b := r.Body
	c := desk.HandChange{Label: listed(b.Label), Unlabel: listed(b.RemoveLabel), MoveTo: text(b.Move)}
	if b.Mark != nil {
		for _, m := range *b.Mark {
			c.Marks = append(c.Marks, string(m))
		}
	}
	v := viewerOf(ctx)
	p, err := s.Engine.Desk.ChangeByHand(ctx, v, b.Messages, c)
	if err != nil {
		return nil, err
	}
	out, err := s.onePass(ctx, v, p.ID)
	return ChangeByHand200JSONResponse(out), err
}

// ListCabinetFolders lists the folders within one of a cabinet.
func (s *handHandlers) ListCabinetFolders(ctx context.Context,
	r ListCabinetFoldersRequestObject) (ListCabinetFoldersResponseObject, error) {
	if _, err := s.Store.Cabinets.SeenByID(ctx, viewerOf(ctx), r.ID); err != nil {
		return nil, err
	}
	names, err := s.Engine.Cabinets.CabinetFolders(ctx, r.ID, text(r.Params.Within))
	return ListCabinetFolders200JSONResponse(append([]string{}, names...)), err
}
