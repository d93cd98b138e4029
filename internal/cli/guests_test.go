package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

func TestEndingTheServiceHasABound(t *testing.T) {
	began := time.Now()
	err := within(20*time.Millisecond, func() error { select {} })
	if err == nil || !strings.Contains(err.Error(), "did not end within") || time.Since(began) > 5*time.Second {
		t.Errorf("what hangs: %v after %v", err, time.Since(began))
	}
	wrong := errors.New("wrong")
	if err := within(time.Minute, func() error { return wrong }); !errors.Is(err, wrong) {
		t.Errorf("what ends with an error: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if s, err := startUntil(ctx,
		serviceOptions{data: t.TempDir(), listen: "127.0.0.1:0", zone: "nowhere", language: "en"}); s != nil || err == nil {
		t.Errorf("starting when the end was asked for: %v", err)
	}
}

// listenTo opens the stream of events and reads its first line.
func (o *office) listenTo(token string) (*http.Response, *bufio.Reader) {
	o.t.Helper()
	r, err := http.NewRequestWithContext(o.t.Context(), http.MethodGet, o.service.address()+"/api/v1/events", nil)
	if err != nil {
		o.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		o.t.Fatal(err)
	}
	o.t.Cleanup(func() { response.Body.Close() })
	in := bufio.NewReader(response.Body)
	if response.StatusCode == http.StatusOK {
		if line, err := in.ReadString('\n'); err != nil || !strings.HasPrefix(line, ":") {
			o.t.Fatalf("the stream begins with %q, %v", line, err)
		}
	}
	return response, in
}

func TestAStreamOfEventsEndsWithItsSession(t *testing.T) {
	o := openOffice(t, empty)
	token, _ := o.person("Ines", store.Administrator)
	other, _ := o.person("Tamsin", store.Reader)
	_, stays := o.listenTo(other)
	_, ends := o.listenTo(token)
	if status, _, _ := o.ask("DELETE", "/api/v1/sessions/current", token, ""); status != 204 {
		t.Fatalf("signing out answers %d", status)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := io.Copy(io.Discard, ends)
		ended <- err
	}()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Error("the stream goes on after signing out")
	}
	o.service.engine.WakeAll()
	if _, err := stays.Peek(1); err != nil {
		t.Errorf("another's stream ended, too: %v", err)
	}
	var all []*http.Response
	for range 40 {
		r, _ := o.listenTo(other)
		all = append(all, r)
	}
	refused := 0
	for _, r := range all {
		if r.StatusCode == http.StatusTooManyRequests {
			refused++
		}
	}
	if refused != 9 {
		t.Errorf("of 41 streams of one person %d were refused, want 9", refused)
	}
}

// A file that a colleague changed is given as it is now, with a remark.
func TestAFiledFileThatSomebodyChangedIsGivenWithARemark(t *testing.T) {
	o := openOffice(t, theLast)
	var longer *client.Filing
	found := value[client.RegisterPage](t, "register", "list", "state:filed").Filings
	for i := range found {
		if f := &found[i]; f.Size > 100 && f.Cabinet == "harbour files" {
			longer = f
			break
		}
	}
	if longer == nil {
		t.Fatal("nothing was filed")
	}
	path := filepath.Join(o.folder, "files", longer.Folder, longer.File)
	for _, content := range []string{"much shorter", strings.Repeat("much longer ", int(longer.Size)/12+100)} {
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(t.TempDir(), "got")
		out, errs, code := run(t, "", "register", "fetch", longer.Entry, "--to", to)
		if data, err := os.ReadFile(to); code != 0 || err != nil || string(data) != content {
			t.Errorf("%d, %s%s: %d bytes of %d, %v", code, out, errs, len(data), len(content), err)
		}
		if !strings.Contains(errs, "A person or program changed this file in the cabinet after it was filed") {
			t.Errorf("the remark is missing: %q", errs)
		}
		status, header, _ := o.ask("GET", fmt.Sprintf("/api/v1/register/%s/file?first=5", longer.Entry), o.token, "")
		if status != 200 || header.Get("Inktray-Changed-Since-Filed") != "true" {
			t.Errorf("the answer is %d with %v", status, header)
		}
	}
}
