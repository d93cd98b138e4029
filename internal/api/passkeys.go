package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

const (
	passkeyFor   = 5 * time.Minute // how long a device may take to answer
	mostPasskeys = 20              // of one person
)

// challenge is a question to a device, which the browser carries, sealed.
type challenge struct {
	Session webauthn.SessionData `json:"session"`
	Person  string               `json:"person"` // who adds the passkey; "" for somebody who signs in
	Until   time.Time            `json:"until"`
}

// The purposes for which challenges are sealed.
const (
	toAddPasskey = "add a passkey"
	toSignIn     = "sign in by passkey"
)

// answered are challenges that let somebody in: each is good once.
type answered struct {
	mutex sync.Mutex
	until map[string]time.Time
}

// first notes a challenge; false where it was noted before.
func (a *answered) first(challenge string, until, now time.Time) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.until == nil {
		a.until = map[string]time.Time{}
	}
	for c, end := range a.until {
		if now.After(end) {
			delete(a.until, c)
		}
	}
	if _, known := a.until[challenge]; known {
		return false
	}
	a.until[challenge] = until
	return true
}

// holder is a person as the library wants her.
type holder struct {
	person *store.Person
	keys   []webauthn.Credential
}

func (h *holder) WebAuthnID() []byte                         { return []byte(h.person.ID) }
func (h *holder) WebAuthnName() string                       { return h.person.Name }
func (h *holder) WebAuthnDisplayName() string                { return h.person.Name }
func (h *holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

// holderOf reads the passkeys that a person has for a host.
func (s *Server) holderOf(ctx context.Context, p *store.Person, host string) (h *holder, all []store.Passkey,
	err error) {
	if all, err = s.Store.Passkeys.Of(ctx, p.ID); err != nil {
		return nil, nil, err
	}
	h = &holder{person: p}
	for _, k := range all {
		if k.Host != host {
			continue
		}
		var c webauthn.Credential
		if err := json.Unmarshal(k.Data, &c); err != nil {
			return nil, nil, err
		}
		h.keys = append(h.keys, c)
	}
	return h, all, nil
}

// passkeyHost is the name by which a browser reaches the service, for which devices keep passkeys; "" for a number,
// which has none.
func passkeyHost(d *decision) string {
	host := hostname(d.host)
	if net.ParseIP(host) != nil {
		return ""
	}
	return host
}

// passkeys speaks with browsers about their devices' passkeys.
func (s *doorHandlers) passkeys(ctx context.Context) (w *webauthn.WebAuthn, host string, err error) {
	d := decisionOf(ctx)
	if host = passkeyHost(d); host == "" {
		return nil, "", &problem{status: 409, kind: "no-name",
			text: "passkeys work only where the service is opened by a name, and not by an address in numbers",
			advice: "Open it by its name: on this machine as http://localhost with the same port, elsewhere as https:// with " +
				"the name that an administrator gave in --address."}
	}
	w, err = webauthn.New(&webauthn.Config{RPID: host, RPDisplayName: "Ink Tray", RPOrigins: []string{d.origin()},
		AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
			UserVerification: protocol.VerificationRequired}})
	return w, host, err
}

// asJSON is something as JSON that has no form in openapi.yaml: the browser's own.
func asJSON(from any) (out map[string]any, err error) {
	data, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	return out, err
}

var errManyPasskeys = &problem{status: 409, kind: "too-many",
	text:   fmt.Sprintf("you have %d passkeys, and more are not kept", mostPasskeys),
	advice: "Remove one that you no longer use."}

var errLateChallenge = &problem{status: 409, kind: "not-begun",
	text: "the device took too long to answer, or its answer belongs to another attempt", advice: "Begin again."}

// passkeyFault is what somebody is told of a device's answer that cannot be believed. The log says more.
func (s *Server) passkeyFault(ctx context.Context, err error, told *problem) *problem {
	var said *protocol.Error
	detail := ""
	if errors.As(err, &said) {
		detail = strings.TrimSpace(said.Details + " " + said.DevInfo)
	}
	s.Log.Info("a passkey's answer is not believed", "place", decisionOf(ctx).from, "error", err, "detail", detail)
	return told
}

var errUnbelieved = &problem{status: 422, kind: "invalid", text: "the answer of the device could not be verified",
	advice: "Begin again. If it fails again, the service's log says why: often a web server in front changes the " +
		"host's name."}

var errNobodys = &problem{status: 401, kind: "wrong-passkey", text: "this passkey does not let you in",
	advice: "Sign in by password, or ask an administrator."}

