package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
)

// office is the demo in the process: the service on loopback, and its mail server.
type office struct {
	t         testing.TB
	service   *service
	mail      *demo.MailServer
	authority *demo.Authority
	folder    string
	token     string
	api       *client.Client
	options   serviceOptions
	desk      *demo.Desk // what the office sends; nil while it is empty
}

// furniture is how much of the scenario an office begins with.
type furniture int

const (
	empty    furniture = iota
	theLast            // its last messages
	theWeeks           // all of its messages but the scans, which take seconds each to read
	theWhole           // as the demo
)

// openOffice starts the service on loopback, furnished as the demo is, or empty.
func openOffice(t testing.TB, furnished furniture, with ...func(*serviceOptions)) *office {
	t.Helper()
	o := &office{t: t, folder: t.TempDir()}
	if *screenshots != "" { // a folder such as an office has
		o.folder = "/srv/brackwater"
		if err := os.Mkdir(o.folder, 0o755); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.RemoveAll(o.folder) })
	}
	var err error
	if o.authority, err = demo.StartAuthority("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.authority.Close() })
	if o.mail, err = demo.StartMailServer("127.0.0.1:0", o.authority.User); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.mail.Close() })
	options := serviceOptions{data: filepath.Join(o.folder, "records"), listen: "127.0.0.1:0", ready: testbed.Ready(t),
		zone: "UTC", language: "en", log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		receive: receiveOptions{domain: demo.DropDomain, smtp: "127.0.0.1:0", lmtp: "127.0.0.1:0", megabytes: 8}}
	for _, f := range with {
		f(&options)
	}
	o.options = options
	o.service, err = start(options)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := o.service.stop(); err != nil {
			t.Error(err)
		}
	})
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("INKTRAY_SERVICE", o.service.address())
	t.Setenv("INKTRAY_TOKEN", "")
	if furnished == empty {
		return o
	}
	c := &command{in: strings.NewReader(""), out: io.Discard, errs: io.Discard, service: o.service.address(),
		format: "table"}
	letters := demo.OldMail(time.Now())
	if furnished == theLast || furnished == theWeeks && *screenshots == "" {
		letters = slices.DeleteFunc(letters, func(l demo.Letter) bool {
			return bytes.Contains(l.Raw, []byte("Scanned at the quay")) ||
				furnished == theLast && bytes.Contains(l.Raw, []byte("Harbour dues HD-"))
		})
	}
	if furnished == theLast {
		letters = letters[len(letters)-45:]
	}
	if o.desk, err = demo.StartDesk(filepath.Join(o.folder, "sent")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.desk.Close() })
	if err := (serviceCommands{c}).furnish(t.Context(), o.service, o.mail, o.desk, nil, letters,
		filepath.Join(o.folder, "files")); err != nil {
		t.Fatal(err)
	}
	o.signIn()
	o.settled()
	return o
}

func (o *office) signIn() {
	o.t.Helper()
	c := &command{service: o.service.address()}
	var err error
	if o.token, err = c.tokenFor(o.t.Context(), demoPerson, demo.Password, "", ""); err != nil {
		o.t.Fatal(err)
	}
	o.t.Setenv("INKTRAY_TOKEN", o.token)
	if o.api, err = c.connectWith(o.token); err != nil {
		o.t.Fatal(err)
	}
}

// settled waits until no pass runs and nothing waits.
func (o *office) settled() {
	o.t.Helper()
	until(o.t, "all passes are done", func() bool {
		all, err := call[[]client.Pass](o.api.ListPasses(o.t.Context(), &client.ListPassesParams{}))
		if err != nil {
			o.t.Fatal(err)
		}
		for _, p := range all {
			if p.State == "running" || p.Waiting > 0 {
				return false
			}
		}
		return true
	})
}

func until(t testing.TB, what string, ok func() bool) {
	t.Helper()
	untilWithin(t, testbed.Patience, what, ok)
}

// untilWithin waits for longer, or not so long.
func untilWithin(t testing.TB, longest time.Duration, what string, ok func() bool) {
	t.Helper()
	deadline := time.After(longest)
	for pause := 10 * time.Millisecond; !ok(); pause = testbed.Longer(pause) {
		select {
		case <-deadline:
			t.Fatalf("waited in vain until %s", what)
		case <-time.After(pause):
		}
	}
}

// run runs a command of the program and returns what it wrote and its exit code.
func run(t *testing.T, in string, args ...string) (out, errs string, code int) {
	t.Helper()
	var o, e bytes.Buffer
	code = Main(args, strings.NewReader(in), &o, &e)
	return o.String(), e.String(), code
}

// must runs a command that has to succeed.
func must(t *testing.T, args ...string) string {
	t.Helper()
	out, errs, code := run(t, "", args...)
	if code != 0 {
		t.Fatalf("inktray %s: exit code %d, %s", strings.Join(args, " "), code, errs)
	}
	return out
}

// value runs a command and reads its JSON.
func value[T any](t *testing.T, args ...string) T {
	t.Helper()
	var v T
	out := must(t, append(args, "--output", "json")...)
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		t.Fatalf("inktray %s: %v in %s", strings.Join(args, " "), err, out)
	}
	return v
}

func write(t *testing.T, name, content string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

func setupCode(t *testing.T, o *office) string {
	t.Helper()
	code, err := api.SetupCode(t.Context(), o.service.store)
	if err != nil || code == "" {
		t.Fatalf("no set-up code: %v", err)
	}
	return code
}

// lines is a writer that may be read while it is written to.
type lines struct {
	mutex sync.Mutex
	text  strings.Builder
}

func (l *lines) Write(p []byte) (int, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.Write(p)
}

func (l *lines) String() string {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.String()
}
