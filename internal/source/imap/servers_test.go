package imap

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/core/mail"
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

// A server that is not Dovecot, and that knows little beside IMAP4rev1: no MOVE, no
// UIDPLUS, no CONDSTORE, no labels of one's own, one folder.
func TestConformanceWithAPlainServer(t *testing.T) {
	m := testbed.StartMailutils(t, "ann")
	config := Config{Server: reach.Server{Host: m.Host, Port: m.IMAP, Encryption: reach.StartTLS, RootCAs: m.Roots},
		Username: "ann@box.example", Password: "pw"}
	checks := Check(t.Context(), config)
	if end := checks[len(checks)-1]; !end.OK {
		t.Fatalf("%+v", checks)
	}
	s := dialed(t, config)
	if s.client.Caps().Has(imaplib.CapMove) || s.client.Caps().Has(imaplib.CapUIDPlus) ||
		s.client.Caps().Has(imaplib.CapCondStore) {
		t.Fatalf("this server can more than was thought: %v", s.client.Caps())
	}
	// It numbers the mailbox anew with the first message that comes into it.
	if _, err := s.Open(t.Context(), "INBOX"); err != nil { // which makes it
		t.Fatal(err)
	}
	if err := dialed(t, config).Append(t.Context(), "INBOX", []byte(sourcetest.Messages()["plain text"]),
		nil); err != nil {
		t.Fatal(err)
	}
	if _, err := dialed(t, config).Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	for i, name := range []string{"one attachment", "several", "encoded names", "forwarded message"} {
		raw := sourcetest.Messages()[name]
		before, err := s.Open(t.Context(), "INBOX")
		if err != nil {
			t.Fatal(err)
		}
		if err := dialed(t, config).Append(t.Context(), "INBOX", []byte(raw), nil); err != nil {
			t.Fatal(err)
		}
		state, err := s.Open(t.Context(), "INBOX")
		if err != nil || int(state.Messages) != i+2 || state.UIDNext <= before.UIDNext ||
			state.UIDValidity != before.UIDValidity {
			t.Fatalf("before %+v, after %+v, %v", before, state, err)
		}
		uids, err := s.UIDs(t.Context(), source.Query{From: before.UIDNext})
		if err != nil || len(uids) != 1 {
			all, _ := s.UIDs(t.Context(), source.Query{})
			t.Fatalf("%s: new: %v, %v; all %v, before %+v, after %+v", name, uids, err, all, before, state)
		}
		facts, err := s.Facts(t.Context(), uids)
		if err != nil || len(facts) != 1 {
			t.Fatalf("%s: %+v, %v", name, facts, err)
		}
		want, got := mail.Parse([]byte(raw)), facts[0].Message("INBOX")
		if len(got.Items()) != len(want.Message.Items()) || got.Envelope.Subject != want.Message.Envelope.Subject {
			t.Errorf("%s: %+v, want %+v", name, got.Items(), want.Message.Items())
		}
		for k, item := range got.Items() {
			if other := want.Message.Items()[k]; item.Name != other.Name || item.ID != other.ID {
				t.Errorf("%s: %s %q, want %s %q", name, item.ID, item.Name, other.ID, other.Name)
			}
			r, err := s.Part(t.Context(), &facts[0], item.ID)
			if err != nil {
				t.Fatal(err)
			}
			data, err := io.ReadAll(r)
			if closeErr := r.Close(); err != nil || closeErr != nil {
				t.Errorf("%s: part %s: %v, %v", name, item.ID, err, closeErr)
			}
			direct, err := want.Open(item.ID)
			if err != nil {
				t.Fatal(err)
			}
			expected, _ := io.ReadAll(direct)
			if !bytes.Equal(bytes.TrimSpace(data), bytes.TrimSpace(expected)) {
				t.Errorf("%s: part %s has %d octets, want %d", name, item.ID, len(data), len(expected))
			}
		}
		for _, f := range facts[0].Flags {
			if strings.EqualFold(f, `\Seen`) {
				t.Errorf("%s became read", name)
			}
		}
	}
	if _, err := s.Write(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if flags, err := s.Mark(t.Context(), 1, []string{`\Seen`}, nil); err != nil || !slices.Contains(flags, `\Seen`) {
		t.Errorf("marked: %v, %v", flags, err)
	}
	if _, err := s.Mark(t.Context(), 1, []string{"Filed"}, nil); !errors.Is(err, source.ErrNoLabels) {
		t.Errorf("a label: %v", err)
	}
}

func TestFoldersOfOtherUsers(t *testing.T) {
	d := testbed.StartDovecot(t)
	othersFolders(t, d.Client("bob"), Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS,
		RootCAs: d.Roots}, Username: "ann", Password: "pw"})
}

func TestFoldersOfOtherUsersAtCyrus(t *testing.T) {
	c := testbed.StartCyrus(t, "ann", "bob")
	config := Config{Server: reach.Server{Host: c.Host, Port: c.IMAPS, Encryption: reach.TLS, RootCAs: c.Roots},
		Username: "ann", Password: "pw"}
	othersFolders(t, c.Client("bob"), config)
	folders, err := dialed(t, config).Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	roles := map[string]string{}
	for _, f := range folders {
		roles[f.Path] = f.Role
	}
	if roles["Drafts"] != "drafts" || roles["Archive"] != "archive" || roles["INBOX"] != "inbox" {
		t.Errorf("roles %v", roles)
	}
}

