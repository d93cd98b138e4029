package cli

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
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// replicaPlaces are places of every kind, by the addresses that people give.
func replicaPlaces(t *testing.T) map[string]placeOptions {
	t.Helper()
	secret := func(text string) string {
		name := filepath.Join(t.TempDir(), "secret")
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	all := map[string]placeOptions{"folder": {place: t.TempDir()}}
	for _, kind := range []string{"apache2", "lighttpd"} {
		w := testbed.StartWebDAV(t, kind)
		all["WebDAV ("+kind+")"] = placeOptions{place: w.URL + "/" + filepath.Base(cabinettest.Subfolder(t, w.Folder)),
			user: "harbour", secretFile: secret(w.Password)}
	}
	s := testbed.StartSFTP(t)
	all["SFTP (OpenSSH)"] = placeOptions{place: s.URL, user: s.Name, secretFile: secret(s.Key), hostKey: s.HostKey}
	m := testbed.StartMinIO(t)
	all["object store (MinIO)"] = placeOptions{place: "s3+" + m.URL + "/replica", user: m.Name,
		secretFile: secret(m.Secret)}
	return all
}

// Every kind of place gives a name to one writer only, keeps what it was given, and serves a replica from its first
// page to its restoring.
func TestEveryKindOfPlaceKeepsAReplica(t *testing.T) {
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	for kind, o := range replicaPlaces(t) {
		t.Run(kind, func(t *testing.T) {
			open := func() replica.Place {
				p, _, err := o.open(t.TempDir(), nil)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { p.Close() })
				return p
			}
			p := open()
			named := func(name string) func() string { return func() string { return name } }
			small, large := []byte("small"), bytes.Repeat([]byte("large "), 1_000_000) // more than one request's worth
			for name, data := range map[string][]byte{"try/one/small": small, "try/one/large": large} {
				if err := p.Write(t.Context(), bytes.NewReader(data), named(name)); err != nil {
					t.Fatal(err)
				}
				r, err := p.Open(t.Context(), name)
				if err != nil {
					t.Fatal(err)
				}
				got, err := io.ReadAll(r)
				r.Close()
				if err != nil || !bytes.Equal(got, data) {
					t.Errorf("%s holds %d octets, %v; want %d", name, len(got), err, len(data))
				}
				if err := p.Write(t.Context(), strings.NewReader("other"), named(name)); !errors.Is(err, fs.ErrExist) {
					t.Errorf("the name %s was given twice: %v", name, err)
				}
			}
			if entries, err := p.List(t.Context(), "try/one"); err != nil || len(entries) != 2 {
				t.Errorf("the folder holds %v, %v", entries, err)
			}
			if entries, err := p.List(t.Context(), "try/none"); err != nil || len(entries) != 0 {
				t.Errorf("a folder that is not there holds %v, %v", entries, err)
			}
			if _, err := p.Open(t.Context(), "try/one/none"); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("what is not there is opened: %v", err)
			}
			for _, name := range []string{"try/one/large", "try/one/none"} {
				if err := p.Remove(t.Context(), name); err != nil {
					t.Error(err)
				}
			}
			oneOfMany(t, open)
			replicate(t, p)
		})
	}
}

// oneOfMany lets several machines want one name at once.
func oneOfMany(t *testing.T, open func() replica.Place) {
	t.Helper()
	for round := range 3 {
		var won atomic.Int64
		var all sync.WaitGroup
		for range 6 {
			p := open()
			all.Go(func() {
				err := p.Write(context.Background(), strings.NewReader("mine"),
					func() string { return fmt.Sprint("try/wanted/", round) })
				if err == nil {
					won.Add(1)
				} else if !errors.Is(err, fs.ErrExist) {
					t.Errorf("one of several writers: %v", err)
				}
			})
		}
		all.Wait()
		if won.Load() != 1 {
			t.Errorf("%d writers got one name", won.Load())
		}
	}
}

// replicate keeps a replica at a place and puts it back.
func replicate(t *testing.T, p replica.Place) {
	t.Helper()
	data, into := t.TempDir(), t.TempDir()
	s, err := store.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	r := replica.New(replica.Config{Place: p, Passphrase: "seven gulls on a cold mole", Data: data, Records: recordsName,
		Installation: "harbour", Keys: s.Replication.Keys,
		Opened: s.Replication.HoldLog, Clock: time.Now, Log: slog.New(slog.DiscardHandler)})
	if err := s.Replication.Follow(r); err != nil {
		t.Fatal(err)
	}
	for n := range 20 {
		if err := s.Settings.Set(t.Context(), "value", fmt.Sprint(n)); err != nil {
			t.Fatal(err)
		}
		if err := r.Sync(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(s.Close(), r.Close(t.Context())); err != nil {
		t.Fatal(err)
	}
	if _, err := replica.Restore(t.Context(), p, "seven gulls on a cold mole", theRecords, time.Time{}, into); err != nil {
		t.Fatal(err)
	}
	again, err := store.Open(into)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if got, err := again.Settings.Get(t.Context(), "value"); got != "19" || err != nil {
		t.Errorf("restored %q, %v", got, err)
	}
}
