package testbed

import (
	"os/exec"
	"syscall"
)

// dieWithParent ends a server with the test that started it, however that ends.
// The server's own processes are a group.
func dieWithParent(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
}

// killAll ends a server with all of its processes.
func killAll(c *exec.Cmd) { syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
