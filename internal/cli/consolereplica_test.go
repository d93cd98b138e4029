package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// An administrator sees in the console how the replica does and which machine waits, lets it take over, and goes on
// there.
func TestAMachineThatWaitsTakesOverByTheConsole(t *testing.T) {
	source := axe(t)
	t.Setenv(replicaPassphrase, "seven gulls on a cold mole")
	place := filepath.Join(t.TempDir(), "replica")
	if err := os.Mkdir(place, 0o700); err != nil {
		t.Fatal(err)
	}
	quay := startProcess(t, "--replica", place, "--lease", "6s", "--machine", "quay")
	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	b.Open(quay.url)
	b.Type("Name", demoPerson)
	b.Type("Password", "a long password")
	b.Press("Sign in")
	section(b, "Service")
	b.Sees("The machine “quay” works.")
	b.Sees("No other machine is ready")

	tower := &process{t: t, folder: t.TempDir(), url: fmt.Sprintf("http://127.0.0.1:%d", testbed.FreePort(t))}
	tower.args = []string{"standby", "--data", tower.records(), "--listen", strings.TrimPrefix(tower.url, "http://"),
		"--of", place, "--machine", "tower"}
	t.Cleanup(tower.kill)
	tower.begin()
	b.Sees("waits, and its copy has everything")
	b.Sees("It has everything.")
	barriers("the replica")
	b.Scheme("light")
	b.Run(`document.getElementById("replica").scrollIntoView()`, nil)
	picture(t, b, "console-replica")
	other := testbed.StartBrowser(t, 1280, 800)
	other.Open(tower.url)
	other.Sees("The machine “tower” waits to take over; the machine “quay” works.")
	other.Sees("Its copy has everything that is in the replica")

	b.Press("Let tower take over")
	b.Sees("This machine first finishes its work, so nothing is lost.")
	barriers("letting a machine take over")
	b.Press("Let it take over")
	b.Sees("Open Ink Tray at the address of the other one.")
	until(t, "the other machine works", tower.answers)
	other.Open(tower.url)
	other.Type("Name", demoPerson)
	other.Type("Password", "a long password")
	other.Press("Sign in")
	section(other, "Service")
	other.Sees("The machine “tower” works.")
}
