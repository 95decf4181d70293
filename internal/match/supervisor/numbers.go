//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Process numbers follow from the seed where programs may have a numbering of their own, see pid_namespaces(7): its first
// process keeps it alive, takes in orphans, and says from which number on the next ones are counted. It takes a privilege;
// without it the numbers are those of the machine.

// Numbers reports whether process numbers follow from the seed.
func (s *Supervisor) Numbers() bool { return s.numbers != nil }

// numberer is the first process of such a numbering.
type numberer struct {
	pid    int
	socket int
	await  func(fd int) error
	base   int // of this match
	begun  int // programs that were started
}

const (
	firstNumber    = 300 // below it the kernel begins anew when it has come to the end
	mostNumbers    = 30000
	numbersEach    = 100 // for one program, what starts it, its threads and children; the next is free to go on beyond
	afterLauncher  = 25  // what starts a program has threads of its own
	numbererSocket = 3
)

// takeNumbers gives programs a numbering of their own, if the system lets it.
func (s *Supervisor) takeNumbers() {
	before, err := unix.Open("/proc/thread-self/ns/pid", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer closeFd(before)
	if unix.Unshare(unix.CLONE_NEWPID) != nil {
		return
	}
	n, err := s.startNumberer()
	if err != nil {
		if unix.Setns(before, unix.CLONE_NEWPID) != nil {
			s.failure = &RefusedError{"programs cannot be given process numbers of their own, nor those of the machine again", err}
		}
		return
	}
	var b [8]byte
	draw := chance{s.options.Seed ^ 0x70696473}
	draw.fill(b[:])
	n.base = int(binary.LittleEndian.Uint64(b[:]) % mostNumbers)
	s.numbers = n
}

func (s *Supervisor) startNumberer() (*numberer, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	n := &numberer{socket: pair[0], await: s.await}
	self, err := os.Executable()
	if err == nil {
		n.pid, err = syscall.ForkExec(self, []string{numbererName}, &syscall.ProcAttr{Files: []uintptr{0, 1, 2, uintptr(pair[1])}, Env: []string{"GOMAXPROCS=1"}, Sys: &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}})
	}
	closeFd(pair[1]) // so that its end is seen
	if err != nil {
		closeFd(pair[0])
		return nil, err
	}
	// A system may have fewer numbers.
	if !n.answered() || !n.from(firstNumber+mostNumbers) {
		n.close(func() {})
		return nil, fmt.Errorf("it could not be tried")
	}
	return n, nil
}

// answered reports whether the numberer has done what it was told.
func (n *numberer) answered() bool {
	var done [1]byte
	return n.await(n.socket) == nil && readInto(n.socket, done[:]) == 1 && done[0] == 1
}

// number is what the next program's first process is to be called, and after is what comes some numbers later.
func (n *numberer) number(after int) int {
	return firstNumber + (n.base+n.begun*numbersEach+after)%mostNumbers
}

func (n *numberer) from(number int) bool {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], uint64(number))
	return writeFrom(n.socket, b[:]) == len(b) && n.answered()
}

// hasBegun has those counted that a program starts itself.
func (n *numberer) hasBegun() bool { return n.from(n.number(afterLauncher)) }

// mostForks is how often a program is started until it has its number.
const mostForks = 20

// fork starts a program with fork and sees to it that it has the number that it is to have: another process may come
// between the counting and the start, like a thread of the counting process itself.
func (s *Supervisor) fork(fork func() (int, error)) (pid int, err error) {
	n := s.numbers
	if n == nil {
		return fork()
	}
	n.begun++
	for range mostForks {
		if !n.from(n.number(0)) {
			return 0, errors.New("whoever counts processes has gone")
		}
		if pid, err = fork(); err != nil || ownNumber(pid) == n.number(0) {
			return pid, err
		}
		_ = unix.Kill(pid, unix.SIGKILL)
		var status unix.WaitStatus
		_, _ = wait4(pid, &status, 0)
	}
	return 0, errors.New("it does not get the process number that follows from the seed")
}

// close ends the numbering, and whoever is left in it. It has ended when all of them have been taken in, with reap.
func (n *numberer) close(reap func()) {
	_ = unix.Kill(n.pid, unix.SIGKILL)
	var status unix.WaitStatus
	for began := wallNow(); wallNow()-began < 5*time.Second; poll(nil, time.Millisecond) {
		reap()
		if pid, err := wait4(n.pid, &status, unix.WNOHANG); pid == n.pid || err != nil { // reap may have taken it in
			break
		}
	}
	closeFd(n.socket)
}

// numbered is the thread that programs know by a number, or nil.
func (s *Supervisor) numbered(number int) *thread {
	if s.numbers == nil {
		return s.threads[number]
	}
	for _, t := range s.threads {
		if t.own == 0 {
			t.own = ownNumber(t.tid)
		}
		if t.own == number && !t.gone {
			return t
		}
	}
	return nil
}

// ownNumber is what a thread is to programs that are counted by themselves.
func ownNumber(tid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", tid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(status)) {
		if numbers, is := strings.CutPrefix(line, "NSpid:"); is {
			words := strings.Fields(numbers)
			own, _ := strconv.Atoi(words[len(words)-1])
			return own
		}
	}
	return 0
}

const numbererName = "zwheel: counts supervised programs"

// count is the numberer. It makes no call that the runtime knows of, so that the runtime starts no thread, which
// would take a number.
func count() {
	debug.SetGCPercent(-1)
	signal.Ignore(unix.SIGCHLD) // those whose parents have gone are its children, and nobody asks how they end
	const lastNumber = "/proc/sys/kernel/ns_last_pid"
	fd, err := unix.Open(lastNumber, unix.O_WRONLY|unix.O_CLOEXEC, 0)
	if err != nil || ownProc() != nil {
		os.Exit(1)
	}
	said := [1]byte{1}
	var told [8]byte
	for {
		writeFrom(numbererSocket, said[:])
		if readInto(numbererSocket, told[:]) != len(told) {
			os.Exit(0)
		}
		text := strconv.AppendUint(told[:0:0], binary.LittleEndian.Uint64(told[:])-1, 10)
		said[0] = 0
		if n, _, _ := unix.RawSyscall6(unix.SYS_PWRITE64, uintptr(fd), uintptr(unsafe.Pointer(&text[0])), uintptr(len(text)), 0, 0, 0); int(n) == len(text) {
			said[0] = 1
		}
	}
}

// ownProc gives the calling thread, and what it becomes, a /proc of its own numbering.
func ownProc() error {
	if err := unix.Unshare(unix.CLONE_NEWNS); err != nil {
		return err
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return err
	}
	return unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
}
