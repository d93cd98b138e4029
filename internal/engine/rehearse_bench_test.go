package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// tenRules are rules of which each is for some of the messages of rehearsedMail.
func tenRules(t testing.TB, h *house) {
	conditions := []string{
		"{sender: {domain: firm0.example}}", "{sender: {domain: firm1.example}, subject: {contains: reading}}",
		"{subject: {contains: [water level, alarm]}}", "{attachment: {kind: spreadsheet}}",
		"{any: [{subject: {begins: Berth}}, {sender: {address: office@firm4.example}}]}", "{all: [{sender: {domain: " +
			"[firm5.example, firm6.example]}}, {attachments: {at least: 1}}]}",
		"{subject: {like: '*plan ?7*'}}", "{recipient: {address: nobody@brackwater.example}}", "{size: {larger: 10 MB}}",
		"{subject: {matches: 'BK-[0-9]+5$'}}",
	}
	for i, c := range conditions {
		h.rule(fmt.Sprintf("name: Rule %d\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: %s\nattachments:\n  - "+
			"{take: everything, folder: 'R%d/<received year>/<sender.domain>'}\n", i, c, i))
	}
}

func rehearsedMail(i int) []byte {
	subject := []string{"reading of station", "Berth request BK-", "plan ", "price list"}[i%4] + fmt.Sprint(i)
	name, kind := fmt.Sprintf("p%d.pdf", i), "application/pdf"
	if i%10 == 0 {
		name, kind = fmt.Sprintf("r%d.xlsx", i), "application/octet-stream"
	}
	return []byte(fmt.Sprintf("From: Office %d <office@firm%d.example>\r\nTo: gauges@brackwater.example\r\nSubject: "+
		"%s\r\nMessage-ID: <%d@firm.example>\r\nDate: Tue, 12 May 2026 06:02:00 +0000\r\nMIME-Version: "+
		"1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: "+
		"text/plain\r\n\r\nhello\r\n--b\r\nContent-Type: %s; name=%s\r\nContent-Disposition: attachment; "+
		"filename=%s\r\nContent-Transfer-Encoding: base64\r\n\r\naGVsbG8=\r\n--b\r\nContent-Type: image/png; "+
		"name=logo.png\r\nContent-Disposition: inline\r\nContent-ID: <l>\r\n\r\nx\r\n--b--\r\n", i, i%40, subject, i, kind,
		name, name))
}

// rehearsalHouse is a house with ten rules over a real server's mailbox.
func rehearsalHouse(t testing.TB, n int) (*house, func() source.Session) {
	d := testbed.StartDovecot(t)
	d.Fill("gauges", n, rehearsedMail)
	dial := func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		return imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: d.Host, Port: d.IMAPS, Encryption: reach.TLS, RootCAs: d.Roots},
				Username: m.Username, Password: secret})
	}
	h := newHouse(t, dial)
	h.watched()
	tenRules(t, h)
	return h, func() source.Session {
		s, err := dial(context.Background(), &h.mailbox, "pw")
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
}

// fetchAlone reads envelopes and structures of all messages and does nothing with them.
func fetchAlone(t testing.TB, s source.Session, n int) time.Duration {
	ctx := context.Background()
	begun := time.Now()
	if _, err := s.Open(ctx, "INBOX"); err != nil {
		t.Fatal(err)
	}
	uids, err := s.UIDs(ctx, source.Query{})
	if err != nil || len(uids) != n {
		t.Fatalf("%d messages, %v", len(uids), err)
	}
	for len(uids) > 0 {
		some := uids[:min(500, len(uids))]
		uids = uids[len(some):]
		if facts, err := s.Facts(ctx, some); err != nil || len(facts) != len(some) {
			t.Fatalf("%d facts, %v", len(facts), err)
		}
	}
	return time.Since(begun)
}

// BenchmarkRehearsalOverTheServer rehearses ten rules on 10,000 messages that
// are not known. Limit: 1.5 times as long as fetching their envelopes and
// structures alone, in the same run.
func BenchmarkRehearsalOverTheServer(b *testing.B) {
	const n = 10_000
	h, session := rehearsalHouse(b, n)
	s := session()
	defer s.Close()
	var alone, rehearsed []time.Duration
	fetchAlone(b, s, n) // the server has read its index now
	for b.Loop() {
		for range 5 {
			alone = append(alone, fetchAlone(b, s, n))
			begun := time.Now()
			r, err := h.engine.Rehearser.Rehearse(b.Context(), store.System, rehearsal.RehearsalOf{Last: n})
			rehearsed = append(rehearsed, time.Since(begun))
			if err != nil || r.Looked != n || r.Files == 0 {
				b.Fatalf("%+v, %v", r, err)
			}
		}
	}
	a, r := middle(alone), middle(rehearsed)
	b.ReportMetric(float64(a.Milliseconds()), "fetch-ms")
	b.ReportMetric(float64(r.Milliseconds()), "rehearsal-ms")
	b.ReportMetric(r.Seconds()/a.Seconds(), "times-fetch")
	if r.Seconds()/a.Seconds() > 1.5 {
		b.Errorf("a rehearsal takes %.2f times as long as fetching alone", r.Seconds()/a.Seconds())
	}
}

