package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Authority is an authorization server in the process, on loopback: people give
// consent there that a program reads their mailbox (RFC 6749, 7636, 8414, 8628,
// 7662). It knows one client, and signs anyone in under any name: it is a
// stand-in for trying the product.
type Authority struct {
	Lasts time.Duration // how long an access token is good
	// Say changes what is said of somebody who signs in, for tests; nil changes nothing.
	Say func(claims map[string]any)

	listener net.Listener
	server   *http.Server
	mutex    sync.Mutex
	grants   map[string]grant  // by code, device code or refresh token
	access   map[string]access // by access token
	asked    int               // for tokens
	signer   jose.Signer
	public   jose.JSONWebKeySet
}

// ClientID is the one client that the authority knows.
const ClientID = "inktray"

type grant struct {
	user, challenge, redirect, code string
	nonce, role                     string // where somebody signs in (OpenID Connect)
	expires                         time.Time
	device, given, refused          bool
}

type access struct {
	user    string
	expires time.Time
}

// StartAuthority listens on an address.
func StartAuthority(address string) (*Authority, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	a := &Authority{Lasts: time.Hour, listener: l, grants: map[string]grant{}, access: map[string]access{}}
	if err := a.openKeys(); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", a.metadata)
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) { reply(w, 200, a.public) })
	mux.HandleFunc("GET /.well-known/oauth-authorization-server", a.metadata)
	mux.HandleFunc("GET /consent", a.page)
	mux.HandleFunc("POST /consent", a.decide)
	mux.HandleFunc("POST /token", a.token)
	mux.HandleFunc("POST /device", a.device)
	mux.HandleFunc("GET /enter", a.page)
	mux.HandleFunc("POST /introspect", a.introspect)
	a.server = &http.Server{Handler: mux, ReadTimeout: time.Minute}
	go a.server.Serve(l)
	return a, nil
}

// Issuer is the authority's address.
func (a *Authority) Issuer() string { return "http://" + a.listener.Addr().String() }

// Close ends the authority.
func (a *Authority) Close() error { return a.server.Close() }

// Asked counts how often tokens were asked for.
func (a *Authority) Asked() int { a.mutex.Lock(); defer a.mutex.Unlock(); return a.asked }

// TakeBack takes back every consent that somebody gave.
func (a *Authority) TakeBack(user string) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	for k, g := range a.grants {
		if g.user == user {
			delete(a.grants, k)
		}
	}
	for k, t := range a.access {
		if t.user == user {
			delete(a.access, k)
		}
	}
}

// Allow gives consent as somebody would who enters the code of a device.
func (a *Authority) Allow(code, user string) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	for k, g := range a.grants {
		if g.device && g.code == code {
			g.user, g.given = user, true
			a.grants[k] = g
		}
	}
}

// User is whose token it is, "" where it is nobody's.
func (a *Authority) User(token string) string {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if t := a.access[token]; time.Now().Before(t.expires) {
		return t.user
	}
	return ""
}

func (a *Authority) metadata(w http.ResponseWriter, _ *http.Request) {
	reply(w, 200,
		map[string]any{"issuer": a.Issuer(), "authorization_endpoint": a.Issuer() + "/consent", "token_endpoint": a.Issuer() +
			"/token", "device_authorization_endpoint": a.Issuer() + "/device",
			"introspection_endpoint": a.Issuer() + "/introspect", "response_types_supported": []string{"code"},
			"jwks_uri": a.Issuer() + "/keys", "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"},
			"code_challenge_methods_supported":      []string{"S256"},
			"grant_types_supported": []string{"authorization_code", "refresh_token",
				"urn:ietf:params:oauth:grant-type:device_code"}})
}

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func refusal(w http.ResponseWriter, code, why string) {
	reply(w, 400, map[string]string{"error": code, "error_description": why})
}

