package drop

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"
	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/testbed"
)

// house is a receiver with some addresses, and what came to them.
type house struct {
	receiver  *Receiver
	now       time.Time
	addresses map[string]Address
	failing   error

	mutex    sync.Mutex
	came     map[string][]string
	rejected []string
}

func newHouse(t *testing.T, names testbed.Names) *house {
	t.Helper()
	resolver, _ := testbed.StartDNS(t, names)
	h := &house{now: time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC), came: map[string][]string{},
		addresses: map[string]Address{}}
	for _, a := range []Address{{Mailbox: "gauges"}, {Mailbox: "berths"},
		{Mailbox: "listed", Senders: []string{"tidewatch.example", "keld@marram.example"}}} {
		a.Address = a.Mailbox + "@drop.brackwater.example"
		h.addresses[a.Mailbox] = a
	}
	certificate, key, _ := testbed.Certificate(t)
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		t.Fatal(err)
	}
	h.receiver = New(Config{Domain: "Drop.Brackwater.Example", TLS: &tls.Config{Certificates: []tls.Certificate{pair}},
		MaxBytes: 3 << 20, Spool: t.TempDir(), Resolver: resolver, Trusted: "mx.brackwater.example",
		Clock: func() time.Time { return h.now }, Log: slog.New(slog.DiscardHandler),
		Find: func(local string) (Address, bool, error) {
			a, ok := h.addresses[local]
			return a, ok, h.failing
		},
		Deliver: func(a Address, _ time.Time, message io.Reader) error {
			data, err := io.ReadAll(message)
			h.mutex.Lock()
			defer h.mutex.Unlock()
			if a.Mailbox == "berths" && bytes.Contains(data, []byte("no room")) {
				return errors.New("no space left")
			}
			h.came[a.Mailbox] = append(h.came[a.Mailbox], string(data))
			return err
		}})
	h.receiver.config.Rejected = func(a Address, from, reason string) {
		h.mutex.Lock()
		defer h.mutex.Unlock()
		h.rejected = append(h.rejected, a.Mailbox+" from "+from+": "+reason)
	}
	t.Cleanup(func() {
		if err := h.receiver.Shutdown(t.Context()); err != nil {
			t.Log(err)
		}
	})
	return h
}

func (h *house) listen(t *testing.T, lmtp bool) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	h.receiver.Serve(l, lmtp)
	return l.Addr().String()
}

func (h *house) of(mailbox string) []string {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	return slices.Clone(h.came[mailbox])
}

