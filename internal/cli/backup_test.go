package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

// The demo's office is backed up by plan, on request and to a file. What is saved is put back after all is lost, and
// the service goes on from there: it knows what was filed meanwhile.
func TestAnOfficeIsBackedUpLostAndRestored(t *testing.T) {
	o := openOffice(t, theLast)
	t.Setenv("INKTRAY_BACKUP_PASSPHRASE", "")
	says(t, "before", must(t, "backup", "show"), "Ink Tray makes no backups by itself")
	says(t, "without a place", fails(t, "backup", "make"), "No place for backups is set")
	says(t, "without a passphrase", fails(t, "backup", "plan", "--folder", t.TempDir()), "a secret is missing")

	short, phrase := write(t, "short", "too short\n"), write(t, "passphrase", "seven gulls on a cold mole\n")
	folder := filepath.Join(t.TempDir(), "backups")
	says(t, "a short one", fails(t, "backup", "plan", "--folder", folder, "--passphrase-file", short),
		"at least 12 characters")
	says(t, "a relative folder", fails(t, "backup", "plan", "--folder", "backups", "--passphrase-file", phrase),
		"give the whole path")
	records := filepath.Join(o.folder, "records")
	says(t, "among the records",
		fails(t, "backup", "plan", "--folder", filepath.Join(records, "b"), "--passphrase-file", phrase),
		"would be lost with it")
	must(t, "backup", "plan", "--folder", folder, "--passphrase-file", phrase, "--keep", "2")
	until(t, "the first one is made at once", func() bool {
		b := value[client.Backup](t, "backup", "show")
		return b.Last != nil && b.RunningSince == nil
	})
	var made []string
	for range 3 {
		made = append(made, value[client.Backup](t, "backup", "make").Last.Name)
	}
	b := value[client.Backup](t, "backup", "show")
	if len(b.Kept) != 2 || b.Kept[0].Name != made[2] || b.Kept[1].Name != made[1] || b.Late || !b.PassphraseKept {
		t.Errorf("after three more: %+v", b)
	}
	says(t, "what people read", must(t, "backup", "show"), "every day at 02:30 into "+folder, "read back to its end",
		made[2])
	says(t, "a kept one", must(t, "backup", "check", filepath.Join(folder, made[2]), "--passphrase-file", phrase),
		"is whole", "made by Ink Tray")
	if text := must(t, "audit", "list", "--output", "json"); strings.Contains(text, "gulls") {
		t.Error("the passphrase is in the audit trail")
	}

	says(t, "another key for the records", must(t, "records", "change-key", "--yes"), "Encrypted again: ")
	must(t, "backup", "make") // with the passphrase that was sealed anew

	// To a cabinet, for a public key.
	key := filepath.Join(t.TempDir(), "private")
	public := regexp.MustCompile(`age1[a-z0-9]+`).FindString(must(t, "backup", "new-key", key))
	says(t, "a wrong key", fails(t, "backup", "plan", "--cabinet", "harbour files", "--public-key", "age1no"),
		"is not a public key")
	says(t, "no such cabinet", fails(t, "backup", "plan", "--cabinet", "none", "--public-key", public),
		"there is no cabinet of this name")
	must(t, "backup", "plan", "--cabinet", "harbour files", "--public-key", public)
	must(t, "backup", "make")
	kept, err := filepath.Glob(filepath.Join(o.folder, "files", "Ink Tray backups", "*.age"))
	if err != nil || len(kept) != 1 {
		t.Fatalf("in the cabinet are %v, %v", kept, err)
	}
	says(t, "with the key", must(t, "backup", "check", kept[0], "--key-file", key), "is whole")
	says(t, "with a passphrase", fails(t, "backup", "check", kept[0], "--passphrase-file", phrase),
		"not opened by this passphrase or key")
	says(t, "files that the register does not know", must(t, "cabinets", "unknown", "harbour files"),
		"The register knows all of its")
	must(t, "backup", "plan", "--off")

	// Saved, lost, put back.
	file := filepath.Join(t.TempDir(), "office.age")
	says(t, "saving", must(t, "backup", "save", file, "--passphrase-file", phrase), "It was read back to its end")
	before := value[client.RegisterPage](t, "register", "list", "--most", "500")
	people := must(t, "people", "list")
	o.arriving(6)
	until(t, "all seven files of these messages are filed", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "--most", "500").Filings) == len(before.Filings)+7
	})
	after := value[client.RegisterPage](t, "register", "list", "--most", "500")
	files := o.files()
	options := o.options
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(records); err != nil {
		t.Fatal(err)
	}
	says(t, "into a folder with something in it",
		fails(t, "restore", file, "--data", o.folder, "--passphrase-file", phrase, "--yes"), "is not empty")
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	half := write(t, "half.age", string(whole[:len(whole)/2]))
	says(t, "half of it", fails(t, "restore", half, "--data", records, "--passphrase-file", phrase, "--yes"),
		"it is damaged, or ends too early")
	if left, _ := os.ReadDir(records); len(left) != 0 {
		t.Errorf("half a backup left %v", left)
	}
	says(t, "putting it back", must(t, "restore", file, "--data", records, "--passphrase-file", phrase, "--yes"),
		"inktray serve --data")
	options.listen = o.service.listener.Addr().String()
	if o.service, err = start(options); err != nil {
		t.Fatal(err)
	}
	until(t, "the comparison is over", func() bool {
		return value[client.Restored](t, "restored").EndedAt != nil
	})
	again := value[client.RegisterPage](t, "register", "list", "--most", "500")
	if len(again.Filings) != len(after.Filings) {
		t.Errorf("the register has %d lines, before it had %d", len(again.Filings), len(after.Filings))
	}
	if now := o.files(); fmt.Sprint(now) != fmt.Sprint(files) {
		t.Errorf("the files are not those of before:\n%v\n%v", files, now)
	}
	if now := must(t, "people", "list"); now != people {
		t.Errorf("the people are\n%s, before\n%s", now, people)
	}
	report := must(t, "restored")
	says(t, "the report", report, "7 of these are recognised", "0 files belong to no message in the mailboxes")
	says(t, "the trail", must(t, "audit", "list", "--text", "restore"), "inktray restore")
}

func TestABackupIsSavedToStandardOutput(t *testing.T) {
	o := openOffice(t, empty)
	o.token, _ = o.person("Ines Halloway", store.Administrator)
	t.Setenv("INKTRAY_TOKEN", o.token)
	t.Setenv("INKTRAY_BACKUP_PASSPHRASE", "seven gulls on a cold mole")
	out, errs, code := run(t, "", "backup", "save", "-")
	if code != 0 {
		t.Fatal(errs)
	}
	says(t, "what is said beside it", errs, "The backup is whole")
	says(t, "what was written", must(t, "backup", "check", write(t, "b", out)), "is whole")
	says(t, "no backup", fails(t, "backup", "check", write(t, "c", "something else")), "is not a backup of Ink Tray")
	says(t, "records that were never restored", fails(t, "restored"), "did not come out of a backup")
}
