package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"golang.org/x/text/language"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

var writeDocs = flag.Bool("write-docs", false, "write docs/reliability.md")

// postbox is a mailbox in memory that can be changed, for faults at every step.
type postbox struct {
	mutex   sync.Mutex
	folders map[string]*boxFolder
	step    func(op string) error
	silent  bool // the server does not say where a moved message is (no UIDPLUS)
	refuse  []error
	wake    chan struct{}
}

type boxFolder struct {
	validity, next uint32
	letters        []*boxLetter
}

type boxLetter struct {
	uid      uint32
	raw      []byte
	flags    []string
	received time.Time
}

func newPostbox() *postbox {
	b := &postbox{folders: map[string]*boxFolder{}, step: func(string) error { return nil }, wake: make(chan struct{})}
	for _, name := range []string{"INBOX", "Drafts"} {
		b.folders[name] = &boxFolder{validity: 7, next: 1}
	}
	return b
}

func (b *postbox) deliver(folder string, raw []byte) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	f := b.folders[folder]
	f.letters = append(f.letters, &boxLetter{uid: f.next, raw: raw, received: time.Now().Add(time.Second)})
	f.next++
	close(b.wake)
	b.wake = make(chan struct{})
}

// lies lists where messages lie, with their labels: "INBOX [\Seen]".
func (b *postbox) lies() []string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	var out []string
	for name, f := range b.folders {
		for _, l := range f.letters {
			flags := slices.Clone(l.flags)
			slices.Sort(flags)
			out = append(out, fmt.Sprintf("%s %v", name, flags))
		}
	}
	slices.Sort(out)
	return out
}

func (b *postbox) dial(context.Context, *store.Mailbox, string) (source.Session, error) {
	b.mutex.Lock()
	if len(b.refuse) > 0 {
		err := b.refuse[0]
		b.refuse = b.refuse[1:]
		b.mutex.Unlock()
		return nil, err
	}
	b.mutex.Unlock()
	if err := b.step("sign in"); err != nil {
		return nil, err
	}
	return &boxSession{box: b}, nil
}

type boxSession struct {
	box    *postbox
	folder string
	broken error
}

// do makes one exchange; after an error the session is of no use.
func (s *boxSession) do(op string, f func() error) error {
	if s.broken != nil {
		return s.broken
	}
	if err := s.box.step(op); err != nil {
		s.broken = err
		return err
	}
	s.box.mutex.Lock()
	defer s.box.mutex.Unlock()
	return f()
}

func (s *boxSession) at() *boxFolder { return s.box.folders[s.folder] }

func (s *boxSession) find(uid uint32) *boxLetter {
	for _, l := range s.at().letters {
		if l.uid == uid {
			return l
		}
	}
	return nil
}

func (s *boxSession) Folders(context.Context) (out []source.Folder, err error) {
	err = s.do("list", func() error {
		for name := range s.box.folders {
			out = append(out,
				source.Folder{Path: name, Role: map[string]string{"INBOX": "inbox", "Drafts": "drafts"}[name], Selectable: true})
		}
		return nil
	})
	return out, err
}

func (s *boxSession) Open(_ context.Context, folder string) (state source.State, err error) {
	err = s.do("open", func() error {
		f := s.box.folders[folder]
		if f == nil {
			return &source.Error{Step: source.Folders, Problem: "there is no folder " + folder, Lasting: true}
		}
		s.folder = folder
		state = source.State{UIDValidity: f.validity, UIDNext: f.next}
		return nil
	})
	return state, err
}

func (s *boxSession) Write(ctx context.Context, folder string) (source.State, error) {
	return s.Open(ctx, folder)
}

func (s *boxSession) UIDs(_ context.Context, q source.Query) (uids []uint32, err error) {
	err = s.do("search", func() error {
		for _, l := range s.at().letters {
			if l.uid >= q.From && (q.To == 0 || l.uid <= q.To) {
				uids = append(uids, l.uid)
			}
		}
		return nil
	})
	return uids, err
}

