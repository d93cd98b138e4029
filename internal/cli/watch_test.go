package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"
)

// sharedLog is a log that several write at once.
type sharedLog struct {
	mutex sync.Mutex
	text  bytes.Buffer
}

func (w *sharedLog) Write(p []byte) (int, error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.text.Write(p)
}

func (w *sharedLog) String() string {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.text.String()
}

// Whoever watches the service sees what it filed, how long that took, how requests and commits do, and how old the last
// backup is.
func TestTheMetricsTellOfTheWholeInstallation(t *testing.T) {
	o := openOffice(t, theLast)
	must(t, "backup", "plan", "--folder", filepath.Join(t.TempDir(), "b"), "--passphrase-file",
		write(t, "p", "seven gulls on a cold mole"))
	must(t, "backup", "make")
	inRegister := func() int { return value[client.RegisterPage](t, "register", "list", "--most", "1").Total }
	before := inRegister()
	for i, files := range []int{1, 2, 3, 3, 4, 7} { // one after the other: what comes during a look is not announced
		at := time.Now()
		l := demo.Next(i+1, at)
		if err := o.mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
			t.Fatal(err)
		}
		until(t, "it is filed, and its mailbox waits for more", func() bool {
			if inRegister() != before+files {
				return false
			}
			for _, m := range value[[]client.Mailbox](t, "mailboxes", "list") {
				if m.Name == l.Mailbox {
					return m.LookedAt != nil && m.LookedAt.After(at)
				}
			}
			return false
		})
	}
	until(t, "new mail is filed", func() bool {
		return strings.Contains(must(t, "metrics"), "inktray_delay_seconds_count 7")
	})
	text := must(t, "metrics")
	if out := os.Getenv("INKTRAY_SHOW"); out != "" {
		fmt.Println(text)
	}
	filed := len(value[client.RegisterPage](t, "register", "list", "--most", "500").Filings)
	for _, want := range []string{"inktray_build_info{version=", "inktray_filed_bytes_total ",
		`inktray_delay_seconds_bucket{le="3600"} 7`, "inktray_commit_seconds_count ", "inktray_records_free_bytes{folder=",
		`inktray_request_seconds_count{operation="ListMailboxes",status="2xx"}`, "inktray_backup_age_seconds{place=",
		`inktray_passes_running{kind="old mail"} 0`, "process_resident_memory_bytes ", "process_open_fds ", "go_goroutines "} {
		if !strings.Contains(text, want) {
			t.Errorf("the metrics have no %s", want)
		}
	}
	n := regexp.MustCompile(`inktray_filed_total (\d+)`).FindStringSubmatch(text)
	if n == nil || n[1] > fmt.Sprint(filed) {
		t.Errorf("filed are %v, and the register has %d lines", n, filed)
	}
	_, _ = o.person("Rowan Reader", store.Reader)
	reader := o.browser()
	status, _, _ := reader.ask("POST", "/sessions", `{"name":"Rowan Reader","password":"a long password"}`)
	if status != 200 {
		t.Fatal(status)
	}
	_, _, raw := o.request("GET", "/api/v1/metrics", o.tokenOf("Rowan Reader"), "")
	for _, not := range []string{"inktray_backup_age_seconds", "inktray_request_seconds", "inktray_records_free_bytes"} {
		if strings.Contains(string(raw), not) {
			t.Errorf("a reader sees %s", not)
		}
	}
}

// tokenOf signs in as a person.
func (o *office) tokenOf(name string) string {
	o.t.Helper()
	token, err := (&command{service: o.service.address()}).tokenFor(o.t.Context(), name, "a long password", "", "")
	if err != nil {
		o.t.Fatal(err)
	}
	return token
}

// Where something goes wrong inside, people are given the name under which the log says more; at the level debug the
// log has every request, and no secret.
func TestAFaultIsFoundInTheLogByTheRequestsName(t *testing.T) {
	log := &sharedLog{}
	o := openOffice(t, empty, func(s *serviceOptions) {
		s.log = slog.New(slog.NewJSONHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	token, _ := o.person("Ines Halloway", store.Administrator)
	broken := func(bool) error { return fmt.Errorf("the disk came off") }
	o.service.store.Interrupt(broken)
	status, headers, raw := o.request("PUT", "/api/v1/limits", token, `{"history_days":90,"register_days":0,"kept_days":30,`+
		`"spool_mb":1,"rule_files":0,"rule_mb":0,"rule_folders":0,"sender_files":0,"sender_mb":0,"sender_folders":0}`,
		"Content-Type", "application/json")
	o.service.store.Interrupt(func(bool) error { return nil })
	var p client.Problem
	if err := json.Unmarshal(raw, &p); err != nil || status != 500 || p.Request == nil {
		t.Fatalf("%d %s", status, raw)
	}
	if id := headers.Get("X-Request-Id"); id != *p.Request || len(id) != 10 {
		t.Errorf("the answer's name is %q, the problem says %q", id, *p.Request)
	}
	said := (*problem)(&p).Error()
	if !strings.Contains(said, "It is the request "+*p.Request) {
		t.Errorf("the command line says %q", said)
	}
	until(t, "the log has both lines", func() bool {
		return strings.Count(log.String(), *p.Request) == 2 && strings.Contains(log.String(), "the disk came off")
	})
	for _, secret := range []string{token, "a long password"} {
		if strings.Contains(log.String(), secret) {
			t.Error("a secret is in the log")
		}
	}
	if !strings.Contains(log.String(), `"operation":"SetLimits","status":500,"person":"Ines Halloway"`) {
		t.Errorf("the log says %s", log.String())
	}
}
