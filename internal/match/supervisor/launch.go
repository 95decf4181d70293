//go:build linux && amd64

package supervisor

import (
	"fmt"
	"os"
	"runtime"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// launcherName is this program's name for itself when it is started to become a program
// that is supervised. It is told by that and not by an argument, so that every program
// that has a supervisor in it, also a test, can start itself so.
const launcherName = "zwheel: becomes a supervised program"

func init() {
	if os.Args[0] == launcherName {
		runtime.LockOSThread()
		become(os.Args[1] == oneThread, os.Args[2], os.Args[3:])
	}
}

// What a launcher is told first of its program: whether one of its threads runs at a time.
const (
	oneThread   = "one thread"
	manyThreads = "many threads"
)

const (
	launcherSocket = 3 // towards the supervisor
	noRandomLayout = 0x0040000
)

// become puts the filter in place, gives the supervisor its end of it, and becomes the
// program. From the filter on only calls are made that it lets pass, until the
// supervisor has its end.
func become(oneThread bool, path string, args []string) {
	give := func(what string, err error) {
		fmt.Fprintf(os.Stderr, "zwheel: %s: %v\n", what, err)
		os.Exit(127)
	}
	// Should the supervisor's thread end, so does the program.
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0); err != nil {
		give("asking to end with the supervisor", err)
	}
	if _, _, e := unix.RawSyscall(unix.SYS_PERSONALITY, noRandomLayout, 0, 0); e != 0 {
		give("fixing the layout of memory", e)
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		give("giving up privileges to come", err)
	}
	list := filter(oneThread)
	program := unix.SockFprog{Len: uint16(len(list)), Filter: &list[0]}
	where, err := unix.BytePtrFromString(path)
	if err != nil {
		give("starting "+path, err)
	}
	words, err := syscall.SlicePtrFromStrings(args)
	if err != nil {
		give("starting "+path, err)
	}
	environment, err := syscall.SlicePtrFromStrings(os.Environ())
	if err != nil {
		give("starting "+path, err)
	}
	e := handOver(&program, where, &words[0], &environment[0])
	give("starting "+path, e)
}

// handOver does all that is left to do, and returns only if the program cannot be begun. From the
// filter on this thread may make no call that the filter holds, because nobody answers it before
// the supervisor has its end; and the runtime makes such calls when it moves a goroutine. So the
// function gives it no occasion: it lets no signal interrupt it and grows no stack.
//
//go:nosplit
//go:norace
func handOver(program *unix.SockFprog, path *byte, args, environment **byte) unix.Errno {
	all, before := ^uint64(0), uint64(0)
	unix.RawSyscall6(unix.SYS_RT_SIGPROCMASK, unix.SIG_SETMASK, uintptr(unsafe.Pointer(&all)), uintptr(unsafe.Pointer(&before)), 8, 0, 0)
	fd, _, e := unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_NEW_LISTENER, uintptr(unsafe.Pointer(program)))
	said := uint64(fd)
	if e != 0 {
		said = uint64(e) | 1<<63
	}
	unix.RawSyscall(unix.SYS_WRITE, launcherSocket, uintptr(unsafe.Pointer(&said)), 8)
	if e == 0 {
		unix.RawSyscall(unix.SYS_READ, launcherSocket, uintptr(unsafe.Pointer(&said)), 1)
		unix.RawSyscall(unix.SYS_CLOSE, launcherSocket, 0, 0)
		unix.RawSyscall(unix.SYS_CLOSE, fd, 0, 0)
	}
	unix.RawSyscall6(unix.SYS_RT_SIGPROCMASK, unix.SIG_SETMASK, uintptr(unsafe.Pointer(&before)), 0, 8, 0, 0)
	if e == 0 {
		_, _, e = unix.RawSyscall(unix.SYS_EXECVE, uintptr(unsafe.Pointer(path)), uintptr(unsafe.Pointer(args)), uintptr(unsafe.Pointer(environment)))
	}
	return e
}
