package testbed

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Mailutils is a running imap4d and pop3d of GNU Mailutils: IMAP4rev1 with little
// beside it, POP3 without SASL. Users are NAME@box.example, each with the password
// "pw".
type Mailutils struct {
	Host       string
	IMAP, POP3 int // plain; both offer encryption
	Roots      *x509.CertPool
	dir        string
	t          testing.TB
}

const mailutilsConfig = `
server 127.0.0.1:$PORT {
  single-process no;
  tls-mode ondemand;
  tls {
    ssl-certificate-file "$D/tls.crt";
    ssl-key-file "$D/tls.key";
  };
};
max-children 100;
foreground yes;
mode daemon;
pidfile "$D/$NAME.pid";
virtdomain { passwd-dir "$D/people"; };
auth { authorization "virtdomain"; authentication "generic:virtdomain"; };
$MAILBOX
logging { syslog no; };
locking { type null; };
`

// Each has the form of mailbox in which it numbers messages well.
var boxes = map[string]string{"imap4d": `mailbox { mail-spool "$D/spool"; };`, "pop3d": "mailbox { mailbox-type " +
	"maildir; };"}

// Only pop3d knows of these locks.
const mailutilsLocks = "mandatory-locking { lock-directory \"$D/locks\"; };\n"

// StartMailutils starts both servers. Where they are not installed or the test does
// not run as root, the test is left out and says so.
func StartMailutils(t testing.TB, users ...string) *Mailutils {
	t.Helper()
	for _, program := range []string{"imap4d", "pop3d"} {
		if _, err := exec.LookPath(program); err != nil || os.Getuid() != 0 {
			LeaveOut(t, "second IMAP and POP3 servers: install mailutils-imap4d and mailutils-pop3d, and run as root")
		}
	}
	dir, err := os.MkdirTemp(shortFolder(), "mu")
	if err != nil {
		t.Fatal(err)
	}
	m := &Mailutils{Host: "localhost", dir: dir, t: t}
	certificate, key, roots := Certificate(t)
	m.Roots = roots
	password, err := exec.Command("openssl", "passwd", "-1", "pw").Output()
	if err != nil {
		t.Fatal(err)
	}
	var people strings.Builder
	for _, user := range users {
		home := filepath.Join(dir, "home", user)
		if err := os.MkdirAll(home, 0o755); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&people, "%s:%s:0:0:%s:%s:/bin/sh\n", user, bytes.TrimSpace(password), user, home)
	}
	for _, sub := range []string{"people", "locks", "spool"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, data := range map[string]string{"tls.crt": string(certificate), "tls.key": string(key),
		"people/box.example": people.String()} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(data), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m.IMAP, m.POP3 = m.run("imap4d"), m.run("pop3d")
	return m
}

// run starts one of the servers and gives its port.
func (m *Mailutils) run(name string) int {
	m.t.Helper()
	for try := 1; ; try++ {
		port := FreePort(m.t)
		config := filepath.Join(m.dir, name+".conf")
		template := mailutilsConfig
		if name == "pop3d" {
			template += mailutilsLocks
		}
		text := strings.NewReplacer("$D", m.dir, "$PORT", fmt.Sprint(port), "$NAME", name, "$MAILBOX",
			strings.ReplaceAll(boxes[name], "$D", m.dir)).Replace(template)
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			m.t.Fatal(err)
		}
		c := exec.Command(name, "--config-file="+config)
		var said bytes.Buffer
		c.Stdout, c.Stderr, c.WaitDelay = &said, &said, time.Second
		dieWithParent(c)
		if err := c.Start(); err != nil {
			m.t.Fatal(err)
		}
		ended := make(chan struct{})
		go func() { c.Wait(); close(ended) }()
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); {
			if greets(port) == nil {
				m.t.Cleanup(func() { killAll(c); <-ended })
				return port
			}
			select {
			case <-ended:
				deadline = time.Now()
			case <-time.After(20 * time.Millisecond):
			}
		}
		killAll(c)
		<-ended
		if try == 5 { // a port that was free a moment ago may be another's now
			m.t.Fatalf("%s does not answer:\n%s", name, said.Bytes())
		}
	}
}

// Maildir is where a user's mail is for pop3d.
func (m *Mailutils) Maildir(user string) string {
	return filepath.Join(m.dir, "home", user, "INBOX")
}
