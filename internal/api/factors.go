package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// period is how long a code of an authenticator app is good, in seconds (RFC 6238, section 4.1).
const period = 30

// recoveryCodes is how many recovery codes, for when the app or passkey is lost, somebody gets.
const recoveryCodes = 10

// enrolling are secrets that an app was given and that no code has proved yet.
type enrolling struct {
	mutex   sync.Mutex
	secrets map[string]enrolment // by person
}

type enrolment struct {
	secret string
	until  time.Time
}

// enrolFor is how long somebody has to give the first code.
const enrolFor = 15 * time.Minute

func (e *enrolling) begin(person, secret string, now time.Time) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if e.secrets == nil {
		e.secrets = map[string]enrolment{}
	}
	for id, one := range e.secrets {
		if now.After(one.until) {
			delete(e.secrets, id)
		}
	}
	e.secrets[person] = enrolment{secret, now.Add(enrolFor)}
}

func (e *enrolling) of(person string, now time.Time) string {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if one := e.secrets[person]; now.Before(one.until) {
		return one.secret
	}
	return ""
}

func (e *enrolling) end(person string) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	delete(e.secrets, person)
}

// stepOf is the time step of a code: the present one, the one before or the one after, since clocks differ (RFC 6238,
// section 5.2); 0 where it is none of them.
func stepOf(secret, code string, now time.Time) (step int64) {
	for _, by := range []time.Duration{-period * time.Second, 0, period * time.Second} {
		at := now.Add(by)
		want, err := totp.GenerateCodeCustom(secret, at, totp.ValidateOpts{Period: period, Digits: otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			step = at.Unix() / period
		}
	}
	return step
}

// plainCode is a code as it counts: people write blanks and dashes into it.
func plainCode(code string) string {
	return strings.ToLower(strings.NewReplacer(" ", "", "-", "", "\t", "").Replace(code))
}

// factorFits uses up a code of a person's second factor, and says whether it was one.
func (s *Server) factorFits(ctx context.Context, p *store.Person, code string) (bool, error) {
	code = plainCode(code)
	if len(code) == 6 && len(p.TOTP) > 0 {
		secret, err := s.Store.People.TOTPSecret(p)
		if err != nil {
			return false, err
		}
		step := stepOf(secret, code, s.Clock())
		if step == 0 {
			return false, nil
		}
		err = s.Store.People.UseStep(ctx, p.ID, step)
		if errors.Is(err, store.ErrTaken) {
			return false, nil
		}
		return err == nil, err
	}
	err := s.Store.People.UseCode(ctx, p.ID, code)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// factorNeeded asks for what a person has besides the password.
func factorNeeded(p *store.Person) *problem {
	if len(p.TOTP) > 0 {
		return errFactor
	}
	return errPasskey
}

var errPasskey = &problem{status: 401, kind: "passkey",
	text:   "you have a passkey: the password alone does not let you in",
	advice: "Sign in with the passkey, in a browser, or give one of your recovery codes."}

// errFactor asks for a code.
var errFactor = &problem{status: 401, kind: "second-factor", text: "a code of your authenticator app is needed",
	advice: "Give the six digits that it shows, or one of your recovery codes."}

var errWrongFactor = &problem{status: 401, kind: "second-factor", text: "the code is not right, or was used already",
	advice: "Wait for the next code of the app. Its clock, and that of the service, have to be right."}

// newCodes makes recovery codes, as they count and as people read them.
func newCodes() (codes, shown []string) {
	for range recoveryCodes {
		code := strings.ToLower(rand.Text())[:16]
		codes = append(codes, code)
		shown = append(shown, code[:4]+"-"+code[4:8]+"-"+code[8:12]+"-"+code[12:])
	}
	return codes, shown
}

// own proves that somebody knows her password; wrong ones count.
func (s *doorHandlers) own(ctx context.Context, password string) (store.Person, error) {
	p, err := s.Store.People.ByID(ctx, viewerOf(ctx).ID)
	if err != nil {
		return p, err
	}
	key := "own " + p.ID
	if wait := s.throttle.wait(key); wait > 0 {
		return p, tooMany(wait)
	}
	fits := false
	if err := s.hashing.do(ctx, func() { fits = passwordFits(p.Password, password) }); err != nil {
		return p, err
	}
	if !fits {
		s.throttle.failed(key, freeTries)
		return p, atField("password", "this is not your password")
	}
	return p, nil
}

// GetMyFactor describes one's second factor.
func (s *doorHandlers) GetMyFactor(ctx context.Context, _ GetMyFactorRequestObject) (GetMyFactorResponseObject,
	error) {
	p, err := s.Store.People.ByID(ctx, viewerOf(ctx).ID)
	if err != nil {
		return nil, err
	}
	f, err := s.Store.People.FactorOf(ctx, &p)
	if err != nil {
		return nil, err
	}
	rules, _, err := s.Store.Settings.SignInRules(ctx)
	out := GetMyFactor200JSONResponse{SetUp: p.HasFactor(), Since: f.Since, Asked: rules.Asks(p.Role), Codes: f.Codes,
		Passkeys: []Passkey{}}
	for _, k := range f.Passkeys {
		out.Passkeys = append(out.Passkeys, passkeyAs(&k))
	}
	return out, err
}

// BeginFactor gives a secret for an authenticator app.
func (s *doorHandlers) BeginFactor(ctx context.Context, r BeginFactorRequestObject) (BeginFactorResponseObject,
	error) {
	p, err := s.own(ctx, r.Body.Password)
	if err != nil {
		return nil, err
	}
	issuer := "Ink Tray"
	if len(s.Reached) > 0 {
		issuer = "Ink Tray at " + hostname(s.Reached[0].Host)
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: p.Name, Period: period, SecretSize: 20})
	if err != nil {
		return nil, err
	}
	picture, err := key.Image(240, 240)
	if err != nil {
		return nil, err
	}
	var drawn bytes.Buffer
	if err := png.Encode(&drawn, picture); err != nil {
		return nil, err
	}
	s.enrolling.begin(p.ID, key.Secret(), s.Clock())
	return BeginFactor200JSONResponse{Secret: key.Secret(), Address: key.URL(),
		Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(drawn.Bytes())}, nil
}

// ConfirmFactor keeps the secret once a code has proved that the app has it.
func (s *doorHandlers) ConfirmFactor(ctx context.Context, r ConfirmFactorRequestObject) (ConfirmFactorResponseObject,
	error) {
	v := viewerOf(ctx)
	key := "own " + v.ID
	if wait := s.throttle.wait(key); wait > 0 {
		return nil, tooMany(wait)
	}
	secret := s.enrolling.of(v.ID, s.Clock())
	if secret == "" {
		return nil, &problem{status: 409, kind: "not-begun", text: "no second factor is being set up, or it took too long",
			advice: "Begin again."}
	}
	step := stepOf(secret, plainCode(r.Body.Code), s.Clock())
	if step == 0 {
		s.throttle.failed(key, freeTries)
		return nil, atField("code", "this is not the code that the app shows now; its clock, and that of the service, have "+
			"to be right")
	}
	_, k, err := s.Store.People.ViewerOf(ctx, decisionOf(ctx).secret, s.Clock())
	if err != nil {
		return nil, err
	}
	codes, shown := newCodes()
	if err := s.Store.People.SetTOTP(ctx, v.ID, secret, codes, step, k.ID, s.Clock()); err != nil {
		return nil, err
	}
	s.enrolling.end(v.ID)
	return ConfirmFactor200JSONResponse{Codes: shown}, nil
}

// RemoveMyFactor takes one's own second factor away.
func (s *doorHandlers) RemoveMyFactor(ctx context.Context, r RemoveMyFactorRequestObject) (RemoveMyFactorResponseObject,
	error) {
	p, err := s.own(ctx, r.Body.Password)
	if err != nil {
		return nil, err
	}
	return RemoveMyFactor204Response{}, askedFor(s.Store.People.RemoveTOTP(ctx, p.ID))
}

// MakeRecoveryCodes makes new recovery codes.
func (s *doorHandlers) MakeRecoveryCodes(ctx context.Context,
	r MakeRecoveryCodesRequestObject) (MakeRecoveryCodesResponseObject, error) {
	p, err := s.own(ctx, r.Body.Password)
	if err != nil {
		return nil, err
	}
	if !p.HasFactor() {
		return nil, &problem{status: 409, kind: "no-factor", text: "you have no second factor", advice: "Set one up first."}
	}
	codes, shown := newCodes()
	return MakeRecoveryCodes200JSONResponse{Codes: shown}, s.Store.People.SetCodes(ctx, p.ID, codes)
}

// RemoveFactor takes a person's second factor away.
func (s *doorHandlers) RemoveFactor(ctx context.Context, r RemoveFactorRequestObject) (RemoveFactorResponseObject,
	error) {
	err := s.Store.People.RemoveFactor(ctx, r.ID, viewerOf(ctx).Name)
	s.Engine.Changed(events.Sessions)
	return RemoveFactor204Response{}, err
}

// GetSignIn says how people sign in.
func (s *doorHandlers) GetSignIn(ctx context.Context, _ GetSignInRequestObject) (GetSignInResponseObject, error) {
	out, err := s.signInRules(ctx)
	return GetSignIn200JSONResponse(out), err
}

func (s *doorHandlers) signInRules(ctx context.Context) (out SignInRules, err error) {
	r, _, err := s.Store.Settings.SignInRules(ctx)
	if err != nil {
		return out, err
	}
	out.SecondFactor = SignInRulesSecondFactor(r.SecondFactor)
	if r.SecondFactor == "" {
		out.SecondFactor = SignInRulesSecondFactor(store.FactorOfNobody)
	}
	if o := r.Office; o.Issuer != "" {
		roles := map[string]Role{}
		for value, role := range o.Roles {
			roles[value] = Role(role)
		}
		out.Office = &OfficeSettings{Issuer: o.Issuer, Client: o.Client, Name: &o.Name, Claim: &o.Claim, Roles: &roles,
			MakePeople: &o.Make, Only: &o.Only}
		out.SecretKept = len(o.Sealed) > 0
	}
	out.ReturnAddress = s.returnAddress(ctx)
	out.Revision, err = s.Store.Settings.RevisionOf(ctx, store.SignInSetting)
	return out, err
}

// SetSignIn sets how people sign in.
func (s *doorHandlers) SetSignIn(ctx context.Context, r SetSignInRequestObject) (SetSignInResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	now, kept, err := s.Store.Settings.SignInRules(ctx)
	if err != nil {
		return nil, err
	}
	rules := store.SignInRules{SecondFactor: string(r.Body.SecondFactor), Office: now.Office}
	me, err := s.Store.People.ByID(ctx, viewerOf(ctx).ID)
	if err != nil {
		return nil, err
	}
	if rules.Asks(me.Role) && !me.HasFactor() && me.Subject == "" {
		return nil, &problem{status: 409, kind: "no-factor",
			text:   "you have no second factor yourself, and could not sign in",
			advice: "Set up your own first: in the console under your name, or with inktray second-factor set-up."}
	}
	var secret *string
	if o := r.Body.Office; o != nil {
		secret = o.Secret
		if rules.Office, err = s.officeOf(ctx, o, &now.Office, kept); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Settings.SetSignInRules(ctx, rules, secret, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.office.forget()
	s.Engine.Changed(events.Sessions)
	out, err := s.signInRules(ctx)
	return SetSignIn200JSONResponse(out), err
}

// mustEnrol says whether somebody has first to set up a second factor.
func (s *Server) mustEnrol(ctx context.Context, p *store.Person) (bool, error) {
	rules, _, err := s.Store.Settings.SignInRules(ctx)
	return err == nil && rules.Asks(p.Role) && !p.HasFactor(), err
}

// byPassword says why somebody may not sign in by password; nil where she may.
func (s *Server) byPassword(ctx context.Context, p *store.Person) error {
	rules, _, err := s.Store.Settings.SignInRules(ctx)
	if err == nil && rules.Office.Issuer != "" && rules.Office.Only && p.Role != store.Administrator {
		return &problem{status: 403, kind: "office-only", text: fmt.Sprintf("here you sign in with %s", rules.Office.Name),
			advice: "Only administrators sign in in another way."}
	}
	return err
}