func (s *boxSession) Facts(_ context.Context, uids []uint32) (all []source.Facts, err error) {
	err = s.do("facts", func() error {
		for _, u := range uids {
			if l := s.find(u); l != nil {
				r := mail.Parse(l.raw)
				all = append(all,
					source.Facts{UID: u, Received: l.received, Size: r.Message.Size, Header: r.Message.Header,
						Structure: r.Structure(), Flags: slices.Clone(l.flags)})
			}
		}
		return nil
	})
	return all, err
}

// torn ends a part in its middle without saying so, as a cut connection does.
type torn struct{ io.Reader }

func (torn) Close() error { return io.ErrUnexpectedEOF }

func (s *boxSession) Part(_ context.Context, f *source.Facts, item string) (r io.ReadCloser, err error) {
	err = s.do("part", func() error {
		l := s.find(f.UID)
		if l == nil {
			return source.ErrGone
		}
		part, err := mail.Parse(l.raw).Open(item)
		r = io.NopCloser(part)
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := s.box.step("literal"); err != nil { // in the middle of the literal
		s.broken = err
		data, _ := io.ReadAll(r)
		return torn{bytes.NewReader(data[:len(data)/2])}, nil
	}
	return r, nil
}

func (s *boxSession) Head(ctx context.Context, f *source.Facts, item string, octets int64) ([]byte, error) {
	r, err := s.Part(ctx, f, item)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, octets))
}

func (s *boxSession) Changed(context.Context, uint64) ([]uint32, error) { return nil, nil }
func (s *boxSession) Pushes() bool                                      { return true }
func (s *boxSession) Close() error                                      { return nil }

func (s *boxSession) Wait(ctx context.Context, longest time.Duration, wake <-chan struct{}) (source.Event, error) {
	if s.broken != nil {
		return source.Event{}, s.broken
	}
	s.box.mutex.Lock()
	announced := s.box.wake
	s.box.mutex.Unlock()
	select {
	case <-announced:
		return source.Event{At: time.Now(), Arrived: true}, nil
	case <-time.After(min(longest, 20*time.Millisecond)):
	case <-wake:
	case <-ctx.Done():
		return source.Event{}, ctx.Err()
	}
	return source.Event{}, nil
}

func (s *boxSession) Mark(_ context.Context, uid uint32, on, off []string) (flags []string, err error) {
	err = s.do("mark", func() error {
		l := s.find(uid)
		if l == nil {
			return source.ErrGone
		}
		for _, f := range on {
			if !slices.Contains(l.flags, f) {
				l.flags = append(l.flags, f)
			}
		}
		l.flags = slices.DeleteFunc(l.flags, func(f string) bool { return slices.Contains(off, f) })
		flags = slices.Clone(l.flags)
		return nil
	})
	if err == nil {
		err = s.after("marked")
	}
	return flags, err
}

// after stands between a change and the answer to it.
func (s *boxSession) after(op string) error {
	err := s.box.step(op)
	if err != nil {
		s.broken = err
	}
	return err
}

func (s *boxSession) Move(_ context.Context, uid uint32, folder string) (place source.Place, err error) {
	err = s.do("move", func() error {
		l := s.find(uid)
		if l == nil {
			return source.ErrGone
		}
		to := s.box.folders[folder]
		if to == nil {
			to = &boxFolder{validity: 3, next: 1}
			s.box.folders[folder] = to
		}
		s.at().letters = slices.DeleteFunc(s.at().letters, func(x *boxLetter) bool { return x == l })
		l.uid = to.next
		to.next++
		to.letters = append(to.letters, l)
		place = source.Place{Folder: folder}
		if !s.box.silent {
			place.UIDValidity, place.UID = to.validity, l.uid
		}
		return nil
	})
	if err == nil {
		err = s.after("moved")
	}
	return place, err
}

func (s *boxSession) Named(_ context.Context, id string) (uids []uint32, err error) {
	err = s.do("search", func() error {
		for _, l := range s.at().letters {
			if mail.Parse(l.raw).Message.Envelope.MessageID == id {
				uids = append(uids, l.uid)
			}
		}
		return nil
	})
	return uids, err
}

func (s *boxSession) Remove(_ context.Context, uid uint32) error {
	return s.do("remove", func() error {
		s.at().letters = slices.DeleteFunc(s.at().letters, func(l *boxLetter) bool { return l.uid == uid })
		return nil
	})
}

