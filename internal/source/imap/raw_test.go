package imap

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"slices"
	"strconv"
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

func TestDovecotAnnouncesWhatComesIntoAnyFolder(t *testing.T) {
	d := testbed.StartDovecot(t)
	outside := d.Client("ann")
	testbed.MakeFolders(t, outside, "Papers", "Häfen & Kais/2026")
	s := dialed(t, Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
		Username: "ann", Password: "pw"})
	if _, err := s.Folders(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if err := s.Announce(t.Context(), true); err != nil || !s.Announces() {
		t.Fatalf("the server does not announce: %v, %v", err, s.client.Caps())
	}
	raw := []byte(sourcetest.Messages()["one attachment"])
	for _, folder := range []string{"Papers", "Häfen & Kais/2026", "INBOX", "Made later"} {
		if folder == "Made later" {
			testbed.MakeFolders(t, outside, folder)
		}
		testbed.Append(t, outside, folder, raw, time.Now())
		heard(t, s, folder)
	}
	if _, err := outside.Select("Papers", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	if err := outside.Store(imaplib.SeqSetNum(1),
		&imaplib.StoreFlags{Op: imaplib.StoreFlagsAdd, Flags: []imaplib.Flag{"Filed"}}, nil).Close(); err != nil {
		t.Fatal(err)
	}
	heard(t, s, "Papers")
	// What was asked for is not taken for news.
	if states, err := s.Glance(t.Context(), []string{"Papers", "Häfen & Kais/2026"}); err != nil || len(states) != 2 ||
		states["Häfen & Kais/2026"].Messages != 1 {
		t.Fatalf("%+v, %v", states, err)
	}
	if e, err := s.Wait(t.Context(), 200*time.Millisecond, nil); err != nil || len(e.Folders) > 0 {
		t.Errorf("nothing happened, and %+v is announced, %v", e, err)
	}
}

// heard waits until something is announced of a folder.
func heard(t *testing.T, s *Session, folder string) {
	t.Helper()
	for until := time.Now().Add(10 * time.Second); time.Now().Before(until); {
		e, err := s.Wait(t.Context(), time.Second, nil)
		if err != nil {
			t.Fatal(err)
		}
		if e.Folders[folder] || folder == "INBOX" && e.Arrived {
			return
		}
	}
	t.Fatalf("nothing is announced of %q", folder)
}

func TestAServerThatCannotAnnounceAllFoldersIsAskedAtTheInterval(t *testing.T) {
	for name, c := range map[string]struct {
		capability, answer string
		asked              int
		announces          bool
	}{
		"does not know it":      {"", "", 0, false},
		"refuses":               {"NOTIFY", "NO not for you", 1, false},
		"does not understand":   {"NOTIFY", "BAD what?", 1, false},
		"does it":               {"NOTIFY", "OK done", 1, true},
		"has too much to tell":  {"NOTIFY", "OK done\r\n* OK [NOTIFICATIONOVERFLOW] too much", 1, false},
		"says so before it can": {"NOTIFY", "OK", 1, true},
	} {
		t.Run(name, func(t *testing.T) {
			asked := 0
			config := script(t, func(tag, command string) string {
				switch {
				case strings.HasPrefix(command, "CAPABILITY"):
					return "* CAPABILITY IMAP4rev1 IDLE " + c.capability + "\r\n" + tag + " OK\r\n"
				case strings.HasPrefix(command, "NOTIFY"):
					asked++
					return tag + " " + c.answer + "\r\n"
				case strings.HasPrefix(command, "NOOP"):
					return tag + " OK done\r\n"
				}
				out, _ := usual(tag, command)
				return out
			})
			s := dialed(t, config)
			for range 3 {
				if err := s.Announce(t.Context(), false); err != nil {
					t.Fatal(err)
				}
				if asked >= 1 {
					break
				}
			}
			if err := news(t.Context(), s); err != nil { // the connection goes on
				t.Fatal(err)
			}
			if s.Announces() != c.announces || asked != c.asked {
				t.Errorf("announces: %v, want %v; asked %d times, want %d", s.Announces(), c.announces, asked, c.asked)
			}
		})
	}
}

func TestADovecotThatCompressesGivesTheSameBytes(t *testing.T) {
	d := testbed.StartDovecot(t)
	outside := d.Client("ann")
	compresses(t, outside, Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS,
		RootCAs: d.Roots}, Username: "ann", Password: "pw"})
}

