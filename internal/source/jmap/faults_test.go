package jmap

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
)

// stage is a server with one account, one folder and a few messages, which answers as it is told.
type stage struct {
	t       testing.TB
	mutex   sync.Mutex
	ids     []string // messages, those that came first before the others
	state   int
	log     []change
	page    int // how many names it gives at once; 0 for all
	asked   map[string]int
	answer  func(method string, args map[string]any) any // nil to answer as usual
	reply   func(w http.ResponseWriter, r *http.Request) bool
	events  chan string
	message func(id string) map[string]any
	server  *httptest.Server
	shared  string         // the name of another's account, which has folders, too
	capable map[string]any // further capabilities of the server and of the account
}

type change struct {
	state   int
	id      string
	created bool
}

func newStage(t testing.TB, messages int) (*stage, Config) {
	t.Helper()
	s := &stage{t: t, asked: map[string]int{}}
	for i := range messages {
		s.ids = append(s.ids, fmt.Sprintf("M%d", i+1))
	}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	s.server = server
	u, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	port, err := strconv.Atoi(u.Port())
	if err != nil {
		t.Fatal(err)
	}
	return s, Config{Server: reach.Server{Host: u.Hostname(), Port: port, Encryption: reach.None}, Username: "ann",
		Password: "pw", Timeout: 5 * time.Second, Numbers: &sourcetest.Numbers{}}
}

// come lets a message arrive.
func (s *stage) come(id string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.state++
	s.ids, s.log = append(s.ids, id), append(s.log, change{s.state, id, true})
}

func (s *stage) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.reply != nil && s.reply(w, r) {
		return
	}
	if user, password, _ := r.BasicAuth(); user != "ann" || password != "pw" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	switch {
	case r.URL.Path == "/.well-known/jmap":
		limits := map[string]any{"maxObjectsInGet": 50}
		session := map[string]any{"capabilities": map[string]any{core: limits, mailAbout: struct{}{}},
			"accounts": map[string]any{"A": map[string]any{"name": "ann", "isPersonal": true,
				"accountCapabilities": map[string]any{mailAbout: struct{}{}}}},
			"primaryAccounts": map[string]string{mailAbout: "A"}, "apiUrl": "/api",
			"downloadUrl": "/blob/{accountId}/{blobId}/{name}?accept={type}", "uploadUrl": "/up/{accountId}"}
		for name, about := range s.capable {
			session["capabilities"].(map[string]any)[name] = about
			session["accounts"].(map[string]any)["A"].(map[string]any)["accountCapabilities"].(map[string]any)[name] = about
		}
		if s.shared != "" {
			session["accounts"].(map[string]any)["B"] = map[string]any{"name": s.shared,
				"accountCapabilities": map[string]any{mailAbout: struct{}{}}}
		}
		if s.events != nil {
			session["eventSourceUrl"] = "/events?types={types}&closeafter={closeafter}&ping={ping}"
		}
		_ = json.NewEncoder(w).Encode(session)
	case r.URL.Path == "/events":
		w.Header().Set("Content-Type", "text/event-stream")
		w.WriteHeader(http.StatusOK)
		w.(http.Flusher).Flush()
		for {
			select {
			case e, more := <-s.events:
				if !more {
					return
				}
				fmt.Fprint(w, e)
				w.(http.Flusher).Flush()
			case <-r.Context().Done():
				return
			}
		}
	case r.URL.Path == "/api":
		s.api(w, r)
	case strings.HasPrefix(r.URL.Path, "/up/"):
		fmt.Fprint(w, `{"blobId":"U"}`)
	case strings.HasPrefix(r.URL.Path, "/blob/"):
		fmt.Fprint(w, "content")
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

func (s *stage) api(w http.ResponseWriter, r *http.Request) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	var request struct{ MethodCalls [][3]json.RawMessage }
	if err := json.NewDecoder(r.Body).Decode(&request); err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	s.asked["exchange"]++
	var responses [][3]any
	for _, c := range request.MethodCalls {
		var method, id string
		var args map[string]any
		err := errors.Join(json.Unmarshal(c[0], &method), json.Unmarshal(c[1], &args), json.Unmarshal(c[2], &id))
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		s.asked[method]++
		var answer any
		if s.answer != nil {
			answer = s.answer(method, args)
		}
		if answer == nil {
			answer = s.usual(method, args)
		}
		if no, ok := answer.(*methodError); ok {
			method, answer = "error", map[string]string{"type": no.Type}
		}
		responses = append(responses, [3]any{method, answer, id})
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"methodResponses": responses, "sessionState": "0"})
}

