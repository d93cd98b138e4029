package cli

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// TestMain lets this test's program be the real one, for killing it.
func TestMain(m *testing.M) {
	child.Main()
	if os.Getenv("INKTRAY_TEST_RUN") == "1" {
		os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

// process is the real program, run as a service with one administrator.
type process struct {
	t       testing.TB
	args    []string
	folder  string // with "records" and "files" in it
	url     string
	token   string
	command *exec.Cmd
	api     *client.Client
}

// startProcess sets the program up and starts it.
func startProcess(t testing.TB, args ...string) *process {
	t.Helper()
	folder := t.TempDir()
	if err := os.Mkdir(filepath.Join(folder, "records"), 0o700); err != nil {
		t.Fatal(err)
	}
	setUp(t, filepath.Join(folder, "records"), nil)
	return startProcessIn(t, folder, args...)
}

// setUp makes records with an administrator, and whatever else fill puts in.
func setUp(t testing.TB, folder string, fill func(*store.Store) error) {
	t.Helper()
	records, err := store.Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	if fill != nil {
		err = fill(records)
	}
	err = errors.Join(err,
		records.People.Add(t.Context(), store.Person{ID: "p", Name: demoPerson, Password: api.HashPassword("a long password"),
			Role: store.Administrator, MadeAt: time.Now()}, "test"), records.Close())
	if err != nil {
		t.Fatal(err)
	}
}

// startProcessIn starts the program on records that were set up, and signs in.
func startProcessIn(t testing.TB, folder string, args ...string) *process {
	t.Helper()
	listen := fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	p := &process{t: t, folder: folder, url: "http://" + listen}
	p.args = append([]string{"serve", "--data", p.records(), "--listen", listen, "--time-zone", "UTC"}, args...)
	t.Cleanup(p.kill)
	p.start()
	c := &command{service: p.url}
	var err error
	if p.token, err = c.tokenFor(t.Context(), demoPerson, "a long password", "", ""); err != nil {
		t.Fatal(err)
	}
	if p.api, err = c.connectWith(p.token); err != nil {
		t.Fatal(err)
	}
	return p
}

func (p *process) records() string { return filepath.Join(p.folder, "records") }

// begin starts the program and waits for nothing.
func (p *process) begin() {
	p.t.Helper()
	p.command = exec.Command(os.Args[0], p.args...)
	p.command.Env = append(os.Environ(), "INKTRAY_TEST_RUN=1")
	said, err := os.OpenFile(filepath.Join(p.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		p.t.Fatal(err)
	}
	defer said.Close() // the program has its own
	p.command.Stderr = said
	if err := p.command.Start(); err != nil {
		p.t.Fatal(err)
	}
}

// warnings are the lines of the program's log that warn, at most as many.
func (p *process) warnings(most int) (lines []string) {
	text, err := os.ReadFile(filepath.Join(p.folder, "log"))
	if err != nil {
		p.t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if !strings.Contains(line, "level=INFO") && len(lines) < most {
			lines = append(lines, line[:min(len(line), 400)])
		}
	}
	return lines
}

// ended says whether the program has ended by itself.
func (p *process) ended() bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.command.Process.Pid))
	_, state, _ := strings.Cut(string(stat), ") ") // proc(5)
	return err == nil && strings.HasPrefix(state, "Z")
}

func (p *process) answers() bool {
	response, err := http.Get(p.url + "/api/v1/ready")
	if err == nil {
		response.Body.Close()
	}
	return err == nil && response.StatusCode == 200
}

func (p *process) start() {
	p.t.Helper()
	p.begin()
	until(p.t, "the service answers", p.answers)
}

func (p *process) kill() {
	if p.command != nil {
		p.command.Process.Kill()
		p.command.Wait()
		p.command = nil
	}
}
