package cli

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/pflag"

	"inktray.example/inktray/internal/testbed"
)

// signed writes a certificate for this machine that signs itself, and its key.
func signed(t *testing.T) (certificate, key string) {
	t.Helper()
	text, secret, _ := testbed.Certificate(t, net.IPv4(127, 0, 0, 1))
	return write(t, "cert.pem", string(text)), write(t, "key.pem", string(secret))
}

// With a certificate of its own the service speaks TLS alone, its cookies are for TLS alone, browsers are led to it,
// and the command line trusts the office's own authority where it is told to.
func TestTheServiceSpeaksTLSItself(t *testing.T) {
	certificate, key := signed(t)
	redirect := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	o := openOffice(t, empty, func(s *serviceOptions) {
		s.certificate, s.key, s.redirect = certificate, key, redirect
	})
	if !strings.HasPrefix(o.service.address(), "https://") {
		t.Fatal(o.service.address())
	}
	code := setupCode(t, o)
	t.Setenv("INKTRAY_PASSWORD", "cold tide at dusk")
	if _, errs, exit := run(t, "", "sign-in", "--set-up", code, "--name", "Ines"); exit == 0 ||
		!strings.Contains(errs, "certificate") {
		t.Errorf("a certificate that nobody vouches for is trusted: %d %s", exit, errs)
	}
	must(t, "sign-in", "--set-up", code, "--name", "Ines", "--authority", certificate)
	t.Setenv("INKTRAY_AUTHORITY", certificate)
	must(t, "people", "list")

	trusted, err := trusting(certificate)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Transport: trusted, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	post := func(url string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, url+"/api/v1/sessions",
			strings.NewReader(`{"name":"Ines","password":"cold tide at dusk"}`))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		answer, err := browser.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer
	}
	in := post(o.service.address())
	if cookie := in.Header.Get("Set-Cookie"); in.StatusCode != 200 || !strings.HasPrefix(cookie, "__Host-") ||
		!strings.Contains(cookie, "; Secure") || in.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("signed in: %d %v", in.StatusCode, in.Header)
	}
	if led := post("http://" + redirect); led.StatusCode != http.StatusPermanentRedirect ||
		led.Header.Get("Location") != o.service.address()+"/api/v1/sessions" || led.Header.Get("Set-Cookie") != "" {
		t.Errorf("without TLS: %d %v", led.StatusCode, led.Header)
	}
	plain, err := net.Dial("tcp", strings.TrimPrefix(o.service.address(), "https://"))
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	fmt.Fprint(plain, "GET /api/v1/health HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
	_ = plain.SetReadDeadline(time.Now().Add(10 * time.Second))
	answer := make([]byte, 100)
	if n, _ := plain.Read(answer); strings.Contains(string(answer[:n]), "alive") {
		t.Errorf("it answers without TLS: %s", answer[:n])
	}
	old := &tls.Config{RootCAs: trusted.(*http.Transport).TLSClientConfig.RootCAs, MinVersion: tls.VersionTLS10,
		MaxVersion: tls.VersionTLS11} //nolint:gosec // which is to be refused
	if c, err := tls.Dial("tcp", strings.TrimPrefix(o.service.address(), "https://"), old); err == nil {
		c.Close()
		t.Error("it speaks TLS 1.1")
	}
}

// Others than this machine are let in without TLS only if somebody says so.
func TestOtherMachinesAreNotLetInWithoutTLSUnasked(t *testing.T) {
	certificate, key := signed(t)
	for _, c := range []struct {
		o     serviceOptions
		wrong string
	}{
		{serviceOptions{listen: "0.0.0.0:8025"}, "--without-tls"},
		{serviceOptions{listen: ":8025"}, "--without-tls"},
		{serviceOptions{listen: "[::]:8025"}, "--without-tls"},
		{serviceOptions{listen: "office.example:8025"}, "--without-tls"},
		{serviceOptions{listen: "192.0.2.1:8025", plain: true}, ""},
		{serviceOptions{listen: "0.0.0.0:8025", certificate: certificate, key: key}, ""},
		{serviceOptions{listen: "127.0.0.1:8025"}, ""},
		{serviceOptions{listen: "[::1]:8025"}, ""},
		{serviceOptions{listen: "localhost:8025"}, ""},
		{serviceOptions{listen: "127.0.0.1:8025", certificate: certificate}, "both"},
		{serviceOptions{listen: "127.0.0.1:8025", certificate: key, key: certificate}, "cannot be used"},
		{serviceOptions{listen: "127.0.0.1:8025", redirect: "127.0.0.1:80"}, "needs --certificate"},
		{serviceOptions{listen: "127.0.0.1:8025", proxies: []string{"nowhere"}}, "or network"},
		{serviceOptions{listen: "127.0.0.1:8025", proxies: []string{"192.0.2.0/24", "2001:db8::7"}}, ""},
	} {
		_, _, err := c.o.transport()
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%+v: %v, want %q", c.o, err, c.wrong)
		}
	}
}