// usual answers as the standard has it.
func (s *stage) usual(method string, args map[string]any) any {
	switch method {
	case "Mailbox/get":
		return map[string]any{"state": "f1", "list": []any{map[string]any{"id": "F", "name": "Inbox", "role": "inbox",
			"myRights": map[string]bool{"mayReadItems": true}}}}
	case "Mailbox/changes":
		return map[string]any{"oldState": "f1", "newState": "f1", "created": []string{}, "updated": []string{},
			"destroyed": []string{}}
	case "Email/query":
		ids := s.ids
		if anchor, ok := args["anchor"].(string); ok {
			at := -1
			for i, id := range ids {
				if id == anchor {
					at = i
				}
			}
			if at < 0 {
				return &methodError{Type: "anchorNotFound"}
			}
			ids = ids[at+1:]
		}
		if s.page > 0 {
			ids = ids[:min(s.page, len(ids))]
		}
		return map[string]any{"ids": append([]string{}, ids...), "total": len(s.ids), "queryState": "q"}
	case "Email/changes":
		since, err := strconv.Atoi(fmt.Sprint(args["sinceState"]))
		if err != nil || since > s.state {
			return &methodError{Type: "cannotCalculateChanges"}
		}
		created := []string{}
		for _, c := range s.log {
			if c.state > since {
				created = append(created, c.id)
			}
		}
		return map[string]any{"oldState": strconv.Itoa(since), "newState": strconv.Itoa(s.state), "created": created}
	case "Email/get":
		list := []any{}
		for _, id := range args["ids"].([]any) {
			m := map[string]any{"id": id, "blobId": "B", "mailboxIds": map[string]bool{"F": true}, "size": 100,
				"receivedAt": "2026-05-12T06:02:00Z",
				"headers": []any{map[string]string{"name": "From", "value": " a@b.example"},
					map[string]string{"name": "Message-ID", "value": fmt.Sprintf(" <%v@b.example>", id)}},
				"bodyStructure": map[string]any{"blobId": "P", "size": 7, "type": "text/plain", "headers": []any{}}}
			if s.message != nil {
				for k, v := range s.message(id.(string)) {
					m[k] = v
				}
			}
			if wanted, _ := args["properties"].([]any); !slices.Contains(wanted, any("bodyStructure")) {
				delete(m, "bodyStructure")
			}
			list = append(list, m)
		}
		return map[string]any{"state": strconv.Itoa(s.state), "list": list, "notFound": []string{}}
	}
	return &methodError{Type: "unknownMethod"}
}

func uidsOf(t *testing.T, s *Session) []uint32 {
	t.Helper()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	uids, err := s.UIDs(t.Context(), source.Query{})
	if err != nil {
		t.Fatal(err)
	}
	return uids
}

func TestAFolderIsListedWholeThoughTheServerGivesFewAtOnce(t *testing.T) {
	stage, config := newStage(t, 95)
	stage.page = 10
	s := dialed(t, config)
	if uids := uidsOf(t, s); len(uids) != 95 || uids[94] != 95 {
		t.Errorf("%d messages are listed: %v", len(uids), uids)
	}
	// A message from which the list would go on leaves meanwhile.
	stage, config = newStage(t, 95)
	stage.page = 10
	left := false
	stage.answer = func(method string, args map[string]any) any {
		if method == "Email/query" && args["anchor"] == "M40" && !left {
			left = true
			stage.ids = append(stage.ids[:39:39], stage.ids[40:]...)
		}
		return nil
	}
	if uids := uidsOf(t, dialed(t, config)); len(uids) != 94 || !left {
		t.Errorf("%d messages are listed of 94, %v", len(uids), left)
	}
}

func TestWhatIsNewCostsOneExchange(t *testing.T) {
	stage, config := newStage(t, 40)
	s := dialed(t, config)
	uidsOf(t, s)
	before := stage.asked["exchange"]
	for range 3 {
		uidsOf(t, s)
	}
	if n := stage.asked["exchange"] - before; n != 3 {
		t.Errorf("three looks with nothing new took %d exchanges", n)
	}
	stage.come("N1")
	if uids := uidsOf(t, s); len(uids) != 41 || stage.asked["Email/query"] != 1 {
		t.Errorf("%d messages; the folder was listed %d times", len(uids), stage.asked["Email/query"])
	}
}

