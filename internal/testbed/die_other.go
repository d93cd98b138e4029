//go:build !linux

package testbed

import "os/exec"

func dieWithParent(*exec.Cmd) {}

func killAll(c *exec.Cmd) { c.Process.Kill() }
