package replica_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

const (
	passphrase = "a passphrase for tests"
	records    = "inktray.db"
)

var ofRecords = replica.Records{Name: records, Key: "secret.key", Fit: store.FittingKey}

// installation is one with a replica.
type installation struct {
	t       *testing.T
	data    string
	store   *store.Store
	replica *replica.Replica
}

type options struct {
	passphrase, installation string
	lease                    *replica.Lease
	keep                     time.Duration
}

func open(t *testing.T, data string, p replica.Place, o options) *installation {
	t.Helper()
	s, err := store.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	if o.passphrase == "" {
		o.passphrase = passphrase
	}
	if o.installation == "" {
		o.installation = "harbour"
	}
	r := replica.New(replica.Config{Place: p, Passphrase: o.passphrase, Data: data, Records: records,
		Installation: o.installation, Keys: s.Replication.Keys,
		Opened: s.Replication.HoldLog, Clock: time.Now, Log: slog.New(slog.DiscardHandler),
		Lease: o.lease, Keep: o.keep})
	if err := s.Replication.Follow(r); err != nil {
		t.Fatal(err)
	}
	return &installation{t, data, s, r}
}

func (i *installation) set(value string) {
	i.t.Helper()
	if err := i.store.Settings.Set(context.Background(), "value", value); err != nil {
		i.t.Fatal(err)
	}
}

func (i *installation) sync() {
	i.t.Helper()
	if err := i.replica.Sync(context.Background()); err != nil {
		i.t.Fatal(err)
	}
}

func (i *installation) close() {
	i.t.Helper()
	if err := i.store.Close(); err != nil {
		i.t.Error(err)
	}
	if err := i.replica.Close(context.Background()); err != nil {
		i.t.Error(err)
	}
}

// restored puts a state back, and reads the value in it.
func restored(t *testing.T, p replica.Place, at time.Time) (value string, r replica.Restored, into string) {
	t.Helper()
	into = t.TempDir()
	r, err := replica.Restore(t.Context(), p, passphrase, ofRecords, at, into)
	if err != nil {
		t.Fatal(err)
	}
	return valueIn(t, into), r, into
}

func valueIn(t *testing.T, data string) string {
	t.Helper()
	s, err := store.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	value, err := s.Settings.Get(t.Context(), "value")
	if err != nil {
		t.Fatal(err)
	}
	return value
}

func TestTheNewestRecordsAreRestoredAndAStartGoesOnWhereItWas(t *testing.T) {
	folder := t.TempDir()
	p := replica.Folder(folder)
	i := open(t, t.TempDir(), p, options{})
	for n := range 100 {
		i.set(fmt.Sprint(n))
		if n%10 == 0 {
			i.sync()
		}
	}
	i.close() // the last changes are brought to the place
	if got, r, _ := restored(t, p, time.Time{}); got != "99" || r.Installation != "harbour" {
		t.Errorf("restored %q of %q", got, r.Installation)
	}
	before := size(t, folder)
	i = open(t, i.data, p, options{})
	i.set("again")
	i.close()
	if got, _, _ := restored(t, p, time.Time{}); got != "again" {
		t.Errorf("after a start, restored %q", got)
	}
	if grown := size(t, folder) - before; grown > 100_000 {
		t.Errorf("a start and a change brought %d octets to the place: all pages again", grown)
	}
}

