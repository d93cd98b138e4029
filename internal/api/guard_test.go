package api

import (
	"bufio"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/store"
)

// watched is the interface with nothing behind it: it notes which operations would have run.
type watched struct {
	*Server
	tokens map[store.Role]string // of one person of each role
	mu     sync.Mutex
	ran    []string
}

func watch(t testing.TB, reached ...string) *watched {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	w := &watched{tokens: map[store.Role]string{"": ""}}
	c := Config{Store: s, Clock: time.Now, Log: quiet(), Console: func(r fiber.Router) {
		r.Get("/*", func(c fiber.Ctx) error { return c.SendString("the console") })
	}}
	for _, a := range reached {
		u, err := url.Parse(a)
		if err != nil {
			t.Fatal(err)
		}
		c.Reached = append(c.Reached, u)
	}
	w.Server, err = build(c, func(_ StrictHandlerFunc, operation string) StrictHandlerFunc {
		return func(fiber.Ctx, any) (any, error) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.ran = append(w.ran, operation)
			return nil, nil
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	w.app.Server().Handler = w.app.Handler()
	for _, role := range []store.Role{store.Reader, store.Clerk, store.Administrator} {
		p := store.Person{ID: store.NewID(), Name: string(role), Role: role, MadeAt: time.Now()}
		if err := s.People.Add(t.Context(), p, "test"); err != nil {
			t.Fatal(err)
		}
		w.tokens[role] = "it-" + string(role)
		k := store.Key{Hash: store.HashKey(w.tokens[role]), Kind: "token", ID: store.NewID(), PersonID: p.ID,
			MadeAt: time.Now(), ExpiresAt: time.Now().Add(time.Hour)}
		if err := s.People.AddKey(t.Context(), k); err != nil {
			t.Fatal(err)
		}
	}
	return w
}

// send sends a request as it stands and says what was answered and what would have run.
func (w *watched) send(t testing.TB, request string) (status int, ran []string) {
	t.Helper()
	w.mu.Lock()
	w.ran = nil
	w.mu.Unlock()
	client, server := net.Pipe()
	defer client.Close()
	go func() {
		defer server.Close()
		_ = w.app.Server().ServeConn(server) // what is no HTTP ends with an error, as it must
	}()
	_ = client.SetDeadline(time.Now().Add(10 * time.Second))
	go io.WriteString(client, request)
	response, err := http.ReadResponse(bufio.NewReader(client), nil)
	if err == nil {
		status = response.StatusCode
		response.Body.Close()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return status, w.ran
}

func ask(method, at, token string, headers ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: 127.0.0.1:8025\r\nConnection: close\r\n", method, at)
	if token != "" {
		fmt.Fprintf(&b, "Authorization: Bearer %s\r\n", token)
	}
	for _, h := range headers {
		b.WriteString(h + "\r\n")
	}
	if method == "GET" || method == "HEAD" {
		return b.String() + "\r\n"
	}
	return b.String() + "Content-Type: application/json\r\nContent-Length: 2\r\n\r\n{}"
}

// spellings are ways to write an address that some programs take for the same.
func spellings(at string) []string {
	mixed := strings.Map(func(r rune) rune {
		if r == 'a' || r == 's' || r == 'e' {
			return r - 32
		}
		return r
	}, at)
	rest := strings.TrimPrefix(at, "/api")
	return []string{
		strings.ToUpper(at), mixed, "/API" + rest, "/Api" + rest, "/api" + strings.Replace(rest, "v1", "V1", 1),
		"/" + at, "//" + strings.TrimPrefix(at, "/"), strings.Replace(at, "/v1", "//v1", 1), at + "/", at + "//", at + "/.",
		"/." + at,
		strings.Replace(at, "/v1", "/./v1", 1), "/x/.." + at, strings.Replace(at, "/v1", "/x/../v1", 1),
		strings.Replace(at, "/api", "/%61pi", 1), strings.Replace(at, "/api", "/%41PI", 1),
		strings.Replace(at, "/api/", "/api%2f", 1),
		strings.Replace(at, "/api/", "/api%2F", 1), strings.Replace(at, "/api/", "/%2e/api/", 1), "%2f" + at, "/%2e%2e" + at,
		strings.ReplaceAll(at, "/", "\\"), strings.Replace(at, "/api", "/api;x=1", 1), at + ";x=1", at + "%00", at + "%20",
		at + "?x=/api", "/%2561pi" + rest,
		"http://127.0.0.1:8025" + at, "http://elsewhere.example" + at, "/API" + rest + "#",
		strings.Replace(at, "v1", "v1.", 1), "/\t" + at,
	}
}

// fill puts something in the places of an address.
func fill(at string) string {
	parts := strings.Split(at, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") {
			parts[i] = "1"
		}
	}
	return strings.Join(parts, "/")
}

// Whatever an address looks like, an operation runs for nobody who may not do it.
func TestNoOperationRunsWithoutAPermission(t *testing.T) {
	w := watch(t)
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	allowed := 0
	for at, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			needed, ok := w.needed[operation.OperationID]
			if !ok {
				t.Fatalf("nothing says who may do %s", operation.OperationID)
			}
			at := fill(at)
			for _, role := range []store.Role{"", store.Reader, store.Clerk, store.Administrator} {
				may := needed == "" || role.May(needed)
				status, ran := w.send(t, ask(method, at, w.tokens[role]))
				switch {
				case len(ran) > 0 && !may:
					t.Errorf("%s %s runs %v for the role %q", method, at, ran, role)
				case len(ran) > 0:
					allowed++
				case !may && role == "" && status != 401, !may && role != "" && status != 403:
					t.Errorf("%s %s answers %d to the role %q", method, at, status, role)
				}
				if may {
					continue
				}
				for _, other := range spellings(at) {
					for _, how := range []string{method, strings.ToLower(method)} {
						status, ran := w.send(t, ask(how, other, w.tokens[role]))
						more := slices.ContainsFunc(ran, func(one string) bool { return w.needed[one] != "" && !role.May(w.needed[one]) })
						if more || len(ran) == 0 && status >= 200 && status < 300 && method != "GET" {
							t.Errorf("%s %s answers %d and runs %v for the role %q", how, other, status, ran, role)
						}
					}
				}
			}
			for _, other := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "PROPFIND"} {
				for _, override := range []string{"X-HTTP-Method-Override: ", "X-Method-Override: ", "X-HTTP-Method: "} {
					_, ran := w.send(t, ask(other, at, "", override+method))
					for _, one := range ran {
						if w.needed[one] != "" {
							t.Errorf("%s %s with %s%s runs %s for nobody", other, at, override, method, one)
						}
					}
				}
			}
		}
	}
	if allowed < 100 {
		t.Errorf("only %d operations ran for those who may: the test does not try what it says", allowed)
	}
}

