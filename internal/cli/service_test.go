package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// ask calls the interface as any program would.
func (o *office) ask(method, path, token, body string, headers ...string) (int, http.Header, map[string]any) {
	o.t.Helper()
	status, header, data := o.request(method, path, token, body, headers...)
	var v map[string]any
	json.Unmarshal(data, &v)
	return status, header, v
}

func (o *office) request(method, path, token, body string, headers ...string) (int, http.Header, []byte) {
	o.t.Helper()
	r, err := http.NewRequestWithContext(o.t.Context(), method, o.service.address()+path, strings.NewReader(body))
	if err != nil {
		o.t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		o.t.Fatal(err)
	}
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	if err != nil {
		o.t.Fatal(err)
	}
	return response.StatusCode, response.Header, data
}

func (o *office) person(name string, role store.Role) (token, id string) {
	o.t.Helper()
	p := store.Person{ID: store.NewID(), Name: name, Password: api.HashPassword("a long password"), Role: role,
		MadeAt: time.Now()}
	if err := o.service.store.People.Add(o.t.Context(), p, "test"); err != nil {
		o.t.Fatal(err)
	}
	token, err := (&command{service: o.service.address()}).tokenFor(o.t.Context(), name, "a long password", "", "")
	if err != nil {
		o.t.Fatal(err)
	}
	return token, p.ID
}

func TestEveryOperationNamesItsPermissionAndKeepsIt(t *testing.T) {
	o := openOffice(t, theLast)
	clerk, _ := o.person("Tamsin Clerk", store.Clerk)
	reader, _ := o.person("Rowan Reader", store.Reader)
	spec, err := openapi3.NewLoader().LoadFromFile(filepath.Join("..", "api", "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	operations := 0
	for path, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			operations++
			needed, _ := operation.Extensions["x-permission"].(string)
			if path == "/api/v1/events" || path == "/api/v1/sessions/current" {
				continue // a stream without end; and signing out, which would end this test's token
			}
			path := strings.NewReplacer("{id}", "none", "{number}", "999999", "{entry}", "2026-999999").Replace(path)
			body := ""
			if operation.RequestBody != nil {
				body = "{}"
			}
			try := func(token string) int { status, _, _ := o.ask(method, path, token, body); return status }
			for _, c := range []struct {
				who, token string
				role       store.Role
			}{{"nobody", "", ""}, {"a reader", reader, store.Reader}, {"a clerk", clerk, store.Clerk}} {
				status := try(c.token)
				refused := status == 401 || status == 403
				switch {
				case needed == "everyone":
					if c.token != "" && refused && !strings.Contains(path, "sessions") && !strings.Contains(path, "setup") {
						t.Errorf("%s %s refuses %s (%d), though everyone may", method, path, c.who, status)
					}
				case !c.role.May(store.Role(needed)) && !refused:
					t.Errorf("%s %s answers %s with %d, though it needs the role %q", method, path, c.who, status, needed)
				case c.role.May(store.Role(needed)) && refused:
					t.Errorf("%s %s refuses %s (%d), who has the role %s", method, path, c.who, status, needed)
				}
			}
		}
	}
	if operations < 35 {
		t.Errorf("only %d operations were tried", operations)
	}
}

