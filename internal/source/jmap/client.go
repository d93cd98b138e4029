// Package jmap reads mailboxes over JMAP (RFC 8620, RFC 8621). Messages have lasting names there and no numbers, so
// they get numbers; what came, changed and went is asked for by state strings. Nothing is marked as read.
package jmap

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

const (
	core       = "urn:ietf:params:jmap:core"
	mailAbout  = "urn:ietf:params:jmap:mail"
	submitting = "urn:ietf:params:jmap:submission"
	webSockets = "urn:ietf:params:jmap:websocket"
	maxAnswer  = 64 << 20 // octets of an answer in JSON
	maxSession = 4 << 20
	mostHops   = 5
	quiet      = time.Minute      // how long a server may say nothing in the midst of an answer
	quietPush  = 11 * time.Minute // and between two announcements: servers send pings at least every five minutes
	keepFor    = 2 * time.Minute  // how long a connection is kept for the next look: encryption costs more than a look
	pingEvery  = 60               // seconds between two pings, as they are asked for
)

// Config says how to reach a mailbox. Its port may be 0 for the usual one.
type Config struct {
	reach.Server
	Username string
	Password string
	Token    string        // of OAuth 2.0, instead of the password
	Timeout  time.Duration // of one exchange; 0 for a minute
	Numbers  source.Numbers
	Shared   *Shared // what the sessions of the mailbox know together; nil for a session of its own
}

func (c *Config) complete() {
	c.Ports = "443 with tls"
	switch {
	case c.Port > 0:
	case c.Encryption == reach.None:
		c.Port = 80
	default:
		c.Port = 443
	}
}

func (c *Config) timeout() time.Duration {
	if c.Timeout > 0 {
		return c.Timeout
	}
	return time.Minute
}

// resource is the JMAP Session resource (RFC 8620 section 2).
type resource struct {
	Capabilities    map[string]json.RawMessage `json:"capabilities"`
	Accounts        map[string]accountResource `json:"accounts"`
	PrimaryAccounts map[string]string          `json:"primaryAccounts"`
	API             string                     `json:"apiUrl"`
	Download        string                     `json:"downloadUrl"`
	Upload          string                     `json:"uploadUrl"`
	Events          string                     `json:"eventSourceUrl"`
	Socket          string                     `json:"-"` // of a WebSocket that announces (RFC 8887); "" for none
	limits          limits
}

type accountResource struct {
	Name         string                     `json:"name"`
	Capabilities map[string]json.RawMessage `json:"accountCapabilities"`
}

// limits are what the server bounds (RFC 8620 section 2).
type limits struct {
	ObjectsInGet int `json:"maxObjectsInGet"`
}

// client speaks with one server.
type client struct {
	config     *Config
	base       url.URL
	session    resource
	mutex      sync.Mutex
	transports map[string]*http.Transport
	http       *http.Client
	events     *http.Client
}

func newClient(c *Config) *client {
	cl := &client{config: c, base: c.URL(), transports: map[string]*http.Transport{}}
	redirect := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	cl.http = &http.Client{Transport: carrier{cl, quiet}, CheckRedirect: redirect}
	cl.events = &http.Client{Transport: carrier{cl, quietPush}, CheckRedirect: redirect}
	return cl
}

// carrier brings each request to its server: the session may name others than the one that was given
// (RFC 8620 section 2), which are reached in the same way.
type carrier struct {
	client *client
	quiet  time.Duration
}

func (k carrier) RoundTrip(r *http.Request) (*http.Response, error) {
	t, err := k.client.transport(r.URL, k.quiet)
	if err != nil {
		return nil, err
	}
	return t.RoundTrip(r)
}

func (cl *client) transport(to *url.URL, quiet time.Duration) (*http.Transport, error) {
	key := to.Scheme + "://" + to.Host + " " + quiet.String()
	cl.mutex.Lock()
	defer cl.mutex.Unlock()
	if t := cl.transports[key]; t != nil {
		return t, nil
	}
	server := cl.config.Server
	server.Prompt = true // some servers send an answer in two pieces
	if to.Scheme != cl.base.Scheme || to.Host != cl.base.Host {
		if to.Scheme != "https" || to.Hostname() == "" {
			return nil, &source.Error{Step: source.Encryption, Problem: fmt.Sprintf("the server at %s leads to %s, which "+
				"is not encrypted", cl.config.Address(), to.Redacted()), Advice: "Ask the administrator of the " +
				"server.", Lasting: true}
		}
		server.Host, server.Port, server.Encryption, server.Pinned = to.Hostname(), 443, reach.TLS, ""
		if to.Port() != "" {
			var err error
			if server.Port, err = strconv.Atoi(to.Port()); err != nil {
				return nil, err
			}
		}
	}
	t := server.TransportWith(quiet)
	t.IdleConnTimeout = keepFor
	cl.transports[key] = t
	return t, nil
}

