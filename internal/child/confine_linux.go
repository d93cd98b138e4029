package child

import (
	"os"
	"os/exec"
	"slices"
	"syscall"

	"github.com/elastic/go-seccomp-bpf"
	"github.com/elastic/go-seccomp-bpf/arch"
	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
)

// attributes lets the child die with its parent and, alone, gives it a network
// of its own in which there is nothing.
func attributes(cmd *exec.Cmd, alone bool) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if alone {
		cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 65534, HostID: syscall.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 65534, HostID: syscall.Getgid(), Size: 1}}
	}
}

// lowPriority is the nice value of a child that gives way (nice(2)).
const lowPriority = 15

// giveWay lowers the priority of this thread and of what it starts.
func giveWay() { _ = unix.Setpriority(unix.PRIO_PROCESS, 0, lowPriority) } // at worst it has the usual one

// confine takes from the process what reading an item does not need: files but those in a folder, the network,
// other programs, and more memory, time and room than it may use. What this kernel cannot do is left out: Probe
// finds out what is possible in spite of it.
func confine(l limits) {
	if !l.writes {
		for resource, limit := range map[int]uint64{unix.RLIMIT_DATA: memory, unix.RLIMIT_FSIZE: 0,
			unix.RLIMIT_CORE: 0, unix.RLIMIT_NOFILE: 32, unix.RLIMIT_CPU: uint64(deadline.Seconds())} {
			// A limit that cannot be set is one that is lower already.
			_ = unix.Setrlimit(resource, &unix.Rlimit{Cur: limit, Max: limit})
		}
	}
	_ = unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) // nobody else looks into its memory
	// Landlock (kernel 5.13): no file is opened but in the folder; later kernels also refuse the network and signals.
	var rules []landlock.Rule
	if l.folder != "" && l.writes {
		rules = append(rules, landlock.RWDirs(l.folder))
	} else if l.folder != "" {
		rules = append(rules, landlock.RODirs(l.folder))
	}
	if l.become != "" {
		rules = append(rules, landlock.ROFiles(l.become, "/etc/ld.so.cache", os.DevNull).IgnoreIfMissing(),
			landlock.RODirs(systemFolders...).IgnoreIfMissing())
	}
	_ = landlock.V6.BestEffort().Restrict(rules...)
	_ = seccomp.LoadFilter(seccomp.Filter{NoNewPrivs: true, Flag: seccomp.FilterFlagTSync, Policy: policy(l)})
}

// refused are system calls that reading an item never needs: with them a process opens connections, becomes or
// starts another program, changes files, or reaches into the kernel or into other processes.
var refused = []string{
	"socket", "socketpair", "connect", "bind", "listen", "accept", "accept4", "sendto", "sendmmsg", "execve",
	"execveat", "fork", "vfork",
	"ptrace", "process_vm_readv", "process_vm_writev", "process_madvise", "pidfd_open", "pidfd_getfd",
	"pidfd_send_signal", "kill", "rt_sigqueueinfo", "rt_tgsigqueueinfo", "kcmp",
	"creat", "open_by_handle_at", "name_to_handle_at", "openat2", "unlink", "unlinkat", "rename", "renameat",
	"renameat2", "mkdir", "mkdirat", "rmdir", "link", "linkat", "symlink", "symlinkat",
	"mknod", "mknodat", "chmod", "fchmod", "fchmodat", "fchmodat2", "chown", "fchown", "lchown", "fchownat",
	"truncate", "utime", "utimes", "utimensat", "futimesat",
	"setxattr", "lsetxattr", "fsetxattr", "removexattr", "lremovexattr", "fremovexattr",
	"mount", "umount2", "pivot_root", "chroot", "move_mount", "open_tree", "fsopen", "fsmount", "fsconfig",
	"fspick", "mount_setattr", "setns", "unshare", "chdir", "fchdir",
	"bpf", "perf_event_open", "keyctl", "add_key", "request_key", "userfaultfd", "io_uring_setup",
	"io_uring_enter", "io_uring_register", "io_setup", "io_submit",
	"init_module", "finit_module", "delete_module", "kexec_load", "kexec_file_load", "reboot", "swapon",
	"swapoff", "acct", "quotactl", "quotactl_fd", "syslog", "sethostname", "setdomainname",
	"settimeofday", "clock_settime", "adjtimex", "clock_adjtime", "setuid", "setgid", "setreuid", "setregid",
	"setresuid", "setresgid", "setgroups", "setfsuid", "setfsgid", "capset", "personality",
	"iopl", "ioperm", "modify_ldt", "shmget", "shmat", "msgget", "semget", "mq_open", "mq_unlink",
	"fanotify_init", "inotify_init", "inotify_init1", "lookup_dcookie", "vhangup", "memfd_secret",
}

// written are the refused system calls that the child needs that prepares the reader of PDFs.
var written = []string{"creat", "unlink", "unlinkat", "rename", "renameat", "renameat2", "mkdir", "mkdirat",
	"rmdir", "fchmod", "fchmodat", "chmod", "utimensat"}

// policy lets everything through but what is refused on this kind of machine.
func policy(l limits) seccomp.Policy {
	known := func(names []string) []string {
		info, err := arch.GetInfo("")
		if err != nil {
			return nil
		}
		return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
			_, is := info.SyscallNames[name]
			return !is || l.writes && slices.Contains(written, name) || l.become != "" && name == "execve"
		})
	}
	const refuse = seccomp.ActionErrno // EPERM
	groups := []seccomp.SyscallGroup{{Action: refuse, Names: known(refused)}}
	on := func(name string, of ...seccomp.Condition) {
		if len(known([]string{name})) == 1 {
			groups = append(groups, seccomp.SyscallGroup{Action: refuse,
				NamesWithCondtions: []seccomp.NameWithConditions{{Name: name, Conditions: of}}})
		}
	}
	// Threads, but no processes. The flags of clone3 cannot be seen, so it counts as not being there.
	on("clone", seccomp.Condition{Argument: 0, Operation: seccomp.BitsNotSet, Value: unix.CLONE_THREAD})
	if len(known([]string{"clone3"})) == 1 {
		groups = append(groups, seccomp.SyscallGroup{Action: refuse | seccomp.Action(unix.ENOSYS), Names: []string{"clone3"}})
	}
	if !l.writes {
		const change = unix.O_WRONLY | unix.O_RDWR | unix.O_CREAT | unix.O_TRUNC | unix.O_APPEND
		if l.folder == "" { // nothing is opened at all
			groups[0].Names = append(groups[0].Names, known([]string{"open", "openat"})...)
		} else {
			on("open", seccomp.Condition{Argument: 1, Operation: seccomp.BitsSet, Value: change})
			on("openat", seccomp.Condition{Argument: 2, Operation: seccomp.BitsSet, Value: change})
		}
	}
	return seccomp.Policy{DefaultAction: seccomp.ActionAllow, Syscalls: groups}
}