// BeginPasskey asks a device for a passkey.
func (s *doorHandlers) BeginPasskey(ctx context.Context, r BeginPasskeyRequestObject) (BeginPasskeyResponseObject,
	error) {
	w, host, err := s.passkeys(ctx)
	if err != nil {
		return nil, err
	}
	p, err := s.own(ctx, r.Body.Password)
	if err != nil {
		return nil, err
	}
	h, all, err := s.holderOf(ctx, &p, host)
	if err != nil {
		return nil, err
	}
	if len(all) >= mostPasskeys {
		return nil, errManyPasskeys
	}
	options, session, err := w.BeginRegistration(h,
		webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()))
	if err != nil {
		return nil, err
	}
	out := BeginPasskey200JSONResponse{}
	if out.Options, err = asJSON(options.Response); err != nil {
		return nil, err
	}
	out.Ticket, err = s.sealer.seal(toAddPasskey, challenge{*session, p.ID, s.Clock().Add(passkeyFor)})
	return out, err
}

// AddPasskey keeps the passkey that a device made.
func (s *doorHandlers) AddPasskey(ctx context.Context, r AddPasskeyRequestObject) (AddPasskeyResponseObject, error) {
	w, host, err := s.passkeys(ctx)
	if err != nil {
		return nil, err
	}
	v := viewerOf(ctx)
	name := strings.TrimSpace(r.Body.Name)
	if name == "" {
		return nil, atField("name", "say what the device is called, such as “phone”")
	}
	var asked challenge
	if !s.sealer.open(toAddPasskey, r.Body.Ticket, &asked) || asked.Person != v.ID || !s.Clock().Before(asked.Until) {
		return nil, errLateChallenge
	}
	p, err := s.Store.People.ByID(ctx, v.ID)
	if err != nil {
		return nil, err
	}
	h, all, err := s.holderOf(ctx, &p, host)
	if err != nil {
		return nil, err
	}
	if len(all) >= mostPasskeys {
		return nil, errManyPasskeys
	}
	data, err := json.Marshal(r.Body.Credential)
	if err != nil {
		return nil, err
	}
	answer, err := protocol.ParseCredentialCreationResponseBytes(data)
	if err != nil {
		return nil, s.passkeyFault(ctx, err, errUnbelieved)
	}
	asked.Session.Expires = time.Time{} // it was looked at above, by the service's clock
	made, err := w.CreateCredential(h, asked.Session, answer)
	if err != nil {
		return nil, s.passkeyFault(ctx, err, errUnbelieved)
	}
	made.Attestation = webauthn.CredentialAttestation{} // nobody asks who made the device
	if data, err = json.Marshal(made); err != nil {
		return nil, err
	}
	_, k, err := s.Store.People.ViewerOf(ctx, decisionOf(ctx).secret, s.Clock())
	if err != nil {
		return nil, err
	}
	codes, shown := newCodes()
	kept := store.Passkey{ID: store.NewID(), PersonID: p.ID, Name: name, Host: host, Credential: made.ID, Data: data,
		MadeAt: s.Clock().UTC()}
	anew, err := s.Store.Passkeys.Add(ctx, &kept, codes, k.ID)
	if errors.Is(err, store.ErrTaken) {
		return nil, &problem{status: 409, kind: "taken", text: "this passkey is known already"}
	}
	if err != nil {
		return nil, err
	}
	s.Engine.Changed(events.Sessions)
	out := AddPasskey201JSONResponse{Passkey: passkeyAs(&kept), Codes: []string{}}
	if anew {
		out.Codes = shown
	}
	return out, nil
}

func passkeyAs(k *store.Passkey) Passkey {
	return Passkey{ID: k.ID, Name: k.Name, Host: k.Host, MadeAt: k.MadeAt, UsedAt: k.UsedAt}
}

// RemovePasskey takes one of one's own passkeys away.
func (s *doorHandlers) RemovePasskey(ctx context.Context, r RemovePasskeyRequestObject) (RemovePasskeyResponseObject,
	error) {
	p, err := s.own(ctx, r.Body.Password)
	if err != nil {
		return nil, err
	}
	_, k, err := s.Store.People.ViewerOf(ctx, decisionOf(ctx).secret, s.Clock())
	if err != nil {
		return nil, err
	}
	err = s.Store.Passkeys.Remove(ctx, p.ID, r.ID, k.ID)
	s.Engine.Changed(events.Sessions)
	return RemovePasskey204Response{}, askedFor(err)
}

