package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"inktray.example/inktray/internal/machines"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

// machineName is what another machine may be called.
var machineName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

// machineHandlers serve the other machines of the office.
type machineHandlers struct{ *Server }

// GetMachine says what this machine is.
func (s *machineHandlers) GetMachine(ctx context.Context, _ GetMachineRequestObject) (GetMachineResponseObject,
	error) {
	id, err := s.Store.Settings.Installation(ctx)
	return GetMachine200JSONResponse{Name: s.Machine, Version: s.Version, Installation: id}, err
}

// shown shows a machine to who asks.
func (s *machineHandlers) shown(ctx context.Context, m *machines.Machine) Machine {
	st := m.Status()
	out := Machine{Name: m.Name, Address: m.Address, Answers: st.Answers, Problem: optional(st.Problem),
		Version: optional(st.Version), Fresh: st.Fresh, Behind: optional(st.Behind), Revision: m.Revision}
	if !st.Copy.IsZero() {
		out.CopyAt = &st.Copy
	}
	err := m.Read(ctx, func(records *store.Store) error {
		_, err := records.People.ViewerNamed(ctx, viewerOf(ctx).Name)
		return err
	})
	out.Known = err == nil
	if viewerOf(ctx).Role.May(store.Administrator) {
		out.Place, out.User, out.Region, out.HostKey = optional(m.Place), optional(m.Username), optional(m.Region),
			optional(m.HostKey)
		out.Authority = optional(m.Authority)
	}
	return out
}

// ListMachines lists the machines of the office.
func (s *machineHandlers) ListMachines(ctx context.Context, _ ListMachinesRequestObject) (ListMachinesResponseObject,
	error) {
	out := ListMachines200JSONResponse{Here: s.Machine, Others: []Machine{}}
	if decisionOf(ctx).acting { // who looks through another machine sees this one alone
		return out, nil
	}
	for _, m := range s.others() {
		out.Others = append(out.Others, s.shown(ctx, m))
	}
	inOrder(out.Others, func(one *Machine) string { return one.Name })
	return out, nil
}

// other finds another machine by its name.
func (s *Server) other(name string) (*machines.Machine, error) {
	if s.Machines != nil {
		if m := s.Machines.Named(name); m != nil {
			return m, nil
		}
	}
	return nil, &problem{status: 404, kind: "not-found", text: fmt.Sprintf("no other machine of the office is called “%s”",
		name), advice: "inktray machines list lists them."}
}

// GetOtherMachine shows one of the other machines.
func (s *machineHandlers) GetOtherMachine(ctx context.Context,
	r GetOtherMachineRequestObject) (GetOtherMachineResponseObject, error) {
	m, err := s.other(r.Name)
	if err != nil {
		return nil, err
	}
	return GetOtherMachine200JSONResponse(s.shown(ctx, m)), nil
}

// into puts what was sent into a machine, and gives the secrets that it has then.
func (s *machineHandlers) into(b *MachineSettings, m *store.Machine) (secrets store.MachineSecrets, err error) {
	before := *m
	m.Name, m.Place = strings.TrimSpace(b.Name), strings.TrimSpace(b.Place)
	m.Address = strings.Join(machines.Addresses(b.Address), " ")
	m.Username, m.Region, m.HostKey, m.Authority = text(b.User), text(b.Region), text(b.HostKey), text(b.Authority)
	if !machineName.MatchString(m.Name) {
		return secrets, field("name", "it is part of addresses, so it has letters, digits, dots and dashes only")
	}
	if strings.EqualFold(m.Name, s.Machine) {
		return secrets, field("name", fmt.Sprintf("“%s” is what this machine is called; choose another name", m.Name))
	}
	if _, err := machines.Reach(m); err != nil {
		return secrets, field("address", err.Error())
	}
	given := store.MachineSecrets{Token: text(b.Token), Passphrase: text(b.Passphrase), Secret: text(b.Secret)}
	if before.ID != "" {
		differs := m.OtherRoute(&before)
		if len(differs) > 0 && (given.Token == "" || given.Passphrase == "") {
			given := atField("token", outbox.Anew("token and the passphrase", differs))
			given.advice = "Ink Tray sends a kept secret only to the server for which you entered it."
			return secrets, given
		}
		if len(differs) == 0 {
			if secrets, err = s.Store.Machines.Secrets(&before); err != nil {
				return secrets, err
			}
		}
	}
	for _, one := range []struct{ to, from *string }{{&secrets.Token, &given.Token},
		{&secrets.Passphrase, &given.Passphrase}, {&secrets.Secret, &given.Secret}} {
		if *one.from != "" {
			*one.to = *one.from
		}
	}
	switch {
	case secrets.Token == "":
		return secrets, field("token", "it is missing; an administrator of that machine makes one: inktray keys make "+
			"--scope machine")
	case secrets.Passphrase == "":
		return secrets, field("passphrase", "it is missing: the one with which that machine seals its replica")
	}
	return secrets, nil
}

