package replica_test

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

const passphrase = "correct horse battery"

// installation is an installation with a replica.
type installation struct {
	data    string
	store   *store.Store
	replica *replica.Replica
}

func open(t *testing.T, data string, p replica.Place, lease *replica.Lease) *installation {
	t.Helper()
	s, err := store.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	r := replica.New(replica.Config{Place: p, Passphrase: passphrase, Data: data, Records: "inktray.db",
		Installation: "harbour", Keys: s.Replication.Keys, Clock: time.Now, Log: slog.Default(), Lease: lease})
	if err := s.Replication.Follow(r); err != nil {
		t.Fatal(err)
	}
	return &installation{data, s, r}
}

func (i *installation) close(t *testing.T) {
	t.Helper()
	if err := i.store.Close(); err != nil {
		t.Error(err)
	}
	if err := i.replica.Close(context.Background()); err != nil {
		t.Error(err)
	}
}

func TestRecordsAreRestoredFromTheReplica(t *testing.T) {
	ctx := context.Background()
	place := replica.Folder(t.TempDir())
	i := open(t, t.TempDir(), place, nil)
	for n := range 200 {
		if err := i.store.Settings.Set(ctx, "number", string(rune('0'+n%10))); err != nil {
			t.Fatal(err)
		}
		began := time.Now()
		if err := i.replica.Sync(ctx); err != nil {
			t.Fatal(err)
		}
		if n%50 == 0 {
			t.Log(time.Since(began))
		}
	}
	into := t.TempDir()
	began := time.Now()
	r, err := replica.Restore(ctx, place, passphrase, "inktray.db", time.Time{}, into)
	t.Log(r, err, time.Since(began))
	s, err := store.Open(into)
	if err != nil {
		t.Fatal(err)
	}
	got, err := s.Settings.Get(ctx, "number")
	t.Log(got, err)
	s.Close()
	i.close(t)
	i = open(t, i.data, place, nil)
	if err := i.store.Settings.Set(ctx, "number", "again"); err != nil {
		t.Fatal(err)
	}
	if err := i.replica.Sync(ctx); err != nil {
		t.Fatal(err)
	}
	i.close(t)
	all, _ := filepath.Glob(place.String() + "/history/*/*/*")
	t.Log(len(all))
	for _, one := range all[max(0, len(all)-5):] {
		t.Log(one)
	}
}
