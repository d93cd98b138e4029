package imap

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/testbed"
)

// factsOf is what a server says of a message with one plain text part.
func factsOf(uid int, received string) string {
	header := "Subject: fine\r\n\r\n"
	return fmt.Sprintf("* %d FETCH (UID %d FLAGS () %sRFC822.SIZE 20 BODYSTRUCTURE (\"text\" \"plain\" NIL NIL NIL "+
		"\"7bit\" 12 1) BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s)\r\n",
		uid, uid, received, len(header), header)
}

const internalDate = `INTERNALDATE "12-May-2026 06:02:00 +0000" `

// opened dials a script and opens the inbox.
func opened(t *testing.T, c Config) *Session {
	t.Helper()
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	return s
}

// A connection that waits, such as for a slow cabinet, is not given up. What is asked over it afterwards has to be
// answered in time, as before.
func TestAConnectionMayRestLongerThanAnAnswerMayTake(t *testing.T) {
	var silent atomic.Bool
	c := script(t, func(tag, command string) string {
		switch out, ok := usual(tag, command); {
		case silent.Load():
			return ""
		case ok:
			return out
		}
		return tag + " OK done\r\n"
	})
	c.Timeout = 200 * time.Millisecond
	s := opened(t, c)
	for range 2 {
		<-time.After(3 * c.Timeout)
		if err := news(t.Context(), s); err != nil {
			t.Fatalf("after a rest: %v", err)
		}
	}
	<-time.After(3 * c.Timeout)
	silent.Store(true)
	began := time.Now()
	err := news(t.Context(), s)
	var told *source.Error
	if !errors.As(err, &told) || told.Step != source.Connection || time.Since(began) > testbed.Patience {
		t.Errorf("a server that no longer answers: %v after %v", err, time.Since(began))
	}
}

func TestALostConnectionIsNotTakenForAnUnreadableMessage(t *testing.T) {
	var whole atomic.Bool
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		whole.Store(whole.Load() || strings.Contains(command, "BODY.PEEK[]"))
		return "* 1 FETCH (UID 1 FLAGS () CUT" // the library says "unexpected EOF"
	})
	s := opened(t, c)
	_, err := s.Facts(t.Context(), []uint32{1})
	var reach *source.Error
	if !errors.As(err, &reach) || reach.Step != source.Connection {
		t.Errorf("got %v, want a lost connection", err)
	}
	if whole.Load() {
		t.Error("the message was read whole")
	}
}

func TestAMessageThatIsReadWholeKeepsItsTimeOfArrival(t *testing.T) {
	raw := "Subject: odd\r\nDate: Fri, 1 Jan 2021 00:00:00 +0000\r\n\r\ntext"
	for name, c := range map[string]struct {
		arrival string
		want    time.Time
	}{
		"the server says when it came":   {internalDate, time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)},
		"its time of arrival is no date": {`INTERNALDATE "yesterday" `, time.Time{}},
		"it does not say when it came":   {"", time.Time{}},
		"it refuses to say when it came": {"NO", time.Time{}},
	} {
		t.Run(name, func(t *testing.T) {
			config := script(t, func(tag, command string) string {
				if out, ok := usual(tag, command); ok {
					return out
				}
				switch {
				case strings.Contains(command, "BODYSTRUCTURE"):
					return "* 1 FETCH (UID 1 BODYSTRUCTURE (\"text\" oops)\r\n" + tag + " OK done\r\n"
				case strings.Contains(command, "BODY.PEEK[]"):
					return fmt.Sprintf("* 1 FETCH (UID 1 FLAGS () BODY[] {%d}\r\n%s)\r\n%s OK done\r\n", len(raw), raw, tag)
				case c.arrival == "NO":
					return tag + " NO not now\r\n"
				}
				return "* 1 FETCH (UID 1 " + c.arrival + "FLAGS ())\r\n" + tag + " OK done\r\n"
			})
			facts, err := opened(t, config).Facts(t.Context(), []uint32{1})
			if err != nil || len(facts) != 1 || !facts[0].Whole || !facts[0].Received.Equal(c.want) {
				t.Errorf("facts %+v, %v; want them to be of %v", facts, err, c.want)
			}
		})
	}
}