func TestAServerThatForgotItsStatesIsAskedAnew(t *testing.T) {
	stage, config := newStage(t, 40)
	s := dialed(t, config)
	before := uidsOf(t, s)
	stage.come("N1")
	forgot := false
	stage.answer = func(method string, _ map[string]any) any {
		if method == "Email/changes" && !forgot {
			forgot = true
			return &methodError{Type: "cannotCalculateChanges"}
		}
		return nil
	}
	uids := uidsOf(t, s)
	if len(uids) != 41 || !forgot || uids[39] != before[39] {
		t.Errorf("%d messages after the server forgot: %v", len(uids), uids)
	}
	// One that names the same state for ever is no reason to ask for ever.
	stage.answer = func(method string, _ map[string]any) any {
		if method == "Email/changes" {
			return map[string]any{"newState": "0", "hasMoreChanges": true}
		}
		return nil
	}
	stage.state++
	if _, err := s.Open(t.Context(), "INBOX"); err == nil || stage.asked["Email/changes"] > 20 {
		t.Errorf("%v after it was asked %d times", err, stage.asked["Email/changes"])
	}
	stage.answer = nil
	if uids := uidsOf(t, s); len(uids) != 41 {
		t.Errorf("%d messages once it answers again", len(uids))
	}
}

func TestEachRefusalSaysWhatToDo(t *testing.T) {
	for name, c := range map[string]struct {
		reply   func(w http.ResponseWriter, r *http.Request) bool
		problem string
		step    source.Step
		lasting bool
	}{
		"no JMAP": {func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(404); return true },
			"has nothing there", source.Connection, true},
		"a page instead": {func(w http.ResponseWriter, _ *http.Request) bool { fmt.Fprint(w, "<html>"); return true },
			"does not speak JMAP", source.Connection, true},
		"a wrong password": {func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(401); return true },
			"refuses the name \"ann\" or its password", source.SignIn, true},
		"not allowed": {func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(403); return true },
			"does not allow it", source.SignIn, true},
		"too many requests": {func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(429); return true },
			"asks to wait", source.Connection, false},
		"out of order": {func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(500); return true },
			"500 Internal Server Error", source.Connection, false},
		"a limit": {func(w http.ResponseWriter, _ *http.Request) bool {
			w.WriteHeader(400)
			fmt.Fprint(w, `{"type":"urn:ietf:params:jmap:error:limit","detail":"too many at once"}`)
			return true
		}, "too many at once", source.Connection, false},
		"a circle": {func(w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, "/again", http.StatusFound)
			return true
		}, "lead in a circle", source.Connection, false},
		"another server in plain text": {func(w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, "http://elsewhere.example/jmap", http.StatusFound)
			return true
		}, "not encrypted", source.Encryption, true},
	} {
		t.Run(name, func(t *testing.T) {
			stage, config := newStage(t, 1)
			stage.reply = c.reply
			var e *source.Error
			_, err := Dial(t.Context(), config)
			if !errors.As(err, &e) || !strings.Contains(e.Problem, c.problem) || e.Step != c.step || e.Lasting != c.lasting {
				t.Errorf("got %#v (%v)", e, err)
			}
		})
	}
	stage, config := newStage(t, 1)
	s := dialed(t, config)
	for kind, problem := range map[string]string{"serverUnavailable": "asks to wait", "forbidden": "refuses",
		"accountNotFound": "refuses"} {
		stage.answer = func(string, map[string]any) any { return &methodError{Type: kind} }
		s.places = nil
		if _, err := s.Open(t.Context(), "INBOX"); err == nil || !strings.Contains(err.Error(), problem) {
			t.Errorf("%s: %v", kind, err)
		}
	}
}

func TestAConnectionThatEndedMeanwhileIsNoFailure(t *testing.T) {
	stage, config := newStage(t, 3)
	s := dialed(t, config)
	uidsOf(t, s)
	for range 3 {
		stage.server.CloseClientConnections()
		if uids := uidsOf(t, s); len(uids) != 3 {
			t.Errorf("%d messages", len(uids))
		}
	}
}

