package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"inktray.example/inktray/internal/inbound"
	"inktray.example/inktray/internal/store"
)

// officeDoor speaks with the office's own sign-in (OpenID Connect Core 1.0, with PKCE, RFC 7636).
type officeDoor struct {
	mutex    sync.Mutex
	provider *oidc.Provider // nil until it is needed
	issuer   string
}

// going is a browser that was led to the office's sign-in. It carries this itself, sealed.
type going struct {
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	Back     string    `json:"back"`
	Until    time.Time `json:"until"`
}

// toOffice is the purpose for which that is sealed.
const toOffice = "sign in with the office"

// goFor is how long the way to the office's sign-in and back may take.
const goFor = 10 * time.Minute

// back takes up a browser that comes back with a state.
func (s *Server) back(sealed, state string, now time.Time) (g going, ok bool) {
	if !s.sealer.open(toOffice, sealed, &g) {
		return g, false
	}
	return g, subtle.ConstantTimeCompare([]byte(g.State), []byte(state)) == 1 && state != "" && now.Before(g.Until)
}

// forget lets the office's sign-in be asked again about itself.
func (o *officeDoor) forget() {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.provider = nil
}

// of finds out about the office's sign-in, once.
func (o *officeDoor) of(ctx context.Context, issuer string) (*oidc.Provider, error) {
	o.mutex.Lock()
	known := o.provider
	if o.issuer != issuer {
		known = nil
	}
	o.mutex.Unlock()
	if known != nil {
		return known, nil
	}
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), officeClient), issuer)
	if err != nil {
		return nil, err
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.provider, o.issuer = found, issuer
	return found, nil
}

// officeClient asks the office's sign-in.
var officeClient = &http.Client{Timeout: 15 * time.Second}

// officeOf reads what somebody wants the office's sign-in to be, and tries it out.
func (s *doorHandlers) officeOf(ctx context.Context, in *OfficeSettings, now *store.OfficeDoor,
	kept string) (out store.OfficeDoor, err error) {
	out = store.OfficeDoor{Issuer: strings.TrimSpace(in.Issuer), Client: strings.TrimSpace(in.Client), Name: text(in.Name),
		Claim: text(in.Claim), Roles: map[string]store.Role{}, Make: in.MakePeople != nil && *in.MakePeople,
		Only: in.Only != nil && *in.Only}
	if out.Issuer == "" {
		return store.OfficeDoor{}, nil
	}
	u, err := url.Parse(out.Issuer)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !inbound.Loopback(u.Hostname())) {
		return out, atField("office.issuer", "give the address of the office's sign-in, which begins with https://")
	}
	if out.Client == "" {
		return out, atField("office.client", "give the client id of this service there")
	}
	if out.Name == "" {
		out.Name = "the office"
	}
	if out.Claim == "" {
		out.Claim = "roles"
	}
	if in.Roles != nil {
		for value, role := range *in.Roles {
			out.Roles[value] = store.Role(role)
		}
	}
	if kept != "" && in.Secret == nil && now.Issuer != out.Issuer {
		return out, atField("office.secret", "the secret was given for another sign-in; give the one for this")
	}
	s.office.forget()
	if _, err := s.office.of(ctx, out.Issuer); err != nil {
		return out, atField("office.issuer", "no sign-in answers there: "+err.Error())
	}
	return out, nil
}

// returnAddress is where the office's sign-in leads browsers back to.
func (s *doorHandlers) returnAddress(ctx context.Context) string {
	if len(s.Reached) > 0 {
		return s.Reached[0].String() + "/api/v1/office-door/back"
	}
	return decisionOf(ctx).origin() + "/api/v1/office-door/back"
}

// GetOfficeDoor says whether people sign in at the office's own sign-in.
func (s *doorHandlers) GetOfficeDoor(ctx context.Context, _ GetOfficeDoorRequestObject) (GetOfficeDoorResponseObject,
	error) {
	r, _, err := s.Store.Settings.SignInRules(ctx)
	if err != nil {
		return nil, err
	}
	out := GetOfficeDoor200JSONResponse{Open: r.Office.Issuer != ""}
	if out.Open {
		out.Name, out.Only = &r.Office.Name, &r.Office.Only
	}
	out.Passkeys, err = s.Store.Passkeys.Any(ctx, passkeyHost(decisionOf(ctx)))
	return out, err
}