func (s *boxSession) Append(_ context.Context, folder string, message []byte, flags []string) error {
	err := s.do("append", func() error {
		f := s.box.folders[folder]
		f.letters = append(f.letters, &boxLetter{uid: f.next, raw: message, flags: flags})
		f.next++
		return nil
	})
	if err == nil {
		err = s.after("appended")
	}
	return err
}

// outside takes what the service sends, by SMTP and HTTP on loopback.
type outside struct {
	mutex  sync.Mutex
	mails  map[string][]string // by recipient
	calls  map[string][]string // ids by path
	hangUp map[string]bool     // recipients at whose mail the connection ends without an answer
	bad    map[string]int      // paths that answer 503 so many times
	taken  func()              // called once a mail was taken, before the answer
	smtp   *smtp.Server
	port   int
	url    string
}

func startOutside(t testing.TB) *outside {
	t.Helper()
	o := &outside{mails: map[string][]string{}, calls: map[string][]string{}, hangUp: map[string]bool{},
		bad: map[string]int{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o.port = l.Addr().(*net.TCPAddr).Port
	o.smtp = smtp.NewServer(
		smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &outsideMail{o: o, c: c}, nil }))
	o.smtp.Domain = "localhost"
	go o.smtp.Serve(l)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var event struct{ ID string }
		if err := json.NewDecoder(r.Body).Decode(&event); err != nil {
			t.Error(err)
		}
		o.mutex.Lock()
		defer o.mutex.Unlock()
		o.calls[r.URL.Path] = append(o.calls[r.URL.Path], event.ID)
		if o.bad[r.URL.Path] > 0 {
			o.bad[r.URL.Path]--
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	o.url = web.URL
	t.Cleanup(func() { o.smtp.Close(); web.Close() })
	return o
}

type outsideMail struct {
	o  *outside
	c  *smtp.Conn
	to []string
}

func (m *outsideMail) Reset()                               { m.to = nil }
func (m *outsideMail) Logout() error                        { return nil }
func (m *outsideMail) Mail(string, *smtp.MailOptions) error { return nil }
func (m *outsideMail) Rcpt(to string, _ *smtp.RcptOptions) error {
	m.to = append(m.to, to)
	return nil
}
func (m *outsideMail) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m.o.mutex.Lock()
	defer m.o.mutex.Unlock()
	for _, to := range m.to {
		m.o.mails[to] = append(m.o.mails[to], string(data))
		if m.o.taken != nil {
			m.o.taken()
		}
		if m.o.hangUp[to] {
			m.c.Conn().Close()
		}
	}
	return nil
}

// theFault is what happens at one step.
type theFault struct {
	name, done string // for the document: the fault, and what the service did about it
	on         string // which steps: "", "records", "cabinet", "mailbox"
	strike     func(r *faultRun) error
	silent     bool   // the mail server does not say where a moved message is
	may        string // what may remain for a person: a cause of the tray, "" for nothing
}

var errDead = errors.New("the process was killed")

// faultRun is one message on its way through a service in which one thing goes
// wrong once.
type faultRun struct {
	t       *testing.T
	box     *postbox
	disk    *faultfs.FS
	store   *store.Store
	engine  *Engine
	data    string
	fault   *theFault
	at      int
	sender  string
	path    string
	mutex   sync.Mutex
	count   int
	steps   []string
	dead    bool
	place   *faultPlace // nil for the disk
	struck  chan struct{}
	ill     map[string]error // what fails, by the kind of step, until it is healed
	started bool
}

// step stands at every step of everything that the service does.
func (r *faultRun) step(kind, op string) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.dead {
		return errDead
	}
	if !r.started {
		return nil
	}
	if r.fault.on == "" || r.fault.on == kind {
		r.count++
		r.steps = append(r.steps, kind+": "+op)
		if r.count == r.at {
			close(r.struck)
			if err := r.fault.strike(r); err != nil {
				return err
			}
		}
	}
	return r.ill[kind]
}