func TestAPersonSeesOnlyTheMailboxesThatAreHis(t *testing.T) {
	o := openOffice(t, theLast)
	token, id := o.person("Rowan Reader", store.Reader)
	boxes, err := o.service.store.Mailboxes.All(t.Context(), store.System)
	if err != nil {
		t.Fatal(err)
	}
	only := boxes[0] // berths
	if err := restrict(t, o.service.store, id, []string{only.ID}); err != nil {
		t.Fatal(err)
	}
	c, err := (&command{service: o.service.address()}).connectWith(token)
	if err != nil {
		t.Fatal(err)
	}
	mailboxes, err := call[[]client.Mailbox](c.ListMailboxes(t.Context()))
	if err != nil || len(mailboxes) != 1 || mailboxes[0].Name != only.Name {
		t.Errorf("mailboxes: %+v, %v", mailboxes, err)
	}
	most := 500
	messages, err := call[[]client.Message](c.ListMessages(t.Context(), &client.ListMessagesParams{Most: &most}))
	if err != nil || len(messages) == 0 {
		t.Fatal(messages, err)
	}
	for _, m := range messages {
		if m.Mailbox != only.Name {
			t.Fatalf("a message of %q is shown", m.Mailbox)
		}
	}
	page, err := call[client.RegisterPage](c.ListRegister(t.Context(), &client.ListRegisterParams{Most: &most}))
	if err != nil || page.Total != len(page.Filings) || page.Total == 0 {
		t.Fatal(page.Total, err)
	}
	for _, f := range page.Filings {
		if f.Mailbox != only.Name {
			t.Fatalf("a filing of %q is shown", f.Mailbox)
		}
	}
	// What waits belongs to the safety mailbox.
	tray, err := call[client.Tray](c.ListTray(t.Context(), &client.ListTrayParams{}))
	if err != nil || tray.Count != 0 {
		t.Errorf("tray: %+v, %v", tray, err)
	}
	all, err := call[client.RegisterPage](o.api.ListRegister(t.Context(), &client.ListRegisterParams{}))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range all.Filings {
		if f.Mailbox == only.Name {
			continue
		}
		for _, path := range []string{"/api/v1/register/" + f.Entry, "/api/v1/register/" + f.Entry + "/file",
			"/api/v1/messages/" + itoa(f.Message)} {
			if status, _, _ := o.ask("GET", path, token, ""); status != 404 {
				t.Errorf("%s answers %d", path, status)
			}
		}
		break
	}
}

func TestProblemsSayWhatIsWrongWhereAndWhatToDo(t *testing.T) {
	o := openOffice(t, theLast)
	good := `{"name":"x","cabinet":"harbour files","look":{"mailboxes":"gauges"},"match":{"subject":{"contains":"x"}},"rest":{"folder":"A"}}`
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		kind, place, says        string
	}{
		{"unknown key", "POST", "/api/v1/rules", strings.Replace(good, `"match"`, `"mach"`, 1), 422, "invalid-rule", "mach",
			"there is no key"},
		{"unknown field", "POST", "/api/v1/rules", strings.Replace(good, `"A"`, `"A/<recieved year>"`, 1), 422,
			"invalid-rule", "rest.folder", "column 4"},
		{"unknown cabinet", "POST", "/api/v1/rules", strings.Replace(good, "harbour files", "harbor files", 1), 422,
			"invalid-rule", "cabinet", "there are: harbour files"},
		{"unknown mailbox", "POST", "/api/v1/rules", strings.Replace(good, "gauges", "gagues", 1), 422, "invalid-rule",
			"look.mailboxes", "no mailbox called"},
		{"name taken", "POST", "/api/v1/rules", strings.Replace(good, `"x"`, `"Crew lists"`, 1), 422, "invalid-rule", "name",
			"already"},
		{"a rehearsal is checked too", "POST", "/api/v1/rules/rehearse",
			strings.Replace(good, `"contains":"x"`, `"matches":"("`, 1), 422, "invalid-rule", "match.subject.matches",
			"regular expression"},
		{"a cabinet that is not there", "POST", "/api/v1/cabinets", `{"name":"y","folder":"/nowhere/at/all"}`, 422, "cabinet",
			"folder", "not there"},
		{"a relative folder", "POST", "/api/v1/cabinets", `{"name":"y","folder":"files"}`, 422, "cabinet", "folder",
			"whole path"},
		{"a cabinet twice", "POST", "/api/v1/cabinets",
			fmt.Sprintf(`{"name":"y","folder":%q}`, filepath.Join(o.folder, "files")), 422, "cabinet", "folder", "already"},
		{"mailbox's name taken", "POST", "/api/v1/mailboxes",
			`{"name":"gauges","host":"h","encryption":"tls","username":"u"}`, 409, "taken", "name", "already"},
		{"missing field", "POST", "/api/v1/mailboxes", `{"name":"z","encryption":"tls","username":"u"}`, 422, "invalid", "",
			"host"},
		{"extra field", "POST", "/api/v1/sessions", `{"name":"z","password":"p","admin":true}`, 422, "invalid", "", "admin"},
		{"wrong password", "POST", "/api/v1/sessions", `{"name":"Ines Halloway","password":"p"}`, 401, "wrong-password", "",
			"not right"},
		{"not JSON", "POST", "/api/v1/sessions", `{"name":`, 422, "invalid", "", ""},
		{"no such address", "GET", "/api/v1/nothing", "", 404, "no-such-address", "", "there is nothing"},
		{"no such rule", "GET", "/api/v1/rules/none", "", 404, "not-found", "", ""},
		{"a mailbox in use", "DELETE", "/api/v1/mailboxes/" + o.mailboxID("gauges"), "", 409, "in-use", "",
			"Tide gauge readings"},
		{"a pass that has ended", "PUT", "/api/v1/passes/1", `{"to":"stopped"}`, 409, "ended", "", "has ended"},
		{"not a number of the register", "GET", "/api/v1/register/x", "", 422, "invalid", "", ""},
	} {
		status, header, p := o.ask(c.method, c.path, o.token, c.body)
		detail, _ := p["detail"].(string)
		kind, _ := p["type"].(string)
		place := ""
		if list, ok := p["problems"].([]any); ok && len(list) > 0 {
			place, _ = list[0].(map[string]any)["place"].(string)
		}
		if status != c.status || kind != "urn:inktray:problem:"+c.kind || c.place != "" && place != c.place ||
			!strings.Contains(detail, c.says) || header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s at %q: %q; want %d %s at %q: ...%s...", c.name, status, kind, place, detail, c.status, c.kind,
				c.place, c.says)
		}
	}
	if rules := value[[]client.Rule](t, "rules", "list"); len(rules) != 7 {
		t.Errorf("%d rules after all these mistakes, want 7", len(rules))
	}
}

