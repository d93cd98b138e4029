package pop3

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

// put writes a message into a Maildir, as a mail server's delivery does.
func put(t *testing.T, maildir string, n int, raw []byte) {
	t.Helper()
	for _, sub := range []string{"cur", "new", "tmp"} {
		if err := os.MkdirAll(filepath.Join(maildir, sub), 0o777); err != nil {
			t.Fatal(err)
		}
	}
	if strings.Contains(maildir, "/mu") { // whose server wants the line ends of the system
		raw = bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n"))
	}
	name := filepath.Join(maildir, "new", fmt.Sprintf("%d.M%dP1.testbed", 1_770_000_000+n, n))
	if err := os.WriteFile(name, raw, 0o666); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(maildir, "/dc") { // whose mail has an owner of its own
		for _, p := range []string{filepath.Dir(maildir), maildir, maildir + "/new", maildir + "/cur", maildir + "/tmp",
			name} {
			if err := os.Chown(p, 5000, 5000); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// servers are the real ones on which everything is tried.
func servers(t *testing.T, f func(t *testing.T, good Config, maildir string)) {
	t.Run("Dovecot", func(t *testing.T) {
		d := testbed.StartDovecot(t)
		f(t, Config{Server: reach.Server{Host: d.Host, Port: d.POP3S, Encryption: reach.TLS, RootCAs: d.Roots},
			Username: "ann", Password: "pw"}, d.Maildir("ann"))
	})
	t.Run("GNU Mailutils", func(t *testing.T) {
		m := testbed.StartMailutils(t, "ann")
		f(t, Config{Server: reach.Server{Host: m.Host, Port: m.POP3, Encryption: reach.StartTLS, RootCAs: m.Roots},
			Username: "ann@box.example", Password: "pw"}, m.Maildir("ann"))
	})
}

func dial(t *testing.T, c Config) *Session {
	t.Helper()
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestConformance(t *testing.T) {
	servers(t, func(t *testing.T, c Config, maildir string) {
		c.Spool, c.Numbers = t.TempDir(), &sourcetest.Numbers{}
		n := 0
		last := uint32(0)
		sourcetest.Run(t, sourcetest.Box{
			Undated: true,
			Stamps:  strings.Contains(maildir, "/mu"),
			Session: func(t *testing.T) source.Session { return dial(t, c) },
			Deliver: func(t *testing.T, _ string, raw []byte, _ time.Time, _ ...string) uint32 {
				n++
				put(t, maildir, n, raw)
				last++ // numbered in the order in which they come
				return last
			},
		})
	})
}

func TestCheckNamesTheStepThatFails(t *testing.T) {
	servers(t, func(t *testing.T, good Config, maildir string) {
		put(t, maildir, 1, []byte("Subject: a\r\n\r\nx\r\n"))
		good.Timeout = 3 * time.Second
		change := func(f func(*Config)) Config { c := good; f(&c); return c }
		for _, c := range []struct {
			name   string
			config Config
			step   source.Step
			says   string
		}{
			{"all is well", good, "", "1 messages"},
			{"no host", change(func(c *Config) { c.Host = "" }), source.NameLookup, "no host"},
			{"nobody at the port", change(func(c *Config) { c.Port = testbed.FreePort(t) }), source.Connection,
				"no server answers"},
			{"certificate of a stranger", change(func(c *Config) { c.RootCAs = nil }), source.Encryption,
				"nobody that this machine trusts"},
			{"wrong password", change(func(c *Config) { c.Password = "wrong" }), source.SignIn, "refuses the name"},
			{"a token that is none", change(func(c *Config) { c.Token = "x" }), source.SignIn, "token"},
			{"a line end in the password", change(func(c *Config) { c.Password = "pw\r\nDELE 1" }), source.SignIn, ""},
		} {
			checks := Check(t.Context(), c.config)
			end := checks[len(checks)-1]
			if c.step == "" {
				if end = checks[len(checks)-2]; len(checks) < 5 || !end.OK || !strings.Contains(end.Detail, c.says) {
					t.Errorf("%s: %+v", c.name, checks)
				}
				continue
			}
			if end.OK || end.Step != c.step || c.name != "a token that is none" && !strings.Contains(end.Detail, c.says) ||
				end.Advice == "" {
				t.Errorf("%s: %+v", c.name, checks)
			}
		}
	})
}

func TestOnlyOneAtATimeIsInTheMailbox(t *testing.T) {
	servers(t, func(t *testing.T, c Config, maildir string) {
		put(t, maildir, 1, []byte("Subject: a\r\n\r\nx\r\n"))
		c.Spool, c.Numbers = t.TempDir(), &sourcetest.Numbers{}
		first := dial(t, c)
		if _, err := first.Open(t.Context(), "INBOX"); err != nil {
			t.Fatal(err)
		}
		short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		if s, err := Dial(short, c); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("a second session: %v, %v", s, err)
		}
		if _, err := first.Wait(t.Context(), time.Millisecond, nil); err != nil { // asks at its end
			t.Fatal(err)
		}
		woken := make(chan struct{}, 1)
		woken <- struct{}{}
		if _, err := first.Wait(t.Context(), time.Hour, woken); err != nil {
			t.Fatal(err)
		}
		second := dial(t, c)
		if state, err := second.Open(t.Context(), "INBOX"); err != nil || state.Messages != 1 {
			t.Errorf("once the first waits: %+v, %v", state, err)
		}
	})
}

func TestMessagesAreTakenOffOnlyWhenAsked(t *testing.T) {
	servers(t, func(t *testing.T, c Config, maildir string) {
		for i := range 3 {
			put(t, maildir, i, []byte(fmt.Sprintf("Subject: %d\r\n\r\n.x\r\n..y\r\n", i)))
		}
		c.Spool, c.Numbers = t.TempDir(), &sourcetest.Numbers{}
		s := dial(t, c)
		state, err := s.Open(t.Context(), "INBOX")
		if err != nil || state.Messages != 3 || state.UIDNext != 4 {
			t.Fatal(state, err)
		}
		facts, err := s.Facts(t.Context(), []uint32{1, 2, 3, 9})
		if err != nil || len(facts) != 3 {
			t.Fatal(facts, err)
		}
		r, err := s.Part(t.Context(), &facts[1], source.Whole)
		if err != nil {
			t.Fatal(err)
		}
		if data, _ := io.ReadAll(r); !strings.HasSuffix(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n\n.x\n..y\n") {
			t.Errorf("it came as %q", data)
		}
		if err := s.Tidy(t.Context(), []uint32{2}); err != nil {
			t.Fatal(err)
		}
		after := dial(t, c)
		if state, err = after.Open(t.Context(), "INBOX"); err != nil || state.Messages != 2 || state.UIDNext != 4 {
			t.Errorf("%+v, %v", state, err)
		}
		if left, _ := after.UIDs(t.Context(), source.Query{}); len(left) != 2 || left[0] != 1 || left[1] != 3 {
			t.Errorf("left: %v", left)
		}
		spooled, err := os.ReadDir(c.Spool)
		if err != nil || len(spooled) != 2 {
			t.Errorf("in the spool: %v, %v", spooled, err)
		}
	})
}

// script is a server that says what a test wants it to say.
func script(t *testing.T, answers map[string]string) Config {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				io.WriteString(c, "+OK ready\r\n")
				in := bufio.NewScanner(c)
				for in.Scan() {
					word := strings.ToUpper(strings.Fields(in.Text() + " x")[0])
					answer, known := answers[word]
					switch {
					case !known && word == "CAPA":
						answer = "+OK\r\nUSER\r\nUIDL\r\n.\r\n"
					case !known:
						answer = "+OK\r\n"
					case answer == "":
						return // cut
					}
					io.WriteString(c, answer)
				}
			}()
		}
	}()
	return Config{Server: reach.Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Encryption: reach.None},
		Username: "a", Password: "b", Timeout: time.Second, Spool: t.TempDir(), Numbers: &sourcetest.Numbers{}}
}

