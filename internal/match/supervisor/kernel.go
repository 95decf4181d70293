//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// What the kernel is asked and told, see seccomp_unotify(2), ptrace(2) and proc(5).

// notification is struct seccomp_notif: a system call that somebody is about to make.
type notification struct {
	id    uint64
	tid   uint32
	flags uint32
	nr    int32
	arch  uint32
	ip    uint64
	args  [6]uint64
}

// answer is struct seccomp_notif_resp.
type answer struct {
	id    uint64
	value int64
	errno int32 // negative
	flags uint32
}

const (
	notifyReceive  = 0xC0502100
	notifySend     = 0xC0182101
	notifyValid    = 0x40082102
	notifyAddFd    = 0x40182103
	notifySetFlags = 0x40082104
	syncWake       = 1          // SECCOMP_USER_NOTIF_FD_SYNC_WAKE_UP: who asks and who answers take turns
	letGo          = 1          // the flag of an answer: make the call as it is
	anyChild       = 0x40000000 // __WALL
	ofThisThread   = 0x20000000 // __WNOTHREAD
	stopAtExec     = 0x10       // PTRACE_O_TRACEEXEC
	stopAtSplit    = 2 | 4 | 8  // PTRACE_O_TRACEFORK, TRACEVFORK, TRACECLONE
	eventFork      = 1
	eventVfork     = 2
	eventClone     = 3
	eventExec      = 4
	eventStop      = 128
	never          = time.Duration(math.MaxInt64)
	mostDescribed  = 256 // bytes read of a file in /proc
	siTimer        = -2  // si_code of a timer's signal
	signalInfoSize = 128
)

// control is ioctl(2). Only where it may wait for ever does a signal end it: the others wait for a lock
// of the kernel's, and to take an answer for not given, or a thread for gone, because the runtime of Go sent
// a signal just then, would leave to chance what happens next.
func control(fd int, request uintptr, with unsafe.Pointer) unix.Errno {
	_, e := controlled(fd, request, with)
	return e
}

// controlled is control with what it returns, like a file.
func controlled(fd int, request uintptr, with unsafe.Pointer) (int, unix.Errno) {
	for {
		n, _, e := unix.RawSyscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(with))
		if e != unix.EINTR || request == notifyReceive {
			return int(n), e
		}
	}
}

// duplicate takes a duplicate of a descriptor of another process, or is -1.
func duplicate(pidfd, fd int) int {
	d, _, e := unix.RawSyscall(unix.SYS_PIDFD_GETFD, uintptr(pidfd), uintptr(fd), 0)
	if e != 0 {
		return -1
	}
	return int(d)
}

// duplicate takes a duplicate of a descriptor of the caller's. Those of a process whose first thread has ended are
// reached by another of its threads, see PIDFD_THREAD in pidfd_open(2).
func (c *call) duplicate(fd int) int {
	d := duplicate(c.process.pidfd, fd)
	if d >= 0 || c.thread.tid == c.process.pid {
		return d
	}
	const ofThread = unix.O_EXCL
	thread, err := unix.PidfdOpen(c.thread.tid, ofThread)
	if err != nil {
		return -1
	}
	defer closeFd(thread)
	return duplicate(thread, fd)
}

// peek reads memory of another process, and poke writes it.
func peek(pid int, at uint64, into []byte) bool {
	return across(unix.SYS_PROCESS_VM_READV, pid, at, into)
}

func poke(pid int, at uint64, from []byte) bool {
	return across(unix.SYS_PROCESS_VM_WRITEV, pid, at, from)
}

func across(nr uintptr, pid int, at uint64, data []byte) bool {
	type vector struct {
		at   uintptr
		size uint64
	}
	here := vector{uintptr(unsafe.Pointer(&data[0])), uint64(len(data))}
	there := vector{uintptr(at), uint64(len(data))}
	n, _, e := unix.RawSyscall6(nr, uintptr(pid), uintptr(unsafe.Pointer(&here)), 1, uintptr(unsafe.Pointer(&there)), 1, 0)
	return e == 0 && int(n) == len(data)
}

func pokeWord(pid int, at, value uint64) bool {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], value)
	return poke(pid, at, b[:])
}

