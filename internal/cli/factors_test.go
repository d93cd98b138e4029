package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/store"
)

// browser asks the service as a browser does, with cookies.
type browser struct {
	t      testing.TB
	client *http.Client
	at     string
}

func (o *office) browser() *browser {
	jar, err := cookiejar.New(nil)
	if err != nil {
		o.t.Fatal(err)
	}
	return &browser{o.t, &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}, o.service.address()}
}

// ask sends a request from the service's own pages; kind is that of the problem, "" for none.
func (b *browser) ask(method, path, body string) (status int, kind string, answer map[string]any) {
	b.t.Helper()
	r, err := http.NewRequestWithContext(b.t.Context(), method, b.at+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		b.t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	r.Header.Set("Sec-Fetch-Site", "same-origin")
	response, err := b.client.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	if err != nil {
		b.t.Fatal(err)
	}
	_ = json.Unmarshal(data, &answer)
	if response.StatusCode >= 400 {
		kind = fmt.Sprint(answer["type"])
		kind = kind[strings.LastIndexAny(kind, ":/")+1:]
	}
	return response.StatusCode, kind, answer
}

func (b *browser) is(what string, status int, kind string, want int, wanted string) {
	b.t.Helper()
	if status != want || kind != wanted {
		b.t.Errorf("%s: %d %s, want %d %s", what, status, kind, want, wanted)
	}
}

// at is the code that an app shows at a moment.
func codeAt(t testing.TB, secret string, at time.Time) string {
	t.Helper()
	code, err := totp.GenerateCode(secret, at)
	if err != nil {
		t.Fatal(err)
	}
	return code
}

const own = `{"password":"a long password"}`

// enrolled sets up a second factor and gives the app's secret and the recovery codes.
func (b *browser) enrolled(at time.Time) (secret string, codes []any) {
	b.t.Helper()
	status, _, began := b.ask("POST", "/me/factor", own)
	secret = fmt.Sprint(began["secret"])
	if status != 200 || !strings.HasPrefix(fmt.Sprint(began["address"]), "otpauth://totp/") ||
		!strings.HasPrefix(fmt.Sprint(began["picture"]), "data:image/png;base64,") {
		b.t.Fatalf("beginning: %d %v", status, began)
	}
	status, _, done := b.ask("PUT", "/me/factor", `{"code":"`+codeAt(b.t, secret, at)+`"}`)
	codes, _ = done["codes"].([]any)
	if status != 200 || len(codes) != 10 {
		b.t.Fatalf("confirming: %d %v", status, done)
	}
	return secret, codes
}

// With a second factor a password alone lets nobody in, each code works once, and guessing is slowed down as it is for
// passwords.
func TestASecondFactorIsAskedForAndEachCodeWorksOnce(t *testing.T) {
	o := openOffice(t, empty)
	_, id := o.person("Tamsin Hale", store.Clerk)
	b := o.browser()
	enter := func(b *browser, code string) (int, string) {
		t.Helper()
		status, kind, _ := b.ask("POST", "/sessions", `{"name":"Tamsin Hale","password":"a long password","code":"`+code+`"}`)
		return status, kind
	}
	status, kind := enter(b, "")
	b.is("without a factor", status, kind, 200, "")
	status, kind, _ = b.ask("POST", "/me/factor", `{"password":"another"}`)
	b.is("beginning with a wrong password", status, kind, 422, "invalid")
	status, kind, _ = b.ask("PUT", "/me/factor", `{"code":"123456"}`)
	b.is("confirming what was not begun", status, kind, 409, "not-begun")
	secret, codes := b.enrolled(time.Now())
	used := codeAt(t, secret, time.Now())

	other := o.browser()
	status, kind = enter(other, "")
	b.is("the password alone", status, kind, 401, "second-factor")
	status, kind = enter(other, used)
	b.is("the code that proved the app, again", status, kind, 401, "second-factor")
	next := codeAt(t, secret, time.Now().Add(30*time.Second))
	status, kind = enter(other, next[:3]+" "+next[3:])
	b.is("the next code, as people write it", status, kind, 200, "")
	status, kind = enter(o.browser(), next)
	b.is("the same code again", status, kind, 401, "second-factor")
	lost := fmt.Sprint(codes[0])
	status, kind = enter(o.browser(), strings.ToUpper(lost))
	b.is("a recovery code", status, kind, 200, "")
	status, kind = enter(o.browser(), lost)
	b.is("that code again", status, kind, 401, "second-factor")
	if _, _, f := b.ask("GET", "/me/factor", ""); f["set_up"] != true || f["codes"] != 9.0 {
		t.Errorf("the factor is %v", f)
	}
	guess := o.browser()
	for range 12 {
		if status, kind = enter(guess, "000000"); status == 429 {
			break
		}
	}
	if status != 429 {
		t.Errorf("codes are guessed without end: %d %s", status, kind)
	}

	// Whoever has a link to choose a password needs the factor, too; an administrator takes it away.
	admin, _ := o.person("Ines Halloway", store.Administrator)
	t.Setenv("INKTRAY_TOKEN", admin)
	link := regexp.MustCompile(`join#([a-z0-9]+)`).FindStringSubmatch(must(t, "people", "link", "Tamsin Hale"))[1]
	status, kind, _ = other.ask("POST", "/links/use", `{"code":"`+link+`","password":"cold tide at dusk"}`)
	b.is("a link alone", status, kind, 401, "second-factor")
	status, kind, _ = other.ask("POST", "/links/use", `{"code":"`+link+`","password":"cold tide at dusk","factor":"`+
		fmt.Sprint(codes[1])+`"}`)
	b.is("a link with a code", status, kind, 200, "")
	says(t, "removing", must(t, "people", "remove-factor", "Tamsin Hale", "--yes"), "no longer has a second factor")
	says(t, "again", fails(t, "people", "remove-factor", "Tamsin Hale", "--yes"), "has no second factor")
	trail := must(t, "audit", "list", "--output", "json")
	for _, want := range []string{"set up second factor", "use recovery code", "remove second factor"} {
		if !strings.Contains(trail, want) {
			t.Errorf("the trail does not say %q", want)
		}
	}
	if strings.Contains(trail, secret) || strings.Contains(trail, lost) {
		t.Error("a secret is in the trail")
	}
	_ = id
}

// Where a second factor is asked of somebody who has none, she can set one up and do nothing else.
func TestWhoHasToSetUpASecondFactorDoesNothingElse(t *testing.T) {
	o := openOffice(t, empty)
	admin, _ := o.person("Ines Halloway", store.Administrator)
	o.person("Tamsin Hale", store.Clerk)
	clerk := o.browser()
	in := `{"name":"Tamsin Hale","password":"a long password"}`
	if status, _, _ := clerk.ask("POST", "/sessions", in); status != 200 {
		t.Fatal(status)
	}
	t.Setenv("INKTRAY_TOKEN", admin)
	says(t, "asked of oneself", fails(t, "sign-in-rules", "set", "--second-factor", "everyone"),
		"you have no second factor yourself")
	chief := o.browser()
	if status, _, _ := chief.ask("POST", "/sessions", `{"name":"Ines Halloway","password":"a long password"}`); status != 200 {
		t.Fatal(status)
	}
	chief.enrolled(time.Now())
	says(t, "asked of everyone", must(t, "sign-in-rules", "set", "--second-factor", "everyone"),
		"A second factor is required for everyone.")
	status, kind, _ := clerk.ask("GET", "/tray", "")
	clerk.is("a session of before", status, kind, 401, "sign-in")
	status, _, me := clerk.ask("POST", "/sessions", in)
	if status != 200 || me["must_enrol"] != true {
		t.Fatalf("signing in: %d %v", status, me)
	}
	for _, at := range []string{"/tray", "/register", "/mailboxes", "/me/keys", "/events"} {
		status, kind, _ = clerk.ask("GET", at, "")
		clerk.is(at, status, kind, 403, "enrol")
	}
	status, kind, _ = clerk.ask("POST", "/tokens", `{"label":"around it"}`)
	clerk.is("making a token", status, kind, 403, "enrol")
	clerk.enrolled(time.Now())
	status, kind, _ = clerk.ask("GET", "/tray", "")
	clerk.is("afterwards", status, kind, 200, "")
	status, kind, _ = clerk.ask("DELETE", "/me/factor", own)
	clerk.is("removing what is asked for", status, kind, 409, "asked-for")
	must(t, "people", "remove-factor", "Tamsin Hale", "--yes")
	status, kind, _ = clerk.ask("GET", "/tray", "")
	clerk.is("after an administrator removed it", status, kind, 401, "sign-in")
	if status, _, me = clerk.ask("POST", "/sessions", in); status != 200 || me["must_enrol"] != true {
		t.Fatalf("signing in after that: %d %v", status, me)
	}
	clerk.enrolled(time.Now())
	says(t, "asked of nobody", must(t, "sign-in-rules", "set", "--second-factor", "nobody"), "for nobody")
	status, kind, _ = clerk.ask("DELETE", "/me/factor", own)
	clerk.is("removing it", status, kind, 204, "")
}

// through goes to the office's sign-in and back, as somebody with a part in the office, and says where it ends.
func (b *browser) through(o *office, user, role, answer string) string {
	b.t.Helper()
	get := func(at string) *http.Response {
		b.t.Helper()
		r, err := http.NewRequestWithContext(b.t.Context(), http.MethodGet, at, nil)
		if err != nil {
			b.t.Fatal(err)
		}
		response, err := b.client.Do(r)
		if err != nil {
			b.t.Fatal(err)
		}
		response.Body.Close()
		return response
	}
	to, err := get(b.at + "/api/v1/office-door/go").Location()
	if err != nil {
		b.t.Fatal(err)
	}
	if q := to.Query(); q.Get("code_challenge_method") != "S256" || q.Get("nonce") == "" || q.Get("state") == "" {
		b.t.Errorf("the way leads to %s", to)
	}
	form := to.Query()
	form.Set("user", user)
	form.Set("role", role)
	form.Set("answer", answer)
	r, err := http.NewRequestWithContext(b.t.Context(), http.MethodPost, o.authority.Issuer()+"/consent",
		strings.NewReader(form.Encode()))
	if err != nil {
		b.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	response, err := b.client.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	response.Body.Close()
	back, err := response.Location()
	if err != nil {
		b.t.Fatal(err)
	}
	end, err := get(back.String()).Location()
	if err != nil {
		b.t.Fatal(err)
	}
	if why, ok := strings.CutPrefix(end.Fragment, "office="); ok {
		return why
	}
	return end.Path
}

// People come in by the office's own sign-in: who was invited with the same address, and who has a part that gives a
// role. What is forged, replayed or meant for somebody else lets nobody in.
func TestTheOfficesOwnSignIn(t *testing.T) {
	o := openOffice(t, empty)
	admin, _ := o.person("Ines Halloway", store.Administrator)
	t.Setenv("INKTRAY_TOKEN", admin)
	t.Setenv("INKTRAY_SECRET", "shared")
	says(t, "no sign-in there", fails(t, "sign-in-rules", "set", "--issuer", o.service.address(), "--client", "inktray"),
		"no sign-in answers there")
	says(t, "without TLS elsewhere", fails(t, "sign-in-rules", "set", "--issuer", "http://sso.office.example", "--client",
		"inktray"), "begins with https://")
	said := must(t, "sign-in-rules", "set", "--issuer", o.authority.Issuer(), "--client", "inktray", "--name",
		"Brackwater", "--roles", "berth desk=clerk,masters=reader")
	says(t, "the rules", said, "People sign in with Brackwater", "berth desk is clerk", "/api/v1/office-door/back")
	if strings.Contains(said, "shared") {
		t.Error("the secret is shown")
	}
	must(t, "people", "invite", "Rowan Tidd", "--mail", "rowan@brackwater.example", "--role", "reader")

	stranger := o.browser()
	if end := stranger.through(o, "tamsin@brackwater.example", "berth desk", "yes"); end != "uninvited" {
		t.Errorf("somebody who was not invited ends at %q", end)
	}
	rowan := o.browser()
	if end := rowan.through(o, "rowan@brackwater.example", "berth desk", "yes"); end != "/" {
		t.Fatalf("somebody who was invited ends at %q", end)
	}
	if _, _, me := rowan.ask("GET", "/me", ""); me["name"] != "Rowan Tidd" || me["role"] != "clerk" {
		t.Errorf("she is %v: her part in the office makes her a clerk", me)
	}
	if end := rowan.through(o, "rowan@brackwater.example", "berth desk", "no"); end != "refused" {
		t.Errorf("refused, it ends at %q", end)
	}
	must(t, "sign-in-rules", "set", "--make-people")
	if end := stranger.through(o, "tamsin@brackwater.example", "masters", "yes"); end != "/" {
		t.Errorf("somebody with a part ends at %q", end)
	}
	if status, _, seen := stranger.ask("GET", "/register", ""); status != 200 || seen["filings"] == nil {
		t.Errorf("she reads the register: %d %v", status, seen)
	}
	if end := o.browser().through(o, "guest@brackwater.example", "guests", "yes"); end != "uninvited" {
		t.Errorf("somebody whose part gives no role ends at %q", end)
	}
	// The office proves who she is. Her password alone does not, where a second factor is asked.
	way := regexp.MustCompile(`join#([a-z0-9]+)`).FindStringSubmatch(must(t, "people", "link", "Rowan Tidd"))[1]
	in := `{"name":"Rowan Tidd","password":"warm quay at noon"}`
	status, kind, _ := rowan.ask("POST", "/links/use", `{"code":"`+way+`","password":"warm quay at noon"}`)
	rowan.is("a password beside the office's sign-in", status, kind, 200, "")
	chief := o.browser()
	if status, _, _ := chief.ask("POST", "/sessions", `{"name":"Ines Halloway","password":"a long password"}`); status != 200 {
		t.Fatal(status)
	}
	chief.enrolled(time.Now())
	must(t, "sign-in-rules", "set", "--second-factor", "everyone")
	if status, _, me := rowan.ask("POST", "/sessions", in); status != 200 || me["must_enrol"] != true {
		t.Errorf("by her password alone: %d %v", status, me)
	}
	if end := rowan.through(o, "rowan@brackwater.example", "berth desk", "yes"); end != "/" {
		t.Errorf("by the office she ends at %q", end)
	}
	status, kind, _ = rowan.ask("GET", "/register", "")
	rowan.is("by the office", status, kind, 200, "")
	must(t, "sign-in-rules", "set", "--second-factor", "nobody")
	status, kind, _ = chief.ask("DELETE", "/me/factor", own)
	chief.is("removing the second factor", status, kind, 204, "")
	must(t, "people", "lock", "Rowan Tidd")
	end := o.browser().through(o, "rowan@brackwater.example", "berth desk", "yes")
	if end != "locked" {
		t.Errorf("somebody who is locked ends at %q", end)
	}

	// What cannot be believed.
	for what, lie := range map[string]func(map[string]any){
		"for another service": func(c map[string]any) { c["aud"] = "another" },
		"of another sign-in":  func(c map[string]any) { c["iss"] = "http://127.0.0.1:1" },
		"too old":             func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"of another question": func(c map[string]any) { c["nonce"] = "another" },
		"an address nobody verified": func(c map[string]any) {
			c["email_verified"], c["sub"], c["roles"] = false, "new", nil
		},
	} {
		o.authority.Say = lie
		if end := o.browser().through(o, "rowan@brackwater.example", "berth desk", "yes"); end == "/" {
			t.Errorf("what is said %s lets somebody in", what)
		} else if end != "unbelieved" && end != "uninvited" {
			t.Errorf("what is said %s ends at %q", what, end)
		}
	}
	o.authority.Say = nil
	b := o.browser()
	status, _, _ = b.ask("GET", "/office-door/back?state=none&code=none", "")
	service := &url.URL{Scheme: "http", Host: strings.TrimPrefix(b.at, "http://")}
	if status != 302 || len(b.client.Jar.Cookies(service)) > 0 {
		t.Errorf("coming back without having gone: %d", status)
	}

	// Only administrators sign in by password, and there is always a way without the office's sign-in.
	must(t, "sign-in-rules", "set", "--only")
	if err := o.service.store.People.Add(t.Context(), store.Person{ID: store.NewID(), Name: "Oda Fenwick",
		Password: api.HashPassword("a long password"), Role: store.Reader, MadeAt: time.Now()}, "test"); err != nil {
		t.Fatal(err)
	}
	status, kind, _ = b.ask("POST", "/sessions", `{"name":"Oda Fenwick","password":"a long password"}`)
	b.is("a reader by password", status, kind, 403, "office-only")
	link := regexp.MustCompile(`join#([a-z0-9]+)`).FindStringSubmatch(must(t, "people", "link", "Oda Fenwick"))[1]
	status, kind, _ = b.ask("POST", "/links/use", `{"code":"`+link+`","password":"cold tide at dusk"}`)
	b.is("a reader by a link", status, kind, 403, "office-only")
	o.authority.Close()
	if err := o.service.stop(); err != nil { // which forgets what the sign-in said of itself
		t.Fatal(err)
	}
	var err error
	if o.service, err = start(o.options); err != nil {
		t.Fatal(err)
	}
	t.Setenv("INKTRAY_SERVICE", o.service.address())
	b = o.browser()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, b.at+"/api/v1/office-door/go", nil)
	if err != nil {
		t.Fatal(err)
	}
	away, err := b.client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	away.Body.Close()
	if to := away.Header.Get("Location"); away.StatusCode != 302 || to != "/#office=silent" {
		t.Errorf("a sign-in that does not answer: %d %s", away.StatusCode, to)
	}
	status, kind, _ = b.ask("POST", "/sessions", `{"name":"Ines Halloway","password":"a long password"}`)
	b.is("an administrator by password", status, kind, 200, "")
	says(t, "none any more", must(t, "sign-in-rules", "set", "--issuer", ""), "There is no sign-in of the office")
}
