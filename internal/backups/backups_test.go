package backups

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/store"
)

func TestWhenABackupIsDue(t *testing.T) {
	zone := time.FixedZone("office", 3600)
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, zone) }
	for _, c := range []struct {
		every      int
		last, want time.Time
	}{
		{1, at(3, 2, 30), at(4, 2, 30)},
		{1, at(3, 2, 31), at(4, 2, 30)},
		{1, at(3, 15, 0), at(4, 2, 30)}, // made by hand in the afternoon
		{1, at(3, 1, 0), at(3, 2, 30)},  // made by hand in the night
		{7, at(3, 2, 40), at(10, 2, 30)},
		{7, at(3, 0, 10), at(9, 2, 30)},
	} {
		p := &store.BackupPlan{At: "02:30", EveryDays: c.every}
		if got := Next(p, c.last); !got.Equal(c.want) {
			t.Errorf("every %d days, after %s: %s, want %s", c.every, c.last, got, c.want)
		}
	}
	p := &store.BackupPlan{At: "02:30", EveryDays: 1}
	done := &store.BackupDone{At: at(3, 2, 30)}
	if Late(p, done, nil, at(5, 2, 0)) || !Late(p, done, nil, at(5, 3, 0)) || Late(p, nil, nil, at(5, 3, 0)) ||
		!Late(p, nil, &store.BackupFailed{}, at(5, 3, 0)) {
		t.Error("it is late too early or too late")
	}
}

// made is what makes backups of new records into a folder.
func made(t *testing.T) (b *Backups, folder string, now *time.Time) {
	t.Helper()
	data := t.TempDir()
	records, err := store.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	start := time.Now()
	now = &start
	shared := base.New(base.Base{Store: records, Clock: func() time.Time { return *now }, Zone: time.UTC,
		Log: slog.New(slog.DiscardHandler)})
	shared.Installation = "test"
	b, folder = New(shared, nil, data, "1"), filepath.Join(t.TempDir(), "kept")
	if problem := b.CheckFolder(folder); problem != "" {
		t.Fatal(problem)
	}
	phrase := "seven gulls on a cold mole"
	plan := store.BackupPlan{Place: store.BackupInFolder, Folder: folder, At: "02:30", EveryDays: 1, Keep: 2}
	if err := records.Settings.PlanBackups(t.Context(), plan, &phrase, 0, "test"); err != nil {
		t.Fatal(err)
	}
	return b, folder, now
}

func (b *Backups) notices(t *testing.T) []store.Notice {
	t.Helper()
	all, err := b.Store.Tray.Notices(t.Context(), store.System)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func TestAPlaceThatIsGoneIsToldAndTriedAgain(t *testing.T) {
	b, folder, now := made(t)
	due := func() bool {
		t.Helper()
		is, err := b.due(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return is
	}
	if !due() {
		t.Error("the first one is not made at once")
	}
	if err := os.Rename(folder, folder+".away"); err != nil { // a share that is not mounted
		t.Fatal(err)
	}
	if err := b.Make(t.Context()); err == nil {
		t.Error("it was made where the folder is gone")
	}
	if _, err := os.Stat(folder); err == nil {
		t.Error("the folder was made anew")
	}
	if all := b.notices(t); len(all) != 1 || !strings.Contains(all[0].Text, "The backup could not be made") {
		t.Errorf("the tray has %+v", all)
	}
	if due() {
		t.Error("it is tried again at once")
	}
	*now = now.Add(61 * time.Minute)
	if !due() {
		t.Error("it is not tried again after an hour")
	}
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	if err := b.Make(t.Context()); err != nil {
		t.Fatal(err)
	}
	if all := b.notices(t); len(all) != 0 || due() {
		t.Errorf("once it is made, the tray has %+v", all)
	}
	*now = now.Add(25 * time.Hour)
	if !due() {
		t.Error("the next day none is due")
	}
}

func TestOldBackupsGoAndOthersFilesStay(t *testing.T) {
	b, folder, now := made(t)
	others := []string{"inktray-other-2020-01-01-023000.age", "inktray-test-notes.age", "budget.xlsx"}
	for _, name := range others {
		if err := os.WriteFile(filepath.Join(folder, name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for range 4 {
		if err := b.Make(t.Context()); err != nil {
			t.Fatal(err)
		}
		*now = now.Add(24 * time.Hour)
	}
	kept, err := b.Kept(t.Context())
	if err != nil || len(kept) != 2 {
		t.Errorf("kept are %v, %v", kept, err)
	}
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 2+len(others) {
		t.Errorf("in the folder are %v, %v", entries, err)
	}
}

func TestFoldersInWhichNoBackupsAreKept(t *testing.T) {
	b, folder, _ := made(t)
	file := filepath.Join(folder, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"kept": "whole path", b.data: "would be lost with it",
		filepath.Join(b.data, "mail"): "would be lost with it", filepath.Join(file, "x"): "cannot be made"} {
		if got := b.CheckFolder(name); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if got := b.CheckFolder(filepath.Join(filepath.Dir(b.data), filepath.Base(b.data)+"-backups")); got != "" {
		t.Errorf("a folder whose name begins as that of the records: %s", got)
	}
}
