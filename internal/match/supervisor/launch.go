//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"zitherwheel/internal/match/process"
)

// launcherName is this program's name for itself when it is started to become a program
// that is supervised. It is told by that and not by an argument, so that every program
// that has a supervisor in it, also a test, can start itself so.
const launcherName = "zwheel: becomes a supervised program"

func init() {
	switch os.Args[0] {
	case launcherName:
		runtime.LockOSThread()
		become(waysOf(os.Args[1]), os.Args[2], os.Args[3:])
	case numbererName:
		runtime.LockOSThread()
		count()
	}
}

// ways are how a program is supervised. Its launcher is told of them in a word.
type ways struct {
	oneThread bool // of a process runs at a time
	numbers   bool // processes are numbered by the seed
	alone     bool // in a network of its own
	drawn     bool // the order of threads is
}

const wayLetters = "tnad"

func (w ways) String() string {
	text := []byte("-")
	for i, is := range []bool{w.oneThread, w.numbers, w.alone, w.drawn} {
		if is {
			text = append(text, wayLetters[i])
		}
	}
	return string(text)
}

func waysOf(text string) ways {
	has := func(i int) bool { return strings.IndexByte(text, wayLetters[i]) >= 0 }
	return ways{has(0), has(1), has(2), has(3)}
}

const (
	launcherSocket = 3 // towards the supervisor
	noRandomLayout = 0x0040000
)

// become puts the filter in place, gives the supervisor its end of it, and becomes the
// program. From the filter on only calls are made that it lets pass, until the
// supervisor has its end.
func become(w ways, path string, args []string) {
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
	sameForAll()
	if w.numbers {
		if err := ownProc(); err != nil {
			give("a /proc of its own", err)
		}
	}
	ownNothing()
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		give("giving up privileges to come", err)
	}
	list := filter(w)
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

// sameForAll gives a program what it would otherwise have from the shell: its mask of permissions, its limits.
// What is not allowed stays as it is.
func sameForAll() {
	const files, mostFiles = 4096, 65536
	unix.Umask(0o022)
	var most unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &most) == nil {
		most.Max = min(most.Max, mostFiles)
		_ = syscall.Setrlimit(unix.RLIMIT_NOFILE, &syscall.Rlimit{Cur: min(files, most.Max), Max: most.Max})
	}
	_ = unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	takeTurns()
}

// takeTurns has the calling thread, and what it starts, run in slices so short that it is let on at once when it
// wakes, see sched(7) of SCHED_OTHER: supervisor and programs wait for each other all the time. It does not come
// before other programs: those that go by the clock of the machine would stand still beside many matches.
func takeTurns() {
	const slice = 100_000 // ns
	now, err := unix.SchedGetAttr(0, 0)
	if err != nil || now.Policy != 0 {
		return
	}
	now.Runtime = slice
	_ = unix.SchedSetAttr(0, now, 0) // older kernels have one slice for all
}

// matches is how many supervisors this program has made.
var matches atomic.Int64

