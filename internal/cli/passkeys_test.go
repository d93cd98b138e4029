package cli

import (
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"testing"

	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// named opens the service by a name, for which browsers keep passkeys, and gives a device with such a browser.
func (o *office) named() (*browser, *testbed.Device) {
	o.t.Helper()
	b := o.browser()
	_, port, err := net.SplitHostPort(strings.TrimPrefix(b.at, "http://"))
	if err != nil {
		o.t.Fatal(err)
	}
	b.at = "http://localhost:" + port
	return b, testbed.NewDevice(o.t, b.at, "localhost")
}

// question asks for what a device is asked.
func (b *browser) question(path, body string) (options map[string]any, ticket string) {
	b.t.Helper()
	status, kind, q := b.ask("POST", path, body)
	if status != 200 {
		b.t.Fatalf("%s: %d %s", path, status, kind)
	}
	options, _ = q["options"].(map[string]any)
	return options, fmt.Sprint(q["ticket"])
}

// answer sends what a device answered.
func (b *browser) answer(path, ticket string, credential map[string]any, more ...string) (status int, kind string,
	answer map[string]any) {
	b.t.Helper()
	body := map[string]any{"ticket": ticket, "credential": credential}
	for i := 0; i < len(more); i += 2 {
		body[more[i]] = more[i+1]
	}
	data, err := json.Marshal(body)
	if err != nil {
		b.t.Fatal(err)
	}
	return b.ask("POST", path, string(data))
}

// addsPasskey adds the passkey of a device.
func (b *browser) addsPasskey(d *testbed.Device, name string) (status int, kind string, answer map[string]any) {
	b.t.Helper()
	options, ticket := b.question("/me/passkeys/begin", own)
	return b.answer("/me/passkeys", ticket, d.Make(options), "name", name)
}

// entersWith signs in by a device's passkey.
func (b *browser) entersWith(d *testbed.Device) (status int, kind string, answer map[string]any) {
	b.t.Helper()
	options, ticket := b.question("/sessions/passkey/begin", "")
	return b.answer("/sessions/passkey", ticket, d.Answer(options))
}

// A passkey lets its owner in without a password; from then on the password alone does not. Nothing that is said by
// another page, by nobody at the device, by another key, twice or too late is believed.
func TestAPasskeyLetsItsOwnerInAndNobodyElse(t *testing.T) {
	o := openOffice(t, empty)
	_, id := o.person("Tamsin Hale", store.Clerk)
	o.person("Rowan Keld", store.Clerk)
	enter := func(b *browser, name, code string) (int, string) {
		status, kind, _ := b.ask("POST", "/sessions", `{"name":"`+name+`","password":"a long password","code":"`+code+`"}`)
		return status, kind
	}
	b, phone := o.named()
	status, kind := enter(b, "Tamsin Hale", "")
	b.is("before there is one", status, kind, 200, "")
	if _, _, door := b.ask("GET", "/office-door", ""); door["passkeys"] != false {
		t.Errorf("the door offers passkeys that nobody has: %v", door)
	}
	numbered := o.browser()
	enter(numbered, "Tamsin Hale", "")
	status, kind, _ = numbered.ask("POST", "/me/passkeys/begin", own)
	b.is("by a number", status, kind, 409, "no-name")
	status, kind, _ = b.ask("POST", "/me/passkeys/begin", `{"password":"another one"}`)
	b.is("with a wrong password", status, kind, 422, "invalid")

	// What is no passkey of hers is not kept.
	phone.Unverified = true
	status, kind, _ = b.addsPasskey(phone, "phone")
	b.is("without finger or PIN", status, kind, 422, "invalid")
	phone.Unverified, phone.Origin = false, "http://harbour.example"
	status, kind, _ = b.addsPasskey(phone, "phone")
	b.is("by another page", status, kind, 422, "invalid")
	phone.Origin = b.at
	other, _ := o.named()
	enter(other, "Rowan Keld", "")
	options, ticket := b.question("/me/passkeys/begin", own)
	made := phone.Make(options)
	status, kind, _ = other.answer("/me/passkeys", ticket, made, "name", "phone")
	b.is("by somebody else", status, kind, 409, "not-begun")
	status, kind, _ = b.answer("/sessions/passkey", ticket, made)
	b.is("for something else", status, kind, 409, "not-begun")
	status, kind, _ = b.answer("/me/passkeys", ticket+"x", made, "name", "phone")
	b.is("with another ticket", status, kind, 409, "not-begun")
	status, kind, _ = b.answer("/me/passkeys", ticket, made, "name", "  ")
	b.is("without a name", status, kind, 422, "invalid")

	status, kind, added := b.answer("/me/passkeys", ticket, made, "name", "phone")
	b.is("adding", status, kind, 201, "")
	codes, _ := added["codes"].([]any)
	if len(codes) != 10 {
		t.Fatalf("added is %v", added)
	}
	status, kind, _ = b.answer("/me/passkeys", ticket, made, "name", "again")
	b.is("adding it again", status, kind, 409, "taken")
	if _, _, door := b.ask("GET", "/office-door", ""); door["passkeys"] != true {
		t.Errorf("the door does not offer passkeys: %v", door)
	}
	_, key := o.named()
	if status, kind, added = b.addsPasskey(key, "key"); status != 201 || len(added["codes"].([]any)) != 0 {
		t.Errorf("a second one: %d %s %v", status, kind, added)
	}

	// The password alone does not let in, the passkey does, once for each question.
	status, kind = enter(o.browser(), "Tamsin Hale", "")
	b.is("the password alone", status, kind, 401, "passkey")
	status, kind = enter(o.browser(), "Tamsin Hale", "123456")
	b.is("with a code of an app that there is not", status, kind, 401, "second-factor")
	status, kind = enter(o.browser(), "Tamsin Hale", fmt.Sprint(codes[0]))
	b.is("with a recovery code", status, kind, 200, "")
	inside, _ := o.named()
	options, ticket = inside.question("/sessions/passkey/begin", "")
	phone.Count = 5
	said := phone.Answer(options)
	status, kind, me := inside.answer("/sessions/passkey", ticket, said)
	b.is("by passkey", status, kind, 200, "")
	if me["name"] != "Tamsin Hale" || me["must_enrol"] != false {
		t.Errorf("in comes %v", me)
	}
	if status, _, _ := inside.ask("GET", "/tray", ""); status != 200 {
		t.Errorf("she sees the tray: %d", status)
	}
	again, _ := o.named()
	status, kind, _ = again.answer("/sessions/passkey", ticket, said)
	b.is("the same answer again", status, kind, 409, "not-begun")
	phone.Count = 4
	status, kind, _ = again.entersWith(phone)
	b.is("a copy that counts less", status, kind, 401, "copied-passkey")
	phone.Count = 6

	// Everything else is refused, and slowed down in the end.
	phone.Unverified = true
	status, kind, _ = again.entersWith(phone)
	b.is("nobody at the device", status, kind, 401, "wrong-passkey")
	phone.Unverified, phone.Origin = false, "https://harbour.example"
	status, kind, _ = again.entersWith(phone)
	b.is("another page", status, kind, 401, "wrong-passkey")
	phone.Origin = b.at

	admin, _ := o.person("Ines Halloway", store.Administrator)
	t.Setenv("INKTRAY_TOKEN", admin)
	must(t, "people", "lock", "Tamsin Hale")
	status, kind, _ = again.entersWith(phone)
	b.is("locked", status, kind, 401, "wrong-passkey")
	must(t, "people", "unlock", "Tamsin Hale")
	again.at = strings.ToUpper(again.at[:len("http://localhost")]) + again.at[len("http://localhost"):]
	status, kind, _ = again.entersWith(phone)
	b.is("unlocked, and the name in other letters", status, kind, 200, "")
	again.at = b.at
	says(t, "removing", must(t, "people", "remove-factor", "Tamsin Hale", "--yes"), "no longer has a second factor")
	if left, err := o.service.store.Passkeys.Of(t.Context(), id); err != nil || len(left) != 0 {
		t.Errorf("left are %v, %v", left, err)
	}
	trail := must(t, "audit", "list", "--output", "json")
	for _, want := range []string{"add passkey", "use recovery code", "remove second factor"} {
		if !strings.Contains(trail, want) {
			t.Errorf("the trail does not say %q", want)
		}
	}
	for range 120 {
		if status, kind, _ = again.entersWith(phone); status == 429 {
			break
		}
		b.is("removed", status, kind, 401, "wrong-passkey")
	}
	if status != 429 {
		t.Errorf("it can be tried without end: %d %s", status, kind)
	}
}

// Where a second factor is asked of everyone, a passkey is one; the last one stays. By the command line they are listed
// and removed.
func TestAPasskeyIsTheSecondFactorThatIsAskedFor(t *testing.T) {
	o := openOffice(t, empty)
	admin, _ := o.person("Ines Halloway", store.Administrator)
	token, id := o.person("Tamsin Hale", store.Clerk)
	chief, card := o.named()
	status, kind, _ := chief.ask("POST", "/sessions", `{"name":"Ines Halloway","password":"a long password"}`)
	chief.is("signing in", status, kind, 200, "")
	if status, kind, _ := chief.addsPasskey(card, "card"); status != 201 {
		t.Fatal(status, kind)
	}
	t.Setenv("INKTRAY_TOKEN", admin)
	must(t, "sign-in-rules", "set", "--second-factor", "everyone")
	b, phone := o.named()
	status, _, me := b.ask("POST", "/sessions", `{"name":"Tamsin Hale","password":"a long password"}`)
	if status != 200 || me["must_enrol"] != true {
		t.Fatalf("signing in: %d %v", status, me)
	}
	status, kind, _ = b.ask("GET", "/tray", "")
	b.is("before", status, kind, 403, "enrol")
	status, kind, added := b.addsPasskey(phone, "phone")
	b.is("adding", status, kind, 201, "")
	status, kind, _ = b.ask("GET", "/tray", "")
	b.is("after", status, kind, 200, "")
	passkey, _ := added["passkey"].(map[string]any)
	status, kind, _ = b.ask("DELETE", "/me/passkeys/"+fmt.Sprint(passkey["id"]), own)
	b.is("removing the only one", status, kind, 409, "asked-for")
	status, kind, _ = chief.ask("DELETE", "/me/passkeys/"+fmt.Sprint(passkey["id"]), own)
	b.is("removing somebody else's", status, kind, 404, "not-found")

	t.Setenv("INKTRAY_TOKEN", token)
	t.Setenv("INKTRAY_PASSWORD", "a long password")
	says(t, "showing", must(t, "second-factor", "show"), "The passkey “phone” is good for localhost since",
		"not used yet", "10 recovery codes left")
	says(t, "the only one", fails(t, "second-factor", "remove-passkey", "phone", "--yes"), "this is your only one")
	lost, _ := o.named()
	if status, kind, _ := lost.entersWith(phone); status != 200 {
		t.Fatal(status, kind)
	}
	_, key := o.named()
	if status, kind, _ := b.addsPasskey(key, "phone"); status != 201 {
		t.Fatal(status, kind)
	}
	says(t, "two of one name", fails(t, "second-factor", "remove-passkey", "phone", "--yes"),
		"you have 2 passkeys “phone”")
	says(t, "none", fails(t, "second-factor", "remove-passkey", "lamp", "--yes"), "you have no passkey “lamp”")
	says(t, "one", must(t, "second-factor", "remove-passkey", fmt.Sprint(passkey["id"]), "--yes"), "is removed")
	status, kind, _ = lost.ask("GET", "/tray", "")
	b.is("a session that a passkey began", status, kind, 401, "sign-in")
	status, kind, _ = b.ask("GET", "/tray", "")
	b.is("a session by password", status, kind, 200, "")
	if left, err := o.service.store.Passkeys.Of(t.Context(), id); err != nil || len(left) != 1 {
		t.Errorf("left are %v, %v", left, err)
	}

	// Nothing is asked any more: the last one may go, and its codes with it.
	t.Setenv("INKTRAY_TOKEN", admin)
	must(t, "sign-in-rules", "set", "--second-factor", "nobody")
	t.Setenv("INKTRAY_TOKEN", token)
	must(t, "second-factor", "remove-passkey", "phone", "--yes")
	says(t, "showing", must(t, "second-factor", "show"), "You have no second factor.")
	p, err := o.service.store.People.ByID(t.Context(), id)
	if err != nil || p.HasFactor() {
		t.Errorf("%v, %v", p.Passkeys, err)
	}
	status, kind, _ = o.browser().ask("POST", "/sessions", `{"name":"Tamsin Hale","password":"a long password"}`)
	b.is("by password again", status, kind, 200, "")
	says(t, "without any", fails(t, "second-factor", "codes"), "you have no second factor")
}
