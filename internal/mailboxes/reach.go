// Package mailboxes reaches mailboxes: it opens sessions with the secret or the consent that is kept for them, asks
// people for consent (OAuth 2.0), and keeps the mail that only Ink Tray has (drop addresses, mail that was imported).
// It guarantees that a secret is sent only on the route that it was given for. It never reads or decides messages.
package mailboxes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/consent"
	"inktray.example/inktray/internal/store"
)

// Config is what Mailboxes are given.
type Config struct {
	*base.Base
	// Dial opens a session with a secret.
	Dial func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error)
	// Try goes through the steps of reaching a mailbox.
	Try        func(ctx context.Context, m *store.Mailbox, secret string) []source.Check
	Resolver   *net.Resolver // nil for the system's
	Mail       string        // the folder for mail that is kept here
	DropDomain string        // of the drop addresses; "" where no mail is received
	// Keep sees to it that a message that was delivered to a file lasts elsewhere, too, before that is promised to its
	// sender; nil where it is kept here only.
	Keep func(ctx context.Context, file string) error
	// OnConsent is called when a person has given consent for a mailbox.
	OnConsent func(mailboxID string)
}

// Mailboxes reach the mailboxes of this installation. Its methods may be called by several goroutines at once.
type Mailboxes struct {
	Config
	Counter  connections.Counter
	consents consents
	takingIn sync.Mutex // one at a time imports mail

	connections atomic.Int64 // opened, or tried, since the start
}

// New makes Mailboxes.
func New(c Config) *Mailboxes {
	limits := func(ctx context.Context) (connections.Limits, error) {
		l, err := c.Store.Settings.Limits(ctx)
		return connections.Limits{Account: l.AccountConnections, Host: l.HostConnections}, err
	}
	return &Mailboxes{Config: c, Counter: connections.Counter{Limits: limits,
		Clock: func() time.Time { return c.Clock() }}}
}

// consents are those that are being asked for. One at a time renews a mailbox's tokens.
type consents struct {
	mutex   sync.Mutex
	renew   map[string]*sync.Mutex // by mailbox
	pages   map[string]*asking     // by the state that comes back
	devices map[string]*Asked      // by mailbox
}

// turn is the lock of one mailbox's tokens.
func (c *consents) turn(mailbox string) *sync.Mutex {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.renew == nil {
		c.renew = map[string]*sync.Mutex{}
	}
	if c.renew[mailbox] == nil {
		c.renew[mailbox] = &sync.Mutex{}
	}
	return c.renew[mailbox]
}

// asking is a consent that is being asked for in a browser.
type asking struct {
	mailbox            store.Mailbox // as it was asked for
	verifier, redirect string
	terms              consent.Terms
	until              time.Time
}

// Asked is how a person gives consent.
type Asked struct {
	Page    string    // the address to go to
	Code    string    // to be entered there; "" where the page knows
	Until   time.Time // until when it can be given
	Problem string    // why it came to nothing; "" while it is open
	Given   bool
}

// askedFor is how long a person has to give consent in a browser.
const askedFor = 15 * time.Minute

// Connections counts the connections to mailboxes that were opened, or tried, since the start.
func (ms *Mailboxes) Connections() int64 { return ms.connections.Load() }

// Reach opens a mailbox, with a fresh token where it is read by consent. It waits where as many connections are open as
// there may be.
func (ms *Mailboxes) Reach(ctx context.Context, m *store.Mailbox, use connections.Use) (*Connection, error) {
	secret, err := ms.Store.Mailboxes.Secret(m)
	if err != nil {
		return nil, err
	}
	if m.Particulars.Consent == nil {
		return ms.open(ctx, m, secret, use)
	}
	token, err := ms.token(ctx, m, false)
	if err != nil {
		return nil, err
	}
	s, err := ms.open(ctx, m, token, use)
	if !errors.Is(err, reach.ErrToken) {
		return s, err
	}
	if token, err = ms.token(ctx, m, true); err != nil { // it was good a moment ago
		return nil, err
	}
	return ms.open(ctx, m, token, use)
}

// TryReach goes through the steps of reaching a mailbox as it would be with a
// secret; without one, with the secret or the consent that is there.
func (ms *Mailboxes) TryReach(ctx context.Context, m *store.Mailbox, secret string) []source.Check {
	if m.Particulars.Consent != nil {
		var err error
		if secret, err = ms.token(ctx, m, false); err != nil {
			var known *source.Error
			if !errors.As(err, &known) {
				known = &source.Error{Step: source.SignIn, Problem: err.Error()}
			}
			return []source.Check{{Step: source.SignIn, Detail: known.Problem, Advice: known.Advice}}
		}
	}
	if counted(m) {
		held, err := ms.Counter.Take(ctx, m.Host, m.Username, connections.Work)
		if err != nil {
			known := &source.Error{Step: source.Connection, Problem: err.Error()}
			errors.As(err, &known)
			return []source.Check{{Step: known.Step, Detail: known.Problem, Advice: known.Advice}}
		}
		defer held.Close()
	}
	return ms.Try(ctx, m, secret)
}

