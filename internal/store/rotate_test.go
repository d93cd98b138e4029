package store

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

// sealedAll keeps a secret of every kind, and says what opens.
type sealedAll struct {
	s *Store
	t *testing.T
}

func (a sealedAll) keep() {
	a.t.Helper()
	ctx, phrase, secret := a.t.Context(), "seven gulls on a cold mole", "shared"
	box := &Mailbox{ID: "box", Name: "gauges", Kind: "imap", Host: "h", MadeAt: time.Now()}
	north := &Machine{ID: "north", Name: "north", Address: "https://north.example", Place: "/r", MadeAt: time.Now()}
	steps := []error{
		a.s.Machines.Seal(north, MachineSecrets{Token: "it-1", Passphrase: phrase, Secret: "s"}),
		a.s.Machines.Add(ctx, north, "test"),
		a.s.Mailboxes.Add(ctx, box, "pw", "test"),
		a.s.Settings.SetOutgoing(ctx, Outgoing{Host: "smtp", Port: 25, From: "a@b.example"}, &secret, 0, "test"),
		a.s.Settings.PlanBackups(ctx, BackupPlan{Place: BackupInFolder, Folder: "/b"}, &phrase, 0, "test"),
		a.s.Settings.SetSignInRules(ctx, SignInRules{Office: OfficeDoor{Issuer: "https://i.example", Client: "c"}}, &secret,
			0, "test"),
		a.s.People.Add(ctx, Person{ID: "p", Name: "Ines", Password: "x", Role: Administrator, MadeAt: time.Now()}, "test"),
		a.s.People.SetTOTP(ctx, "p", "JBSWY3DP", []string{"one"}, 1, "", time.Now()),
	}
	if err := errors.Join(steps...); err != nil {
		a.t.Fatal(err)
	}
}

func (a sealedAll) opens(when string) {
	a.t.Helper()
	ctx := context.Background()
	box, err := a.s.Mailboxes.ByID(ctx, System, "box")
	if err != nil {
		a.t.Fatal(when, err)
	}
	pw, err1 := a.s.Mailboxes.Secret(&box)
	_, smtp, err2 := a.s.Settings.Outgoing(ctx)
	_, phrase, err3 := a.s.Settings.BackupPlan(ctx)
	_, office, err4 := a.s.Settings.SignInRules(ctx)
	p, err5 := a.s.People.ByID(ctx, "p")
	totp, err6 := a.s.People.TOTPSecret(&p)
	north, err7 := a.s.Machines.ByID(ctx, "north")
	machine, err8 := a.s.Machines.Secrets(&north)
	if err := errors.Join(err1, err2, err3, err4, err5, err6, err7, err8); err != nil {
		a.t.Fatalf("%s: %v", when, err)
	}
	if machine != (MachineSecrets{Token: "it-1", Passphrase: "seven gulls on a cold mole", Secret: "s"}) {
		a.t.Errorf("%s: %+v", when, machine)
	}
	north.Address = "https://elsewhere.example"
	if _, err := a.s.Machines.Secrets(&north); !errors.Is(err, ErrRoute) {
		a.t.Errorf("%s: the secrets are given to another address: %v", when, err)
	}
	if pw != "pw" || smtp != "shared" || phrase != "seven gulls on a cold mole" || office != "shared" ||
		totp != "JBSWY3DP" {
		a.t.Errorf("%s: %q %q %q %q %q", when, pw, smtp, phrase, office, totp)
	}
}

// The key is changed while the records are used: everything opens before, meanwhile and afterwards, the former key is
// good for nothing any more, and what is sealed at that very moment opens, too.
func TestTheKeyIsChangedWhileTheRecordsAreUsed(t *testing.T) {
	folder := t.TempDir()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	all := sealedAll{s, t}
	all.keep()
	former, err := os.ReadFile(filepath.Join(folder, keyFile))
	if err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	var others sync.WaitGroup
	others.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			secret := "shared"
			if err := s.Settings.SetOutgoing(context.Background(), Outgoing{Host: "smtp", Port: 25, From: "a@b.example"},
				&secret, 0, "test"); err != nil {
				t.Error(err)
			}
			if _, got, err := s.Settings.Outgoing(context.Background()); err != nil || got != "shared" {
				t.Errorf("meanwhile: %q, %v", got, err)
			}
		}
	})
	n, err := s.Settings.RotateKey(t.Context(), "Ines")
	close(stop)
	others.Wait()
	if err != nil || n != 6 {
		t.Fatalf("%d were sealed anew, %v", n, err)
	}
	all.opens("afterwards")
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	now, err := os.ReadFile(filepath.Join(folder, keyFile))
	if err != nil || bytes.Equal(now, former) {
		t.Fatalf("the key is the former one: %v", err)
	}
	for _, left := range []string{nextKeyFile, formerKeyFile} {
		if _, err := os.Stat(filepath.Join(folder, left)); err == nil {
			t.Errorf("%s is left", left)
		}
	}
	if all.s, err = Open(folder); err != nil {
		t.Fatal(err)
	}
	all.opens("after a start")
	if err := all.s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, keyFile), former, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(folder); err == nil {
		t.Error("the former key opens the records")
	}
}

