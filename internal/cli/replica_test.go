package cli

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

// replicated starts a service with a replica in a folder, and gives the way to ask it.
func replicated(t *testing.T, place string) (*service, *client.Client) {
	t.Helper()
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	data := filepath.Join(t.TempDir(), "records")
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	setUp(t, data, nil)
	s, err := start(serviceOptions{data: data, listen: "127.0.0.1:0", zone: "UTC", language: "en",
		log: slog.New(slog.DiscardHandler), replica: placeOptions{place: place, every: 100 * time.Millisecond,
			keep: time.Hour, late: 300 * time.Millisecond}})
	if err != nil {
		t.Fatal(err)
	}
	c := &command{service: s.address()}
	token, err := c.tokenFor(t.Context(), demoPerson, "a long password", "", "")
	if err != nil {
		t.Fatal(err)
	}
	api, err := c.connectWith(token)
	if err != nil {
		t.Fatal(err)
	}
	return s, api
}

func TestAReplicaThatCannotBeWrittenIsToldAndTheServiceWorksOn(t *testing.T) {
	place := filepath.Join(t.TempDir(), "replica")
	if err := os.Mkdir(place, 0o700); err != nil {
		t.Fatal(err)
	}
	s, api := replicated(t, place)
	defer s.stop()
	state := func() client.Replica {
		r, err := call[client.Replica](api.GetReplica(t.Context()))
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	until(t, "it has everything", func() bool {
		r := state()
		return r.At != nil && r.BehindSeconds == 0 && r.Problem == nil
	})
	if err := os.Rename(place, place+".away"); err != nil {
		t.Fatal(err)
	}
	if _, err := call[client.Cabinet](api.AddCabinet(t.Context(),
		client.CabinetSettings{Name: "files", Folder: filepath.Join(t.TempDir(), "files")})); err != nil {
		t.Errorf("without its replica the service does not work on: %v", err)
	}
	told := func() bool {
		tray, err := call[client.Tray](api.ListTray(t.Context(), &client.ListTrayParams{}))
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range tray.Notices {
			if strings.Contains(n.Text, "has not been able to write the replica") {
				return true
			}
		}
		return false
	}
	until(t, "the tray says so", told)
	if r := state(); r.Problem == nil || r.BehindSeconds == 0 ||
		!strings.Contains(*r.Problem, "the folder for the replica") {
		t.Errorf("it is said to be %+v", r)
	}
	metrics, err := api.GetMetrics(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer metrics.Body.Close()
	text, err := io.ReadAll(metrics.Body)
	if err != nil {
		t.Fatal(err)
	}
	for _, metric := range []string{"inktray_replica_failing{place=", "inktray_replica_behind_seconds{place="} {
		if !strings.Contains(string(text), metric) {
			t.Errorf("the metrics have no %s", metric)
		}
	}
	if err := os.Rename(place+".away", place); err != nil {
		t.Fatal(err)
	}
	until(t, "it has everything again", func() bool { r := state(); return r.Problem == nil && r.BehindSeconds == 0 })
	until(t, "the tray no longer says so", func() bool { return !told() })
	if _, err := call[client.WaitingMachine](api.GiveTurn(t.Context(), client.GiveTurnJSONRequestBody{})); err == nil ||
		!strings.Contains(err.Error(), "--lease") {
		t.Errorf("a turn is given away without a lease: %v", err)
	}
}

// What cannot be is refused before anything is started, in a sentence that says what to do.
func TestReplicasThatCannotBeAreRefused(t *testing.T) {
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	data := t.TempDir()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"serve", "--lease", "6s"}, "--lease needs a replica"},
		{[]string{"serve", "--replica", "relative"}, "give the whole path"},
		{[]string{"serve", "--replica", "ftp://host/folder"}, "begins with ftp://"},
		{[]string{"serve", "--replica", "s3://bucket"}, "is not a place for a replica"},
		{[]string{"serve", "--replica", "/r", "--lease", "1s"}, "too short"},
		{[]string{"serve", "--replica", "/r", "--replica-every", "1ms"}, "--replica-every is 100ms or more"},
		{[]string{"serve", "--replica", "/r", "--replica-passphrase-file", "/nowhere/phrase"}, "/nowhere/phrase"},
		{[]string{"serve", "--check", "--replica", "relative"}, "give the whole path"},
		{[]string{"standby"}, "name the replica"},
		{[]string{"restore", "--of", "/r", "file.age"}, "not out of both"},
		{[]string{"restore", "--at", "2026-09-01 14:30"}, "name the replica with --of"},
		{[]string{"restore"}, "name the backup file"},
		{[]string{"restore", "--of", "/nowhere", "--at", "yesterday", "--yes"}, "is not a date and time"},
		{[]string{"restore", "--of", t.TempDir(), "--yes"}, "there is no replica in"},
	} {
		_, errs, code := run(t, "", append(c.args, "--data", filepath.Join(data, "records"))...)
		if code == 0 || !strings.Contains(errs, c.says) {
			t.Errorf("%q: exit code %d, %q; want %q", c.args, code, errs, c.says)
		}
	}
	t.Setenv(replicaPassphrase, "short")
	if _, errs, code := run(t, "", "serve", "--replica", "/r", "--data", data); code != exitUsage ||
		!strings.Contains(errs, "at least 12 characters") {
		t.Errorf("a short passphrase: exit code %d, %q", code, errs)
	}
}

