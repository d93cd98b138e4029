package jmap

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

const answerMail = "From: ann@localhost\r\nTo: oda@tidewatch.example\r\nSubject: Filed\r\n" +
	"Message-ID: <answer@localhost>\r\nDate: Mon, 01 Jun 2026 08:00:00 +0000\r\n\r\nThank you.\r\n"

// relay is where a mail server hands on the mail that it is to send.
type relay struct {
	mutex  sync.Mutex
	from   []string
	to     []string
	mails  []string
	refuse *smtp.SMTPError
}

func (r *relay) NewSession(*smtp.Conn) (smtp.Session, error) { return r, nil }
func (r *relay) Reset()                                      {}
func (r *relay) Logout() error                               { return nil }
func (r *relay) Mail(from string, _ *smtp.MailOptions) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.from = append(r.from, from)
	return nil
}
func (r *relay) Rcpt(to string, _ *smtp.RcptOptions) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.refuse != nil {
		return r.refuse
	}
	r.to = append(r.to, to)
	return nil
}
func (r *relay) Data(content io.Reader) error {
	data, err := io.ReadAll(content)
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.mails = append(r.mails, string(data))
	return err
}

// A reply goes out through the mailbox's own server, once, and is among the sent messages afterwards.
func TestMailIsSentThroughCyrus(t *testing.T) {
	c := testbed.StartCyrus(t, "ann")
	out := &relay{}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(c.SMTP)))
	if err != nil {
		t.Fatal(err)
	}
	server := smtp.NewServer(out)
	server.Domain = "localhost"
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	c.Client("ann") // whose mailbox this makes
	s := dialed(t, configOf(c, "ann"))
	if !s.Submits() {
		t.Fatal("the server takes no mail to send")
	}
	letter := source.Letter{Sender: "ann@localhost", To: []string{"oda@tidewatch.example"}, Content: []byte(answerMail)}
	if err := s.Submit(t.Context(), letter); err != nil {
		t.Fatal(err)
	}
	out.mutex.Lock()
	if len(out.mails) != 1 || !strings.Contains(out.mails[0], "Thank you.") || len(out.to) != 1 ||
		out.to[0] != "oda@tidewatch.example" {
		t.Errorf("sent: %q from %q to %q", out.mails, out.from, out.to)
	}
	out.refuse = &smtp.SMTPError{Code: 550, Message: "nobody of that name"}
	out.mutex.Unlock()
	left := func() (n uint32) {
		t.Helper()
		state, err := s.Open(t.Context(), "Drafts")
		if err != nil {
			t.Fatal(err)
		}
		return state.Messages
	}
	if n := left(); n != 0 {
		t.Errorf("%d drafts are left of what was sent", n)
	}
	letter.Content = []byte(strings.Replace(answerMail, "<answer@", "<second@", 1))
	var known *source.Error
	if err := s.Submit(t.Context(), letter); !errors.As(err, &known) || errors.Is(err, source.ErrUnsure) {
		t.Errorf("a recipient that is refused: %v", err)
	}
	if n := left(); n != 0 {
		t.Errorf("%d drafts are left of what was refused", n)
	}
}

// sending makes a stage take mail to send. answer is what it says of a submission.
func (s *stage) sending(answer func() any) {
	s.capable = map[string]any{submitting: struct{}{}}
	s.answer = func(method string, args map[string]any) any {
		switch method {
		case "Identity/get":
			return map[string]any{"list": []any{map[string]any{"id": "I", "email": "office@brackwater.example"}}}
		case "Email/import":
			return map[string]any{"created": map[string]any{"new": map[string]any{"id": "D1"}}}
		case "Email/set":
			return map[string]any{"destroyed": args["destroy"]}
		case "EmailSubmission/set":
			return answer()
		}
		return nil
	}
}

