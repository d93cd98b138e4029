// Package testbed starts real servers for tests, on loopback only, and ends
// them with the test.
package testbed

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	imaplib "github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
)

// Dovecot is a running Dovecot with any number of users, each with the password "pw".
type Dovecot struct {
	Host        string
	IMAP, IMAPS int // ports: STARTTLS or none, and TLS
	POP3, POP3S int
	Authority   []byte // the certificate that signed the server's, PEM
	Roots       *x509.CertPool
	dir         string
	process     *exec.Cmd
	ended       chan struct{}
	config      string
	tokens      string
	t           testing.TB
}

const dovecotConfig = `
base_dir = $D/run
state_dir = $D/state
log_path = $D/dovecot.log
listen = 127.0.0.1
protocols = imap pop3
default_internal_user = root
default_internal_group = root
mail_uid = 5000
mail_gid = 5000
mail_home = $D/home/%u
mail_location = maildir:~/Maildir
mail_max_userip_connections = 3000
disable_plaintext_auth = no
auth_failure_delay = 0
auth_mechanisms = plain login oauthbearer xoauth2
ssl = yes
ssl_cert = <$D/tls.crt
ssl_key = <$D/tls.key
passdb {
  driver = static
  mechanisms = plain login
  args = password=pw
}
passdb {
  driver = oauth2
  mechanisms = oauthbearer xoauth2
  args = $D/oauth2.conf
}
userdb {
  driver = static
  args = allow_all_users=yes
}
namespace inbox {
  inbox = yes
  separator = $SEPARATOR
  mailbox Drafts {
    special_use = \Drafts
    auto = create
  }
  mailbox Archive {
    special_use = \Archive
    auto = create
  }
}
namespace {
  type = shared
  separator = $SEPARATOR
  prefix = Other Users$SEPARATOR%%u$SEPARATOR
  location = maildir:$D/home/%%u/Maildir
  list = children
  subscriptions = no
}
mail_plugins = acl zlib
protocol imap {
  mail_plugins = acl imap_acl zlib imap_zlib
}
plugin {
  acl = vfile
  acl_shared_dict = file:$D/shared/mailboxes
}
service imap {
  client_limit = 1
  process_limit = 2500
}
service imap-login {
  service_count = 0
  client_limit = 5000
  process_min_avail = 1
  inet_listener imap {
    port = $IMAP
  }
  inet_listener imaps {
    port = $SIMAP
  }
}
service pop3-login {
  inet_listener pop3 {
    port = $POP3
  }
  inet_listener pop3s {
    port = $SPOP3
  }
}
service anvil {
  client_limit = 6000
  unix_listener anvil-auth-penalty {
    mode = 0
  }
}
`

// StartDovecot starts a server. Where Dovecot is not installed or the test does
// not run as root, the test is left out and says so.
func StartDovecot(t testing.TB) *Dovecot {
	t.Helper()
	return StartDovecotWith(t, "/")
}