// client is this service at the office's sign-in.
func (s *doorHandlers) client(ctx context.Context, back string) (r store.SignInRules, p *oidc.Provider,
	c oauth2.Config, err error) {
	r, secret, err := s.Store.Settings.SignInRules(ctx)
	if err != nil {
		return r, nil, c, err
	}
	if r.Office.Issuer == "" {
		return r, nil, c, notIn(officeClosed, "there is no sign-in of the office")
	}
	if p, err = s.office.of(ctx, r.Office.Issuer); err != nil {
		s.Log.Warn("the office's sign-in does not answer", "issuer", r.Office.Issuer, "error", err)
		return r, nil, c, notIn(officeSilent, "the office's sign-in does not answer")
	}
	return r, p, oauth2.Config{ClientID: r.Office.Client, ClientSecret: secret, Endpoint: p.Endpoint(), RedirectURL: back,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}, nil
}

// Why somebody does not come in by the office's sign-in. The console has a sentence for each: what stands in an address
// is not shown, since anybody can write it there.
const (
	officeClosed     = "closed"
	officeSilent     = "silent"
	officeLate       = "late"
	officeRefused    = "refused"
	officeUnbelieved = "unbelieved"
	officeUninvited  = "uninvited"
	officeLocked     = "locked"
)

func notIn(kind, text string) *problem { return &problem{status: 403, kind: kind, text: text} }

// ledBack is where a browser goes that did not come in.
func ledBack(p *problem) string { return "/#office=" + p.kind }

// stateCookie is the cookie by which a browser that comes back is known to be the one that went.
func stateCookie(secure bool) string { return cookieName(secure) + "_office" }

// GoToOffice leads a browser to the office's sign-in.
func (s *doorHandlers) GoToOffice(ctx context.Context, _ GoToOfficeRequestObject) (GoToOfficeResponseObject, error) {
	d := decisionOf(ctx)
	back := s.returnAddress(ctx)
	_, _, client, err := s.client(ctx, back)
	var not *problem
	if errors.As(err, &not) { // a browser shows a page, and no JSON
		to := ledBack(not)
		return GoToOffice302Response{Headers: GoToOffice302ResponseHeaders{Location: &to}}, nil
	}
	if err != nil {
		return nil, err
	}
	g := going{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), Back: back,
		Until: s.Clock().Add(goFor)}
	sealed, err := s.sealer.seal(toOffice, &g)
	if err != nil {
		return nil, err
	}
	to := client.AuthCodeURL(g.State, oidc.Nonce(g.Nonce), oauth2.S256ChallengeOption(g.Verifier))
	// Lax: it has to come along when the office's sign-in leads the browser back.
	cookie := strings.Replace(setCookie(stateCookie(d.secure), sealed, goFor, d.secure), "SameSite=Strict", "SameSite=Lax",
		1)
	return GoToOffice302Response{Headers: GoToOffice302ResponseHeaders{Location: &to, SetCookie: &cookie}}, nil
}

// claims are what the office's sign-in says of somebody.
type claims struct {
	Subject  string `json:"sub"`
	Nonce    string `json:"nonce"`
	Name     string `json:"name"`
	User     string `json:"preferred_username"`
	Mail     string `json:"email"`
	Verified bool   `json:"email_verified"`
}

// BackFromOffice lets somebody in whom the office's sign-in has let in.
func (s *doorHandlers) BackFromOffice(ctx context.Context, r BackFromOfficeRequestObject) (BackFromOfficeResponseObject,
	error) {
	d := decisionOf(ctx)
	end := setCookie(stateCookie(d.secure), "", 0, d.secure)
	d.cookies = append(d.cookies, end)
	cookie, err := s.comeIn(ctx, &r.Params)
	to := "/"
	var said *problem
	if errors.As(err, &said) {
		s.Log.Info("nobody came in by the office's sign-in", "reason", said.text, "place", d.from)
		s.noteFailure(ctx, "the office's sign-in")
		to = ledBack(said)
		err = nil
	}
	out := BackFromOffice302Response{Headers: BackFromOffice302ResponseHeaders{Location: &to}}
	if cookie != "" {
		out.Headers.SetCookie = &cookie
	}
	return out, err
}

