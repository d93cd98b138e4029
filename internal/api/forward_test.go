package api

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"
)

// Whatever another machine answers: it sets no cookie here, leads nowhere, and its pages run no scripts as if they were
// of this machine.
func TestAnAnswerOfAnotherMachineSetsNothingHere(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for name, value := range map[string]string{"Set-Cookie": "inktray_session=theirs",
			"Location":                    "https://elsewhere.example",
			"Access-Control-Allow-Origin": "*", "Clear-Site-Data": "*", "Service-Worker-Allowed": "/",
			"Strict-Transport-Security": "max-age=0", "Content-Security-Policy": "default-src *",
			"X-Frame-Options": "SAMEORIGIN",
			"Content-Type":    "text/html", "Inktray-Next": "next"} {
			w.Header().Set(name, value)
		}
		_, _ = io.WriteString(w, "<script>steal()</script>")
	}))
	defer other.Close()
	s := &Server{stop: t.Context()}
	app := fiber.New()
	app.Get("/*", func(c fiber.Ctx) error {
		c.Set("X-Frame-Options", "DENY")
		answer, err := http.Get(other.URL)
		if err != nil {
			return err
		}
		return s.passBack(c, answer, func() {})
	})
	r, err := http.NewRequestWithContext(context.Background(), http.MethodGet, "http://127.0.0.1/", nil)
	if err != nil {
		t.Fatal(err)
	}
	got, err := app.Test(r)
	if err != nil {
		t.Fatal(err)
	}
	defer got.Body.Close()
	for _, name := range []string{"Set-Cookie", "Location", "Access-Control-Allow-Origin", "Clear-Site-Data",
		"Service-Worker-Allowed", "Strict-Transport-Security"} {
		if value := got.Header.Get(name); value != "" {
			t.Errorf("%s is passed on: %s", name, value)
		}
	}
	if !slices.Contains(got.Header.Values("Content-Security-Policy"), "sandbox") {
		t.Errorf("its page is not confined: %v", got.Header)
	}
	if got.Header.Get("Inktray-Next") != "next" || len(got.Header.Values("X-Frame-Options")) != 1 {
		t.Errorf("what belongs to the answer is not passed on as it is: %v", got.Header)
	}
	if body, err := io.ReadAll(got.Body); err != nil || !strings.Contains(string(body), "steal") {
		t.Errorf("the answer is %q, %v", body, err)
	}
}

// What is answered from a copy is an operation, and one that changes nothing.
func TestWhatIsAnsweredFromACopyIsRead(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	reads := map[string]bool{}
	for _, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			reads[operation.OperationID] = method == http.MethodGet
		}
	}
	for _, one := range copied {
		if !reads[one] {
			t.Errorf("%s is no operation that reads", one)
		}
	}
}