func (r *faultRun) start() {
	r.t.Helper()
	r.engine = New(Config{
		Base: base.New(base.Base{Store: r.store, Clock: time.Now, Zone: time.UTC, Language: language.English,
			Log:   slog.New(slog.DiscardHandler),
			Pause: func(int) time.Duration { return 3 * time.Millisecond }, Beat: 5 * time.Millisecond}), Dial: r.box.dial,
		Spool: path.Join(r.data, "spool"),
		OpenCabinet: func(*store.Cabinet) (cabinet.Cabinet, error) {
			if r.place != nil {
				return r.place.open(func(op string) error { return r.step("cabinet", op) }), nil
			}
			return local.On("memory", "x", func() (disk.FS, error) { return r.disk, nil }), nil
		}})
	if err := r.engine.Start(); err != nil {
		r.t.Fatal(err)
	}
}

func (r *faultRun) until(what string, ok func() bool) bool {
	r.t.Helper()
	deadline := time.Now().Add(testbed.Patience)
	for !ok() {
		if time.Now().After(deadline) {
			r.t.Errorf("%s at step %d (%s): waited in vain until %s", r.fault.name, r.at, r.where(), what)
			return false
		}
		<-time.After(2 * time.Millisecond)
	}
	return true
}

func (r *faultRun) where() string {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.at > 0 && r.at <= len(r.steps) {
		return r.steps[r.at-1]
	}
	return "none"
}

// settled says that nothing is under way any more.
func (r *faultRun) settled() bool {
	if r.fault.may == "gone" && r.lost() {
		return true // before it was ever looked at
	}
	states, err := r.store.Journal.StateCounts(r.t.Context(), store.System)
	if err != nil || states[store.Planned]+states[store.Staged] > 0 || len(states) == 0 {
		return false
	}
	follow, err := r.store.FollowUps.FollowUpsOf(r.t.Context(), store.System, 1)
	if err != nil || len(follow) < 5 {
		return false
	}
	waits := states[store.Held]+states[store.Failed] > 0
	for _, f := range follow {
		if (f.State == store.Waiting || f.State == store.Begun) && !(waits && (f.Kind == "move" || f.Kind == "reply")) {
			return false
		}
	}
	sent, err := r.store.FollowUps.OfMessage(r.t.Context(), store.System, 1)
	return err == nil &&
		!slices.ContainsFunc(sent, func(p store.Post) bool { return p.State == store.Waiting || p.State == store.Begun })
}

// lost says that the message went away before anything was known of it.
func (r *faultRun) lost() bool {
	messages, err := r.store.Messages.Find(r.t.Context(), store.System, store.MessageQuery{Most: 1})
	r.box.mutex.Lock()
	defer r.box.mutex.Unlock()
	return err == nil && len(messages) == 0 && len(r.box.folders["INBOX"].letters) == 0
}

var faultContents = []string{"station 3; 4,21", "station 7; 3,90"}

const faultRule = `
id: r
name: Readings
cabinet: files
look: {mailboxes: gauges}
match: every message
attachments: {take: everything, folder: Gauges/<received year>}
afterwards:
  - {mark: read, label: Filed}
  - reply: {text: "We have filed <filed.list>"}
  - tell: {who: Desk}
  - move: Filed/Gauges
`

