package cli

import (
	"errors"
	"io"
	"strings"
	"testing"

	"inktray.example/inktray/client"
)

// TestFilesCanComeFromStandardInput gives what commands read from files through standard input.
func TestFilesCanComeFromStandardInput(t *testing.T) {
	o := openOffice(t, theWeeks)
	piped := func(in string, args ...string) {
		t.Helper()
		if out, errs, code := run(t, in, args...); code != 0 {
			t.Errorf("inktray %s: %d, %s%s", strings.Join(args, " "), code, out, errs)
		}
	}
	piped("a secret of the pier\n", "notifications", "change", "Berth planner", "--secret-file", "-")
	piped("a password of the server\n", "outgoing", "set", "--password-file", "-")
	piped("zipped\n", "correspondents", "change", "Corrin Liner Agency", "--archive-passwords", "-")
	piped("ST-91,Ferry steps\n", "tables", "save", "piped", "-")
	piped("a phrase of twelve letters\n", "backup", "plan", "--folder", t.TempDir(), "--passphrase-file", "-")
	piped(must(t, "rules", "show", "Tide gauge readings"), "rules", "save", "-")
	piped("format: 1\nmailboxes:\n  - {name: gauges, interval: 98}\n", "apply", "-", "--yes")
	if got := value[client.Mailbox](t, "mailboxes", "show", "gauges").IntervalSeconds; got != 98 {
		t.Errorf("the interval is %d s", got)
	}
	t.Setenv("INKTRAY_SECRET", "a password")
	// What cannot be read is told, and nothing is set.
	for _, c := range []struct {
		in   string
		args []string
		says string
	}{
		{"x\n", []string{"machines", "add", "north", "--address", o.service.address(), "--token-file", "-", "--of", "/tmp",
			"--replica-passphrase-file", "-"}, "standard input is read once"},
		{"no certificate\n", []string{"cabinets", "add", "north", "--kind", "webdav", "--folder", "https://127.0.0.1:1/files",
			"--user", "office", "--authority-file", "-"}, "certificate"},
	} {
		if out, errs, code := run(t, c.in, c.args...); code == 0 || !strings.Contains(errs, c.says) {
			t.Errorf("inktray %s: %d, %s%s", strings.Join(c.args, " "), code, out, errs)
		}
	}
}

// endless gives so many octets.
type endless int

func (n *endless) Read(p []byte) (int, error) {
	if *n <= 0 {
		return 0, io.EOF
	}
	given := min(int(*n), len(p))
	*n -= endless(given)
	return given, nil
}

func TestStandardInputIsWholeOrRefused(t *testing.T) {
	short, long := endless(mostPiped), endless(mostPiped+1<<20)
	if data, err := piped(&short); err != nil || len(data) < mostPiped {
		t.Errorf("%v, %d octets", err, len(data))
	}
	var refused usageError
	if _, err := piped(&long); !errors.As(err, &refused) {
		t.Errorf("more than is read gives %v", err)
	}
}
