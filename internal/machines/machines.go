// Package machines knows the other machines of the office: it keeps copies of their records to read, and asks them.
package machines

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

// Config is what the machines are known with.
type Config struct {
	*base.Base
	Folder  string // for the copies of their records
	Records string // the name of the file of records
	// Open opens the place of a machine's replica.
	Open func(m *store.Machine, secret string) (replica.Place, error)
}

// Machines are the other machines of the office. Its methods may be called by several goroutines at once.
type Machines struct {
	config Config

	renewing sync.Mutex // held while machines are followed and left, which takes time
	mutex    sync.Mutex
	all      []*Machine // by name
}

// New makes it. Start lets it begin.
func New(c Config) *Machines { return &Machines{config: c} }

// Machine is another machine of the office.
type Machine struct {
	store.Machine
	Records *store.Copy // a copy, for use within Read only

	config  *Config
	secrets store.MachineSecrets
	place   replica.Place
	reader  *replica.Reader
	ways    []Way
	end     func()

	renewing sync.Mutex
	change   int64

	mutex sync.Mutex
	said  Said
	now   int // the way by which it answered last
}

// Way is one address of a machine, with what asks it and no other.
type Way struct {
	Address string
	client  *http.Client
}

// Said is what a machine said of itself when it was asked last.
type Said struct {
	Answers      bool
	Version      string
	Installation string
	Problem      string // why it does not answer; "" where it does, or was not asked yet
}

// Status is how a machine does.
type Status struct {
	Said
	Copy   time.Time // of when the newest change is that its copy has; zero where there is none
	Fresh  bool      // the copy has everything in its replica, save that of the last ten seconds
	Behind string    // why the copy is not followed; "" where it is
}

// PersonHeader names for whom a machine asks another one.
const PersonHeader = "Inktray-Person"

// Start follows all machines of the records, until the service ends.
func (ms *Machines) Start() error { return ms.Renew() }