func TestWhatTheServerSaysOfASubmissionDecidesWhetherItIsTriedAgain(t *testing.T) {
	refused := func(kind string) func() any {
		return func() any {
			return map[string]any{"notCreated": map[string]any{"new": map[string]any{"type": kind}}}
		}
	}
	failed := func(kind string) func() any { return func() any { return &methodError{Type: kind} } }
	for name, c := range map[string]struct {
		answer          func() any
		sender          string
		says            string
		unsure, lasting bool
		removed         int // drafts that are taken away again
	}{
		"sent": {answer: func() any { return map[string]any{"created": map[string]any{"new": map[string]any{"id": "S"}}} }},
		"another sender": {sender: "other@brackwater.example", says: "may not send mail as “other@brackwater.example”",
			lasting: true},
		"not allowed":             {answer: refused("forbiddenToSend"), says: "send mail", lasting: true, removed: 1},
		"a recipient":             {answer: refused("invalidRecipients"), says: "oda@tidewatch", lasting: true, removed: 1},
		"too many":                {answer: refused("rateLimit"), says: "takes no more mail", removed: 1},
		"out of service":          {answer: failed("serverUnavailable"), says: "asks to wait", removed: 1},
		"an error in its midst":   {answer: failed("serverFail"), says: "did not say", unsure: true},
		"an answer that is none":  {answer: func() any { return map[string]any{} }, says: "did not say", unsure: true},
		"only a part of it":       {answer: failed("serverPartialFail"), says: "did not say", unsure: true},
		"nobody to tell failures": {answer: refused("forbiddenMailFrom"), says: "write as", lasting: true, removed: 1},
	} {
		t.Run(name, func(t *testing.T) {
			stage, config := newStage(t, 1)
			stage.sending(c.answer)
			s := dialed(t, config)
			l := source.Letter{Sender: "office@brackwater.example", To: []string{"oda@tidewatch.example"},
				Content: []byte(answerMail)}
			if c.sender != "" {
				l.Sender = c.sender
			}
			err := s.Submit(t.Context(), l)
			var known *source.Error
			switch {
			case c.says == "":
				if err != nil {
					t.Error(err)
				}
			case err == nil || !strings.Contains(err.Error(), c.says) || errors.Is(err, source.ErrUnsure) != c.unsure:
				t.Errorf("%v", err)
			case !c.unsure && (!errors.As(err, &known) || known.Lasting != c.lasting || known.Advice == ""):
				t.Errorf("%#v", err)
			}
			if stage.asked["Email/set"] != c.removed {
				t.Errorf("%d drafts were removed", stage.asked["Email/set"])
			}
		})
	}
}

func TestASubmissionWithoutAnAnswerMayHaveBeenSent(t *testing.T) {
	stage, config := newStage(t, 1)
	stage.sending(func() any { panic(http.ErrAbortHandler) })
	s := dialed(t, config)
	err := s.Submit(t.Context(), source.Letter{Sender: "office@brackwater.example",
		To: []string{"oda@tidewatch.example"}, Content: []byte(answerMail)})
	stage.mutex.Lock()
	defer stage.mutex.Unlock()
	if !errors.Is(err, source.ErrUnsure) || stage.asked["EmailSubmission/set"] != 1 {
		t.Errorf("%v after %d tries", err, stage.asked["EmailSubmission/set"])
	}
	stage, config = newStage(t, 1)
	var known *source.Error
	err = dialed(t, config).Submit(t.Context(), source.Letter{})
	if !errors.As(err, &known) || !known.Lasting || !strings.Contains(known.Problem, "takes no mail to send") {
		t.Errorf("%v", err)
	}
	_ = stage
}