// runFault sends one message through a service in which a fault happens at one
// step, and checks what came of it. It returns the steps.
func runFault(t *testing.T, out *outside, fault *theFault, at int, place *faultPlace) []string {
	t.Helper()
	name := fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%s %s %d", t.Name(), fault.name, at)))[:12]
	r := &faultRun{t: t, place: place, box: newPostbox(), disk: faultfs.New(), data: t.TempDir(), fault: fault, at: at,
		sender: name + "@tidewatch.example", path: "/" + name, struck: make(chan struct{}), ill: map[string]error{}}
	r.box.silent = fault.silent
	prepareFault(t, r.disk)
	var err error
	if r.store, err = store.Open(r.data); err != nil {
		t.Fatal(err)
	}
	believe(r.t, r.store)
	defer r.store.Close()
	document, err := rule.ParseRule([]byte(faultRule))
	if err != nil {
		t.Fatal(err)
	}
	r.start()
	defer func() { r.engine.Stop() }()
	err = errors.Join(
		r.store.Cabinets.Add(
			t.Context(),
			&store.Cabinet{ID: "cab", Name: "files", Kind: "local", Folder: "memory", Identity: "x",
				MadeAt: time.Now()},
			"test",
		),
		r.store.Mailboxes.Add(
			t.Context(),
			&store.Mailbox{ID: "box", Name: "gauges", Kind: "imap", Host: "localhost", Encryption: "tls",
				Username: "gauges@brackwater.example", IntervalSeconds: 1, MadeAt: time.Now()},
			"pw",
			"test",
		),
		r.engine.Outbox.SetOutgoing(t.Context(), store.Outgoing{Host: "127.0.0.1", Port: out.port, Encryption: "none",
			From: "office@brackwater.example"}, nil, 0, "test"),
		r.engine.Outbox.SaveAddressee(t.Context(), &store.Addressee{Name: "Desk", Kind: "call", URL: out.url + r.path,
			Inside: true,
			Tray:   "never"}, nil, "test"),
	)
	if err != nil {
		t.Fatal(err)
	}
	r.engine.Watch("box")
	r.until("the inbox is known",
		func() bool {
			f, err := r.store.Mailboxes.FoldersOf(t.Context(), "box")
			return err == nil && len(f) == 1
		})
	if _, err := r.engine.Office.SaveRule(t.Context(), document, 0, "test"); err != nil {
		t.Fatal(err)
	}
	if err := r.engine.Office.SwitchRule(t.Context(), "r", true, "test"); err != nil {
		t.Fatal(err)
	}
	r.box.step = func(op string) error { return r.step("mailbox", op) }
	r.disk.Fail(func(op, _ string) error { return r.step("cabinet", op) })
	r.store.Interrupt(func(after bool) error {
		if after {
			return r.step("records", "after a commit")
		}
		return r.step("records", "before a commit")
	})
	r.mutex.Lock()
	r.started = true
	r.mutex.Unlock()
	letter := raw("reading "+name, "st3.csv", faultContents[0], "st7.csv", faultContents[1])
	r.box.deliver("INBOX", bytes.Replace(letter, []byte("oda@"), []byte(name+"@"), 1))

	isStruck := func() bool {
		select {
		case <-r.struck:
			return true
		default:
			return false
		}
	}
	r.until("the fault or the end", func() bool { return isStruck() || r.settled() })
	r.mutex.Lock()
	dead := r.dead
	r.mutex.Unlock()
	if dead {
		r.engine.Stop()
		r.mutex.Lock()
		r.dead = false
		r.mutex.Unlock()
		if strings.Contains(fault.name, "power") {
			r.disk.PowerUp()
		}
		r.start()
	} else if isStruck() {
		<-time.After(15 * time.Millisecond) // it lasts for a moment
		r.mutex.Lock()
		clear(r.ill)
		r.mutex.Unlock()
	}
	if !r.until("everything is decided", r.settled) {
		return r.steps
	}
	if !isStruck() && at > 0 {
		return r.steps // fewer steps than there were without a fault
	}
	r.engine.Stop()
	r.mutex.Lock() // it may have struck only now, at a step that came late
	r.started, r.dead = false, false
	clear(r.ill)
	r.mutex.Unlock()
	if strings.Contains(fault.name, "power") {
		r.disk.PowerUp() // what was confirmed lasts
	}
	r.start() // sweeps
	if !r.until("everything is still decided", r.settled) {
		return r.steps
	}
	r.engine.Stop() // nothing is tried out at this moment
	statesOf(t, r.store)
	r.check(out)
	return r.steps
}

