package imap

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

func TestConformance(t *testing.T) {
	d := testbed.StartDovecot(t)
	conforms(t, d.Client("ann"), Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS,
		RootCAs: d.Roots}, Username: "ann", Password: "pw"})
}

func TestConformanceWithCyrus(t *testing.T) {
	c := testbed.StartCyrus(t, "ann")
	conforms(t, c.Client("ann"), Config{Server: reach.Server{Host: c.Host, Port: c.IMAP, Encryption: reach.StartTLS,
		RootCAs: c.Roots}, Username: "ann", Password: "pw", Compress: true})
}

// conforms runs the suite for all sources against a server; c puts messages in and moves them about.
func conforms(t *testing.T, c *imapclient.Client, config Config) {
	pick := func(t *testing.T, folder string) {
		t.Helper()
		if _, err := c.Select(folder, nil).Wait(); err != nil {
			t.Fatal(err)
		}
	}
	sourcetest.Run(t, sourcetest.Box{
		Session: func(t *testing.T) source.Session {
			t.Helper()
			s, err := Dial(t.Context(), config)
			if err != nil {
				t.Fatal(err)
			}
			return s
		},
		Deliver: func(t *testing.T, folder string, raw []byte, received time.Time, flags ...string) uint32 {
			var list []imaplib.Flag
			for _, f := range flags {
				list = append(list, imaplib.Flag(f))
			}
			return testbed.Append(t, c, folder, raw, received, list...)
		},
		Label: func(t *testing.T, folder string, uid uint32, label string) {
			pick(t, folder)
			if err := c.Store(imaplib.UIDSetNum(imaplib.UID(uid)),
				&imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Flags: []imaplib.Flag{imaplib.Flag(label)}},
				nil).Close(); err != nil {
				t.Fatal(err)
			}
		},
		Delete: func(t *testing.T, folder string, uid uint32) {
			pick(t, folder)
			set := imaplib.UIDSetNum(imaplib.UID(uid))
			if err := c.Store(set, &imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Flags: []imaplib.Flag{imaplib.FlagDeleted}},
				nil).Close(); err != nil {
				t.Fatal(err)
			}
			if err := c.UIDExpunge(set).Close(); err != nil {
				t.Fatal(err)
			}
		},
		Flags: func(t *testing.T, folder string, uid uint32) []string {
			pick(t, folder)
			got, err := c.Fetch(imaplib.UIDSetNum(imaplib.UID(uid)), &imaplib.FetchOptions{Flags: true}).Collect()
			if err != nil || len(got) != 1 {
				t.Fatal(got, err)
			}
			var flags []string
			for _, f := range got[0].Flags {
				flags = append(flags, string(f))
			}
			return flags
		},
	})
}

func TestCheckNamesTheStepThatFails(t *testing.T) {
	d := testbed.StartDovecot(t)
	good := Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
		Username: "ann", Password: "pw", Timeout: 3 * time.Second}
	change := func(f func(*Config)) Config { c := good; f(&c); return c }
	for _, c := range []struct {
		name   string
		config Config
		step   source.Step // that fails; "" for none
		says   string
	}{
		{"tls", good, "", ""},
		{"starttls", change(func(c *Config) { c.Port, c.Encryption = d.IMAP, reach.StartTLS }), "", ""},
		{"none, asked for by name", change(func(c *Config) { c.Port, c.Encryption = d.IMAP, reach.None }), "", ""},
		{"no host", change(func(c *Config) { c.Host = "" }), source.NameLookup, "no host"},
		{"unknown host", change(func(c *Config) { c.Host = "imap.nowhere.invalid" }), source.NameLookup, "not found"},
		{"nobody at the port", change(func(c *Config) { c.Port = testbed.FreePort(t) }), source.Connection,
			"no server answers"},
		{"certificate of a stranger", change(func(c *Config) { c.RootCAs = nil }), source.Encryption,
			"nobody that this machine trusts"},
		{"certificate for another name", change(func(c *Config) { c.Host = "127.0.0.1" }), source.Encryption, "another name"},
		{"tls on the plain port", change(func(c *Config) { c.Port = d.IMAP }), source.Encryption, ""},
		{"wrong password", change(func(c *Config) { c.Password = "wrong" }), source.SignIn,
			`refuses the name "ann" or its password`},
		{"unknown encryption", change(func(c *Config) { c.Encryption = "ssl" }), source.Encryption, "not known"},
	} {
		t.Run(c.name, func(t *testing.T) {
			checks := Check(t.Context(), c.config)
			last := checks[len(checks)-1]
			if c.step == "" {
				if !last.OK || last.Step != source.Push || len(checks) != 6 {
					t.Fatalf("checks: %+v", checks)
				}
				return
			}
			if last.OK || last.Step != c.step || !strings.Contains(last.Detail, c.says) || last.Advice == "" {
				t.Errorf("last check: %+v, want %s to fail: ...%s...", last, c.step, c.says)
			}
		})
	}
}