func TestACyrusThatCompressesGivesTheSameBytes(t *testing.T) {
	c := testbed.StartCyrus(t, "ann")
	compresses(t, c.Client("ann"), Config{Server: reach.Server{Host: c.Host, Port: c.IMAPS, Encryption: reach.TLS,
		RootCAs: c.Roots}, Username: "ann", Password: "pw"})
}

// compresses compares what comes over a connection with and without compression.
func compresses(t *testing.T, outside *imapclient.Client, plain Config) {
	t.Helper()
	random := rand.NewChaCha8([32]byte{1})
	for i := range 3 {
		content := make([]byte, 300_000)
		if _, err := random.Read(content); err != nil {
			t.Fatal(err)
		}
		raw := fmt.Sprintf("From: a@agents.example\r\nSubject: %d\r\nContent-Type: application/pdf; name=a.pdf\r\n"+
			"Content-Transfer-Encoding: base64\r\n\r\n%s\r\n", i, inLines(content))
		testbed.Append(t, outside, "INBOX", []byte(raw), time.Now())
	}
	packed := plain
	packed.Compress = true
	var all [2][]byte
	for i, c := range []Config{plain, packed} {
		s := dialed(t, c)
		if _, is := s.guard.Conn.(*deflated); is != c.Compress {
			t.Fatalf("compressed: %v, want %v; %v", is, c.Compress, s.client.Caps())
		}
		if _, err := s.Open(t.Context(), "INBOX"); err != nil {
			t.Fatal(err)
		}
		uids, err := s.UIDs(t.Context(), source.Query{})
		if err != nil {
			t.Fatal(err)
		}
		facts, err := s.Facts(t.Context(), uids)
		if err != nil || len(facts) != 3 {
			t.Fatal(len(facts), err)
		}
		for j := range facts {
			r, err := s.Part(t.Context(), &facts[j], "1")
			if err != nil {
				t.Fatal(err)
			}
			data, err := io.ReadAll(r)
			if err := errors.Join(err, r.Close()); err != nil {
				t.Fatal(err)
			}
			all[i] = append(all[i], data...)
		}
	}
	if !bytes.Equal(all[0], all[1]) || len(all[0]) < 900_000 {
		t.Errorf("%d octets plain and %d compressed are not the same", len(all[0]), len(all[1]))
	}
}

func inLines(content []byte) string {
	var b strings.Builder
	text := base64.StdEncoding.EncodeToString(content)
	for len(text) > 76 {
		b.WriteString(text[:76] + "\r\n")
		text = text[76:]
	}
	return b.String() + text
}

func TestAServerThatDoesNotCompressThoughItCanGoesOnPlain(t *testing.T) {
	config := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "CAPABILITY"):
			return "* CAPABILITY IMAP4rev1 COMPRESS=DEFLATE\r\n" + tag + " OK\r\n"
		case strings.HasPrefix(command, "COMPRESS"):
			return tag + " NO [COMPRESSIONACTIVE] it is already\r\n"
		case strings.HasPrefix(command, "NOOP"):
			return tag + " OK done\r\n"
		}
		out, _ := usual(tag, command)
		return out
	})
	config.Compress = true
	s := dialed(t, config)
	if err := news(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	if _, is := s.guard.Conn.(*deflated); is {
		t.Error("the connection is thought to be compressed")
	}
}

