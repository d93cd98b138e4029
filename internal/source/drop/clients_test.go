package drop

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// Programs that people and machines send mail with, each against the receiver.
func TestRealClients(t *testing.T) {
	h := newHouse(t, testbed.Names{})
	smtpAt, lmtpAt := h.listen(t, false), h.listen(t, true)
	host, port, err := net.SplitHostPort(smtpAt)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "letter.eml")
	if err := os.WriteFile(file, []byte(letter), 0o644); err != nil {
		t.Fatal(err)
	}
	const to = "gauges@drop.brackwater.example"
	for name, args := range map[string][]string{
		"swaks": {"swaks", "--server", smtpAt, "--from", "oda@tidewatch.example", "--to", to, "--data", "@" +
			file},
		"swaks with encryption": {"swaks", "--server", smtpAt, "--tls", "--from", "oda@tidewatch.example", "--to", to,
			"--data", "@" + file},
		"swaks by LMTP": {"swaks", "--server", lmtpAt, "--protocol", "LMTP", "--from", "oda@tidewatch.example",
			"--to", to, "--data", "@" + file},
		"curl": {"curl", "-sS", "--url", "smtp://" + smtpAt, "--mail-from", "oda@tidewatch.example",
			"--mail-rcpt", to, "--upload-file", file},
		"msmtp": {"msmtp", "--host=" + host, "--port=" + port, "--from=oda@tidewatch.example", "--tls=off",
			to},
		"msmtp, pipelined, STLS": {"msmtp", "--host=" + host, "--port=" + port, "--from=oda@tidewatch.example", "--tls=on",
			"--tls-starttls=on", "--tls-certcheck=off", to},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(args[0]); err != nil {
				testbed.LeaveOut(t, "a real client: install "+args[0])
			}
			before := len(h.of("gauges"))
			c := exec.CommandContext(t.Context(), args[0], args[1:]...)
			c.Stdin = strings.NewReader(letter)
			c.Env = append(os.Environ(), "HOME="+t.TempDir())
			if out, err := c.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			got := h.of("gauges")
			if len(got) != before+1 {
				t.Fatalf("%d messages came, want one", len(got)-before)
			}
			body := []byte(got[before])
			if i := bytes.Index(body, []byte("\r\n\r\n")); i < 0 ||
				!strings.HasPrefix(strings.TrimRight(string(body[i+4:]), "\r\n")+"|", "It is 4.2 m.\r\n.A line with a dot|") {
				t.Errorf("it came as %q", body)
			}
			for _, want := range []string{"Subject: Reading\r\n", fmt.Sprintf("Delivered-To: %s\r\n", to),
				"Return-Path: <oda@tidewatch.example>\r\n"} {
				if !bytes.Contains(body, []byte(want)) {
					t.Errorf("it lacks %q", want)
				}
			}
		})
	}
}