// BenchmarkRehearsalFromTheFacts rehearses ten rules on 10,000 messages whose
// facts are in the records. Limit: 0.5 s.
func BenchmarkRehearsalFromTheFacts(b *testing.B) {
	const n = 10_000
	box := &memory{validity: 1}
	h := newHouse(b, box.dial)
	h.watched()
	tenRules(b, h)
	h.engine.Unwatch("box") // nothing but the rehearsal works meanwhile
	box.mutex.Lock()
	for i := range n {
		box.messages = append(box.messages, rehearsedMail(i))
	}
	box.mutex.Unlock()
	s := &memorySession{box: box}
	for at := 0; at < n; at += 500 {
		uids := make([]uint32, 500)
		for i := range uids {
			uids[i] = uint32(at + i + 1)
		}
		facts, err := s.Facts(b.Context(), uids)
		if err != nil {
			b.Fatal(err)
		}
		var look store.Look
		for i := range facts {
			row, _, err := store.NewMessage("box", "INBOX", 2, &facts[i], time.Now())
			if err != nil {
				b.Fatal(err)
			}
			look.Messages = append(look.Messages, row)
		}
		if err := h.store.Messages.Commit(b.Context(), look); err != nil {
			b.Fatal(err)
		}
	}
	if known, err := h.store.Messages.ByUID(b.Context(), "box", "INBOX", 2, []uint32{1, n}); err != nil ||
		len(known) != n {
		b.Fatalf("%d messages are known, %v", len(known), err)
	}
	var times []time.Duration
	for b.Loop() {
		for range 5 {
			begun := time.Now()
			r, err := h.engine.Rehearser.Rehearse(b.Context(), store.System, rehearsal.RehearsalOf{Last: n})
			times = append(times, time.Since(begun))
			if err != nil || r.Looked != n || r.Files == 0 {
				b.Fatalf("%+v, %v", r, err)
			}
		}
	}
	b.ReportMetric(float64(middle(times).Milliseconds()), "ms")
	if middle(times) > 500*time.Millisecond {
		b.Errorf("a rehearsal takes %v", middle(times))
	}
}

func middle(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

// A rehearsal over the server says what one from the records says.
func TestARehearsalOverTheServerIsTheSameAsFromTheRecords(t *testing.T) {
	h, _ := rehearsalHouse(t, 300) // of which the last 200 are known
	over, err := h.engine.Rehearser.Rehearse(t.Context(), store.System, rehearsal.RehearsalOf{Last: 300, Show: 300})
	if err != nil {
		t.Fatal(err)
	}
	known, err := h.engine.Rehearser.Rehearse(t.Context(), store.System, rehearsal.RehearsalOf{Last: 200})
	if err != nil {
		t.Fatal(err)
	}
	thorough, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
		rehearsal.RehearsalOf{Last: 300, Thorough: true})
	if err != nil {
		t.Fatal(err)
	}
	if over.Looked != 300 || known.Looked != 200 || over.Matching != thorough.Matching || over.Files != thorough.Files ||
		over.Bytes != thorough.Bytes || len(over.Tree) != len(thorough.Tree) {
		t.Errorf("over the server %d of %d, %d files; the known ones %d of %d; thorough %d of %d, %d files", over.Matching,
			over.Looked, over.Files, known.Matching, known.Looked, thorough.Matching, thorough.Looked, thorough.Files)
	}
	for i := range known.Messages {
		a, b := known.Messages[i], over.Messages[i]
		if a.Message.Subject != b.Message.Subject || a.Match.Answer != b.Match.Answer || len(a.Items) != len(b.Items) {
			t.Errorf("message %d: %s %s, %s %s", i, a.Message.Subject, a.Match.Answer, b.Message.Subject, b.Match.Answer)
		}
	}
	if _, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 1000}); err != nil {
		t.Error(err)
	}
	files := h.tree()
	if len(files) != 0 {
		t.Errorf("a rehearsal wrote %v", files)
	}
	future, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
		rehearsal.RehearsalOf{Since: time.Now().AddDate(1, 0, 0)})
	if err != nil || future.Looked != 0 {
		t.Errorf("of next year: %d looked at, %v", future.Looked, err)
	}
}

func TestARehearsalWarnsOfOtherRules(t *testing.T) {
	box := &memory{validity: 1}
	for i := range 8 {
		box.add(raw(fmt.Sprintf("reading %d", i), "a.csv", "1"))
	}
	h := newHouse(t, box.dial)
	h.watched()
	h.until("the mail is known", func() bool {
		m, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		return err == nil && len(m) == 8
	})
	h.rule(strings.Replace(gaugesRule, "attachments:", "then: stop\nattachments:", 1))
	document := func(text string) *rule.Rule {
		r, err := rule.ParseRule([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	rehearse := func(r *rule.Rule) string {
		out, err := h.engine.Rehearser.Rehearse(t.Context(), store.System, rehearsal.RehearsalOf{Rule: r})
		if err != nil {
			t.Fatal(err)
		}
		var texts []string
		for _, w := range out.Warnings {
			texts = append(texts, w.Kind+": "+w.Text)
		}
		return strings.Join(texts, "; ")
	}
	other := bundles("\n  - {take: everything, folder: B}\n")
	if got := rehearse(document(other)); got != "hidden: The earlier rule “Tide gauge readings” keeps 8 of these "+
		"messages from this one." {
		t.Errorf("after a rule that stops: %s", got)
	}
	if got := rehearse(document(strings.Replace(other, "match: every message", "match: {subject: {is: a}, all: "+
		"[{subject: {is: b}}]}", 1))); !strings.HasPrefix(got, "never: a subject cannot be") {
		t.Errorf("a rule that can never match: %s", got)
	}
	h.rule(gaugesRule)
	if got := rehearse(document(other)); got != "same attachments: The rule “Tide gauge readings” files 8 of these "+
		"attachments, too." {
		t.Errorf("beside a rule that takes the same: %s", got)
	}
	if _, err := h.engine.Rehearser.Rehearse(t.Context(), store.System,
		rehearsal.RehearsalOf{Message: 999}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("of no message: %v", err)
	}
}