// send hands a message over and gives the first answer that is no yes, "" else.
func send(t *testing.T, address, from, raw string, to ...string) string {
	t.Helper()
	c, err := smtp.Dial(address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	said := func(err error) string {
		var answer *smtp.SMTPError
		if errors.As(err, &answer) {
			return fmt.Sprintf("%d %d.%d.%d %s", answer.Code, answer.EnhancedCode[0], answer.EnhancedCode[1],
				answer.EnhancedCode[2], answer.Message)
		}
		return err.Error()
	}
	if err := c.Mail(from, nil); err != nil {
		return said(err)
	}
	for _, r := range to {
		if err := c.Rcpt(r+"@drop.brackwater.example", nil); err != nil {
			return said(err)
		}
	}
	w, err := c.Data()
	if err != nil {
		return said(err)
	}
	if _, err := io.WriteString(w, raw); err != nil {
		return said(err)
	}
	if err := w.Close(); err != nil {
		return said(err)
	}
	return ""
}

const letter = "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nSubject: " +
	"Reading\r\nDate: Tue, 12 May 2026 06:00:00 +0000\r\nMessage-ID: <1@tidewatch.example>\r\n\r\nIt is 4.2 m.\r\n.A " +
	"line with a dot\r\n"

func TestAMessageIsKeptAsItCame(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	if said := send(t, address, "oda@tidewatch.example", letter, "gauges", "BERTHS"); said != "" {
		t.Fatal(said)
	}
	for _, box := range []string{"gauges", "berths"} {
		got := h.of(box)
		if len(got) != 1 || !strings.HasSuffix(got[0], letter) {
			t.Fatalf("%s got %q", box, got)
		}
		trace := strings.TrimSuffix(got[0], letter)
		for _, want := range []string{"Return-Path: <oda@tidewatch.example>\r\n", "Delivered-To: " + box +
			"@drop.brackwater.example\r\n", "by drop.brackwater.example with ESMTP\r\n",
			"; Tue, 12 May 2026 06:02:00 +0000\r\n"} {
			if !strings.Contains(trace, want) {
				t.Errorf("the trace lacks %q: %q", want, trace)
			}
		}
	}
}

func TestALineMayBeAsLongAsAMessage(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	long := strings.Repeat("0123456789", 200_000) // 2 MB
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	answers := talk(t, conn, "EHLO tidewatch.example\r\n", "MAIL FROM:<oda@tidewatch.example>\r\n",
		"RCPT TO:<gauges@drop.brackwater.example>\r\n", "DATA\r\n", "Subject: long\r\n\r\n"+long+"\r\n.\r\n", "NOOP\r\n")
	if got := answers[len(answers)-2]; !strings.HasPrefix(got, "250") {
		t.Errorf("the answer is %q", got)
	}
	if came := h.of("gauges"); len(came) != 1 || !strings.Contains(came[0], long) {
		t.Errorf("%d messages came", len(came))
	}
	if got := answers[len(answers)-1]; !strings.HasPrefix(got, "250") {
		t.Errorf("afterwards the answer is %q", got)
	}
}

// talk says something on a connection and gives the last line of each answer; the
// greeting comes first.
func talk(t *testing.T, conn net.Conn, commands ...string) (answers []string) {
	t.Helper()
	in := bufio.NewReader(conn)
	if err := conn.SetDeadline(time.Now().Add(testbed.Patience)); err != nil {
		t.Fatal(err)
	}
	for _, command := range append([]string{""}, commands...) {
		if _, err := io.WriteString(conn, command); err != nil {
			return append(answers, err.Error())
		}
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return append(answers, err.Error())
			}
			if len(line) < 4 || line[3] != '-' {
				answers = append(answers, strings.TrimSpace(line))
				break
			}
		}
	}
	return answers
}

func TestAMessageWhoseLinesEndWithCRCRLFIsTakenAndAnswered(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	conn, err := net.Dial("tcp", h.listen(t, false))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	began := time.Now()
	answers := talk(t, conn, "EHLO tidewatch.example\r\n", "MAIL FROM:<oda@tidewatch.example>\r\n",
		"RCPT TO:<gauges@drop.brackwater.example>\r\n", "DATA\r\n", "Subject: odd\r\r\n\r\r\ntext\r\r\n.\r\n")
	if got := answers[len(answers)-1]; !strings.HasPrefix(got, "250") || time.Since(began) > 30*time.Second {
		t.Errorf("after %v the answer is %q", time.Since(began), got)
	}
	if came := h.of("gauges"); len(came) != 1 || !strings.HasSuffix(came[0], "Subject: odd\r\r\n\r\r\ntext\r\r\n") {
		t.Errorf("came: %q", came)
	}
}

func TestCommandsThatNeverEndAreCutOff(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	conn, err := net.Dial("tcp", h.listen(t, false))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(testbed.Patience)); err != nil {
		t.Fatal(err)
	}
	sent := 0
	for err == nil && sent < 100<<20 {
		var n int
		n, err = io.WriteString(conn, strings.Repeat("x", 64<<10))
		sent += n
	}
	if err == nil || sent > 20<<20 {
		t.Errorf("%d octets of one command were read (%v)", sent, err)
	}
}

func TestWhatIsRefusedForGoodIsTold(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	if got := send(t, address, "oda@tidewatch.example", letter+strings.Repeat("too long\r\n", 400_000),
		"gauges"); !strings.HasPrefix(got, "552") {
		t.Errorf("too large: %q", got)
	}
	if got := send(t, address, "eve@elsewhere.example", letter, "listed"); !strings.HasPrefix(got, "550") {
		t.Errorf("from a stranger: %q", got)
	}
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if len(h.rejected) != 2 ||
		!strings.HasPrefix(h.rejected[0], "gauges from oda@tidewatch.example: Maximum message size") ||
		!strings.HasPrefix(h.rejected[1], "listed from eve@elsewhere.example: ") {
		t.Errorf("told: %q", h.rejected)
	}
}

