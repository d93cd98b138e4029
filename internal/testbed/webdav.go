package testbed

import (
	"bytes"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// WebDAV is a server that serves one folder to the user "harbour" with the password "pw".
type WebDAV struct {
	URL       string // of the folder, by http
	TLS       string // the same by https, "" where the server has none
	Folder    string // where it is on this machine
	Authority []byte // the certificate that signed the server's, PEM
	Password  string
}

const apacheConfig = `
ServerRoot $D
PidFile $D/pid
ServerName localhost
User www-data
Group www-data
Mutex file:$D/locks default
ErrorLog $D/error.log
LogLevel warn
$MODULES
Listen 127.0.0.1:$PORT
Listen 127.0.0.1:$STLS
DavLockDB $D/locks/dav
DocumentRoot $D/files
<IfModule mpm_event_module>
  StartServers 2
</IfModule>
<VirtualHost 127.0.0.1:$STLS>
  DocumentRoot $D/files
  SSLEngine on
  SSLCertificateFile $D/tls.crt
  SSLCertificateKeyFile $D/tls.key
</VirtualHost>
<Directory $D/files>
  Dav On
  AuthType Basic
  AuthName harbour
  AuthUserFile $D/users
  Require valid-user
</Directory>
`

const lighttpdConfig = `
server.modules = ("mod_auth", "mod_authn_file", "mod_webdav")
server.document-root = "$D/files"
server.upload-dirs = ("$D/locks")
server.errorlog = "$D/locks/error.log"
server.bind = "127.0.0.1"
server.port = $PORT
server.username = "www-data"
server.groupname = "www-data"
server.stream-request-body = 0
server.max-request-size = 1048576
webdav.activate = "enable"
webdav.is-readonly = "disable"
webdav.sqlite-db-name = "$D/locks/webdav.db"
auth.backend = "htpasswd"
auth.backend.htpasswd.userfile = "$D/users"
auth.require = ("/" => ("method" => "basic", "realm" => "harbour", "require" => "valid-user"))
`

// StartWebDAV starts "apache2" (mod_dav) or "lighttpd" (mod_webdav).
func StartWebDAV(t testing.TB, kind string) *WebDAV {
	t.Helper()
	program := "/usr/sbin/" + kind
	if _, err := os.Stat(program); err != nil || os.Getuid() != 0 {
		LeaveOut(t, kind+", and root to start it")
	}
	d, err := os.MkdirTemp(shortFolder(), "dav")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(d) })
	if err := os.Chmod(d, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, sub := range []string{"files/dav/harbour", "locks"} {
		if err := os.MkdirAll(filepath.Join(d, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("chown", "-R", "www-data:www-data", filepath.Join(d, "files"),
		filepath.Join(d, "locks")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	// both servers hash the password again for each request: what costs more would be all that is measured
	hash := sha1.Sum([]byte("pw"))
	certificate, key, _ := Certificate(t)
	w := &WebDAV{Password: "pw", Folder: filepath.Join(d, "files/dav/harbour"), Authority: certificate}
	for try := 1; ; try++ {
		port, tls := FreePort(t), FreePort(t)
		config, arguments := lighttpdConfig, []string{"-D", "-f", filepath.Join(d, "conf")}
		users := "harbour:{SHA}" + base64.StdEncoding.EncodeToString(hash[:]) + "\n"
		if kind == "apache2" {
			config, arguments = apacheConfig, []string{"-d", d, "-f", filepath.Join(d, "conf"), "-D", "FOREGROUND"}
			w.TLS = fmt.Sprintf("https://localhost:%d/dav/harbour", tls)
		}
		modules := ""
		for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav",
			"dav_fs", "mime", "ssl", "socache_shmcb"} {
			modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		modules += "TypesConfig /dev/null\n"
		text := strings.NewReplacer("$D", d, "$PORT", fmt.Sprint(port), "$STLS", fmt.Sprint(tls), "$MODULES",
			modules).Replace(config)
		for name, data := range map[string]string{"conf": text, "users": users, "tls.crt": string(certificate),
			"tls.key": string(key)} {
			if err := os.WriteFile(filepath.Join(d, name), []byte(data), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		w.URL = fmt.Sprintf("http://localhost:%d/dav/harbour", port)
		_, err := Start(t, program, arguments, port)
		if err == nil {
			return w
		}
		if try == 5 {
			logs, _ := filepath.Glob(filepath.Join(d, "*", "error.log"))
			for _, name := range append(logs, filepath.Join(d, "error.log")) {
				log, _ := os.ReadFile(name)
				t.Logf("%s", log)
			}
			t.Fatal(err)
		}
	}
}

// Process is a server that a test started.
type Process struct {
	command *exec.Cmd
	ended   chan struct{}
	port    int
	path    string
	args    []string
	env     []string
	said    bytes.Buffer
}

// Start starts a server and waits until it takes connections on a port. It ends with
// the test.
func Start(t testing.TB, path string, args []string, port int, env ...string) (*Process, error) {
	t.Helper()
	p := &Process{port: port, path: path, args: args, env: env}
	t.Cleanup(p.Stop)
	return p, p.Start()
}

// Start starts it again after Stop.
func (p *Process) Start() error {
	p.said.Reset()
	c := exec.Command(p.path, p.args...)
	c.Env = append(os.Environ(), p.env...)
	c.Stdout, c.Stderr = &p.said, &p.said
	c.WaitDelay = time.Second
	dieWithParent(c)
	if err := c.Start(); err != nil {
		return err
	}
	p.command, p.ended = c, make(chan struct{})
	go func() { c.Wait(); close(p.ended) }()
	deadline := time.After(60 * time.Second)
	for {
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", p.port), time.Second)
		if err == nil {
			conn.Close()
			return nil
		}
		select {
		case <-p.ended:
			return fmt.Errorf("%s ended: %s", p.path, p.said.Bytes())
		case <-deadline:
			p.Stop()
			return fmt.Errorf("%s does not answer: %s", p.path, p.said.Bytes())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Stop kills it.
func (p *Process) Stop() {
	if p.command == nil {
		return
	}
	killAll(p.command)
	<-p.ended
	p.command = nil
}
