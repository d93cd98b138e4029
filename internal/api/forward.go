package api

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"inktray.example/inktray/internal/machines"
	"inktray.example/inktray/internal/store"
)

// Every address of another machine's interface is an address here, too: /api/at/north/v1/tray is /api/v1/tray of the
// machine “north”. Who asks is signed in here; there she is the person of the same name, with the rights that this
// person has there. Where the machine does not answer, what its copy can say is said from the copy.

// atOthers is where addresses of other machines begin.
const atOthers = "/api/at/"

// passedOn are the fields of a request that the other machine is told.
var passedOn = []string{"Content-Type", "If-Match", "If-None-Match", "Accept", "Accept-Language",
	"Last-Event-Id"}

// keptBack are the fields of an answer that are not for who asked: they are about the way to the other machine, or
// would let it set something for this one.
var keptBack = []string{"Connection", "Keep-Alive", "Transfer-Encoding", "Content-Length", "Date", "Server",
	"Set-Cookie", "Strict-Transport-Security", "Location", "Clear-Site-Data", "Service-Worker-Allowed"}

// copied are the operations that are answered from a copy where the machine does not answer.
var copied = []string{"GetActivity", "GetFiling", "GetMe", "GetPass", "GetRegisterLanguage", "GetRule", "GetToday",
	"GetVersion", "ListCabinets", "ListMachines", "ListMailboxes", "ListMessages", "ListPasses", "ListPassMessages",
	"ListRegister", "ListRegisterFolders", "ListRegisterMessages", "ListRules", "ListTray"}

// CopyHeader says of when the copy is that an answer comes from.
const CopyHeader = "Inktray-Copy"

var errNotCopied = &problem{status: http.StatusBadGateway, kind: "machine-away",
	text:   "the machine does not answer, and the copy of its records does not say this",
	advice: "Check whether it runs. Ink Tray shows its lists as of the last copy; nothing can be changed."}

// actFor lets another machine of the office, which shows a token for that, ask for a person. The other way round, a
// token for that is good for nothing else.
func (s *Server) actFor(c fiber.Ctx, d *decision) error {
	if s.isCopy {
		d.viewer, _ = c.RequestCtx().UserValue(copyViewer{}).(store.Viewer)
		return nil
	}
	said := c.Get(machines.PersonHeader)
	if d.viewer.Scope != store.ScopeMachine || said == "" {
		return nil // without the scope the field says nothing
	}
	if !d.viewer.Role.May(store.Administrator) {
		return &problem{status: 403, kind: "not-allowed", text: "the person who made the token of that machine is no " +
			"longer an administrator", advice: "Let an administrator make another one."}
	}
	name, err := url.QueryUnescape(said)
	if err != nil {
		return &problem{status: 400, kind: "bad-request", text: "for whom the other machine asks cannot be read"}
	}
	v, err := s.Store.People.ViewerNamed(c.Context(), name)
	if errors.Is(err, store.ErrNotFound) {
		return &problem{status: 403, kind: "not-known-there", text: "nobody called “" + name + "” may sign in at the " +
			"machine “" + s.Machine + "”", advice: "Ask an administrator there to invite you under the same name."}
	}
	if err != nil {
		return err
	}
	d.viewer, d.acting = v, true
	return nil
}