var consentPage = template.Must(
	template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Consent</title>
<style>body{font:17px/1.5 system-ui;max-width:32rem;margin:4rem auto;padding:0 1rem}input,button{font:inherit;padding:.4rem .8rem;margin:.3rem 0}input{display:block;width:100%;box-sizing:border-box}</style>
<h1>Brackwater sign-in</h1><p>{{if .SignIn}}You are about to sign in to “{{.Client}}”.{{else}}The program “{{.Client}}” asks to read a mailbox.{{end}} This page is part of the demo: it believes whoever you say you are.</p>
<form method="post" action="/consent">{{range $k, $v := .Keep}}<input type="hidden" name="{{$k}}" value="{{index $v 0}}">{{end}}
<label>{{if .SignIn}}Your mail address{{else}}Mailbox{{end}}<input name="user" value="{{.User}}" required></label>
{{if .SignIn}}<label>Your part in the office<input name="role" value="berth desk"></label>{{end}}
{{if .Device}}<label>Code<input name="user_code" value="{{.Code}}" required></label>{{end}}
<button name="answer" value="yes">Allow</button> <button name="answer" value="no" formnovalidate>Refuse</button></form></html>`))

// page asks for consent, in a browser or for another device.
func (a *Authority) page(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	device := r.URL.Path == "/enter"
	if !device &&
		(q.Get("client_id") != ClientID || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" ||
			q.Get("redirect_uri") == "") {
		http.Error(w, "This is no request that can be answered.", http.StatusBadRequest)
		return
	}
	user := q.Get("login_hint")
	if user == "" {
		user = "pilots@brackwater.example"
	}
	code := q.Get("user_code")
	q.Del("user_code")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = consentPage.Execute(w, map[string]any{"Client": ClientID, "Keep": q, "User": user,
		"SignIn": slices.Contains(strings.Fields(q.Get("scope")), "openid"), "Device": device, "Code": code})
}

func (a *Authority) decide(w http.ResponseWriter, r *http.Request) {
	yes := r.FormValue("answer") == "yes"
	if code := r.FormValue("user_code"); code != "" {
		a.mutex.Lock()
		found := false
		for k, g := range a.grants {
			if g.device && g.code == strings.ToUpper(strings.TrimSpace(code)) {
				g.user, g.given, g.refused = r.FormValue("user"), yes, !yes
				a.grants[k], found = g, true
			}
		}
		a.mutex.Unlock()
		if !found {
			http.Error(w, "There is no such code.", http.StatusNotFound)
			return
		}
		fmt.Fprintln(w, "Thank you. You can close this page.")
		return
	}
	back, err := url.Parse(r.FormValue("redirect_uri"))
	if err != nil {
		http.Error(w, "There is nowhere to go back to.", http.StatusBadRequest)
		return
	}
	q := back.Query()
	q.Set("state", r.FormValue("state"))
	if yes {
		code := rand.Text()
		a.mutex.Lock()
		a.grants[code] = grant{user: r.FormValue("user"), challenge: r.FormValue("code_challenge"),
			redirect: r.FormValue("redirect_uri"), expires: time.Now().Add(time.Minute)}
		if slices.Contains(strings.Fields(r.FormValue("scope")), "openid") {
			g := a.grants[code]
			g.nonce, g.role = r.FormValue("nonce"), r.FormValue("role")
			a.grants[code] = g
		}
		a.mutex.Unlock()
		q.Set("code", code)
	} else {
		q.Set("error", "access_denied")
	}
	back.RawQuery = q.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (a *Authority) device(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != ClientID {
		refusal(w, "invalid_client", "this client is not known")
		return
	}
	code, entered := rand.Text(), rand.Text()[:4]+"-"+rand.Text()[:4]
	a.mutex.Lock()
	a.grants[code] = grant{code: entered, device: true, expires: time.Now().Add(10 * time.Minute)}
	a.mutex.Unlock()
	reply(w, 200,
		map[string]any{"device_code": code, "user_code": entered, "verification_uri": a.Issuer() + "/enter",
			"verification_uri_complete": a.Issuer() + "/enter?user_code=" + entered, "expires_in": 600, "interval": 1})
}

func (a *Authority) token(w http.ResponseWriter, r *http.Request) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.asked++
	id := r.FormValue("client_id")
	if name, _, ok := r.BasicAuth(); ok {
		id = name
	}
	if id != ClientID {
		refusal(w, "invalid_client", "this client is not known")
		return
	}
	key := map[string]string{"authorization_code": "code", "refresh_token": "refresh_token",
		"urn:ietf:params:oauth:grant-type:device_code": "device_code"}[r.FormValue("grant_type")]
	g, ok := a.grants[r.FormValue(key)]
	switch {
	case key == "":
		refusal(w, "unsupported_grant_type", "")
		return
	case !ok || time.Now().After(g.expires):
		refusal(w, "invalid_grant", "the consent was taken back, or is too old")
		return
	case key == "device_code" && g.refused:
		refusal(w, "access_denied", "it was refused")
		return
	case key == "device_code" && !g.given:
		refusal(w, "authorization_pending", "")
		return
	case key == "code":
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge || r.FormValue("redirect_uri") != g.redirect {
			refusal(w, "invalid_grant", "this code is another program's")
			return
		}
	}
	delete(a.grants, r.FormValue(key)) // every one is good once
	fresh, refresh := rand.Text(), rand.Text()
	a.access[fresh] = access{g.user, time.Now().Add(a.Lasts)}
	a.grants[refresh] = grant{user: g.user, expires: time.Now().Add(24 * time.Hour)}
	answer := map[string]any{"access_token": fresh, "token_type": "Bearer", "expires_in": int(a.Lasts.Seconds()),
		"refresh_token": refresh}
	if g.nonce != "" {
		said, err := a.says(&g)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		answer["id_token"] = said
	}
	reply(w, 200, answer)
}

// openKeys makes the key with which the authority signs what it says of people.
func (a *Authority) openKeys() error {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key := jose.JSONWebKey{Key: private, KeyID: "demo", Algorithm: string(jose.ES256), Use: "sig"}
	a.public.Keys = []jose.JSONWebKey{key.Public()}
	a.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, nil)
	return err
}

// says is what the authority says of somebody who signs in (OpenID Connect Core 1.0, section 2).
func (a *Authority) says(g *grant) (string, error) {
	now := time.Now()
	name, _, _ := strings.Cut(g.user, "@")
	claims := map[string]any{"iss": a.Issuer(), "aud": ClientID, "sub": "demo-" + g.user, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": g.nonce, "email": g.user, "email_verified": true, "name": name,
		"roles": []string{g.role}}
	if a.Say != nil {
		a.Say(claims)
	}
	text, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := a.signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// introspect tells mail servers whose token it is.
func (a *Authority) introspect(w http.ResponseWriter, r *http.Request) {
	user := a.User(r.FormValue("token"))
	if user == "" {
		reply(w, 200, map[string]any{"active": false})
		return
	}
	reply(w, 200, map[string]any{"active": true, "username": user})
}
