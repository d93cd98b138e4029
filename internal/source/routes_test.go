package source_test

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/drop"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/source/pop3"
	"inktray.example/inktray/internal/source/sourcetest"
	"inktray.example/inktray/internal/testbed"
)

var showStructure = flag.Bool("structure", false, "show every part of messages that differ")

// foreignMail is where a package of Debian keeps odd messages by other authors
// (libpython3.11-testsuite).
const foreignMail = "/usr/lib/python3.11/test/test_email/data"

// corpus is the odd messages of this project, and those of another origin.
func corpus(t *testing.T) []sourcetest.Odd {
	t.Helper()
	all := sourcetest.OddMessages()
	if len(all) < 200 {
		t.Fatalf("only %d odd messages", len(all))
	}
	files, err := filepath.Glob(filepath.Join(foreignMail, "msg_*.txt"))
	if err != nil {
		t.Fatal(err)
	}
	if len(files) == 0 {
		testbed.LeaveOut(t, "the odd messages of another origin: install libpython3.11-testsuite")
	}
	for i, name := range files {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		data = append(fmt.Appendf(nil, "X-Number: %d\n", i), data...) // each its own bytes
		all = append(all,
			sourcetest.Odd{Name: "foreign: " + filepath.Base(name), Raw: data, Rewritten: true, Ambiguous: true})
	}
	return all
}

// seen is what of a message must be the same by whatever way it is read.
type seen struct {
	items       string
	contents    string
	fingerprint [32]byte
}

func describe(m *mail.Message, open func(item mail.Item) ([]byte, error)) seen {
	var items, contents []string
	if *showStructure {
		m.Walk(func(p *mail.Part) bool {
			items = append(items,
				fmt.Sprintf("  %s %s %d octets, %d children", p.Item, p.Type, p.Size*int64(1-min(1, len(p.Children))),
					len(p.Children)))
			return true
		})
	}
	for _, i := range m.Items() {
		items = append(items,
			fmt.Sprintf("%s %q %s %s inline=%v opens=%v detached=%v %s", i.ID, i.Name, i.Type, i.Kind, i.Inline, i.Opens,
				i.Detached, i.Encoding))
		data, err := open(i)
		if err != nil {
			contents = append(contents, i.ID+": "+err.Error())
			continue
		}
		contents = append(contents, fmt.Sprintf("%s %x", i.ID, sha256.Sum256(data)))
	}
	return seen{strings.Join(items, "\n"), strings.Join(contents, "\n"), m.Fingerprint()}
}

// fromBytes is how a message is seen whose bytes are at hand.
func fromBytes(raw []byte) seen {
	r := mail.Parse(raw)
	return describe(r.Message, func(i mail.Item) ([]byte, error) {
		part, err := r.Open(i.ID)
		if err != nil {
			return nil, err
		}
		return io.ReadAll(mail.Decode(i.Encoding, part))
	})
}

// fromSession reads every message of a mailbox, by the number in its Subject or by
// its Message-ID, whatever tells it from the others: here its order.
func fromSession(t *testing.T, s source.Session) []seen {
	t.Helper()
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	uids, err := s.UIDs(t.Context(), source.Query{})
	if err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), uids)
	if err != nil || len(facts) != len(uids) {
		t.Fatalf("%d facts of %d messages: %v", len(facts), len(uids), err)
	}
	var all []seen
	for i := range facts {
		f := &facts[i]
		all = append(all, describe(f.Message("INBOX"), func(item mail.Item) ([]byte, error) {
			part, err := s.Part(t.Context(), f, item.ID)
			if err != nil {
				return nil, err
			}
			defer part.Close()
			return io.ReadAll(mail.Decode(item.Encoding, part))
		}))
	}
	return all
}

// compare tells in what messages differ from what their bytes say. Where a server
// rewrites line ends, contents that were sent as text may differ in these.
func compare(t *testing.T, route string, messages []sourcetest.Odd, got []seen) {
	t.Helper()
	if len(got) != len(messages) {
		t.Errorf("%s: %d messages, want %d", route, len(got), len(messages))
		return
	}
	wrong := 0
	for i, m := range messages {
		want := fromBytes(m.Raw)
		switch {
		case got[i].items != want.items:
			t.Errorf("%s: %s%s", route, m.Name, differences(got[i].items, want.items))
		case !m.Rewritten && !m.Ambiguous && got[i].contents != want.contents:
			t.Errorf("%s: %s: other contents%s", route, m.Name, differences(got[i].contents, want.contents))
		case !m.Ambiguous && got[i].fingerprint != want.fingerprint:
			t.Errorf("%s: %s: another fingerprint", route, m.Name)
		default:
			continue
		}
		wrong++
	}
	t.Logf("%s: %d of %d messages are the same", route, len(messages)-wrong, len(messages))
}

