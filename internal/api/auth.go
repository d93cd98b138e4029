package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/crypto/argon2"

	"inktray.example/inktray/internal/core/password"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

const (
	sessionLife = 14 * 24 * time.Hour
	setupKey    = "setup"
)

// Argon2id as RFC 9106 and OWASP have it for small machines: 19 MiB, two passes.
const (
	argonMemory = 19 * 1024
	argonTime   = 2
)

// HashPassword makes a PHC string of a password.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, 32)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, passes uint32
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, 1, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// nobody is compared with when the name is not known, so that it takes as long.
var nobody = sync.OnceValue(func() string { return HashPassword(rand.Text()) })

// viewer finds who asks, by token or by cookie. Nobody is the zero Viewer.
func (s *signInHandlers) viewer(c fiber.Ctx, secure bool) (v store.Viewer, k store.Key, secret string, fromCookie bool,
	err error) {
	secret, isToken := shown(c.Get("Authorization"), c.Cookies(cookieName(secure)))
	if secret == "" {
		return v, k, "", false, nil
	}
	v, k, err = s.Store.People.ViewerOf(c.Context(), secret, s.Clock())
	if errors.Is(err, store.ErrNotFound) {
		if isToken {
			return v, k, "", false,
				&problem{status: 401, kind: "sign-in", text: "the token is not known or has expired", advice: "Sign in again."}
		}
		return store.Viewer{}, k, "", false, nil
	}
	return v, k, secret, !isToken, err
}

// cookieName is the name of a session's cookie. Over TLS browsers take one of the name __Host- only from this very
// host and only over TLS (RFC 6265bis, section 4.1.3.2).
func cookieName(secure bool) string {
	if secure {
		return "__Host-inktray_session"
	}
	return "inktray_session"
}

// browserName is the name of the cookie by which a browser is known again.
func browserName(secure bool) string { return cookieName(secure) + "_known" }

// shown is what a request shows to say who asks: a token, or else the cookie of a
// session.
func shown(authorization, cookie string) (secret string, isToken bool) {
	if secret, isToken = strings.CutPrefix(authorization, "Bearer "); isToken {
		return secret, true
	}
	return cookie, false
}