// An option of serve counts from the command line first, then from the environment, then from the file.
func TestOptionsComeFromTheCommandLineTheEnvironmentOrAFile(t *testing.T) {
	file := write(t, "inktray.yaml", "language: nb\ntime-zone: Europe/Oslo\nlisten: 127.0.0.1:0\n"+
		"address: [https://a.example, https://b.example]\nwithout-tls: true\n")
	t.Setenv("INKTRAY_LANGUAGE", "de-AT")
	t.Setenv("INKTRAY_TIME_ZONE", "Europe/Vienna")
	type option struct{ Option, Value, From string }
	check := func(args ...string) map[string]option {
		t.Helper()
		all := map[string]option{}
		for _, o := range value[[]option](t, append([]string{"serve", "--check", "--data", t.TempDir()}, args...)...) {
			all[o.Option] = o
		}
		return all
	}
	got := check("--config", file, "--language", "fr")
	for _, want := range []option{{"language", "fr", "the command line"},
		{"time-zone", "Europe/Vienna", "INKTRAY_TIME_ZONE"}, {"listen", "127.0.0.1:0", file},
		{"address", "[https://a.example,https://b.example]", file},
		{"without-tls", "true", file}, {"log", "text", "default"}} {
		if got[want.Option] != want {
			t.Errorf("%+v, want %+v", got[want.Option], want)
		}
	}
	t.Setenv("INKTRAY_TIME_ZONE", "Nowhere/Atall")
	for _, c := range []struct {
		args  []string
		code  int
		wrong []string
	}{
		{[]string{"--language", "x-"}, exitFailure, []string{"there is no time zone", "there is no language"}},
		{[]string{"--config", write(t, "a.yaml", "langage: nb\n")}, exitUsage,
			[]string{"line 1", "did you mean “language”"}},
		{[]string{"--config", write(t, "b.yaml", "address: {a: b}\n")}, exitUsage, []string{"one value, or a list"}},
		{[]string{"--config", write(t, "c.yaml", "- a\n")}, exitUsage, []string{"not YAML of options"}},
		{[]string{"--config", write(t, "d.yaml", "largest-message: many\n")}, exitUsage,
			[]string{"largest-message"}},
		{[]string{"--config", filepath.Join(t.TempDir(), "none")}, exitUsage, []string{"cannot be read"}},
	} {
		args := append([]string{"serve", "--check", "--listen", "127.0.0.1:0", "--data", t.TempDir()}, c.args...)
		_, errs, code := run(t, "", args...)
		if code != c.code || slices.ContainsFunc(c.wrong, func(w string) bool { return !strings.Contains(errs, w) }) {
			t.Errorf("%v: %d %s", c.args, code, errs)
		}
	}
	t.Setenv("INKTRAY_TIME_ZONE", "")
	file = filepath.Join(t.TempDir(), "a file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := run(t, "", "serve", "--check", "--listen", "127.0.0.1:0", "--data", file); code != exitFailure ||
		!strings.Contains(errs, "is not a folder") {
		t.Errorf("records in a file: %d %s", code, errs)
	}
}

// The table of options in the documentation is what the program knows.
func TestTheOptionsOfTheServiceAreDocumented(t *testing.T) {
	cmd := serviceCommands{&command{}}.serve()
	var b strings.Builder
	for _, f := range serveSettings(cmd) {
		usual := f.DefValue
		if f.Name == "data" { // it is another one on each machine
			usual = "STATE_DIRECTORY, else a folder of your own"
		}
		if usual == "[]" {
			usual = ""
		}
		name, usage := pflag.UnquoteUsage(f)
		fmt.Fprintf(&b, "| `%s` | `%s` | %s | %s | %s |\n", f.Name, variable(f.Name), name, usual, usage)
	}
	testbed.CheckSection(t, filepath.Join("..", "..", "docs", "options.md"), "options", b.String(), *writeDocs)
}

// What the package brings is understood by the program that it brings: the unit's commands, and every option of its
// configuration, also those that are only proposed.
func TestThePackageFitsTheProgram(t *testing.T) {
	unit, err := os.ReadFile(filepath.Join("..", "..", "packaging", "inktray.service"))
	if err != nil {
		t.Fatal(err)
	}
	commands := 0
	for line := range strings.Lines(string(unit)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		if !strings.HasPrefix(key, "ExecStart") {
			continue
		}
		commands++
		args := strings.Fields(value)
		cmd := (&command{}).root()
		sub, rest, err := cmd.Find(args[1:])
		if err != nil || sub.Name() != "serve" {
			t.Fatalf("%s: %v", value, err)
		}
		if err := sub.ParseFlags(rest); err != nil {
			t.Errorf("%s: %v", value, err)
		}
	}
	if commands != 2 {
		t.Errorf("the unit has %d commands, want 2", commands)
	}
	data, err := os.ReadFile(filepath.Join("..", "..", "packaging", "inktray.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	settings := serveSettings(serviceCommands{&command{}}.serve())
	var proposed []string
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSpace(line)
		if name, _, ok := strings.Cut(strings.TrimPrefix(line, "# "), ": "); ok && !strings.Contains(name, " ") &&
			strings.HasPrefix(line, "#") {
			proposed = append(proposed, strings.TrimPrefix(line, "# "))
		}
	}
	for what, text := range map[string]string{"as it is": string(data), "as it proposes": strings.Join(proposed, "\n")} {
		kept, err := readConfiguration(write(t, "inktray.yaml", text), settings)
		if err != nil || len(kept) < 2 {
			t.Errorf("%s: %v, %v", what, kept, err)
		}
	}
}