// differences shows the lines that only one of two texts has.
func differences(got, want string) string {
	var out strings.Builder
	lines := func(s string) []string { return strings.Split(s, "\n") }
	for _, l := range lines(got) {
		if !slices.Contains(lines(want), l) {
			out.WriteString("\n  got  " + l)
		}
	}
	for _, l := range lines(want) {
		if !slices.Contains(lines(got), l) {
			out.WriteString("\n  want " + l)
		}
	}
	return out.String()
}

func TestAMessageHasTheSameItemsAndNamesByEveryRoute(t *testing.T) {
	messages := corpus(t)
	dovecot := testbed.StartDovecot(t)
	dovecot.Fill("ann", len(messages), func(i int) []byte { return messages[i].Raw })

	t.Run("IMAP", func(t *testing.T) {
		s, err := imap.Dial(t.Context(),
			imap.Config{
				Server:   reach.Server{Host: dovecot.Host, Port: dovecot.IMAPS, Encryption: reach.TLS, RootCAs: dovecot.Roots},
				Username: "ann", Password: "pw"})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		compare(t, "IMAP", messages, fromSession(t, s))
	})
	t.Run("POP3", func(t *testing.T) {
		s, err := pop3.Dial(t.Context(),
			pop3.Config{
				Server:   reach.Server{Host: dovecot.Host, Port: dovecot.POP3S, Encryption: reach.TLS, RootCAs: dovecot.Roots},
				Username: "ann", Password: "pw", Spool: t.TempDir(), Numbers: &sourcetest.Numbers{}})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		compare(t, "POP3", messages, fromSession(t, s))
	})
	t.Run("Maildir", func(t *testing.T) {
		folder := t.TempDir()
		if err := mailfile.Prepare(folder); err != nil {
			t.Fatal(err)
		}
		for i, m := range messages {
			if err := os.WriteFile(filepath.Join(folder, "new", fmt.Sprintf("1770000000.M%06dP1.here", i)), m.Raw,
				0o600); err != nil {
				t.Fatal(err)
			}
		}
		compare(t, "Maildir", messages, fromSession(t, maildir(t, folder)))
	})
	t.Run("eml", func(t *testing.T) {
		folder, in := intake(t)
		for i, m := range messages {
			if fresh, err := in.Take(m.Raw, time.Time{}, time.Now().Add(time.Duration(i)*time.Second)); !fresh || err != nil {
				t.Errorf("%s: taken in: %v, %v", m.Name, fresh, err)
			}
		}
		compareAny(t, "eml", messages, fromSession(t, maildir(t, folder)))
	})
	t.Run("mbox", func(t *testing.T) {
		folder, in := intake(t)
		var box bytes.Buffer
		var whole []sourcetest.Odd
		for _, m := range messages {
			if strings.HasPrefix(m.Name, "line ends: CR") || !bytes.HasSuffix(m.Raw, []byte("\n")) {
				continue // an mbox is made of lines
			}
			whole = append(whole, m)
			box.WriteString("From oda@tidewatch.example Tue May 12 06:02:00 2026\n")
			for line := range bytes.Lines(m.Raw) {
				if bytes.HasPrefix(bytes.TrimLeft(line, ">"), []byte("From ")) {
					box.WriteByte('>')
				}
				box.Write(line)
			}
			box.WriteString("\n")
		}
		report, err := in.TakeMbox(&box, time.Now())
		if err != nil || report.Taken != len(whole) {
			t.Errorf("taken in: %+v, %v; want %d", report, err, len(whole))
		}
		compareAny(t, "mbox", whole, fromSession(t, maildir(t, folder)))
	})
	t.Run("SMTP", func(t *testing.T) { overSMTP(t, messages) })
}

// compareAny is compare for a route that does not keep the order of messages.
func compareAny(t *testing.T, route string, messages []sourcetest.Odd, got []seen) {
	t.Helper()
	left := slices.Clone(got)
	for _, m := range messages {
		want := fromBytes(m.Raw)
		at := slices.IndexFunc(left, func(s seen) bool {
			return s.fingerprint == want.fingerprint && s.items == want.items && (m.Rewritten || s.contents == want.contents)
		})
		if at < 0 {
			t.Errorf("%s: no message is as %s:\n%s", route, m.Name, want.items)
			continue
		}
		left = slices.Delete(left, at, at+1)
	}
	if len(left) > 0 {
		t.Errorf("%s: %d messages more than were sent", route, len(left))
	}
	t.Logf("%s: %d of %d messages are the same", route, len(messages)-len(left), len(messages))
}

