package cli

import (
	"net/http"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

// A token is good for what its scope says, for every operation, and makes no token that may do more.
func TestKeysAreGoodForTheirScopeOnly(t *testing.T) {
	o := openOffice(t, empty)
	boss, _ := o.person("Ines Halloway", store.Administrator)
	token := func(scope string) string {
		t.Helper()
		status, _, answer := o.ask("POST", "/api/v1/tokens", boss, `{"label":"a board","scope":"`+scope+`"}`)
		if status != 201 {
			t.Fatal(status, answer)
		}
		return answer["token"].(string)
	}
	spec, err := openapi3.NewLoader().LoadFromFile("../api/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, scope := range []string{"read", "register", "metrics"} {
		secret, open := token(scope), 0
		for path, item := range spec.Paths.Map() {
			for method, operation := range item.Operations() {
				needed, _ := operation.Extensions["x-permission"].(string)
				if needed == "everyone" || path == "/api/v1/events" || path == "/api/v1/sessions/current" {
					continue
				}
				scopes, _ := operation.Extensions["x-scopes"].([]any)
				may := scope == "read" && needed == "reader" && method == http.MethodGet
				for _, s := range scopes {
					may = may || s == scope || scope == "read" && s == "register"
				}
				body := ""
				if operation.RequestBody != nil {
					body = "{}"
				}
				at := strings.NewReplacer("{id}", "none", "{number}", "9999", "{entry}", "2026-9999").Replace(path)
				status, _, _ := o.ask(method, at, secret, body)
				if (status != 403) != may {
					t.Errorf("a token for %s gets %d of %s", scope, status, operation.OperationID)
				}
				if may {
					open++
				}
			}
		}
		if open == 0 {
			t.Errorf("nothing is open to a token for %s", scope)
		}
	}
	if status, _, _ := o.ask("POST", "/api/v1/tokens", token("read"), `{"label":"more","scope":"full"}`); status != 403 {
		t.Errorf("a token for reading makes one for all: %d", status)
	}
}

// Somebody who is locked is out at once, with sessions, tokens, link and password, and comes in again afterwards.
func TestALockedPersonIsOutAtOnce(t *testing.T) {
	o := openOffice(t, empty)
	boss, _ := o.person("Ines Halloway", store.Administrator)
	t.Setenv("INKTRAY_TOKEN", boss)
	token, _ := o.person("Rowan Tidd", store.Clerk)
	in := func() bool { status, _, _ := o.ask("GET", "/api/v1/me", token, ""); return status == 200 }
	password := func() int {
		status, _, _ := o.ask("POST", "/api/v1/sessions", "", `{"name":"Rowan Tidd","password":"a long password"}`)
		return status
	}
	if !in() {
		t.Fatal("she is not in at first")
	}
	must(t, "people", "lock", "rowan tidd")
	if in() || password() != 401 {
		t.Error("she is in though she is locked")
	}
	must(t, "people", "unlock", "rowan tidd")
	if !in() || password() != 200 {
		t.Error("she does not come in again")
	}
	must(t, "people", "remove", "rowan tidd", "--yes")
	if in() || password() != 401 {
		t.Error("she is in though she was removed")
	}
	for _, action := range []string{"lock person", "unlock person", "remove person", "failed sign-in"} {
		page := value[client.AuditPage](t, "audit", "list", "--text", action)
		if len(page.Lines) == 0 || page.Lines[0].Place == nil || *page.Lines[0].Place != "127.0.0.1" {
			t.Errorf("the trail has %+v of %q", page.Lines, action)
		}
	}
}

// From an invitation to a removal by the command line; what is read is on record, too.
func TestPeopleAreLookedAfterFromTheCommandLine(t *testing.T) {
	o := openOffice(t, theLast)
	out := must(t, "people", "invite", "Rowan Tidd", "--mailboxes", "berths", "--cabinets", "harbour files")
	code := strings.TrimSpace(out[strings.LastIndex(out, "--link ")+len("--link "):])
	t.Setenv("INKTRAY_PASSWORD", "cold tide at dusk")
	admin := o.token
	t.Setenv("INKTRAY_TOKEN", "")
	if out := must(t, "sign-in", "--link", code); !strings.Contains(out, "Signed in as Rowan Tidd") {
		t.Error(out)
	}
	if _, errs, status := run(t, "", "sign-in", "--link", code); status == 0 || !strings.Contains(errs, "was used") {
		t.Errorf("the link is used again: %d %s", status, errs)
	}
	if _, errs, status := run(t, "", "people", "list"); status != exitSignIn || !strings.Contains(errs, "administrator") {
		t.Errorf("a reader lists people: %d %s", status, errs)
	}
	messages := value[[]client.Message](t, "messages", "list")
	for _, m := range messages {
		if m.Mailbox != "berths" {
			t.Errorf("she sees a message of %q", m.Mailbox)
		}
	}
	keys := value[[]client.Key](t, "keys", "list")
	if len(keys) != 1 || !keys[0].This || keys[0].Kind != "token" {
		t.Errorf("her keys are %+v", keys)
	}
	must(t, "keys", "make", "tide board", "--scope", "register", "--days", "5")
	entry := value[client.RegisterPage](t, "register", "list").Filings[0].Entry
	must(t, "register", "fetch", entry, "--to", t.TempDir()+"/f")
	t.Setenv("INKTRAY_TOKEN", admin)
	page := value[client.AuditPage](t, "audit", "list", "--person", "Rowan Tidd")
	var did []string
	for _, l := range page.Lines {
		did = append(did, l.Action)
	}
	want := "download file, make token, end session, make token, sign in"
	if all := strings.Join(did, ", "); !strings.Contains(all, want) {
		t.Errorf("she did: %s", all)
	}
	if table := must(t, "audit", "export", "--text", "tide board"); strings.Count(table, "\r\n") != 2 {
		t.Errorf("the table is %q", table)
	}
	if _, errs, code := run(t, "", "people", "lock", demoPerson); code != exitInvalid ||
		!strings.Contains(errs, "nobody would be left who can sign in as an administrator") {
		t.Errorf("the last administrator is locked: %d %s", code, errs)
	}
	if _, errs, code := run(t, "", "people", "change", "Rowan Tidd", "--mailboxes", "no such"); code != exitInvalid ||
		!strings.Contains(errs, "there is no mailbox “no such”") {
		t.Errorf("a mailbox that is not there: %d %s", code, errs)
	}
}
