package engine

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

const unpacking = "\n  - {take: everything, unpack: files, folder: B}\n"

// attached is a message with one attachment whose name is as it stands.
func attached(subject, name, kind string, content []byte) []byte {
	encoded := base64.StdEncoding.EncodeToString(content)
	var lines strings.Builder
	for len(encoded) > 0 {
		n := min(len(encoded), 76)
		lines.WriteString(encoded[:n] + "\r\n")
		encoded = encoded[n:]
	}
	return []byte("From: Gauge <gauge@tidewatch.example>\r\nSubject: " + subject + "\r\nMessage-ID: <" + subject +
		"@tidewatch.example>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
		"text/plain\r\n\r\nhello\r\n--b\r\nContent-Type: " +
		kind + "\r\nContent-Disposition: attachment; filename=\"" + name + "\"\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		lines.String() + "--b--\r\n")
}

// brokenZip has many entries whose contents cannot be unpacked.
func brokenZip(t testing.TB, entries int) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := range entries {
		w, err := z.CreateRaw(&zip.FileHeader{Name: fmt.Sprintf("%05d.csv", i), Method: zip.Deflate, CompressedSize64: 4,
			UncompressedSize64: 4})
		if err == nil {
			_, err = w.Write([]byte{0xff, 0xff, 0xff, 0xff})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// live begins a house and lets messages arrive in it one after the other.
func live(t testing.TB, document string, patience time.Duration) (*house, *memory) {
	t.Helper()
	box := &memory{validity: 1}
	h := newHouse(t, box.dial)
	h.patience = patience
	h.restart()
	h.watched()
	h.rule(document)
	return h, box
}

func (h *house) inB(name string) bool {
	data, err := os.ReadFile(filepath.Join(h.files, "B", name))
	return err == nil && len(data) > 0
}

// Whatever is in a message, and whatever its parts are called, the messages after it are filed.
func TestNothingInAMessageStopsItsMailbox(t *testing.T) {
	var nested []string
	for i := range 199 {
		var files []string
		for k := range 100 {
			files = append(files, fmt.Sprintf("%d-%d.zip", i, k), "not an archive")
		}
		nested = append(nested, fmt.Sprintf("%d.zip", i), zipped(t, files...))
	}
	for name, message := range map[string][]byte{
		"a winmail.dat whose file has a name of 25,000 letters": attached("w", "winmail.dat", "application/ms-tnef",
			winmail(strings.Repeat("long", 6250)+".csv")),
		"a zip whose entry has a name of 65,500 letters": attached("z", "a.zip", "application/zip",
			[]byte(zipped(t, strings.Repeat("n", 65_496)+".csv", "a;b"))),
		"a zip in a zip with such a name": attached("zz", "a.zip", "application/zip",
			[]byte(zipped(t, strings.Repeat("n", 65_000)+".zip", zipped(t, "inner.csv", "1")))),
		"a broken zip of 9,000 entries": attached("b", "b.zip", "application/zip", brokenZip(t, 9000)),
		"199 zips with 100 broken zips each": attached("n", "n.zip", "application/zip",
			[]byte(zipped(t, nested...))),
		"an attachment with a name of 500,000 letters": attached("f", strings.Repeat("x", 500_000)+".csv", "text/csv",
			[]byte("a;b")),
	} {
		h, box := live(t, bundles(unpacking), time.Minute)
		before := child.Started()
		box.add(message)
		box.add(raw("after", "after.csv", "1"))
		h.until(name+": the message after it is filed", func() bool { return h.inB("after.csv") })
		h.said()
		if n := child.Started() - before; n > 110 {
			t.Errorf("%s: %d processes were started", name, n)
		}
		counts, err := h.store.Tray.Counts(t.Context(), store.System)
		if err != nil {
			t.Fatal(err)
		}
		waiting := 0
		for _, n := range counts {
			waiting += n
		}
		if waiting > 50 {
			t.Errorf("%s: %d entries are in the tray", name, waiting)
		}
		messages, err := h.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		if err != nil || len(messages) != 2 {
			t.Errorf("%s: %d messages are known, %v", name, len(messages), err)
		}
		if status := h.engine.Status("box"); status.State != mailboxes.Live && status.State != mailboxes.AtInterval {
			t.Errorf("%s: the mailbox is %s: %s", name, status.State, status.Problem)
		}
		h.until(name+": nothing is left where work is done", func() bool {
			left, err := os.ReadDir(h.engine.Spool)
			return err == nil && len(left) == 0
		})
		h.engine.Stop()
	}
}

// A broken file in an archive does not spoil the others.
func TestABrokenFileInAnArchiveIsHeldAndTheOthersAreFiled(t *testing.T) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range []string{"first.csv", "broken.csv", "last.csv"} {
		var err error
		if name == "broken.csv" {
			var w io.Writer
			if w, err = z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, CompressedSize64: 4,
				UncompressedSize64: 4}); err == nil {
				_, err = w.Write([]byte{0xff, 0xff, 0xff, 0xff})
			}
		} else {
			var w io.Writer
			if w, err = z.Create(name); err == nil {
				_, err = io.WriteString(w, name)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	h := fileNow(t, bundles(unpacking), attached("s", "s.zip", "application/zip", out.Bytes()))
	said := h.said()
	h.expect(map[string]string{"B/first.csv": "first.csv", "B/last.csv": "last.csv"})
	if !strings.Contains(said, "2!2: held (the file is broken in its archive") {
		t.Errorf("of the broken one is said:\n%s", said)
	}
}

// Other messages do not wait for one that takes long.
func TestOtherMessagesDoNotWaitForOneThatTakesLong(t *testing.T) {
	box := &memory{validity: 1}
	var dials atomic.Int64
	goOn := make(chan struct{})
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		if dials.Add(1) > 1 {
			select { // the watcher beside waits until the test has seen what it wants to see
			case <-goOn:
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		return box.dial(ctx, m, secret)
	})
	h.engine.Stop()
	h.patience = time.Nanosecond // whatever needs a process takes too long
	dials.Store(0)
	h.start()
	h.watched()
	h.rule(bundles(unpacking))
	announced := func(name string) bool {
		t.Helper()
		entries, err := h.store.Journal.Recent(t.Context(), store.System, 100)
		i := slices.IndexFunc(entries, func(e store.Entry) bool { return e.Name == name })
		if err != nil || i < 0 {
			t.Fatal(name, entries, err)
		}
		return entries[i].AnnouncedAt != nil
	}
	first := 0
	for first == 0 || !announced(fmt.Sprintf("first%d.csv", first)) { // what comes between a look and the waiting is not
		if first++; first > 20 {
			t.Fatal("none of 20 messages was announced")
		}
		box.add(raw(fmt.Sprint("first ", first), fmt.Sprintf("first%d.csv", first), fmt.Sprint("0", first)))
		h.until("it is in the register", func() bool { return h.count("") == first })
	}
	box.add(attached("slow", "slow.zip", "application/zip", []byte(zipped(t, "slow.csv", "1"))))
	box.add(raw("quick", "quick.csv", "2"))
	h.until("the quick one is filed", func() bool { return h.inB("quick.csv") })
	if h.inB("slow.csv") {
		t.Error("the slow one was not left for the watcher beside")
	}
	if at, waits, err := h.store.Retries.Next(t.Context(), "box", nil, store.SideLane); err != nil || !waits {
		t.Errorf("the slow one waits: %v at %v, %v", waits, at, err)
	}
	close(goOn)
	h.until("the slow one is filed", func() bool { return h.inB("slow.csv") })
	h.until("nothing waits", func() bool {
		_, waits, err := h.store.Retries.Next(t.Context(), "box", nil, store.AnyLane)
		return err == nil && !waits
	})
	h.until("both are in the register", func() bool { return h.count("") == first+2 })
	// How long its filing took counts from its announcement, as that of the other.
	if announced("quick.csv") && !announced("slow.csv") {
		t.Error("it is no longer known when the slow one was announced")
	}
}

// A server that allows one connection gets one: then all is done over it.
func TestWhatTakesLongIsDoneOverAsManyConnectionsAsTheServerAllows(t *testing.T) {
	for allowed := range int64(3) {
		box := &memory{validity: 1}
		var open, most atomic.Int64
		h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
			now := open.Add(1)
			if now > allowed+1 {
				open.Add(-1)
				return nil, &source.Error{Step: source.SignIn, Problem: "too many connections"}
			}
			most.Store(max(most.Load(), now))
			s, err := box.dial(ctx, m, secret)
			return &closing{Session: s, closed: func() { open.Add(-1) }}, err
		})
		h.engine.Stop()
		open.Store(0)
		h.patience, h.beat = time.Nanosecond, 5*time.Millisecond
		h.start()
		h.watched()
		h.rule(bundles(unpacking))
		for _, name := range []string{"slow", "slower", "slowest"} {
			box.add(attached(name, name+".zip", "application/zip", []byte(zipped(t, name+".csv", name))))
		}
		for _, name := range []string{"slow.csv", "slower.csv", "slowest.csv"} {
			h.until("it is filed", func() bool { return h.inB(name) })
		}
		if most.Load() < min(allowed, 1)+1 {
			t.Errorf("of %d connections %d were used", allowed+1, most.Load())
		}
		h.engine.Stop()
	}
}

type closing struct {
	source.Session
	closed func()
}

func (c *closing) Close() error {
	c.closed()
	return c.Session.Close()
}

// What looks like this machine's fault is the message's own where it comes with this message only.
func TestAMessageOnWhichTheMachineFailsAgainAndAgainIsSetAside(t *testing.T) {
	box := &memory{validity: 1}
	h := newHouse(t, func(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
		s, err := box.dial(ctx, m, secret)
		return &starving{Session: s}, err
	})
	h.hurry()
	h.watched()
	h.rule("name: Words\ncabinet: harbour files\nlook: {mailboxes: gauges}\nmatch: {words: {in: body, any: " +
		"hello}}\nattachments:\n  - {take: everything, folder: B}\n")
	box.add(attached("starving", "a.csv", "text/csv", []byte("1")))
	box.add(attached("after", "after.csv", "text/csv", []byte("2")))
	h.until("the message after it is filed", func() bool { return h.inB("after.csv") })
	rows, err := h.store.Retries.InTray(t.Context(), store.System, 10)
	h.until("it is in the tray", func() bool {
		rows, err = h.store.Retries.InTray(t.Context(), store.System, 10)
		return err == nil && len(rows) == 1
	})
	if rows[0].Subject != "starving" || rows[0].Reason.IsZero() {
		t.Errorf("the tray has %q: %s", rows[0].Subject, rows[0].Reason)
	}
}

// starving fails as a machine without memory does, with the first message only.
type starving struct{ source.Session }

func (s *starving) Part(ctx context.Context, f *source.Facts, item string) (io.ReadCloser, error) {
	if f.UID == 1 {
		return nil, fmt.Errorf("making room: %w", syscall.ENOMEM)
	}
	return s.Session.Part(ctx, f, item)
}

// BenchmarkFilingAnArchive measures how filing an archive grows with its entries.
func BenchmarkFilingAnArchive(b *testing.B) {
	for _, n := range []int{500, 1000, 2000, 4000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var files []string
			for i := range n {
				files = append(files, fmt.Sprintf("%05d.csv", i), fmt.Sprint("content ", i))
			}
			archive := attached("many", "many.zip", "application/zip", []byte(zipped(b, files...)))
			for b.Loop() {
				box := &memory{validity: 1}
				box.add(archive)
				h := newHouse(b, box.dial)
				h.watched()
				id := h.rule(bundles(unpacking))
				begun := time.Now()
				h.fileOld(id) // what is new has a limit on files in an hour
				h.until("all is filed", func() bool { return h.inB(fmt.Sprintf("%05d.csv", n-1)) })
				b.ReportMetric(float64(time.Since(begun).Microseconds())/float64(n), "µs/entry")
				h.engine.Stop()
			}
		})
	}
}
