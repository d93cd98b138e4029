package post

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/testbed"
)

func TestALetterIsWholeAndHoldsItsFields(t *testing.T) {
	l := Letter{From: "office@brackwater.example", Name: "Häfen\r\nBcc: x@y.example",
		To: []string{"oda@tidewatch.example"}, Subject: "Pegelstände\r\nX-Evil: yes", Text: "Guten Tag,\nein Satz mit € " +
			"und sehr langer Zeile " + strings.Repeat("x", 200) + "\n.\nEnde", ID: "<1@brackwater.example>",
		Date: time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC), InReplyTo: "<2@t.example>",
		References: "<1@t.example> <2@t.example>", Auto: "auto-replied"}
	data, err := l.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	m, err := mail.ReadMessage(strings.NewReader(string(data)))
	if err != nil {
		t.Fatal(err)
	}
	for _, evil := range []string{"Bcc", "X-Evil"} {
		if m.Header.Get(evil) != "" {
			t.Errorf("a line break in a value made the field %s", evil)
		}
	}
	if m.Header.Get("References") != l.References || m.Header.Get("Auto-Submitted") != "auto-replied" ||
		m.Header.Get("Message-ID") != l.ID {
		t.Errorf("the header is %v", m.Header)
	}
	for i, line := range strings.Split(string(data), "\r\n") {
		if len(line) > 998 || strings.Contains(line, "\n") {
			t.Errorf("line %d is no line of a message: %q", i, line)
		}
	}
}

// server is a mail server that answers as it is told.
type server struct {
	mailErr      error
	rcptErr      error
	dataErr      error
	cut          string // "rcpt", "data" or "end": the connection ends there
	user, secret string
	got          []string
}

type conversation struct {
	s  *server
	c  *smtp.Conn
	in bool
}

func (c *conversation) AuthMechanisms() []string { return []string{sasl.Plain} }
func (c *conversation) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != c.s.user || password != c.s.secret {
			return &smtp.SMTPError{Code: 535, Message: "no such name or password"}
		}
		c.in = true
		return nil
	}), nil
}
func (c *conversation) Reset()                               {}
func (c *conversation) Logout() error                        { return nil }
func (c *conversation) Mail(string, *smtp.MailOptions) error { return c.s.mailErr }
func (c *conversation) Rcpt(string, *smtp.RcptOptions) error {
	if c.s.cut == "rcpt" {
		c.c.Conn().Close()
	}
	return c.s.rcptErr
}
func (c *conversation) Data(r io.Reader) error {
	if c.s.cut == "data" {
		c.c.Conn().Close()
		return io.ErrUnexpectedEOF
	}
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if c.s.dataErr == nil {
		c.s.got = append(c.s.got, string(data))
	}
	if c.s.cut == "end" {
		c.c.Conn().Close()
	}
	return c.s.dataErr
}

func (s *server) start(t *testing.T) Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	smtpServer := smtp.NewServer(
		smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &conversation{s: s, c: c}, nil }))
	smtpServer.Domain, smtpServer.AllowInsecureAuth = "localhost", true
	go smtpServer.Serve(l)
	t.Cleanup(func() { smtpServer.Close() })
	return Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Encryption: "none", Username: s.user,
		Password: s.secret, Timeout: 2 * time.Second}
}

func TestWhatAServerSaysDecidesWhetherItIsTriedAgain(t *testing.T) {
	permanent := &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name"}
	passing := &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 0}, Message: "later"}
	for name, c := range map[string]struct {
		server                    server
		passing, unsure, reached  bool
		says                      string
		wrongPassword, wrongPlace bool
	}{
		"all is well": {server: server{}},
		"signed in":   {server: server{user: "office", secret: "pw"}},
		"wrong password": {server: server{user: "office", secret: "pw"}, wrongPassword: true,
			says: "refuses the name “office” or its password (535"},
		"nobody there": {server: server{}, wrongPlace: true, passing: true, reached: true,
			says: "no mail server answers"},
		"sender refused": {server: server{mailErr: permanent}, says: "refuses the sender"},
		"recipient refused": {server: server{rcptErr: permanent}, says: "refuses the recipient " +
			"“oda@tidewatch.example” (550 nobody of that name)"},
		"recipient later":         {server: server{rcptErr: passing}, passing: true, says: "450"},
		"content refused":         {server: server{dataErr: permanent}, says: "refuses the mail"},
		"content later":           {server: server{dataErr: passing}, passing: true, says: "refuses the mail"},
		"cut before the content":  {server: server{cut: "rcpt"}, passing: true, reached: true, says: "recipient"},
		"cut after all was given": {server: server{cut: "end"}, unsure: true, says: "may have been sent"},
	} {
		t.Run(name, func(t *testing.T) {
			s := c.server.start(t)
			if c.wrongPassword {
				s.Password = "wrong"
			}
			if c.wrongPlace {
				s.Port = testbed.FreePort(t)
			}
			err := s.Send(t.Context(), "office@brackwater.example", []string{"oda@tidewatch.example"},
				[]byte("Subject: x\r\n\r\nx\r\n"))
			if c.says == "" {
				if err != nil || len(c.server.got) != 1 || s.Check(t.Context()) != nil {
					t.Errorf("%v, got %q", err, c.server.got)
				}
				return
			}
			var e *Error
			if !errors.As(err, &e) || e.Passing != c.passing || e.Unsure != c.unsure || e.Server != c.reached ||
				!strings.Contains(e.Problem, c.says) || e.Advice == "" && !c.unsure && !e.Server {
				t.Errorf("%+v, want passing %v, unsure %v, out of reach %v: ...%s...", err, c.passing, c.unsure, c.reached, c.says)
			}
		})
	}
}