func TestWhatIsRefusedAndHow(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	for name, c := range map[string]struct {
		to   []string
		raw  string
		says string
	}{
		"an unknown address": {[]string{"nobody"}, letter, "550 5.1.1"},
		"too large": {[]string{"gauges"}, letter + strings.Repeat(strings.Repeat("x", 70)+"\r\n", 60_000),
			"552 5.3.4"},
		"no room":     {[]string{"berths"}, "Subject: no room\r\n\r\nx\r\n", "452 4.3.1"},
		"going round": {[]string{"gauges"}, strings.Repeat("Received: from a by b\r\n", 102) + letter, "554 5.4.6"},
		"two addresses of which one has its senders": {[]string{"listed", "gauges"}, letter, "452 4.5.3"},
		"the same the other way round":               {[]string{"gauges", "listed"}, letter, "452 4.5.3"},
	} {
		if said := send(t, address, "a@b.example", c.raw, c.to...); !strings.HasPrefix(said, c.says) {
			t.Errorf("%s: %q, want %s", name, said, c.says)
		}
	}
	h.failing = errors.New("the records do not answer")
	if said := send(t, address, "a@b.example", letter, "gauges"); !strings.HasPrefix(said, "451 4.3.0") ||
		strings.Contains(said, "records do not") {
		t.Errorf("records that fail: %q", said)
	}
	if got := h.of("gauges"); len(got) > 0 {
		t.Errorf("it was kept: %d messages", len(got))
	}
}

func TestAMessageThatIsCutIsNobodys(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	for _, size := range []int{10, inMemory + 1000} {
		c, err := smtp.Dial(address)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(c.Mail("a@b.example", nil), c.Rcpt("gauges@drop.brackwater.example", nil)); err != nil {
			t.Fatal(err)
		}
		w, err := c.Data()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, letter+strings.Repeat("x\r\n", size/3)); err != nil {
			t.Fatal(err)
		}
		c.Close()
	}
	if said := send(t, address, "a@b.example", letter, "gauges"); said != "" { // after the others
		t.Fatal(said)
	}
	if got := h.of("gauges"); len(got) != 1 {
		t.Errorf("%d messages were kept", len(got))
	}
	deadline, tick := time.After(10*time.Second), time.NewTicker(time.Millisecond)
	defer tick.Stop()
	for {
		left, err := os.ReadDir(h.receiver.config.Spool)
		if err != nil {
			t.Fatal(err)
		}
		if len(left) == 0 {
			return
		}
		select {
		case <-deadline:
			t.Fatalf("left in the spool: %v", left)
		case <-tick.C:
		}
	}
}

func TestWhoGuessesAddressesIsSentAway(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	address := h.listen(t, false)
	for range mostWrong {
		if said := send(t, address, "a@b.example", letter, "guess"); !strings.HasPrefix(said, "550 5.1.1") {
			t.Fatal(said)
		}
	}
	if said := send(t, address, "a@b.example", letter, "gauges"); !strings.HasPrefix(said, "421 4.7.0") {
		t.Errorf("after %d guesses: %q", mostWrong, said)
	}
	h.now = h.now.Add(wrongWithin + time.Second)
	if said := send(t, address, "a@b.example", letter, "gauges"); said != "" {
		t.Errorf("later: %q", said)
	}
	// The mail server in front is not barred for what others make it ask.
	front := h.listen(t, true)
	for range 3 * mostWrong {
		if got := lmtp(t, front, letter, "guess"); !strings.HasPrefix(got["guess"], "550") {
			t.Fatal(got)
		}
	}
	if got := lmtp(t, front, letter, "gauges"); got["gauges"] != "" {
		t.Errorf("over LMTP: %v", got)
	}
}

