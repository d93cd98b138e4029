package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

func (s *cabinetHandlers) cabinet(v store.Viewer, c *store.Cabinet) Cabinet {
	p := &c.Particulars
	out := Cabinet{ID: c.ID, Name: c.Name, Kind: CabinetKind(c.Kind), Folder: c.Folder, Mode: optional(c.Mode),
		Owner: optional(c.Owner), Address: optional(c.Address), Revision: c.Revision,
		Username: optional(c.Username), Authority: optional(p.Authority), Pinned: optional(p.Pinned),
		Proxy: optional(p.Proxy), HostKey: optional(p.HostKey), Region: optional(p.Region)}
	if !v.Role.May(store.Administrator) { // its password may stand in it
		out.Proxy = nil
	}
	if err := s.Engine.Cabinets.Problem(c.ID); err != nil {
		out.Problem = err.Error()
	}
	return out
}

// ListCabinets lists the cabinets.
func (s *cabinetHandlers) ListCabinets(ctx context.Context,
	_ ListCabinetsRequestObject) (ListCabinetsResponseObject, error) {
	rows, err := s.Store.Cabinets.Seen(ctx, viewerOf(ctx))
	out := ListCabinets200JSONResponse{}
	for i := range rows {
		out = append(out, s.cabinet(viewerOf(ctx), &rows[i]))
	}
	return inOrder(out, func(one *Cabinet) string { return one.Name }), err
}

// only says which kinds of cabinets have a setting.
var only = map[string][]string{
	"mode": {"local"}, "owner": {"local"}, "username": {"webdav", "sftp", "s3"}, "secret": {"webdav", "sftp", "s3"},
	"authority": {"webdav", "s3"}, "pinned": {"webdav", "s3"},
	"proxy": {"webdav", "sftp", "s3"}, "host_key": {"sftp"}, "region": {"s3"},
}

// settleCabinet sets the given settings of a cabinet; nil settings are not changed.
func settleCabinet(c *store.Cabinet, given map[string]*string) error {
	p := &c.Particulars
	into := map[string]*string{"mode": &c.Mode, "owner": &c.Owner, "username": &c.Username, "authority": &p.Authority,
		"pinned": &p.Pinned, "proxy": &p.Proxy, "host_key": &p.HostKey, "region": &p.Region}
	for name, value := range given {
		if value == nil {
			continue
		}
		v := strings.TrimSpace(*value)
		if kinds := only[name]; v != "" && !slices.Contains(kinds, c.Kind) {
			text := fmt.Sprintf("a cabinet of the kind %s has no %s", c.Kind, strings.ReplaceAll(name, "_", " "))
			return &problem{status: 422, kind: "invalid", text: text, advice: "Leave it out.",
				fields: []FieldProblem{{Place: name, Text: text}}}
		}
		if at := into[name]; at != nil {
			*at = v
		}
	}
	return nil
}

// AddCabinet makes a place into a cabinet, proving first what it promises.
func (s *cabinetHandlers) AddCabinet(ctx context.Context,
	r AddCabinetRequestObject) (AddCabinetResponseObject, error) {
	b := r.Body
	c := store.Cabinet{ID: store.NewID(), Name: strings.TrimSpace(b.Name), Kind: "local",
		Folder: strings.TrimSpace(b.Folder), MadeAt: s.Clock().UTC()}
	if b.Kind != nil {
		c.Kind = string(*b.Kind)
	}
	if _, err := s.Store.Cabinets.Named(ctx, c.Name); err == nil {
		return nil, &problem{status: 409, kind: "taken", text: fmt.Sprintf("there is a cabinet called “%s” already", c.Name),
			advice: "Choose another name.", fields: []FieldProblem{{Place: "name", Text: "the name is taken"}}}
	}
	if err := settleCabinet(&c,
		map[string]*string{"mode": b.Mode, "owner": b.Owner, "username": b.Username, "secret": b.Secret,
			"authority": b.Authority, "pinned": b.Pinned, "proxy": b.Proxy, "host_key": b.HostKey,
			"region": b.Region}); err != nil {
		return nil, err
	}
	if b.Secret != nil {
		if err := s.Store.Cabinets.Seal(&c, *b.Secret); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "check cabinet", c.Name+": "+withoutUser(c.Folder)); err != nil {
		return nil, err
	}
	if err := s.Engine.Cabinets.AddCabinet(ctx, &c, viewerOf(ctx).Name); err != nil {
		p := explain(err)
		p.fields = []FieldProblem{{Place: "folder", Text: p.text}}
		return nil, p
	}
	return AddCabinet201JSONResponse(s.cabinet(viewerOf(ctx), &c)), nil
}

