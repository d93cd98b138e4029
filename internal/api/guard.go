package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/valyala/fasthttp"

	"inktray.example/inktray/internal/store"
)

// root is where the interface's addresses begin.
const root = "/api/"

// decision is what was decided about a request: that this person may do this operation.
// No operation runs without one (see decided).
type decision struct {
	operation string // its operationId
	viewer    store.Viewer
	secret    string   // with which he signed in
	secure    bool     // the request came over TLS
	from      string   // the place it came from
	browser   string   // the mark of a browser in which somebody signed in before
	program   string   // how the browser or program names itself
	host      string   // by what name the service was reached
	state     string   // of a browser that was led to the office's sign-in
	cookies   []string // to be set, besides what the operation's answer has
	acting    bool     // another machine of the office asks for the viewer
}

// origin is that of the service's pages, as browsers write it: without the port that goes without saying.
func (d *decision) origin() string {
	scheme, port := "http://", ":80"
	if d.secure {
		scheme, port = "https://", ":443"
	}
	return scheme + strings.TrimSuffix(d.host, port)
}

type decisionKey struct{}

// permissions reads out of openapi.yaml who may do what, with tokens of which scope, which readings are written down in
// the audit trail, and what nobody does through another machine of the office. An operation that does not say it is an
// error.
func permissions(spec *openapi3.T) (needed map[string]store.Role, scopes map[string][]store.Scope,
	watched map[string]string, unacted map[string]bool, err error) {
	needed, scopes, watched = map[string]store.Role{}, map[string][]store.Scope{}, map[string]string{}
	unacted = map[string]bool{}
	for at, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			list, _ := operation.Extensions["x-scopes"].([]any)
			for _, one := range list {
				scopes[operation.OperationID] = append(scopes[operation.OperationID], store.Scope(fmt.Sprint(one)))
			}
			if acting, ok := operation.Extensions["x-acting"].(bool); ok && !acting {
				unacted[operation.OperationID] = true
			}
			if what, ok := operation.Extensions["x-audit"].(string); ok {
				watched[operation.OperationID] = what
			}
			switch said, _ := operation.Extensions["x-permission"].(string); said {
			case "everyone":
				needed[operation.OperationID] = ""
			case string(store.Reader), string(store.Clerk), string(store.Administrator):
				needed[operation.OperationID] = store.Role(said)
			default:
				return nil, nil, nil, nil, fmt.Errorf("openapi.yaml does not say who may do %s %s", method, at)
			}
		}
	}
	return needed, scopes, watched, unacted, nil
}

// decided lets an operation run only if it was decided in this very request that who asks may do it, by
// whatever way the request came here.
func (s *Server) decided(next StrictHandlerFunc, operation string) StrictHandlerFunc {
	return func(c fiber.Ctx, args any) (any, error) {
		if d := decisionOf(c.Context()); d == nil || d.operation != operation {
			s.Log.Error("an operation was reached without a permission decision", "path", c.Path(), "operation", operation)
			return nil, &problem{status: 403, kind: "not-allowed", text: "this address is not one that Ink Tray answers at"}
		}
		answer, err := next(c, args)
		if what := s.watched[operation]; what != "" && err == nil {
			v := viewerOf(c.Context())
			at := strings.TrimPrefix(c.OriginalURL(), "/api/v1/")
			if err := s.Store.Trail.Note(c.Context(), v.Name, what, at); err != nil {
				s.Log.Error("what was read is not in the audit trail", "person", v.Name, "action", what, "address", at,
					"error", err)
			}
		}
		for _, one := range decisionOf(c.Context()).cookies {
			c.Response().Header.Add("Set-Cookie", one)
		}
		return answer, err
	}
}

func decisionOf(ctx context.Context) *decision {
	d, _ := ctx.Value(decisionKey{}).(*decision)
	return d
}

// viewerOf is who asks. Nobody is the zero Viewer.
func viewerOf(ctx context.Context) store.Viewer {
	if d := decisionOf(ctx); d != nil {
		return d.viewer
	}
	return store.Viewer{}
}

// limits says, before any of its content is read, how large a request may be: only
// somebody who is known brings mail.
func (s *Server) limits(h *fasthttp.RequestHeader) fasthttp.RequestConfig {
	at, _, _ := strings.Cut(string(h.RequestURI()), "?")
	if _, there, forwarded := strings.Cut(strings.TrimPrefix(at, atOthers), "/"); forwarded && strings.HasPrefix(at,
		atOthers) {
		at = root + there
	}
	if h.IsPost() && strings.HasPrefix(at, "/api/v1/mailboxes/") && (strings.HasSuffix(at, "/messages") ||
		at == "/api/v1/mailboxes/take-over") {
		secret, _ := shown(string(h.Peek("Authorization")), string(h.Cookie(cookieName(s.secure(string(h.Host()))))))
		if _, _, err := s.Store.People.ViewerOf(s.stop, secret, s.Clock()); err == nil {
			return fasthttp.RequestConfig{MaxRequestBodySize: maxMail}
		}
	}
	return fasthttp.RequestConfig{MaxRequestBodySize: maxBody}
}