// script is a server that says what it is told, for what real servers do rarely.
func script(t *testing.T, answer func(tag, command string) string) Config {
	t.Helper()
	blamed.Clear() // the port of an earlier server can come again
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				fmt.Fprint(conn, "* OK [CAPABILITY IMAP4rev1] ready\r\n")
				buf := make([]byte, 64<<10)
				pending := ""
				for {
					n, err := conn.Read(buf)
					if err != nil {
						return
					}
					pending += string(buf[:n])
					for {
						line, rest, ok := strings.Cut(pending, "\r\n")
						if !ok {
							break
						}
						pending = rest
						tag, command, _ := strings.Cut(line, " ")
						out := answer(tag, command)
						if out == "cut" {
							return
						}
						if out == "" {
							continue
						}
						if body, cut := strings.CutSuffix(out, "CUT"); cut {
							fmt.Fprint(conn, body)
							return
						}
						fmt.Fprint(conn, out)
					}
				}
			}()
		}
	}()
	return Config{Server: reach.Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Encryption: reach.None},
		Username: "a", Password: "b", Timeout: 2 * time.Second}
}

// usual answers what every session asks first.
func usual(tag, command string) (string, bool) {
	switch {
	case strings.HasPrefix(command, "LOGIN"):
		return tag + " OK done\r\n", true
	case strings.HasPrefix(command, "CAPABILITY"):
		return "* CAPABILITY IMAP4rev1\r\n" + tag + " OK done\r\n", true
	case strings.HasPrefix(command, "EXAMINE"):
		return "* 2 EXISTS\r\n* OK [UIDVALIDITY 7] x\r\n* OK [UIDNEXT 3] x\r\n" + tag + " OK [READ-ONLY] done\r\n", true
	}
	return "", false
}

func TestAnUnreadableAccountIsReadWhole(t *testing.T) {
	raw := "From: oda@tidewatch.example\r\nSubject: odd\r\nContent-Type: application/pdf; name=a.pdf\r\n\r\n%PDF"
	deep := strings.Repeat("(", 50_000)
	for name, structure := range map[string]string{"nonsense": `BODYSTRUCTURE ("text" oops`,
		"a bomb of parentheses": "BODYSTRUCTURE " + deep} {
		t.Run(name, func(t *testing.T) {
			c := script(t, func(tag, command string) string {
				if out, ok := usual(tag, command); ok {
					return out
				}
				switch {
				case strings.Contains(command, "BODYSTRUCTURE") && strings.Contains(command, "FETCH 1 "):
					header := "Subject: fine\r\n\r\n"
					return fmt.Sprintf("* 1 FETCH (UID 1 FLAGS () INTERNALDATE \"12-May-2026 06:02:00 +0000\" RFC822.SIZE 20 "+
						"BODYSTRUCTURE (\"text\" \"plain\" NIL NIL NIL \"7bit\" 1 1) BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s)\r\n%s OK "+
						"done\r\n", len(header), header, tag)
				case strings.Contains(command, "BODYSTRUCTURE"):
					return "* 2 FETCH (UID 2 " + structure + ")\r\n" + tag + " OK done\r\n"
				case strings.Contains(command, "BODY.PEEK[]"):
					return fmt.Sprintf("* 2 FETCH (UID 2 FLAGS () BODY[] {%d}\r\n%s)\r\n%s OK done\r\n", len(raw), raw, tag)
				}
				return tag + " BAD unexpected\r\n"
			})
			s, err := Dial(t.Context(), c)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			if _, err := s.Open(t.Context(), "INBOX"); err != nil {
				t.Fatal(err)
			}
			facts, err := s.Facts(t.Context(), []uint32{1, 2})
			if err != nil || len(facts) != 2 {
				t.Fatalf("%d facts, %v", len(facts), err)
			}
			if items := facts[1].Message("INBOX").Items(); !facts[1].Whole || len(items) != 1 || items[0].Name != "a.pdf" {
				t.Errorf("facts %+v", facts[1])
			}
		})
	}
}