func TestATokenThatRunsOutIsNoRefusedConsent(t *testing.T) {
	stage, config := newStage(t, 1)
	config.Password, config.Token = "", "good"
	good := true
	stage.reply = func(w http.ResponseWriter, r *http.Request) bool {
		if r.Header.Get("Authorization") == "Bearer good" && good {
			r.SetBasicAuth("ann", "pw")
			return false
		}
		w.WriteHeader(401)
		return true
	}
	s := dialed(t, config)
	uidsOf(t, s)
	good = false
	var e *source.Error
	if _, err := s.Open(t.Context(), "INBOX"); !errors.As(err, &e) || e.Lasting || errors.Is(err, reach.ErrToken) ||
		!strings.Contains(e.Problem, "no longer accepts the token") {
		t.Errorf("in the midst of a session: %v", err)
	}
	if _, err := Dial(t.Context(), config); !errors.As(err, &e) || !e.Lasting || !errors.Is(err, reach.ErrToken) {
		t.Errorf("at the sign-in: %v", err)
	}
}

func TestHostileAnswersAreErrorsOrReadWhole(t *testing.T) {
	deep := map[string]any{"blobId": "P", "size": 1, "type": "text/plain"}
	for range 400 {
		deep = map[string]any{"type": "multipart/mixed", "headers": []any{map[string]string{"name": "Content-Type",
			"value": "multipart/mixed"}}, "subParts": []any{deep}}
	}
	header := func(value any) map[string]any {
		return map[string]any{"headers": []any{map[string]any{"name": "From", "value": " a@b.example"},
			map[string]any{"name": "Message-ID", "value": " <x@b.example>"}, map[string]any{"name": "Subject", "value": value}}}
	}
	for name, m := range map[string]map[string]any{
		"deeper than anything":                {"bodyStructure": deep},
		"a header that JSON cannot hold":      header(nil),
		"a header that was made into Unicode": header(" Hafen\ufffdplan"),
		"no structure":                        {"bodyStructure": map[string]any{}},
		"a structure of another type":         {"bodyStructure": "text/plain"},
		"a negative size":                     {"bodyStructure": map[string]any{"blobId": "P", "size": -1}},
		"a multipart without parts":           {"bodyStructure": map[string]any{"type": "multipart/mixed"}},
		"no Message-ID":                       {"headers": []any{map[string]string{"name": "From", "value": "a@b.example"}}},
	} {
		t.Run(name, func(t *testing.T) {
			stage, config := newStage(t, 3)
			stage.message = func(id string) map[string]any {
				if id == "M2" {
					return m
				}
				return nil
			}
			s := dialed(t, config)
			facts, err := s.Facts(t.Context(), uidsOf(t, s))
			if err != nil || len(facts) != 3 || !facts[1].Whole || facts[0].Whole || facts[2].Whole {
				t.Errorf("%d facts, %v: %+v", len(facts), err, facts)
			}
		})
	}
}

// A time, a size or labels that are none keep the others of the batch from nothing.
func TestAnOddMessageIsNoReasonToReadNone(t *testing.T) {
	for name, odd := range map[string]map[string]any{
		"a time that is none":      {"receivedAt": "yesterday"},
		"a size that is none":      {"size": "large"},
		"labels that are none":     {"keywords": []string{"$seen"}},
		"a header that is none":    {"headers": "From: a@b.example"},
		"nothing that can be read": {"receivedAt": 7, "size": []int{1}, "keywords": 3, "headers": 1, "bodyStructure": 2},
	} {
		stage, config := newStage(t, 3)
		stage.message = func(id string) map[string]any {
			if id == "M2" {
				return odd
			}
			return nil
		}
		s := dialed(t, config)
		facts, err := s.Facts(t.Context(), uidsOf(t, s))
		if err != nil || len(facts) != 3 || stage.asked["Email/get"] > 2 {
			t.Errorf("%s: %d facts after %d exchanges, %v", name, len(facts), stage.asked["Email/get"], err)
		}
	}
}

func TestAMessageThatIsListedAndNotGivenIsNotTakenForGone(t *testing.T) {
	stage, config := newStage(t, 1)
	stage.message = func(string) map[string]any { return map[string]any{"headers": []any{}} } // it is read whole
	stage.reply = func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasPrefix(r.URL.Path, "/blob/") {
			return false
		}
		w.WriteHeader(404)
		return true
	}
	s := dialed(t, config)
	if facts, err := s.Facts(t.Context(), uidsOf(t, s)); !errors.Is(err, source.ErrNothing) {
		t.Errorf("%d facts, %v", len(facts), err)
	}
	stage.answer = func(method string, args map[string]any) any { // it goes between the two questions
		if properties, _ := args["properties"].([]any); method == "Email/get" && len(properties) == 6 {
			return map[string]any{"state": "0", "list": []any{}}
		}
		return nil
	}
	if facts, err := s.Facts(t.Context(), uidsOf(t, s)); err != nil || len(facts) != 0 {
		t.Errorf("of a message that is gone: %d facts, %v", len(facts), err)
	}
}