func (o *office) mailboxID(name string) string {
	o.t.Helper()
	m, err := o.service.store.Mailboxes.Named(o.t.Context(), store.System, name)
	if err != nil {
		o.t.Fatal(err)
	}
	return m.ID
}

func TestTwoPeopleDoNotOverwriteEachOther(t *testing.T) {
	o := openOffice(t, theLast)
	r, err := call[client.Rule](o.api.GetRule(t.Context(), "crew-lists"))
	if err != nil {
		t.Fatal(err)
	}
	body := string(r.Document)
	first := strings.Replace(body, "crew list", "crew", 1)
	if status, header, _ := o.ask("PUT", "/api/v1/rules/crew-lists", o.token, first, "If-Match", `"1"`); status != 200 ||
		header.Get("ETag") != `"2"` {
		t.Fatalf("the first change: %d, ETag %s", status, header.Get("ETag"))
	}
	if status, _, p := o.ask("PUT", "/api/v1/rules/crew-lists", o.token, body, "If-Match", `"1"`); status != 412 ||
		p["type"] != "urn:inktray:problem:changed" {
		t.Errorf("the second change: %d, %v", status, p)
	}
}

func TestSecretsNeverComeBack(t *testing.T) {
	o := openOffice(t, theLast)
	for _, path := range []string{"/api/v1/mailboxes", "/api/v1/mailboxes/" + o.mailboxID("gauges"), "/api/v1/today",
		"/api/v1/passes"} {
		response, err := http.NewRequest("GET", o.service.address()+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		response.Header.Set("Authorization", "Bearer "+o.token)
		got, err := http.DefaultClient.Do(response)
		if err != nil {
			t.Fatal(err)
		}
		data, _ := io.ReadAll(got.Body)
		got.Body.Close()
		if bytes.Contains(data, []byte(`"`+demo.Password+`"`)) || bytes.Contains(data, []byte("secret")) {
			t.Errorf("%s tells a secret: %s", path, data)
		}
	}
	for _, name := range []string{"inktray.db", "inktray.db-wal"} {
		data, err := os.ReadFile(filepath.Join(o.folder, "records", name))
		if err == nil && bytes.Contains(data, []byte(demo.Password)) {
			t.Errorf("%s holds the secret in clear", name)
		}
	}
	if info, err := os.Stat(filepath.Join(o.folder, "records", "secret.key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key may be read by others: %v, %v", info.Mode(), err)
	}
	mailbox := fmt.Sprintf(
		`{"name":"gauges","host":"localhost","port":%d,"encryption":"none","username":"gauges@brackwater.example"}`,
		o.mail.Port())
	if status, _, p := o.ask("PUT", "/api/v1/mailboxes/"+o.mailboxID("gauges"), o.token, mailbox); status != 422 ||
		!strings.Contains(fmt.Sprint(p["detail"]), "the secret was given for another host") {
		t.Errorf("the kept secret goes to another host: %d, %v", status, p)
	}
	// A check with another host must not send the kept secret there.
	status, _, _ := o.ask("POST", "/api/v1/mailboxes/check?id="+o.mailboxID("gauges"), o.token,
		fmt.Sprintf(
			`{"name":"gauges","host":"localhost","port":%d,"encryption":"none","username":"gauges@brackwater.example"}`,
			o.mail.Port()))
	if status != 422 {
		t.Errorf("a check of another host with the kept secret answers %d", status)
	}
}

func TestGuessingIsSlowedDown(t *testing.T) {
	o := openOffice(t, theLast)
	var last int
	for range 5 {
		last, _, _ = o.ask("POST", "/api/v1/sessions", "", `{"name":"ines halloway","password":"wrong"}`)
	}
	if last != 429 {
		t.Errorf("the fifth wrong try is answered with %d, want 429", last)
	}
	if status, _, _ := o.ask("POST", "/api/v1/sessions", "", `{"name":"ines halloway","password":"`+demo.Password+
		`"}`); status != 429 {
		t.Errorf("the right password right after is answered with %d, want 429", status)
	}
	for range 5 {
		last, _, _ = o.ask("POST", "/api/v1/setup", "", `{"code":"guess","name":"x","password":"long enough"}`)
	}
	if last != 409 {
		t.Errorf("set-up of a service that is set up: %d, want 409", last)
	}
}

func TestAnotherSiteCannotAct(t *testing.T) {
	o := openOffice(t, theLast)
	_, header, _ := o.ask("POST", "/api/v1/sessions", "",
		fmt.Sprintf(`{"name":%q,"password":%q}`, demoPerson, demo.Password))
	cookie := ""
	for _, one := range header.Values("Set-Cookie") { // the other one only knows the browser again
		if strings.HasPrefix(one, "inktray_session=") {
			cookie, _, _ = strings.Cut(one, ";")
		}
	}
	if !strings.Contains(header.Get("Set-Cookie"), "HttpOnly; SameSite=Strict") {
		t.Errorf("cookie: %s", header.Get("Set-Cookie"))
	}
	post := func(headers ...string) int {
		status, _, _ := o.ask("POST", "/api/v1/rules/crew-lists/off", "", "",
			append([]string{"Cookie", cookie}, headers...)...)
		return status
	}
	if status := post("Origin", "http://elsewhere.example"); status != 403 {
		t.Errorf("from another site: %d", status)
	}
	if status := post("Sec-Fetch-Site", "cross-site"); status != 403 {
		t.Errorf("cross-site: %d", status)
	}
	if status := post(); status != 403 {
		t.Errorf("from nowhere: %d", status)
	}
	if status := post("Origin", o.service.address()); status != 200 {
		t.Errorf("from our own page: %d", status)
	}
	status, header, _ := o.ask("GET", "/", "", "")
	if policy := header.Get("Content-Security-Policy"); status != 200 || !strings.Contains(policy, "default-src 'none'") ||
		strings.Contains(policy, "unsafe") {
		t.Errorf("the page: %d, policy %q", status, policy)
	}
}

func TestEventsTellWhatHappens(t *testing.T) {
	o := openOffice(t, theLast)
	response, err := o.api.GetEvents(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	got := make(chan string, 100)
	go func() {
		defer close(got)
		lines := bufio.NewScanner(response.Body)
		for lines.Scan() {
			got <- lines.Text()
		}
	}()
	l := demo.Next(1, time.Now())
	if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
		t.Fatal(err)
	}
	deadline := time.After(testbed.Patience)
	for {
		select {
		case line := <-got:
			if line == "event: message" {
				return
			}
		case <-deadline:
			t.Fatal("no event told of the message")
		}
	}
}

func TestAFiledFileIsFetchedAsItWasSent(t *testing.T) {
	o := openOffice(t, theLast)
	page := value[client.RegisterPage](t, "register", "list", "--text", "certificate.pdf", "--most", "5")
	if len(page.Filings) == 0 {
		t.Fatal("no certificate was filed")
	}
	f := page.Filings[0]
	to := filepath.Join(t.TempDir(), "got.pdf")
	must(t, "register", "fetch", f.Entry, "--to", to)
	got, err := os.ReadFile(to)
	if err != nil || !bytes.HasPrefix(got, []byte("%PDF")) || int64(len(got)) != f.Size {
		t.Errorf("%d octets, %v; want %d", len(got), err, f.Size)
	}
	if _, errs, code := run(t, "", "register", "fetch", f.Entry, "--to", to); code != exitInvalid ||
		!strings.Contains(errs, "is there already") {
		t.Errorf("over a file that is there: %d, %s", code, errs)
	}
	if err := os.Remove(filepath.Join(o.folder, "files", f.Folder, f.File)); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := run(t, "", "register", "fetch", f.Entry, "--to", to+"2"); code != exitMissing ||
		!strings.Contains(errs, "no longer where it was filed") {
		t.Errorf("a file that is gone: %d, %s", code, errs)
	}
}

// A request says how much it brings, and is refused before any of it is read; mail
// may be more, from somebody who is known.
func TestHowMuchARequestMayBring(t *testing.T) {
	o := openOffice(t, empty)
	o.first()
	must(t, "mailboxes", "add", "mail from files", "--kind", "files")
	id := o.mailboxID("mail from files")
	announce := func(path, token string, octets int) (status, body string) {
		t.Helper()
		c, err := net.Dial("tcp", strings.TrimPrefix(o.service.address(), "http://"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/octet-stream\r\nContent-Length: "+
			"%d\r\nAuthorization: Bearer %s\r\n\r\n", path, octets, token)
		answer, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		said, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.Status, string(said)
	}
	mail := "/api/v1/mailboxes/" + id + "/messages"
	for _, c := range []struct {
		name, path, token string
		octets            int
		says              string
	}{
		{"more mail than is taken", mail, o.token, 200 << 20, "128 MB"},
		{"mail of a stranger", mail, "x", 9 << 20, "8 MB"},
		{"a rule", "/api/v1/rules", o.token, 9 << 20, "8 MB"},
	} {
		if status, body := announce(c.path, c.token, c.octets); !strings.HasPrefix(status, "413 ") ||
			!strings.Contains(body, c.says) {
			t.Errorf("%s: %s %s", c.name, status, body)
		}
	}
	large := written(t, letterWith("large", "large.csv", strings.Repeat("0123456789abcdef\r\n", 12<<20/18)))
	says(t, "a large letter", must(t, "messages", "take-in", large), "1         0")
}

func TestTheServiceEndsWhileConnectionsAreHeldInAdvance(t *testing.T) {
	held := []net.Conn{}
	t.Cleanup(func() { // after the service's end, which is checked
		for _, c := range held {
			c.Close()
		}
	})
	o := openOffice(t, empty)
	for range 3 {
		c, err := net.Dial("tcp", strings.TrimPrefix(o.service.address(), "http://"))
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, c)
	}
	o.first() // asked over a later connection: those before are taken by then
}

func TestAServiceThatIsEndedAtOnceComesToItsEnd(t *testing.T) {
	o := openOffice(t, empty)
	for range 8 {
		if err := o.service.stop(); err != nil {
			t.Fatal(err)
		}
		var err error
		if o.service, err = start(o.options); err != nil {
			t.Fatal(err)
		}
	}
	at := o.service.listener.Addr().String()
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	if c, err := net.Dial("tcp", at); err == nil {
		c.Close()
		t.Error("it is listened on for an ended service")
	}
	var err error
	if o.service, err = start(o.options); err != nil {
		t.Fatal(err)
	}
}
