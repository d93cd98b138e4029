package jmap

import (
	"bytes"
	"slices"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

func dialed(t *testing.T, c Config) *Session {
	t.Helper()
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func configOf(c *testbed.Cyrus, user string) Config {
	return Config{Server: reach.Server{Host: c.Host, Port: c.HTTP, Encryption: reach.None}, Username: user, Password: "pw",
		Numbers: &sourcetest.Numbers{}}
}

// Everything that is promised of a mailbox holds over JMAP, against a server whose mail is put in over IMAP.
func TestConformanceWithCyrus(t *testing.T) {
	c := testbed.StartCyrus(t, "ann", "bob")
	config := configOf(c, "ann")
	outside := c.Client("ann")
	checks := Check(t.Context(), config)
	if len(checks) != 6 || !checks[5].OK {
		t.Fatalf("%+v", checks)
	}
	other := dialed(t, config)
	given := map[string]uint32{} // the server keeps two messages with the same octets as one
	uidOf := func(t *testing.T, folder string) []uint32 {
		t.Helper()
		if _, err := other.Open(t.Context(), folder); err != nil {
			t.Fatal(err)
		}
		uids, err := other.UIDs(t.Context(), source.Query{})
		if err != nil {
			t.Fatal(err)
		}
		return uids
	}
	// inIMAP finds a message over IMAP by the octets it has.
	inIMAP := func(t *testing.T, folder string, uid uint32) imaplib.UIDSet {
		t.Helper()
		uidOf(t, folder)
		r, err := other.Part(t.Context(), &source.Facts{UID: uid, Whole: true}, source.Whole)
		if err != nil {
			t.Fatal(err)
		}
		want := new(bytes.Buffer)
		if _, err := want.ReadFrom(r); err != nil {
			t.Fatal(err)
		}
		r.Close()
		if _, err := outside.Select(folder, nil).Wait(); err != nil {
			t.Fatal(err)
		}
		all, err := outside.Fetch(imaplib.SeqSet{imaplib.SeqRange{Start: 1, Stop: 0}}, &imaplib.FetchOptions{UID: true,
			BodySection: []*imaplib.FetchItemBodySection{{Peek: true}}}).Collect()
		if err != nil {
			t.Fatal(err)
		}
		var set imaplib.UIDSet
		for _, m := range all {
			if bytes.Equal(m.BodySection[0].Bytes, want.Bytes()) {
				set.AddNum(m.UID)
			}
		}
		if len(set) == 0 {
			t.Fatalf("message %d is not found over IMAP", uid)
		}
		return set
	}
	sourcetest.Run(t, sourcetest.Box{
		Session: func(t *testing.T) source.Session { return dialed(t, config) },
		Deliver: func(t *testing.T, folder string, raw []byte, received time.Time, flags ...string) uint32 {
			t.Helper()
			before := uidOf(t, folder)
			var own []imaplib.Flag
			for _, f := range flags {
				own = append(own, imaplib.Flag(f))
			}
			testbed.Append(t, outside, folder, raw, received, own...)
			for _, uid := range uidOf(t, folder) {
				if !slices.Contains(before, uid) {
					given[string(raw)] = uid
				}
			}
			if given[string(raw)] == 0 {
				t.Fatal("the message did not come")
			}
			return given[string(raw)]
		},
		Label: func(t *testing.T, folder string, uid uint32, label string) {
			t.Helper()
			err := outside.Store(inIMAP(t, folder, uid), &imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd,
				Flags: []imaplib.Flag{imaplib.Flag(label)}}, nil).Close()
			if err != nil {
				t.Fatal(err)
			}
		},
		Delete: func(t *testing.T, folder string, uid uint32) {
			t.Helper()
			set := inIMAP(t, folder, uid)
			if err := outside.Store(set, &imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd,
				Flags: []imaplib.Flag{imaplib.FlagDeleted}}, nil).Close(); err != nil {
				t.Fatal(err)
			}
			if err := outside.UIDExpunge(set).Close(); err != nil {
				t.Fatal(err)
			}
		},
		Flags: func(t *testing.T, folder string, uid uint32) []string {
			t.Helper()
			set := inIMAP(t, folder, uid)
			all, err := outside.Fetch(set, &imaplib.FetchOptions{Flags: true}).Collect()
			if err != nil {
				t.Fatal(err)
			}
			var found []string
			for _, f := range all[0].Flags {
				found = append(found, string(f))
			}
			return found
		},
	})
}

// What another user lets one read stands at the same place as over IMAP.
func TestFoldersOfOthers(t *testing.T) {
	c := testbed.StartCyrus(t, "ann", "bob")
	c.Client("ann") // whose mailbox this makes
	bob := c.Client("bob")
	testbed.MakeFolders(t, bob, "Pilots", "Private")
	if err := bob.SetACL("Pilots", imaplib.RightsIdentifier("ann"), imaplib.RightModificationReplace,
		imaplib.RightSet("lrs")).Wait(); err != nil {
		t.Fatal(err)
	}
	testbed.Append(t, bob, "Pilots", []byte(sourcetest.Messages()["one attachment"]), time.Now())
	s := dialed(t, configOf(c, "ann"))
	folders, err := s.Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	const path = "Other Users/bob/Pilots"
	at := slices.IndexFunc(folders, func(f source.Folder) bool { return f.Path == path })
	if at < 0 || !folders[at].Shared || !folders[at].Selectable {
		t.Fatalf("folders: %+v", folders)
	}
	state, err := s.Open(t.Context(), path)
	if err != nil || state.Messages != 1 {
		t.Fatalf("%+v, %v", state, err)
	}
	states, err := s.Glance(t.Context(), []string{"INBOX", path, "Nowhere"})
	if err != nil || len(states) != 2 || states[path] != state {
		t.Errorf("%+v, %v", states, err)
	}
	uids, err := s.UIDs(t.Context(), source.Query{})
	if err != nil || len(uids) != 1 {
		t.Fatalf("%v, %v", uids, err)
	}
	facts, err := s.Facts(t.Context(), uids)
	if err != nil || len(facts) != 1 {
		t.Fatalf("%v, %v", facts, err)
	}
	if _, err := s.Mark(t.Context(), uids[0], []string{"Filed"}, nil); err == nil {
		t.Error("a folder that may only be read was changed")
	}
}