// What another shares may be taken back; a server that stumbles is no reason to take its folders for gone.
func TestFoldersOfOthersAreGoneOnlyWhereTheyMayNotBeRead(t *testing.T) {
	const theirs = "Other Users/bob/Pilots"
	for kind, stumbles := range map[string]bool{"forbidden": false, "accountNotFound": false, "serverFail": true,
		"serverUnavailable": true} {
		stage, config := newStage(t, 1)
		stage.shared = "bob"
		stage.answer = func(method string, args map[string]any) any {
			if method == "Mailbox/get" && args["accountId"] == "B" {
				return map[string]any{"state": "f1", "list": []any{map[string]any{"id": "P", "name": "Pilots",
					"myRights": map[string]bool{"mayReadItems": true}}}}
			}
			return nil
		}
		s := dialed(t, config)
		if _, err := s.place(t.Context(), theirs); err != nil {
			t.Fatal(err)
		}
		if _, err := s.ensure(t.Context(), "Other Users/eve/In"); err == nil || stage.asked["Mailbox/set"] > 0 {
			t.Errorf("a folder at an account that nobody shares: %v", err)
		}
		stage.answer = func(method string, args map[string]any) any {
			if method == "Mailbox/get" && args["accountId"] == "B" {
				return &methodError{Type: kind}
			}
			return nil
		}
		folders, err := s.Folders(t.Context())
		if stumbles != (err != nil) || !stumbles && len(folders) != 1 {
			t.Errorf("%s: %+v, %v", kind, folders, err)
		}
	}
}

func TestASessionDoesNotWaitForTheFirstAnnouncement(t *testing.T) {
	stage, config := newStage(t, 1)
	stage.events = make(chan string)
	began := time.Now()
	for range 50 {
		s, err := Dial(t.Context(), config)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if took := time.Since(began); took > firstStream {
		t.Errorf("fifty sessions took %v", took)
	}
}

func TestAPartThatIsCutIsNotTakenForWhole(t *testing.T) {
	stage, config := newStage(t, 1)
	s := dialed(t, config)
	facts, err := s.Facts(t.Context(), uidsOf(t, s))
	if err != nil {
		t.Fatal(err)
	}
	stage.reply = func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasPrefix(r.URL.Path, "/blob/") {
			return false
		}
		w.Header().Set("Content-Length", "1000")
		fmt.Fprint(w, "content")
		return true
	}
	part, err := s.Part(t.Context(), &facts[0], "1")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadAll(part); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a part that was cut: %v", err)
	}
	part.Close()
	stage.reply = func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasPrefix(r.URL.Path, "/blob/") {
			return false
		}
		w.WriteHeader(404)
		return true
	}
	if _, err := s.Part(t.Context(), &facts[0], "1"); !errors.Is(err, source.ErrGone) {
		t.Errorf("a part that is gone: %v", err)
	}
}

func TestTheServerAnnouncesWhatArrives(t *testing.T) {
	stage, config := newStage(t, 2)
	stage.events = make(chan string)
	s := dialed(t, config)
	if !s.Pushes() {
		t.Fatal("it is not heard")
	}
	uidsOf(t, s)
	go func() {
		time.Sleep(50 * time.Millisecond)
		stage.come("N1")
		stage.events <- "event: ping\ndata: {\"interval\":60}\n\n"
		stage.events <- "event: state\ndata: {\"@type\":\"StateChange\",\"changed\":{\"A\":{\"Email\":\"1\"}}}\n\n"
	}()
	began := time.Now()
	e, err := s.Wait(t.Context(), 20*time.Second, nil)
	if err != nil || !e.Arrived || time.Since(began) > 10*time.Second {
		t.Errorf("%+v, %v after %v", e, err, time.Since(began))
	}
	// The stream ends, and mail comes before it is there again: nothing is missed.
	stage.come("N2")
	close(stage.events)
	if e, err := s.Wait(t.Context(), 20*time.Second, nil); err != nil || !e.Arrived {
		t.Errorf("after the end of the stream: %+v, %v", e, err)
	}
	if uids := uidsOf(t, s); len(uids) != 4 {
		t.Errorf("%d messages, want 4", len(uids))
	}
}