func TestNetworks(t *testing.T) {
	for a, b := range map[string]string{"192.0.2.1": "::ffff:192.0.2.1", "2001:db8::1": "2001:db8::ffff:1"} {
		if network(net.ParseIP(a)) != network(net.ParseIP(b)) {
			t.Errorf("%s and %s are two", a, b)
		}
	}
	if network(net.ParseIP("192.0.2.1")) == network(net.ParseIP("192.0.2.2")) ||
		network(net.ParseIP("2001:db8::1")) == network(net.ParseIP("2001:db8:0:1::1")) {
		t.Error("different networks are one")
	}
}

// lmtp hands a message over by LMTP and gives the answer of each recipient that
// was no yes.
func lmtp(t *testing.T, address, raw string, to ...string) map[string]string {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	c := smtp.NewClientLMTP(conn)
	defer c.Close()
	if err := c.Mail("a@b.example", nil); err != nil {
		t.Fatal(err)
	}
	said, some := map[string]string{}, false
	for _, r := range to {
		if err := c.Rcpt(r+"@drop.brackwater.example", nil); err != nil {
			said[r] = fmt.Sprint(err.(*smtp.SMTPError).Code)
		} else {
			some = true
		}
	}
	if !some {
		return said
	}
	w, err := c.Data()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(w, raw); err != nil {
		t.Fatal(err)
	}
	_, err = w.CloseWithLMTPResponse()
	var each smtp.LMTPDataError
	if err != nil && !errors.As(err, &each) {
		t.Fatal(err)
	}
	for rcpt, status := range each {
		said[strings.TrimSuffix(rcpt, "@drop.brackwater.example")] = fmt.Sprintf("%d %s", status.Code, status.Message)
	}
	return said
}

func TestLMTPAnswersForEachRecipient(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	got := lmtp(t, h.listen(t, true), "Subject: no room\r\n\r\nx\r\n", "gauges", "berths", "nobody", "listed")
	if got["gauges"] != "" || !strings.HasPrefix(got["berths"], "452") || !strings.HasPrefix(got["nobody"], "550") ||
		!strings.HasPrefix(got["listed"], "550") {
		t.Errorf("%v", got)
	}
	if kept := h.of("gauges"); len(kept) != 1 || !strings.Contains(kept[0], "with LMTP") {
		t.Errorf("kept %q", kept)
	}
}

