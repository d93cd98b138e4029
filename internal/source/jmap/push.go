package jmap

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"inktray.example/inktray/internal/source"
)

const (
	longestEvent = 1 << 20 // octets of a line of the event stream
	firstStream  = 5 * time.Second
	firstPause   = time.Second
	longestPause = 5 * time.Minute
)

// errNoPush says that the server announces nothing.
var errNoPush = errors.New("the server announces nothing")

// listen lets the server announce what changes, for as long as the session lasts (RFC 8620 section 7.3). Where the
// stream ends, it is opened again; what happened meanwhile is found by asking.
func (s *Session) listen() {
	if s.client.session.Events == "" && s.client.session.Socket == "" {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	first := make(chan struct{})
	told := sync.OnceFunc(func() { close(first) })
	s.ended.Go(func() {
		for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, longestPause) {
			began := time.Now()
			err := (&listener{s.client, s.news}).stream(ctx, func(string) {
				s.push.Store(true)
				told()
			})
			s.push.Store(false)
			told()
			if errors.Is(err, errNoPush) {
				return
			}
			if time.Since(began) > time.Minute {
				pause = firstPause
			}
			tell(s.news) // something may have been missed
			select {
			case <-time.After(pause):
			case <-ctx.Done():
			}
		}
	})
	select {
	case <-first:
	case <-time.After(min(s.config.timeout(), firstStream)): // it may still come
	}
}

func tell(news chan<- struct{}) {
	select {
	case news <- struct{}{}:
	default:
	}
}

// announces tries by which means the server announces; "" for none.
func announces(ctx context.Context, s *Session) (by string) {
	ctx, cancel := context.WithTimeout(ctx, s.config.timeout())
	defer cancel()
	_ = (&listener{s.client, s.news}).stream(ctx, func(means string) { by = means; cancel() }) // it ends here in any case
	return by
}

// listener reads what a server announces.
type listener struct {
	client *client
	news   chan<- struct{} // where it says that something changed
}

// stream reads announcements until the connection ends: from an event source, or from a WebSocket where the server has
// no event source.
func (l *listener) stream(ctx context.Context, begun func(means string)) error {
	err := errNoPush
	if l.client.session.Events != "" {
		err = l.eventSource(ctx, begun)
	}
	if errors.Is(err, errNoPush) && l.client.session.Socket != "" {
		err = l.socket(ctx, begun)
	}
	return err
}

// servesNone says whether a status means that the server announces nothing there. Others, such as a token that ran out,
// are worth another try.
func servesNone(status int) bool {
	return status == http.StatusNotFound || status == http.StatusNotImplemented ||
		status == http.StatusMethodNotAllowed || status == http.StatusUpgradeRequired
}

// eventSource reads announcements as RFC 8620 section 7.3 has them.
func (l *listener) eventSource(ctx context.Context, begun func(means string)) error {
	address := fill(l.client.session.Events, map[string]string{"types": "Email,Mailbox", "closeafter": "no",
		"ping": strconv.Itoa(pingEvery)})
	answer, err := l.client.ask(ctx, l.client.events, http.MethodGet, address, "", nil, true)
	var no *refusal
	if errors.As(err, &no) && servesNone(no.status) {
		return errNoPush
	}
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK ||
		!strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") { // 204 asks not to come again
		return errNoPush
	}
	begun("EventSource")
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, longestEvent)
	event := ""
	for lines.Scan() {
		line := lines.Text()
		switch name, value, _ := strings.Cut(line, ":"); {
		case line == "":
			event = ""
		case name == "event":
			event = strings.TrimSpace(value)
		case name == "data" && (event == "state" || event == ""):
			tell(l.news) // what changed is asked for: a single announcement may stand for several
		}
	}
	return lines.Err()
}

// socket reads announcements as RFC 8887 section 4.3.5 has them.
func (l *listener) socket(ctx context.Context, begun func(means string)) error {
	at, err := l.client.base.Parse(l.client.session.Socket)
	if err != nil {
		return errNoPush
	}
	switch at.Scheme {
	case "wss":
		at.Scheme = "https"
	case "ws":
		at.Scheme = "http"
	}
	header := http.Header{}
	l.client.authorize(header)
	options := &websocket.DialOptions{HTTPClient: l.client.events, HTTPHeader: header, Subprotocols: []string{"jmap"}}
	conn, answer, err := websocket.Dial(ctx, at.String(), options) //nolint:bodyclose // Dial closes it
	if answer != nil && servesNone(answer.StatusCode) {
		return errNoPush
	}
	if err != nil {
		return err
	}
	defer func() { _ = conn.CloseNow() }() // the server learns of it by the end of the connection
	conn.SetReadLimit(longestEvent)
	enable := `{"@type":"WebSocketPushEnable","dataTypes":["Email","Mailbox"]}`
	if err := conn.Write(ctx, websocket.MessageText, []byte(enable)); err != nil {
		return err
	}
	begun("WebSocket")
	reading, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // a connection that died without a word is noticed by the missing answer
		ticker := time.NewTicker(pingEvery * time.Second)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
			case <-reading.Done():
				return
			}
			patience, done := context.WithTimeout(reading, l.client.config.timeout())
			err := conn.Ping(patience)
			if done(); err != nil {
				stop()
				return
			}
		}
	}()
	for {
		_, data, err := conn.Read(reading)
		if err != nil {
			return err
		}
		var said struct {
			Type string `json:"@type"`
		}
		if json.Unmarshal(data, &said) == nil && said.Type == "StateChange" {
			tell(l.news)
		}
	}
}

// Pushes says whether the server announces what changes, in every folder. The first call begins to listen.
func (s *Session) Pushes() bool {
	s.began.Do(s.listen)
	return s.push.Load()
}

// Announce does nothing: whoever announces, announces every folder.
func (s *Session) Announce(context.Context, bool) error { return nil }

// Announces is as Pushes.
func (s *Session) Announces() bool { return s.Pushes() }

// Wait waits for an announcement, or asks at the end of the time, and says whether something came.
func (s *Session) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	s.began.Do(s.listen) //nolint:contextcheck // it lasts as long as the session
	timer := time.NewTimer(longest)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return source.Event{}, ctx.Err()
		case <-wake:
			return source.Event{}, nil
		case <-s.news:
			at := time.Now()
			arrived, flags, err := look(ctx, s)
			if err != nil || arrived || flags {
				return source.Event{At: at, Arrived: arrived, Flags: flags, All: true}, err
			}
			continue
		case <-timer.C:
		}
		arrived, flags, err := look(ctx, s)
		if err != nil || !arrived && !flags {
			return source.Event{}, err
		}
		return source.Event{At: time.Now(), Arrived: arrived, Flags: flags, All: true}, nil
	}
}

// look says whether something came into a folder that was opened, or changed in one, since it was reported last. It
// does not matter which session of the mailbox learned of it.
func look(ctx context.Context, s *Session) (arrived, changed bool, err error) {
	err = s.alone(ctx, func() error {
		for id, a := range s.accounts {
			if a.state == "" {
				continue
			}
			if err := s.update(ctx, a); err != nil {
				return err
			}
			before, now := s.seen[id], seen{a.state, a.entered}
			arrived = arrived || now.entered > before.entered
			changed = changed || before.state != "" && now.state != before.state
			s.seen[id] = now
		}
		return nil
	})
	return arrived, changed, err
}