// meet asks a machine, and opens its replica, before it is kept.
func (s *machineHandlers) meet(ctx context.Context, m *store.Machine, secrets store.MachineSecrets) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	by, err := machines.Reach(m)
	if err != nil {
		return field("address", err.Error())
	}
	said, _, err := machines.Ask(ctx, by, secrets.Token)
	var refused *machines.TokenError
	if errors.As(err, &refused) {
		return field("token", err.Error())
	}
	if err != nil {
		return field("address", err.Error())
	}
	own, err := s.Store.Settings.Installation(ctx)
	if err != nil {
		return err
	}
	if said.Installation == own {
		return field("address", "that is this machine itself")
	}
	m.Installation = said.Installation
	of, err := s.Machines.Look(ctx, m, secrets)
	switch {
	case errors.Is(err, replica.ErrPassphrase):
		return field("passphrase", "it does not open the replica there")
	case errors.Is(err, replica.ErrNone):
		return field("place", "there is no replica; that machine writes one where it is started with --replica")
	case err != nil:
		return field("place", err.Error())
	case of != said.Installation:
		return field("place", "the replica there is that of another installation than the one that answers at the address")
	}
	return nil
}

// known says at the address that a machine is here already.
func known(err error) error {
	var same *store.KnownError
	if errors.As(err, &same) {
		return field("address", same.Error())
	}
	return err
}

var errNoMachines = &problem{status: 409, kind: "no-machines", text: "this service knows no other machines"}

// AddMachine adds another machine.
func (s *machineHandlers) AddMachine(ctx context.Context, r AddMachineRequestObject) (AddMachineResponseObject, error) {
	if s.Machines == nil {
		return nil, errNoMachines
	}
	m := store.Machine{MadeAt: s.Clock().UTC()}
	secrets, err := s.into(r.Body, &m)
	if err == nil {
		err = s.meet(ctx, &m, secrets)
	}
	if err != nil {
		return nil, err
	}
	m.ID = store.NewID()
	if err := s.Store.Machines.Seal(&m, secrets); err != nil {
		return nil, err
	}
	if err := s.Store.Machines.Add(ctx, &m, viewerOf(ctx).Name); err != nil {
		return nil, known(err)
	}
	now, err := s.renewed(ctx, m.Name)
	return AddMachine201JSONResponse(now), err
}

// renewed follows the machines as they are now, and shows one of them.
func (s *machineHandlers) renewed(ctx context.Context, name string) (Machine, error) {
	if err := s.Machines.Renew(); err != nil {
		return Machine{}, err
	}
	m, err := s.other(name)
	if err != nil {
		return Machine{}, err
	}
	m.Ask(ctx)
	return s.shown(ctx, m), nil
}

// ChangeMachine changes how another machine is reached.
func (s *machineHandlers) ChangeMachine(ctx context.Context, r ChangeMachineRequestObject) (ChangeMachineResponseObject,
	error) {
	was, err := s.other(r.Name)
	if err != nil {
		return nil, err
	}
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	m := was.Machine
	secrets, err := s.into(r.Body, &m)
	if err == nil {
		err = s.meet(ctx, &m, secrets)
	}
	if err == nil {
		err = s.Store.Machines.Seal(&m, secrets)
	}
	if err == nil {
		err = known(s.Store.Machines.Change(ctx, &m, revision, viewerOf(ctx).Name))
	}
	if err != nil {
		return nil, err
	}
	now, err := s.renewed(ctx, m.Name)
	return ChangeMachine200JSONResponse(now), err
}