func TestEncryptionIsOffered(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	conn, err := net.Dial("tcp", h.listen(t, false))
	if err != nil {
		t.Fatal(err)
	}
	c, err := smtp.NewClientStartTLS(conn, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.SendMail("a@b.example", []string{"gauges@drop.brackwater.example"},
		strings.NewReader(letter)); err != nil {
		t.Fatal(err)
	}
	if got := h.of("gauges"); len(got) != 1 || !strings.Contains(got[0], "with ESMTPS") {
		t.Errorf("%q", got)
	}
	c.Close()
}

// signed puts a DKIM signature of a domain on a message.
func signed(t *testing.T, raw, domain string, key crypto.Signer) string {
	t.Helper()
	var out bytes.Buffer
	if err := dkim.Sign(&out, strings.NewReader(raw),
		&dkim.SignOptions{Domain: domain, Selector: "s", Signer: key,
			HeaderKeys: []string{"From", "To", "Subject", "Date"}}); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestSendersThatAreListedMustBeProven(t *testing.T) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	record := []string{"v=DKIM1; k=ed25519; p=" + base64.StdEncoding.EncodeToString(public)}
	h := newHouse(t, testbed.Names{TXT: map[string][]string{
		"s._domainkey.tidewatch.example.":      record,
		"s._domainkey.mail.tidewatch.example.": record,
		"s._domainkey.evil.example.":           record,
		"marram.example.":                      {"v=spf1 ip4:127.0.0.0/8 -all"},
		"news.marram.example.":                 {"v=spf1 ip4:127.0.0.0/8 -all"},
		"evil.example.":                        {"v=spf1 ip4:127.0.0.0/8 -all"},
	}, Failing: map[string]bool{"s._domainkey.slow.tidewatch.example.": true}})
	address, front := h.listen(t, false), h.listen(t, true)
	marram := strings.ReplaceAll(letter, "Oda Fenwick <oda@tidewatch.example>", "Keld <keld@marram.example>")
	for name, c := range map[string]struct {
		from, raw, says string
	}{
		"signed by its domain":              {"bounce@other.example", signed(t, letter, "tidewatch.example", private), ""},
		"signed by a part of its domain":    {"", signed(t, letter, "mail.tidewatch.example", private), ""},
		"sent from where its domain sends":  {"keld@marram.example", marram, ""},
		"by a return address of the domain": {"b@news.marram.example", marram, ""},
		"with no signature":                 {"oda@tidewatch.example", letter, "550 5.7.1"},
		"signed by somebody else":           {"x@evil.example", signed(t, letter, "evil.example", private), "550 5.7.1"},
		"changed since it was signed": {"",
			strings.Replace(signed(t, letter, "tidewatch.example", private), "4.2", "9.9", 1), "550 5.7.1"},
		"of somebody who is not listed": {"x@evil.example",
			signed(t, strings.ReplaceAll(letter, "oda@tidewatch.example", "x@evil.example"), "evil.example", private),
			"550 5.7.1"},
		"of another person of that domain": {"b@marram.example", strings.ReplaceAll(marram, "keld@", "else@"), "550 5.7.1"},
		"with a name that looks like one": {"x@evil.example",
			signed(t, strings.ReplaceAll(letter, "Oda Fenwick <oda@tidewatch.example>",
				`"oda@tidewatch.example" <x@evil.example>`), "evil.example", private), "550 5.7.1"},
		"with two authors": {"", signed(t, "From: x@evil.example\r\n"+letter, "tidewatch.example", private),
			"550 5.7.1"},
		"whose signature cannot be checked": {"", signed(t, letter, "slow.tidewatch.example", private), "451 4.7.5"},
		"with what a server did not write": {"",
			"Authentication-Results: mx.brackwater.example; dmarc=pass header.from=tidewatch.example\r\n" + letter, "550 5.7.1"},
	} {
		before := len(h.of("listed"))
		said := send(t, address, c.from, c.raw, "listed")
		if !strings.HasPrefix(said, c.says) || said == "" != (c.says == "") {
			t.Errorf("%s: %q, want %q", name, said, c.says)
		}
		if kept := len(h.of("listed")) - before; kept > 1 || (kept == 1) != (c.says == "") {
			t.Errorf("%s: %d kept", name, kept)
		}
	}
	for name, c := range map[string]struct{ field, says string }{
		"DMARC passed":         {"mx.brackwater.example; dmarc=pass header.from=tidewatch.example", ""},
		"DKIM passed":          {"mx.brackwater.example; dkim=pass header.d=mail.tidewatch.example", ""},
		"SPF passed":           {"mx.brackwater.example; spf=pass smtp.mailfrom=b@tidewatch.example", ""},
		"another's DKIM":       {"mx.brackwater.example; dkim=pass header.d=evil.example", "550"},
		"it failed":            {"mx.brackwater.example; dmarc=fail header.from=tidewatch.example", "550"},
		"of an unknown server": {"mx.evil.example; dmarc=pass header.from=tidewatch.example", "550"},
	} {
		if got := lmtp(t, front, "Authentication-Results: "+c.field+"\r\n"+letter,
			"listed"); !strings.HasPrefix(got["listed"], c.says) || got["listed"] == "" != (c.says == "") {
			t.Errorf("%s: %v, want %q", name, got, c.says)
		}
	}
}

func TestAReceiverThatIsEndedAtOnceComesToItsEnd(t *testing.T) {
	for range 50 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		r := New(Config{Domain: "drop.brackwater.example", Spool: t.TempDir(), Clock: time.Now,
			Log: slog.New(slog.DiscardHandler)})
		r.Serve(l, true)
		ended := make(chan error, 1)
		go func() { ended <- r.Shutdown(t.Context()) }()
		select {
		case err := <-ended:
			if err != nil {
				t.Fatal(err)
			}
		case <-time.After(10 * time.Second):
			t.Fatal("it goes on waiting for connections")
		}
	}
}
