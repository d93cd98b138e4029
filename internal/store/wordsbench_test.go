package store

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	program "os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/register"
)

// papersOf makes up documents of some hundred words, of which few are frequent, as in every language.
func papersOf(random *rand.Rand) func() string {
	zipf := rand.NewZipf(random, 1.1, 4, 60_000)
	return func() string {
		var b strings.Builder
		fmt.Fprintf(&b, "Declaration WD-%d of %d\n", random.IntN(1e6), 2000+random.IntN(27))
		for range 300 + random.IntN(300) {
			fmt.Fprintf(&b, "w%dx ", zipf.Uint64())
		}
		return b.String()
	}
}

// sources are the texts of another origin: the source of Go, which is there wherever this is built.
func sources(b *testing.B, random *rand.Rand) func() string {
	var all []byte
	root, err := program.Command("go", "env", "GOROOT").Output()
	if err != nil {
		b.Skip(err)
	}
	folder := filepath.Join(strings.TrimSpace(string(root)), "src")
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" || len(all) > 60<<20 {
			return err
		}
		data, err := os.ReadFile(path)
		all = append(all, data...)
		return err
	})
	if err != nil || len(all) < 1<<20 {
		b.Skip("the source of Go is not here: ", err)
	}
	return func() string {
		at := random.IntN(len(all) - 3000)
		return strings.ToValidUTF8(string(all[at:at+3000]), "")
	}
}

// BenchmarkWordsInside builds the words inside of 100,000 documents of some 3 KB and searches them: rare, usual and
// frequent words, phrases and beginnings, with the lines that are shown and where the words stand.
func BenchmarkWordsInside(b *testing.B) {
	const files = 100_000
	for _, origin := range []string{"made up", "source of Go"} {
		b.Run(origin, func(b *testing.B) {
			random := rand.New(rand.NewPCG(7, 7))
			text := papersOf(random)
			looked := []string{"w3x", "w50x", "w900x", "w20000x", "w1x w2x", "w12*", "declaration", "w7x w8x"}
			if origin != "made up" {
				text = sources(b, random)
				looked = []string{"return", "the", "goroutine", "unmarshal", "if err", "sync*", "http request", "certificate"}
			}
			s, err := Open(b.TempDir())
			if err != nil {
				b.Fatal(err)
			}
			b.Cleanup(func() { _ = s.Close() })
			for i := range files {
				s.index.Put(register.Row{Number: register.Number{Year: 2026, Number: i + 1}, State: register.Filed, Size: 1})
			}
			s.loaded = true
			began, octets := time.Now(), 0
			for i := range files {
				said := text()
				octets += len(said)
				f := &Filing{Year: 2026, Number: i + 1, RuleID: "r", SHA256: make([]byte, 32)}
				if err := s.Words.Put(b.Context(), f, said, ""); err != nil {
					b.Fatal(err)
				}
			}
			built := time.Since(began)
			stats, err := s.Words.Stats(b.Context())
			if err != nil {
				b.Fatal(err)
			}
			search := func(q register.Query) time.Duration {
				began := time.Now()
				found, err := s.Register.Find(b.Context(), System, q)
				if err == nil && len(q.Inside) > 0 {
					_, err = s.Words.Snippets(b.Context(), q.Inside, found.Numbers)
				}
				if err != nil {
					b.Fatal(err)
				}
				return time.Since(began)
			}
			var took, other []time.Duration
			for b.Loop() {
				for _, words := range looked {
					took = append(took, search(register.Query{Search: register.Search{Inside: []string{words}}, Most: 50}))
					other = append(other, search(register.Query{Search: register.Search{Words: []string{"tidewatch"}}, Most: 50}))
				}
			}
			slices.Sort(took)
			slices.Sort(other)
			at := func(all []time.Duration, share float64) float64 {
				return all[int(float64(len(all)-1)*share)].Seconds() * 1000
			}
			b.ReportMetric(at(took, 0.5), "ms/median")
			b.ReportMetric(at(took, 0.95), "ms/p95")
			b.ReportMetric(at(other, 0.95), "ms/p95-of-others")
			b.ReportMetric(built.Seconds(), "s/build")
			b.ReportMetric(float64(stats.Octets)/1e6, "MB/index")
			b.ReportMetric(float64(octets)/1e6, "MB/text")
		})
	}
}
