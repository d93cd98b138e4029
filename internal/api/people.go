package api

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	openapi_types "github.com/oapi-codegen/runtime/types"

	"inktray.example/inktray/internal/core/password"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/events"
	faults "inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/store"
)

// directory turns identities of people, groups, mailboxes and cabinets into names, and back.
type directory struct {
	mailboxes, cabinets, groups, people map[string]string // by id
	grants                              map[string]store.Rights
	groupsOf, peopleIn                  map[string][]string // ids, by the id of the person or group
}

func (s *peopleHandlers) directory(ctx context.Context) (*directory, error) {
	d := &directory{mailboxes: map[string]string{}, cabinets: map[string]string{}, groups: map[string]string{},
		people: map[string]string{}}
	mailboxes, err := s.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return nil, err
	}
	for i := range mailboxes {
		d.mailboxes[mailboxes[i].ID] = mailboxes[i].Name
	}
	cabinets, err := s.Store.Cabinets.All(ctx)
	if err != nil {
		return nil, err
	}
	for i := range cabinets {
		d.cabinets[cabinets[i].ID] = cabinets[i].Name
	}
	groups, err := s.Store.People.Groups(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		d.groups[g.ID] = g.Name
	}
	people, err := s.Store.People.All(ctx)
	if err != nil {
		return nil, err
	}
	for i := range people {
		d.people[people[i].ID] = people[i].Name
	}
	if d.grants, err = s.Store.People.Grants(ctx); err != nil {
		return nil, err
	}
	d.groupsOf, d.peopleIn, err = s.Store.People.Members(ctx)
	return d, err
}