// StartDovecotWith starts a server whose folders are parted by a separator.
func StartDovecotWith(t testing.TB, separator string) *Dovecot {
	t.Helper()
	if _, err := exec.LookPath("dovecot"); err != nil || os.Getuid() != 0 {
		LeaveOut(t, "a real IMAP server: install dovecot-imapd and dovecot-pop3d, and run as root")
	}
	dir, err := os.MkdirTemp(shortFolder(), "dc")
	if err != nil {
		t.Fatal(err)
	}
	d := &Dovecot{Host: "localhost", dir: dir, t: t}
	t.Cleanup(func() { d.Stop(); os.RemoveAll(dir) })
	for _, sub := range []string{"", "run", "state", "home", "shared"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, sub := range []string{"home", "shared"} {
		if err := os.Chown(filepath.Join(dir, sub), 5000, 5000); err != nil {
			t.Fatal(err)
		}
	}
	certificate, key, roots := Certificate(t)
	d.Roots, d.Authority = roots, certificate
	d.config = filepath.Join(dir, "dovecot.conf")
	for try := 1; ; try++ {
		d.IMAP, d.IMAPS, d.POP3, d.POP3S = FreePort(t), FreePort(t), FreePort(t), FreePort(t)
		text := strings.NewReplacer("$D", dir, "$IMAP", fmt.Sprint(d.IMAP), "$SIMAP", fmt.Sprint(d.IMAPS), "$POP3",
			fmt.Sprint(d.POP3), "$SPOP3", fmt.Sprint(d.POP3S), "$SEPARATOR", separator).Replace(dovecotConfig)
		for name, data := range map[string]string{"tls.crt": string(certificate), "tls.key": string(key),
			"dovecot.conf": text, "oauth2.conf": d.introspection()} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(data), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		err := d.start()
		if err == nil {
			return d
		}
		d.Stop()
		if try == 5 { // a port that was free a moment ago may be another's now
			t.Fatal(err)
		}
	}
}

// introspection says where tokens are looked into (RFC 7662).
func (d *Dovecot) introspection() string {
	if d.tokens == "" {
		d.tokens = "http://127.0.0.1:1/" // nobody: every token is refused
	}
	return "introspection_mode = post\nintrospection_url = " + d.tokens + "\nusername_attribute = " +
		"username\nactive_attribute = active\nactive_value = true\n"
}

// Trust lets the server ask an address whether tokens are good, and starts it again.
func (d *Dovecot) Trust(introspection string) {
	d.t.Helper()
	d.tokens = introspection
	if err := os.WriteFile(filepath.Join(d.dir, "oauth2.conf"), []byte(d.introspection()), 0o600); err != nil {
		d.t.Fatal(err)
	}
	d.Stop()
	d.Start()
}

// Maildir is where a user's mail is.
func (d *Dovecot) Maildir(user string) string { return filepath.Join(d.dir, "home", user, "Maildir") }

// Start starts the server again after Stop.
func (d *Dovecot) Start() {
	d.t.Helper()
	if err := d.start(); err != nil {
		d.t.Fatal(err)
	}
}

func (d *Dovecot) start() error {
	d.process = exec.Command("dovecot", "-F", "-c", d.config)
	var said bytes.Buffer
	d.process.Stdout, d.process.Stderr = &said, &said
	d.process.WaitDelay = time.Second
	dieWithParent(d.process)
	if err := d.process.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func(c *exec.Cmd) { c.Wait(); close(ended) }(d.process)
	d.ended = ended
	deadline := time.Now().Add(30 * time.Second)
	for {
		err := greets(d.IMAP)
		if err == nil {
			return nil
		}
		select {
		case <-ended:
		case <-time.After(20 * time.Millisecond):
			if time.Now().Before(deadline) {
				continue
			}
			d.Stop()
		}
		log, _ := os.ReadFile(filepath.Join(d.dir, "dovecot.log"))
		return fmt.Errorf("Dovecot does not answer: %v\n%s%s", err, said.Bytes(), log)
	}
}

// greets says whether a server greets on a port.
func greets(port int) error {
	conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	_, err = conn.Read(make([]byte, 4))
	return err
}

// Announce lets the server announce other capabilities than it has, as servers
// do that lack them, and starts it again.
func (d *Dovecot) Announce(capabilities string) {
	d.t.Helper()
	text, err := os.ReadFile(d.config)
	if err == nil {
		text = append(text, "\nimap_capability = "+capabilities+"\n"...)
		err = os.WriteFile(d.config, text, 0o600)
	}
	if err != nil {
		d.t.Fatal(err)
	}
	d.Stop()
	d.Start()
}

// Mechanisms lets the server offer other ways to sign in, and starts it again.
func (d *Dovecot) Mechanisms(names string) {
	d.t.Helper()
	text, err := os.ReadFile(d.config)
	if err == nil {
		err = os.WriteFile(d.config, append(text, "\nauth_mechanisms = "+names+"\n"...), 0o600)
	}
	if err != nil {
		d.t.Fatal(err)
	}
	d.Stop()
	d.Start()
}

// Stop kills the server and everyone's connection.
func (d *Dovecot) Stop() {
	if d.process == nil {
		return
	}
	killAll(d.process)
	<-d.ended
	d.process = nil
	// The processes of a killed server end one after another, and hold its ports until then.
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if allFree(d.IMAP, d.IMAPS, d.POP3, d.POP3S) {
			return
		}
	}
}

// Client signs in as a user, for putting messages in and moving them about.
func (d *Dovecot) Client(user string) *imapclient.Client {
	d.t.Helper()
	return signedIn(d.t, d.IMAP, user)
}