// Only a server that takes long to answer is asked to compress.
func TestOnlyAServerThatIsFarIsAskedToCompress(t *testing.T) {
	for _, delay := range []time.Duration{0, 2 * far} {
		asked := false
		config := script(t, func(tag, command string) string {
			switch {
			case strings.HasPrefix(command, "CAPABILITY"):
				return "* CAPABILITY IMAP4rev1 COMPRESS=DEFLATE\r\n" + tag + " OK\r\n"
			case strings.HasPrefix(command, "COMPRESS"):
				asked = true
				return tag + " NO not now\r\n"
			case strings.HasPrefix(command, "NOOP"):
				time.Sleep(delay)
				return tag + " OK done\r\n"
			}
			out, _ := usual(tag, command)
			return out
		})
		config.measured = true
		for range 5 { // this machine may be busy
			if asked = false; dialed(t, config) != nil && asked == (delay > 0) {
				break
			}
		}
		if asked != (delay > 0) {
			t.Errorf("with an answer after %v compression was asked for: %v", delay, asked)
		}
	}
}

func TestWhatGoesOutCompressedIsUnderstood(t *testing.T) {
	a, b := net.Pipe()
	defer a.Close()
	d := newDeflated(a, nil)
	sent := bytes.Repeat([]byte("T1 NOOP\r\n"), 20_000) // more than one block
	go func() {
		defer a.Close()
		for _, some := range [][]byte{sent[:9], sent[9:]} {
			if n, err := d.Write(some); err != nil || n != len(some) {
				t.Errorf("%d, %v", n, err)
			}
		}
	}()
	got, err := io.ReadAll(flate.NewReader(b))
	if !errors.Is(err, io.ErrUnexpectedEOF) || !bytes.Equal(got, sent) { // the stream is never ended
		t.Errorf("%d octets of %d, %v", len(got), len(sent), err)
	}
}

func TestNamesInModifiedUTF7(t *testing.T) {
	for raw, want := range map[string]string{"INBOX": "INBOX", "H&AOQ-fen &- Kais": "Häfen & Kais", "&2D3eqA-": "🚨",
		"&broken": "&broken", "~peter/mail/&U,BTFw-/&ZeVnLIqe-": "~peter/mail/台北/日本語", "Häfen": "Häfen"} {
		if got := decoded(raw); got != want {
			t.Errorf("%q: %q, want %q", raw, got, want)
		}
	}
}

// The states of many folders are asked for in one exchange; one by one are those of which the server says nothing then.
func TestTheStatesOfManyFoldersAreOneExchange(t *testing.T) {
	for _, c := range []struct {
		capability string
		refuses    bool
		lists      int
		statuses   int
	}{{"", false, 0, 3}, {"LIST-STATUS", false, 1, 1}, {"LIST-STATUS", true, 1, 3}} {
		lists, statuses := 0, 0
		config := script(t, func(tag, command string) string {
			status := func(name string) string { return "* STATUS " + name + " (MESSAGES 1 UIDNEXT 2 UIDVALIDITY 7)\r\n" }
			switch {
			case strings.HasPrefix(command, "CAPABILITY"):
				return "* CAPABILITY IMAP4rev1 " + c.capability + "\r\n" + tag + " OK\r\n"
			case strings.HasPrefix(command, "LIST"):
				var b strings.Builder
				full := strings.Contains(command, "STATUS")
				if full {
					lists++
					if c.refuses {
						return tag + " NO not now\r\n"
					}
				}
				for _, name := range []string{"INBOX", "A", "B", "C"} {
					b.WriteString("* LIST () \"/\" " + name + "\r\n")
					if full && name != "C" { // of one that may not be read it says nothing
						b.WriteString(status(name))
					}
				}
				return b.String() + tag + " OK\r\n"
			case strings.HasPrefix(command, "STATUS"):
				statuses++
				name := strings.Trim(strings.Fields(command)[1], `"`)
				if name == "C" {
					return tag + " NO not allowed\r\n"
				}
				return status(name) + tag + " OK\r\n"
			}
			out, _ := usual(tag, command)
			return out
		})
		s := dialed(t, config)
		states, err := s.Glance(t.Context(), []string{"A", "B", "C"})
		if err != nil || len(states) != 2 || states["A"].UIDNext != 2 || states["B"].UIDValidity != 7 {
			t.Errorf("%+v: %+v, %v", c, states, err)
		}
		if lists != c.lists || statuses != c.statuses {
			t.Errorf("%+v: %d lists, %d states were asked for", c, lists, statuses)
		}
	}
}