// named gives names for identities; what is not there any more is left out.
func named(of map[string]string, ids []string) []string {
	names := []string{}
	for _, id := range ids {
		if name, ok := of[id]; ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// identified finds the identities of names, and says which names are not known.
func identified(of map[string]string, place, what string, names []string) ([]string, []FieldProblem) {
	var ids []string
	var unknown []FieldProblem
	exact, folded := map[string]string{}, map[string][]string{} // ids
	for id, name := range of {
		exact[name] = id
		folded[strings.ToLower(name)] = append(folded[strings.ToLower(name)], id)
	}
	for i, name := range names {
		name = strings.TrimSpace(name)
		found, there := exact[name]
		if same := folded[strings.ToLower(name)]; !there && len(same) == 1 { // else it is not known who is meant
			found = same[0]
		}
		if found == "" {
			unknown = append(unknown, FieldProblem{Place: fmt.Sprintf("%s.%d", place, i),
				Text: fmt.Sprintf("there is no %s “%s”", what, name)})
			continue
		}
		ids = append(ids, found)
	}
	return ids, unknown
}

func (d *directory) rights(r *Rights, place string) (out store.Rights, unknown []FieldProblem) {
	if r == nil {
		return store.Everything, nil
	}
	out.AllMailboxes, out.AllCabinets = r.AllMailboxes, r.AllCabinets
	var more []FieldProblem
	out.Mailboxes, unknown = identified(d.mailboxes, place+".mailboxes", "mailbox", r.Mailboxes)
	out.Cabinets, more = identified(d.cabinets, place+".cabinets", "cabinet", r.Cabinets)
	return out, append(unknown, more...)
}

func (d *directory) shown(r store.Rights) Rights {
	return Rights{AllMailboxes: r.AllMailboxes, AllCabinets: r.AllCabinets, Mailboxes: named(d.mailboxes, r.Mailboxes),
		Cabinets: named(d.cabinets, r.Cabinets)}
}

func manyFields(all []FieldProblem) error {
	texts := make([]string, len(all))
	for i, f := range all {
		texts[i] = f.Text
	}
	return &problem{status: 422, kind: "invalid", text: strings.Join(texts, "; "), fields: all}
}

func (d *directory) person(p *store.Person) Person {
	r := d.grants[p.ID]
	r.AllMailboxes = p.AllMailboxes || p.Role == store.Administrator
	r.AllCabinets = p.AllCabinets || p.Role == store.Administrator
	out := Person{ID: p.ID, Name: p.Name, Mail: optional(p.Mail), Role: Role(p.Role), State: PersonStateActive,
		Rights: d.shown(r), Groups: named(d.groups, d.groupsOf[p.ID]), MadeAt: p.MadeAt,
		SignedInAt: p.SignedInAt, Revision: p.Revision}
	factor, office := p.HasFactor(), p.Subject != ""
	out.SecondFactor, out.Office = &factor, &office
	switch {
	case p.LockedAt != nil:
		out.State = PersonStateLocked
	case p.Password == "" && p.Subject == "":
		out.State = PersonStateInvited
	}
	return out
}

// personAs reads a person back, as people see her.
func (s *peopleHandlers) personAs(ctx context.Context, id string) (Person, error) {
	d, err := s.directory(ctx)
	if err != nil {
		return Person{}, err
	}
	p, err := s.Store.People.ByID(ctx, id)
	if err != nil {
		return Person{}, err
	}
	return d.person(&p), nil
}

// ListPeople lists who may sign in.
func (s *peopleHandlers) ListPeople(ctx context.Context, _ ListPeopleRequestObject) (ListPeopleResponseObject, error) {
	d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	people, err := s.Store.People.All(ctx)
	if err != nil {
		return nil, err
	}
	out := ListPeople200JSONResponse{}
	for i := range people {
		out = append(out, d.person(&people[i]))
	}
	return inOrder(out, func(one *Person) string { return one.Name }), nil
}

// wanted reads what somebody wants a person to be.
func (d *directory) wanted(in *PersonSettings, place string) (p store.Person, r store.Rights, groups []string,
	err error) {
	p = store.Person{Name: strings.TrimSpace(in.Name), Mail: strings.TrimSpace(text(in.Mail)), Role: store.Role(in.Role)}
	r, wrong := d.rights(in.Rights, place+"rights")
	if in.Groups != nil {
		var unknown []FieldProblem
		groups, unknown = identified(d.groups, place+"groups", "group", *in.Groups)
		wrong = append(wrong, unknown...)
	}
	if p.Name == "" {
		wrong = append(wrong, FieldProblem{Place: place + "name", Text: "a name is missing"})
	}
	if p.Mail != "" {
		if a, err := mail.ParseAddress(p.Mail); err != nil || a.Address != p.Mail {
			wrong = append(wrong, FieldProblem{Place: place + "mail", Text: fmt.Sprintf("“%s” is not an address of "+
				"mail", p.Mail)})
		}
	}
	if len(wrong) > 0 {
		return p, r, nil, manyFields(wrong)
	}
	return p, r, groups, nil
}

// peopleFault says what the records refuse about people.
func peopleFault(err error, name string) error {
	switch {
	case errors.Is(err, store.ErrTaken):
		return &problem{status: 409, kind: "taken", text: fmt.Sprintf("the name “%s” is taken", name),
			advice: "Choose another one."}
	case errors.Is(err, store.ErrLastAdministrator):
		return &problem{status: 409, kind: "last-administrator",
			text:   "nobody would be left who can sign in as an administrator",
			advice: "First make another person, who has a password, an administrator."}
	case errors.Is(err, store.ErrLink):
		return &problem{status: 403, kind: "link", text: "the link was used, was replaced by a newer one, or has expired",
			advice: "Ask an administrator for a new one."}
	}
	return err
}

// newLink makes a link for a person.
func (s *peopleHandlers) newLink(ctx context.Context, id string, days *int) (link store.Link, path string) {
	code := strings.ToLower(rand.Text())
	now := s.Clock().UTC()
	return store.Link{Hash: store.HashKey(code), PersonID: id, MadeBy: viewerOf(ctx).Name, MadeAt: now,
		ExpiresAt: now.AddDate(0, 0, number(days, 3))}, "/join#" + code
}

// invited answers with a link, and sends it where that is wanted.
func (s *peopleHandlers) invited(ctx context.Context, p *store.Person, link *store.Link, path string,
	send *bool) (out Invited, err error) {
	if out.Person, err = s.personAs(ctx, p.ID); err != nil {
		return out, err
	}
	out.Path, out.ExpiresAt = path, link.ExpiresAt
	if send == nil || !*send {
		return out, nil
	}
	if p.Mail == "" {
		out.NotSent = optional("there is no address of mail for " + p.Name)
		return out, nil
	}
	if err := s.Engine.Outbox.SendLink(ctx, p.Mail, p.Name, path, link.ExpiresAt); err != nil {
		s.Log.Warn("a link could not be sent", "person", p.Name, "error", err)
		out.NotSent = optional(faults.Reason(err))
		return out, nil
	}
	out.Sent = true
	return out, nil
}

// InvitePerson makes somebody, who chooses a password by a link.
func (s *peopleHandlers) InvitePerson(ctx context.Context, r InvitePersonRequestObject) (InvitePersonResponseObject,
	error) {
	d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	p, rights, groups, err := d.wanted(&r.Body.Person, "person.")
	if err != nil {
		return nil, err
	}
	p.ID, p.MadeAt = store.NewID(), s.Clock().UTC()
	link, path := s.newLink(ctx, p.ID, r.Body.Days)
	if err := s.Store.People.Invite(ctx, &p, rights, groups, link, viewerOf(ctx).Name); err != nil {
		return nil, peopleFault(err, p.Name)
	}
	out, err := s.invited(ctx, &p, &link, path, r.Body.Send)
	return InvitePerson201JSONResponse(out), err
}

// MakeLink makes a new link for a person.
func (s *peopleHandlers) MakeLink(ctx context.Context, r MakeLinkRequestObject) (MakeLinkResponseObject, error) {
	p, err := s.Store.People.ByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	link, path := s.newLink(ctx, p.ID, r.Body.Days)
	if err := s.Store.People.AddLink(ctx, link, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.invited(ctx, &p, &link, path, r.Body.Send)
	return MakeLink201JSONResponse(out), err
}

// ChangePerson changes who somebody is and what she may see.
func (s *peopleHandlers) ChangePerson(ctx context.Context, r ChangePersonRequestObject) (ChangePersonResponseObject,
	error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	now, err := s.Store.People.ByID(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	p, rights, groups, err := d.wanted(r.Body, "")
	if err != nil {
		return nil, err
	}
	if r.Body.Rights == nil { // what is not said stays
		rights = d.grants[now.ID]
		rights.AllMailboxes, rights.AllCabinets = now.AllMailboxes, now.AllCabinets
	}
	if r.Body.Groups == nil {
		groups = d.groupsOf[now.ID]
	}
	if r.Body.Mail == nil {
		p.Mail = now.Mail
	}
	p.ID = now.ID
	if err := s.Store.People.Change(ctx, &p, rights, groups, revision, viewerOf(ctx).Name); err != nil {
		return nil, peopleFault(err, p.Name)
	}
	s.Engine.Changed(events.Sessions)
	out, err := s.personAs(ctx, p.ID)
	return ChangePerson200JSONResponse(out), err
}

// LockPerson keeps somebody out, or lets her in again.
func (s *peopleHandlers) LockPerson(ctx context.Context, r LockPersonRequestObject) (LockPersonResponseObject, error) {
	if err := s.Store.People.Lock(ctx, r.ID, r.Body.Locked, s.Clock(), viewerOf(ctx).Name); err != nil {
		return nil, peopleFault(err, "")
	}
	s.Engine.Changed(events.Sessions)
	out, err := s.personAs(ctx, r.ID)
	return LockPerson200JSONResponse(out), err
}

// RemovePerson forgets somebody.
func (s *peopleHandlers) RemovePerson(ctx context.Context, r RemovePersonRequestObject) (RemovePersonResponseObject,
	error) {
	if err := s.Store.People.Remove(ctx, r.ID, viewerOf(ctx).Name); err != nil {
		return nil, peopleFault(err, "")
	}
	s.Engine.Changed(events.Sessions)
	return RemovePerson204Response{}, nil
}

// LookAtLink says whom a link is for. Guessing is slowed down.
func (s *peopleHandlers) LookAtLink(ctx context.Context, r LookAtLinkRequestObject) (LookAtLinkResponseObject, error) {
	p, err := s.linked(ctx, r.Body.Code)
	return LookAtLink200JSONResponse{Name: p.Name, Role: Role(p.Role)}, err
}

func (s *peopleHandlers) linked(ctx context.Context, code string) (store.Person, error) {
	key := "link " + decisionOf(ctx).from
	if wait := s.throttle.wait(key); wait > 0 {
		return store.Person{}, tooMany(wait)
	}
	p, _, err := s.Store.People.LinkOf(ctx, strings.TrimSpace(code), s.Clock())
	if errors.Is(err, store.ErrLink) {
		s.throttle.failed(key, freeTries)
	}
	return p, peopleFault(err, "")
}

// hashOf is how a new password is kept, if it is not easily guessed.
func (s *Server) hashOf(ctx context.Context, place, chosen, name string) (hash string, err error) {
	if fault := password.Fault(chosen, name); fault != "" {
		p := atField(place, fault)
		p.advice = "Take several words that do not belong together."
		return "", p
	}
	return hash, s.hashing.do(ctx, func() { hash = HashPassword(chosen) })
}

// UseLink keeps the password that somebody chose by a link, and signs her in.
func (s *peopleHandlers) UseLink(ctx context.Context, r UseLinkRequestObject) (UseLinkResponseObject, error) {
	p, err := s.linked(ctx, r.Body.Code)
	if err != nil {
		return nil, err
	}
	hash, err := s.hashOf(ctx, "password", r.Body.Password, p.Name)
	if err != nil {
		return nil, err
	}
	if err := s.byPassword(ctx, &p); err != nil {
		return nil, err
	}
	if p.HasFactor() {
		if err := s.linkedFactor(ctx, &p, text(r.Body.Factor)); err != nil {
			return nil, err
		}
	}
	if p, err = s.Store.People.UseLink(ctx, strings.TrimSpace(r.Body.Code), hash, s.Clock()); err != nil {
		return nil, peopleFault(err, "")
	}
	s.Engine.Changed(events.Sessions)
	me, cookie, err := s.signInHandlers.session(ctx, p, byBrowser)
	return UseLink200JSONResponse{Body: me,
		Headers: UseLink200ResponseHeaders{SetCookie: &cookie}}, err
}

// linkedFactor asks for the second factor of somebody who chooses a password by a link.
func (s *peopleHandlers) linkedFactor(ctx context.Context, p *store.Person, code string) error {
	key := "factor " + p.ID
	if wait := s.throttle.wait(key); wait > 0 {
		return tooMany(wait)
	}
	if code == "" {
		return factorNeeded(p)
	}
	fits, err := s.factorFits(ctx, p, code)
	if err == nil && !fits {
		s.throttle.failed(key, freeTries)
		s.noteFailure(ctx, p.Name)
		err = errWrongFactor
	}
	return err
}

// ChangeMyPassword keeps another password. Wrong old ones count as wrong tries to sign in.
func (s *peopleHandlers) ChangeMyPassword(ctx context.Context,
	r ChangeMyPasswordRequestObject) (ChangeMyPasswordResponseObject, error) {
	v := viewerOf(ctx)
	p, err := s.Store.People.ByID(ctx, v.ID)
	if err != nil {
		return nil, err
	}
	key := "own " + v.ID
	if wait := s.throttle.wait(key); wait > 0 {
		return nil, tooMany(wait)
	}
	fits := false
	if err := s.hashing.do(ctx, func() { fits = passwordFits(p.Password, r.Body.Old) }); err != nil {
		return nil, err
	}
	if !fits {
		s.throttle.failed(key, freeTries)
		return nil, atField("old", "this is not your present password")
	}
	hash, err := s.hashOf(ctx, "new", r.Body.New, p.Name)
	if err != nil {
		return nil, err
	}
	_, k, err := s.Store.People.ViewerOf(ctx, decisionOf(ctx).secret, s.Clock())
	if err != nil {
		return nil, err
	}
	if err := s.Store.People.SetPassword(ctx, p.ID, hash, k.ID); err != nil {
		return nil, err
	}
	s.Engine.Changed(events.Sessions)
	return ChangeMyPassword204Response{}, nil
}

func (s *peopleHandlers) keys(ctx context.Context, personID string) ([]Key, error) {
	rows, err := s.Store.People.Keys(ctx, personID, s.Clock())
	if err != nil {
		return nil, err
	}
	d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	this := store.HashKey(decisionOf(ctx).secret)
	out := []Key{}
	for i := range rows {
		k := &rows[i]
		one := Key{ID: k.ID, Kind: KeyKind(k.Kind), Label: k.Label, Person: d.people[k.PersonID], MadeAt: k.MadeAt,
			ExpiresAt: k.ExpiresAt, UsedAt: k.UsedAt, Place: optional(k.Place), Program: optional(k.Program),
			This: bytes.Equal(k.Hash, this)}
		if k.Kind == "token" {
			scope := ScopeFull
			if k.Scope != "" {
				scope = Scope(k.Scope)
			}
			one.Scope = &scope
		}
		out = append(out, one)
	}
	return out, nil
}

// ListMyKeys lists one's own sessions and tokens.
func (s *peopleHandlers) ListMyKeys(ctx context.Context, _ ListMyKeysRequestObject) (ListMyKeysResponseObject, error) {
	out, err := s.keys(ctx, viewerOf(ctx).ID)
	return ListMyKeys200JSONResponse(out), err
}

// ListKeys lists everybody's sessions and tokens.
func (s *peopleHandlers) ListKeys(ctx context.Context, _ ListKeysRequestObject) (ListKeysResponseObject, error) {
	out, err := s.keys(ctx, "")
	return ListKeys200JSONResponse(out), err
}

// EndMyKey ends one's own session or token.
func (s *peopleHandlers) EndMyKey(ctx context.Context, r EndMyKeyRequestObject) (EndMyKeyResponseObject, error) {
	v := viewerOf(ctx)
	if err := s.Store.People.RemoveKey(ctx, r.ID, v.ID, v.Name); err != nil {
		return nil, err
	}
	s.Engine.Changed(events.Sessions)
	return EndMyKey204Response{}, nil
}

// EndKey ends anybody's session or token.
func (s *peopleHandlers) EndKey(ctx context.Context, r EndKeyRequestObject) (EndKeyResponseObject, error) {
	if err := s.Store.People.RemoveKey(ctx, r.ID, "", viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Changed(events.Sessions)
	return EndKey204Response{}, nil
}

func (s *peopleHandlers) groupsNow(ctx context.Context) ([]Group, error) {
	d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	groups, err := s.Store.People.Groups(ctx)
	if err != nil {
		return nil, err
	}
	out := []Group{}
	for _, g := range groups {
		r := d.grants[g.ID]
		r.AllMailboxes, r.AllCabinets = g.AllMailboxes, g.AllCabinets
		out = append(out, Group{ID: g.ID, Name: g.Name, Rights: d.shown(r), People: named(d.people, d.peopleIn[g.ID]),
			Revision: g.Revision})
	}
	return out, nil
}

// ListGroups lists the groups.
func (s *peopleHandlers) ListGroups(ctx context.Context, _ ListGroupsRequestObject) (ListGroupsResponseObject, error) {
	out, err := s.groupsNow(ctx)
	return ListGroups200JSONResponse(inOrder(out, func(one *Group) string { return one.Name })), err
}

func (s *peopleHandlers) saveGroup(ctx context.Context, g store.Group, in *GroupSettings) (Group, error) {
	d, err := s.directory(ctx)
	if err != nil {
		return Group{}, err
	}
	rights, wrong := d.rights(&in.Rights, "rights")
	people, unknown := identified(d.people, "people", "person", in.People)
	wrong = append(wrong, unknown...)
	if g.Name = strings.TrimSpace(in.Name); g.Name == "" {
		wrong = append(wrong, FieldProblem{Place: "name", Text: "a name is missing"})
	}
	if len(wrong) > 0 {
		return Group{}, manyFields(wrong)
	}
	if err := s.Store.People.SaveGroup(ctx, &g, rights, people, viewerOf(ctx).Name); err != nil {
		return Group{}, peopleFault(err, g.Name)
	}
	s.Engine.Changed(events.Sessions)
	return Group{ID: g.ID, Name: g.Name, Rights: d.shown(rights), People: named(d.people, people),
		Revision: g.Revision}, nil
}

// AddGroup makes a group.
func (s *peopleHandlers) AddGroup(ctx context.Context, r AddGroupRequestObject) (AddGroupResponseObject, error) {
	out, err := s.saveGroup(ctx, store.Group{ID: store.NewID(), MadeAt: s.Clock().UTC()}, r.Body)
	return AddGroup201JSONResponse(out), err
}

// ChangeGroup changes a group.
func (s *peopleHandlers) ChangeGroup(ctx context.Context, r ChangeGroupRequestObject) (ChangeGroupResponseObject,
	error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	groups, err := s.Store.People.Groups(ctx)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(groups, func(g store.Group) bool { return g.ID == r.ID })
	if at < 0 {
		return nil, store.ErrNotFound
	}
	g := groups[at]
	g.Revision = revision
	out, err := s.saveGroup(ctx, g, r.Body)
	return ChangeGroup200JSONResponse(out), err
}

// RemoveGroup forgets a group.
func (s *peopleHandlers) RemoveGroup(ctx context.Context, r RemoveGroupRequestObject) (RemoveGroupResponseObject,
	error) {
	if err := s.Store.People.RemoveGroup(ctx, r.ID, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Changed(events.Sessions)
	return RemoveGroup204Response{}, nil
}

// trailQuery reads what is asked of the audit trail. Days are those of the office.
func (s *peopleHandlers) trailQuery(text, person *string, from, to *openapi_types.Date) store.TrailQuery {
	q := store.TrailQuery{}
	if text != nil {
		q.Text = *text
	}
	if person != nil {
		q.Actor = *person
	}
	day := func(d *openapi_types.Date) time.Time {
		return time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, s.Engine.Zone)
	}
	if from != nil {
		q.From = day(from)
	}
	if to != nil {
		q.To = day(to).AddDate(0, 0, 1)
	}
	return q
}

// ListAudit lists what people did.
func (s *peopleHandlers) ListAudit(ctx context.Context, r ListAuditRequestObject) (ListAuditResponseObject, error) {
	p := r.Params
	q := s.trailQuery(p.Text, p.Person, p.From, p.To)
	q.Most = number(p.Most, 100)
	if p.After != nil {
		q.Before = *p.After
	}
	rows, err := s.Store.Trail.Find(ctx, q)
	if err != nil {
		return nil, err
	}
	out := ListAudit200JSONResponse{Lines: []AuditLine{}}
	for i := range rows {
		a := &rows[i]
		line := AuditLine{Number: a.ID, At: a.At, Person: a.Actor, Action: a.Action, Object: a.Object,
			Place: optional(a.Place), Token: optional(a.Token)}
		if a.Changes != "" {
			var changes []AuditChange
			if err := json.Unmarshal([]byte(a.Changes), &changes); err != nil {
				return nil, err
			}
			line.Changes = &changes
		}
		out.Lines = append(out.Lines, line)
	}
	if len(rows) == q.Most {
		out.Next = &rows[len(rows)-1].ID
	}
	return out, nil
}

// ExportAudit gives what is found as a table, line by line as it is sent.
func (s *peopleHandlers) ExportAudit(ctx context.Context, r ExportAuditRequestObject) (ExportAuditResponseObject,
	error) {
	p := r.Params
	q := s.trailQuery(p.Text, p.Person, p.From, p.To)
	q.Most = 1000
	first, err := s.Store.Trail.Find(ctx, q) // what is wrong with the records is told before anything is sent
	return &auditTable{server: s.Server, q: q, first: first}, err
}

// auditTable is the audit trail as a table.
type auditTable struct {
	server *Server
	q      store.TrailQuery
	first  []store.Audit
}

// VisitExportAuditResponse sends the table.
func (t *auditTable) VisitExportAuditResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "text/csv")
	c.Set("Content-Disposition", `attachment; filename="audit.csv"`)
	ctx := t.server.stop // the request's own ends before the table is sent
	return c.SendStreamWriter(func(w *bufio.Writer) {
		titles := []string{"number", "at", "person", "action", "object", "place", "token", "changes"}
		if err := register.Table(w, titles, t.rows(ctx)); err != nil {
			t.server.Log.Info("a table of the audit trail was not sent to its end", "error", err)
		}
	})
}

// rows reads the lines that are found, some at a time.
func (t *auditTable) rows(ctx context.Context) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		zone := t.server.Engine.Zone
		for rows := t.first; ; {
			for i := range rows {
				a := &rows[i]
				if !yield([]string{fmt.Sprint(a.ID), a.At.In(zone).Format("2006-01-02 15:04:05"), a.Actor, a.Action, a.Object,
					a.Place, a.Token, a.Changes}) {
					return
				}
			}
			if len(rows) < t.q.Most {
				return
			}
			t.q.Before = rows[len(rows)-1].ID
			var err error
			if rows, err = t.server.Store.Trail.Find(ctx, t.q); err != nil {
				t.server.Log.Error("reading the audit trail for a table", "error", err)
				yield([]string{"", "", "", "The table ends here: the records could not be read further.", "", "", "", ""})
				return
			}
		}
	}
}