func termsOf(m *store.Mailbox, secret string) consent.Terms {
	c := m.Particulars.Consent
	return consent.Terms{Authority: m.Particulars.Authority, Proxy: m.Particulars.Proxy, Issuer: c.Issuer,
		ClientID: c.ClientID, Secret: secret, Authorize: c.Authorize, Token: c.Token, Device: c.Device, Scopes: c.Scopes}
}

// tokens reads what consent gave so far.
func (ms *Mailboxes) tokens(ctx context.Context, m *store.Mailbox) (consent.Tokens, error) {
	var t consent.Tokens
	row, err := ms.Store.Mailboxes.ByID(ctx, store.System, m.ID) // it may have been renewed since
	if err != nil {
		return t, err
	}
	if len(m.OtherRoute(&row)) > 0 {
		return t, nil // what was given for one way is not sent on another
	}
	secret, err := ms.Store.Mailboxes.Secret(&row)
	if err != nil || secret == "" {
		return t, err
	}
	if err := json.Unmarshal([]byte(secret), &t); err != nil {
		return consent.Tokens{}, nil // a password from before
	}
	return t, nil
}

func (ms *Mailboxes) keepTokens(ctx context.Context, m *store.Mailbox, t consent.Tokens) error {
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return ms.Store.Mailboxes.SetSecret(ctx, m, string(data))
}

// token gives an access token, renewing it where it is no longer good.
func (ms *Mailboxes) token(ctx context.Context, m *store.Mailbox, refused bool) (string, error) {
	before, err := ms.tokens(ctx, m)
	if err != nil {
		return "", err
	}
	if before.Valid(ms.Clock()) && !refused {
		return before.Access, nil
	}
	turn := ms.consents.turn(m.ID)
	turn.Lock()
	defer turn.Unlock()
	t, err := ms.tokens(ctx, m)
	if err != nil {
		return "", err
	}
	if t.Valid(ms.Clock()) && t.Access != before.Access {
		return t.Access, nil // somebody else was quicker
	}
	if t.Refresh == "" {
		return "", &source.Error{Step: source.SignIn,
			Problem: "nobody has signed in to this mailbox yet, or the consent has run out", Advice: "Sign in to it.",
			Lasting: true, Err: consent.ErrLost}
	}
	terms := termsOf(m, t.Secret)
	if terms, err = terms.Discover(ctx); err == nil {
		t, err = terms.Renew(ctx, t)
	}
	if errors.Is(err, consent.ErrLost) {
		return "", &source.Error{Step: source.SignIn, Problem: err.Error(), Advice: "Sign in again.", Lasting: true, Err: err}
	}
	if err != nil {
		return "", &source.Error{Step: source.SignIn, Problem: "the token could not be renewed: " + err.Error(),
			Advice: "Ink Tray tries again by itself.", Err: err}
	}
	return t.Access, ms.keepTokens(ctx, m, t)
}

// ErrNoConsent says that a mailbox is not read by consent.
var ErrNoConsent = errors.New("this mailbox is signed in to with a password")

// AskConsent begins to ask for consent: in a browser that comes back to redirect, or,
// where that is "", with a code for another device.
func (ms *Mailboxes) AskConsent(ctx context.Context, v store.Viewer, mailboxID, redirect string) (Asked, error) {
	m, err := ms.Store.Mailboxes.ByID(ctx, v, mailboxID)
	if err != nil {
		return Asked{}, err
	}
	if m.Particulars.Consent == nil {
		return Asked{}, ErrNoConsent
	}
	before, err := ms.tokens(ctx, &m)
	if err != nil {
		return Asked{}, err
	}
	terms := termsOf(&m, before.Secret)
	if terms, err = terms.Discover(ctx); err != nil {
		return Asked{}, &source.Error{Step: source.SignIn, Problem: err.Error(), Advice: "Check the issuer's address, and " +
			"that this machine reaches it."}
	}
	fail := func(err error) (Asked, error) {
		return Asked{}, &source.Error{Step: source.SignIn, Problem: err.Error(), Advice: "Check the client id that the " +
			"issuer gave this program, and the scopes that it may ask for."}
	}
	c := &ms.consents
	if redirect != "" {
		a := &asking{mailbox: m, verifier: consent.NewVerifier(), redirect: redirect, terms: terms,
			until: ms.Clock().Add(askedFor)}
		state := store.NewID()
		page, err := terms.Page(redirect, state, a.verifier)
		if err != nil {
			return fail(err)
		}
		c.mutex.Lock()
		defer c.mutex.Unlock()
		if c.pages == nil {
			c.pages = map[string]*asking{}
		}
		for s, other := range c.pages {
			if ms.Clock().After(other.until) {
				delete(c.pages, s)
			}
		}
		c.pages[state] = a
		return Asked{Page: page, Until: a.until}, nil
	}
	d, err := terms.AskDevice(ctx)
	if err != nil {
		return fail(err)
	}
	asked := &Asked{Page: d.Page, Code: d.Code, Until: d.Expires}
	if d.Direct != "" {
		asked.Page = d.Direct
	}
	c.mutex.Lock()
	if c.devices == nil {
		c.devices = map[string]*Asked{}
	}
	c.devices[m.ID] = asked
	now := *asked
	c.mutex.Unlock()
	ms.Go("waiting for consent", func(ctx context.Context) {
		ctx, cancel := context.WithDeadline(ctx, d.Expires)
		defer cancel()
		tokens, err := terms.Await(ctx, d)
		if err == nil {
			err = ms.consented(ctx, &m, tokens)
		}
		c.mutex.Lock()
		defer c.mutex.Unlock()
		if asked.Given = err == nil; err != nil {
			asked.Problem = err.Error()
		}
	})
	return now, nil
}

