package engine

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"runtime"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// countedBytes is a session that notes which parts were read.
type countedBytes struct {
	*imap.Session
	box *counting
}

type counting struct {
	mutex    sync.Mutex
	sessions []*imap.Session
	parts    map[uint32]int
}

func (c *counting) dial(d *testbed.Dovecot) func(ctx context.Context, m *store.Mailbox, secret string) (source.Session,
	error) {
	return func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := imap.Dial(ctx,
			imap.Config{Server: reach.Server{Host: d.Host, Port: d.IMAP, Encryption: reach.None}, Username: m.Username,
				Password: secret})
		if err != nil {
			return nil, err
		}
		c.mutex.Lock()
		defer c.mutex.Unlock()
		c.sessions = append(c.sessions, s)
		return &countedBytes{s, c}, nil
	}
}

func (s *countedBytes) Part(ctx context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	s.box.mutex.Lock()
	s.box.parts[f.UID]++
	s.box.mutex.Unlock()
	return s.Session.Part(ctx, f, item)
}

func (s *countedBytes) Parts(ctx context.Context, wanted []source.Wanted, most int64,
	got func(source.Wanted, []byte)) error {
	s.box.mutex.Lock()
	for _, w := range wanted {
		s.box.parts[w.UID]++
	}
	s.box.mutex.Unlock()
	return s.Session.Parts(ctx, wanted, most, got)
}

func (c *counting) octets() (n int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, s := range c.sessions {
		n += s.BytesRead()
	}
	return n
}

// oldMailWithFewMatches files from messages of which every twentieth holds a
// spreadsheet and the others a picture, and proves that nothing of the others
// but their facts is read.
func oldMailWithFewMatches(t testing.TB,
	h func(dial func(context.Context, *store.Mailbox, string) (source.Session, error)) *house, n int) (octets, sent int64,
	took time.Duration) {
	d := testbed.StartDovecot(t)
	body := base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{1, 2, 3}, 7_000))
	sent = d.Fill("gauges", n, func(i int) []byte {
		name, kind := fmt.Sprintf("p%d.jpg", i), "image/jpeg"
		if i%20 == 0 {
			name, kind = fmt.Sprintf("r%d.xlsx", i), "application/octet-stream"
		}
		return []byte(fmt.Sprintf("From: oda@tidewatch.example\r\nSubject: reading %d\r\nMessage-ID: "+
			"<%d@tidewatch.example>\r\nDate: Tue, 12 May 2026 06:02:00 +0000\r\nContent-Type: multipart/mixed; "+
			"boundary=b\r\n\r\n--b\r\n\r\nhello\r\n--b\r\nContent-Type: %s; name=%s\r\nContent-Disposition: "+
			"attachment\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n--b--\r\n", i, i, kind, name, body))
	})
	c := &counting{parts: map[uint32]int{}}
	house := h(c.dial(d))
	house.watched()
	id := house.rule(strings.Replace(gaugesRule, "take: everything", "take: {kind: spreadsheet}", 1))
	before, begun := c.octets(), time.Now()
	pass, err := house.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	deadline := time.After(10 * time.Minute)
	for {
		p, err := house.store.Passes.ByID(t.Context(), store.System, pass.ID)
		if err != nil {
			t.Fatal(err)
		}
		if p.State != store.Running {
			if p.State != store.Done || p.Looked != n {
				t.Fatalf("the pass ended as %+v", p)
			}
			break
		}
		select {
		case <-deadline:
			t.Fatalf("the pass takes too long: %+v", p)
		case <-time.After(20 * time.Millisecond):
		}
	}
	took, octets = time.Since(begun), c.octets()-before
	if filed, err := house.store.Register.Count(t.Context(), store.System, register.Query{}); err != nil ||
		filed != n/20 {
		t.Fatalf("%d filed, want %d (%v)", filed, n/20, err)
	}
	if len(c.parts) != n/20 {
		t.Errorf("parts of %d messages were read, want those of the %d that match", len(c.parts), n/20)
	}
	matching := int64(n/20) * int64(len(body)+200)
	if facts := (octets - matching) / int64(n); facts > 1500 {
		t.Errorf("%d octets for each message beside the parts that are filed: more than its facts", facts)
	}
	return octets, sent, took
}

func TestOfMessagesThatDoNotMatchNoPartIsRead(t *testing.T) {
	oldMailWithFewMatches(t, func(dial func(context.Context, *store.Mailbox, string) (source.Session, error)) *house {
		return newHouse(t, dial)
	}, 400)
}