func TestTheAddressesOfTheOwnNetwork(t *testing.T) {
	for address, want := range map[string]bool{
		"127.0.0.1": true, "10.1.2.3": true, "172.20.0.1": true, "192.168.1.1": true, "169.254.169.254": true,
		"100.64.0.1": true, "0.0.0.0": true, "::1": true, "fe80::1": true, "fd00::1": true, "::ffff:127.0.0.1": true,
		"::": true, "224.0.0.1": true,
		"192.0.2.1": false, "2001:db8::1": false, "100.128.0.1": false,
	} {
		if got := inside(netip.MustParseAddr(address)); got != want {
			t.Errorf("%s: %v, want %v", address, got, want)
		}
	}
}

func TestACallIsSignedAndGoesNowhereElse(t *testing.T) {
	now := time.Unix(1_780_000_000, 0)
	event := Event{ID: "1", Source: "urn:inktray:x", Type: "inktray.trial", Time: now, Data: map[string]int{"n": 1}}
	data, err := event.Bytes()
	if err != nil ||
		!strings.HasPrefix(string(data), `{"specversion":"1.0","id":"1","source":"urn:inktray:x","type":"inktray.trial"`) {
		t.Fatalf("%s, %v", data, err)
	}
	status, elsewhere := 204, ""
	var got *http.Request
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		body, _ := io.ReadAll(r.Body)
		if string(body) != string(data) {
			t.Errorf("it carries %s", body)
		}
		if elsewhere != "" {
			w.Header().Set("Location", elsewhere)
		}
		w.WriteHeader(status)
		fmt.Fprint(w, "as you say")
	}))
	defer web.Close()
	target := Target{URL: web.URL + "/events?a=1", Secret: "north-mole-light", Inside: true, Timeout: 2 * time.Second}
	if err := Call(t.Context(), target, data, now); err != nil {
		t.Fatal(err)
	}
	_, parameters, _ := strings.Cut(got.Header.Get("Signature-Input"), "inktray=")
	got.URL.Scheme, got.URL.Host = "http", got.Host // as the receiver knows its own address
	want := "inktray=:" + base64.StdEncoding.EncodeToString(signature(got, "north-mole-light", parameters)) + ":"
	if got.Header.Get("Signature") != want || !strings.Contains(parameters, "created=1780000000") ||
		got.Header.Get("Content-Type") != "application/cloudevents+json; charset=utf-8" {
		t.Errorf("signed as %s over %s, want %s", got.Header.Get("Signature"), parameters, want)
	}
	if signature := string(signature(got, "another", parameters)); strings.Contains(want,
		base64.StdEncoding.EncodeToString([]byte(signature))) {
		t.Error("another secret makes the same signature")
	}
	for _, c := range []struct {
		name    string
		target  Target
		status  int
		to      string
		passing bool
		says    string
	}{
		{"inside, not allowed", Target{URL: web.URL}, 204, "", false, "inside this machine's own network"},
		{"a name that leads inside", Target{URL: strings.Replace(web.URL, "127.0.0.1", "localhost", 1)}, 204, "", false,
			"inside this machine's own network"},
		{"a redirect", target, 302, "http://169.254.169.254/", false, "which is not followed"},
		{"busy", target, 503, "", true, "503"},
		{"too many", target, 429, "", true, "429"},
		{"refused", target, 400, "", false, "refuses: 400 Bad Request as you say"},
		{"nobody", Target{URL: fmt.Sprintf("http://127.0.0.1:%d/", testbed.FreePort(t)), Inside: true}, 0, "", true,
			"nobody answers"},
		{"no address", Target{URL: "ftp://x"}, 0, "", false, "must begin with https"},
		{"a password in it", Target{URL: "https://a:b@x.example/"}, 0, "", false, "signed instead"},
	} {
		status, elsewhere = c.status, c.to
		err := Call(context.Background(), c.target, data, now)
		var e *Error
		if !errors.As(err, &e) || e.Passing != c.passing || !strings.Contains(e.Problem, c.says) {
			t.Errorf("%s: %+v, want passing %v: ...%s...", c.name, err, c.passing, c.says)
		}
	}
}
