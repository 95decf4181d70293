//go:build linux && amd64

package supervisor

import (
	"fmt"
	"slices"

	"golang.org/x/sys/unix"
)

// Every system call is one of four: answered or held here (handlers), refused as an older kernel would (refused), left
// to the kernel (allowed), or unknown. An unknown call ends the match and is named: it might wait for real time or read
// the real machine, and nobody would be told.

// allowed are the calls that the kernel answers: they wait for nothing that takes time by itself, and read no clock.
// What they wait for is a descriptor, a child or a lock, and a thread that does is seen asleep.
var allowed = slices.Concat(
	[]int{ // files
		unix.SYS_READ, unix.SYS_WRITE, unix.SYS_CLOSE, unix.SYS_STAT, unix.SYS_FSTAT, unix.SYS_LSTAT, unix.SYS_LSEEK,
		unix.SYS_PREAD64, unix.SYS_PWRITE64, unix.SYS_READV, unix.SYS_WRITEV,
		unix.SYS_PREADV, unix.SYS_PWRITEV, unix.SYS_PREADV2, unix.SYS_PWRITEV2, unix.SYS_ACCESS, unix.SYS_PIPE,
		unix.SYS_PIPE2, unix.SYS_DUP, unix.SYS_DUP2, unix.SYS_DUP3, unix.SYS_SENDFILE, unix.SYS_FCNTL,
		unix.SYS_FLOCK, unix.SYS_FSYNC, unix.SYS_FDATASYNC, unix.SYS_TRUNCATE, unix.SYS_FTRUNCATE, unix.SYS_GETDENTS,
		unix.SYS_GETDENTS64, unix.SYS_GETCWD, unix.SYS_CHDIR, unix.SYS_FCHDIR, unix.SYS_RENAME,
		unix.SYS_MKDIR, unix.SYS_RMDIR, unix.SYS_CREAT, unix.SYS_LINK, unix.SYS_UNLINK, unix.SYS_SYMLINK,
		unix.SYS_READLINK, unix.SYS_CHMOD, unix.SYS_FCHMOD, unix.SYS_CHOWN, unix.SYS_FCHOWN, unix.SYS_LCHOWN,
		unix.SYS_UMASK, unix.SYS_UTIME, unix.SYS_MKNOD, unix.SYS_STATFS, unix.SYS_FSTATFS, unix.SYS_SYNC,
		unix.SYS_SYNCFS, unix.SYS_SYNC_FILE_RANGE, unix.SYS_READAHEAD, unix.SYS_SETXATTR, unix.SYS_LSETXATTR,
		unix.SYS_FSETXATTR, unix.SYS_GETXATTR, unix.SYS_LGETXATTR, unix.SYS_FGETXATTR, unix.SYS_LISTXATTR,
		unix.SYS_LLISTXATTR, unix.SYS_FLISTXATTR, unix.SYS_REMOVEXATTR, unix.SYS_LREMOVEXATTR,
		unix.SYS_FREMOVEXATTR, unix.SYS_UTIMES, unix.SYS_FUTIMESAT, unix.SYS_UTIMENSAT, unix.SYS_MKDIRAT,
		unix.SYS_MKNODAT, unix.SYS_FCHOWNAT, unix.SYS_NEWFSTATAT, unix.SYS_UNLINKAT,
		unix.SYS_RENAMEAT, unix.SYS_RENAMEAT2, unix.SYS_LINKAT, unix.SYS_SYMLINKAT, unix.SYS_READLINKAT,
		unix.SYS_FCHMODAT, unix.SYS_FCHMODAT2, unix.SYS_FACCESSAT, unix.SYS_FACCESSAT2, unix.SYS_STATX,
		unix.SYS_FALLOCATE, unix.SYS_FADVISE64, unix.SYS_COPY_FILE_RANGE, unix.SYS_SPLICE, unix.SYS_TEE,
		unix.SYS_VMSPLICE, unix.SYS_NAME_TO_HANDLE_AT, unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_CLOSE_RANGE,
		unix.SYS_IOCTL, unix.SYS_INOTIFY_INIT, unix.SYS_INOTIFY_INIT1, unix.SYS_INOTIFY_ADD_WATCH,
		unix.SYS_INOTIFY_RM_WATCH, unix.SYS_FANOTIFY_INIT, unix.SYS_FANOTIFY_MARK, unix.SYS_CACHESTAT,
		unix.SYS_IO_SETUP, unix.SYS_IO_DESTROY, unix.SYS_IO_SUBMIT, unix.SYS_IO_CANCEL, unix.SYS_QUOTACTL,
		unix.SYS_STATMOUNT, unix.SYS_LISTMOUNT,
	},
	[]int{ // memory
		unix.SYS_MMAP, unix.SYS_MPROTECT, unix.SYS_MUNMAP, unix.SYS_BRK, unix.SYS_MREMAP, unix.SYS_MSYNC,
		unix.SYS_MINCORE, unix.SYS_MADVISE, unix.SYS_MLOCK, unix.SYS_MLOCK2, unix.SYS_MUNLOCK, unix.SYS_MLOCKALL,
		unix.SYS_MUNLOCKALL, unix.SYS_REMAP_FILE_PAGES, unix.SYS_MBIND, unix.SYS_SET_MEMPOLICY,
		unix.SYS_GET_MEMPOLICY, unix.SYS_MIGRATE_PAGES, unix.SYS_MOVE_PAGES, unix.SYS_SET_MEMPOLICY_HOME_NODE,
		unix.SYS_MEMFD_CREATE, unix.SYS_MEMFD_SECRET, unix.SYS_PKEY_MPROTECT, unix.SYS_PKEY_ALLOC, unix.SYS_PKEY_FREE,
		unix.SYS_MEMBARRIER, unix.SYS_USERFAULTFD, unix.SYS_PROCESS_MADVISE, unix.SYS_PROCESS_MRELEASE,
		unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_MAP_SHADOW_STACK, unix.SYS_MSEAL,
		unix.SYS_SHMGET, unix.SYS_SHMAT, unix.SYS_SHMCTL, unix.SYS_SHMDT,
	},
	[]int{ // processes, threads and signals
		unix.SYS_RT_SIGACTION, unix.SYS_RT_SIGPROCMASK, unix.SYS_RT_SIGRETURN, unix.SYS_RT_SIGPENDING,
		unix.SYS_RT_SIGSUSPEND, unix.SYS_SIGALTSTACK, unix.SYS_PAUSE, unix.SYS_SIGNALFD, unix.SYS_SIGNALFD4,
		unix.SYS_RESTART_SYSCALL, unix.SYS_GETPID, unix.SYS_GETTID, unix.SYS_GETPPID, unix.SYS_GETPGRP,
		unix.SYS_GETPGID, unix.SYS_SETPGID, unix.SYS_GETSID, unix.SYS_SETSID, unix.SYS_EXIT, unix.SYS_WAIT4,
		unix.SYS_WAITID, unix.SYS_UNAME, unix.SYS_GETUID, unix.SYS_GETEUID, unix.SYS_GETGID, unix.SYS_GETEGID,
		unix.SYS_SETUID, unix.SYS_SETGID, unix.SYS_SETREUID, unix.SYS_SETREGID, unix.SYS_SETRESUID,
		unix.SYS_GETRESUID, unix.SYS_SETRESGID, unix.SYS_GETRESGID, unix.SYS_SETFSUID, unix.SYS_SETFSGID,
		unix.SYS_GETGROUPS, unix.SYS_SETGROUPS, unix.SYS_CAPGET, unix.SYS_CAPSET, unix.SYS_GETRLIMIT,
		unix.SYS_SETRLIMIT,
		unix.SYS_PRLIMIT64, unix.SYS_PERSONALITY, unix.SYS_PRCTL, unix.SYS_ARCH_PRCTL, unix.SYS_MODIFY_LDT,
		unix.SYS_SET_THREAD_AREA, unix.SYS_GET_THREAD_AREA, unix.SYS_SET_TID_ADDRESS, unix.SYS_SET_ROBUST_LIST,
		unix.SYS_GET_ROBUST_LIST, unix.SYS_RSEQ, unix.SYS_KCMP, unix.SYS_PIDFD_OPEN, unix.SYS_PIDFD_GETFD,
		unix.SYS_UNSHARE, unix.SYS_CHROOT, unix.SYS_GETCPU, unix.SYS_CLOCK_GETRES,
		unix.SYS_GETPRIORITY, unix.SYS_SETPRIORITY, unix.SYS_SCHED_SETPARAM, unix.SYS_SCHED_GETPARAM,
		unix.SYS_SCHED_SETSCHEDULER, unix.SYS_SCHED_GETSCHEDULER, unix.SYS_SCHED_GET_PRIORITY_MAX,
		unix.SYS_SCHED_GET_PRIORITY_MIN, unix.SYS_SCHED_RR_GET_INTERVAL, unix.SYS_SCHED_SETAFFINITY,
		unix.SYS_SCHED_SETATTR, unix.SYS_SCHED_GETATTR, unix.SYS_IOPRIO_SET, unix.SYS_IOPRIO_GET,
		unix.SYS_SEMGET, unix.SYS_SEMOP, unix.SYS_SEMCTL, unix.SYS_MSGGET, unix.SYS_MSGSND, unix.SYS_MSGRCV,
		unix.SYS_MSGCTL, unix.SYS_MQ_OPEN, unix.SYS_MQ_UNLINK, unix.SYS_MQ_NOTIFY, unix.SYS_MQ_GETSETATTR,
		unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL, unix.SYS_LANDLOCK_CREATE_RULESET,
		unix.SYS_LANDLOCK_ADD_RULE, unix.SYS_LANDLOCK_RESTRICT_SELF, unix.SYS_SYSFS, unix.SYS_USTAT,
		unix.SYS_LSM_GET_SELF_ATTR, unix.SYS_LSM_SET_SELF_ATTR, unix.SYS_LSM_LIST_MODULES, unix.SYS_SETHOSTNAME,
		unix.SYS_SETDOMAINNAME, unix.SYS_SYSLOG, unix.SYS_VHANGUP,
	},
	[]int{ // sockets and descriptors to wait for
		unix.SYS_SOCKET, unix.SYS_SOCKETPAIR, unix.SYS_ACCEPT, unix.SYS_ACCEPT4, unix.SYS_RECVFROM, unix.SYS_RECVMSG,
		unix.SYS_RECVMMSG, unix.SYS_SHUTDOWN,
		unix.SYS_GETSOCKNAME, unix.SYS_GETPEERNAME, unix.SYS_GETSOCKOPT, unix.SYS_EPOLL_CREATE,
		unix.SYS_EPOLL_CREATE1, unix.SYS_EPOLL_CTL, unix.SYS_EPOLL_CTL_OLD, unix.SYS_EPOLL_WAIT_OLD,
		unix.SYS_EVENTFD, unix.SYS_EVENTFD2,
	},
)