func BenchmarkOldMailOfTenThousandMessages(b *testing.B) {
	for b.Loop() {
		var octets, sent int64
		var took time.Duration
		ok := b.Run("run", func(b *testing.B) {
			octets, sent, took = oldMailWithFewMatches(b,
				func(dial func(context.Context, *store.Mailbox, string) (source.Session, error)) *house {
					return newHouse(b, dial)
				}, 10_000)
			b.ReportMetric(float64(octets)/1e6, "MB-read")
			b.ReportMetric(float64(sent)/1e6, "MB-in-mailbox")
			b.ReportMetric(10_000/took.Seconds(), "messages/s")
		})
		if !ok {
			b.Fatal("more was read than is filed")
		}
	}
}

// BenchmarkFromNoticeToFiled measures from the server's announcement (IDLE) to
// the file under its final name. Limit: a median of 100 ms.
func BenchmarkFromNoticeToFiled(b *testing.B) {
	const messages = 40
	d := testbed.StartDovecot(b)
	h := newHouse(b, (&counting{parts: map[uint32]int{}}).dial(d))
	h.watched()
	h.rule(gaugesRule)
	box := d.Client("gauges")
	content := strings.Repeat("station;level\n", 3000)
	for b.Loop() {
		for i := range messages {
			testbed.Append(b, box, "INBOX", raw(fmt.Sprint("reading ", i), fmt.Sprintf("r%d.csv", i), content), time.Now())
			h.until("it is filed",
				func() bool { n, _ := h.store.Register.Count(b.Context(), store.System, register.Query{}); return n > i })
		}
	}
	delays, err := h.store.Journal.Delays(b.Context(), store.System, messages)
	if err != nil || len(delays) == 0 {
		b.Fatal(delays, err)
	}
	slices.Sort(delays)
	median := delays[len(delays)/2]
	b.ReportMetric(float64(median.Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(delays[len(delays)*95/100].Microseconds())/1000, "ms-p95")
	b.ReportMetric(0, "ns/op")
	if median > 100*time.Millisecond {
		b.Errorf("the median is %v, over the limit of 100 ms", median)
	}
}

// BenchmarkLargeAttachment measures the memory that filing 50 MB takes beyond
// what the service needs anyway. Limit: 16 MB.
func BenchmarkLargeAttachment(b *testing.B) {
	const size = 50_000_000
	d := testbed.StartDovecot(b)
	h := newHouse(b, (&counting{parts: map[uint32]int{}}).dial(d))
	h.watched()
	h.rule(gaugesRule)
	head := "From: oda@tidewatch.example\r\nSubject: large\r\nContent-Type: application/zip; " +
		"name=large.zip\r\nContent-Transfer-Encoding: base64\r\n\r\n"
	line := strings.Repeat("QUJD", 19) + "\r\n"
	lines := int64(size / 57)
	heap := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/stacks:bytes"}}
	used := func() uint64 { metrics.Read(heap); return heap[0].Value.Uint64() + heap[1].Value.Uint64() }
	var extra uint64
	filed := false
	for b.Loop() {
		if filed { // the same content a second time would not be stored
			continue
		}
		filed = true
		c := d.Client("gauges")
		runtime.GC()
		base, peak := used(), uint64(0)
		stop, stopped := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(stopped)
			for {
				peak = max(peak, used())
				select {
				case <-stop:
					return
				case <-time.After(time.Millisecond):
				}
			}
		}()
		testbed.AppendStream(b, c, "INBOX", int64(len(head))+lines*int64(len(line)),
			io.MultiReader(strings.NewReader(head), io.LimitReader(&repeat{text: line}, lines*int64(len(line)))))
		h.until("it is filed", func() bool {
			n, _ := h.store.Register.Count(b.Context(), store.System,
				register.Query{Search: register.Search{States: []register.State{register.Filed, register.Void}}})
			return n >= 1
		})
		close(stop)
		<-stopped
		c.Close()
		if peak > base {
			extra = peak - base
		}
	}
	f, err := h.store.Register.List(b.Context(), store.System, register.Query{Most: 1})
	if err != nil || len(f) != 1 || f[0].Size != lines*57 {
		b.Fatalf("filed %+v, %v", f, err)
	}
	b.ReportMetric(float64(extra)/1e6, "MB-extra")
	b.ReportMetric(0, "ns/op")
	if extra > 16_000_000 {
		b.Errorf("%d MB of extra memory, over the limit of 16 MB", extra/1_000_000)
	}
}

// repeat gives a text again and again.
type repeat struct {
	text string
	at   int
}

func (r *repeat) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		k := copy(p[n:], r.text[r.at:])
		n += k
		r.at = (r.at + k) % len(r.text)
	}
	return n, nil
}
