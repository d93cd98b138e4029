package client

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// answering is a service with one answer, that counts how often it was asked and keeps the last token.
func answering(t *testing.T, status int, kind, body string) (*ClientWithResponses, *string) {
	t.Helper()
	token := new(string)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*token = r.Header.Get("Authorization")
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Retry-After", "7")
		if status == http.StatusFound {
			w.Header().Set("Location", "https://elsewhere.example/")
		}
		w.WriteHeader(status)
		if _, err := w.Write([]byte(body)); err != nil {
			t.Error(err)
		}
	}))
	t.Cleanup(s.Close)
	c, err := Connect(s.URL, "tray_abc")
	if err != nil {
		t.Fatal(err)
	}
	return c, token
}

func TestAnAnswerIsRead(t *testing.T) {
	c, token := answering(t, 200, "application/json", `{"version": "1.2.3"}`)
	got, err := c.GetVersionWithResponse(t.Context())
	if err != nil || got.JSON200 == nil || got.JSON200.Version != "1.2.3" {
		t.Errorf("%v, %+v", err, got)
	}
	if *token != "Bearer tray_abc" {
		t.Errorf("the token arrived as %q", *token)
	}
}

func TestARefusalIsAnErrorWithTheProblemOfTheService(t *testing.T) {
	problem := `{"type": "urn:inktray:problem:invalid", "title": "Not valid", "status": 422, "detail": "It is wrong.",
		"advice": "Mend it.", "problems": [{"place": "name", "text": "must be there"}]}`
	for _, c := range []struct {
		status     int
		kind, body string
		says       []string
	}{
		{422, "application/problem+json; charset=utf-8", problem, []string{"It is wrong.", "Mend it.", "name: must be there"}},
		{502, "text/html", "<h1>Bad gateway</h1>", []string{"502 Bad Gateway"}},
		{500, "application/problem+json", `{"detail": "cut o`, []string{"500"}},
		{500, "application/problem+json", `[]`, []string{"500"}},
		{302, "text/plain", "", []string{"302", "https://elsewhere.example/"}},
	} {
		service, _ := answering(t, c.status, c.kind, c.body)
		_, err := service.GetVersionWithResponse(t.Context())
		var refused *Refused
		if !errors.As(err, &refused) {
			t.Errorf("%d %s: %v", c.status, c.body, err)
			continue
		}
		if refused.Status != c.status || refused.RetryAfter != "7" {
			t.Errorf("status %d, Retry-After %q", refused.Status, refused.RetryAfter)
		}
		for _, s := range c.says {
			if !strings.Contains(err.Error(), s) {
				t.Errorf("%q does not say %q", err, s)
			}
		}
	}
}

func TestAnAddressThatIsNoneIsRefused(t *testing.T) {
	for _, address := range []string{"", "tray.brackwater.example", "127.0.0.1:8025", "ftp://tray.example", "http://", "::"} {
		if _, err := Connect(address, ""); err == nil {
			t.Errorf("%q was taken", address)
		}
	}
}

func TestWithoutATokenNothingIsSent(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.NewEncoder(w).Encode(map[string]string{"version": r.Header.Get("Authorization")}); err != nil {
			t.Error(err)
		}
	}))
	defer s.Close()
	c, err := Connect(s.URL, "")
	if err != nil {
		t.Fatal(err)
	}
	got, err := c.GetVersionWithResponse(t.Context())
	if err != nil || got.JSON200.Version != "" {
		t.Errorf("%v, %+v", err, got)
	}
}
