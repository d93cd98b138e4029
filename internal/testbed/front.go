package testbed

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// NginxConfig is what nginx needs in front of the service, as docs/tls.md has it.
const NginxConfig = `
        location / {
            proxy_pass http://$SERVICE;
            proxy_set_header Host $http_host;
            proxy_set_header X-Forwarded-For $remote_addr;
            proxy_set_header X-Forwarded-Proto $scheme;
            proxy_http_version 1.1;
            proxy_buffering off;
            proxy_request_buffering off;
            proxy_read_timeout 1h;
            client_max_body_size 200m;
        }
`

// ApacheConfig is what Apache httpd needs in front of the service, with mod_proxy_http and mod_headers, as
// docs/tls.md has it.
const ApacheConfig = `
        ProxyPreserveHost On
        ProxyPass / http://$SERVICE/ flushpackets=on timeout=3600
        RequestHeader unset X-Forwarded-For early
        RequestHeader set X-Forwarded-Proto https
        LimitRequestBody 209715200
`

const nginxFront = `pid $D/pid; error_log $D/error.log; daemon off; user root; worker_processes 1;
events {}
http {
    access_log off; client_body_temp_path $D/body; proxy_temp_path $D/proxy; fastcgi_temp_path $D/f; uwsgi_temp_path $D/u;
    scgi_temp_path $D/s;
    server {
        listen 127.0.0.1:$PORT ssl; server_name localhost;
        ssl_certificate $D/tls.crt; ssl_certificate_key $D/tls.key;` + NginxConfig + `    }
}
`

const apacheFront = `$MODULES
PidFile $D/pid
ErrorLog $D/error.log
ServerName localhost
User www-data
Group www-data
Listen 127.0.0.1:$PORT
<VirtualHost 127.0.0.1:$PORT>
        SSLEngine on
        SSLCertificateFile $D/tls.crt
        SSLCertificateKeyFile $D/tls.key` + ApacheConfig + `</VirtualHost>
`

// Fronts are web servers that can stand in front of the service, with what they need in docs/tls.md.
var Fronts = []Front{{"nginx", NginxConfig, nginxFront, []string{"-p", "$D", "-c", "$D/conf"}, "nginx-light"},
	{"apache2", ApacheConfig, apacheFront, []string{"-d", "$D", "-f", "$D/conf", "-D", "FOREGROUND"}, "apache2"}}

// Front is a web server in front of the service.
type Front struct {
	Program  string
	Settings string // $SERVICE is where the service listens
	whole    string
	args     []string
	contents string // the package that has it
}

// Start starts it on loopback, with TLS. at is its address, https://localhost:PORT, on the port that is given;
// certificate is to be trusted. The test is left out where the server is not installed.
func (f *Front) Start(t testing.TB, port int, service string) (at string, certificate []byte) {
	t.Helper()
	program, err := exec.LookPath(f.Program)
	if err != nil {
		program = "/usr/sbin/" + f.Program
	}
	if _, err := os.Stat(program); err != nil || os.Getuid() != 0 {
		LeaveOut(t, f.Program+": install "+f.contents+", and be root to start it")
	}
	d := t.TempDir()
	certificate, key, _ := Certificate(t, net.IPv4(127, 0, 0, 1))
	modules := ""
	for _, m := range []string{"mpm_event", "authz_core", "ssl", "socache_shmcb", "headers", "proxy", "proxy_http"} {
		modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	known := strings.NewReplacer("$D", d, "$PORT", fmt.Sprint(port), "$SERVICE", service, "$MODULES", modules)
	for name, data := range map[string][]byte{"conf": []byte(known.Replace(f.whole)), "tls.crt": certificate,
		"tls.key": key} {
		if err := os.WriteFile(filepath.Join(d, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var args []string
	for _, a := range f.args {
		args = append(args, known.Replace(a))
	}
	if _, err := Start(t, program, args, port); err != nil {
		log, _ := os.ReadFile(filepath.Join(d, "error.log"))
		t.Fatalf("%v %s", err, log)
	}
	return fmt.Sprintf("https://localhost:%d", port), certificate
}
