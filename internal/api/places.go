package api

import (
	"bytes"
	"context"
	_ "embed" // the description of the interface
	"fmt"
	"runtime"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

//go:embed openapi.yaml
var document []byte

// GetInterface gives the description of the interface.
func (s *placeHandlers) GetInterface(context.Context, GetInterfaceRequestObject) (GetInterfaceResponseObject, error) {
	return GetInterface200ApplicationYamlResponse{Body: bytes.NewReader(document),
		ContentLength: int64(len(document))}, nil
}

// GetHealth says that the service is alive.
func (s *placeHandlers) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	return GetHealth200JSONResponse{Status: "alive"}, nil
}

// GetReady says whether the records answer.
func (s *placeHandlers) GetReady(ctx context.Context, _ GetReadyRequestObject) (GetReadyResponseObject, error) {
	if err := s.Store.Ready(ctx); err != nil {
		if t := store.TroubleOf(err); t != nil {
			return nil, &problem{status: 503, kind: "not-ready", text: t.Problem, advice: t.Advice}
		}
		return nil, &problem{status: 503, kind: "not-ready", text: "the records do not answer"}
	}
	out := GetReady200JSONResponse{Status: "ready"}
	if v := viewerOf(ctx); v.Role.May(store.Administrator) { // strangers need not know
		if could, known := s.Engine.Reader.Confined(); known {
			could = append([]string{}, could...) // none is an empty list
			out.ChildrenCould = &could
		}
	}
	return out, nil
}

// CheckRecords looks whether the records are whole.
func (s *placeHandlers) CheckRecords(ctx context.Context, r CheckRecordsRequestObject) (CheckRecordsResponseObject,
	error) {
	full := r.Body.Full != nil && *r.Body.Full
	found, err := s.Engine.Registry.ExamineRecords(ctx, full)
	if found == nil {
		found = []string{}
	}
	out := RecordsCheck{Whole: len(found) == 0, Full: full, File: s.Store.Path(), Found: found}
	if len(found) > 0 {
		out.Advice = optional(store.DamagedAdvice)
	}
	return CheckRecords200JSONResponse(out), err
}

// GetVersion says which version runs.
func (s *placeHandlers) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
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

// unlessZero gives a number unless it is 0.
func unlessZero(n int) *int {
	if n == 0 {
		return nil
	}
	return &n
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
	return &problem{status: 409, kind: "in-use",
		text:   fmt.Sprintf("the %s “%s” is used by: %s", what, name, strings.Join(rules, ", ")),
		advice: "Change or remove these rules first."}
}

// RemoveCabinet forgets a cabinet unless a rule names it.
func (s *placeHandlers) RemoveCabinet(ctx context.Context, r RemoveCabinetRequestObject) (RemoveCabinetResponseObject,
	error) {
	c, err := s.Store.Cabinets.ByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	used, err := s.Engine.Office.UsedBy(ctx, func(d *rule.Rule) bool {
		return slices.ContainsFunc(d.Cabinets(), func(name string) bool { return strings.EqualFold(name, c.Name) })
	})
	if err != nil {
		return nil, err
	}
	if len(used) > 0 {
		return nil, inUse("cabinet", c.Name, used)
	}
	if err := s.Store.Cabinets.Remove(ctx, c.ID, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Cabinets.ForgetCabinet(c.ID)
	return RemoveCabinet204Response{}, nil
}
