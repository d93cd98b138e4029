package api

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gofiber/fiber/v3"
	fiberlog "github.com/gofiber/fiber/v3/log"
	"github.com/prometheus/client_golang/prometheus"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/inbound"
	"inktray.example/inktray/internal/machines"
	"inktray.example/inktray/internal/store"
)

// Config is what the interface is given. Every field but Console is needed.
type Config struct {
	Store   *store.Store
	Engine  *engine.Engine
	Clock   func() time.Time
	Log     *slog.Logger
	Version string
	Reached []*url.URL         // by which addresses people reach it, besides by number and by the machine's name
	Console func(fiber.Router) // serves the console; nil for none
	SMTP    string             // where mail for drop addresses is received; "" where it is not
	TLS     *tls.Config        // with which the interface is served; nil for none
	Proxies []netip.Prefix     // web servers in front, which say for whom they ask
	Replica Replicated         // nil where no replica is kept
	Machine string             // what this machine is called
	// Machines are the other machines of the office; nil where none can be known.
	Machines *machines.Machines
}

// Server is the interface over HTTP.
type Server struct {
	Config
	handlers
	app       *fiber.App
	needed    map[string]store.Role // by operation; "" for what everyone may
	scopes    map[string][]store.Scope
	sayings   map[string]*saying
	watched   map[string]string // by operation: what the audit trail calls it; "" for nothing
	noting    sync.Map          // keys of which it is just being written down that they were used, by id
	unacted   map[string]bool   // operations that are not done through another machine of the office
	isCopy    bool              // its records are a copy of another machine's, and it asks for whom it is told
	failures  failures
	requests  *prometheus.HistogramVec // answered, by operation
	office    officeDoor               // the office's own sign-in
	copies    copies                   // of other machines' records
	enrolling enrolling                // second factors that are being set up
	sealer    sealer                   // of what browsers carry for the service
	spent     answered                 // challenges of passkeys
	router    routers.Router
	throttle  *throttle
	hashing   *turns          // of passwords, which takes memory
	streams   inbound.Shares  // of events
	files     inbound.Shares  // that are being sent
	stop      context.Context // ends the event streams
	cancel    context.CancelFunc
	listener  atomic.Pointer[listener]
}

// silence is how long a connection over which nothing was asked may still ask when
// the server ends.
const silence = 500 * time.Millisecond

// maxBody bounds a request, maxMail one that brings mail, in octets.
const (
	maxBody = 8 << 20
	maxMail = 128 << 20
)

// New makes the interface.
func New(c Config) (*Server, error) { return build(c) }

// build makes the interface with what runs inside of the permission decision, nearest to the operations first.
func build(c Config, inner ...StrictMiddlewareFunc) (*Server, error) {
	spec, err := GetSpec()
	if err != nil {
		return nil, err
	}
	spec.Servers = nil
	form := spec.Components.Schemas["RuleDocument"].Value // the rule language checks rules, and tells the places
	form.Properties, form.Required = nil, nil
	router, err := gorillamux.NewRouter(spec)
	if err != nil {
		return nil, err
	}
	s := &Server{Config: c, router: router, throttle: newThrottle(c.Clock), hashing: newTurns(2, 16, 3*time.Second),
		streams: inbound.Shares{Total: 400, Each: 32}, files: inbound.Shares{Total: 64, Each: 16},
		sealer: newSealer(), requests: newRequests(), sayings: sayings(spec)}
	s.group()
	if s.needed, s.scopes, s.watched, s.unacted, err = permissions(spec); err != nil {
		return nil, err
	}
	s.stop, s.cancel = context.WithCancel(context.Background())
	s.app = fiber.New(fiber.Config{
		AppName: "Ink Tray", Immutable: true, BodyLimit: maxBody, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute,
		CaseSensitive: true, StrictRouting: true,
		ErrorHandler: func(c fiber.Ctx, err error) error { return s.problem(c, err) },
	})
	s.app.Server().HeaderReceived = s.limits
	fiberlog.SetOutput(slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn).Writer())
	s.app.Use(s.inLanguage)
	s.app.Use(s.answered)
	s.app.Use(s.guard)
	RegisterHandlers(s.app, NewStrictHandler(s, append(inner, s.decided)))
	if c.Console != nil {
		c.Console(s.app)
	}
	return s, nil
}

// Serve answers on a listener until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	ours := listen(inbound.Limit(l, inbound.Limits{Total: 2000, PerHost: 200}))
	s.listener.Store(ours)
	if s.TLS != nil {
		return s.app.Listener(tls.NewListener(ours, s.TLS), fiber.ListenConfig{DisableStartupMessage: true})
	}
	return s.app.Listener(ours, fiber.ListenConfig{DisableStartupMessage: true})
}

// Shutdown ends the event streams and waits for what is being answered.
func (s *Server) Shutdown(ctx context.Context) error {
	s.cancel()
	if l := s.listener.Load(); l != nil {
		grace := time.AfterFunc(silence, l.closeSilent)
		defer grace.Stop()
	}
	return s.app.ShutdownWithContext(ctx)
}

// problem is an error that a person is told.
type problem struct {
	status int
	kind   string
	text   string
	advice string
	fields []FieldProblem
}

func (p *problem) Error() string { return p.text }

// problem writes an error as a problem document (RFC 9457).
func (s *Server) problem(c fiber.Ctx, err error) error {
	p := explain(err)
	id, _ := c.Locals(requestID).(string)
	if p.status == 500 {
		s.Log.Error("a request failed", "request", id, "path", c.Path(), "error", err)
	}
	out := Problem{Type: "urn:inktray:problem:" + p.kind, Title: http.StatusText(p.status), Status: p.status,
		Detail: p.text}
	if p.advice != "" {
		out.Advice = &p.advice
	}
	if p.status >= 500 && id != "" {
		out.Request = &id
	}
	if len(p.fields) > 0 {
		out.Problems = &p.fields
	}
	return c.Status(p.status).JSON(out, "application/problem+json")
}