// peekSpan reads a struct timespec, or with a unit of a microsecond a struct timeval.
func peekSpan(pid int, at uint64, unit time.Duration) (time.Duration, bool) {
	var b [16]byte
	ok := peek(pid, at, b[:])
	seconds, rest := int64(binary.LittleEndian.Uint64(b[:])), int64(binary.LittleEndian.Uint64(b[8:]))
	if seconds < 0 || rest < 0 {
		return 0, ok
	}
	if seconds > math.MaxInt64/int64(time.Second)/4 { // as good as never
		return never / 4, ok
	}
	return time.Duration(seconds)*time.Second + time.Duration(rest)*unit, ok
}

func span(d time.Duration, unit time.Duration) []byte {
	var b [16]byte
	d = max(d, 0)
	binary.LittleEndian.PutUint64(b[:], uint64(d/time.Second))
	binary.LittleEndian.PutUint64(b[8:], uint64(d%time.Second/unit))
	return b[:]
}

// used is the processor time that all threads of a process have used, or -1.
func used(pid int) int64 {
	var t [2]int64
	id := ^pid<<3 | 2 // see clock_getcpuclockid(3)
	_, _, e := unix.RawSyscall(unix.SYS_CLOCK_GETTIME, uintptr(uint32(id)), uintptr(unsafe.Pointer(&t)), 0)
	if e != 0 {
		return -1
	}
	return t[0]*1e9 + t[1]
}

// usedByThread is that of one thread. Its clock is told to its own process alone, but this file has it.
func usedByThread(pid, tid int) int64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/schedstat", pid, tid))
	var ran, waited, times int64
	if err != nil {
		return -1
	}
	_, _ = fmt.Sscan(string(b), &ran, &waited, &times)
	return ran
}

// stateOf is the letter of a thread's state in its stat file, or 0.
func stateOf(stat []byte) byte {
	i := strings.LastIndexByte(string(stat), ')')
	if i < 0 || i+2 >= len(stat) {
		return 0
	}
	return stat[i+2]
}

// wallNow is the time of the wall clock, from some beginning.
func wallNow() time.Duration {
	var t [2]int64
	unix.RawSyscall(unix.SYS_CLOCK_GETTIME, unix.CLOCK_MONOTONIC, uintptr(unsafe.Pointer(&t)), 0)
	return time.Duration(t[0]*1e9 + t[1])
}

// poll asks descriptors, and waits for one of them by the wall clock if wait is above 0.
//
// The runtime of Go interrupts its threads with signals, and ppoll says EINTR even where it does not
// wait at all. To take that for "nothing is ready" would be to take programs for quiet that are not.
func poll(list []unix.PollFd, wait time.Duration) int {
	var first unsafe.Pointer
	if len(list) > 0 {
		first = unsafe.Pointer(&list[0])
	}
	call := unix.RawSyscall6
	if wait > 0 {
		call = unix.Syscall6
	}
	for until := wallNow() + wait; ; wait = max(0, until-wallNow()) {
		t := [2]int64{int64(wait / time.Second), int64(wait % time.Second)}
		n, _, e := call(unix.SYS_PPOLL, uintptr(first), uintptr(len(list)), uintptr(unsafe.Pointer(&t)), 0, 0, 0)
		switch e {
		case 0:
			return int(n)
		case unix.EINTR:
			continue
		}
		return 0
	}
}

// epollNow are the events of an epoll set at this moment. It does not wait, so no signal ends it.
func epollNow(fd int, events []unix.EpollEvent) int {
	for {
		n, _, e := unix.RawSyscall6(unix.SYS_EPOLL_PWAIT, uintptr(fd), uintptr(unsafe.Pointer(&events[0])), uintptr(len(events)), 0, 0, 0)
		if e != unix.EINTR {
			return int(n)
		}
	}
}

func readInto(fd int, b []byte) int {
	for {
		n, _, e := unix.RawSyscall(unix.SYS_READ, uintptr(fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)))
		switch e {
		case 0:
			return int(n)
		case unix.EINTR:
			continue
		}
		return -int(e)
	}
}

func writeFrom(fd int, b []byte) int {
	n, _, e := unix.RawSyscall(unix.SYS_WRITE, uintptr(fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)))
	if e != 0 {
		return -int(e)
	}
	return int(n)
}

// close closes a descriptor of this process that it opened itself; that cannot fail in a way that matters.
func closeFd(fd int) { _ = syscall.Close(fd) }

// wait4 is wait4(2) for children of the calling thread and what it traces.
func wait4(pid int, status *unix.WaitStatus, options int) (int, error) {
	for {
		got, err := unix.Wait4(pid, status, options|anyChild|ofThisThread, nil)
		if err != unix.EINTR {
			return got, err
		}
	}
}
