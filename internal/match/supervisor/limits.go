//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Time limits of calls that wait in the kernel and cannot be held here, because somebody else's call ends them there: of
// sockets, semaphores, message queues and locks that inherit priority. The kernel is told of no limit, or of one that never
// comes; when the true one has come by the virtual clock the thread is stopped, and the call returns what it would have.

// limited is a call that waits in the kernel no longer than until some time.
type limited struct {
	made   made
	until  time.Duration
	gives  int64  // what it returns then
	usedAt int64  // processor time of its thread when it was seen asleep: if that is more, it has gone on; -1 before that
	lent   uint64 // where the program has the limit, while something else stands there; or 0
}

// made is what a call is known by.
type made struct{ nr, first, second int }

// limitAt are the calls that have a time limit in memory: which argument it is, and what they return when it has come.
var limitAt = map[int]struct {
	argument int
	date     bool
	gives    unix.Errno // 0 is that nothing came
}{
	unix.SYS_SEMTIMEDOP:      {3, false, unix.EAGAIN},
	unix.SYS_MQ_TIMEDSEND:    {4, true, unix.ETIMEDOUT},
	unix.SYS_MQ_TIMEDRECEIVE: {4, true, unix.ETIMEDOUT},
	unix.SYS_IO_GETEVENTS:    {4, false, 0},
	unix.SYS_IO_PGETEVENTS:   {4, false, 0},
}

// limitOf is of one of these calls.
func (c *call) limitOf() {
	of := limitAt[c.nr]
	c.letWait(c.args[of.argument], of.gives, func(d time.Duration) time.Duration {
		if of.date {
			return c.when(d, true)
		}
		if d == 0 {
			return 0
		}
		return c.now + d
	})
}

// letWait has a call made that has a time limit at some place of its memory; until makes a virtual time of it.
func (c *call) letWait(at uint64, gives unix.Errno, until func(time.Duration) time.Duration) {
	if at == 0 {
		c.pass()
		return
	}
	d, ok := c.process.lend(at)
	if !ok {
		c.remark("%s: the time limit of a call (%d) is in memory that cannot be written, so it is not on the virtual clock", c.process.name, c.nr)
		c.pass()
		return
	}
	l := &limited{made: c.made(), until: until(d), gives: -int64(gives), usedAt: -1, lent: at}
	if l.until <= c.now {
		c.process.giveBack(at)
	} else {
		c.thread.limit = l
	}
	c.pass()
}

func (c *call) made() made { return made{c.nr, int(c.args[0]), int(c.args[1])} }

// forever is a limit that never comes, and that a program is not likely to write itself.
const forever = 1<<33 + 1

// loan is what a program had where something else stands now.
type loan struct {
	had   [16]byte
	users int
}

// lend reads a time limit from a process's memory, and writes one there that never comes.
func (p *proc) lend(at uint64) (time.Duration, bool) {
	l := p.lent[at]
	if l == nil {
		l = &loan{}
		if !peek(p.memory, at, l.had[:]) || !p.force(at, span(forever*time.Second, time.Nanosecond)) {
			return 0, false
		}
		p.lent[at] = l
	}
	l.users++
	seconds, rest := int64(binary.LittleEndian.Uint64(l.had[:])), int64(binary.LittleEndian.Uint64(l.had[8:]))
	if seconds < 0 || rest < 0 || rest >= int64(time.Second) || seconds > forever {
		return never / 4, true
	}
	return time.Duration(seconds)*time.Second + time.Duration(rest), true
}

// giveBack writes what was there, unless the program has written something else meanwhile.
func (p *proc) giveBack(at uint64) {
	l := p.lent[at]
	if l.users--; l.users > 0 {
		return
	}
	delete(p.lent, at)
	var now [16]byte
	if peek(p.memory, at, now[:]) && string(now[:]) == string(span(forever*time.Second, time.Nanosecond)) {
		p.force(at, l.had[:])
	}
}

// force writes memory of a process, also what it may not write itself.
func (p *proc) force(at uint64, data []byte) bool {
	if poke(p.memory, at, data) {
		return true
	}
	memory, err := os.OpenFile(fmt.Sprintf("/proc/%d/mem", p.memory), os.O_WRONLY, 0)
	if err != nil {
		return false
	}
	defer memory.Close()
	_, err = memory.WriteAt(data, int64(at))
	return err == nil
}