func explain(err error) *problem {
	var p *problem
	var problems rule.Problems
	var reach *engine.MailboxError
	var inCabinet *engine.CabinetError
	var unopened *unpack.Error
	var f *fiber.Error
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &problems):
		p = &problem{status: 422, kind: "invalid-rule", text: problems[0].Text}
		if len(problems) > 1 {
			p.text = fmt.Sprintf("%s (and %d more)", problems[0].Text, len(problems)-1)
		}
		if problems[0].Meant != "" {
			p.advice = fmt.Sprintf("Did you mean “%s”?", problems[0].Meant)
		}
		p.fields = fieldProblems(problems)
		return p
	case store.TroubleOf(err) != nil:
		t := store.TroubleOf(err)
		return &problem{status: 503, kind: "records", text: t.Problem, advice: t.Advice}
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return &problem{status: 507, kind: "no-room", text: "there is no room left on Ink Tray's own disk",
			advice: "Free some space on the disk of its data folder, then try again."}
	case errors.As(err, &unopened):
		return &problem{status: 422, kind: "unreadable", text: unopened.Problem, advice: "Look at the message in the mail " +
			"program."}
	case errors.Is(err, engine.ErrGone):
		return &problem{status: 404, kind: "message-gone", text: "the message is no longer in its folder",
			advice: "A person or program moved or deleted it in the mailbox. Look for it with the mail program."}
	case errors.Is(err, engine.ErrRenumbered):
		return &problem{status: 503, kind: "busy", text: "the mail server has just numbered this folder anew",
			advice: "Try again in a moment."}
	case errors.Is(err, engine.ErrGaveNothing):
		return &problem{status: 502, kind: "mailbox", text: "the mail server gave nothing for a part that has content",
			advice: "Try again; if it stays so, look at the message in the mail program."}
	case errors.As(err, &reach):
		return &problem{status: 502, kind: "mailbox", text: string(reach.Step) + ": " + reach.Problem, advice: reach.Advice}
	case errors.As(err, &inCabinet):
		return &problem{status: 422, kind: "cabinet", text: inCabinet.Problem, advice: inCabinet.Advice}
	case errors.Is(err, engine.ErrMissing):
		return &problem{status: 404, kind: "file-gone", text: "the file is no longer where it was filed",
			advice: "A person or program moved, renamed or removed it."}
	case errors.Is(err, store.ErrRoute):
		return explain(anew(nil))
	case errors.Is(err, store.ErrNotFound):
		return &problem{status: 404, kind: "not-found", text: "there is nothing of that name or number"}
	case errors.Is(err, store.ErrTaken):
		return &problem{status: 409, kind: "taken", text: "the name is taken already", advice: "Choose another name."}
	case errors.Is(err, store.ErrChanged):
		return &problem{status: 412, kind: "changed", text: "another person changed it meanwhile",
			advice: "Look at it again, then make your change."}
	case errors.As(err, &f):
		if f.Code == http.StatusRequestEntityTooLarge {
			return &problem{status: f.Code, kind: "too-large", text: fmt.Sprintf("that is more than Ink Tray takes in one "+
				"request: %d MB, and %d MB of mail from somebody who has signed in", maxBody>>20, maxMail>>20),
				advice: "Send it in parts."}
		}
		kind := "bad-request"
		if f.Code >= 500 {
			kind = "failure"
		}
		return &problem{status: f.Code, kind: kind, text: strings.ToLower(f.Message)}
	}
	return &problem{status: 500, kind: "failure", text: "something went wrong inside Ink Tray",
		advice: "The service's log says more. Try again."}
}

func fieldProblems(problems rule.Problems) []FieldProblem {
	var fields []FieldProblem
	for _, one := range problems {
		f := FieldProblem{Place: one.Place, Text: one.Text}
		if one.Meant != "" {
			f.Meant = &one.Meant
		}
		if one.Line > 0 {
			f.Line, f.Column = &one.Line, &one.Column
		}
		if one.At > 0 {
			f.At = &one.At
		}
		fields = append(fields, f)
	}
	return fields
}

// invalid names the fields that openapi.yaml finds at fault.
func invalid(err error) error {
	p := &problem{status: 422, kind: "invalid", text: "the request is not as it should be"}
	var walk func(err error, place string)
	walk = func(err error, place string) {
		switch e := err.(type) {
		case openapi3.MultiError:
			for _, one := range e {
				walk(one, place)
			}
		case *openapi3filter.RequestError:
			if e.Parameter != nil {
				place = e.Parameter.Name
			}
			if text := requestFault(e); text != "" {
				p.fields = append(p.fields, FieldProblem{Place: place, Text: text})
				return
			}
			walk(e.Err, place)
		case *openapi3.SchemaError:
			if at := e.JSONPointer(); len(at) > 0 {
				place = strings.Join(at, ".")
			}
			p.fields = append(p.fields, schemaProblems(place, e)...)
		default:
			if inner := errors.Unwrap(err); inner != nil {
				walk(inner, place)
				return
			}
			p.fields = append(p.fields, FieldProblem{Place: place, Text: "this is not as it should be"})
		}
	}
	walk(err, "")
	if len(p.fields) > 0 {
		first := p.fields[0]
		p.text = first.Text
		if first.Place != "" {
			p.text = first.Place + ": " + first.Text
		}
	}
	return p
}
