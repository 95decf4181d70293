//go:build linux && amd64

package supervisor

import (
	"os"
	"os/signal"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// A match may have a network and process numbers of its own where its user may administer the system. Everybody may,
// inside a user namespace of their own (user_namespaces(7)), if the system has them: so this program starts itself
// once more in one. It is the same user there, with the same files.

// ownerMark is a variable in the environment of that second start.
const ownerMark = "ZWHEEL_OWNER"

// AsOwner starts this program once more, with the same arguments, where it may give matches networks of their own,
// waits for its end and returns its exit code. It reports false if this program is to go on itself: it may already,
// or it is that second one, or the system has no such place for it.
func AsOwner() (code int, done bool) {
	if os.Geteuid() == 0 || os.Getenv(ownerMark) != "" {
		return 0, false
	}
	self, err := os.Executable()
	if err != nil {
		return 0, false
	}
	runtime.LockOSThread() // whose end the other one hears of
	defer runtime.UnlockOSThread()
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	uid, gid := os.Getuid(), os.Getgid()
	other, err := os.StartProcess(self, os.Args, &os.ProcAttr{Env: append(os.Environ(), ownerMark+"=yes"), Files: []*os.File{os.Stdin, os.Stdout, os.Stderr}, Sys: &syscall.SysProcAttr{
		Cloneflags:  unix.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: gid, HostID: gid, Size: 1}},
		AmbientCaps: []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_SYS_PTRACE, unix.CAP_CHECKPOINT_RESTORE},
		Pdeathsig:   syscall.SIGKILL,
	}})
	if err != nil {
		signal.Stop(signals)
		return 0, false
	}
	go func() {
		for s := range signals { // from a terminal it has come to the other one as well, which takes the two for one
			_ = other.Signal(s) // it may have ended
		}
	}()
	state, err := other.Wait()
	if err != nil {
		return 3, true
	}
	if status := state.Sys().(syscall.WaitStatus); status.Signaled() {
		return 128 + int(status.Signal()), true
	}
	return state.ExitCode(), true
}

// ownNothing takes from the calling thread, and what it becomes, what AsOwner has given to this program.
func ownNothing() {
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0) // an older kernel has none
}