// meansAPI says whether an address is one of the interface in whatever spelling: with other letters' case,
// encoded, with empty or dotted parts.
func meansAPI(at string) bool {
	for range 4 { // encoded more than once
		if plain, err := url.PathUnescape(at); err != nil || plain == at {
			break
		} else {
			at = plain
		}
	}
	at = strings.ToLower(path.Clean("/" + strings.ReplaceAll(at, "\\", "/")))
	return at == strings.TrimSuffix(root, "/") || strings.HasPrefix(at, root)
}

// canonical says whether an address is written as openapi.yaml writes it: the guard and the routes then cannot
// take it for two different ones.
func canonical(at string) bool {
	plain, err := url.PathUnescape(at)
	if err != nil || !strings.HasPrefix(at, root) || strings.Contains(at, "\\") {
		return false
	}
	// An encoded slash or dot-only part would be another address once it is decoded.
	return path.Clean(plain) == plain && strings.Count(plain, "/") == strings.Count(at, "/")
}

// guard decides about every request: whether it names Ink Tray, who asks, whether he may, whether it comes from
// our own pages, and whether it is what openapi.yaml says. What is not an address of the interface in its one
// spelling gets no decision, and no operation runs.
func (s *Server) guard(c fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("X-Frame-Options", "DENY")
	if !s.reached(c.Host()) || !s.reached(c.Get("Host")) {
		return &problem{status: http.StatusMisdirectedRequest, kind: "host",
			text: "Ink Tray does not know that people reach it by this " +
				"name", advice: "Start it with --address and the address " +
				"people use, such as --address https://inktray.office.example."}
	}
	secure := s.secure(c.Host())
	if secure {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if !meansAPI(c.Path()) {
		return c.Next()
	}
	c.Set("Cache-Control", "no-store")
	if !canonical(c.Path()) {
		return nothingAt(c)
	}
	request, err := adaptor.ConvertRequest(c, true)
	if err != nil {
		return &problem{status: 400, kind: "bad-request", text: "the request cannot be read"}
	}
	if strings.HasPrefix(c.Path(), atOthers) {
		return s.forward(c, secure)
	}
	route, params, err := s.router.FindRoute(request)
	if errors.Is(err, routers.ErrMethodNotAllowed) {
		return &problem{status: 405, kind: "method", text: fmt.Sprintf("%s does not know the method %s", c.Path(),
			c.Method())}
	}
	if err != nil {
		return nothingAt(c)
	}
	d := &decision{operation: route.Operation.OperationID, secure: secure, from: s.from(c),
		host: c.Host(), state: c.Cookies(stateCookie(secure)),
		browser: c.Cookies(browserName(secure)), program: shortened(c.Get("User-Agent"), 200)}
	fromCookie := false
	var key store.Key
	if d.viewer, key, d.secret, fromCookie, err = s.viewer(c, secure); err != nil {
		return err
	}
	if err := s.actFor(c, d); err != nil {
		return err
	}
	needed, known := s.needed[d.operation]
	switch {
	case !known:
		return nothingAt(c)
	case s.isCopy && !slices.Contains(copied, d.operation):
		return errNotCopied
	case d.acting && s.unacted[d.operation]:
		return &problem{status: 403, kind: "not-allowed", text: "that is done at the machine itself, where you sign in",
			advice: "Open its own address."}
	case needed == "":
	case d.viewer.Role == "":
		return &problem{status: 401, kind: "sign-in", text: "you are not signed in", advice: "Sign in, or send a token."}
	case !d.viewer.Role.May(needed):
		return &problem{status: 403, kind: "not-allowed", text: fmt.Sprintf("this needs the role %s; you are %s",
			needed, d.viewer.Role), advice: "Ask an administrator."}
	case d.viewer.Scope == store.ScopeEnrol && !s.inScope(d, c.Method()):
		return &problem{status: 403, kind: "enrol", text: "you need a second factor here, and you have none yet",
			advice: "Set one up first."}
	case !s.inScope(d, c.Method()):
		return &problem{status: 403, kind: "not-allowed", text: fmt.Sprintf("this token is for %s only", d.viewer.Scope),
			advice: "Make a token that may do more."}
	}
	if (c.Method() != http.MethodGet || fromCookie && !leadsHere(c)) && !s.fromHere(c, fromCookie) {
		return &problem{status: 403, kind: "origin", text: "the request came from another site"}
	}
	raw := false // content that is no JSON is looked at by anyone who takes it
	if body := route.Operation.RequestBody; body != nil {
		media, _, _ := strings.Cut(strings.ToLower(c.Get("Content-Type")), ";")
		if media = strings.TrimSpace(media); body.Value.Content[media] == nil {
			wanted := slices.Sorted(maps.Keys(body.Value.Content))
			return &problem{status: 415, kind: "content-type",
				text: "the request's content is not " + strings.Join(wanted,
					" or "), advice: "Send Content-Type: " + wanted[0] + "."}
		}
		raw = media != "application/json"
	}
	input := &openapi3filter.RequestValidationInput{Request: request, Route: route, PathParams: params,
		Options: &openapi3filter.Options{MultiError: true, KeepValidatedValue: true,
			AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: raw}}
	if err := openapi3filter.ValidateRequest(c.Context(), input); err != nil {
		return invalid(err)
	}
	if body, ok := request.Body.(interface{ ValidatedValue() any }); ok {
		c.Locals(validatedBodyLocalsKey, body.ValidatedValue())
	}
	origin := store.Origin{Place: d.from}
	if key.Kind == "token" {
		origin.Token = key.Label
	}
	c.SetContext(store.From(context.WithValue(c.Context(), decisionKey{}, d), origin))
	s.used(key, d)
	return c.Next()
}

// inScope says whether a token of the viewer's scope is good for an operation. One for reading, whose role is a
// reader's, changes nothing.
func (s *Server) inScope(d *decision, method string) bool {
	scope, good := d.viewer.Scope, s.scopes[d.operation]
	return scope == "" || slices.Contains(good, scope) ||
		scope == store.ScopeRead && (method == http.MethodGet || slices.Contains(good, store.ScopeRegister))
}

// How often it is written down at most that a key was used: from the same place, and from another one.
const (
	noted      = 5 * time.Minute
	notedMoved = time.Minute
)

// used writes down when and from where a key was used, in the background.
func (s *Server) used(k store.Key, d *decision) {
	now := s.Clock()
	if k.ID == "" || s.Engine == nil {
		return
	}
	if k.UsedAt != nil {
		if since := now.Sub(*k.UsedAt); since < notedMoved || since < noted && k.Place == d.from {
			return
		}
	}
	if _, writing := s.noting.LoadOrStore(k.ID, true); writing {
		return
	}
	s.Engine.Go("noting a key", func(ctx context.Context) {
		defer s.noting.Delete(k.ID)
		if err := s.Store.People.UseKey(ctx, k.ID, d.from, d.program, now); err != nil {
			s.Log.Warn("it is not written down that a key was used", "error", err)
		}
	})
}

// shortened cuts a text after some runes.
func shortened(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most])
	}
	return s
}