// SetupCode makes the code with which the first administrator is made, or ""
// where there is one already.
func SetupCode(ctx context.Context, s *store.Store) (string, error) {
	people, err := s.People.All(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	code := strings.ToLower(rand.Text())
	return code, s.Settings.Set(ctx, setupKey, base64.RawStdEncoding.EncodeToString(store.HashKey(code)))
}

// GetSetup says whether there is nobody yet.
func (s *signInHandlers) GetSetup(ctx context.Context, _ GetSetupRequestObject) (GetSetupResponseObject, error) {
	people, err := s.Store.People.All(ctx)
	return GetSetup200JSONResponse{Needed: len(people) == 0}, err
}

// PostSetup makes the first administrator. The link works once, also where several use it at the same time.
func (s *signInHandlers) PostSetup(ctx context.Context, r PostSetupRequestObject) (PostSetupResponseObject, error) {
	key := "setup " + decisionOf(ctx).from
	if wait := s.throttle.wait(key); wait > 0 {
		return nil, tooMany(wait)
	}
	people, err := s.Store.People.All(ctx)
	if err != nil {
		return nil, err
	}
	if len(people) > 0 {
		return nil, errSetUp
	}
	want, err := s.Store.Settings.Get(ctx, setupKey)
	if err != nil {
		return nil, err
	}
	if subtle.ConstantTimeCompare([]byte(want),
		[]byte(base64.RawStdEncoding.EncodeToString(store.HashKey(r.Body.Code)))) != 1 || want == "" {
		s.throttle.failed(key, freeTries)
		return nil, &problem{status: 403, kind: "set-up-link", text: "the set-up link is not the one that was printed last",
			advice: "Start Ink Tray again and use the link that it prints."}
	}
	name := strings.TrimSpace(r.Body.Name)
	if name == "" {
		return nil, atField("name", "a name is missing")
	}
	if fault := password.Fault(r.Body.Password, name); fault != "" {
		p := atField("password", fault)
		p.advice = "Take several words that do not belong together."
		return nil, p
	}
	var hash string
	if err := s.hashing.do(ctx, func() { hash = HashPassword(r.Body.Password) }); err != nil {
		return nil, err
	}
	p := store.Person{ID: store.NewID(), Name: name, Password: hash, Role: store.Administrator, MadeAt: s.Clock().UTC()}
	if err := s.Store.People.AddFirst(ctx, p, setupKey, want); errors.Is(err, store.ErrTaken) {
		return nil, errSetUp
	} else if err != nil {
		return nil, err
	}
	me, cookie, err := s.session(ctx, p, byBrowser)
	return PostSetup200JSONResponse{Body: me,
		Headers: PostSetup200ResponseHeaders{SetCookie: &cookie}}, err
}

var errSetUp = &problem{status: 409, kind: "set-up", text: "Ink Tray is set up already", advice: "Sign in."}

// atField says what is wrong with one field.
func atField(place, text string) *problem {
	return &problem{status: 422, kind: "invalid", text: place + ": " + text,
		fields: []FieldProblem{{Place: place, Text: text}}}
}

// SignIn lets somebody in by name and password.
//
// Wrong tries count for where they came from, and more generously for the name. A browser in which the person
// has signed in before counts for itself: anyone who guesses elsewhere cannot keep her out.
func (s *signInHandlers) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	d := decisionOf(ctx)
	p, err := s.Store.People.Named(ctx, r.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	name := strings.ToLower(r.Body.Name)
	counted := map[string]int{"at " + d.from + " " + name: freeTries, "name " + name: freeTriesByName, "from " +
		d.from: freeTriesFrom}
	known, err := s.knows(ctx, d.browser, p)
	if err != nil {
		return nil, err
	}
	if known {
		counted = map[string]int{"browser " + d.browser: freeTries}
	}
	hash := p.Password
	if hash == "" {
		hash = nobody()
	}
	fits := false
	look := func() error {
		for key := range counted {
			if wait := s.throttle.wait(key); wait > 0 {
				return tooMany(wait)
			}
		}
		return nil
	}
	if err := look(); err != nil {
		return nil, err
	}
	var tired error // of wrong tries that came while this one waited for its turn
	err = s.hashing.do(ctx, func() {
		if tired = look(); tired == nil {
			fits = passwordFits(hash, r.Body.Password)
		}
	})
	if err := errors.Join(err, tired); err != nil {
		return nil, err
	}
	wrong := func() {
		for key, free := range counted {
			s.throttle.failed(key, free)
		}
		s.noteFailure(ctx, r.Body.Name)
	}
	if p.ID == "" {
		people, err := s.Store.People.All(ctx)
		if err != nil {
			return nil, err
		}
		if len(people) == 0 { // as GET /setup tells everyone, too
			return nil, &problem{status: 401, kind: "set-up", text: "nobody can sign in yet: the first administrator is missing",
				advice: "Open the set-up link in the log of the service, or use inktray sign-in --set-up with its code."}
		}
	}
	if !fits || p.ID == "" || p.LockedAt != nil {
		wrong()
		return nil, &problem{status: 401, kind: "wrong-password", text: "the name or the password is not right",
			advice: "Check both; capital letters count in the password."}
	}
	if err := s.byPassword(ctx, &p); err != nil {
		return nil, err
	}
	if p.HasFactor() {
		code := text(r.Body.Code)
		if code == "" {
			return nil, factorNeeded(&p)
		}
		fits, err := s.factorFits(ctx, &p, code)
		if err != nil {
			return nil, err
		}
		if !fits {
			wrong()
			return nil, errWrongFactor
		}
	}
	for key, free := range counted {
		if free != freeTriesFrom { // else somebody with a name of his own could go on guessing
			s.throttle.succeeded(key)
		}
	}
	me, cookie, err := s.session(ctx, p, byBrowser)
	return SignIn200JSONResponse{Body: me,
		Headers: SignIn200ResponseHeaders{SetCookie: &cookie}}, err
}

// byBrowser is the label of a session by name and password.
const byBrowser = "browser"

func (s *signInHandlers) session(ctx context.Context, p store.Person, by string) (me Me, cookie string, err error) {
	d := decisionOf(ctx)
	secret := rand.Text() + rand.Text()
	now := s.Clock().UTC()
	must, err := s.mustEnrol(ctx, &p)
	if err != nil {
		return me, "", err
	}
	scope := store.Scope("")
	if must = must && by != store.ByOffice; must { // which has its own
		scope = store.ScopeEnrol
	}
	err = s.Store.People.AddKey(ctx, store.Key{Hash: store.HashKey(secret), Kind: "session", ID: store.NewID(),
		Scope: scope, Label: by, PersonID: p.ID, MadeAt: now, ExpiresAt: now.Add(sessionLife), Place: d.from,
		Program: d.program})
	if err != nil {
		return me, "", err
	}
	s.Log.Info("signed in", "person", p.Name, "place", d.from, "by", by, "first a second factor", must)
	mark, err := s.markOf(ctx, p)
	d.cookies = append(d.cookies, setCookie(browserName(d.secure), mark, browserLife, d.secure))
	return Me{Name: p.Name, Role: Role(p.Role), MustEnrol: &must}, sessionCookie(ctx, secret, sessionLife), err
}

func sessionCookie(ctx context.Context, value string, life time.Duration) string {
	secure := decisionOf(ctx).secure
	return setCookie(cookieName(secure), value, life, secure)
}

func setCookie(name, value string, life time.Duration, secure bool) string {
	c := fmt.Sprintf("%s=%s; Path=/; Max-Age=%d; HttpOnly; SameSite=Strict", name, value, int(life.Seconds()))
	if secure {
		c += "; Secure"
	}
	return c
}

// SignOut ends the session or forgets the token.
func (s *signInHandlers) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	cookie := sessionCookie(ctx, "", 0)
	out := SignOut204Response{Headers: SignOut204ResponseHeaders{SetCookie: &cookie}}
	v, k, err := s.Store.People.ViewerOf(ctx, decisionOf(ctx).secret, s.Clock())
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if err := s.Store.People.RemoveKey(ctx, k.ID, v.ID, v.Name); err != nil {
		return nil, err
	}
	if s.Engine != nil {
		s.Engine.Changed(events.Sessions)
	}
	return out, nil
}