func (cl *client) close() {
	cl.mutex.Lock()
	defer cl.mutex.Unlock()
	for _, t := range cl.transports {
		t.CloseIdleConnections()
	}
}

// refusal is an answer of HTTP that is none of 2xx, with the problem details in it (RFC 8620 section 3.6.1).
type refusal struct {
	status int
	kind   string
	detail string
	after  time.Duration // how long the server asks to be left alone
}

func (r *refusal) Error() string {
	text := http.StatusText(r.status)
	if text == "" {
		text = "no answer that HTTP knows"
	}
	if r.detail != "" {
		return fmt.Sprintf("%d %s: %s", r.status, text, r.detail)
	}
	return fmt.Sprintf("%d %s", r.status, text)
}

// methodError is what a method answers instead of its result (RFC 8620 section 3.6.2).
type methodError struct {
	Type        string `json:"type"`
	Description string `json:"description"`
	method      string
}

func (e *methodError) Error() string {
	if e.Description != "" {
		return fmt.Sprintf("%s: %s (%s)", e.method, e.Type, e.Description)
	}
	return e.method + ": " + e.Type
}

// isMethod says whether an error is a method's of a type.
func isMethod(err error, kind string) bool {
	var m *methodError
	return errors.As(err, &m) && m.Type == kind
}

// ask sends a request and follows the answer to where it leads. again says that it may be sent twice. The body of what
// it returns must be closed.
func (cl *client) ask(ctx context.Context, by *http.Client, method, address, kind string, body []byte,
	again bool) (*http.Response, error) {
	at, err := cl.base.Parse(address)
	if err != nil {
		return nil, fmt.Errorf("the server gives %q as an address", address)
	}
	for range mostHops {
		r, err := http.NewRequestWithContext(ctx, method, at.String(), bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		cl.authorize(r.Header)
		if kind != "" {
			r.Header.Set("Content-Type", kind)
		}
		if again {
			r.Header["Idempotency-Key"] = nil // net/http repeats it where the kept connection had ended; it is not sent
		}
		answer, err := by.Do(r)
		if err != nil {
			return nil, err
		}
		if answer.StatusCode/100 != 3 || answer.Header.Get("Location") == "" {
			if answer.StatusCode/100 != 2 {
				defer answer.Body.Close()
				return nil, refused(answer)
			}
			return answer, nil
		}
		answer.Body.Close()
		if at, err = at.Parse(answer.Header.Get("Location")); err != nil {
			return nil, err
		}
	}
	return nil, errors.New("the answers lead in a circle")
}

// authorize adds the password or the token to a request.
func (cl *client) authorize(h http.Header) {
	r := http.Request{Header: h}
	if cl.config.Token != "" {
		h.Set("Authorization", "Bearer "+cl.config.Token)
	} else {
		r.SetBasicAuth(cl.config.Username, cl.config.Password)
	}
}

func refused(answer *http.Response) error {
	r := &refusal{status: answer.StatusCode, after: reach.RetryAfter(answer)}
	var details struct {
		Type, Detail, Title string
	}
	if data, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10)); err == nil && json.Unmarshal(data, &details) == nil {
		r.kind, r.detail = details.Type, details.Detail
		if r.detail == "" {
			r.detail = details.Title
		}
		if len(r.detail) > 300 {
			r.detail = r.detail[:300]
		}
	}
	return r
}

// meet reads the session resource (RFC 8620 section 2).
func (cl *client) meet(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, cl.config.timeout())
	defer cancel()
	answer, err := cl.ask(ctx, cl.http, http.MethodGet, "/.well-known/jmap", "", nil, true)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxSession))
	if err != nil {
		return err
	}
	var s resource
	if err := json.Unmarshal(data, &s); err != nil || s.API == "" || s.Download == "" || s.Capabilities[core] == nil {
		return &source.Error{Step: source.Connection, Problem: fmt.Sprintf("the server at %s does not speak JMAP",
			cl.config.Address()), Advice: "Check the host, or read the mailbox over IMAP.", Lasting: true, Err: err}
	}
	if err := json.Unmarshal(s.Capabilities[core], &s.limits); err != nil || s.limits.ObjectsInGet < 1 {
		s.limits.ObjectsInGet = 100
	}
	var socket struct {
		URL  string
		Push bool `json:"supportsPush"`
	}
	if json.Unmarshal(s.Capabilities[webSockets], &socket) == nil && socket.Push {
		s.Socket = socket.URL
	}
	if from := answer.Request.URL; from != nil { // what it names is relative to where it was found
		for _, address := range []*string{&s.API, &s.Download, &s.Upload, &s.Events, &s.Socket} {
			*address = absolute(from, *address)
		}
	}
	cl.session = s
	return nil
}