func nothingAt(c fiber.Ctx) error {
	return &problem{status: 404, kind: "no-such-address", text: fmt.Sprintf("there is nothing at %s", c.Path()),
		advice: "GET /api/v1/openapi.yaml lists what there is."}
}

// leadsHere says whether a browser opens an address itself, as it does with a link, whose answer no other site
// can read.
func leadsHere(c fiber.Ctx) bool {
	return c.Get("Sec-Fetch-Site") == "" || c.Get("Sec-Fetch-Mode") == "navigate"
}

// fromHere says whether a request came from our own pages, or from a program: a browser always says from where.
func (s *Server) fromHere(c fiber.Ctx, fromCookie bool) bool {
	if site := c.Get("Sec-Fetch-Site"); site != "" {
		return site == "same-origin" || site == "none"
	}
	said := c.Get("Origin")
	if said == "" {
		return !fromCookie
	}
	origin, err := url.Parse(said)
	if err != nil || origin.Host == "" {
		return false
	}
	return origin.Host == c.Host() || slices.ContainsFunc(s.Reached,
		func(u *url.URL) bool { return u.Scheme == origin.Scheme && u.Host == origin.Host })
}

// machine is this machine's own name.
var machine = sync.OnceValue(func() string {
	name, _ := os.Hostname() // without one it is reached by number
	return strings.ToLower(name)
})

// hostname is the name in a Host field, without its port.
func hostname(host string) string {
	return strings.TrimSuffix(strings.ToLower((&url.URL{Host: host}).Hostname()), ".")
}

// reached says whether a request names Ink Tray. A page of another site can have its own name lead to this
// machine ("DNS rebinding") and would then count as one of ours; a number, and this machine's name, cannot be
// claimed so.
func (s *Server) reached(host string) bool {
	name := hostname(host)
	if name == "" || strings.ContainsAny(host, "@/\\") {
		return false
	}
	if net.ParseIP(name) != nil || name == "localhost" || name == machine() {
		return true
	}
	return slices.ContainsFunc(s.Reached, func(u *url.URL) bool { return hostname(u.Host) == name })
}

// secure says whether people reach this address over TLS, which Ink Tray speaks itself, or which another server ends.
func (s *Server) secure(host string) bool {
	return s.TLS != nil || slices.ContainsFunc(s.Reached, func(u *url.URL) bool {
		return u.Scheme == "https" &&
			hostname(u.Host) == hostname(host)
	})
}