// A page of another site makes a browser send the cookie of who is signed in, or nothing.
func TestARequestOfAnotherSiteRunsNothing(t *testing.T) {
	w := watch(t)
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	cookie := "Cookie: inktray_session=" + w.tokens[store.Administrator]
	here := 0
	for at, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			at := fill(at)
			for _, from := range [][]string{{"Origin: https://elsewhere.example"}, {"Origin: null"},
				{"Origin: http://127.0.0.1:3000"}, {"Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: cors"},
				{"Sec-Fetch-Site: same-site", "Sec-Fetch-Mode: no-cors"},
				{"Origin: http://127.0.0.1:8025", "Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: cors"}} {
				for _, with := range [][]string{from, append([]string{cookie}, from...)} {
					for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "application/json"} {
						request := strings.Replace(ask(method, at, "", with...), "application/json", kind, 1)
						_, ran := w.send(t, request)
						if method == "GET" &&
							(w.needed[operation.OperationID] == "" || !strings.Contains(strings.Join(from, " "), "Sec-Fetch")) {
							continue // the answer cannot be read there, and the cookie is not sent (SameSite=Strict)
						}
						if len(ran) > 0 {
							t.Errorf("%s %s with %q and %s runs %v", method, at, with, kind, ran)
						}
					}
				}
			}
			if _, ran := w.send(t,
				ask(method, at, "", cookie, "Origin: http://127.0.0.1:8025", "Sec-Fetch-Site: same-origin")); len(ran) > 0 {
				here++
			}
		}
	}
	if here < 40 {
		t.Errorf("only %d operations ran for our own pages", here)
	}
}

// Another site can have its name lead to this machine; a browser then takes its pages for ours.
func TestOnlyNamesByWhichPeopleReachItAreAnswered(t *testing.T) {
	w := watch(t, "https://inktray.office.example", "http://tray.lan.example:8025")
	for host, want := range map[string]int{
		"127.0.0.1:8025": 200, "127.0.0.1": 200, "[::1]:8025": 200, "192.0.2.7:8025": 200, "localhost:8025": 200,
		"LOCALHOST.": 200, "inktray.office.example": 200, "Inktray.Office.Example:443": 200,
		"tray.lan.example:8025": 200, "elsewhere.example": 421, "elsewhere.example:8025": 421,
		"127.0.0.1.elsewhere.example": 421, "localhost.elsewhere.example": 421,
		"inktray.office.example.elsewhere.example": 421,
		"elsewhere.example@127.0.0.1":              421, "2130706433": 421, "0x7f.1": 421,
	} {
		for _, at := range []string{"/api/v1/version", "/", "/rules", "/API/v1/version"} {
			want := want
			if want == 200 && strings.HasPrefix(at, "/API") {
				want = 404
			}
			request := strings.Replace(ask("GET", at, ""), "Host: 127.0.0.1:8025", "Host: "+host, 1)
			if got, _ := w.send(t, request); got != want && (want != 421 || got != 400) {
				t.Errorf("%s at %q answers %d, want %d", at, host, got, want)
			}
		}
	}
}

func FuzzNobodyRunsAnything(f *testing.F) {
	w := watch(f)
	for _, at := range append(spellings("/api/v1/cabinets"), "/api/v1/cabinets", "/api/v1/passes/1/again") {
		f.Add("GET", at, "X-A: b")
		f.Add("POST", at, "Sec-Fetch-Site: same-origin")
	}
	f.Fuzz(func(t *testing.T, method, at, header string) {
		for _, one := range []string{method, at, header} {
			if strings.ContainsAny(one, "\r\n") || len(one) > 2000 {
				return
			}
		}
		_, ran := w.send(t, ask(method, at, "", header))
		for _, one := range ran {
			if w.needed[one] != "" {
				t.Errorf("%s %s with %s runs %s for nobody", method, at, header, one)
			}
		}
	})
}

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }
