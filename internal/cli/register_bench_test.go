package cli

import (
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"

	"inktray.example/inktray/internal/testbed"
)

// The real process with a register of a million filings, over HTTP.

const manyFilings = 1_000_000

var benchRecords = flag.String("records", "", "folder in which the million is kept from one benchmark to the next")

// megabytes is what a process holds of the machine's, in megabytes: now, and at the most.
func megabytes(t testing.TB, pid int) (now, most float64) {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		testbed.LeaveOut(t, "a system that tells the memory of a process")
	}
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) > 1 && (fields[0] == "VmRSS:" || fields[0] == "VmHWM:") {
			kb, _ := strconv.ParseFloat(fields[1], 64)
			if fields[0] == "VmRSS:" {
				now = kb / 1000
			} else {
				most = kb / 1000
			}
		}
	}
	return now, most
}

// filled puts so many filings into records.
func filled(t testing.TB, n int) func(*store.Store) error {
	return func(records *store.Store) error {
		began := time.Now()
		got, err := records.Journal.Enter(t.Context(), demo.Many(n, 1, time.Now()))
		if err == nil && got != n {
			err = fmt.Errorf("%d of %d were entered", got, n)
		}
		t.Logf("%d filings were entered in %v", n, time.Since(began).Round(time.Second))
		return err
	}
}

// get asks the interface and says how long the whole answer took.
func (p *process) get(path string, q url.Values) time.Duration {
	p.t.Helper()
	r, err := http.NewRequestWithContext(p.t.Context(), "GET", p.url+path+"?"+q.Encode(), nil)
	if err != nil {
		p.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+p.token)
	began := time.Now()
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	body, err := io.ReadAll(response.Body)
	response.Body.Close()
	took := time.Since(began)
	if err != nil || response.StatusCode != 200 {
		p.t.Fatalf("%s?%s: %d %s %v", path, q.Encode(), response.StatusCode, body, err)
	}
	return took
}

// question makes up what somebody asks: nothing, a word, two, a part of a name, a
// filter, several.
func question(r *rand.Rand) string {
	row := register.Row{}
	for some := range demo.Many(1, r.Uint64(), time.Now()) {
		row = some
	}
	word := func() string {
		words := strings.Fields(row.Subject + " " + row.File + " " + row.SenderName)
		return strings.Trim(words[r.IntN(len(words))], ",")
	}
	part := func(s string) string {
		runes := []rune(s)
		at := r.IntN(max(1, len(runes)-3))
		return strings.Trim(string(runes[at:min(len(runes), at+3+r.IntN(4))]), " ")
	}
	switch r.IntN(12) {
	case 0:
		return ""
	case 1, 2:
		return word()
	case 3:
		return word() + " " + word()
	case 4:
		return part(word())
	case 5:
		return "sender:" + part(row.SenderAddress)
	case 6:
		return "kind:" + row.Kind + " since:" + strconv.Itoa(2015+r.IntN(11))
	case 7:
		return fmt.Sprintf("on:%d-%02d larger:%dKB", 2016+r.IntN(10), 1+r.IntN(12), 1+r.IntN(3000))
	case 8:
		return `rule:"` + word() + `" ` + word()
	case 9:
		return word() + " without:" + word()
	case 10:
		return fmt.Sprintf("%d-%d", 2016+r.IntN(10), 1+r.IntN(80_000))
	}
	return "state:all subject:" + word() + " file:" + part(row.File)
}

