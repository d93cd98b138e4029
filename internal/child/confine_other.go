//go:build !linux

package child

import "os/exec"

func attributes(*exec.Cmd, bool) {}

// giveWay can do nothing here: the process has the priority of the service.
func giveWay() {}

// confine can do nothing here: the process has the rights of the service.
func confine(limits) {}