func TestACutLiteralIsNotTakenForTheWhole(t *testing.T) {
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		return "* 1 FETCH (UID 1 BODY[1] {100}\r\nhalf of itCUT"
	})
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	r, err := s.Part(t.Context(), &source.Facts{UID: 1}, "1")
	if err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 200)
	for err == nil {
		_, err = r.Read(buf)
	}
	if err.Error() == "EOF" {
		t.Error("the stream ended as if it were whole")
	}
	if err := r.Close(); err == nil {
		t.Error("closing says that all is well")
	}
	if _, err := s.UIDs(t.Context(), source.Query{}); err == nil {
		t.Error("the session goes on after its connection was cut")
	}
}

func TestASilentServerIsGivenUp(t *testing.T) {
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		return ""
	})
	c.Timeout = 300 * time.Millisecond
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	_, err = s.UIDs(ctx, source.Query{})
	var e *source.Error
	if !errors.As(err, &e) || ctx.Err() != nil {
		t.Errorf("got %v", err)
	}
}

func TestGuardSeparatesLiteralsFromLines(t *testing.T) {
	for name, c := range map[string]struct {
		in   string
		want error
	}{
		"parentheses in a literal":       {"* 1 FETCH (BODY[] {300}\r\n" + strings.Repeat("(", 300) + ")\r\n", nil},
		"parentheses in quotes":          {`* 1 FETCH ("` + strings.Repeat("(", 300) + "\")\r\n", nil},
		"an escaped quote":               {`* 1 FETCH ("\"` + strings.Repeat("(", 300) + "\")\r\n", nil},
		"too deep":                       {"* 1 FETCH " + strings.Repeat("(", 101), errHostile},
		"too deep after a literal":       {"* 1 FETCH (X {3}\r\nabc" + strings.Repeat("(", 101), errHostile},
		"lines begin at no depth":        {strings.Repeat("* 1 FETCH (((((((\r\n", 50), nil},
		"a literal that is not a number": {"* 1 FETCH {x}\r\n" + strings.Repeat("(", 101), errHostile},
	} {
		for _, step := range []int{1, 7, 4096} {
			g := &guard{number: -1}
			var err error
			for i := 0; i < len(c.in) && err == nil; i += step {
				err = g.scan([]byte(c.in[i:min(i+step, len(c.in))]))
			}
			if !errors.Is(err, c.want) {
				t.Errorf("%s in steps of %d: %v, want %v", name, step, err, c.want)
			}
		}
	}
}

func TestAMessageWithoutAnAnswerIsAskedForAgain(t *testing.T) {
	asked := 0
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		header := "Subject: late\r\n\r\n"
		answer := fmt.Sprintf("* 2 FETCH (UID 2 FLAGS () INTERNALDATE \"12-May-2026 06:02:00 +0000\" RFC822.SIZE 20 "+
			"BODYSTRUCTURE (\"text\" \"plain\" NIL NIL NIL \"7bit\" 1 1) BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s)\r\n",
			len(header), header)
		switch {
		case strings.Contains(command, "SEARCH") && strings.Contains(command, "3"):
			return "* SEARCH\r\n" + tag + " OK done\r\n" // gone meanwhile
		case strings.Contains(command, "SEARCH"):
			return "* SEARCH 2\r\n" + tag + " OK done\r\n"
		case strings.Contains(command, "FETCH"):
			if asked++; asked == 1 { // only somebody else's change of flags
				return "* 2 FETCH (UID 2 FLAGS (\\Seen))\r\n" + tag + " OK done\r\n"
			}
			return answer + tag + " OK done\r\n"
		case strings.Contains(command, "NOOP"):
			return tag + " OK done\r\n"
		}
		return tag + " BAD unexpected\r\n"
	})
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), []uint32{2, 3})
	if err != nil || len(facts) != 1 || facts[0].UID != 2 || facts[0].Header.Get("Subject") != "late" {
		t.Errorf("%+v, %v", facts, err)
	}
}

