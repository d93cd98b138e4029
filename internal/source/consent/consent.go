// Package consent gets consent to read a mailbox from its owner, and keeps
// it: OAuth 2.0 (RFC 6749) with a code and PKCE (RFC 7636) in a browser, or with a
// code that is entered on another device (RFC 8628).
package consent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"inktray.example/inktray/internal/reach"
)

// Terms say where consent is given, and to what. With an issuer the other
// addresses are looked up unless they are given.
type Terms struct {
	Issuer    string
	ClientID  string
	Secret    string // of the client; public clients have none
	Authorize string
	Token     string
	Device    string
	Scopes    []string
	Authority string // certificates that are trusted beside the system's, PEM
	Proxy     string // socks5://host:port or http://host:port
}

// Tokens are what consent gives. They are kept sealed.
type Tokens struct {
	Access  string    `json:"access,omitempty"`
	Refresh string    `json:"refresh,omitempty"`
	Expires time.Time `json:"expires"`
	Secret  string    `json:"client_secret,omitempty"` // of the client
}

// Valid says whether the access token is good for some time yet.
func (t *Tokens) Valid(now time.Time) bool {
	return t.Access != "" && (t.Expires.IsZero() || now.Add(time.Minute).Before(t.Expires))
}

// ErrLost says that the consent was taken back or has run out: somebody has to
// give it again.
var ErrLost = errors.New("the consent is no longer valid")

const (
	askTime   = 20 * time.Second
	maxAnswer = 1 << 20
)

// client asks the issuer, the way the mailbox is reached.
func (t *Terms) client() (*http.Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DisableKeepAlives = true
	encryption, err := (&reach.Server{Authority: t.Authority}).TLS()
	if err != nil {
		return nil, err
	}
	transport.TLSClientConfig.RootCAs = encryption.RootCAs
	if t.Proxy != "" {
		via, err := reach.ParseProxy(t.Proxy)
		if err != nil {
			return nil, err
		}
		transport.Proxy = http.ProxyURL(via)
	}
	return &http.Client{Timeout: askTime, Transport: transport}, nil
}

// secure says whether an address may be asked: encrypted, or on this machine.
func secure(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return fmt.Errorf("%q is not an address", address)
	}
	if u.Scheme == "https" || u.Scheme == "http" &&
		(u.Hostname() == "127.0.0.1" || u.Hostname() == "localhost" || u.Hostname() == "::1") {
		return nil
	}
	return fmt.Errorf("the address %s is not encrypted: tokens are asked for by https only", address)
}

// Discover completes the terms from what the issuer publishes (RFC 8414 section 3;
// OpenID providers publish the same at another place).
func (t Terms) Discover(ctx context.Context) (Terms, error) {
	if t.Issuer != "" && (t.Authorize == "" && t.Device == "" || t.Token == "") {
		if err := secure(t.Issuer); err != nil {
			return t, err
		}
		u, err := url.Parse(strings.TrimSuffix(t.Issuer, "/"))
		if err != nil {
			return t, err
		}
		first := *u
		first.Path = "/.well-known/oauth-authorization-server" + u.Path
		second := *u
		second.Path = u.Path + "/.well-known/openid-configuration"
		published, err := t.metadata(ctx, first.String())
		if err != nil {
			var again error
			if published, again = t.metadata(ctx, second.String()); again != nil {
				return t, fmt.Errorf("the issuer %s publishes nothing that can be used: %w", t.Issuer, err)
			}
		}
		if strings.TrimSuffix(published.Issuer, "/") != strings.TrimSuffix(t.Issuer, "/") { // RFC 8414 section 3.3
			return t, fmt.Errorf("the issuer %s says that it is %q", t.Issuer, published.Issuer)
		}
		fill := func(to *string, from string) {
			if *to == "" {
				*to = from
			}
		}
		fill(&t.Authorize, published.Authorize)
		fill(&t.Token, published.Token)
		fill(&t.Device, published.Device)
	}
	if t.Token == "" {
		return t, errors.New("neither the issuer nor the address for tokens is known")
	}
	for _, address := range []string{t.Authorize, t.Token, t.Device} {
		if address == "" {
			continue
		}
		if err := secure(address); err != nil {
			return t, err
		}
	}
	return t, nil
}

type metadata struct {
	Issuer    string `json:"issuer"`
	Authorize string `json:"authorization_endpoint"`
	Token     string `json:"token_endpoint"`
	Device    string `json:"device_authorization_endpoint"`
}