// RemoveMachine forgets another machine.
func (s *machineHandlers) RemoveMachine(ctx context.Context, r RemoveMachineRequestObject) (RemoveMachineResponseObject,
	error) {
	m, err := s.other(r.Name)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Machines.Remove(ctx, m.ID, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	return RemoveMachine204Response{}, s.Machines.Renew()
}

// party is one of two machines between which a mailbox moves: this one, or another one.
type party struct {
	server *Server
	other  *machines.Machine // nil for this one
	name   string
}

// party finds a machine by its name; "" is this one.
func (s *Server) party(name string) (*party, error) {
	if name == "" || strings.EqualFold(name, s.Machine) {
		return &party{server: s, name: s.Machine}, nil
	}
	m, err := s.other(name)
	if err != nil {
		return nil, err
	}
	return &party{s, m, m.Name}, nil
}

// mostMoved bounds what two machines say to one another about a mailbox, in octets.
const mostMoved = maxMail + 1<<20

// unsureError says that it is not known whether a machine did what it was asked.
type unsureError struct{ why error }

func (e *unsureError) Error() string { return e.why.Error() }
func (e *unsureError) Unwrap() error { return e.why }

// do asks the machine something for who asks this one, and reads the answer into a value; nil reads none. The answer's
// octets are returned. An *unsureError where the machine may have done it all the same.
func (p *party) do(ctx context.Context, method, path, media string, body []byte, into any) ([]byte, error) {
	var status int
	var answer []byte
	if p.other == nil {
		status, answer = p.server.inside(ctx, method, path, media, body)
	} else {
		r, err := p.other.Send(ctx, method, path, http.Header{"Content-Type": {media}}, bytes.NewReader(body),
			viewerOf(ctx).Name)
		if errors.Is(err, machines.ErrUnsent) {
			return nil, errAway(p.name, err.Error())
		}
		if err != nil {
			return nil, &unsureError{errAway(p.name, err.Error())}
		}
		defer r.Body.Close()
		if answer, err = io.ReadAll(io.LimitReader(r.Body, mostMoved)); err != nil {
			return nil, &unsureError{errAway(p.name, err.Error())}
		}
		status = r.StatusCode
	}
	if status >= 300 {
		var told Problem
		known := json.Unmarshal(answer, &told) == nil && told.Detail != ""
		if !known {
			told.Detail = fmt.Sprintf("it answers %d", status)
		}
		var err error = &problem{status: status, kind: "at-machine", text: fmt.Sprintf("at the machine “%s”: %s", p.name,
			told.Detail), advice: text(told.Advice)}
		if !known && status >= 500 { // that of something between the two
			err = &unsureError{err}
		}
		return nil, err
	}
	if into != nil {
		if err := json.Unmarshal(answer, into); err != nil {
			return nil, &unsureError{fmt.Errorf("what the machine “%s” says cannot be read: %w", p.name, err)}
		}
	}
	return answer, nil
}

// inside asks this service itself, with the rights of who asks.
func (s *Server) inside(ctx context.Context, method, path, media string, body []byte) (status int, answer []byte) {
	var r fasthttp.Request
	d := decisionOf(ctx)
	r.Header.SetMethod(method)
	r.SetRequestURI(path)
	r.Header.SetHost("localhost")
	r.Header.Set("Authorization", "Bearer "+d.secret)
	r.Header.SetUserAgent(d.program)
	if body != nil {
		r.Header.SetContentType(media)
		r.SetBody(body)
	}
	var rc fasthttp.RequestCtx
	rc.Init(&r, nil, nil)
	s.app.Handler()(&rc)
	return rc.Response.StatusCode(), rc.Response.Body()
}

const (
	inJSON   = "application/json"
	inOctets = "application/octet-stream"
)

// MoveMailbox moves a mailbox from one machine to another one. Both are asked first whether it can be: what is found
// then would leave the mailbox nowhere.
func (s *machineHandlers) MoveMailbox(ctx context.Context, r MoveMailboxRequestObject) (MoveMailboxResponseObject,
	error) {
	from, err := s.party(text(r.Body.From))
	if err != nil {
		return nil, err
	}
	to, err := s.party(r.Body.To)
	if err != nil {
		return nil, err
	}
	if from.name == to.name {
		return nil, field("to", fmt.Sprintf("the mailbox is at the machine “%s” already", to.name))
	}
	m, err := from.mailbox(ctx, func(m *Mailbox) bool { return strings.EqualFold(m.Name, r.Body.Mailbox) })
	if err != nil {
		return nil, err
	}
	if m == nil {
		return nil, field("mailbox", fmt.Sprintf("there is no mailbox “%s” at the machine “%s”", r.Body.Mailbox, from.name))
	}
	settings, err := moved(m, text(r.Body.Secret))
	if err != nil {
		return nil, err
	}
	if m.Consent == nil {
		if err := to.reaches(ctx, settings); err != nil {
			return nil, err
		}
	}
	at := "/api/v1/mailboxes/" + url.PathEscape(m.ID)
	file, err := from.do(ctx, http.MethodPost, at+"/hand-over?try=true", inJSON, nil, nil)
	if err == nil {
		_, err = to.do(ctx, http.MethodPost, "/api/v1/mailboxes/take-over?try=true", inOctets, file, nil)
	}
	if err != nil {
		return nil, err
	}
	// From here on the mailbox may be at no machine: it comes to one of them, also where who asked has gone.
	ctx = context.WithoutCancel(ctx)
	var unsure *unsureError
	if file, err = from.do(ctx, http.MethodPost, at+"/hand-over", inJSON, nil, nil); err != nil {
		if errors.As(err, &unsure) {
			return nil, astray(m.Name, "handed over", from, from, err)
		}
		return nil, err
	}
	needs, err := to.take(ctx, file, m.ID, settings)
	if errors.As(err, &unsure) { // to put it back could be to have it at both
		return nil, astray(m.Name, "taken", to, from, err)
	}
	if err != nil {
		if _, back := from.take(ctx, file, m.ID, settings); back != nil {
			return nil, astray(m.Name, "put back", from, from, fmt.Errorf("%w; and then %w", err, back))
		}
		return nil, err
	}
	return MoveMailbox200JSONResponse{Machine: to.name, ID: m.ID, Name: m.Name, NeedsSecret: needs}, nil
}

// astray says that a machine may have a mailbox or not, and where the file is with which it is not lost.
func astray(mailbox, what string, at, from *party, why error) *problem {
	return &problem{status: http.StatusBadGateway, kind: "move-unsure", text: fmt.Sprintf("it is not known whether the "+
		"mailbox “%s” was %s at the machine “%s”: %v", mailbox, what, at.name, why),
		advice: fmt.Sprintf("Look into the list of mailboxes of both machines. If it is at “%s”, enter its password there. "+
			"If it is at neither, its file is in the folder handed-over among the records of “%s”: inktray mailboxes "+
			"take-over FILE adds it again. Its mail stays at the mail server meanwhile.", at.name, from.name)}
}

// moved are the settings of a mailbox with its secret.
func moved(m *Mailbox, secret string) (*MailboxSettings, error) {
	if secret == "" && m.Consent == nil {
		return nil, field("secret", fmt.Sprintf("it is missing: the password of %s, which no machine hands over",
			m.Username))
	}
	kind := MailboxSettingsKind(m.Kind)
	out := &MailboxSettings{Name: m.Name, Kind: &kind, Host: m.Host, Port: &m.Port,
		Encryption: MailboxSettingsEncryption(m.Encryption), Username: m.Username, IntervalSeconds: &m.IntervalSeconds,
		Authority: m.Authority, Pinned: m.Pinned, Proxy: m.Proxy, Consent: m.Consent, LeaveDays: m.LeaveDays}
	if m.Consent == nil {
		out.Secret = &secret
	}
	return out, nil
}

// mailbox finds a mailbox of a machine.
func (p *party) mailbox(ctx context.Context, fits func(*Mailbox) bool) (*Mailbox, error) {
	var all []Mailbox
	if _, err := p.do(ctx, http.MethodGet, "/api/v1/mailboxes", inJSON, nil, &all); err != nil {
		return nil, err
	}
	for i := range all {
		if fits(&all[i]) {
			return &all[i], nil
		}
	}
	return nil, nil
}

// reaches says whether a machine can read a mailbox.
func (p *party) reaches(ctx context.Context, m *MailboxSettings) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	var steps []CheckStep
	if _, err := p.do(ctx, http.MethodPost, "/api/v1/mailboxes/check", inJSON, body, &steps); err != nil {
		return err
	}
	for _, one := range steps {
		if !one.Ok {
			return &problem{status: http.StatusUnprocessableEntity, kind: "mailbox", text: fmt.Sprintf("the machine “%s” does "+
				"not reach the mailbox: %s", p.name, one.Detail), advice: text(one.Advice)}
		}
	}
	return nil
}

