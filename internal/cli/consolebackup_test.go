package cli

import (
	"os"
	"path/filepath"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// An administrator sets backups up in the console, is told what is wrong with the place and the passphrase, makes one
// more, and sees that one failed.
func TestBackupsAreSetUpInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	section(b, "Service")
	b.Sees("Ink Tray makes no backups yet.")
	b.Press("Set up backups")
	folder := filepath.Join(t.TempDir(), "backups")
	b.Type("Folder", "backups")
	b.Type("Passphrase", "short")
	barriers("the plan of backups")
	b.Press("Begin")
	b.Sees("Give the whole path of the folder, from its beginning.")
	b.Type("Folder", folder)
	b.Press("Begin")
	b.Sees("The passphrase needs at least 12 characters.")
	b.Type("Passphrase", "seven gulls on a cold mole")
	b.Type("How many to keep", "3")
	b.Press("Begin")
	b.Sees("every day at 02:30, 3 are kept, opened with a passphrase")
	b.Sees("It was read back to its end.")
	b.Sees("1 backup is kept")
	barriers("backups")
	b.Scheme("light")
	b.Press("Change the plan")
	b.Sees("Leave empty to keep it.")
	b.Type("Days between two backups", "7")
	b.Press("Save")
	b.Sees("every 7 days at 02:30")
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	b.Press("Back up now")
	b.Sees("The backup failed")
	b.Sees("failed")
	b.Press("Tray")
	b.Sees("The backup could not be made")
	section(b, "Service")
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	b.Press("Back up now")
	b.Sees("2 backups are kept")
	b.Press("Change the plan")
	b.Press("Stop making backups")
	b.Sees("Ink Tray makes no backups yet.")
}