// unlimit forgets a thread's limit.
func (t *thread) unlimit() {
	if t.limit == nil {
		return
	}
	if t.limit.lent != 0 {
		t.process.giveBack(t.limit.lent)
	}
	t.limit = nil
}

// lookAtLimit looks at a thread with a limit that is asleep: the kernel has read the limit, or the thread has gone on.
func (s *Supervisor) lookAtLimit(t *thread) {
	l, c := t.limit, usedByThread(t.process.pid, t.tid)
	switch {
	case l.usedAt == c:
	case l.usedAt >= 0 || s.callOf(t) != l.made:
		t.unlimit()
	default:
		l.usedAt = c
		t.process.giveBack(l.lent)
		l.lent = 0
	}
}

// limitedBySocket finds a thread that waits in the kernel for a socket whose limit the kernel was not
// told of: it has waited since this moment.
func (s *Supervisor) limitedBySocket(t *thread) {
	of := s.callOf(t)
	if !sends(of.nr) && !receives(of.nr) {
		return
	}
	if d := t.process.limits[limit{of.first, sends(of.nr)}]; d > 0 {
		t.limit = &limited{made: of, until: s.now + d, gives: -int64(unix.EAGAIN), usedAt: usedByThread(t.process.pid, t.tid)}
	}
}

// callOf is the call in which a thread sleeps.
func (s *Supervisor) callOf(t *thread) (m made) {
	var buffer [mostDescribed]byte
	fd, err := unix.Open(fmt.Sprintf("/proc/%d/task/%d/syscall", t.process.pid, t.tid), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return made{nr: -1}
	}
	defer closeFd(fd)
	n, err := unix.Read(fd, buffer[:])
	if err != nil {
		return made{nr: -1}
	}
	if _, err := fmt.Sscanf(strings.TrimSpace(string(buffer[:n])), "%d 0x%x 0x%x", &m.nr, &m.first, &m.second); err != nil {
		return made{nr: -1}
	}
	return m
}

func receives(nr int) bool {
	switch nr {
	case unix.SYS_READ, unix.SYS_READV, unix.SYS_RECVFROM, unix.SYS_RECVMSG, unix.SYS_RECVMMSG, unix.SYS_ACCEPT, unix.SYS_ACCEPT4:
		return true
	}
	return false
}

func sends(nr int) bool {
	switch nr {
	case unix.SYS_WRITE, unix.SYS_WRITEV, unix.SYS_SENDTO, unix.SYS_SENDMSG, unix.SYS_SENDMMSG, unix.SYS_CONNECT:
		return true
	}
	return false
}

// giveUp makes a call that has waited for its limit in the kernel return.
func (s *Supervisor) giveUp(t *thread) {
	l := t.limit
	t.unlimit()
	if usedByThread(t.process.pid, t.tid) != l.usedAt {
		return
	}
	if _, _, e := unix.RawSyscall6(unix.SYS_PTRACE, unix.PTRACE_SEIZE, uintptr(t.tid), 0, 0, 0, 0); e != 0 {
		s.remark("%s: a time limit could not be kept (%v)", t.process.name, e)
		return
	}
	unix.RawSyscall6(unix.SYS_PTRACE, unix.PTRACE_INTERRUPT, uintptr(t.tid), 0, 0, 0, 0)
	var status unix.WaitStatus
	if _, err := wait4(t.tid, &status, 0); err != nil {
		return
	}
	var r unix.PtraceRegs
	const restarts = -512 // ERESTARTSYS and what follows it: the call would be made anew
	if unix.PtraceGetRegs(t.tid, &r) == nil && (int64(r.Rax) <= restarts || int64(r.Rax) == -int64(unix.EINTR)) {
		r.Rax = uint64(l.gives)
		_ = unix.PtraceSetRegs(t.tid, &r)
	}
	t.process.active = true
	s.report.Wakes++
	s.happened('g', t, 0)
	_ = unix.PtraceDetach(t.tid)
}