// forward asks another machine of the office.
func (s *Server) forward(c fiber.Ctx, secure bool) error {
	name, there, _ := strings.Cut(strings.TrimPrefix(c.Path(), atOthers), "/")
	if !strings.HasPrefix(there, "v1/") {
		return nothingAt(c)
	}
	v, key, _, fromCookie, err := s.viewer(c, secure)
	switch {
	case err != nil:
		return err
	case v.Role == "":
		return &problem{status: 401, kind: "sign-in", text: "you are not signed in", advice: "Sign in, or send a token."}
	case v.Scope != "":
		return &problem{status: 403, kind: "not-allowed", text: "Ink Tray asks other machines only for people who may do " +
			"everything here that their role allows", advice: "Sign in, or use a token of the scope full."}
	case (c.Method() != http.MethodGet || fromCookie && !leadsHere(c)) && !s.fromHere(c, fromCookie):
		return &problem{status: 403, kind: "origin", text: "the request came from another site"}
	}
	m, err := s.other(name)
	if err != nil {
		return err
	}
	s.used(key, &decision{from: s.from(c), program: shortened(c.Get("User-Agent"), 200)})
	path := root + there
	if _, query, ok := strings.Cut(c.OriginalURL(), "?"); ok {
		path += "?" + query
	}
	header := http.Header{"User-Agent": {shortened(c.Get("User-Agent"), 200)}}
	for _, one := range passedOn {
		if value := c.Get(one); value != "" {
			header.Set(one, value)
		}
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(c.Context()))
	var body io.Reader
	if c.Method() != http.MethodGet {
		body = strings.NewReader(string(c.Body()))
	}
	reads := c.Method() == http.MethodGet
	if st := m.Status(); reads && st.Problem != "" { // a machine that hangs is not waited for each time
		cancel()
		return s.fromCopy(c, m, v.Name, path, errors.New(st.Problem))
	}
	answer, err := m.Send(ctx, c.Method(), path, header, body, v.Name) //nolint:bodyclose // passBack closes it
	if err != nil {
		cancel()
		if reads {
			return s.fromCopy(c, m, v.Name, path, err)
		}
		return errAway(m.Name, err.Error())
	}
	return s.passBack(c, answer, cancel)
}

// passBack gives who asked what another machine answers.
func (s *Server) passBack(c fiber.Ctx, answer *http.Response, cancel context.CancelFunc) error {
	for name, values := range answer.Header {
		if slices.Contains(keptBack, name) || strings.HasPrefix(name, "Access-Control-") {
			continue
		}
		c.Response().Header.Del(name)
		for _, value := range values {
			c.Response().Header.Add(name, value)
		}
	}
	// What comes from another machine runs no scripts as if it were from this one.
	c.Response().Header.Add("Content-Security-Policy", "sandbox")
	c.Status(answer.StatusCode)
	if !strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		return c.SendStream(&ending{answer.Body, cancel}, int(answer.ContentLength))
	}
	stop := context.AfterFunc(s.stop, cancel)
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer cancel()
		defer stop()
		defer answer.Body.Close()
		some := make([]byte, 4096)
		for {
			n, err := answer.Body.Read(some)
			if n > 0 {
				if _, err := w.Write(some[:n]); err != nil || w.Flush() != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	})
}

// ending ends what an answer was read with.
type ending struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (e *ending) Close() error {
	defer e.cancel()
	return e.ReadCloser.Close()
}

// copyViewer is under what the person is kept for whom a copy is asked.
type copyViewer struct{}

// fromCopy answers what another machine was asked from the copy of its records.
func (s *Server) fromCopy(c fiber.Ctx, m *machines.Machine, person, path string, why error) error {
	var rc fasthttp.RequestCtx
	known := false
	ctx := context.WithoutCancel(c.Context())
	err := m.Read(ctx, func(records *store.Store) error {
		v, err := records.People.ViewerNamed(ctx, person)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		known = true
		var r fasthttp.Request
		r.SetRequestURI(path)
		r.Header.SetHost("localhost")
		r.Header.Set("Accept-Language", c.Get("Accept-Language"))
		rc.Init(&r, nil, nil)
		rc.SetUserValue(copyViewer{}, v)
		s.copyOf(m).app.Handler()(&rc)
		return nil
	})
	if err != nil || !known {
		return errAway(m.Name, why.Error())
	}
	c.Set(CopyHeader, m.Status().Copy.UTC().Format(http.TimeFormat))
	c.Set("Content-Type", string(rc.Response.Header.ContentType()))
	if next := rc.Response.Header.Peek("Inktray-Next"); len(next) > 0 {
		c.Set("Inktray-Next", string(next))
	}
	return c.Status(rc.Response.StatusCode()).Send(rc.Response.Body())
}