func TestAFolderThatIsNumberedAnewWhileTheConnectionIsMadeAgainIsNotMistaken(t *testing.T) {
	var opens atomic.Int32
	c := script(t, func(tag, command string) string {
		if strings.HasPrefix(command, "EXAMINE") && opens.Add(1) > 1 {
			return "* 1 EXISTS\r\n* OK [UIDVALIDITY 8] x\r\n* OK [UIDNEXT 2] x\r\n" + tag + " OK [READ-ONLY] done\r\n"
		}
		if out, ok := usual(tag, command); ok {
			return out
		}
		if strings.Contains(command, "BODYSTRUCTURE") {
			return "* 1 FETCH (UID 1 BODYSTRUCTURE (\"text\" oops)\r\n" + tag + " OK done\r\n"
		}
		return "* 1 FETCH (UID 1 FLAGS () BODY[] {4}\r\ntext)\r\n" + tag + " OK done\r\n"
	})
	facts, err := opened(t, c).Facts(t.Context(), []uint32{1})
	if !errors.Is(err, source.ErrRenumbered) || len(facts) > 0 {
		t.Errorf("got %+v, %v; want source.ErrRenumbered", facts, err)
	}
}

func TestAMessageThatIsListedAndNotGivenIsNotTakenForGone(t *testing.T) {
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		if strings.Contains(command, "SEARCH") {
			return "* SEARCH 1\r\n" + tag + " OK done\r\n"
		}
		return tag + " OK done\r\n"
	})
	if facts, err := opened(t, c).Facts(t.Context(), []uint32{1}); !errors.Is(err, source.ErrNothing) {
		t.Errorf("got %+v, %v; want source.ErrNothing", facts, err)
	}
}