// Renew looks which machines there are, follows those that are new or reached in another way, and leaves those that
// are gone.
func (ms *Machines) Renew() error {
	ms.renewing.Lock()
	defer ms.renewing.Unlock()
	now, err := ms.config.Store.Machines.All(ms.config.Context())
	if err != nil {
		return err
	}
	kept, gone := ms.All(), []*Machine(nil)
	kept = slices.DeleteFunc(kept, func(m *Machine) bool {
		same := slices.ContainsFunc(now, func(n store.Machine) bool { return n.ID == m.ID && n.Revision == m.Revision })
		if !same {
			gone = append(gone, m)
		}
		return !same
	})
	ms.are(kept)
	for _, m := range gone { // before its folder is used again
		m.end()
	}
	for i := range now {
		if !slices.ContainsFunc(kept, func(m *Machine) bool { return m.ID == now[i].ID }) {
			kept = append(kept, ms.follow(&now[i]))
		}
	}
	slices.SortFunc(kept, func(a, b *Machine) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	ms.are(kept)
	return ms.removeOthers(now)
}

// are keeps which machines there are.
func (ms *Machines) are(all []*Machine) {
	ms.mutex.Lock()
	defer ms.mutex.Unlock()
	ms.all = slices.Clone(all)
}

// Stop leaves all machines.
func (ms *Machines) Stop() {
	ms.renewing.Lock()
	defer ms.renewing.Unlock()
	all := ms.All()
	ms.are(nil)
	for _, m := range all {
		m.end()
	}
}

// removeOthers removes copies of machines that are gone.
func (ms *Machines) removeOthers(now []store.Machine) error {
	entries, err := os.ReadDir(ms.config.Folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if err == nil && !slices.ContainsFunc(now, func(m store.Machine) bool { return m.ID == e.Name() }) {
			err = os.RemoveAll(filepath.Join(ms.config.Folder, e.Name()))
		}
	}
	return err
}

// All lists them by name.
func (ms *Machines) All() []*Machine {
	ms.mutex.Lock()
	defer ms.mutex.Unlock()
	return slices.Clone(ms.all)
}

// Named finds one by its name.
func (ms *Machines) Named(name string) *Machine {
	for _, m := range ms.All() {
		if strings.EqualFold(m.Name, name) {
			return m
		}
	}
	return nil
}

// asked is how often a machine is asked whether it is there.
const asked = 10 * time.Second

// follow keeps a copy of a machine's records, and asks whether it is there.
func (ms *Machines) follow(of *store.Machine) *Machine {
	m := &Machine{Machine: *of, config: &ms.config, change: -1, Records: store.NewCopy()}
	going, cancel := context.WithCancel(ms.config.Context())
	var running sync.WaitGroup
	m.end = func() {
		cancel()
		running.Wait()
		if m.reader != nil {
			m.reader.Leave()
		}
		err := m.Records.Close()
		if m.place != nil {
			err = errors.Join(err, m.place.Close())
		}
		if err != nil {
			ms.config.Log.Warn("a copy of another machine's records did not close", "machine", m.Name, "error", err)
		}
	}
	if err := m.prepare(ms.config.Folder, going, &running); err != nil {
		m.said = Said{Problem: err.Error()}
		return m
	}
	running.Go(func() {
		for {
			m.Ask(going)
			select {
			case <-going.Done():
				return
			case <-time.After(asked):
			}
		}
	})
	return m
}

// prepare opens what a machine is reached by, and lets its copy be made.
func (m *Machine) prepare(folder string, going context.Context, running *sync.WaitGroup) (err error) {
	if m.secrets, err = m.config.Store.Machines.Secrets(&m.Machine); errors.Is(err, store.ErrRoute) {
		return errors.New("its secrets were given for another way to it; enter them again")
	} else if err != nil {
		return err
	}
	if m.ways, err = Reach(&m.Machine); err != nil {
		return err
	}
	if m.place, err = m.config.Open(&m.Machine, m.secrets.Secret); err != nil {
		return err
	}
	within := filepath.Join(folder, m.ID)
	if err := os.MkdirAll(within, 0o700); err != nil {
		return err
	}
	m.reader = replica.NewReader(replica.ReaderConfig{Place: m.place, Passphrase: m.secrets.Passphrase, Folder: within,
		Records: m.config.Records, Version: store.NewestRecords(), Log: m.config.Log.With("machine", m.Name),
		Changed: func() { m.config.Events.Send(events.Event{Kind: events.Machine, ID: m.Name}) }})
	running.Go(func() { m.reader.Run(going) })
	running.Go(func() { m.warm(going) })
	return nil
}

// warm reads the register of the copy before anybody asks for it.
func (m *Machine) warm(ctx context.Context) {
	for {
		err := m.Read(ctx, func(records *store.Store) error { return records.Follow(ctx) })
		if err == nil || ctx.Err() != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
}

// Addresses are those that stand in a line.
func Addresses(line string) (all []string) {
	for _, one := range strings.Fields(strings.ReplaceAll(line, ",", " ")) {
		all = append(all, strings.TrimSuffix(one, "/"))
	}
	return all
}

// Reach gives the ways to a machine. An error says what is wrong with its address.
func Reach(m *store.Machine) (ways []Way, err error) {
	for _, address := range Addresses(m.Address) {
		server, path, err := reach.ParseURL(address, "https", "http")
		if err == nil && path != "" {
			err = fmt.Errorf("the address %s names more than a machine; leave out what follows its name", address)
		}
		if err != nil {
			return nil, err
		}
		server.Authority = m.Authority
		ways = append(ways, Way{address, &http.Client{Transport: server.Transport(),
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}})
	}
	if len(ways) == 0 {
		return nil, errors.New("it is missing")
	}
	return ways, nil
}

// ErrUnread says that there is no copy of a machine's records that could be read.
var ErrUnread = errors.New("its records have not been read yet")

// Read lets f read the copy of the machine's records, which does not change meanwhile.
func (m *Machine) Read(ctx context.Context, f func(records *store.Store) error) error {
	if m.reader == nil {
		return ErrUnread
	}
	err := m.reader.Read(func(file, history string, change int64) error {
		m.renewing.Lock()
		if m.change != change {
			if err := m.Records.Renew(ctx, file, history); err != nil {
				m.renewing.Unlock()
				return err
			}
			m.change = change
		}
		m.renewing.Unlock()
		return f(m.Records.Store)
	})
	if errors.Is(err, replica.ErrNoCopy) {
		return ErrUnread
	}
	return err
}

// Status says how the machine does.
func (m *Machine) Status() Status {
	m.mutex.Lock()
	st := Status{Said: m.said}
	m.mutex.Unlock()
	if m.reader == nil {
		st.Behind = st.Problem
		return st
	}
	r := m.reader.Status()
	st.Copy, st.Fresh, st.Behind = r.Copy, r.Fresh, r.Problem
	if other := func(id string) bool { return id != "" && id != m.Machine.Installation }; st.Behind == "" &&
		(other(st.Said.Installation) || other(r.Installation)) {
		st.Behind = "the machine at its address is another installation than the one whose replica is read"
	}
	return st
}

// Ask asks the machine what it is, by each of its ways until one leads to it.
func (m *Machine) Ask(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, asked)
	defer cancel()
	said, way, err := Ask(ctx, m.ways, m.secrets.Token)
	if err != nil {
		said.Problem = err.Error()
	}
	m.mutex.Lock()
	before := m.said
	if m.said = said; err == nil {
		m.now = way
	}
	m.mutex.Unlock()
	if before.Answers != said.Answers && ctx.Err() == nil {
		m.config.Events.Send(events.Event{Kind: events.Machine, ID: m.Name})
	}
}

// way is that by which the machine answered last.
func (m *Machine) way() (Way, bool) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if len(m.ways) == 0 {
		return Way{}, false
	}
	return m.ways[m.now], true
}