func TestWhatServersSayInstead(t *testing.T) {
	for name, c := range map[string]struct {
		answers map[string]string
		step    source.Step
		lasting bool
		says    string
	}{
		"somebody is in it": {map[string]string{"PASS": "-ERR [IN-USE] locked\r\n"}, source.SignIn, false, "open now"},
		"not so often": {map[string]string{"PASS": "-ERR [LOGIN-DELAY] wait\r\n"}, source.SignIn, false,
			"asks to wait"},
		"no lasting identities": {map[string]string{"UIDL": "-ERR what\r\n"}, source.Folders, true, "UIDL"},
		"cut while listing": {map[string]string{"UIDL": "+OK\r\n1 a\r\n"}, source.Connection, false,
			"the connection ended"},
		"no POP3": {map[string]string{"USER": "220 hello\r\n"}, source.SignIn, false, "not an answer of POP3"},
		"a line that never ends": {map[string]string{"UIDL": "+OK " + strings.Repeat("x", maxAnswer+100)},
			source.Connection, false, "ended"},
		"refuses the name at once": {map[string]string{"USER": "-ERR no\r\n"}, source.SignIn, true, "refuses"},
	} {
		config := script(t, c.answers)
		s, err := Dial(t.Context(), config)
		if err == nil {
			defer s.Close()
			_, err = s.Open(t.Context(), "INBOX")
		}
		var e *source.Error
		if !errors.As(err, &e) || e.Step != c.step || e.Lasting != c.lasting || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %#v", name, err)
		}
	}
}