// askedOften asks a register a thousand questions of all kinds, each with what more is given, and reports how long the
// answers took; the 95th percentile has a limit, in milliseconds.
func askedOften(b *testing.B, get func(path string, q url.Values) time.Duration, more url.Values, loaded,
	limit float64) {
	r := rand.New(rand.NewPCG(7, 1))
	var took []time.Duration
	slowest := ""
	for b.Loop() {
		for range 1000 {
			q := url.Values{"text": {question(r)}, "most": {"60"}}
			path := "/api/v1/register"
			switch r.IntN(8) {
			case 0:
				path += "/messages"
			case 1:
				path, q = path+"/folders", url.Values{"text": q["text"], "cabinet": {"harbour files"}}
			case 2:
				path += "/activity"
				q.Set("by", []string{"day", "rule", "sender", "kind", "mailbox"}[r.IntN(5)])
			}
			if !strings.HasSuffix(path, "folders") && !strings.HasSuffix(path, "activity") {
				q.Set("sort", string(register.Sorts[r.IntN(len(register.Sorts))]))
				q.Set("direction", []string{"up", "down"}[r.IntN(2)])
				if r.IntN(4) == 0 && len(more) == 0 { // a page somewhere
					q.Set("after", fmt.Sprintf("%d-%d", 2016+r.IntN(10), 1+r.IntN(80_000)))
				}
			}
			for name := range more {
				q.Set(name, more.Get(name))
			}
			d := get(path, q)
			if took = append(took, d); d == slices.Max(took) {
				slowest = path + "?" + q.Encode()
			}
		}
	}
	slices.Sort(took)
	at := func(f float64) float64 { return float64(took[int(f*float64(len(took)-1))].Microseconds()) / 1000 }
	b.ReportMetric(at(0.5), "ms/median")
	b.ReportMetric(at(0.95), "ms/95th")
	b.ReportMetric(at(0.99), "ms/99th")
	b.ReportMetric(at(1), "ms/slowest")
	b.ReportMetric(loaded, "MB/loaded")
	if b.Logf("slowest: %s", slowest); at(0.95) > limit {
		b.Errorf("%.0f ms at the 95th percentile, limit %.0f", at(0.95), limit)
	}
}

// BenchmarkRegisterOfAMillion asks the real service, and exports from it.
func BenchmarkRegisterOfAMillion(b *testing.B) {
	folder := *benchRecords
	if folder == "" {
		folder = b.TempDir()
	}
	if records := filepath.Join(folder, "records"); os.Mkdir(records, 0o700) == nil {
		setUp(b, records, filled(b, manyFilings))
	}
	p := startProcessIn(b, folder)
	service, get := p.api, p.get
	began := time.Now()
	get("/api/v1/register", nil)
	b.Logf("the first answer after the start took %v", time.Since(began).Round(10*time.Millisecond))
	loaded, _ := megabytes(b, p.command.Process.Pid)
	b.Run("questions", func(b *testing.B) {
		askedOften(b, get, url.Values{}, loaded, 100)
	})
	b.Run("export of 100000 rows to XLSX", func(b *testing.B) {
		for b.Loop() {
			text := fmt.Sprintf("since:%d before:%d", time.Now().Year()-2, time.Now().Year())
			most, tables := 100_000, client.ExportRequestFormat("xlsx")
			x, err := call[client.Export](service.StartExport(b.Context(),
				client.ExportRequest{Format: tables, Search: &client.RegisterSearch{Text: &text}}))
			if err != nil {
				b.Fatal(err)
			}
			before, _ := megabytes(b, p.command.Process.Pid)
			largest := before
			for x.State == "running" {
				<-time.After(20 * time.Millisecond)
				now, _ := megabytes(b, p.command.Process.Pid)
				largest = max(largest, now)
				if x, err = call[client.Export](service.GetExport(b.Context(), x.ID)); err != nil {
					b.Fatal(err)
				}
			}
			if x.State != "done" || x.Rows < most {
				b.Fatalf("%s after %d of %d rows", x.State, x.Done, x.Rows)
			}
			b.ReportMetric(float64(x.Rows), "rows")
			b.ReportMetric(largest, "MB/most")
			b.ReportMetric(largest-before, "MB/for-it")
			b.ReportMetric(float64(x.Size)/1e6, "MB/file")
			if largest-before > 200 {
				b.Errorf("the export takes %.0f MB, limit 200", largest-before)
			}
		}
	})
}