// inTurns starts a service with a lease, beside which others may wait.
func inTurns(t *testing.T, place string) (s *service, waits func() *process) {
	t.Helper()
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	data := filepath.Join(t.TempDir(), "records")
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	setUp(t, data, nil)
	o := serviceOptions{data: data, listen: "127.0.0.1:0", zone: "UTC", language: "en",
		log: slog.New(slog.DiscardHandler), replica: placeOptions{place: place, every: 100 * time.Millisecond,
			keep: time.Hour, lease: 20 * time.Second, machine: "quay", late: 300 * time.Millisecond}}
	if err := o.acquire(t.Context()); err != nil {
		t.Fatal(err)
	}
	s, err := start(o)
	if err != nil {
		t.Fatal(err)
	}
	return s, func() *process {
		p := &process{t: t, folder: t.TempDir()}
		p.args = []string{"standby", "--data", p.records(), "--listen", "127.0.0.1:0", "--of", place, "--machine", "tower"}
		t.Cleanup(p.kill)
		p.begin()
		until(t, "it waits", func() bool {
			r := s.replica.Report()
			return len(r.Waiting) == 1 && r.Waiting[0].Fresh && r.Waiting[0].Silent < silentFor
		})
		return p
	}
}

// A machine that cannot bring its changes into the replica, though others can write there, gives its turn away.
func TestAMachineThatCannotWorkLetsAnotherTakeOver(t *testing.T) {
	s, waits := inTurns(t, t.TempDir())
	waits()
	pages := filepath.Join(filepath.Dir(s.store.Path()), "replica", "pages")
	if err := os.RemoveAll(pages); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(pages, nil, 0o600); err != nil { // as a disk that takes no more
		t.Fatal(err)
	}
	go func() { _ = s.store.Settings.Set(context.Background(), "value", "never told") }()
	ended := make(chan error, 1)
	go func() { ended <- s.run(context.Background()) }()
	select {
	case err := <-ended:
		if err == nil {
			t.Error("it ended as if all were well")
		}
	case <-time.After(time.Minute):
		t.Fatal("it keeps its turn")
	}
}

// Where the machine that waits is not heard of any more, the tray of the one that works says so until it is back.
func TestAMachineThatWaitsNoMoreIsTold(t *testing.T) {
	s, waits := inTurns(t, t.TempDir())
	defer s.stop()
	tower := waits()
	tower.kill()
	told := func() bool {
		notices, err := s.store.Tray.Notices(t.Context(), store.System)
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(notices, func(n store.Notice) bool {
			return strings.Contains(n.Text, "no longer hears from the machine “tower”, which waited to take over")
		})
	}
	untilWithin(t, time.Minute, "the tray says so", told)
	waits()
	untilWithin(t, time.Minute, "the tray no longer says so", func() bool { return !told() })
}
