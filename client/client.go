// Package client calls the interface of Ink Tray over HTTP. It is made from the interface's own description
// (GET /api/v1/openapi.yaml, OpenAPI 3.1): each operation is a method, each schema is a type.
//
//	tray, err := client.Connect("http://127.0.0.1:8025", os.Getenv("INKTRAY_TOKEN"))
//	...
//	me, err := tray.GetMeWithResponse(ctx)
//	...
//	fmt.Println(me.JSON200.Name)
package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
)

// mostProblem is how many octets of a problem document are read.
const mostProblem = 1 << 20

// Refused is an answer that is not what was asked for: the problem document (RFC 9457) of the service, or what is known
// of an answer without one.
type Refused struct {
	Problem
	// RetryAfter is the header Retry-After (RFC 9110 section 10.2.3); empty where the service says nothing.
	RetryAfter string
}

// Error gives the detail, the advice, and what is wrong with each field.
func (r *Refused) Error() string {
	parts := []string{r.Detail}
	if r.Advice != nil && *r.Advice != "" {
		parts = append(parts, *r.Advice)
	}
	if r.Problems != nil {
		for _, p := range *r.Problems {
			parts = append(parts, p.Place+": "+p.Text)
		}
	}
	return strings.Join(parts, "\n")
}

// Connect returns a client of the service at an address such as https://tray.brackwater.example. It signs in with a
// token, which `inktray keys make` gives; without a token only what is open to everyone can be asked.
//
// Methods whose names end in WithResponse return the answer that was read, for example in JSON200. Their error is
// a *Refused for every answer that is not 2xx or 304. No redirect is followed: a token goes to this service alone.
// Options, such as WithHTTPClient for an own authority, come after these.
func Connect(service, token string, options ...ClientOption) (*ClientWithResponses, error) {
	u, err := url.Parse(service)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not an address such as https://tray.brackwater.example", service)
	}
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	c, err := NewClient(service, append([]ClientOption{WithHTTPClient(stay)}, options...)...)
	if err != nil {
		return nil, err
	}
	c.Client = refusing{c.Client}
	if token != "" {
		c.RequestEditors = append(c.RequestEditors, func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		})
	}
	return &ClientWithResponses{c}, nil
}

// refusing makes an error of every answer that refuses.
type refusing struct{ HttpRequestDoer }

func (d refusing) Do(r *http.Request) (*http.Response, error) {
	answer, err := d.HttpRequestDoer.Do(r)
	if err != nil || answer.StatusCode < http.StatusMultipleChoices || answer.StatusCode == http.StatusNotModified {
		return answer, err
	}
	defer answer.Body.Close()
	refused := &Refused{RetryAfter: answer.Header.Get("Retry-After")}
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	if kind == "application/problem+json" {
		// A document that is not whole says what it says; the status is known without it.
		_ = json.NewDecoder(io.LimitReader(answer.Body, mostProblem)).Decode(&refused.Problem)
	}
	refused.Status = answer.StatusCode
	if refused.Detail == "" {
		refused.Detail = "the service answered " + answer.Status
		if to := answer.Header.Get("Location"); to != "" {
			refused.Detail += " and leads to " + to
		}
	}
	return nil, refused
}