// refused are calls that programs can do without, since not every kernel has them or lets everybody make them.
var refused = map[int]unix.Errno{
	unix.SYS_IO_URING_SETUP: unix.ENOSYS, unix.SYS_IO_URING_ENTER: unix.ENOSYS,
	unix.SYS_IO_URING_REGISTER: unix.ENOSYS,
	unix.SYS_FUTEX_WAKE:        unix.ENOSYS, unix.SYS_FUTEX_WAIT: unix.ENOSYS, unix.SYS_FUTEX_REQUEUE: unix.ENOSYS,
	unix.SYS_PERF_EVENT_OPEN: unix.EACCES, unix.SYS_BPF: unix.EPERM,
	unix.SYS_SETTIMEOFDAY: unix.EPERM, unix.SYS_CLOCK_SETTIME: unix.EPERM, unix.SYS_ADJTIMEX: unix.EPERM,
	unix.SYS_CLOCK_ADJTIME: unix.EPERM,
}

// strange are the names of system calls that no game is expected to make.
var strange = map[int]string{
	unix.SYS_MOUNT: "mount", unix.SYS_UMOUNT2: "umount2", unix.SYS_PIVOT_ROOT: "pivot_root",
	unix.SYS_SWAPON: "swapon", unix.SYS_SWAPOFF: "swapoff", unix.SYS_REBOOT: "reboot", unix.SYS_ACCT: "acct",
	unix.SYS_IOPL: "iopl", unix.SYS_IOPERM: "ioperm", unix.SYS_INIT_MODULE: "init_module",
	unix.SYS_FINIT_MODULE: "finit_module", unix.SYS_DELETE_MODULE: "delete_module",
	unix.SYS_KEXEC_LOAD: "kexec_load", unix.SYS_KEXEC_FILE_LOAD: "kexec_file_load", unix.SYS_OPEN_TREE: "open_tree",
	unix.SYS_MOVE_MOUNT: "move_mount", unix.SYS_FSOPEN: "fsopen", unix.SYS_FSCONFIG: "fsconfig",
	unix.SYS_FSMOUNT: "fsmount", unix.SYS_FSPICK: "fspick", unix.SYS_MOUNT_SETATTR: "mount_setattr",
	unix.SYS_QUOTACTL_FD: "quotactl_fd",
}

// unknownCallError is the error of a program that makes a system call that is on none of these lists.
type unknownCallError struct {
	program string
	nr      int
	arch    uint32
}

func (e *unknownCallError) Error() string {
	const x32 = 0x40000000
	call := fmt.Sprintf("system call %d, which the virtual clock does not know", e.nr)
	switch name := strange[e.nr]; {
	case e.arch != unix.AUDIT_ARCH_X86_64:
		call = fmt.Sprintf("32-bit system call %d, which the virtual clock does not answer", e.nr)
	case e.nr&x32 != 0:
		call = fmt.Sprintf("x32 system call %d, which the virtual clock does not answer", e.nr&^x32)
	case name != "":
		call = fmt.Sprintf("system call %s, which the virtual clock does not know", name)
	}
	return e.program + " makes the " + call + "; play it on the wall clock (clock: wall)"
}
