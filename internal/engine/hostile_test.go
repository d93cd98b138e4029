package engine

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

func zipBomb() string {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	zeros := make([]byte, 1<<20)
	for i := range 10 {
		w, err := z.Create(fmt.Sprint("zeros", i))
		if err != nil {
			panic(err)
		}
		for range 30 {
			if _, err := w.Write(zeros); err != nil {
				panic(err)
			}
		}
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return out.String()
}

// hostileMail are messages that nobody writes by accident.
func hostileMail(t testing.TB) map[string][]byte {
	var many []string
	for i := range 200 {
		many = append(many, fmt.Sprintf("file %03d.csv", i), fmt.Sprint("content ", i))
	}
	inner := "Content-Type: text/csv; name=deep.csv\r\n\r\na;b"
	for i := range 100 {
		inner = fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n%s\r\n--b%d--\r\n", i, i, inner, i)
	}
	folded := strings.Repeat(" reference-reference-reference@tidewatch.example\r\n", 2000)
	climbing := zipped(t, "../../../../etc/passwd", "x", "/root/.ssh/authorized_keys", "y", `..\..\windows\system.ini`,
		"z", strings.Repeat("deep/", 200)+"w", "w")
	b64 := func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }
	mixed := func(name, content string) []byte {
		return []byte("From: a@b.example\r\nSubject: hostile\r\nContent-Type: multipart/mixed; " +
			"boundary=b\r\n\r\n--b\r\n\r\nhello\r\n--b\r\nContent-Disposition: attachment; filename=" + name +
			"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + b64(content) + "\r\n--b--\r\n")
	}
	return map[string][]byte{
		"200 attachments": raw("many", many...),
		"100 levels":      []byte("From: a@b.example\r\nSubject: deep\r\n" + inner),
		"a header of 100 KB": append([]byte("From: a@b.example\r\nSubject: long\r\nReferences:\r\n"+folded),
			raw("long", "a.csv", "x")...),
		"a zip bomb":        mixed("bomb.zip", zipBomb()),
		"a zip that climbs": mixed("climb.zip", climbing),
		"a boundary of its own": []byte(
			"From: a@b.example\r\nContent-Type: multipart/mixed; boundary=\"\"\r\n\r\n--\r\n\r\nx\r\n----\r\n"),
		"a winmail.dat of noise": mixed("winmail.dat", "\x78\x9f\x3e\x22"+strings.Repeat("\xff", 100_000)),
		"a 7z of noise":          mixed("noise.7z", "7z\xbc\xaf\x27\x1c"+strings.Repeat("\x00\xff", 5000)),
		"ten thousand parameters": []byte("From: a@b.example\r\nContent-Type: application/pdf; " +
			strings.Repeat("a=b; ", 10_000) + "name=x.pdf\r\n\r\n%PDF"),
	}
}

func TestHostileMessagesAreDecidedOrHeldWithAReason(t *testing.T) {
	for name, message := range hostileMail(t) {
		h := fileNow(t, bundles("\n  - {take: everything, unpack: files, folder: B}\n"), message)
		h.said()
		entries, err := h.store.Journal.Recent(t.Context(), store.System, 500)
		unread, unreadErr := h.store.Retries.InTray(t.Context(), store.System, 10) // with a reason, as one matter of the tray
		if err != nil || unreadErr != nil || len(entries)+len(unread) == 0 && name != "a boundary of its own" {
			t.Errorf("%s: %d verdicts, %v, %v", name, len(entries), err, unreadErr)
		}
		filed := 0
		for _, e := range entries {
			switch {
			case e.State == store.Filed:
				filed++
			case e.Reason.IsZero():
				t.Errorf("%s: %s is %s without a reason", name, e.Name, e.State)
			}
		}
		want := map[string]int{"200 attachments": 200, "a header of 100 KB": 1, "a zip that climbs": 4,
			"ten thousand parameters": 1}
		if n, ok := want[name]; ok && filed != n {
			t.Errorf("%s: %d filed, want %d:\n%s", name, filed, n, h.said())
		}
		for path := range h.tree() {
			if !strings.HasPrefix(path, "B/") {
				t.Errorf("%s: %s lies outside of its folder", name, path)
			}
		}
	}
}

// BenchmarkHostileMessages measures how long each takes from its arrival to the
// last verdict, and how far the service's own memory grows meanwhile. Limits: 2 s
// and 64 MB.
func BenchmarkHostileMessages(b *testing.B) {
	for name, message := range hostileMail(b) {
		b.Run(name, func(b *testing.B) {
			box := &memory{validity: 1}
			h := newHouse(b, box.dial)
			h.watched()
			h.rule(bundles("\n  - {take: everything, unpack: files, folder: B}\n"))
			var longest time.Duration
			var grown uint64
			for b.Loop() {
				runtime.GC()
				var before, now runtime.MemStats
				runtime.ReadMemStats(&before)
				peak := before.HeapInuse
				stop, done := make(chan struct{}), make(chan struct{})
				go func() {
					defer close(done)
					for {
						select {
						case <-stop:
							return
						case <-time.After(2 * time.Millisecond):
							runtime.ReadMemStats(&now)
							peak = max(peak, now.HeapInuse)
						}
					}
				}()
				begun := time.Now()
				passes, err := h.store.Passes.Find(b.Context(), store.System, store.PassQuery{Most: 1})
				if err != nil {
					b.Fatal(err)
				}
				last := int64(0)
				if len(passes) > 0 {
					last = passes[0].ID
				}
				box.add(message)
				h.until("it is decided", func() bool {
					p, err := h.store.Passes.Find(b.Context(), store.System, store.PassQuery{Most: 1})
					return err == nil && len(p) == 1 && p[0].ID > last && p[0].State == store.Done
				})
				longest = max(longest, time.Since(begun))
				close(stop)
				<-done
				grown = max(grown, peak-before.HeapInuse)
			}
			b.ReportMetric(float64(longest.Milliseconds()), "ms-longest")
			b.ReportMetric(float64(grown)/1e6, "MB-grown")
			if longest > 2*time.Second || grown > 64<<20 {
				b.Errorf("it takes %v and %d MB", longest, grown>>20)
			}
		})
	}
}