// A message that is cut on its way is not taken for whole, and is fetched again.
func TestAMessageThatIsCutIsFetchedAgain(t *testing.T) {
	answers := map[string]string{"UIDL": "+OK\r\n1 a\r\n.\r\n", "LIST": "+OK\r\n1 100\r\n.\r\n",
		"RETR": "+OK\r\nSubject: half\r\n\r\nfirst line\r\n"}
	config := script(t, answers)
	s := dial(t, config)
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if facts, err := s.Facts(t.Context(), []uint32{1}); err == nil {
		t.Fatalf("half a message counts as whole: %+v", facts)
	}
	if left, _ := os.ReadDir(config.Spool); len(left) > 0 {
		t.Errorf("in the spool: %v", left)
	}
	answers["RETR"] = "+OK\r\nSubject: whole\r\n\r\nfirst line\r\n.\r\n"
	facts, err := s.Facts(t.Context(), []uint32{1})
	if err != nil || len(facts) != 1 || facts[0].Message("INBOX").Envelope.Subject != "whole" {
		t.Errorf("%+v, %v", facts, err)
	}
}

// Where TOP gives whole messages, reading leaves them unread; where it does not, RETR is used.
func TestReadingByPOP3LeavesMessagesUnreadWhereTheServerLetsIt(t *testing.T) {
	servers(t, func(t *testing.T, c Config, maildir string) {
		content := strings.Repeat(".a line that begins with a dot\r\n", 200)
		put(t, maildir, 1, []byte("Subject: a\r\nFrom: oda@tidewatch.example\r\n\r\n"+content))
		c.Spool, c.Numbers = t.TempDir(), &sourcetest.Numbers{}
		checks := Check(t.Context(), c)
		byTop := strings.Contains(checks[len(checks)-2].Detail, "leaves them unread")
		if !byTop && !strings.Contains(checks[len(checks)-2].Detail, "mark as read") {
			t.Errorf("the check does not say how messages are read: %+v", checks)
		}
		s := dial(t, c)
		if _, err := s.Open(t.Context(), "INBOX"); err != nil {
			t.Fatal(err)
		}
		facts, err := s.Facts(t.Context(), []uint32{1})
		if err != nil || len(facts) != 1 {
			t.Fatal(facts, err)
		}
		spooled, err := filepath.Glob(filepath.Join(c.Spool, "*"))
		if err != nil || len(spooled) != 1 {
			t.Fatal(spooled, err)
		}
		if data, err := os.ReadFile(spooled[0]); err != nil || !strings.HasSuffix(string(data), "\r\n\r\n"+content) {
			t.Errorf("%d bytes were read, %v", len(data), err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		seen, err := filepath.Glob(filepath.Join(maildir, "cur", "*:2,*S*"))
		if byTop && (len(seen) > 0 || err != nil) {
			t.Errorf("reading marked the message as read: %v, %v", seen, err)
		}
		t.Logf("by TOP: %v; marked as read: %d", byTop, len(seen))
	})
	answers := map[string]string{"CAPA": "+OK\r\nTOP\r\nUSER\r\nUIDL\r\n.\r\n", "UIDL": "+OK\r\n1 a\r\n.\r\n",
		"LIST": "+OK\r\n1 30\r\n.\r\n",
		"TOP":  "+OK\r\nSubject: whole\r\n\r\n.\r\n", "RETR": "+OK\r\nSubject: whole\r\n\r\nfirst line\r\n.\r\n"}
	config := script(t, answers)
	if checks := Check(t.Context(), config); !strings.Contains(checks[len(checks)-2].Detail,
		"TOP does not give whole messages here") {
		t.Errorf("a TOP that cuts: %+v", checks)
	}
	s := dial(t, config)
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), []uint32{1})
	if err != nil || facts[0].Size != 30 {
		t.Errorf("where TOP cuts: %+v, %v", facts, err)
	}
}