func TestFoldersOfAnotherSeparatorAndScript(t *testing.T) {
	d := testbed.StartDovecotWith(t, ".")
	c := d.Client("ann")
	testbed.MakeFolders(t, c, "Hafen.Pegelstände", "Плавание")
	testbed.Append(t, c, "Hafen.Pegelstände", []byte("Subject: level\r\n\r\nx"), time.Now())
	s, err := Dial(t.Context(),
		Config{Server: reach.Server{Host: d.Host, Port: d.IMAP, Encryption: reach.StartTLS, RootCAs: d.Roots},
			Username: "ann", Password: "pw"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	folders, err := s.Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	roles := map[string]string{}
	for _, f := range folders {
		roles[f.Path] = f.Role
	}
	for path, role := range map[string]string{"INBOX": "inbox", "Drafts": "drafts", "Archive": "archive",
		"Hafen/Pegelstände": "", "Плавание": ""} {
		if got, ok := roles[path]; !ok || got != role {
			t.Errorf("%s has the role %q (there: %v), want %q", path, got, ok, role)
		}
	}
	state, err := s.Open(t.Context(), "Hafen/Pegelstände")
	if err != nil || state.Messages != 1 {
		t.Errorf("%+v, %v", state, err)
	}
}

func TestAServerWithoutIdleIsAskedAtTheInterval(t *testing.T) {
	asked := 0
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		if strings.HasPrefix(command, "NOOP") {
			asked++
			return "* 3 EXISTS\r\n" + tag + " OK done\r\n"
		}
		return tag + " BAD unexpected\r\n"
	})
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if s.Pushes() {
		t.Error("the server is thought to announce")
	}
	if e, err := s.Wait(t.Context(), 20*time.Millisecond, nil); err != nil || !e.Arrived || asked != 1 {
		t.Errorf("%+v, %v, asked %d times", e, err, asked)
	}
	wake := make(chan struct{}, 1)
	wake <- struct{}{}
	if _, err := s.Wait(t.Context(), time.Hour, wake); err != nil || asked != 2 {
		t.Errorf("woken: %v, asked %d times", err, asked)
	}
}

func TestAFolderWithoutUIDNextIsCounted(t *testing.T) {
	c := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "EXAMINE"):
			return "* 2 EXISTS\r\n* OK [UIDVALIDITY 7] x\r\n" + tag + " OK [READ-ONLY] done\r\n"
		case strings.Contains(command, "SEARCH"):
			return "* SEARCH 4 9\r\n" + tag + " OK done\r\n"
		}
		out, _ := usual(tag, command)
		return out
	})
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if state, err := s.Open(t.Context(), "INBOX"); err != nil || state.UIDNext != 10 || state.UIDValidity != 7 {
		t.Errorf("%+v, %v", state, err)
	}
}

func TestARefusalIsToldAsTheServerSaysIt(t *testing.T) {
	c := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "EXAMINE"):
			return tag + " NO [NOPERM] the office is closed\r\n"
		}
		out, _ := usual(tag, command)
		return out
	})
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	_, err = s.Open(t.Context(), "INBOX")
	var e *source.Error
	if !errors.As(err, &e) || e.Step != source.Folders || !strings.Contains(e.Problem, "the office is closed") {
		t.Errorf("got %v", err)
	}
}

