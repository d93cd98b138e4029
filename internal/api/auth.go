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
func (s *Server) viewer(c fiber.Ctx, secure bool) (v store.Viewer, secret string, fromCookie bool, err error) {
	secret, isToken := shown(c.Get("Authorization"), c.Cookies(cookieName(secure)))
	if secret == "" {
		return v, "", false, nil
	}
	v, _, err = s.Store.ViewerOf(secret, s.Clock())
	if errors.Is(err, store.ErrNotFound) {
		if isToken {
			return v, "", false, &problem{status: 401, kind: "sign-in", text: "the token is not known or has expired", advice: "Sign in again."}
		}
		return store.Viewer{}, "", false, nil
	}
	return v, secret, !isToken, err
}

// cookieName is the name of a session's cookie. Over TLS browsers take one of the name __Host- only from this very
// host and only over TLS (RFC 6265bis, section 4.1.3.2).
func cookieName(secure bool) string {
	if secure {
		return "__Host-inktray_session"
	}
	return "inktray_session"
}

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
func SetupCode(s *store.Store) (string, error) {
	people, err := s.People()
	if err != nil || len(people) > 0 {
		return "", err
	}
	code := strings.ToLower(rand.Text())
	return code, s.SetSetting(setupKey, base64.RawStdEncoding.EncodeToString(store.HashKey(code)))
}

// GetSetup says whether there is nobody yet.
func (s *Server) GetSetup(context.Context, GetSetupRequestObject) (GetSetupResponseObject, error) {
	people, err := s.Store.People()
	return GetSetup200JSONResponse{Needed: len(people) == 0}, err
}

// PostSetup makes the first administrator.
func (s *Server) PostSetup(ctx context.Context, r PostSetupRequestObject) (PostSetupResponseObject, error) {
	if wait := s.throttle.wait("setup"); wait > 0 {
		return nil, tooMany(wait)
	}
	people, err := s.Store.People()
	if err != nil {
		return nil, err
	}
	if len(people) > 0 {
		return nil, &problem{status: 409, kind: "set-up", text: "Ink Tray is set up already", advice: "Sign in."}
	}
	want, err := s.Store.Setting(setupKey)
	if err != nil {
		return nil, err
	}
	if subtle.ConstantTimeCompare([]byte(want), []byte(base64.RawStdEncoding.EncodeToString(store.HashKey(r.Body.Code)))) != 1 || want == "" {
		s.throttle.failed("setup")
		return nil, &problem{status: 403, kind: "set-up-link", text: "the set-up link is not the one that was printed last", advice: "Start Ink Tray again and use the link that it prints."}
	}
	name := strings.TrimSpace(r.Body.Name)
	if name == "" {
		return nil, &problem{status: 422, kind: "invalid", text: "name: a name is missing", fields: []FieldProblem{{Place: "name", Text: "a name is missing"}}}
	}
	p := store.Person{ID: store.NewID(), Name: name, Password: HashPassword(r.Body.Password), Role: store.Administrator, MadeAt: s.Clock().UTC()}
	if err := s.Store.AddPerson(p, p.Name); err != nil {
		return nil, err
	}
	if err := s.Store.SetSetting(setupKey, ""); err != nil {
		return nil, err
	}
	cookie, err := s.session(ctx, p)
	return PostSetup200JSONResponse{Body: Me{Name: p.Name, Role: Role(p.Role)}, Headers: PostSetup200ResponseHeaders{SetCookie: &cookie}}, err
}

// SignIn lets somebody in by name and password.
func (s *Server) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	key := strings.ToLower(r.Body.Name)
	if wait := s.throttle.wait(key); wait > 0 {
		return nil, tooMany(wait)
	}
	p, err := s.Store.PersonNamed(r.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	hash := p.Password
	if hash == "" {
		hash = nobody()
	}
	if !passwordFits(hash, r.Body.Password) || p.ID == "" {
		s.throttle.failed(key)
		return nil, &problem{status: 401, kind: "wrong-password", text: "the name or the password is not right", advice: "Check both; capital letters count in the password."}
	}
	s.throttle.succeeded(key)
	cookie, err := s.session(ctx, p)
	return SignIn200JSONResponse{Body: Me{Name: p.Name, Role: Role(p.Role)}, Headers: SignIn200ResponseHeaders{SetCookie: &cookie}}, err
}