// absolute resolves an address or a template of one (RFC 6570 level 1).
func absolute(from *url.URL, address string) string {
	if address == "" || strings.Contains(address, "://") {
		return address
	}
	root := url.URL{Scheme: from.Scheme, Host: from.Host}
	if strings.HasPrefix(address, "/") {
		return root.String() + address
	}
	return root.String() + from.Path[:strings.LastIndexByte(from.Path, '/')+1] + address
}

// fill fills a template (RFC 6570 level 1).
func fill(template string, values map[string]string) string {
	var pairs []string
	for name, v := range values {
		escaped := strings.ReplaceAll(url.QueryEscape(v), "+", "%20")
		pairs = append(pairs, "{"+name+"}", escaped)
	}
	return strings.NewReplacer(pairs...).Replace(template)
}

// call is one method call; its answer is read into result.
type call struct {
	method string
	args   map[string]any
	result any
}

// calls makes method calls in one exchange (RFC 8620 section 3.3). It ends with the first that is refused.
func (cl *client) calls(ctx context.Context, calls ...call) error {
	request := struct {
		Using       []string `json:"using"`
		MethodCalls [][3]any `json:"methodCalls"`
	}{Using: []string{core, mailAbout}}
	reads := true
	for i, c := range calls {
		if (strings.HasPrefix(c.method, "EmailSubmission/") || strings.HasPrefix(c.method, "Identity/")) &&
			len(request.Using) == 2 {
			request.Using = append(request.Using, submitting)
		}
		reads = reads && !strings.HasSuffix(c.method, "/set") && !strings.HasSuffix(c.method, "/import")
		request.MethodCalls = append(request.MethodCalls, [3]any{c.method, c.args, strconv.Itoa(i)})
	}
	body, err := json.Marshal(request)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, cl.config.timeout())
	defer cancel()
	answer, err := cl.ask(ctx, cl.http, http.MethodPost, cl.session.API, "application/json", body, reads)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer+1))
	if err != nil {
		return err
	}
	if len(data) > maxAnswer {
		return errTooMuch
	}
	var got struct {
		MethodResponses []json.RawMessage `json:"methodResponses"`
	}
	if err := json.Unmarshal(data, &got); err != nil {
		return &unreadable{err}
	}
	answered := make([]bool, len(calls))
	for _, response := range got.MethodResponses {
		var parts []json.RawMessage
		var name, id string
		if err := json.Unmarshal(response, &parts); err != nil || len(parts) != 3 || json.Unmarshal(parts[0], &name) != nil ||
			json.Unmarshal(parts[2], &id) != nil {
			return &unreadable{errors.New("an answer to a method that is none")}
		}
		i, err := strconv.Atoi(id)
		if err != nil || i < 0 || i >= len(calls) || answered[i] {
			continue // a further answer to the same call, such as of Email/import
		}
		if name == "error" {
			e := &methodError{method: calls[i].method}
			if err := json.Unmarshal(parts[1], e); err != nil {
				return &unreadable{err}
			}
			return e
		}
		if calls[i].result != nil {
			if err := json.Unmarshal(parts[1], calls[i].result); err != nil {
				return &unreadable{err}
			}
		}
		answered[i] = true
	}
	for i, yes := range answered {
		if !yes {
			return &unreadable{fmt.Errorf("no answer to %s", calls[i].method)}
		}
	}
	return nil
}

// errTooMuch says that an answer is larger than is read.
var errTooMuch = errors.New("the answer is too large")

// unreadable is an answer that is not what the standard says.
type unreadable struct{ err error }

func (u *unreadable) Error() string { return "the answer cannot be read: " + u.err.Error() }
func (u *unreadable) Unwrap() error { return u.err }

// blob opens a blob (RFC 8620 section 6.2).
func (cl *client) blob(ctx context.Context, account, id string) (io.ReadCloser, error) {
	address := fill(cl.session.Download, map[string]string{"accountId": account, "blobId": id,
		"name": "part", "type": "application/octet-stream"})
	answer, err := cl.ask(ctx, cl.http, http.MethodGet, address, "", nil, true) //nolint:bodyclose // by the reader
	if err != nil {
		return nil, err
	}
	return &counted{answer.Body, answer.ContentLength}, nil
}