// askedFor says it where the last second factor is asked for.
func askedFor(err error) error {
	if !errors.Is(err, store.ErrLastFactor) {
		return err
	}
	return &problem{status: 409, kind: "asked-for",
		text:   "you need a second factor here, and this is your only one",
		advice: "An administrator decides who needs a second factor. To use another one, set that up first."}
}

// BeginPasskeySignIn asks whatever device is at hand for its passkey.
func (s *doorHandlers) BeginPasskeySignIn(ctx context.Context,
	_ BeginPasskeySignInRequestObject) (BeginPasskeySignInResponseObject, error) {
	w, _, err := s.passkeys(ctx)
	if err != nil {
		return nil, err
	}
	options, session, err := w.BeginDiscoverableLogin()
	if err != nil {
		return nil, err
	}
	out := BeginPasskeySignIn200JSONResponse{}
	if out.Options, err = asJSON(options.Response); err != nil {
		return nil, err
	}
	out.Ticket, err = s.sealer.seal(toSignIn, challenge{Session: *session, Until: s.Clock().Add(passkeyFor)})
	return out, err
}

// SignInByPasskey lets in whose device answered. The device has asked for a finger, a face or a PIN, so
// that no other second factor is asked for.
func (s *doorHandlers) SignInByPasskey(ctx context.Context,
	r SignInByPasskeyRequestObject) (SignInByPasskeyResponseObject, error) {
	w, host, err := s.passkeys(ctx)
	if err != nil {
		return nil, err
	}
	place := "passkey " + decisionOf(ctx).from
	if wait := s.throttle.wait(place); wait > 0 {
		return nil, tooMany(wait)
	}
	var asked challenge
	if !s.sealer.open(toSignIn, r.Body.Ticket, &asked) || !s.Clock().Before(asked.Until) {
		return nil, errLateChallenge
	}
	data, err := json.Marshal(r.Body.Credential)
	if err != nil {
		return nil, err
	}
	answer, err := protocol.ParseCredentialRequestResponseBytes(data)
	if err != nil {
		return nil, s.passkeyFault(ctx, err, errUnbelieved)
	}
	asked.Session.Expires = time.Time{}
	var failed error // of the records, which is nobody's fault
	find := func(_, handle []byte) (webauthn.User, error) {
		p, err := s.Store.People.ByID(ctx, string(handle))
		if err == nil && p.LockedAt != nil {
			err = store.ErrNotFound
		}
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				failed = err
			}
			return nil, err
		}
		h, _, err := s.holderOf(ctx, &p, host)
		failed = err
		return h, err
	}
	user, used, err := w.ValidatePasskeyLogin(find, asked.Session, answer)
	if failed != nil {
		return nil, failed
	}
	if err != nil {
		s.throttle.failed(place, freeTriesFrom)
		s.noteFailure(ctx, "a passkey")
		return nil, s.passkeyFault(ctx, err, errNobodys)
	}
	if !s.spent.first(asked.Session.Challenge, asked.Until, s.Clock()) {
		return nil, errLateChallenge
	}
	p := user.(*holder).person
	if used.Authenticator.CloneWarning {
		s.Log.Warn("a passkey may have been copied: it was used less often than it was before", "person", p.Name,
			"place", decisionOf(ctx).from)
		s.noteFailure(ctx, p.Name)
		return nil, &problem{status: 401, kind: "copied-passkey", text: "this passkey may have been copied to another device",
			advice: "Sign in by password and a recovery code, remove the passkey, and add it again."}
	}
	if err := s.byPassword(ctx, p); err != nil {
		return nil, err
	}
	me, cookie, err := s.cameByPasskey(ctx, p, used)
	return SignInByPasskey200JSONResponse{Body: me, Headers: SignInByPasskey200ResponseHeaders{SetCookie: &cookie}}, err
}

// cameByPasskey makes a session for whom a passkey let in.
func (s *doorHandlers) cameByPasskey(ctx context.Context, p *store.Person, used *webauthn.Credential) (me Me,
	cookie string, err error) {
	data, err := json.Marshal(used)
	if err != nil {
		return me, "", err
	}
	err = s.Store.Passkeys.Use(ctx, used.ID, data, s.Clock())
	if errors.Is(err, store.ErrNotFound) { // removed in the meantime
		return me, "", errNobodys
	}
	if err != nil {
		return me, "", err
	}
	return s.signInHandlers.session(ctx, *p, store.ByPasskey)
}
