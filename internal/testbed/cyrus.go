package testbed

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2/imapclient"
)

// Cyrus is a running Cyrus IMAP server with some users, each with the password "pw".
type Cyrus struct {
	Host        string
	IMAP, IMAPS int // ports: STARTTLS or none, and TLS
	HTTP        int // port: JMAP, not encrypted
	SMTP        int // port to which it hands mail that is sent; nobody listens there at first
	Roots       *x509.CertPool
	dir         string
	t           testing.TB
}

const cyrusPrograms = "/usr/lib/cyrus/bin"

const cyrusConfig = `configdirectory: $D/conf
defaultpartition: default
partition-default: $D/spool
sasl_pwcheck_method: auxprop
sasl_auxprop_plugin: sasldb
sasl_sasldb_path: $D/sasldb
sasl_mech_list: PLAIN LOGIN
allowplaintext: yes
autocreate_quota: 0
autocreate_post: yes
autocreate_inbox_folders: Drafts|Archive
xlist-drafts: Drafts
xlist-archive: Archive
unixhierarchysep: yes
altnamespace: yes
conversations: yes
httpmodules: jmap
smtp_backend: host
smtp_host: 127.0.0.1:$SMTP
servername: localhost
defaultdomain: localhost
idlesocket: $D/idle
notifysocket: $D/notify
lmtpsocket: $D/lmtp
tls_server_cert: $D/tls.crt
tls_server_key: $D/tls.key
`

const cyrusServices = `START {
  recover cmd="$P/ctl_cyrusdb -C $D/imapd.conf -r"
}
SERVICES {
  imap cmd="$D/imapd -C $D/imapd.conf" listen="127.0.0.1:$IMAP" prefork=1
  imaps cmd="$D/imapd -s -C $D/imapd.conf" listen="127.0.0.1:$SIMAP" prefork=0
  http cmd="$P/httpd -C $D/imapd.conf" listen="127.0.0.1:$HTTP" prefork=0
}
DAEMON {
  idled cmd="$D/idled -C $D/imapd.conf"
}
`

// StartCyrus starts a server. Where Cyrus is not installed or the test does not run as root, the test is left out and
// says so.
func StartCyrus(t testing.TB, users ...string) *Cyrus {
	t.Helper()
	// Its IMAP programs cannot be installed beside Dovecot's, so they are unpacked: see .ci/needs.
	cache, err := os.UserCacheDir()
	if err != nil {
		t.Fatal(err)
	}
	unpacked := filepath.Join(cache, "inktray-testbed", "cyrus")
	owner, err := user.Lookup("cyrus")
	if _, missing := os.Stat(filepath.Join(unpacked, "idled")); missing != nil || err != nil || os.Getuid() != 0 {
		LeaveOut(t, "a third IMAP server: install cyrus-imapd, cyrus-caldav and sasl2-bin, and run as root")
	}
	dir, err := os.MkdirTemp(shortFolder(), "cy")
	if err != nil {
		t.Fatal(err)
	}
	c := &Cyrus{Host: "localhost", dir: dir, t: t}
	t.Cleanup(func() { os.RemoveAll(dir) })
	certificate, key, roots := Certificate(t)
	c.Roots = roots
	for _, sub := range []string{"conf/db", "conf/socket", "conf/proc", "conf/lock", "spool"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"imapd", "idled"} { // copied to where their user may run them
		program, err := os.ReadFile(filepath.Join(unpacked, name))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), program, 0o755)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, user := range users {
		add := exec.Command("saslpasswd2", "-p", "-c", "-f", filepath.Join(dir, "sasldb"), "-u", "localhost", user)
		add.Stdin = strings.NewReader("pw\n")
		if said, err := add.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
	}
	for try := 1; ; try++ {
		c.IMAP, c.IMAPS, c.HTTP, c.SMTP = FreePort(t), FreePort(t), FreePort(t), FreePort(t)
		fill := strings.NewReplacer("$D", dir, "$P", cyrusPrograms, "$IMAP", fmt.Sprint(c.IMAP), "$SIMAP",
			fmt.Sprint(c.IMAPS), "$SMTP", fmt.Sprint(c.SMTP), "$HTTP", fmt.Sprint(c.HTTP))
		for name, text := range map[string]string{"imapd.conf": fill.Replace(cyrusConfig),
			"cyrus.conf": fill.Replace(cyrusServices), "tls.crt": string(certificate), "tls.key": string(key)} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		own(t, dir, owner)
		if err = c.start(); err == nil {
			return c
		}
		if try == 3 { // a port that was free a moment ago may be another's now
			t.Fatal(err)
		}
	}
}

// own gives everything in a folder to a user.
func own(t testing.TB, dir string, owner *user.User) {
	t.Helper()
	uid, err := strconv.Atoi(owner.Uid)
	gid, wrong := strconv.Atoi(owner.Gid)
	if err != nil || wrong != nil {
		t.Fatal(err, wrong)
	}
	if err := filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chown(path, uid, gid)
	}); err != nil {
		t.Fatal(err)
	}
}

func (c *Cyrus) start() error {
	master := exec.Command(cyrusPrograms+"/master", "-D", "-C", filepath.Join(c.dir, "imapd.conf"), "-M",
		filepath.Join(c.dir, "cyrus.conf"), "-p", filepath.Join(c.dir, "pid"))
	var said bytes.Buffer
	master.Stdout, master.Stderr, master.WaitDelay = &said, &said, time.Second
	dieWithParent(master)
	if err := master.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func() { master.Wait(); close(ended) }()
	for deadline := time.Now().Add(30 * time.Second); ; {
		err := greets(c.IMAP)
		if err == nil {
			c.t.Cleanup(func() { killAll(master); <-ended })
			return nil
		}
		select {
		case <-ended:
			return fmt.Errorf("Cyrus ended: %s", said.Bytes())
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			killAll(master)
			<-ended
			return fmt.Errorf("Cyrus does not answer: %w", err)
		}
	}
}

// Client signs in as a user, for putting messages in and moving them about.
func (c *Cyrus) Client(user string) *imapclient.Client {
	c.t.Helper()
	return signedIn(c.t, c.IMAP, user)
}
