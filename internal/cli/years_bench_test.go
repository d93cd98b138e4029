package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// An installation after years: a thousand rules and a million filings. How long it takes from the start to ready, and
// how long a backup takes to be made and read back, how large it is, and how much memory that needs.
func BenchmarkAnInstallationAfterYears(b *testing.B) {
	folder := b.TempDir()
	records := filepath.Join(folder, "records")
	if err := os.Mkdir(records, 0o700); err != nil {
		b.Fatal(err)
	}
	setUp(b, records, filled(b, manyFilings))
	p := startProcessIn(b, folder)
	if _, err := call[client.Cabinet](p.api.AddCabinet(b.Context(), client.CabinetSettings{Name: "office files",
		Folder: filepath.Join(folder, "files")})); err != nil {
		b.Fatal(err)
	}
	for i := range 1000 {
		text := fmt.Sprintf(`{"name":"Rule %d","cabinet":"office files","look":{"mailboxes":"all"},"match":{"sender":{"domain":`+
			`"d%d.example"}},"attachments":[{"take":"everything","folder":"F%d/<received year>"}]}`, i, i, i)
		r, err := call[client.Rule](p.api.AddRule(b.Context(), []byte(text)))
		if err == nil {
			_, err = call[client.Rule](p.api.SwitchRuleOn(b.Context(), r.ID, client.SwitchOnRequest{}))
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	var took []time.Duration
	for b.Loop() {
		for range 5 {
			p.kill()
			began := time.Now()
			p.begin()
			for !p.answers() {
				if time.Since(began) > testbed.Patience {
					b.Fatal("it is not ready")
				}
				time.Sleep(2 * time.Millisecond)
			}
			took = append(took, time.Since(began))
		}
	}
	b.ReportMetric(float64(worst(took).Milliseconds()), "ms/ready")

	p.get("/api/v1/register", nil)
	time.Sleep(10 * time.Second) // what was read at the start is let go of
	phrase, place, keep := "seven gulls on a cold mole", b.TempDir(), 1
	if _, err := call[client.Backup](p.api.PlanBackups(b.Context(), nil, client.BackupSettings{Place: "folder",
		Folder: &place, Passphrase: &phrase, Keep: &keep})); err != nil {
		b.Fatal(err)
	}
	before, peak := megabytes(b, p.command.Process.Pid) // the register is being read
	var done *client.BackupDone
	untilWithin(b, 10*time.Minute, "the backup is made", func() bool {
		time.Sleep(200 * time.Millisecond)
		state, err := call[client.Backup](p.api.GetBackup(b.Context()))
		if err != nil || state.Problem != nil {
			b.Fatal(err, state.Problem)
		}
		done = state.Last
		return done != nil && state.RunningSince == nil
	})
	_, most := megabytes(b, p.command.Process.Pid)
	size, err := os.Stat(filepath.Join(records, "inktray.db"))
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(done.Seconds), "s/backup")
	b.ReportMetric(float64(done.Size)/1e6, "MB/backup")
	b.ReportMetric(float64(size.Size())/1e6, "MB/records")
	b.ReportMetric(before, "MB/before")
	b.ReportMetric(peak, "MB/most-before")
	b.ReportMetric(most, "MB/most")
}

// worst is the longest of several.
func worst(all []time.Duration) (most time.Duration) {
	for _, d := range all {
		most = max(most, d)
	}
	return most
}