func size(t *testing.T, folder string) (n int64) {
	t.Helper()
	err := filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			n += info.Size()
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// The service may run without its replica for a while, and the disk may lose what is known here of the replica.
func TestChangesThatWereMadeWithoutTheReplicaAreInItAfterwards(t *testing.T) {
	for name, meanwhile := range map[string]func(t *testing.T, data string){
		"without it": func(t *testing.T, data string) {
			s, err := store.Open(data)
			if err != nil {
				t.Fatal(err)
			}
			for n := range 50 {
				if err := s.Settings.Set(t.Context(), fmt.Sprint("other ", n), strings.Repeat("y", 500)); err != nil {
					t.Fatal(err)
				}
			}
			if err := errors.Join(s.Settings.Set(t.Context(), "value", "between"), s.Close()); err != nil {
				t.Fatal(err)
			}
		},
		"what is known of it is lost": func(t *testing.T, data string) {
			if err := os.RemoveAll(filepath.Join(data, "replica")); err != nil {
				t.Fatal(err)
			}
		},
		"its pages are lost": func(t *testing.T, data string) {
			if err := os.RemoveAll(filepath.Join(data, "replica", "pages")); err != nil {
				t.Fatal(err)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := replica.Folder(t.TempDir())
			i := open(t, t.TempDir(), p, options{})
			i.set("before")
			i.close()
			meanwhile(t, i.data)
			want := valueIn(t, i.data)
			i = open(t, i.data, p, options{})
			i.sync()
			if got, _, _ := restored(t, p, time.Time{}); got != want {
				t.Errorf("restored %q, want %q", got, want)
			}
			i.set("after")
			i.close()
			if got, _, _ := restored(t, p, time.Time{}); got != "after" {
				t.Errorf("restored %q at the end", got)
			}
		})
	}
}

func TestTheStateOfAMomentIsRestored(t *testing.T) {
	p := replica.Folder(t.TempDir())
	begun := time.Now()
	i := open(t, t.TempDir(), p, options{})
	moments := map[string]time.Time{}
	for n := range 5 {
		value := fmt.Sprint(n)
		i.set(value)
		i.sync()
		<-time.After(20 * time.Millisecond)
		moments[value] = time.Now()
		<-time.After(20 * time.Millisecond)
	}
	i.close()
	for want, at := range moments {
		if got, _, _ := restored(t, p, at); got != want {
			t.Errorf("at the moment of %s there was %q", want, got)
		}
	}
	if got, _, _ := restored(t, p, time.Now().Add(time.Hour)); got != "4" {
		t.Errorf("a moment to come gives %q, not the newest", got)
	}
	_, err := replica.Restore(t.Context(), p, passphrase, ofRecords, begun.Add(-time.Hour), t.TempDir())
	var not *replica.NotKeptError
	if !errors.As(err, &not) || not.Earliest.Before(begun.Add(-time.Second)) {
		t.Errorf("a moment before the first is restored: %v", err)
	}
	// Other records of the same installation, as after a restoring, write a history of their own.
	<-time.After(20 * time.Millisecond)
	between := time.Now()
	other := open(t, t.TempDir(), p, options{})
	other.set("other")
	other.close()
	if got, _, _ := restored(t, p, time.Time{}); got != "other" {
		t.Errorf("the newest is %q", got)
	}
	if got, _, _ := restored(t, p, between); got != "4" {
		t.Errorf("before the other records there was %q", got)
	}
}

func TestAReplicaIsOpenedByItsPassphraseAlone(t *testing.T) {
	folder := t.TempDir()
	p := replica.Folder(folder)
	if _, err := replica.Restore(t.Context(), p, passphrase, ofRecords, time.Time{}, t.TempDir()); !errors.Is(err,
		replica.ErrNone) {
		t.Errorf("an empty place: %v", err)
	}
	i := open(t, t.TempDir(), p, options{})
	i.set("a name that nobody may read: Oda Fenwick")
	mail := filepath.Join(i.data, "mail", "box", "new", "1")
	if err := os.MkdirAll(filepath.Dir(mail), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(mail, []byte("From: Oda Fenwick"), 0o600); err != nil {
		t.Fatal(err)
	}
	i.close()
	err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		for _, secret := range []string{"Oda", "Fenwick", "SQLite format", "AGE-SECRET", "secret.key"} {
			if bytes.Contains(data, []byte(secret)) || strings.Contains(name, secret) {
				t.Errorf("%q can be read in %s", secret, name)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	_, err = replica.Restore(t.Context(), p, "another passphrase", ofRecords, time.Time{}, t.TempDir())
	if !errors.Is(err, replica.ErrPassphrase) {
		t.Errorf("another passphrase: %v", err)
	}
	// The office chooses another one; what is there already is opened by that, too.
	i = open(t, i.data, p, options{passphrase: "chosen after a year"})
	i.sync()
	i.close()
	if _, err := replica.Restore(t.Context(), p, passphrase, ofRecords, time.Time{}, t.TempDir()); !errors.Is(err,
		replica.ErrPassphrase) {
		t.Errorf("the former passphrase: %v", err)
	}
	into := t.TempDir()
	if _, err := replica.Restore(t.Context(), p, "chosen after a year", ofRecords, time.Time{}, into); err != nil {
		t.Fatal(err)
	}
	if got := valueIn(t, into); !strings.Contains(got, "Oda") {
		t.Errorf("restored %q", got)
	}
}

func TestAPlaceBelongsToOneInstallation(t *testing.T) {
	p := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), p, options{})
	i.set("mine")
	i.close()
	other := open(t, t.TempDir(), p, options{installation: "customs"})
	other.set("theirs")
	if err := other.replica.Sync(t.Context()); err == nil || !strings.Contains(err.Error(), "another installation") {
		t.Errorf("another installation writes there: %v", err)
	}
	if s := other.replica.Status(); s.Problem == "" || s.Begun {
		t.Errorf("its state is %+v", s)
	}
	if err := other.store.Close(); err != nil {
		t.Error(err)
	}
	_ = other.replica.Close(t.Context())
	if got, _, _ := restored(t, p, time.Time{}); got != "mine" {
		t.Errorf("restored %q", got)
	}
}

func TestSecretsOpenAfterARestoreAlsoWhereTheKeyWasChanged(t *testing.T) {
	ctx := t.Context()
	p := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), p, options{})
	secret := "a secret"
	plan := store.BackupPlan{Place: store.BackupInFolder, Folder: "/var/backups"}
	if err := i.store.Settings.PlanBackups(ctx, plan, &secret, 0, "Ada"); err != nil {
		t.Fatal(err)
	}
	opens := func(when string, at time.Time) {
		t.Helper()
		_, _, into := restored(t, p, at)
		s, err := store.Open(into)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, got, err := s.Settings.BackupPlan(ctx); got != secret || err != nil {
			t.Errorf("%s the secret is %q, %v", when, got, err)
		}
	}
	i.sync()
	<-time.After(20 * time.Millisecond)
	before := time.Now()
	<-time.After(20 * time.Millisecond)
	for range 2 {
		if _, err := i.store.Settings.RotateKey(ctx, "Ada"); err != nil {
			t.Fatal(err)
		}
	}
	i.close()
	opens("after the changes", time.Time{})
	opens("before them", before)
}

