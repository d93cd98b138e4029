package cli

import (
	"encoding/json"
	"fmt"
	"net"
	"sync"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
)

// eavesdropper takes connections and keeps what came over them.
type eavesdropper struct {
	net.Listener
	mu   sync.Mutex
	came int
}

func eavesdrop(t *testing.T) *eavesdropper {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	e := &eavesdropper{Listener: l}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			e.mu.Lock()
			e.came++
			e.mu.Unlock()
			c.Close()
		}
	}()
	t.Cleanup(func() { l.Close() })
	return e
}

// Whoever may change settings cannot learn a kept secret by having it sent to a server of his own, on any way.
func TestKeptSecretsAreSentOnlyWhereTheyWereGivenFor(t *testing.T) {
	o := openOffice(t, theLast)
	e := eavesdrop(t)
	ear := e.Addr().(*net.TCPAddr)
	boxes := value[[]client.Mailbox](t, "mailboxes", "list")
	attacks := 0
	for i := range boxes {
		m := &boxes[i]
		if m.Kind != "imap" || m.Consent != nil {
			continue
		}
		for _, change := range []map[string]any{
			{"proxy": "socks5://" + ear.String(), "encryption": "none"}, {"proxy": "http://" + ear.String()},
			{"host": "127.0.0.1", "port": ear.Port, "encryption": "none"}, {"port": ear.Port}, {"host": "localhost"},
			{"encryption": "none", "username": "somebody"}, {"username": "somebody.else@brackwater.example"},
			{"authority": "-----BEGIN CERTIFICATE-----"},
			{"pinned": "abababababababababababababababababababababababababababababababab"},
		} {
			attacks++
			data, err := json.Marshal(settingsOf(m))
			if err != nil {
				t.Fatal(err)
			}
			settings := map[string]any{}
			if err := json.Unmarshal(data, &settings); err != nil {
				t.Fatal(err)
			}
			for name, v := range change {
				settings[name] = v
			}
			if data, err = json.Marshal(settings); err != nil {
				t.Fatal(err)
			}
			for _, ask := range [][2]string{{"POST", "/api/v1/mailboxes/check?id=" + m.ID},
				{"PUT", "/api/v1/mailboxes/" + m.ID}} {
				if status, _, answer := o.ask(ask[0], ask[1], o.token, string(data)); status != 422 {
					t.Errorf("%s %s with %v answers %d: %v", ask[0], ask[1], change, status, answer)
				}
			}
		}
	}
	secret := demo.Password
	hook, url := "https://hook.brackwater.example/x", fmt.Sprintf("http://%s/hook", ear)
	if _, err := call[client.Addressee](o.api.AddAddressee(t.Context(),
		client.AddresseeSettings{Name: "harbour hook", Kind: "call", URL: &hook, Secret: &secret})); err != nil {
		t.Fatal(err)
	}
	for _, a := range value[[]client.Addressee](t, "addressees", "list") {
		if !a.HasSecret {
			continue
		}
		attacks++
		if status, _, answer := o.ask("PUT", "/api/v1/addressees/"+a.ID, o.token,
			fmt.Sprintf(`{"name":%q,"kind":"call","url":%q,"inside":true}`, a.Name, url)); status != 422 {
			t.Errorf("another address of “%s” answers %d: %v", a.Name, status, answer)
		}
	}
	if status, _, answer := o.ask("PUT", "/api/v1/outgoing", o.token,
		`{"username":"desk","password":"slack-water"}`); status != 200 {
		t.Fatal(status, answer)
	}
	for _, change := range []string{`{"host":"localhost"}`, fmt.Sprintf(`{"port":%d}`, ear.Port), `{"encryption":"tls"}`,
		`{"username":"somebody"}`, fmt.Sprintf(`{"host":"127.0.0.1","port":%d,"encryption":"none"}`, ear.Port)} {
		attacks++
		if status, _, answer := o.ask("PUT", "/api/v1/outgoing", o.token, change); status != 422 {
			t.Errorf("sending mail with %s answers %d: %v", change, status, answer)
		}
	}
	if attacks < 20 {
		t.Errorf("only %d ways were tried", attacks)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.came > 0 {
		t.Errorf("%d connections were made to another server", e.came)
	}
	// What was checked stands in the audit table.
	before, err := o.service.store.People.AuditOf(t.Context(), "check mailbox")
	if err != nil {
		t.Fatal(err)
	}
	data, err := json.Marshal(settingsOf(&boxes[0]))
	if err != nil {
		t.Fatal(err)
	}
	if status, _, answer := o.ask("POST", "/api/v1/mailboxes/check?id="+boxes[0].ID, o.token,
		string(data)); status != 200 {
		t.Fatal(status, answer)
	}
	if after, err := o.service.store.People.AuditOf(t.Context(), "check mailbox"); err != nil ||
		len(after) != len(before)+1 ||
		after[0].Actor != demoPerson {
		t.Errorf("the audit table has %d checks, before %d: %v", len(after), len(before), err)
	}
}
