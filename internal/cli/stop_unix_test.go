//go:build unix

package cli

import (
	"os"
	"syscall"
	"testing"
)

// stopProcess lets a process stand still, and resumeProcess go on.
func stopProcess(t *testing.T, p *os.Process) {
	t.Helper()
	if err := p.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
}

func resumeProcess(t *testing.T, p *os.Process) {
	t.Helper()
	if err := p.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
}