// The program ends at each step of a change of the key: the records open again with all their secrets.
func TestTheProgramMayEndAtAnyStepOfAChangeOfTheKey(t *testing.T) {
	for name, end := range map[string]func(folder string, former, next []byte) error{
		"before the commit": func(folder string, former, _ []byte) error { // the former key is still in the records
			return os.WriteFile(filepath.Join(folder, nextKeyFile), bytes.Repeat([]byte("a"), 64), 0o600)
		},
		"after the commit": func(folder string, former, next []byte) error {
			return errors.Join(os.WriteFile(filepath.Join(folder, keyFile), former, 0o600),
				os.WriteFile(filepath.Join(folder, nextKeyFile), next, 0o600))
		},
		"between the namings": func(folder string, former, next []byte) error {
			return errors.Join(os.Remove(filepath.Join(folder, keyFile)),
				os.WriteFile(filepath.Join(folder, formerKeyFile), former, 0o600),
				os.WriteFile(filepath.Join(folder, nextKeyFile), next, 0o600))
		},
		"while the next key was written": func(folder string, _, _ []byte) error {
			return os.WriteFile(filepath.Join(folder, nextKeyFile), []byte("0b5"), 0o600)
		},
		"before the former key is removed": func(folder string, former, _ []byte) error {
			return os.WriteFile(filepath.Join(folder, formerKeyFile), former, 0o600)
		},
	} {
		folder := t.TempDir()
		s, err := Open(folder)
		if err != nil {
			t.Fatal(err)
		}
		all := sealedAll{s, t}
		all.keep()
		former, err := os.ReadFile(filepath.Join(folder, keyFile))
		if err != nil {
			t.Fatal(err)
		}
		if name != "before the commit" && name != "while the next key was written" {
			if _, err := s.Settings.RotateKey(t.Context(), "Ines"); err != nil {
				t.Fatal(err)
			}
		}
		next, err := os.ReadFile(filepath.Join(folder, keyFile))
		if err := errors.Join(err, s.Close(), end(folder, former, next)); err != nil {
			t.Fatal(err)
		}
		if all.s, err = Open(folder); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		all.opens(name)
		for _, left := range []string{nextKeyFile, formerKeyFile} {
			if _, err := os.Stat(filepath.Join(folder, left)); err == nil {
				t.Errorf("%s: %s is left", name, left)
			}
		}
		if err := all.s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// A change of the key could not end, and the program runs on: the next change loses nothing, whatever lies there.
func TestAChangeOfTheKeyFollowsOneThatCouldNotEnd(t *testing.T) {
	for name, leave := range map[string]func(s *Store, folder string, former []byte) error{
		"the next key was not written to its end": func(_ *Store, folder string, _ []byte) error {
			return os.WriteFile(filepath.Join(folder, nextKeyFile), []byte("0b5"), 0o600)
		},
		"it did not go through": func(_ *Store, folder string, _ []byte) error {
			return os.WriteFile(filepath.Join(folder, nextKeyFile), bytes.Repeat([]byte("a"), 64), 0o600)
		},
		"it went through, though it seemed not to": func(s *Store, folder string, former []byte) error {
			at := func(name string) string { return filepath.Join(folder, name) }
			ring := s.keys.Load()
			s.keys.Store(&keyring{now: ring.former, former: ring.now})
			return errors.Join(os.Rename(at(keyFile), at(nextKeyFile)), os.WriteFile(at(keyFile), former, 0o600))
		},
		"the next key did not get its name": func(_ *Store, folder string, former []byte) error {
			at := func(name string) string { return filepath.Join(folder, name) }
			return errors.Join(os.Rename(at(keyFile), at(nextKeyFile)), os.WriteFile(at(keyFile), former, 0o600))
		},
	} {
		folder := t.TempDir()
		s, err := Open(folder)
		if err != nil {
			t.Fatal(err)
		}
		all := sealedAll{s, t}
		all.keep()
		former, err := os.ReadFile(filepath.Join(folder, keyFile))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.Settings.RotateKey(t.Context(), "Ines"); err != nil {
			t.Fatal(err)
		}
		if err := leave(s, folder, former); err != nil {
			t.Fatal(err)
		}
		all.opens(name + ", before")
		n, err := s.Settings.RotateKey(t.Context(), "Ines")
		if err != nil || n != 6 {
			t.Errorf("%s: %d were sealed anew, %v", name, n, err)
		}
		all.opens(name)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if all.s, err = Open(folder); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		all.opens(name + ", after a start")
		if err := all.s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