func (t *Terms) metadata(ctx context.Context, address string) (m metadata, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return m, err
	}
	client, err := t.client()
	if err != nil {
		return m, err
	}
	answer, err := client.Do(request)
	if err != nil {
		return m, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return m, fmt.Errorf("%s answers %s", address, answer.Status)
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, maxAnswer)).Decode(&m); err != nil {
		return m, fmt.Errorf("%s: %w", address, err)
	}
	return m, nil
}

func (t *Terms) config(redirect string) *oauth2.Config {
	return &oauth2.Config{ClientID: t.ClientID, ClientSecret: t.Secret, Scopes: t.Scopes, RedirectURL: redirect,
		Endpoint: oauth2.Endpoint{AuthURL: t.Authorize, TokenURL: t.Token, DeviceAuthURL: t.Device}}
}

func (t *Terms) with(ctx context.Context) (context.Context, error) {
	client, err := t.client()
	return context.WithValue(ctx, oauth2.HTTPClient, client), err
}

func (t *Terms) kept(token *oauth2.Token, before string) Tokens {
	kept := Tokens{Access: token.AccessToken, Refresh: token.RefreshToken, Expires: token.Expiry.UTC(), Secret: t.Secret}
	if kept.Refresh == "" {
		kept.Refresh = before
	}
	return kept
}

// NewVerifier makes the secret that proves that the same program asks for a code
// and uses it.
func NewVerifier() string { return oauth2.GenerateVerifier() }

// Page is the address at which a person gives consent. state comes back with the code.
func (t *Terms) Page(redirect, state, verifier string) (string, error) {
	if t.Authorize == "" {
		return "", errors.New("the issuer has no page at which to give consent; use a code on another device")
	}
	return t.config(redirect).AuthCodeURL(state, oauth2.AccessTypeOffline, oauth2.S256ChallengeOption(verifier)), nil
}

// Redeem changes a code into tokens.
func (t *Terms) Redeem(ctx context.Context, redirect, code, verifier string) (Tokens, error) {
	ctx, err := t.with(ctx)
	if err != nil {
		return Tokens{}, err
	}
	token, err := t.config(redirect).Exchange(ctx, code, oauth2.VerifierOption(verifier))
	if err != nil {
		return Tokens{}, said(err)
	}
	return t.kept(token, ""), nil
}

// Device is a code that a person enters on another device.
type Device struct {
	Code    string    // to be entered
	Page    string    // where
	Direct  string    // the same with the code in it; "" where there is none
	Expires time.Time // until when

	answer *oauth2.DeviceAuthResponse
}

// AskDevice asks for a code for another device.
func (t *Terms) AskDevice(ctx context.Context) (*Device, error) {
	if t.Device == "" {
		return nil, errors.New("the issuer has no way to give consent on another device; use a browser")
	}
	ctx, err := t.with(ctx)
	if err != nil {
		return nil, err
	}
	answer, err := t.config("").DeviceAuth(ctx)
	if err != nil {
		return nil, said(err)
	}
	return &Device{Code: answer.UserCode, Page: answer.VerificationURI, Direct: answer.VerificationURIComplete,
		Expires: answer.Expiry, answer: answer}, nil
}

// Await waits until the code was entered, as patiently as the issuer wishes.
func (t *Terms) Await(ctx context.Context, d *Device) (Tokens, error) {
	ctx, err := t.with(ctx)
	if err != nil {
		return Tokens{}, err
	}
	token, err := t.config("").DeviceAccessToken(ctx, d.answer)
	if err != nil {
		return Tokens{}, said(err)
	}
	return t.kept(token, ""), nil
}

// Renew gets a new access token.
func (t *Terms) Renew(ctx context.Context, tokens Tokens) (Tokens, error) {
	if tokens.Refresh == "" {
		return tokens, ErrLost
	}
	ctx, err := t.with(ctx)
	if err != nil {
		return tokens, err
	}
	token, err := t.config("").TokenSource(ctx,
		&oauth2.Token{RefreshToken: tokens.Refresh, Expiry: time.Unix(1, 0)}).Token()
	if err != nil {
		return tokens, said(err)
	}
	return t.kept(token, tokens.Refresh), nil
}

// said turns an issuer's answer into words, without what was sent to it.
func said(err error) error {
	var answer *oauth2.RetrieveError
	if !errors.As(err, &answer) {
		return err
	}
	why := answer.ErrorDescription
	if why == "" {
		why = answer.ErrorCode
	}
	switch answer.ErrorCode {
	case "invalid_grant", "expired_token":
		return fmt.Errorf("%w (%s)", ErrLost, why)
	case "access_denied":
		return fmt.Errorf("%w: it was refused", ErrLost)
	case "":
		return fmt.Errorf("the issuer answers %s", answer.Response.Status)
	}
	return fmt.Errorf("the issuer refuses: %s", why)
}