func signedIn(t testing.TB, port int, user string) *imapclient.Client {
	t.Helper()
	c, err := imapclient.DialInsecure(fmt.Sprintf("127.0.0.1:%d", port), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	if err := c.Login(user, "pw").Wait(); err != nil {
		t.Fatal(err)
	}
	return c
}

// MakeFolders makes folders. At times Dovecot says of one within another that it
// exists already, and has just made it.
func MakeFolders(t testing.TB, c *imapclient.Client, names ...string) {
	t.Helper()
	for _, name := range names {
		var answer *imaplib.Error
		if err := c.Create(name, nil).Wait(); err != nil &&
			!(errors.As(err, &answer) && answer.Code == imaplib.ResponseCodeAlreadyExists) {
			t.Fatalf("making the folder %s: %v", name, err)
		}
	}
}

// Append puts a message into a folder and returns its UID.
func Append(t testing.TB, c *imapclient.Client, folder string, raw []byte, received time.Time,
	flags ...imaplib.Flag) uint32 {
	t.Helper()
	cmd := c.Append(folder, int64(len(raw)), &imaplib.AppendOptions{Flags: flags, Time: received})
	if _, err := cmd.Write(raw); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Close(); err != nil {
		t.Fatal(err)
	}
	data, err := cmd.Wait()
	if err != nil {
		t.Fatal(err)
	}
	return uint32(data.UID)
}

// Ready is the folder for the reader of PDFs, which is kept from one run to the next
// as long as the libraries stay the same.
func Ready(t testing.TB) string {
	t.Helper()
	kept, err := os.UserCacheDir()
	if err != nil {
		t.Fatal(err)
	}
	_, here, _, _ := runtime.Caller(0)
	sums, err := os.ReadFile(filepath.Join(filepath.Dir(here), "..", "..", "go.sum"))
	if err != nil {
		t.Fatal(err)
	}
	return filepath.Join(kept, "inktray-testbed", fmt.Sprintf("ready-%.6x", sha256.Sum256(sums)))
}

// shortFolder is where servers keep their files whose sockets need a short path (sun_path has 108 octets on Linux).
func shortFolder() string {
	if folder := os.TempDir(); len(folder) <= 16 {
		return folder
	}
	return "/tmp"
}

// Patience is how long tests wait for what has to come: long enough for a machine that
// is busy with something else.
const Patience = 4 * time.Minute

// Longer is the pause before the next look at something that takes its time, so that looking does not keep the
// processor from what is waited for.
func Longer(pause time.Duration) time.Duration { return min(pause*5/4, 100*time.Millisecond) }

// FreePort finds a port on loopback that is free now. It lies outside of the range that the system uses for outgoing
// connections, so that no other program takes it by chance.
func FreePort(t testing.TB) int {
	t.Helper()
	for range 1000 {
		port := 10_000 + mathrand.IntN(20_000)
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			continue // somebody's
		}
		l.Close()
		return port
	}
	t.Fatal("no port is free")
	return 0
}

// allFree says whether nobody listens on any of the ports.
func allFree(ports ...int) bool {
	for _, port := range ports {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return false
		}
		l.Close()
	}
	return true
}

// Certificate makes a certificate for localhost, and for more addresses, and a pool that trusts it.
func Certificate(t testing.TB, more ...net.IP) (certificate, key []byte, roots *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(mathrand.Int64()), Subject: pkix.Name{CommonName: "localhost"},
		DNSNames: []string{"localhost"}, IPAddresses: more,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	keyDER, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	certificate = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	key = pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER})
	if _, err := tls.X509KeyPair(certificate, key); err != nil {
		t.Fatal(err)
	}
	roots = x509.NewCertPool()
	roots.AppendCertsFromPEM(certificate)
	return certificate, key, roots
}

// Fill puts messages into a user's inbox at once, by way of its Maildir, before
// anybody has signed in as that user. It returns their octets in all.
func (d *Dovecot) Fill(user string, n int, message func(i int) []byte) (octets int64) {
	d.t.Helper()
	maildir := filepath.Join(d.dir, "home", user, "Maildir")
	for _, sub := range []string{"cur", "new", "tmp"} {
		if err := os.MkdirAll(filepath.Join(maildir, sub), 0o755); err != nil {
			d.t.Fatal(err)
		}
	}
	for i := range n {
		data := message(i)
		octets += int64(len(data))
		if err := os.WriteFile(filepath.Join(maildir, "new", fmt.Sprintf("1770000000.M%dP1.testbed", i)), data,
			0o644); err != nil {
			d.t.Fatal(err)
		}
	}
	err := filepath.WalkDir(filepath.Join(d.dir, "home", user), func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chown(path, 5000, 5000)
	})
	if err != nil {
		d.t.Fatal(err)
	}
	return octets
}

// AppendStream puts a large message into a folder without holding it in memory.
func AppendStream(t testing.TB, c *imapclient.Client, folder string, size int64, r io.Reader) {
	t.Helper()
	cmd := c.Append(folder, size, nil)
	if n, err := io.Copy(cmd, r); err != nil || n != size {
		t.Fatalf("%d of %d octets: %v", n, size, err)
	}
	if err := cmd.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
}

// CPU is the processor time of the server and of all its processes.
func (d *Dovecot) CPU() time.Duration {
	d.t.Helper()
	return CPU(d.t, d.process.Process.Pid)
}
