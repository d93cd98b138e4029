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

// NginxConfig is what nginx needs in front of the service, as docs/running.md has it.
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

// StartNginx starts nginx on loopback, with TLS, in front of a service. at is its address, https://localhost:PORT, on
// the port that is given; certificate is to be trusted. The test is left out where nginx is not installed.
func StartNginx(t testing.TB, port int, service string) (at string, certificate []byte) {
	t.Helper()
	program, err := exec.LookPath("nginx")
	if err != nil {
		if program = "/usr/sbin/nginx"; exec.Command(program, "-v").Run() != nil {
			LeaveOut(t, "nginx: install nginx-light")
		}
	}
	d := t.TempDir()
	certificate, key, _ := Certificate(t, net.IPv4(127, 0, 0, 1))
	config := `pid $D/pid; error_log $D/error.log; daemon off; user root; worker_processes 1;
events {}
http {
    access_log off; client_body_temp_path $D/body; proxy_temp_path $D/proxy; fastcgi_temp_path $D/f; uwsgi_temp_path $D/u;
    scgi_temp_path $D/s;
    server {
        listen 127.0.0.1:$PORT ssl; server_name localhost;
        ssl_certificate $D/tls.crt; ssl_certificate_key $D/tls.key;` + NginxConfig + `    }
}
`
	config = strings.NewReplacer("$D", d, "$PORT", fmt.Sprint(port), "$SERVICE", service).Replace(config)
	for name, data := range map[string][]byte{"conf": []byte(config), "tls.crt": certificate, "tls.key": key} {
		if err := os.WriteFile(filepath.Join(d, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := Start(t, program, []string{"-p", d, "-c", filepath.Join(d, "conf")}, port); err != nil {
		log, _ := os.ReadFile(filepath.Join(d, "error.log"))
		t.Fatalf("%v %s", err, log)
	}
	return fmt.Sprintf("https://localhost:%d", port), certificate
}
