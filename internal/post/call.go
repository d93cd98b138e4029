package post

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"
)

// Event is what a call carries (CloudEvents 1.0, JSON format, structured mode).
type Event struct {
	SpecVersion     string    `json:"specversion"`
	ID              string    `json:"id"`
	Source          string    `json:"source"`
	Type            string    `json:"type"`
	Subject         string    `json:"subject,omitempty"`
	Time            time.Time `json:"time"`
	DataContentType string    `json:"datacontenttype"`
	Data            any       `json:"data"`
}

// Bytes writes the event.
func (e *Event) Bytes() ([]byte, error) {
	e.SpecVersion, e.DataContentType = "1.0", "application/json"
	return json.Marshal(e)
}

// Target is where a call goes.
type Target struct {
	URL     string
	Secret  string // signs the call (RFC 9421, hmac-sha256)
	Inside  bool   // it may go to the machine's own network
	Timeout time.Duration
}

// errInside says that an address is of the machine's own network.
var errInside = errors.New("the address is inside this machine's own network")

// shared is the space between carriers and their customers (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// inside says whether an address is of the machine's own network.
func inside(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast() ||
		a.IsInterfaceLocalMulticast() || a.IsMulticast() || a.IsUnspecified() || shared.Contains(a)
}

// CheckURL says what is wrong with an address for calls.
func CheckURL(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "":
		return fmt.Errorf("%q is not an address; it begins with https://", address)
	case u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%q must begin with https:// or http://", address)
	case u.User != nil:
		return errors.New("a name and a password in the address would be written down in many places; the calls are signed " +
			"instead")
	}
	return nil
}

// Call posts an event. It is the same event however often it is posted: its id
// tells. The error, if any, is an *Error.
func Call(ctx context.Context, t Target, event []byte, now time.Time) error {
	timeout := t.Timeout
	if timeout == 0 {
		timeout = 20 * time.Second
	}
	if err := CheckURL(t.URL); err != nil {
		return &Error{Problem: err.Error(), Advice: "Correct the address in Settings, Notifications."}
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, t.URL, bytes.NewReader(event))
	if err != nil {
		return &Error{Problem: err.Error(), Err: err}
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("User-Agent", "InkTray")
	if t.Secret != "" {
		sign(request, t.Secret, event, now)
	}
	dialer := &net.Dialer{Timeout: timeout}
	if !t.Inside {
		// after the name was looked up, so that no name leads inside
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			a, err := netip.ParseAddrPort(address)
			if err != nil || inside(a.Addr()) {
				return errInside
			}
			return nil
		}
	}
	client := &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true, TLSHandshakeTimeout: timeout,
			MaxResponseHeaderBytes: 64 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	response, err := client.Do(request)
	switch {
	case errors.Is(err, errInside):
		return &Error{Problem: "the address " + t.URL + " is inside this machine's own network",
			Advice: "If this is intended, allow it for this addressee in Settings.", Err: err}
	case err != nil:
		return &Error{Problem: fmt.Sprintf("nobody answers at %s (%v)", t.URL, innermost(err)),
			Advice: "It is tried again by itself.", Passing: true, Err: err}
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(response.Body, 200))
	switch code := response.StatusCode; {
	case code/100 == 2:
		return nil
	case code/100 == 3:
		return &Error{Problem: fmt.Sprintf("%s sends on to another address, which is not followed", t.URL),
			Advice: "Enter the address to which it leads."}
	case code/100 == 5 || code == http.StatusRequestTimeout || code == http.StatusTooManyRequests ||
		code == http.StatusTooEarly:
		return &Error{Problem: fmt.Sprintf("%s answers %s", t.URL, response.Status), Advice: "It is tried again by itself.",
			Passing: true}
	}
	return &Error{Problem: fmt.Sprintf("%s refuses: %s %s", t.URL, response.Status, bytes.TrimSpace(said)),
		Advice: "Look at what it says, then try again."}
}

func innermost(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// sign signs a request (RFC 9421 section 3.3.3, hmac-sha256) over its method,
// its address, its type and the digest of its content (RFC 9530).
func sign(r *http.Request, secret string, content []byte, now time.Time) {
	digest := sha256.Sum256(content)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	parameters := fmt.Sprintf(
		`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="inktray";alg="hmac-sha256"`, now.Unix())
	r.Header.Set("Signature-Input", "inktray="+parameters)
	r.Header.Set("Signature", "inktray=:"+base64.StdEncoding.EncodeToString(signature(r, secret, parameters))+":")
}

// signature is made over the signature base (RFC 9421 section 2.5).
func signature(r *http.Request, secret, parameters string) []byte {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": "+
		"%s\n\"@signature-params\": %s",
		r.Method, r.URL.String(), r.Header.Get("Content-Type"), r.Header.Get("Content-Digest"), parameters)
	return mac.Sum(nil)
}
