package testbed

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// SFTP is OpenSSH's server, which gives root its files.
type SFTP struct {
	URL     string // of the folder
	Folder  string
	Name    string
	Key     string // the private key that lets in, PEM
	HostKey string // fingerprint
	*Process
}

// StartSFTP starts OpenSSH.
func StartSFTP(t testing.TB) *SFTP {
	t.Helper()
	if _, err := os.Stat("/usr/sbin/sshd"); err != nil || os.Getuid() != 0 {
		LeaveOut(t, "openssh-server, and root to start it")
	}
	d := t.TempDir()
	s := &SFTP{Name: "root", Folder: filepath.Join(d, "harbour")}
	key := func(name string) ssh.PublicKey {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			t.Fatal(err)
		}
		text := pem.EncodeToMemory(block)
		if name == "user" {
			s.Key = string(text)
		}
		signer, err := ssh.ParsePrivateKey(text)
		if err == nil {
			err = errors.Join(os.WriteFile(filepath.Join(d, name), text, 0o600),
				os.WriteFile(filepath.Join(d, name+".pub"), ssh.MarshalAuthorizedKey(signer.PublicKey()), 0o644))
		}
		if err != nil {
			t.Fatal(err)
		}
		return signer.PublicKey()
	}
	s.HostKey = ssh.FingerprintSHA256(key("host"))
	key("user")
	if err := os.Mkdir(s.Folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	for try := 1; ; try++ {
		port := FreePort(t)
		config := strings.NewReplacer("$D", d, "$PORT", fmt.Sprint(port)).Replace("ListenAddress 127.0.0.1\nPort " +
			"$PORT\nHostKey $D/host\nAuthorizedKeysFile $D/user.pub\nPidFile none\nUsePAM no\nStrictModes " +
			"no\nPasswordAuthentication no\nPermitRootLogin yes\nMaxStartups 100\nSubsystem sftp internal-sftp\nForceCommand " +
			"internal-sftp\n")
		if err := os.WriteFile(filepath.Join(d, "config"), []byte(config), 0o600); err != nil {
			t.Fatal(err)
		}
		s.URL = fmt.Sprintf("sftp://localhost:%d%s", port, s.Folder)
		var err error
		if s.Process, err = Start(t, "/usr/sbin/sshd", []string{"-D", "-e", "-f", filepath.Join(d, "config")},
			port); err == nil {
			return s
		}
		if try == 5 || !bytes.Contains([]byte(err.Error()), []byte("in use")) {
			t.Fatal(err)
		}
	}
}
