package cabinettest

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
)

// InFlight is how many files are under way at once in a measurement.
const InFlight = 4

// Throughput files a hundred files of a megabyte, four at once, and lets an ordinary
// client of the same protocol copy the same files, four at once, in turn: as it does,
// and with the checksums taken (sha256sum), as filing takes them. It reports the quickest
// of three rounds of each, and fails where filing takes more than 1.5 times as long as a
// copy with checksums. plain copies files into a folder of that name, over one connection
// or process.
func Throughput(b *testing.B, c cabinet.Cabinet, plain func(b *testing.B, folder string, files []string)) {
	b.Helper()
	const many, octets = 100, 1_000_000
	dir := b.TempDir()
	var files []string
	for i := range many {
		data := make([]byte, octets)
		rand.Read(data)
		name := filepath.Join(dir, fmt.Sprintf("survey%03d.bin", i))
		if err := os.WriteFile(name, data, 0o644); err != nil {
			b.Fatal(err)
		}
		files = append(files, name)
	}
	share := func(work func(mine []string) error) time.Duration {
		began := time.Now()
		var all sync.WaitGroup
		errs := make([]error, InFlight)
		for w := range InFlight {
			all.Go(func() { errs[w] = work(files[w*many/InFlight : (w+1)*many/InFlight]) })
		}
		all.Wait()
		if err := errors.Join(errs...); err != nil {
			b.Fatal(err)
		}
		return time.Since(began)
	}
	ours, others, summed := time.Hour, time.Hour, time.Hour
	for round := range 3 {
		others = min(others, share(func(mine []string) error { plain(b, fmt.Sprintf("plain%d", round), mine); return nil }))
		summed = min(summed, share(func(mine []string) error {
			plain(b, fmt.Sprintf("summed%d", round), mine)
			return exec.Command("sha256sum", mine...).Run()
		}))
		ours = min(ours, share(func(mine []string) error {
			for _, name := range mine {
				f, err := os.Open(name)
				if err != nil {
					return err
				}
				base := filepath.Base(name)
				_, err = c.Stage(b.Context(), fmt.Sprintf("t%d-%s", round, base), received, f)
				if err := errors.Join(err, f.Close()); err != nil {
					return err
				}
				spot, err := c.Resolve(b.Context(), []string{fmt.Sprintf("Surveys %d", round)}, base)
				if err != nil {
					return err
				}
				if err := c.Commit(b.Context(), fmt.Sprintf("t%d-%s", round, base), spot.Path); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(many/ours.Seconds(), "filed/s")
	b.ReportMetric(many/others.Seconds(), "copied/s")
	b.ReportMetric(many/summed.Seconds(), "copied-with-checksums/s")
	b.ReportMetric(ours.Seconds()/others.Seconds(), "times-a-copy")
	ratio := ours.Seconds() / summed.Seconds()
	b.ReportMetric(ratio, "times-a-copy-with-checksums")
	b.Logf("filed %.0f, copied %.0f, with checksums %.0f a second", many/ours.Seconds(), many/others.Seconds(),
		many/summed.Seconds())
	if ratio > 1.5 {
		b.Errorf("filing takes %.2f times as long as a copy with checksums; the limit is 1.5", ratio)
	}
}
