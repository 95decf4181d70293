//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
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
		become(os.Args[1], os.Args[2:])
	}
}

const (
	launcherSocket = 3 // towards the supervisor
	noRandomLayout = 0x0040000
)

// become puts the filter in place, gives the supervisor its end of it, and becomes the
// program. From the filter on only calls are made that it lets pass, until the
// supervisor has its end.
func become(path string, args []string) {
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
	list := filter()
	program := unix.SockFprog{Len: uint16(len(list)), Filter: &list[0]}
	fd, _, e := unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_NEW_LISTENER, uintptr(unsafe.Pointer(&program)))
	var said [8]byte
	if e != 0 {
		binary.LittleEndian.PutUint64(said[:], uint64(1<<63|e))
		writeFrom(launcherSocket, said[:])
		os.Exit(127)
	}
	binary.LittleEndian.PutUint64(said[:], uint64(fd))
	writeFrom(launcherSocket, said[:])
	readInto(launcherSocket, said[:1])
	closeFd(launcherSocket)
	closeFd(int(fd))
	err := syscall.Exec(path, args, os.Environ())
	give("starting "+path, err)
}