// attempts is how often a machine is asked to take a mailbox.
const attempts = 4

// take lets a machine take a mailbox, and gives it its secret. needs says that it still needs one. An *unsureError
// where it may have it all the same.
func (p *party) take(ctx context.Context, file []byte, id string, settings *MailboxSettings) (needs bool, err error) {
	if err := p.takeFile(ctx, file, id); err != nil || settings.Secret == nil {
		return true, err
	}
	body, err := json.Marshal(settings)
	if err != nil {
		return true, err
	}
	_, err = p.do(ctx, http.MethodPut, "/api/v1/mailboxes/"+url.PathEscape(id), inJSON, body, nil)
	return err != nil, nil // it is there in any case
}

// takeFile asks until the machine has the mailbox or surely does not get it.
func (p *party) takeFile(ctx context.Context, file []byte, id string) (err error) {
	var doubt, unsure *unsureError
	for n := range attempts {
		time.Sleep(time.Duration(n) * time.Second)
		var m Mailbox
		if _, err = p.do(ctx, http.MethodPost, "/api/v1/mailboxes/take-over", inOctets, file, &m); err == nil {
			return nil
		}
		if errors.As(err, &unsure) {
			doubt = unsure
		}
		here, lookErr := p.mailbox(ctx, func(m *Mailbox) bool { return m.ID == id })
		var told *problem
		refused := errors.As(err, &told) && told.kind == "at-machine"
		switch {
		case here != nil: // what it answered was lost, or was about what it did afterwards
			return nil
		case refused && lookErr != nil:
			doubt = &unsureError{lookErr}
		case refused && doubt == nil && told.status < 500:
			return err
		}
	}
	if doubt != nil { // what was asked for may happen yet
		return &unsureError{err}
	}
	return err
}