// What is announced while the states of folders are asked for is not lost between the answers.
func TestNewsAmongTheStatesOfFoldersIsHeard(t *testing.T) {
	var heard []string
	m := newMender()
	m.elsewhere = func(name string) { heard = append(heard, name) }
	feed := func(lines ...string) string {
		return string(m.feed([]byte(strings.Join(lines, "\r\n")+"\r\n"), nil))
	}
	a, b := "* STATUS A (MESSAGES 1)", "* STATUS \"B\" (MESSAGES 1)"
	if out := feed(a); out != a+"\r\n" || len(heard) != 0 {
		t.Errorf("before announcements were asked for: %q, heard %q", out, heard)
	}
	m.hears.Store(true)
	if out := feed(a, b); out != "" || strings.Join(heard, " ") != "A B" {
		t.Errorf("announced: %q, heard %q", out, heard)
	}
	heard = nil
	m.asks(true)
	if out := feed(a, b); out != a+"\r\n"+b+"\r\n" || len(heard) != 0 {
		t.Errorf("asked for: %q, heard %q", out, heard)
	}
	if out := feed(a, "* STATUS {5}\r\nH&h & (MESSAGES 1)"); !strings.HasPrefix(out, a) ||
		strings.Join(heard, ",") != "A,H&h &" {
		t.Errorf("announced meanwhile: %q, heard %q", out, heard)
	}
	m.asks(false)
	if out := feed(b); out != "" || heard[len(heard)-1] != "B" {
		t.Errorf("afterwards: %q, heard %q", out, heard)
	}
}

func TestASearchIsAnsweredInRangesAndBounded(t *testing.T) {
	set := func(ranges ...imaplib.UIDRange) imaplib.UIDSet { return ranges }
	for name, c := range map[string]struct {
		set      imaplib.NumSet
		from, to uint32
		want     []uint32
		fails    bool
	}{
		"nothing": {nil, 1, math.MaxUint32, nil, false},
		"ranges": {set(imaplib.UIDRange{Start: 2, Stop: 4}, imaplib.UIDRange{Start: 9, Stop: 9}), 1, 100,
			[]uint32{2, 3, 4, 9}, false},
		"the other way":    {set(imaplib.UIDRange{Start: 4, Stop: 2}), 1, 100, []uint32{2, 3, 4}, false},
		"only some wanted": {set(imaplib.UIDRange{Start: 1, Stop: math.MaxUint32}), 5, 7, []uint32{5, 6, 7}, false},
		"the last number": {set(imaplib.UIDRange{Start: math.MaxUint32 - 1, Stop: math.MaxUint32}), 1, math.MaxUint32,
			[]uint32{math.MaxUint32 - 1, math.MaxUint32}, false},
		"four billion": {set(imaplib.UIDRange{Start: 1, Stop: math.MaxUint32}), 1, math.MaxUint32, nil, true},
		"in pieces": {set(imaplib.UIDRange{Start: 1, Stop: 90}, imaplib.UIDRange{Start: 200, Stop: 290}), 1,
			math.MaxUint32, nil, true},
		"no number": {set(imaplib.UIDRange{Start: 0, Stop: 0}), 1, math.MaxUint32, nil, true},
	} {
		got, err := numbersIn(c.set, c.from, c.to, 100)
		if !slices.Equal(got, c.want) || (err != nil) != c.fails {
			t.Errorf("%s: %v, %v", name, got, err)
		}
	}
	asked := ""
	config := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "CAPABILITY"):
			return "* CAPABILITY IMAP4rev1 ESEARCH\r\n" + tag + " OK\r\n"
		case strings.HasPrefix(command, "UID SEARCH"):
			asked = command
			return "* ESEARCH (TAG \"" + tag + "\") UID ALL 1:4294967295\r\n" + tag + " OK\r\n"
		}
		out, _ := usual(tag, command)
		return out
	})
	s := dialed(t, config)
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.UIDs(t.Context(), source.Query{}); err == nil || !strings.Contains(err.Error(), "many more messages") {
		t.Errorf("four billion messages: %v", err)
	}
	if !strings.Contains(asked, "RETURN (ALL)") {
		t.Errorf("asked: %s", asked)
	}
	if uids, err := s.UIDs(t.Context(), source.Query{From: 7, To: 9}); err != nil || len(uids) != 3 {
		t.Errorf("%v, %v", uids, err)
	}
}

