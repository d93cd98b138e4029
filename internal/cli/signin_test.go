package cli

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"inktray.example/inktray/internal/store"
)

// A token goes to the service that made it and to no other, and ends with signing out.
func TestATokenGoesToItsOwnServiceAlone(t *testing.T) {
	o := openOffice(t, empty)
	o.person("Ines", store.Administrator)
	var mu sync.Mutex
	var seen []string
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		seen = append(seen, r.Header.Get("Authorization")+r.Header.Get("Cookie"))
		w.Header().Set("Content-Type", "application/json")
		w.Write([]byte("[]"))
	}))
	defer other.Close()
	astray := httptest.NewServer(http.RedirectHandler(other.URL+"/api/v1/mailboxes", http.StatusTemporaryRedirect))
	defer astray.Close()
	config := os.Getenv("XDG_CONFIG_HOME")
	old := filepath.Join(config, "inktray", "token")
	if err := os.MkdirAll(filepath.Dir(old), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(old, []byte("it-of-some-service\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, "mailboxes", "list", "--service", other.URL)
	if _, errs, code := run(t, "a long password\n", "sign-in", "--name", "Ines"); code != 0 {
		t.Fatal(errs)
	}
	if _, err := os.Stat(old); err == nil {
		t.Error("the token of nobody knows which service is still there")
	}
	kept, err := filepath.Glob(filepath.Join(config, "inktray", "tokens", "*"))
	if err != nil || len(kept) != 1 {
		t.Fatal(kept, err)
	}
	for path, want := range map[string]os.FileMode{kept[0]: 0o600, filepath.Dir(kept[0]): 0o700} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s has %v, %v", path, info.Mode(), err)
		}
	}
	must(t, "mailboxes", "list")
	must(t, "mailboxes", "list", "--service", strings.Replace(o.service.address(), "http:", "HTTP:", 1)+"/")
	must(t, "mailboxes", "list", "--service", other.URL)
	if _, _, code := run(t, "", "mailboxes", "list", "--service", astray.URL); code == 0 {
		t.Error("an answer that leads elsewhere is followed")
	}
	if _, errs, code := run(t, "", "sign-out", "--service", other.URL); code != exitSignIn ||
		!strings.Contains(errs, "not signed in to "+other.URL) {
		t.Errorf("signing out elsewhere: %d, %s", code, errs)
	}
	mu.Lock()
	for _, s := range seen {
		if s != "" {
			t.Errorf("another service was sent %q", s)
		}
	}
	mu.Unlock()
	data, err := os.ReadFile(kept[0])
	if err != nil {
		t.Fatal(err)
	}
	token := strings.TrimSpace(string(data))
	if status, _, _ := o.ask("GET", "/api/v1/me", token, ""); status != 200 {
		t.Fatalf("the token answers %d", status)
	}
	must(t, "sign-out")
	if status, _, _ := o.ask("GET", "/api/v1/me", token, ""); status != 401 {
		t.Errorf("after signing out the token answers %d", status)
	}
	if _, err := os.Stat(kept[0]); err == nil {
		t.Error("after signing out the token is still in its file")
	}
	if _, errs, code := run(t, "", "mailboxes", "list", "--service", "ftp://127.0.0.1"); code != exitUsage ||
		!strings.Contains(errs, "is not an address of a service") {
		t.Errorf("a service of another kind: %d, %s", code, errs)
	}
}
