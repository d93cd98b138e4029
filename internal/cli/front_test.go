package cli

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// Behind a web server with the settings of the documents, cookies are for TLS alone, events come as they happen, wrong
// passwords count for whoever the server asks for, also if he claims to be somebody else, and the audit trail has that
// address.
func TestTheServiceBehindAWebServer(t *testing.T) {
	for i := range testbed.Fronts {
		t.Run(testbed.Fronts[i].Program, func(t *testing.T) { behind(t, &testbed.Fronts[i]) })
	}
}

func behind(t *testing.T, front *testbed.Front) {
	documents, err := os.ReadFile(filepath.Join("..", "..", "docs", "tls.md"))
	said := strings.ReplaceAll(front.Settings, "$SERVICE", "127.0.0.1:8025")
	if err != nil || !strings.Contains(string(documents), said) {
		t.Errorf("docs/tls.md does not have the settings of this test: %v", err)
	}
	port := testbed.FreePort(t)
	o := openOffice(t, empty, func(s *serviceOptions) {
		s.reached, s.proxies = []string{fmt.Sprintf("https://localhost:%d", port)}, []string{"127.0.0.1"}
	})
	admin, _ := o.person("Ines Halloway", store.Administrator)
	at, certificate := front.Start(t, port, o.service.listener.Addr().String())
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(certificate)
	from := func(address string) *http.Client { // as if it came from another machine
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots,
			MinVersion: tls.VersionTLS12}, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
		}}}
	}
	enter := func(c *http.Client, password string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, at+"/api/v1/sessions",
			strings.NewReader(`{"name":"Ines Halloway","password":"`+password+`"}`))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Origin", at)
		r.Header.Set("X-Forwarded-For", "127.0.0.77") // as a liar does
		answer, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer
	}
	in := enter(from("127.0.0.7"), "a long password")
	if cookie := in.Header.Get("Set-Cookie"); in.StatusCode != 200 || !strings.HasPrefix(cookie, "__Host-") ||
		in.Header.Get("Strict-Transport-Security") == "" {
		t.Fatalf("signing in: %d %v", in.StatusCode, in.Header)
	}
	guesser, status := from("127.0.0.9"), 0
	for range 12 {
		if status = enter(guesser, "a wrong password").StatusCode; status == 429 {
			break
		}
	}
	if status != 429 {
		t.Errorf("guessing goes on without end: %d", status)
	}
	if again := enter(from("127.0.0.8"), "a long password").StatusCode; again != 200 {
		t.Errorf("somebody at another address is kept out: %d", again)
	}
	t.Setenv("INKTRAY_TOKEN", admin)
	page := value[client.AuditPage](t, "audit", "list", "--text", "failed sign-in")
	if len(page.Lines) == 0 || deref(page.Lines[0].Place) != "127.0.0.9" {
		t.Errorf("the trail says %+v", page.Lines)
	}

	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+admin)
	events, err := from("127.0.0.7").Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer events.Body.Close()
	lines := bufio.NewScanner(events.Body)
	if !lines.Scan() { // that the stream has begun
		t.Fatal(lines.Err())
	}
	must(t, "correspondents", "add", "Marram Shipping", "--address", "oda@marram.example")
	o.service.engine.Changed("rules")
	seen := false
	for lines.Scan() {
		if seen = strings.Contains(lines.Text(), "rules"); seen {
			break
		}
	}
	if !seen {
		t.Errorf("no event comes through: %v", lines.Err())
	}
	saved, err := http.NewRequestWithContext(t.Context(), http.MethodPost, at+"/api/v1/backup/file",
		strings.NewReader(`{"passphrase":"seven gulls on a cold mole"}`))
	if err != nil {
		t.Fatal(err)
	}
	saved.Header.Set("Authorization", "Bearer "+admin)
	saved.Header.Set("Content-Type", "application/json")
	answer, err := from("127.0.0.7").Do(saved)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != 200 {
		t.Fatal(answer.StatusCode, err)
	}
	t.Setenv("INKTRAY_BACKUP_PASSPHRASE", "seven gulls on a cold mole")
	says(t, "a backup that came through", must(t, "backup", "check", write(t, "b.age", string(data))), "is whole")
}
