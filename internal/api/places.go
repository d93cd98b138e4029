package api

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// GetHealth says that the service is alive.
func (s *Server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	return GetHealth200JSONResponse{Status: "alive"}, nil
}

// GetReady says whether the records answer.
func (s *Server) GetReady(ctx context.Context, _ GetReadyRequestObject) (GetReadyResponseObject, error) {
	if err := s.Store.Ready(ctx); err != nil {
		return nil, &problem{status: 503, kind: "not-ready", text: "the records do not answer"}
	}
	return GetReady200JSONResponse{Status: "ready"}, nil
}

// GetVersion says which version runs.
func (s *Server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse{Version: s.Version, Go: runtime.Version()}, nil
}

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

func number(p *int, otherwise int) int {
	if p == nil {
		return otherwise
	}
	return *p
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// revisionOf reads If-Match; 0 where it is not given.
func revisionOf(match *string) (int, error) {
	if match == nil {
		return 0, nil
	}
	var n int
	if _, err := fmt.Sscanf(strings.Trim(*match, `"`), "%d", &n); err != nil || n < 1 {
		return 0, &problem{status: 422, kind: "invalid", text: "If-Match is not a revision"}
	}
	return n, nil
}

func etag(revision int) *string {
	s := fmt.Sprintf(`"%d"`, revision)
	return &s
}

func inUse(what, name string, rules []string) error {
	return &problem{status: 409, kind: "in-use", text: fmt.Sprintf("the %s “%s” is used by: %s", what, name, strings.Join(rules, ", ")), advice: "Change or remove these rules first."}
}

func (s *Server) cabinet(c *store.Cabinet) Cabinet {
	out := Cabinet{ID: c.ID, Name: c.Name, Kind: c.Kind, Folder: c.Folder, Mode: optional(c.Mode), Owner: optional(c.Owner), Address: optional(c.Address), Revision: c.Revision}
	if err := s.Engine.Problem(c.ID); err != nil {
		out.Problem = err.Error()
	}
	return out
}

// ListCabinets lists the cabinets.
func (s *Server) ListCabinets(context.Context, ListCabinetsRequestObject) (ListCabinetsResponseObject, error) {
	rows, err := s.Store.Cabinets()
	out := ListCabinets200JSONResponse{}
	for i := range rows {
		out = append(out, s.cabinet(&rows[i]))
	}
	return out, err
}

// AddCabinet makes a folder into a cabinet, proving first that it can be written to.
func (s *Server) AddCabinet(ctx context.Context, r AddCabinetRequestObject) (AddCabinetResponseObject, error) {
	c := store.Cabinet{ID: store.NewID(), Name: strings.TrimSpace(r.Body.Name), Kind: "local", Folder: strings.TrimSpace(r.Body.Folder), Mode: strings.TrimSpace(text(r.Body.Mode)), Owner: strings.TrimSpace(text(r.Body.Owner)), MadeAt: s.Clock().UTC()}
	if _, err := s.Store.CabinetNamed(c.Name); err == nil {
		return nil, &problem{status: 409, kind: "taken", text: fmt.Sprintf("there is a cabinet called “%s” already", c.Name), advice: "Choose another name.", fields: []FieldProblem{{Place: "name", Text: "the name is taken"}}}
	}
	if err := s.Engine.AddCabinet(ctx, &c, viewerOf(ctx).Name); err != nil {
		p := explain(err)
		p.fields = []FieldProblem{{Place: "folder", Text: p.text}}
		return nil, p
	}
	return AddCabinet201JSONResponse(s.cabinet(&c)), nil
}

// RemoveCabinet forgets a cabinet unless a rule names it.
func (s *Server) RemoveCabinet(ctx context.Context, r RemoveCabinetRequestObject) (RemoveCabinetResponseObject, error) {
	c, err := s.Store.CabinetByID(r.ID)
	if err != nil {
		return nil, err
	}
	used, err := s.Engine.UsedBy(func(d *rule.Rule) bool {
		return slices.ContainsFunc(d.Cabinets(), func(name string) bool { return strings.EqualFold(name, c.Name) })
	})
	if err != nil {
		return nil, err
	}
	if len(used) > 0 {
		return nil, inUse("cabinet", c.Name, used)
	}
	if err := s.Store.RemoveCabinet(c.ID, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.ForgetCabinet(c.ID)
	return RemoveCabinet204Response{}, nil
}

// CheckCabinet looks at a cabinet now.
func (s *Server) CheckCabinet(ctx context.Context, r CheckCabinetRequestObject) (CheckCabinetResponseObject, error) {
	c, err := s.Store.CabinetByID(r.ID)
	if err != nil {
		return nil, err
	}
	out := s.cabinet(&c)
	out.Problem = ""
	if err := s.Engine.CheckCabinet(ctx, c.ID); err != nil {
		out.Problem = err.Error()
	}
	return CheckCabinet200JSONResponse(out), nil
}