// counted is a content whose length was said, so that its end can be told from a cut.
type counted struct {
	io.ReadCloser
	left int64 // -1 where it was not said
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	if c.left >= 0 {
		c.left -= int64(n)
		if err == io.EOF && c.left > 0 {
			err = io.ErrUnexpectedEOF
		}
	}
	return n, err
}

// upload keeps octets on the server (RFC 8620 section 6.1).
func (cl *client) upload(ctx context.Context, account string, data []byte) (blob string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 10*cl.config.timeout())
	defer cancel()
	answer, err := cl.ask(ctx, cl.http, http.MethodPost, fill(cl.session.Upload, map[string]string{"accountId": account}),
		"message/rfc822", data, true)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var got struct{ BlobID string }
	if err := json.NewDecoder(io.LimitReader(answer.Body, maxSession)).Decode(&got); err != nil || got.BlobID == "" {
		return "", &unreadable{errors.Join(err, errors.New("an upload without a name"))}
	}
	return got.BlobID, nil
}

const waits = "Ink Tray waits and goes on by itself."

// explain makes an error into one that says what to do.
func (cl *client) explain(step source.Step, doing string, err error) error {
	var known *source.Error
	if err == nil || errors.As(err, &known) || errors.Is(err, source.ErrGone) || errors.Is(err, source.ErrNoLabels) {
		return err
	}
	e := &source.Error{Step: source.Connection, Problem: fmt.Sprintf("%s: %v", doing, reach.Cause(err)), Err: err}
	var refused *refusal
	var method *methodError
	switch {
	case errors.As(err, &refused):
		cl.explainRefusal(e, refused, doing)
	case errors.As(err, &method):
		e.Step, e.Problem = step, fmt.Sprintf("%s: the server refuses (%v)", doing, method)
		switch method.Type {
		case "serverUnavailable", "serverFail", "serverPartialFail", "stateMismatch":
			e.Step, e.Advice = source.Connection, waits
			e.Problem = fmt.Sprintf("%s: the server asks to wait (%v)", doing, method)
		case "overQuota":
			e.Problem, e.Advice = fmt.Sprintf("%s: the mailbox is full (%v)", doing, method), "Free some space in the "+
				"mailbox, or ask for more; then try again."
		case "forbidden", "accountReadOnly":
			e.Advice = "Ask the administrator of the mail server for more rights on this folder."
		}
	case errors.Is(err, errTooMuch):
		e.Problem = fmt.Sprintf("%s: the server's answer has more than %d MB", doing, maxAnswer>>20)
	}
	return e
}

func (cl *client) explainRefusal(e *source.Error, r *refusal, doing string) {
	switch {
	case r.status == http.StatusUnauthorized && cl.config.Token != "" && cl.session.API != "":
		e.Problem, e.Advice = doing+": the server no longer accepts the token", "Ink Tray gets another by itself."
	case r.status == http.StatusUnauthorized:
		what, advice := "its password", "Check both; some providers want a password made for programs."
		if cl.config.Token != "" {
			what, advice = "the consent that was given", "Sign in again."
			e.Err = errors.Join(reach.ErrToken, e.Err)
		}
		e.Step, e.Lasting, e.Advice = source.SignIn, true, advice
		e.Problem = fmt.Sprintf("the server refuses the name %q or %s", cl.config.Username, what)
	case r.status == http.StatusForbidden:
		e.Step, e.Lasting, e.Problem = source.SignIn, true, fmt.Sprintf("%s: the server does not allow it (%v)", doing, r)
		e.Advice = "Ask the administrator of the mail server whether this account may use JMAP."
	case r.status == http.StatusNotFound:
		e.Lasting, e.Problem = true, fmt.Sprintf("%s: the server at %s has nothing there (%v)", doing, cl.config.Address(), r)
		e.Advice = "Check the host, or read the mailbox over IMAP."
	case r.status == http.StatusTooManyRequests, r.status == http.StatusServiceUnavailable,
		r.kind == "urn:ietf:params:jmap:error:limit":
		e.Problem, e.Advice = fmt.Sprintf("%s: the server asks to wait (%v)", doing, r), waits
		e.Slow, e.After = r.status != http.StatusServiceUnavailable || r.after > 0, r.after
	default:
		e.Problem = fmt.Sprintf("%s: the server answers %v", doing, r)
	}
}
