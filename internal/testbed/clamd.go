package testbed

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// Virus is the content that the scanner of StartClamd reports, under the name VirusName. It is harmless, and known to
// this test only.
const (
	Virus     = "brackwater-test-content-that-is-no-virus"
	VirusName = "Brackwater.Test.UNOFFICIAL"
)

// StartClamd starts clamd on a socket of its own with one signature, and gives its
// address. largest bounds what it takes, in octets; 0 leaves that to it.
func StartClamd(t testing.TB, largest int) string {
	t.Helper()
	program, err := exec.LookPath("clamd")
	if err != nil {
		if program = "/usr/sbin/clamd"; !there(program) {
			LeaveOut(t, "clamd")
		}
	}
	// A socket's path is short.
	dir, err := os.MkdirTemp("", "clamd")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "s")
	signature := fmt.Sprintf("Brackwater.Test:0:*:%s\n", hex.EncodeToString([]byte(Virus)))
	config := fmt.Sprintf("Foreground yes\nDatabaseDirectory %s/db\nLocalSocket %s\nTemporaryDirectory %s\nPidFile "+
		"%s/pid\nConcurrentDatabaseReload no\n", dir, socket, dir, dir)
	if largest > 0 {
		config += fmt.Sprintf("StreamMaxLength %d\n", largest)
	}
	for name, content := range map[string]string{"db/test.ndb": signature, "clamd.conf": config} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var said bytes.Buffer
	cmd := exec.Command(program, "--config-file="+filepath.Join(dir, "clamd.conf"))
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	t.Cleanup(func() { _ = cmd.Process.Kill(); <-ended })
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		select {
		case <-ended:
			t.Fatalf("clamd ended: %s", said.String())
		default:
		}
		if c, err := net.Dial("unix", socket); err == nil {
			c.Close()
			return "unix:" + socket
		}
	}
	t.Fatal("clamd does not listen")
	return ""
}

func there(path string) bool { _, err := os.Stat(path); return err == nil }