func (r *faultRun) check(out *outside) {
	t := r.t
	bad := func(format string, args ...any) {
		t.Helper()
		t.Errorf("%s at step %d (%s): %s", r.fault.name, r.at, r.where(), fmt.Sprintf(format, args...))
	}
	tray, _ := r.store.Tray.Entries(r.t.Context(), store.System, 0, 10)
	waiting := 0
	for _, e := range tray {
		waiting++
		if string(e.Cause) != r.fault.may {
			bad("in the tray: %s, %s (%s)", e.Name, e.Reason, e.Cause)
		}
	}
	got := map[string]int{}
	sums := map[string][]byte{}
	files := r.disk.Files
	if r.place != nil {
		files = r.place.files
	}
	for name, content := range files() {
		switch {
		case strings.HasPrefix(name, ".inktray/cabinet"), strings.HasPrefix(name, cabinet.NotesFolder):
		case strings.HasPrefix(name, ".inktray/"):
			bad("a stray file: %s", name)
		default:
			got[content]++
			sum := sha256.Sum256([]byte(content))
			sums[name] = sum[:]
		}
	}
	for _, c := range faultContents {
		if got[c] > 1 || got[c]+waiting < 1 && !(r.fault.may == "gone" && r.lost()) {
			bad("%q is there %d times, and %d wait in the tray", c, got[c], waiting)
		}
		delete(got, c)
	}
	if len(got) > 0 {
		bad("partial or unknown files: %v", got)
	}
	filings, err := r.store.Register.List(r.t.Context(), store.System, register.Query{Most: 10})
	if err != nil || len(filings) != len(sums) {
		bad("%d lines in the register for %d files (%v)", len(filings), len(sums), err)
	}
	for _, f := range filings {
		if !slices.Equal(sums[path.Join(f.Folder, f.File)], f.SHA256) {
			bad("the register says %s/%s, which is not so", f.Folder, f.File)
		}
	}
	out.mutex.Lock()
	mails, calls := len(out.mails[r.sender]), slices.Clone(out.calls[r.path])
	out.mutex.Unlock()
	sent, _ := r.store.FollowUps.OfMessage(r.t.Context(), store.System, 1)
	unsure := slices.ContainsFunc(sent, func(p store.Post) bool { return p.State == store.Unsure })
	follow, _ := r.store.FollowUps.FollowUpsOf(r.t.Context(), store.System, 1)
	undone := map[string]string{}
	for _, f := range follow {
		if f.State != store.DidIt {
			undone[f.Kind] = f.Reason.String()
		}
	}
	if waiting > 0 || r.fault.may == "gone" {
		if mails > 1 {
			bad("%d replies", mails)
		}
		return // move and reply wait with it; marks are for a message that is gone
	}
	if len(undone) > 0 {
		bad("not done: %v", undone)
	}
	if mails > 1 || mails == 0 && !unsure {
		bad("%d replies; the tray says that one may have been sent: %v", mails, unsure)
	}
	slices.Sort(calls)
	if calls = slices.Compact(calls); len(calls) != 1 {
		bad("calls with the ids %v, want one", calls)
	}
	if lies := r.box.lies(); len(lies) != 1 || lies[0] != `Filed/Gauges [Filed \Seen]` {
		bad("the message is in %v", lies)
	}
}