func TestFilesBesideTheRecordsAreThoseOfTheMoment(t *testing.T) {
	p := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), p, options{})
	box := filepath.Join(i.data, "mail", "box")
	write := func(name, text string) {
		t.Helper()
		full := filepath.Join(i.data, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o700), os.WriteFile(full, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	i.set("1")
	write("mail/box/new/111.a", "first")
	write("waiting/22", "waits")
	write("mail/box/tmp/333", "half a message")
	i.close()
	<-time.After(20 * time.Millisecond)
	first := time.Now()
	<-time.After(20 * time.Millisecond)
	i = open(t, i.data, p, options{})
	i.set("2")
	// The message is seen, the content that waited is filed, and another message comes.
	if err := errors.Join(os.Mkdir(filepath.Join(box, "cur"), 0o700), os.Rename(filepath.Join(box, "new", "111.a"),
		filepath.Join(box, "cur", "111.a:2,S")), os.Remove(filepath.Join(i.data, "waiting", "22"))); err != nil {
		t.Fatal(err)
	}
	write("mail/box/new/444.b", "second")
	i.close()
	for _, c := range []struct {
		at   time.Time
		want map[string]string
	}{
		{time.Time{}, map[string]string{"mail/box/cur/111.a:2,S": "first", "mail/box/new/444.b": "second"}},
		{first, map[string]string{"mail/box/new/111.a": "first", "waiting/22": "waits"}},
	} {
		_, r, into := restored(t, p, c.at)
		if r.Files != len(c.want) {
			t.Errorf("%d files, want %d", r.Files, len(c.want))
		}
		for name, text := range c.want {
			if got, err := os.ReadFile(filepath.Join(into, filepath.FromSlash(name))); string(got) != text {
				t.Errorf("%s holds %q, %v; want %q", name, got, err, text)
			}
		}
	}
}

// slow is a place whose writes can be held up, or fail.
type slow struct {
	replica.Place
	mutex sync.Mutex
	held  chan struct{} // closed when writes go on; nil where they do
	fail  func(n int) error
	n     int
}

func (s *slow) Write(ctx context.Context, r io.Reader, name func() string) error {
	s.mutex.Lock()
	held, fail := s.held, s.fail
	s.n++
	n := s.n
	s.mutex.Unlock()
	if held != nil {
		select {
		case <-held:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if fail != nil {
		if err := fail(n); err != nil {
			return err
		}
	}
	return s.Place.Write(ctx, r, name)
}

func lease(t *testing.T, p replica.Place, long time.Duration) *replica.Lease {
	t.Helper()
	l, err := replica.Take(t.Context(), p, replica.Held{}, replica.Held{Machine: "quay", For: long})
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestWithALeaseAChangeIsToldOnceItIsInTheReplica(t *testing.T) {
	p := &slow{Place: replica.Folder(t.TempDir())}
	i := open(t, t.TempDir(), p, options{lease: lease(t, p.Place, time.Hour)})
	i.set("before")
	held := make(chan struct{})
	p.mutex.Lock()
	p.held = held
	p.mutex.Unlock()
	told := make(chan error, 3)
	for n := range 3 {
		go func() { told <- i.store.Settings.Set(context.Background(), fmt.Sprint("key ", n), "after") }()
	}
	select {
	case err := <-told:
		t.Fatalf("a change was told before it was in the replica: %v", err)
	case <-time.After(200 * time.Millisecond):
	}
	if behind := i.replica.Status().Behind; behind < 100*time.Millisecond {
		t.Errorf("it is said to be %v behind", behind)
	}
	close(held)
	for range 3 {
		if err := <-told; err != nil {
			t.Error(err)
		}
	}
	if behind := i.replica.Status().Behind; behind != 0 {
		t.Errorf("it is said to be %v behind", behind)
	}
	i.close()
}

func TestAMachineThatLostItsLeaseIsToldSoAndWritesNoMore(t *testing.T) {
	folder := t.TempDir()
	p := &slow{Place: replica.Folder(folder)}
	l := lease(t, p.Place, 4*time.Second)
	i := open(t, t.TempDir(), p, options{lease: l})
	i.set("while it is held")
	for l.Valid() {
		<-time.After(20 * time.Millisecond)
	}
	before := size(t, folder)
	if err := i.store.Settings.Set(t.Context(), "value", "afterwards"); !errors.Is(err, replica.ErrLost) {
		t.Errorf("a change without the lease: %v", err)
	}
	mail := filepath.Join(i.data, "mail", "box", "new", "1")
	if err := errors.Join(os.MkdirAll(filepath.Dir(mail), 0o700), os.WriteFile(mail, []byte("x"), 0o600)); err != nil {
		t.Fatal(err)
	}
	if err := i.replica.Keep(t.Context(), mail); !errors.Is(err, replica.ErrLost) {
		t.Errorf("mail is kept without the lease: %v", err)
	}
	if after := size(t, folder); after != before {
		t.Errorf("%d octets were written without the lease", after-before)
	}
	if err := i.store.Close(); err != nil {
		t.Error(err)
	}
	_ = i.replica.Close(t.Context())
	if got, _, _ := restored(t, p.Place, time.Time{}); got != "while it is held" {
		t.Errorf("restored %q", got)
	}
}

// Whichever write fails, or is done and then said to have failed: what was told is there.
func TestWhicheverWriteFailsWhatWasToldIsInTheReplica(t *testing.T) {
	for _, lost := range []bool{false, true} {
		for at := 2; at < 9; at++ { // the first is the lease
			t.Run(fmt.Sprintf("answer lost %v, write %d", lost, at), func(t *testing.T) {
				t.Parallel()
				inner := replica.Folder(t.TempDir())
				p := &slow{Place: inner}
				l := lease(t, p, time.Hour)
				p.fail = func(n int) error {
					if n == at {
						return errors.New("the place stumbles")
					}
					return nil
				}
				var place replica.Place = p
				if lost {
					p.fail = nil
					place = &forgetful{slow: p, at: at}
				}
				i := open(t, t.TempDir(), place, options{lease: l})
				for n := range 8 {
					i.set(fmt.Sprint(n))
				}
				i.close()
				if got, _, _ := restored(t, inner, time.Time{}); got != "7" {
					t.Errorf("restored %q", got)
				}
			})
		}
	}
}

// forgetful does a write and says that it failed.
type forgetful struct {
	*slow
	at int
}

func (f *forgetful) Write(ctx context.Context, r io.Reader, name func() string) error {
	err := f.slow.Write(ctx, r, name)
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.n == f.at && err == nil {
		return errors.New("the answer was lost")
	}
	return err
}

func TestDamageInAReplicaIsAnErrorAndNothingIsPutBack(t *testing.T) {
	folder := t.TempDir()
	p := replica.Folder(folder)
	i := open(t, t.TempDir(), p, options{})
	i.set(strings.Repeat("x", 10_000))
	i.close()
	pages, err := filepath.Glob(filepath.Join(folder, "history", "*", "*", "*.age"))
	if err != nil || len(pages) == 0 {
		t.Fatal(pages, err)
	}
	// Names that nobody wrote are passed over.
	for _, odd := range []string{"x", "0000000000000001-0000000000000001-.age", "..age"} {
		if err := os.WriteFile(filepath.Join(filepath.Dir(pages[0]), odd), []byte("odd"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if got, _, _ := restored(t, p, time.Time{}); len(got) != 10_000 {
		t.Errorf("restored %d octets", len(got))
	}
	for _, damage := range []func([]byte) []byte{
		func(b []byte) []byte { return b[:len(b)/2] },
		func(b []byte) []byte { b[len(b)-40] ^= 1; return b },
		func(b []byte) []byte { return []byte("nothing of the kind") },
	} {
		for _, name := range pages {
			whole, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(name, damage(bytes.Clone(whole)), 0o600); err != nil {
				t.Fatal(err)
			}
			into := t.TempDir()
			if _, err := replica.Restore(t.Context(), p, passphrase, ofRecords, time.Time{}, into); err == nil &&
				len(valueIn(t, into)) != 10_000 {
				t.Errorf("%s is damaged, and something else is put back", filepath.Base(name))
			}
			if err := os.WriteFile(name, whole, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestErasedTextIsInNoFileOfTheRecordsThoughAReplicaHoldsTheirLog(t *testing.T) {
	p := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), p, options{})
	i.set("Oda Fenwick")
	i.sync()
	if err := i.replica.Truncate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(i.data, records+"-wal")); err != nil || info.Size() > 64<<10 {
		t.Errorf("the log is not emptied: %v, %v", info, err)
	}
	i.close()
}

func TestAFileThatCannotBeKeptKeepsNoOtherFromThePlace(t *testing.T) {
	p := replica.Folder(t.TempDir())
	l, err := replica.Take(t.Context(), p, replica.Held{}, replica.Held{Machine: "quay", For: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	box := filepath.Join(data, "mail", "box", "new")
	if err := os.MkdirAll(box, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"1-" + strings.Repeat("long", 50), "2-short"} {
		if err := os.WriteFile(filepath.Join(box, name), []byte(name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	i := open(t, data, p, options{lease: l})
	i.set("x") // a change is told though a file stays behind
	i.close()
	if problem := i.replica.Status().Problem; !strings.Contains(problem, "too long for a replica") {
		t.Errorf("it is not said that a file stays behind: %q", problem)
	}
	_, _, into := restored(t, p, time.Time{})
	if _, err := os.Stat(filepath.Join(into, "mail", "box", "new", "2-short")); err != nil {
		t.Error(err)
	}
}

func TestTheLogDoesNotGrowWhileThePlaceCannotBeReached(t *testing.T) {
	i := open(t, t.TempDir(), replica.Folder(filepath.Join(t.TempDir(), "away")), options{})
	for n := range 400 {
		i.set(strings.Repeat(fmt.Sprint(n%10), 50_000))
		if n%50 == 0 {
			if err := i.replica.Sync(t.Context()); err == nil {
				t.Fatal("a place that is not there was written")
			}
		}
	}
	if info, err := os.Stat(filepath.Join(i.data, records+"-wal")); err != nil || info.Size() > 10<<20 {
		t.Errorf("the log has grown: %v octets, %v", info.Size(), err)
	}
	if err := i.store.Close(); err != nil {
		t.Error(err)
	}
	_ = i.replica.Close(t.Context()) // its place is away
}

// listing counts how often the folders of histories are listed, by history.
type listing struct {
	replica.Place
	mutex  sync.Mutex
	counts map[string]int
}

func (l *listing) List(ctx context.Context, folder string) ([]cabinet.Entry, error) {
	if parts := strings.Split(folder, "/"); parts[0] == "history" && len(parts) == 3 {
		l.mutex.Lock()
		l.counts[parts[1]]++
		l.mutex.Unlock()
	}
	return l.Place.List(ctx, folder)
}

// A place at which many machines took turns makes no turn begin later: what it holds of them is not listed.
func TestManyHistoriesAtAPlaceAreNotListed(t *testing.T) {
	p := &listing{Place: replica.Folder(t.TempDir()), counts: map[string]int{}}
	for n := range 8 {
		works := open(t, t.TempDir(), p, options{keep: 24 * time.Hour})
		works.set(fmt.Sprint(n))
		works.sync()
		works.close()
	}
	p.counts = map[string]int{}
	works := open(t, t.TempDir(), p, options{keep: 24 * time.Hour})
	works.set("last")
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		works.replica.Run(ctx)
	}()
	until(t, "it is known what can be restored", func() bool { return !works.replica.Report().Earliest.IsZero() })
	cancel()
	<-ended
	works.close()
	if len(p.counts) > 2 { // the earliest one, and its own
		t.Errorf("%d histories were listed: %v", len(p.counts), p.counts)
	}
	if value, _, _ := restored(t, p, time.Time{}); value != "last" {
		t.Errorf("what is restored says %q", value)
	}
}