// ChangeCabinet changes how a cabinet is reached.
func (s *cabinetHandlers) ChangeCabinet(ctx context.Context,
	r ChangeCabinetRequestObject) (ChangeCabinetResponseObject,
	error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	c, err := s.Store.Cabinets.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	if r.Body.Address != nil {
		c.Address = strings.TrimSpace(*r.Body.Address)
	}
	if err := register.Base(c.Address).Check(); err != nil {
		return nil, &problem{status: 422, kind: "invalid", text: err.Error(),
			fields: []FieldProblem{{Place: "address", Text: err.Error()}}}
	}
	given := map[string]*string{"username": r.Body.Username, "secret": r.Body.Secret, "authority": r.Body.Authority,
		"pinned": r.Body.Pinned, "proxy": r.Body.Proxy, "host_key": r.Body.HostKey, "region": r.Body.Region}
	if err := settleCabinet(&c, given); err != nil {
		return nil, err
	}
	before, err := s.Store.Cabinets.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	if other := c.OtherRoute(&before); r.Body.Secret == nil && len(c.Secret) > 0 && len(other) > 0 {
		return nil, anew(other)
	}
	reached := false
	for _, value := range given {
		reached = reached || value != nil
	}
	if r.Body.Secret != nil {
		if err := s.Store.Cabinets.Seal(&c, *r.Body.Secret); err != nil {
			return nil, err
		}
	}
	if reached {
		if err := s.Store.Note(ctx, viewerOf(ctx).Name, "check cabinet", c.Name+": "+withoutUser(c.Folder)); err != nil {
			return nil, err
		}
	}
	if err := s.Engine.Cabinets.ChangeCabinet(ctx, &c, reached, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	return ChangeCabinet200JSONResponse(s.cabinet(viewerOf(ctx), &c)), nil
}

// ListUnknownFiles lists files that the register does not know.
func (s *cabinetHandlers) ListUnknownFiles(ctx context.Context,
	r ListUnknownFilesRequestObject) (ListUnknownFilesResponseObject, error) {
	most := 1000
	if r.Params.Most != nil {
		most = *r.Params.Most
	}
	files, looked, more, err := s.Engine.Registry.UnknownFiles(ctx, r.ID, most)
	if err != nil {
		return nil, err
	}
	out := ListUnknownFiles200JSONResponse{Looked: looked, More: more}
	out.Files = make([]struct {
		Modified *time.Time `json:"modified,omitempty"`
		Path     string     `json:"path"`
		Size     int64      `json:"size"`
	}, len(files))
	for i := range files {
		f, one := &files[i], &out.Files[i]
		if one.Path, one.Size = f.Path, f.Size; !f.Modified.IsZero() {
			one.Modified = &f.Modified
		}
	}
	return out, nil
}

// EnterUnknownFiles enters files that were found in a cabinet.
func (s *cabinetHandlers) EnterUnknownFiles(ctx context.Context,
	r EnterUnknownFilesRequestObject) (EnterUnknownFilesResponseObject, error) {
	n, err := s.Engine.Registry.EnterFiles(ctx, viewerOf(ctx), r.ID, r.Body.Paths)
	return EnterUnknownFiles200JSONResponse{Count: n}, err
}

// CheckCabinet looks at a cabinet now and tries out what it promises.
func (s *cabinetHandlers) CheckCabinet(ctx context.Context, r CheckCabinetRequestObject) (CheckCabinetResponseObject,
	error) {
	c, err := s.Store.Cabinets.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "check cabinet", c.Name+": "+withoutUser(c.Folder)); err != nil {
		return nil, err
	}
	proof, err := s.Engine.Cabinets.ProveCabinet(ctx, c.ID)
	out := s.cabinet(viewerOf(ctx), &c)
	out.Problem = ""
	if err != nil {
		out.Problem = err.Error()
	}
	if len(proof.Holds) > 0 {
		out.Holds = &proof.Holds
	}
	if proof.Room >= 0 {
		out.Room = &proof.Room
	}
	return CheckCabinet200JSONResponse(out), nil
}

// MoveCabinet moves a cabinet to another place.
func (s *cabinetHandlers) MoveCabinet(ctx context.Context, r MoveCabinetRequestObject) (MoveCabinetResponseObject,
	error) {
	b := r.Body
	was, err := s.Store.Cabinets.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	to := store.Cabinet{ID: was.ID, Name: was.Name, Kind: "local", Folder: strings.TrimSpace(b.Folder),
		Address: strings.TrimSpace(text(b.Address)), MadeAt: was.MadeAt}
	if b.Kind != nil {
		to.Kind = string(*b.Kind)
	}
	if err := register.Base(to.Address).Check(); err != nil {
		return nil, &problem{status: 422, kind: "invalid", text: err.Error(),
			fields: []FieldProblem{{Place: "address", Text: err.Error()}}}
	}
	if err := settleCabinet(&to,
		map[string]*string{"mode": b.Mode, "owner": b.Owner, "username": b.Username, "secret": b.Secret,
			"authority": b.Authority, "pinned": b.Pinned, "proxy": b.Proxy, "host_key": b.HostKey,
			"region": b.Region}); err != nil {
		return nil, err
	}
	if b.Secret != nil {
		if err := s.Store.Cabinets.Seal(&to, *b.Secret); err != nil {
			return nil, err
		}
	}
	v := viewerOf(ctx)
	pass, err := s.Engine.Cabinets.MoveCabinet(ctx, &to, v.Name)
	if errors.Is(err, cabinets.ErrMoving) {
		return nil, &problem{status: 409, kind: "moving", text: err.Error(), advice: "Wait until it is done, or stop it."}
	}
	if err != nil {
		p := explain(err)
		p.fields = []FieldProblem{{Place: "folder", Text: p.text}}
		return nil, p
	}
	out, err := s.onePass(ctx, v, pass.ID)
	return MoveCabinet202JSONResponse(out), err
}