func maildir(t *testing.T, folder string) source.Session {
	t.Helper()
	s, err := mailfile.Dial(t.Context(), mailfile.Config{Folder: folder, Numbers: &sourcetest.Numbers{}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func intake(t *testing.T) (string, *mailfile.Intake) {
	t.Helper()
	folder := t.TempDir()
	if err := mailfile.Prepare(folder); err != nil {
		t.Fatal(err)
	}
	root, err := disk.Root(folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	in, err := mailfile.NewIntake(root)
	if err != nil {
		t.Fatal(err)
	}
	return folder, in
}

// overSMTP sends messages as a mail server does, and reads them where they were kept.
func overSMTP(t *testing.T, messages []sourcetest.Odd) {
	folder := t.TempDir()
	if err := mailfile.Prepare(folder); err != nil {
		t.Fatal(err)
	}
	root, err := disk.Root(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	address := drop.Address{Mailbox: "gauges", Address: "gauges@drop.brackwater.example"}
	receiver := drop.New(drop.Config{Domain: "drop.brackwater.example", Spool: t.TempDir(), Clock: time.Now,
		Log:  slog.New(slog.DiscardHandler),
		Find: func(string) (drop.Address, bool, error) { return address, true, nil },
		Deliver: func(_ drop.Address, received time.Time, message io.Reader) error {
			_, err := mailfile.DeliverInto(root, ".", received, message)
			return err
		}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	receiver.Serve(l, false)
	defer func() {
		if err := receiver.Shutdown(t.Context()); err != nil {
			t.Log(err)
		}
	}()
	var sent []sourcetest.Odd
	for _, m := range messages {
		if m.Name == "line ends: CR" {
			continue // it has no line that a mail server could send
		}
		began := time.Now()
		err := hand(l.Addr().String(), m.Raw)
		if took := time.Since(began); took > 10*time.Second {
			t.Errorf("%s: the sender waits %v for an answer", m.Name, took)
		}
		if err != nil {
			t.Errorf("%s: %v", m.Name, err)
			continue
		}
		sent = append(sent, m)
	}
	compareMail(t, "SMTP", sent, fromSession(t, maildir(t, folder)))
}

// hand hands over one message, its octets as they are but for the dots that SMTP adds
// (RFC 5321 section 4.5.2).
func hand(address string, raw []byte) error {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	in := bufio.NewReader(conn)
	say := func(command string, want string) error {
		if _, err := io.WriteString(conn, command); err != nil {
			return err
		}
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return err
			}
			if len(line) > 3 && line[3] == '-' {
				continue
			}
			if !strings.HasPrefix(line, want) {
				return fmt.Errorf("%q, want %s", line, want)
			}
			return nil
		}
	}
	for _, step := range [][2]string{{"", "220"}, {"EHLO tidewatch.example\r\n", "250"},
		{"MAIL FROM:<oda@tidewatch.example>\r\n", "250"}, {"RCPT TO:<gauges@drop.brackwater.example>\r\n", "250"},
		{"DATA\r\n", "354"}} {
		if err := say(step[0], step[1]); err != nil {
			return err
		}
	}
	text := string(raw)
	if !strings.Contains(text, "\r\n") {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	text = strings.ReplaceAll(text, "\r\n.", "\r\n..")
	if !strings.HasSuffix(text, "\r\n") {
		text += "\r\n"
	}
	return say(text+".\r\n", "250")
}

// compareMail is compare for mail that got trace fields on its way.
func compareMail(t *testing.T, route string, messages []sourcetest.Odd, got []seen) {
	t.Helper()
	left := slices.Clone(got)
	for _, m := range messages {
		want := fromBytes(m.Raw)
		at := slices.IndexFunc(left, func(s seen) bool { return s.items == want.items && s.fingerprint == want.fingerprint })
		if at < 0 {
			at = slices.IndexFunc(left, func(s seen) bool { return s.items == want.items && m.Rewritten })
		}
		if at < 0 {
			t.Errorf("%s: no message is as %s:\n%s", route, m.Name, want.items)
			continue
		}
		left = slices.Delete(left, at, at+1)
	}
	for _, s := range left {
		t.Errorf("%s: a message is there that was not sent so:\n%s", route, s.items)
	}
	t.Logf("%s: %d of %d messages are the same", route, len(messages)-len(left), len(messages))
}