func (s *Server) session(ctx context.Context, p store.Person) (cookie string, err error) {
	secret := rand.Text() + rand.Text()
	now := s.Clock().UTC()
	err = s.Store.AddKey(store.Key{Hash: store.HashKey(secret), Kind: "session", ID: store.NewID(), Label: "browser", PersonID: p.ID, MadeAt: now, ExpiresAt: now.Add(sessionLife)})
	return sessionCookie(ctx, secret, sessionLife), err
}

func sessionCookie(ctx context.Context, value string, life time.Duration) string {
	secure := decisionOf(ctx).secure
	c := fmt.Sprintf("%s=%s; Path=/; Max-Age=%d; HttpOnly; SameSite=Strict", cookieName(secure), value, int(life.Seconds()))
	if secure {
		c += "; Secure"
	}
	return c
}

// SignOut ends the session or forgets the token.
func (s *Server) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	cookie := sessionCookie(ctx, "", 0)
	out := SignOut204Response{Headers: SignOut204ResponseHeaders{SetCookie: &cookie}}
	_, k, err := s.Store.ViewerOf(decisionOf(ctx).secret, s.Clock())
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	return out, s.Store.RemoveKey(k.ID)
}

// GetMe says who is signed in.
func (s *Server) GetMe(ctx context.Context, _ GetMeRequestObject) (GetMeResponseObject, error) {
	v := viewerOf(ctx)
	return GetMe200JSONResponse{Name: v.Name, Role: Role(v.Role)}, nil
}

// MakeToken makes a token for a program, with the rights of who makes it.
func (s *Server) MakeToken(ctx context.Context, r MakeTokenRequestObject) (MakeTokenResponseObject, error) {
	days := 365
	if r.Body.Days != nil {
		days = *r.Body.Days
	}
	secret := "it-" + strings.ToLower(rand.Text()+rand.Text())
	now := s.Clock().UTC()
	expires := now.AddDate(0, 0, days)
	err := s.Store.AddKey(store.Key{Hash: store.HashKey(secret), Kind: "token", ID: store.NewID(), Label: r.Body.Label, PersonID: viewerOf(ctx).ID, MadeAt: now, ExpiresAt: expires})
	return MakeToken201JSONResponse{Token: secret, ExpiresAt: expires}, err
}

// throttle slows down guessing: after three failures each further one doubles
// the time to wait, up to a quarter of an hour.
type throttle struct {
	clock func() time.Time
	mutex sync.Mutex
	tries map[string]*tries
}

type tries struct {
	failures int
	until    time.Time
}

func newThrottle(clock func() time.Time) *throttle {
	return &throttle{clock: clock, tries: map[string]*tries{}}
}

func (t *throttle) wait(key string) time.Duration {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if one := t.tries[key]; one != nil {
		return one.until.Sub(t.clock())
	}
	return 0
}

func (t *throttle) failed(key string) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	now := t.clock()
	if len(t.tries) > 10_000 { // somebody tries many names
		for k, one := range t.tries {
			if one.until.Before(now) {
				delete(t.tries, k)
			}
		}
	}
	one := t.tries[key]
	if one == nil {
		one = &tries{}
		t.tries[key] = one
	}
	if one.failures++; one.failures >= 3 {
		one.until = now.Add(min(time.Second<<min(one.failures-2, 20), 15*time.Minute))
	}
}

func (t *throttle) succeeded(key string) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	delete(t.tries, key)
}

func tooMany(wait time.Duration) error {
	return &problem{status: 429, kind: "too-many-tries", text: "there were too many wrong tries", advice: fmt.Sprintf("Wait %d seconds, then try again.", int(wait.Seconds())+1)}
}
