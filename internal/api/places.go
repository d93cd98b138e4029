package api

import (
	"context"
	"errors"
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

func (s *Server) mailbox(m *store.Mailbox) Mailbox {
	status := s.Engine.Status(m.ID)
	out := Mailbox{ID: m.ID, Name: m.Name, Kind: m.Kind, Host: m.Host, Port: m.Port, Encryption: m.Encryption, Username: m.Username, IntervalSeconds: m.IntervalSeconds,
		Revision: m.Revision, State: MailboxState(status.State), Since: status.Since, Problem: status.Problem, Advice: status.Advice}
	if !status.Looked.IsZero() {
		out.LookedAt = &status.Looked
	}
	return out
}

// ListMailboxes lists the mailboxes that the viewer may see.
func (s *Server) ListMailboxes(ctx context.Context, _ ListMailboxesRequestObject) (ListMailboxesResponseObject, error) {
	rows, err := s.Store.Mailboxes(viewerOf(ctx))
	out := ListMailboxes200JSONResponse{}
	for i := range rows {
		out = append(out, s.mailbox(&rows[i]))
	}
	return out, err
}

func settings(b *MailboxSettings, into *store.Mailbox) error {
	name := strings.TrimSpace(b.Name)
	if name == "" || strings.EqualFold(name, "all") {
		return &problem{status: 422, kind: "invalid", text: fmt.Sprintf("name: %q cannot be a mailbox's name", b.Name), fields: []FieldProblem{{Place: "name", Text: "choose another name; “all” means all mailboxes"}}}
	}
	into.Name, into.Kind, into.Host, into.Port = name, "imap", strings.TrimSpace(b.Host), number(b.Port, 0)
	into.Encryption, into.Username, into.IntervalSeconds = string(b.Encryption), b.Username, number(b.IntervalSeconds, 60)
	return nil
}

// AddMailbox keeps a mailbox and begins to watch it.
func (s *Server) AddMailbox(ctx context.Context, r AddMailboxRequestObject) (AddMailboxResponseObject, error) {
	m := store.Mailbox{ID: store.NewID(), MadeAt: s.Clock().UTC()}
	if err := settings(r.Body, &m); err != nil {
		return nil, err
	}
	err := s.Store.AddMailbox(&m, text(r.Body.Secret), viewerOf(ctx).Name)
	if errors.Is(err, store.ErrTaken) {
		return nil, &problem{status: 409, kind: "taken", text: fmt.Sprintf("there is a mailbox called “%s” already", m.Name), advice: "Choose another name.", fields: []FieldProblem{{Place: "name", Text: "the name is taken"}}}
	}
	if err != nil {
		return nil, err
	}
	s.Engine.Watch(m.ID)
	return AddMailbox201JSONResponse(s.mailbox(&m)), nil
}

// GetMailbox shows one mailbox.
func (s *Server) GetMailbox(ctx context.Context, r GetMailboxRequestObject) (GetMailboxResponseObject, error) {
	m, err := s.Store.MailboxByID(viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	return GetMailbox200JSONResponse(s.mailbox(&m)), nil
}

// ChangeMailbox changes a mailbox's settings. Its name stays, since rules name it.
func (s *Server) ChangeMailbox(ctx context.Context, r ChangeMailboxRequestObject) (ChangeMailboxResponseObject, error) {
	m, err := s.Store.MailboxByID(viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	name, host := m.Name, m.Host
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if revision == 0 {
		revision = m.Revision
	}
	if err := settings(r.Body, &m); err != nil {
		return nil, err
	}
	if m.Name != name {
		return nil, &problem{status: 422, kind: "invalid", text: "name: a mailbox keeps its name, because rules name it so", advice: "Add a mailbox with the new name instead.", fields: []FieldProblem{{Place: "name", Text: "a mailbox keeps its name"}}}
	}
	secret := r.Body.Secret
	if text(secret) == "" {
		secret = nil
	}
	if secret == nil && !strings.EqualFold(m.Host, host) { // it was given for the other host, and must not be sent to this one
		return nil, &problem{status: 422, kind: "invalid", text: "secret: the host is another one, so the secret has to be given anew", advice: "Enter the secret for " + m.Host + ".", fields: []FieldProblem{{Place: "secret", Text: "the host is another one, so the secret has to be given anew"}}}
	}
	if err := s.Store.ChangeMailbox(&m, secret, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Watch(m.ID)
	return ChangeMailbox200JSONResponse(s.mailbox(&m)), nil
}

// RemoveMailbox forgets a mailbox unless a rule names it.
func (s *Server) RemoveMailbox(ctx context.Context, r RemoveMailboxRequestObject) (RemoveMailboxResponseObject, error) {
	m, err := s.Store.MailboxByID(viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	used, err := s.Engine.UsedBy(func(d *rule.Rule) bool {
		for _, name := range d.Look.Mailboxes {
			if strings.EqualFold(name, m.Name) {
				return true
			}
		}
		return false
	})
	if err != nil {
		return nil, err
	}
	if len(used) > 0 {
		return nil, inUse("mailbox", m.Name, used)
	}
	s.Engine.Unwatch(m.ID)
	return RemoveMailbox204Response{}, s.Store.RemoveMailbox(m.ID, viewerOf(ctx).Name)
}

func inUse(what, name string, rules []string) error {
	return &problem{status: 409, kind: "in-use", text: fmt.Sprintf("the %s “%s” is used by: %s", what, name, strings.Join(rules, ", ")), advice: "Change or remove these rules first."}
}

// CheckMailbox goes through the steps of reaching a mailbox.
func (s *Server) CheckMailbox(ctx context.Context, r CheckMailboxRequestObject) (CheckMailboxResponseObject, error) {
	var m store.Mailbox
	secret := text(r.Body.Secret)
	if id := text(r.Params.ID); id != "" {
		var err error
		if m, err = s.Store.MailboxByID(viewerOf(ctx), id); err != nil {
			return nil, err
		}
		if secret == "" && m.Host == r.Body.Host { // the kept secret goes to the kept host only
			if secret, err = s.Store.Secret(&m); err != nil {
				return nil, err
			}
		}
	}
	out := CheckMailbox200JSONResponse{}
	if err := settings(r.Body, &m); err != nil {
		return nil, err
	}
	for _, c := range s.Engine.Try(ctx, &m, secret) {
		out = append(out, CheckStep{Step: string(c.Step), Ok: c.OK, Detail: c.Detail, Advice: optional(c.Advice)})
	}
	return out, nil
}

// ListFolders asks the server for a mailbox's folders.
func (s *Server) ListFolders(ctx context.Context, r ListFoldersRequestObject) (ListFoldersResponseObject, error) {
	m, err := s.Store.MailboxByID(viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	secret, err := s.Store.Secret(&m)
	if err != nil {
		return nil, err
	}
	session, err := s.Engine.Dial(ctx, &m, secret)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	folders, err := session.Folders(ctx)
	out := ListFolders200JSONResponse{}
	for _, f := range folders {
		out = append(out, Folder(f))
	}
	return out, err
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