// comeIn makes a session for whom the office's sign-in names.
func (s *doorHandlers) comeIn(ctx context.Context, r *BackFromOfficeParams) (cookie string, err error) {
	d := decisionOf(ctx)
	g, ok := s.back(d.state, text(r.State), s.Clock())
	if !ok {
		return "", notIn(officeLate, "the way there and back took too long, or began in another browser")
	}
	if text(r.Error) != "" {
		return "", notIn(officeRefused, "the office's sign-in says "+text(r.Error)+" "+text(r.ErrorDescription))
	}
	rules, provider, client, err := s.client(ctx, g.Back)
	if err != nil {
		return "", err
	}
	ctx = oidc.ClientContext(ctx, officeClient)
	token, err := client.Exchange(ctx, text(r.Code), oauth2.VerifierOption(g.Verifier))
	if err != nil {
		s.Log.Warn("the office's sign-in gives no token", "error", err)
		return "", notIn(officeUnbelieved, "the office's sign-in gave no token")
	}
	raw, _ := token.Extra("id_token").(string)
	verifier := provider.Verifier(&oidc.Config{ClientID: rules.Office.Client, Now: s.Clock})
	id, err := verifier.Verify(ctx, raw)
	if err != nil {
		s.Log.Warn("the office's sign-in says something that cannot be believed", "error", err)
		return "", notIn(officeUnbelieved, "what the office's sign-in says cannot be believed")
	}
	var c claims
	if err := id.Claims(&c); err != nil || c.Nonce != g.Nonce {
		return "", notIn(officeUnbelieved, "the answer belongs to another question")
	}
	role := roleOf(id, &rules.Office)
	p, err := s.cameFromOffice(ctx, rules.Office.Issuer, &c, role, &rules.Office)
	if err != nil {
		return "", err
	}
	_, cookie, err = s.signInHandlers.session(ctx, p, store.ByOffice)
	return cookie, err
}

// roleOf is the role that a claim gives, the one that may most; "" for none.
func roleOf(id *oidc.IDToken, o *store.OfficeDoor) (role store.Role) {
	var all map[string]json.RawMessage
	if err := id.Claims(&all); err != nil {
		return ""
	}
	var values []string
	if json.Unmarshal(all[o.Claim], &values) != nil {
		var one string
		if json.Unmarshal(all[o.Claim], &one) == nil {
			values = []string{one}
		}
	}
	for value, of := range o.Roles {
		if slices.Contains(values, value) && (role == "" || of.May(role)) {
			role = of
		}
	}
	return role
}

// cameFromOffice finds or makes the person whom the office's sign-in names.
func (s *doorHandlers) cameFromOffice(ctx context.Context, issuer string, c *claims, role store.Role,
	o *store.OfficeDoor) (p store.Person, err error) {
	mail := ""
	if c.Verified {
		mail = c.Mail
	}
	p, err = s.Store.People.BySubject(ctx, issuer+" "+c.Subject, mail)
	switch {
	case errors.Is(err, store.ErrNotFound) && o.Make && role != "":
		name := strings.TrimSpace(c.Name)
		for _, other := range []string{c.User, c.Mail, c.Subject} {
			if name == "" {
				name = other
			}
		}
		p = store.Person{ID: store.NewID(), Name: shortened(name, 100), Mail: mail, Role: role, MadeAt: s.Clock().UTC(),
			Subject: issuer + " " + c.Subject}
		err = s.Store.People.AddFromOffice(ctx, &p)
		if errors.Is(err, store.ErrTaken) { // somebody else has that name
			p.Name = shortened(name, 60) + " (" + shortened(c.Subject, 30) + ")"
			err = s.Store.People.AddFromOffice(ctx, &p)
		}
		return p, err
	case errors.Is(err, store.ErrNotFound):
		return p, notIn(officeUninvited, "nobody is known here with this address")
	case err != nil:
		return p, err
	case p.LockedAt != nil:
		return p, notIn(officeLocked, p.Name+" is locked")
	case role != "" && role != p.Role:
		if err := s.Store.People.SetRole(ctx, &p, role); err != nil && !errors.Is(err, store.ErrLastAdministrator) {
			return p, err
		}
	}
	return p, nil
}
