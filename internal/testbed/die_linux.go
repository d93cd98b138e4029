package testbed

import (
	"os/exec"
	"syscall"
)

// dieWithParent ends a server with the test that started it, however that ends.
func dieWithParent(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