func theFaults() []*theFault {
	die := func(r *faultRun) error { r.dead = true; return errDead }
	ill := func(kind string, err error) func(r *faultRun) error {
		return func(r *faultRun) error { r.ill[kind] = err; return err }
	}
	cut := &source.Error{Step: source.Connection, Problem: "the connection ended"}
	other := func(change func(b *postbox, f *boxFolder)) func(r *faultRun) error {
		return func(r *faultRun) error {
			r.box.mutex.Lock()
			defer r.box.mutex.Unlock()
			change(r.box, r.box.folders["INBOX"])
			return nil
		}
	}
	return []*theFault{
		{name: "the process is killed", done: "starts again from the journal", strike: die},
		{name: "the process is killed, and the mail server does not say where a moved message lies", on: "mailbox",
			silent: true, done: "looks for the message at both places", strike: die},
		{name: "the power goes", done: "starts again from the journal; what was not flushed is forgotten", strike: die},
		{
			name:   "the connection is cut, also in the middle of a literal",
			on:     "mailbox",
			done:   "connects anew and reads again",
			strike: func(*faultRun) error { return cut },
		},
		{name: "the mail server is stopped and started", on: "mailbox", done: "connects again and again with growing pauses",
			strike: func(r *faultRun) error {
				r.box.mutex.Lock()
				defer r.box.mutex.Unlock()
				r.box.refuse = []error{cut, cut, cut}
				return cut
			}},
		{name: "the sign-in expires", on: "mailbox", done: "says so in the tray, and goes on once it is let in",
			strike: func(r *faultRun) error {
				r.box.mutex.Lock()
				defer r.box.mutex.Unlock()
				refused := &source.Error{Step: source.SignIn, Problem: "the server refuses the name or its password"}
				r.box.refuse = []error{refused, refused}
				return cut
			}},
		{name: "the disk is full", on: "cabinet",
			done:   "waits, keeps contents here meanwhile, and goes on once there is room",
			strike: ill("cabinet", syscall.ENOSPC)},
		{name: "the cabinet is read-only", on: "cabinet", done: "waits and goes on once it can write",
			strike: ill("cabinet", syscall.EROFS)},
		{name: "the cabinet vanishes", on: "cabinet", done: "waits and goes on once it is back",
			strike: ill("cabinet", syscall.ENOENT)},
		{name: "the cabinet answers with errors", on: "cabinet", done: "waits and goes on once it answers",
			strike: ill("cabinet", syscall.EIO)},
		{name: "the records are busy", on: "records", done: "does it again; nothing is done before it is written down",
			strike: func(*faultRun) error { return errors.New("database is locked (5) (SQLITE_BUSY)") }},
		{
			name: "the message is deleted meanwhile",
			on:   "mailbox",
			may:  "gone",
			done: "files what it has; the rest waits in " +
				"the tray as no longer there",
			strike: other(func(_ *postbox, f *boxFolder) { f.letters = nil }),
		},
		{name: "the message is moved meanwhile", on: "mailbox", may: "gone", done: "files what it has; the rest waits in " +
			"the tray as no longer there", strike: other(func(b *postbox, f *boxFolder) {
			b.folders["Elsewhere"] = &boxFolder{validity: 1, next: 1}
			for _, l := range f.letters {
				l.uid = b.folders["Elsewhere"].next
				b.folders["Elsewhere"].next++
			}
			b.folders["Elsewhere"].letters, f.letters = f.letters, nil
		})},
		{name: "the folder is numbered anew (UIDVALIDITY)", on: "mailbox", done: "recognises the message by its " +
			"fingerprint and goes on", strike: func(r *faultRun) error {
			r.box.mutex.Lock()
			defer r.box.mutex.Unlock()
			f := r.box.folders["INBOX"]
			f.validity += 100
			for _, l := range f.letters {
				l.uid += 500
			}
			f.next += 500
			return cut // a server ends the sessions in which the folder is open
		}},
	}
}

// stride is at every how manieth step a fault is tried: at each where the documents are written (make reliability), at
// every seventh in ordinary runs, from another one on for each fault, and at every third for make prove.
func stride() int {
	switch {
	case os.Getenv("INKTRAY_TEST_PROVES") != "":
		return 3
	case testing.Short():
		return 14
	case *writeDocs:
		return 1
	}
	return 7
}

// TestEveryFaultAtEveryStep lets each fault happen at each step of a filing and
// of what is done afterwards, one at a time, and proves that nothing is lost,
// nothing doubled, and every promise about follow-ups is kept.
func TestEveryFaultAtEveryStep(t *testing.T) {
	out := startOutside(t)
	type row struct {
		fault *theFault
		runs  int
	}
	rows := make([]row, 0)
	var mutex sync.Mutex
	t.Run("faults", func(t *testing.T) {
		for _, fault := range theFaults() {
			var total int
			t.Run("none/"+fault.name, func(t *testing.T) { total = len(runFault(t, out, fault, 0, nil)) })
			rows = append(rows, row{fault, 0})
			at := len(rows) - 1
			for n := 1 + at%stride(); n <= total; n += stride() {
				t.Run(fmt.Sprintf("%s/%d", fault.name, n), func(t *testing.T) {
					t.Parallel()
					runFault(t, out, fault, n, nil)
					mutex.Lock()
					rows[at].runs++
					mutex.Unlock()
				})
			}
		}
	})
	if t.Failed() || !*writeDocs {
		return
	}
	var b strings.Builder
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s | %s | %d | 0 | 0 |\n", r.fault.name, r.fault.done, r.runs)
	}
	testbed.WriteSection(t, "../../docs/reliability.md", "faults", b.String())
}
