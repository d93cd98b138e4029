package child

import (
	"os"
	"os/exec"
	"syscall"

	"golang.org/x/sys/unix"
)

// attributes lets the child die with its parent and, alone, gives it a network
// of its own in which there is nothing.
func attributes(cmd *exec.Cmd, alone bool) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if alone {
		cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 65534, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 65534, HostID: os.Getgid(), Size: 1}}
	}
}

// confine bounds what the process may use: memory, files, and processes of its own.
func confine(memory uint64) {
	for resource, limit := range map[int]uint64{unix.RLIMIT_DATA: memory, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0, unix.RLIMIT_NOFILE: 32, unix.RLIMIT_CPU: uint64(deadline.Seconds())} {
		// A limit that cannot be set is one that is lower already.
		_ = unix.Setrlimit(resource, &unix.Rlimit{Cur: limit, Max: limit})
	}
}
