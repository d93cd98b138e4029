//go:build !linux

package child

import "os/exec"

func attributes(*exec.Cmd, bool) {}

// confine can do nothing here: the process has the rights of the service.
func confine(limits) {}