// A server that ends the connection over what it says that it knows is not asked for it again; its mail is read.
func TestAServerThatBreaksOffOverACommandIsNotAskedAgain(t *testing.T) {
	for name, answer := range map[string]func(tag string) string{
		"hangs up":                  func(string) string { return "cut" },
		"says yes and goes on bare": func(tag string) string { return tag + " OK from here on\r\n" },
	} {
		t.Run("COMPRESS: "+name, func(t *testing.T) {
			asked := 0
			config := script(t, func(tag, command string) string {
				switch {
				case strings.HasPrefix(command, "CAPABILITY"):
					return "* CAPABILITY IMAP4rev1 COMPRESS=DEFLATE\r\n" + tag + " OK\r\n"
				case strings.HasPrefix(command, "COMPRESS"):
					asked++
					return answer(tag)
				case strings.HasPrefix(command, "NOOP"):
					return tag + " OK done\r\n"
				}
				if out, ok := usual(tag, command); ok {
					return out
				}
				return "* this is no compressed stream, and no answer\r\n"
			})
			config.Compress = true
			for range 2 {
				if _, err := dialed(t, config).Open(t.Context(), "INBOX"); err != nil {
					t.Fatal(err)
				}
			}
			if asked != 1 {
				t.Errorf("asked %d times", asked)
			}
		})
	}
	asked := 0
	config := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "CAPABILITY"):
			return "* CAPABILITY IMAP4rev1 IDLE NOTIFY\r\n" + tag + " OK\r\n"
		case strings.HasPrefix(command, "NOTIFY"):
			asked++
			return "cut"
		}
		out, _ := usual(tag, command)
		return out
	})
	if err := dialed(t, config).Announce(t.Context(), false); err == nil {
		t.Error("the connection ended, and that is not told")
	}
	s := dialed(t, config)
	if err := s.Announce(t.Context(), false); err != nil || s.Announces() || asked != 1 {
		t.Errorf("the second time: %v, announces %v, asked %d times", err, s.Announces(), asked)
	}
}

// A server without ESEARCH answers in one line, which is bounded: a folder of millions is asked for in pieces.
func TestAFolderOfMillionsIsListedInPieces(t *testing.T) {
	const messages = 2_000_000
	asked := 0
	config := script(t, func(tag, command string) string {
		switch {
		case strings.HasPrefix(command, "EXAMINE"):
			return fmt.Sprintf("* %d EXISTS\r\n* OK [UIDVALIDITY 7] x\r\n* OK [UIDNEXT %d] x\r\n%s OK done\r\n", messages,
				messages+1, tag)
		case strings.HasPrefix(command, "UID SEARCH"):
			asked++
			var low, high uint32
			if _, err := fmt.Sscanf(command, "UID SEARCH UID %d:%d", &low, &high); err != nil {
				return tag + " BAD " + err.Error() + "\r\n"
			}
			line := []byte("* SEARCH")
			for u := low; u <= min(high, messages); u++ {
				line = strconv.AppendUint(append(line, ' '), uint64(u), 10)
			}
			if len(line) > maxLine {
				t.Errorf("an answer of %d octets", len(line))
			}
			return string(line) + "\r\n" + tag + " OK done\r\n"
		}
		out, _ := usual(tag, command)
		return out
	})
	s := dialed(t, config)
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	uids, err := s.UIDs(t.Context(), source.Query{})
	if err != nil || len(uids) != messages || uids[0] != 1 || uids[messages-1] != messages {
		t.Fatalf("%d messages, %v", len(uids), err)
	}
	if asked != messages/mostInLine+1 { // and for what came since
		t.Errorf("asked %d times", asked)
	}
	if uids, err := s.UIDs(t.Context(), source.Query{From: messages - 1}); err != nil || len(uids) != 2 {
		t.Errorf("the last ones: %v, %v", uids, err)
	}
}