// A server that announces by WebSocket alone is listened to, also after it ended the connection.
func TestAServerAnnouncesByWebSocket(t *testing.T) {
	stage, config := newStage(t, 3)
	lines := make(chan string)
	enabled := make(chan map[string]any, 10)
	stage.capable = map[string]any{webSockets: map[string]any{"supportsPush": true,
		"url": strings.Replace(stage.server.URL, "http://", "ws://", 1) + "/socket"}}
	stage.reply = func(w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/socket" {
			return false
		}
		if user, password, _ := r.BasicAuth(); user != "ann" || password != "pw" {
			w.WriteHeader(http.StatusUnauthorized)
			return true
		}
		conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"jmap"}})
		if err != nil {
			return true
		}
		defer conn.CloseNow()
		_, data, err := conn.Read(r.Context())
		if err != nil {
			return true
		}
		var asked map[string]any
		_ = json.Unmarshal(data, &asked)
		enabled <- asked
		for line := range lines {
			if line == "" || conn.Write(r.Context(), websocket.MessageText, []byte(line)) != nil {
				break
			}
		}
		return true
	}
	checks := Check(t.Context(), config)
	if last := checks[len(checks)-1]; !strings.Contains(last.Detail, "WebSocket") {
		t.Errorf("%+v", last)
	}
	lines <- "" // of the check
	<-enabled
	s := dialed(t, config)
	uidsOf(t, s)
	if !s.Pushes() {
		t.Fatal("it does not listen")
	}
	if asked := <-enabled; asked["@type"] != "WebSocketPushEnable" {
		t.Errorf("%v", asked)
	}
	arrives := func(id, line string) {
		t.Helper()
		var said sync.WaitGroup
		said.Go(func() { stage.come(id); lines <- line })
		defer said.Wait()
		if e, err := s.Wait(t.Context(), 10*time.Second, nil); err != nil || !e.Arrived || !e.All {
			t.Errorf("%+v, %v", e, err)
		}
	}
	arrives("N1", `{"@type":"StateChange","changed":{"A":{"Email":"1"}}}`)
	arrives("N2", "") // the connection ends, and something came meanwhile
	if asked := <-enabled; asked["@type"] != "WebSocketPushEnable" {
		t.Errorf("%v", asked)
	}
	close(lines)
	for range 2 { // it ends when the session does
		select {
		case <-enabled:
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Sessions of one mailbox list a folder once together, and each reports what came though another learned of it.
func TestSessionsOfAMailboxKnowTogether(t *testing.T) {
	stage, config := newStage(t, 500)
	config.Shared = &Shared{Keep: 300 * time.Millisecond}
	watching := dialed(t, config)
	uidsOf(t, watching)
	var working sync.WaitGroup
	for range 4 {
		working.Go(func() {
			s, err := Dial(t.Context(), config)
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			for range 5 {
				if _, err := s.Open(t.Context(), "INBOX"); err != nil {
					t.Error(err)
				}
				uids, err := s.UIDs(t.Context(), source.Query{})
				if err != nil || len(uids) < 500 {
					t.Errorf("%d messages, %v", len(uids), err)
				}
			}
		})
	}
	stage.come("N1")
	working.Wait()
	stage.mutex.Lock()
	if n := stage.asked["Email/query"]; n != 1 {
		t.Errorf("the folder was listed %d times", n)
	}
	stage.mutex.Unlock()
	other := dialed(t, config)
	if uids := uidsOf(t, other); len(uids) != 501 {
		t.Errorf("%d messages", len(uids))
	}
	tell(watching.news)
	if e, err := watching.Wait(t.Context(), 5*time.Second, nil); err != nil || !e.Arrived {
		t.Errorf("what another session learned of is not reported: %+v, %v", e, err)
	}
	// One that comes back soon finds the list; after a while nothing is kept.
	closed := func(all ...*Session) {
		t.Helper()
		for _, s := range all {
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		}
	}
	closed(watching, other)
	back := dialed(t, config)
	if uids := uidsOf(t, back); len(uids) != 501 || stage.asked["Email/query"] != 1 {
		t.Errorf("one that comes back: %d messages, listed %d times", len(uids), stage.asked["Email/query"])
	}
	closed(back)
	forgotten := func() bool {
		config.Shared.mutex.Lock()
		defer config.Shared.mutex.Unlock()
		return config.Shared.known == nil && config.Shared.sessions == 0
	}
	for deadline := time.After(5 * time.Second); !forgotten(); {
		select {
		case <-deadline:
			t.Fatal("what the sessions knew is kept for ever")
		case <-time.After(10 * time.Millisecond):
		}
	}
	// Who waits for another session is told so in words.
	stuck := dialed(t, config)
	stuck.known.turn <- struct{}{}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	var known *source.Error
	if _, err := stuck.Open(ctx, "INBOX"); !errors.As(err, &known) || !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("while another session reads: %v", err)
	}
	<-stuck.known.turn
	closed(stuck)
	config.Numbers = &sourcetest.Numbers{}
	if uids := uidsOf(t, dialed(t, config)); len(uids) != 501 || stage.asked["Email/query"] != 2 {
		t.Errorf("%d messages, listed %d times", len(uids), stage.asked["Email/query"])
	}
}

// How long a further session needs to open a folder of 200,000 messages, such as for the page Mail.
func BenchmarkAFurtherSession(b *testing.B) {
	for _, c := range []struct {
		name   string
		shared *Shared
	}{{"by itself", nil}, {"with what another knows", &Shared{}}} {
		b.Run(c.name, func(b *testing.B) {
			_, config := newStage(b, 200_000)
			config.Shared = c.shared
			open := func() *Session {
				s, err := Dial(b.Context(), config)
				if err != nil {
					b.Fatal(err)
				}
				if _, err := s.Open(b.Context(), "INBOX"); err != nil {
					b.Fatal(err)
				}
				return s
			}
			defer open().Close()
			for b.Loop() {
				open().Close()
			}
		})
	}
}