// othersFolders looks into what bob lets another user read.
func othersFolders(t *testing.T, bob *imapclient.Client, config Config) {
	t.Helper()
	testbed.MakeFolders(t, bob, "Pilots", "Private", "Drafts/Old")
	if err := bob.SetACL("Pilots", imaplib.RightsIdentifier("ann"), imaplib.RightModificationReplace,
		imaplib.RightSet("lrs")).Wait(); err != nil {
		t.Fatal(err)
	}
	testbed.Append(t, bob, "Pilots", []byte("Subject: of bob\r\n\r\nx"), time.Now())
	s := dialed(t, config)
	folders, err := s.Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(folders, func(f source.Folder) bool { return f.Path == "Other Users/bob/Pilots" })
	if at < 0 || !folders[at].Shared || !folders[at].Selectable {
		t.Fatalf("folders %+v", folders)
	}
	for _, f := range folders {
		if strings.Contains(f.Path, "Private") || f.Shared && f.Role != "" {
			t.Errorf("%+v", f)
		}
	}
	state, err := s.Open(t.Context(), "Other Users/bob/Pilots")
	if err != nil || state.Messages != 1 {
		t.Errorf("%+v, %v", state, err)
	}
	states, err := s.Glance(t.Context(), []string{"INBOX", "Other Users/bob/Pilots", "Nowhere"})
	if err != nil || len(states) != 2 || states["Other Users/bob/Pilots"].UIDNext != state.UIDNext ||
		states["Other Users/bob/Pilots"].UIDValidity != state.UIDValidity {
		t.Errorf("at a glance: %+v, %v", states, err)
	}
	var refused *source.Error
	if _, err := s.Write(t.Context(), "Other Users/bob/Pilots"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Move(t.Context(), 1, "INBOX"); !errors.As(err, &refused) || refused.Step != source.Folders {
		t.Errorf("moving without the right to: %v", err)
	}
}

func TestACertificateMayBePinnedOrItsAuthorityGiven(t *testing.T) {
	d := testbed.StartDovecot(t)
	config := Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS}, Username: "ann",
		Password: "pw"}
	checks := Check(t.Context(), config)
	end := checks[len(checks)-1]
	if end.OK || end.Step != source.Encryption {
		t.Fatalf("%+v", checks)
	}
	at := strings.LastIndex(end.Advice, ": ")
	fingerprint := end.Advice[at+2:]
	if len(fingerprint) != 64 {
		t.Fatalf("the advice gives no fingerprint: %s", end.Advice)
	}
	config.Pinned = strings.ToUpper(fingerprint[:2]) + ":" + fingerprint[2:]
	dialed(t, config)
	config.Pinned = strings.Repeat("ab", 32)
	var e *source.Error
	if _, err := Dial(t.Context(), config); !errors.As(err, &e) || !e.Lasting ||
		!strings.Contains(e.Problem, "not the one that is pinned: its fingerprint is "+fingerprint) {
		t.Errorf("another certificate: %v", err)
	}
	config.Pinned, config.Authority = "", string(d.Authority)
	dialed(t, config)
	config.Authority = "nothing"
	if _, err := Dial(t.Context(), config); !errors.As(err, &e) || !strings.Contains(e.Problem, "cannot be read") {
		t.Errorf("an authority that is none: %v", err)
	}
	config.Authority, config.Encryption, config.Port, config.Pinned = "", reach.StartTLS, d.IMAP, fingerprint
	dialed(t, config)
}

func TestThroughAProxy(t *testing.T) {
	d := testbed.StartDovecot(t)
	for _, kind := range []string{"socks5", "http"} {
		asked, address := testbed.StartProxy(t, kind, "ann", "secret")
		config := Config{
			Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots, Proxy: kind +
				"://ann:secret@" + address}, Username: "ann", Password: "pw"}
		checks := Check(t.Context(), config)
		if end := checks[len(checks)-1]; !end.OK || !strings.Contains(checks[0].Detail, "through the proxy "+address) ||
			asked() == 0 {
			t.Errorf("%s: %+v, asked %d times", kind, checks, asked())
		}
		for name, change := range map[string]func(*Config){
			"a wrong password":    func(c *Config) { c.Proxy = kind + "://ann:wrong@" + address },
			"nobody at its port":  func(c *Config) { c.Proxy = kind + "://127.0.0.1:1" },
			"nobody at the other": func(c *Config) { c.Port = testbed.FreePort(t) },
		} {
			bad := config
			change(&bad)
			var e *source.Error
			if _, err := Dial(t.Context(), bad); !errors.As(err, &e) || e.Step != source.Connection ||
				!strings.Contains(e.Problem, "the proxy") {
				t.Errorf("%s, %s: %v", kind, name, err)
			}
		}
	}
}

// Tokens are taken by OAUTHBEARER and by XOAUTH2, and a bad one is told as such.
func TestTokens(t *testing.T) {
	d := testbed.StartDovecot(t)
	introspection := testbed.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.FormValue("token") != "good" {
			w.Write([]byte(`{"active":false}`))
			return
		}
		w.Write([]byte(`{"active":true,"username":"ann"}`))
	}))
	d.Trust(introspection + "/")
	config := Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
		Username: "ann", Token: "good"}
	dialed(t, config)
	bad := config
	bad.Token = "bad"
	for _, mechanisms := range []string{"", "plain xoauth2", "plain"} {
		if mechanisms != "" {
			d.Mechanisms(mechanisms)
		}
		var e *source.Error
		if mechanisms == "plain" {
			if _, err := Dial(t.Context(), config); !errors.As(err, &e) || !strings.Contains(e.Problem, "takes no tokens") {
				t.Errorf("with no mechanism for tokens: %v", err)
			}
			continue
		}
		dialed(t, config)
		if _, err := Dial(t.Context(), bad); !errors.Is(err, reach.ErrToken) || !errors.As(err, &e) || !e.Lasting {
			t.Errorf("a bad token, with %q: %v", mechanisms, err)
		}
	}
}