// ConsentAsked says how asking on another device does; nil where nobody was asked.
func (ms *Mailboxes) ConsentAsked(ctx context.Context, v store.Viewer, mailboxID string) (*Asked, error) {
	if _, err := ms.Store.Mailboxes.ByID(ctx, v, mailboxID); err != nil {
		return nil, err
	}
	ms.consents.mutex.Lock()
	defer ms.consents.mutex.Unlock()
	if a := ms.consents.devices[mailboxID]; a != nil {
		now := *a
		return &now, nil
	}
	return nil, nil
}

// ConsentCame takes what a browser comes back with. It gives the mailbox's name.
func (ms *Mailboxes) ConsentCame(ctx context.Context, state, code, problem string) (string, error) {
	c := &ms.consents
	c.mutex.Lock()
	a := c.pages[state]
	delete(c.pages, state) // good once
	c.mutex.Unlock()
	if a == nil || ms.Clock().After(a.until) {
		return "", errors.New("this sign-in is not known here, or it is too old; begin it again")
	}
	m := a.mailbox
	if problem != "" || code == "" {
		return m.Name, fmt.Errorf("the consent was not given (%s)", problem)
	}
	tokens, err := a.terms.Redeem(ctx, a.redirect, code, a.verifier)
	if err != nil {
		return m.Name, err
	}
	return m.Name, ms.consented(ctx, &m, tokens)
}

// consented keeps what consent gave and begins to watch again.
func (ms *Mailboxes) consented(ctx context.Context, m *store.Mailbox, tokens consent.Tokens) error {
	err := ms.keepTokens(ctx, m, tokens)
	if errors.Is(err, store.ErrRoute) {
		return errors.New("the settings of the mailbox were changed meanwhile; sign in again")
	}
	if err != nil {
		return err // such as a mailbox that was removed meanwhile
	}
	if ctx.Err() == nil {
		ms.OnConsent(m.ID)
	}
	return nil
}

// SealedConsent is what is kept of a mailbox that is read by consent before anybody
// has given it: the secret of the program, "" where it has none.
func SealedConsent(clientSecret string) (string, error) {
	if clientSecret == "" {
		return "", nil
	}
	data, err := json.Marshal(consent.Tokens{Secret: clientSecret})
	return string(data), err
}

// CheckReach brings what is said about reaching a server into one form.
func CheckReach(p *store.Particulars) error {
	var err error
	if p.Pinned != "" {
		if p.Pinned, err = reach.Fingerprint(p.Pinned); err != nil {
			return rule.Problems{{Place: "pinned", Text: err.Error()}}
		}
	}
	if p.Proxy != "" {
		if _, err := reach.ParseProxy(p.Proxy); err != nil {
			return rule.Problems{{Place: "proxy", Text: err.Error()}}
		}
	}
	if p.Authority != "" {
		probe := reach.Server{Authority: p.Authority}
		var known *source.Error
		if _, err := probe.TLS(); errors.As(err, &known) {
			return rule.Problems{{Place: "authority", Text: known.Problem}}
		}
	}
	return nil
}

// FindServers looks up the servers that an address's domain publishes.
func (ms *Mailboxes) FindServers(ctx context.Context, address string) ([]reach.Found, error) {
	return reach.Find(ctx, ms.Resolver, address)
}

// Submit sends a message through a mailbox; see source.Submitter.
func (ms *Mailboxes) Submit(ctx context.Context, m *store.Mailbox, l source.Letter) error {
	return ms.With(ctx, m, func(s source.Session) error {
		if sender, ok := s.(source.Submitter); ok {
			return sender.Submit(ctx, l)
		}
		return noSubmit(m)
	})
}

// CheckSubmit says why a mailbox sends no mail; nil where it does.
func (ms *Mailboxes) CheckSubmit(ctx context.Context, m *store.Mailbox) error {
	return ms.With(ctx, m, func(s source.Session) error {
		if sender, ok := s.(source.Submitter); ok && sender.Submits() {
			return nil
		}
		return noSubmit(m)
	})
}

func noSubmit(m *store.Mailbox) error {
	return &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the server of the mailbox “%s” takes no mail to send",
		m.Name), Advice: "Set up an outgoing mail server (SMTP) in Settings.", Lasting: true}
}

// With opens a connection of its own.
func (ms *Mailboxes) With(ctx context.Context, m *store.Mailbox, f func(s source.Session) error) error {
	s, err := ms.Reach(ctx, m, connections.Work)
	if err != nil {
		return err
	}
	defer s.Close()
	return f(s.Session)
}