// GetMe says who is signed in.
func (s *signInHandlers) GetMe(ctx context.Context, _ GetMeRequestObject) (GetMeResponseObject, error) {
	v := viewerOf(ctx)
	must := v.Scope == store.ScopeEnrol
	return GetMe200JSONResponse{Name: v.Name, Role: Role(v.Role), MustEnrol: &must}, nil
}

// MakeToken makes a token for a program, with the rights of who makes it.
func (s *signInHandlers) MakeToken(ctx context.Context, r MakeTokenRequestObject) (MakeTokenResponseObject, error) {
	days := 365
	if r.Body.Days != nil {
		days = *r.Body.Days
	}
	secret := "it-" + strings.ToLower(rand.Text()+rand.Text())
	now := s.Clock().UTC()
	expires := now.AddDate(0, 0, days)
	k := store.Key{Hash: store.HashKey(secret), Kind: "token", ID: store.NewID(), Label: r.Body.Label,
		PersonID: viewerOf(ctx).ID, MadeAt: now, ExpiresAt: expires, Place: decisionOf(ctx).from,
		Program: decisionOf(ctx).program}
	if r.Body.Scope != nil && *r.Body.Scope != ScopeFull {
		k.Scope = store.Scope(*r.Body.Scope)
	}
	if k.Scope == store.ScopeMachine && !viewerOf(ctx).Role.May(store.Administrator) {
		return nil, &problem{status: 403, kind: "not-allowed", text: "a token for another machine of the office asks for " +
			"everybody, so an administrator makes it"}
	}
	if of := viewerOf(ctx).Scope; of != "" && k.Scope != of {
		return nil, &problem{status: 403, kind: "not-allowed", text: "with this token you cannot make a token that may " +
			"do more"}
	}
	err := s.Store.People.AddKey(ctx, k)
	return MakeToken201JSONResponse{Token: secret, ExpiresAt: expires}, err
}