func TestAServerThatHangsUpOrSpeaksAnotherLanguageIsToldAsSuch(t *testing.T) {
	for name, greeting := range map[string]string{"it hangs up": "",
		"it speaks another language": "220 mail.brackwater.example ESMTP\r\n",
		"it says goodbye":            "* BYE too many connections\r\n"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			if conn, err := l.Accept(); err == nil {
				fmt.Fprint(conn, greeting)
				conn.Close()
			}
		}()
		_, err = Dial(t.Context(),
			Config{Server: reach.Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Encryption: reach.None},
				Username: "a", Password: "b", Timeout: 2 * time.Second})
		l.Close()
		var e *source.Error
		if !errors.As(err, &e) || e.Step != source.Connection && e.Step != source.SignIn || e.Lasting {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A server that keeps no labels of a person's own choice, and one that takes
// them and forgets them.
func TestAServerWithoutLabelsIsTold(t *testing.T) {
	for name, permanent := range map[string]string{"says so": `(\Seen \Flagged)`, "forgets them": `(\Seen \*)`} {
		t.Run(name, func(t *testing.T) {
			c := script(t, func(tag, command string) string {
				if out, ok := usual(tag, command); ok {
					return out
				}
				switch {
				case strings.HasPrefix(command, "SELECT"):
					return "* 1 EXISTS\r\n* OK [UIDVALIDITY 7] x\r\n* OK [UIDNEXT 2] x\r\n* OK [PERMANENTFLAGS " + permanent +
						"] x\r\n" + tag + " OK [READ-WRITE] done\r\n"
				case strings.Contains(command, "STORE"):
					return tag + " OK done\r\n"
				case strings.Contains(command, "FETCH"):
					return "* 1 FETCH (UID 1 FLAGS (\\Seen))\r\n" + tag + " OK done\r\n"
				}
				return tag + " BAD unexpected\r\n"
			})
			s, err := Dial(t.Context(), c)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			if _, err := s.Write(t.Context(), "INBOX"); err != nil {
				t.Fatal(err)
			}
			if _, err := s.Mark(t.Context(), 1, []string{"Filed"}, nil); !errors.Is(err, source.ErrNoLabels) {
				t.Errorf("a label: %v", err)
			}
			if flags, err := s.Mark(t.Context(), 1, []string{`\Seen`}, nil); err != nil || len(flags) != 1 {
				t.Errorf("a mark: %v, %v", flags, err)
			}
		})
	}
}

// Of a message that another session took away, servers say NIL until they have
// told of it: that is no empty attachment.
func TestNothingOfAMessageThatIsGoneIsNoEmptyPart(t *testing.T) {
	for name, there := range map[string]bool{"gone": false, "empty": true} {
		for _, said := range []string{"NIL", `""`, "{0}\r\n"} {
			t.Run(name+" "+said, func(t *testing.T) {
				c := script(t, func(tag, command string) string {
					if out, ok := usual(tag, command); ok {
						return out
					}
					switch {
					case strings.Contains(command, "BODY.PEEK[2]"):
						return "* 1 FETCH (UID 1 BODY[2] " + said + ")\r\n" + tag + " OK done\r\n"
					case strings.Contains(command, "SEARCH") && there:
						return "* SEARCH 1\r\n" + tag + " OK done\r\n"
					case strings.Contains(command, "SEARCH"):
						return "* SEARCH\r\n" + tag + " OK done\r\n"
					}
					return tag + " OK done\r\n"
				})
				s, err := Dial(t.Context(), c)
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				if _, err := s.Open(t.Context(), "INBOX"); err != nil {
					t.Fatal(err)
				}
				r, err := s.Part(t.Context(), &source.Facts{UID: 1}, "2")
				if !there {
					if !errors.Is(err, source.ErrGone) {
						t.Errorf("of a message that is gone: %v", err)
					}
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				if data, err := io.ReadAll(r); err != nil || len(data) > 0 || r.Close() != nil {
					t.Errorf("of an empty part: %q, %v", data, err)
				}
			})
		}
	}
}

// A session that opened a folder before a message came reads the message all the same: servers tell of it when they are
// asked for news, not during a FETCH.
func TestAMessageThatCameAfterTheFolderWasOpenedIsRead(t *testing.T) {
	d := testbed.StartDovecot(t)
	c := d.Client("ann")
	config := Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
		Username: "ann", Password: "pw"}
	raw := []byte(sourcetest.Messages()["one attachment"])
	testbed.Append(t, c, "INBOX", raw, time.Now())
	for name, read := range map[string]func(s *Session, f *source.Facts) error{
		"a part": func(s *Session, f *source.Facts) error {
			r, err := s.Part(t.Context(), f, "2")
			if err != nil {
				return err
			}
			_, err = io.Copy(io.Discard, r)
			return errors.Join(err, r.Close())
		},
		"the first octets of a part": func(s *Session, f *source.Facts) error {
			_, err := s.Head(t.Context(), f, "2", 10)
			return err
		},
		"its facts": func(s *Session, f *source.Facts) error {
			facts, err := s.Facts(t.Context(), []uint32{f.UID})
			if err == nil && len(facts) == 0 {
				err = source.ErrGone
			}
			return err
		},
		"the whole message": func(s *Session, f *source.Facts) error {
			whole := *f
			whole.Whole = true
			_, err := s.Part(t.Context(), &whole, "2")
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			old, fresh := dialed(t, config), dialed(t, config)
			if _, err := old.Open(t.Context(), "INBOX"); err != nil {
				t.Fatal(err)
			}
			uid := testbed.Append(t, c, "INBOX", raw, time.Now())
			if _, err := fresh.Open(t.Context(), "INBOX"); err != nil {
				t.Fatal(err)
			}
			facts, err := fresh.Facts(t.Context(), []uint32{uid})
			if err != nil || len(facts) != 1 {
				t.Fatalf("%d messages (%v), want one", len(facts), err)
			}
			if err := read(old, &facts[0]); err != nil {
				t.Errorf("got %v, want the message", err)
			}
			facts[0].UID += 1000
			if err := read(old, &facts[0]); !errors.Is(err, source.ErrGone) {
				t.Errorf("of a message that never was: %v, want %v", err, source.ErrGone)
			}
		})
	}
}