// most bounds what a machine says of itself, and what it says is wrong.
const most = 64 << 10

// TokenError says why a machine does not take the token with which it is asked.
type TokenError struct{ Problem string }

func (e *TokenError) Error() string { return "it does not take the token: " + e.Problem }

// Ask asks a machine what it is, by each of its ways until one leads to it, which is told. A *TokenError where it does
// not take the token.
func Ask(ctx context.Context, ways []Way, token string) (said Said, way int, err error) {
	var problem error
	for i := range ways {
		if said, err = ways[i].ask(ctx, token); err == nil {
			return said, i, nil
		}
		if _, refused := problem.(*TokenError); !refused { // that it is there says more
			problem = err
		}
	}
	return said, 0, problem
}

func (w *Way) ask(ctx context.Context, token string) (said Said, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Address+"/api/v1/machine", nil)
	if err != nil {
		return said, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := w.client.Do(r)
	if err != nil {
		return said, errors.New(inWords(err))
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, most))
	if err != nil {
		return said, err
	}
	var told struct{ Version, Installation, Detail string }
	err = json.Unmarshal(body, &told)
	switch {
	case answer.StatusCode == http.StatusUnauthorized || answer.StatusCode == http.StatusForbidden:
		return said, &TokenError{told.Detail}
	case answer.StatusCode != http.StatusOK || err != nil || told.Installation == "":
		return said, fmt.Errorf("what answers at %s is not an Ink Tray that works, or another version", w.Address)
	}
	return Said{Answers: true, Version: told.Version, Installation: told.Installation}, nil
}

// inWords leaves out what Go says about a request that failed.
func inWords(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "it does not answer: it says nothing"
	}
	return "it does not answer: " + reach.Cause(err).Error()
}

// Send asks the machine something for a person, who is there by the same name. The caller closes the answer's body.
// ErrUnsent where the machine got nothing of it.
func (m *Machine) Send(ctx context.Context, method, path string, header http.Header, body io.Reader,
	person string) (*http.Response, error) {
	way, ok := m.way()
	if !ok {
		return nil, &unsentError{m.Status().Problem}
	}
	answer, err := way.send(ctx, method, path, header, body, m.secrets.Token, person)
	if err == nil || method != http.MethodGet || len(m.ways) == 1 {
		return answer, err
	}
	m.Ask(ctx) // another machine may have taken over
	if now, _ := m.way(); now.Address != way.Address {
		return now.send(ctx, method, path, header, nil, m.secrets.Token, person)
	}
	return nil, err
}

func (w *Way) send(ctx context.Context, method, path string, header http.Header, body io.Reader, token,
	person string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, w.Address+path, body)
	if err != nil {
		return nil, err
	}
	for name, values := range header {
		r.Header[name] = values
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set(PersonHeader, url.QueryEscape(person))
	answer, err := w.client.Do(r)
	var dial *net.OpError
	if errors.As(err, &dial) && dial.Op == "dial" {
		return nil, &unsentError{inWords(err)}
	}
	if err != nil {
		return nil, errors.New(inWords(err))
	}
	return answer, nil
}

// ErrUnsent is the error of what was not sent, as nothing takes it at the address of the machine.
var ErrUnsent = errors.New("it was not sent")

type unsentError struct{ problem string }

func (e *unsentError) Error() string        { return e.problem }
func (e *unsentError) Is(target error) bool { return target == ErrUnsent }

// Look opens the replica of a machine before it is kept, and says whose it is. replica.ErrNone where there is none,
// replica.ErrPassphrase where the passphrase does not open it.
func (ms *Machines) Look(ctx context.Context, m *store.Machine, secrets store.MachineSecrets) (installation string,
	err error) {
	p, err := ms.config.Open(m, secrets.Secret)
	if err != nil {
		return "", err
	}
	installation, err = replica.Whose(ctx, p, secrets.Passphrase)
	return installation, errors.Join(err, p.Close())
}