// stayOn has the calling thread, and what it starts, run on the nth of the processors that it may use. Supervisor and
// programs take turns: to wake another processor for each turn takes longer than most turns do.
func stayOn(nth int) {
	var may, one unix.CPUSet
	if unix.SchedGetaffinity(0, &may) != nil || may.Count() == 0 {
		return
	}
	for nth %= may.Count(); ; {
		for cpu := range len(may) * 64 {
			if !may.IsSet(cpu) {
				continue
			}
			if nth--; nth < 0 {
				one.Set(cpu)
				_ = unix.SchedSetaffinity(0, &one) // then it goes on where it goes on
				return
			}
		}
	}
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
	where := [2]uint64{uint64(uintptr(unsafe.Pointer(&said))), 8}
	const here = ^uintptr(0) // not at an offset. A plain write may be one that the filter asks of
	unix.RawSyscall6(unix.SYS_PWRITEV2, launcherSocket, uintptr(unsafe.Pointer(&where)), 1, here, here, 0)
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

// launch starts the launcher, takes its end of the filter, and lets it become the program.
func (s *Supervisor) launch(p *Program, path string) (pid, listener int, err error) {
	var theirs []int
	defer func() {
		for _, fd := range theirs {
			closeFd(fd)
		}
	}()
	pipe := func(in bool) (ours, other int, err error) {
		var ends [2]int
		if err := unix.Pipe2(ends[:], unix.O_CLOEXEC); err != nil {
			return -1, -1, fmt.Errorf("a pipe: %w", err)
		}
		ours, other = ends[0], ends[1]
		if in {
			ours, other = ends[1], ends[0]
		}
		theirs = append(theirs, other)
		const size = 1 << 20
		_, _ = unix.FcntlInt(uintptr(ours), unix.F_SETPIPE_SZ, size) // a smaller one is only slower
		return ours, other, unix.SetNonblock(ours, true)
	}
	outputIsTrace := p.spec.Trace.File == "" && p.spec.Trace.Socket == nil && !p.spec.Trace.None
	files := make([]uintptr, 4)
	for i, source := range []process.Source{process.Output, process.Errors} {
		ours, other, err := pipe(false)
		if err != nil {
			return 0, 0, err
		}
		files[1+i] = uintptr(other)
		p.hearFrom(&stream{program: p, fd: ours, source: source, trace: source == process.Output && outputIsTrace})
	}
	if p.spec.DriveInput {
		ours, other, err := pipe(true)
		if err != nil {
			return 0, 0, err
		}
		p.input, files[0] = ours, uintptr(other)
	} else {
		nothing, err := unix.Open(os.DevNull, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return 0, 0, fmt.Errorf("%s: %w", os.DevNull, err)
		}
		theirs, files[0] = append(theirs, nothing), uintptr(nothing)
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, 0, fmt.Errorf("a pair of sockets: %w", err)
	}
	defer closeFd(pair[0])
	theirs = append(theirs, pair[1])
	files[launcherSocket] = uintptr(pair[1])
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	w := ways{s.options.OneThread, s.numbers != nil, s.alone, s.options.DrawnOrder}
	environment, err := p.spec.Environment(path)
	if err != nil {
		return 0, 0, err
	}
	pid, err = s.fork(func() (int, error) {
		return syscall.ForkExec(self, append([]string{launcherName, w.String(), path}, p.spec.Run...), &syscall.ProcAttr{Dir: p.spec.Folder, Env: environment, Files: files,
			Sys: &syscall.SysProcAttr{Setpgid: true}}) // away from what the keys of a terminal do
	})
	if err != nil {
		return 0, 0, fmt.Errorf("%s cannot be started: %w", p.spec.Run[0], err)
	}
	closeFd(pair[1])
	theirs = slices.DeleteFunc(theirs, func(fd int) bool { return fd == pair[1] })
	listener, err = s.takeListener(pid, pair[0])
	if err != nil {
		_ = unix.Kill(pid, unix.SIGKILL)
		var status unix.WaitStatus
		_, _ = wait4(pid, &status, 0)
	}
	return pid, listener, err
}

// launchWithin is how long a launcher, or who counts processes, has to answer, by the wall clock. One that dies has
// answered at once.
const launchWithin = 2 * time.Minute

// await waits until something can be read from a process that this program has started from itself.
func (s *Supervisor) await(fd int) error {
	const slice = 20 * time.Millisecond
	list := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
	for until := wallNow() + launchWithin; poll(list, slice) <= 0; {
		if err := s.ctx.Err(); err != nil {
			return err
		}
		if wallNow() > until {
			return fmt.Errorf("it does not answer within %s", launchWithin)
		}
	}
	return nil
}

// takeListener takes the launcher's end of its filter.
func (s *Supervisor) takeListener(pid, socket int) (int, error) {
	var said [8]byte
	if err := s.await(socket); err != nil {
		return -1, &RefusedError{"the launcher tells nothing of its filter", err}
	}
	if n := readInto(socket, said[:]); n != len(said) {
		return -1, &RefusedError{"the launcher told nothing of its filter", unix.Errno(max(0, -n))}
	}
	number := binary.LittleEndian.Uint64(said[:])
	if number>>63 != 0 {
		e := unix.Errno(number &^ (1 << 63))
		why := "the system does not let system calls be answered (seccomp)"
		if e == unix.EBUSY {
			why = "somebody else answers the system calls here already, as in a sandbox in a sandbox"
		}
		return -1, &RefusedError{why, e}
	}
	pidfd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return -1, &RefusedError{"the system gives no hold on a process (pidfd_open)", err}
	}
	defer closeFd(pidfd)
	listener, _, e := unix.RawSyscall(unix.SYS_PIDFD_GETFD, uintptr(pidfd), uintptr(number), 0)
	if e != 0 {
		return -1, &RefusedError{"the system lets no file be taken from a process (pidfd_getfd)", e}
	}
	unix.CloseOnExec(int(listener))
	together := uint64(syncWake)
	_ = control(int(listener), notifySetFlags, unsafe.Pointer(&together)) // an older kernel has no such flag
	writeFrom(socket, said[:1])
	return int(listener), nil
}