func TestATextPartOfWhichNothingComesIsSoughtInTheWholeMessage(t *testing.T) {
	raw := "Subject: fine\r\n\r\nwords within"
	for name, c := range map[string]struct {
		whole string
		want  string
	}{
		"the message holds it":            {raw, "words within"},
		"and of the message nothing, too": {"", ""},
	} {
		t.Run(name, func(t *testing.T) {
			config := script(t, func(tag, command string) string {
				if out, ok := usual(tag, command); ok {
					return out
				}
				switch {
				case strings.Contains(command, "SEARCH"):
					return "* SEARCH 1\r\n" + tag + " OK done\r\n"
				case strings.Contains(command, "BODYSTRUCTURE"):
					return factsOf(1, internalDate) + tag + " OK done\r\n"
				case strings.Contains(command, "BODY.PEEK[]") && c.whole != "":
					return fmt.Sprintf("* 1 FETCH (UID 1 FLAGS () BODY[] {%d}\r\n%s)\r\n%s OK done\r\n", len(c.whole), c.whole, tag)
				case strings.Contains(command, "BODY.PEEK[1]"):
					return "* 1 FETCH (UID 1 BODY[1] NIL)\r\n" + tag + " OK done\r\n"
				}
				return tag + " OK done\r\n"
			})
			s := opened(t, config)
			facts, err := s.Facts(t.Context(), []uint32{1})
			if err != nil {
				t.Fatal(err)
			}
			part, err := s.Part(t.Context(), &facts[0], "1")
			if c.want == "" {
				if err == nil {
					t.Error("nothing came, and that is no error")
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if got, err := io.ReadAll(part); string(got) != c.want || err != nil {
				t.Errorf("got %q, %v", got, err)
			}
		})
	}
}

func TestAServerThatAsksToWaitIsNotTakenForAWrongPassword(t *testing.T) {
	for code, lasting := range map[string]bool{"": true, "[AUTHENTICATIONFAILED] ": true, "[THROTTLED] ": false,
		"[UNAVAILABLE] ": false, "[SYS/TEMP] ": false, "[INUSE] ": false} {
		c := script(t, func(tag, command string) string {
			if strings.HasPrefix(command, "LOGIN") {
				return tag + " NO " + code + "no\r\n"
			}
			out, _ := usual(tag, command)
			return out
		})
		_, err := Dial(t.Context(), c)
		var reach *source.Error
		if !errors.As(err, &reach) || reach.Step != source.SignIn || reach.Lasting != lasting {
			t.Errorf("%q: %+v, want lasting %v", code, err, lasting)
		}
	}
}

func TestAFolderWhoseNameCannotBeReadHidesNoOther(t *testing.T) {
	c := script(t, func(tag, command string) string {
		if out, ok := usual(tag, command); ok {
			return out
		}
		return "* LIST () \"/\" INBOX\r\n* LIST () \"/\" \"Broken &Jjo\"\r\n* LIST (\\HasNoChildren) \"/\" {9}\r\nSp&AOQ-t " +
			"\r\n* LIST () \"/\" {4}\r\n&x&-\r\n* LIST () nil &AOQ-\r\n" + tag + " OK done\r\n"
	})
	folders, err := opened(t, c).Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range folders {
		if f.Selectable == f.Unreadable {
			t.Errorf("%+v", f)
		}
		got = append(got, f.Path)
	}
	if want := "INBOX|Spät |ä|Broken &Jjo|&x&-"; strings.Join(got, "|") != want {
		t.Errorf("got %q, want %q", strings.Join(got, "|"), want)
	}
}

func TestNilIsReadInAnyLetters(t *testing.T) {
	c := script(t, func(tag, command string) string {
		if strings.HasPrefix(command, "CAPABILITY") {
			return "* CAPABILITY IMAP4rev1 NAMESPACE\r\n" + tag + " OK done\r\n"
		}
		if out, ok := usual(tag, command); ok {
			return out
		}
		switch {
		case strings.HasPrefix(command, "NAMESPACE"):
			return "* NAMESPACE ((\"\" \"/\")) nil nIl\r\n" + tag + " OK done\r\n"
		case strings.HasPrefix(command, "LIST"):
			return "* LIST () \"/\" INBOX\r\n* LIST () \"/\" nil\r\n* LIST () \"/\" \"a nil b\"\r\n" + tag + " OK done\r\n"
		}
		header := "Subject: nil (nil\r\n\r\n"
		return fmt.Sprintf("* 1 FETCH (UID 1 FLAGS (nil) %sRFC822.SIZE 20 BODYSTRUCTURE (\"text\" \"plain\" nil Nil nil "+
			"\"7bit\" 12 1) BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s)\r\n%s OK done\r\n",
			internalDate, len(header), header, tag)
	})
	s := opened(t, c)
	folders, err := s.Folders(t.Context())
	if err != nil || len(folders) != 3 || folders[2].Path != "a nil b" {
		t.Errorf("%+v, %v", folders, err)
	}
	facts, err := s.Facts(t.Context(), []uint32{1})
	if err != nil || len(facts) != 1 || facts[0].Whole || facts[0].Header.Get("Subject") != "nil (nil" {
		t.Errorf("%+v, %v", facts, err)
	}
}

func TestMendingIsTheSameInWhateverPiecesItComes(t *testing.T) {
	in := "* OK nil\r\n* LIST () \"/\" \"b&x\"\r\n* LIST () \"/\" {3}\r\nb&x\r\n* 1 FETCH (UID 1 BODY[] {12}\r\n* LIST " +
		"nil ()ENVELOPE (nil \"nil\" nilly (nil)))\r\n+ go\r\n\r\nA1 OK nil\r\n"
	want := "* OK nil\r\n* 1 FETCH (UID 1 BODY[] {12}\r\n* LIST nil ()ENVELOPE (NIL \"nil\" nilly (NIL)))\r\n+ " +
		"go\r\n\r\nA1 OK nil\r\n"
	for step := 1; step <= len(in); step++ {
		m := newMender()
		var out []byte
		for i := 0; i < len(in); i += step {
			out = m.feed([]byte(in[i:min(i+step, len(in))]), out)
		}
		if string(out) != want {
			t.Fatalf("in pieces of %d: %q\nwant %q", step, out, want)
		}
		if names := m.unreadable(); strings.Join(names, "|") != "b&x|b&x" {
			t.Fatalf("in pieces of %d: left out %q", step, names)
		}
	}
}

// A bomb behind STARTTLS must meet the same bounds as one behind TLS.
func TestWhatComesEncryptedIsBoundedAlsoAfterSTARTTLS(t *testing.T) {
	d := testbed.StartDovecot(t)
	s, err := Dial(t.Context(),
		Config{Server: reach.Server{Host: d.Host, Port: d.IMAP, Encryption: reach.StartTLS, RootCAs: d.Roots},
			Username: "ann", Password: "pw"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	before := s.BytesRead()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if s.BytesRead() == before || !strings.Contains(fmt.Sprintf("%T", s.guard.Conn), "tls.Conn") {
		t.Errorf("the bounds are applied to %T", s.guard.Conn)
	}
	if err := s.guard.scan([]byte("* 1 FETCH " + strings.Repeat("(", maxNesting+1))); !errors.Is(err, errHostile) {
		t.Errorf("got %v", err)
	}
}
