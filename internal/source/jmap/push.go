package jmap

import (
	"bufio"
	"context"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

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
	if s.client.session.Events == "" {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	first := make(chan struct{})
	told := sync.OnceFunc(func() { close(first) })
	s.ended.Go(func() {
		for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, longestPause) {
			began := time.Now()
			err := s.stream(ctx, func() {
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

// announces tries whether the server announces.
func announces(ctx context.Context, s *Session) bool {
	if s.client.session.Events == "" {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, s.config.timeout())
	defer cancel()
	can := false
	_ = s.stream(ctx, func() { can = true; cancel() }) // it ends here in any case
	return can
}

// stream reads announcements until the connection ends.
func (s *Session) stream(ctx context.Context, begun func()) error {
	address := fill(s.client.session.Events, map[string]string{"types": "Email,Mailbox", "closeafter": "no",
		"ping": strconv.Itoa(pingEvery)})
	answer, err := s.client.ask(ctx, s.client.events, http.MethodGet, address, "", nil, true)
	var no *refusal
	if errors.As(err, &no) && (no.status == http.StatusNotFound || no.status == http.StatusNotImplemented ||
		no.status == http.StatusMethodNotAllowed) {
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
	begun()
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
			tell(s.news) // what changed is asked for: a single announcement may stand for several
		}
	}
	return lines.Err()
}

// Pushes says whether the server announces what changes, in every folder.
func (s *Session) Pushes() bool { return s.push.Load() }

// Announce does nothing: whoever announces, announces every folder.
func (s *Session) Announce(context.Context, bool) error { return nil }

// Announces is as Pushes.
func (s *Session) Announces() bool { return s.Pushes() }

// Wait waits for an announcement, or asks at the end of the time, and says whether something came.
func (s *Session) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
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

// look says whether something came into a folder that was opened, or changed in one.
func look(ctx context.Context, s *Session) (arrived, changed bool, err error) {
	for _, a := range s.accounts {
		if a.state == "" {
			continue
		}
		before, entered := a.state, a.entered
		if err := s.update(ctx, a); err != nil {
			return false, false, err
		}
		arrived, changed = arrived || a.entered > entered, changed || a.state != before
	}
	return arrived, changed, nil
}
