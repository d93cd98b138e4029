package api

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/store"
)

// door is the interface as far as people come in by it.
func door(t *testing.T) *watched {
	w := watch(t)
	s, err := New(w.Config)
	if err != nil {
		t.Fatal(err)
	}
	w.Server = s
	w.app.Server().Handler = w.app.Handler()
	return w
}

// comes sends what somebody at an address of his own sends.
func (w *watched) comes(t testing.TB, at, content string, headers ...string) *http.Response {
	t.Helper()
	r, err := http.NewRequest("POST", "http://127.0.0.1:8025"+at, strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		r.Header.Set(name, value)
	}
	response, err := w.app.Test(r, fiber.TestConfig{Timeout: time.Minute})
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	return response
}

func signsIn(name, password string) string {
	return fmt.Sprintf(`{"name":%q,"password":%q}`, name, password)
}

func TestTheSetUpLinkMakesOneAdministratorAlsoWhenItIsUsedSeveralTimesAtOnce(t *testing.T) {
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	code, err := SetupCode(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	w := &watched{}
	if w.Server, err = New(Config{Store: s, Clock: time.Now, Log: quiet()}); err != nil {
		t.Fatal(err)
	}
	if got := w.comes(t, "/api/v1/setup",
		fmt.Sprintf(`{"code":%q,"name":"Ines","password":"Password1234"}`, code)).StatusCode; got != 422 {
		t.Errorf("a common password answers %d", got)
	}
	var all sync.WaitGroup
	answers := make([]int, 12)
	for i := range answers {
		all.Go(func() {
			answers[i] = w.comes(t, "/api/v1/setup",
				fmt.Sprintf(`{"code":%q,"name":"Ines %d","password":"lantern buoy rope"}`, code, i)).StatusCode
		})
	}
	all.Wait()
	made := 0
	for _, a := range answers {
		if a == 200 {
			made++
		} else if a != 409 && a != 403 && a != 429 {
			t.Errorf("one of several uses answers %d", a)
		}
	}
	people, err := s.People.All(t.Context())
	if err != nil || len(people) != 1 || made != 1 {
		t.Errorf("the link made %d people, %d were told so: %v", len(people), made, err)
	}
	if got := w.comes(t, "/api/v1/setup",
		fmt.Sprintf(`{"code":%q,"name":"Mallory","password":"lantern buoy rope"}`, code)).StatusCode; got != 409 {
		t.Errorf("using the link again answers %d", got)
	}
}

func TestManyGuessesAtOnceTakeLittleMemory(t *testing.T) {
	w := door(t)
	runtime.GC()
	var before, during runtime.MemStats
	runtime.ReadMemStats(&before)
	var all sync.WaitGroup
	var mu sync.Mutex
	answers := map[int]int{}
	most := uint64(0)
	for i := range 100 {
		all.Go(func() {
			got := w.comes(t, "/api/v1/sessions", signsIn(fmt.Sprint("guess ", i), "whatever it is")).StatusCode
			mu.Lock()
			defer mu.Unlock()
			answers[got]++
			runtime.ReadMemStats(&during)
			most = max(most, during.HeapAlloc)
		})
	}
	all.Wait()
	if most > before.HeapAlloc+400<<20 {
		t.Errorf("a hundred guesses at once used %d MB", (most-before.HeapAlloc)>>20)
	}
	if answers[429] == 0 || answers[401] == 0 || answers[429]+answers[401] != 100 {
		t.Errorf("a hundred guesses were answered so: %v", answers)
	}
}

// Whoever guesses cannot keep out the person whose name he tries.
func TestAStrangerWhoGuessesDoesNotLockSomebodyOut(t *testing.T) {
	w := door(t)
	const right = "lantern buoy rope"
	ines := store.Person{ID: store.NewID(), Name: "Ines", Password: HashPassword(right), Role: store.Administrator,
		MadeAt: time.Now()}
	if err := w.Store.People.Add(t.Context(), ines, "test"); err != nil {
		t.Fatal(err)
	}
	first := w.comes(t, "/api/v1/sessions", signsIn("Ines", right))
	mark := ""
	for _, k := range first.Cookies() {
		if k.Name == browserName(false) {
			mark = k.Name + "=" + k.Value
		}
	}
	if first.StatusCode != 200 || mark == "" {
		t.Fatalf("signing in answers %d and marks the browser with %q", first.StatusCode, mark)
	}
	refused := 0
	for range 20 {
		if w.comes(t, "/api/v1/sessions", signsIn("iNES", "wrong wrong wrong")).StatusCode == 429 {
			refused++
		}
	}
	if refused < 15 {
		t.Errorf("only %d of 20 guesses were slowed down", refused)
	}
	if got := w.comes(t, "/api/v1/sessions", signsIn("Ines", right)).StatusCode; got != 429 {
		t.Errorf("the guesser's own place answers %d to the right password", got)
	}
	if got := w.comes(t, "/api/v1/sessions", signsIn("Ines", right), "Cookie: "+mark).StatusCode; got != 200 {
		t.Errorf("in her own browser Ines is answered %d", got)
	}
	for _, forged := range []string{"x.y", browserName(false), strings.Replace(mark, "=", "=A", 1), mark + "x"} {
		if got := w.comes(t, "/api/v1/sessions", signsIn("Ines", right), "Cookie: "+browserName(false)+"="+
			strings.TrimPrefix(forged, browserName(false)+"=")).StatusCode; got != 429 {
			t.Errorf("with the forged mark %q it answers %d", forged, got)
		}
	}
	wrong := 0
	for range 10 {
		if w.comes(t, "/api/v1/sessions", signsIn("Ines", "wrong wrong wrong"), "Cookie: "+mark).StatusCode == 429 {
			wrong++
		}
	}
	if wrong < 5 {
		t.Errorf("in a known browser only %d of 10 guesses were slowed down", wrong)
	}
	// Another place is let in even so.
	w.Server.throttle.tries = map[string]*tries{}
	for range 10 {
		w.throttle.failed("at 192.0.2.9 ines", freeTries)
	}
	if got := w.comes(t, "/api/v1/sessions", signsIn("Ines", right)).StatusCode; got != 200 {
		t.Errorf("guesses from another place keep Ines out: %d", got)
	}
}

func TestOverTLSTheCookieIsForThisHostAlone(t *testing.T) {
	w := watch(t, "https://inktray.office.example")
	s, err := New(w.Config)
	if err != nil {
		t.Fatal(err)
	}
	w.Server = s
	p := store.Person{ID: store.NewID(), Name: "Ines", Password: HashPassword("lantern buoy rope"), Role: store.Reader,
		MadeAt: time.Now()}
	if err := w.Store.People.Add(t.Context(), p, "test"); err != nil {
		t.Fatal(err)
	}
	for host, secure := range map[string]bool{"inktray.office.example": true, "127.0.0.1:8025": false} {
		r, _ := http.NewRequest("POST", "http://"+host+"/api/v1/sessions",
			bytes.NewReader([]byte(signsIn("Ines", "lantern buoy rope"))))
		r.Header.Set("Content-Type", "application/json")
		response, err := w.app.Test(r, fiber.TestConfig{Timeout: time.Minute})
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, response.Body)
		response.Body.Close()
		if len(response.Cookies()) != 2 {
			t.Errorf("%s sets %d cookies", host, len(response.Cookies()))
		}
		for _, k := range response.Cookies() {
			if k.Secure != secure || strings.HasPrefix(k.Name, "__Host-") != secure || !k.HttpOnly ||
				k.SameSite != http.SameSiteStrictMode || k.Path != "/" || k.Domain != "" {
				t.Errorf("%s sets the cookie %s", host, k)
			}
		}
		if has := response.Header.Get("Strict-Transport-Security") != ""; has != secure {
			t.Errorf("%s: HSTS is sent: %v", host, has)
		}
		for name, works := range map[string]bool{cookieName(true): secure, cookieName(false): !secure} {
			r, _ := http.NewRequest("GET", "http://"+host+"/api/v1/me", nil)
			r.AddCookie(&http.Cookie{Name: name, Value: response.Cookies()[0].Value})
			for _, k := range response.Cookies() {
				if !strings.HasSuffix(k.Name, "_known") {
					r.Header.Set("Cookie", name+"="+k.Value)
				}
			}
			answer, err := w.app.Test(r)
			if err != nil {
				t.Fatal(err)
			}
			answer.Body.Close()
			if (answer.StatusCode == 200) != works {
				t.Errorf("%s with the cookie %s answers %d", host, name, answer.StatusCode)
			}
		}
	}
}
