//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// call is a system call that a thread is about to make, and that waits for an answer.
type call struct {
	*Supervisor
	listener int
	id       uint64
	thread   *thread
	process  *proc
	nr       int
	args     [6]uint64
	order    uint64
}

// handlers are the calls of which the supervisor is told, and what it does with each: it
// answers in the kernel's place, lets the call be made as it is, or holds it.
var handlers map[int]func(*call)

// notVirtual are calls that wait for time of which nothing is done: they are made as they
// are, and it is said so.
var notVirtual = map[int]string{
	unix.SYS_SETNS: "setns", unix.SYS_PTRACE: "ptrace", unix.SYS_SECCOMP: "seccomp",
}

func init() {
	handlers = map[int]func(*call){
		unix.SYS_CLOCK_GETTIME: (*call).clock, unix.SYS_GETTIMEOFDAY: (*call).timeOfDay, unix.SYS_TIME: (*call).seconds,
		unix.SYS_NANOSLEEP: (*call).sleep, unix.SYS_CLOCK_NANOSLEEP: (*call).sleepBy,
		unix.SYS_FUTEX: (*call).futex, unix.SYS_FUTEX_WAITV: (*call).futexes,
		unix.SYS_EPOLL_WAIT: (*call).epoll, unix.SYS_EPOLL_PWAIT: (*call).epoll, unix.SYS_EPOLL_PWAIT2: (*call).epoll,
		unix.SYS_POLL: (*call).poll, unix.SYS_PPOLL: (*call).poll, unix.SYS_SELECT: (*call).choose, unix.SYS_PSELECT6: (*call).choose,
		unix.SYS_SEMTIMEDOP: (*call).limitOf, unix.SYS_MQ_TIMEDSEND: (*call).limitOf, unix.SYS_MQ_TIMEDRECEIVE: (*call).limitOf, unix.SYS_IO_GETEVENTS: (*call).limitOf, unix.SYS_IO_PGETEVENTS: (*call).limitOf,
		unix.SYS_RT_SIGTIMEDWAIT:   (*call).awaitSignal,
		unix.SYS_GETRANDOM:         (*call).random,
		unix.SYS_SCHED_GETAFFINITY: (*call).processors,
		unix.SYS_EXECVE:            (*call).become, unix.SYS_EXECVEAT: (*call).become,
		unix.SYS_CLONE: (*call).split, unix.SYS_CLONE3: (*call).split, unix.SYS_FORK: (*call).split, unix.SYS_VFORK: (*call).split,
		unix.SYS_EXIT_GROUP: (*call).exit, unix.SYS_SCHED_YIELD: (*call).yield,
		unix.SYS_KILL: (*call).signal, unix.SYS_TKILL: (*call).signal, unix.SYS_TGKILL: (*call).signal,
		unix.SYS_RT_SIGQUEUEINFO: (*call).signal, unix.SYS_RT_TGSIGQUEUEINFO: (*call).signal, unix.SYS_PIDFD_SEND_SIGNAL: (*call).signalSomebody,
		unix.SYS_OPEN: (*call).open, unix.SYS_OPENAT: (*call).open, unix.SYS_OPENAT2: (*call).open,
		unix.SYS_SYSINFO: (*call).information, unix.SYS_TIMES: (*call).ticks, unix.SYS_GETRUSAGE: (*call).usage,
		unix.SYS_WRITE: (*call).pass, unix.SYS_WRITEV: (*call).pass, // where the order of threads is drawn
		unix.SYS_SENDTO: (*call).sendTo, unix.SYS_SENDMSG: (*call).sendMessage, unix.SYS_SENDMMSG: (*call).sendMessage,
		unix.SYS_BIND: (*call).bind, unix.SYS_CONNECT: (*call).connect, unix.SYS_LISTEN: (*call).listenAt, unix.SYS_SETSOCKOPT: (*call).limit,
		unix.SYS_TIMERFD_CREATE: (*call).timerFile, unix.SYS_TIMERFD_SETTIME: (*call).setTimerFile, unix.SYS_TIMERFD_GETTIME: (*call).readTimerFile,
		unix.SYS_ALARM: (*call).alarm, unix.SYS_SETITIMER: (*call).setInterval, unix.SYS_GETITIMER: (*call).readInterval,
		unix.SYS_TIMER_CREATE: (*call).makeTimer, unix.SYS_TIMER_SETTIME: (*call).setTimer, unix.SYS_TIMER_GETTIME: (*call).readTimer,
		unix.SYS_TIMER_DELETE: (*call).deleteTimer, unix.SYS_TIMER_GETOVERRUN: (*call).overrun,
	}
}

// drain answers all calls that wait; it waits for the first for so long by the wall clock.
func (s *Supervisor) drain(wait time.Duration) {
	if wait > 0 && poll([]unix.PollFd{{Fd: int32(s.asked), Events: unix.POLLIN}}, wait) <= 0 {
		return
	}
	var events [16]unix.EpollEvent
	for n := 1; n > 0; {
		n = epollNow(s.asked, events[:])
		for _, e := range events[:max(n, 0)] {
			var one notification
			switch listener := int(e.Fd); {
			case e.Events&unix.EPOLLIN != 0:
				if control(listener, notifyReceive, unsafe.Pointer(&one)) == 0 {
					s.handle(listener, &one)
				}
			case e.Events&unix.EPOLLHUP != 0: // nobody is left under this filter
				closeFd(listener)
				s.listeners = slices.DeleteFunc(s.listeners, func(l int) bool { return l == listener })
			}
		}
	}
}

// handle deals with one call.
func (s *Supervisor) handle(listener int, n *notification) {
	t := s.threadOf(int(n.tid))
	t.process.active = true
	if t.hold != nil { // a signal broke what it was held at
		s.drop(t.hold)
	}
	t.unlimit()
	if s.executing[int(n.tid)] { // it has not become another program
		delete(s.executing, int(n.tid))
		limitStack(t.process.pid, usualStack)
	}
	delete(s.splitting, int(n.tid)) // or made another thread
	c := &call{Supervisor: s, listener: listener, id: n.id, thread: t, process: t.process, nr: int(n.nr), args: n.args, order: s.orderOf(t.process)}
	switch handle := handlers[c.nr]; {
	case handle == nil || n.arch != unix.AUDIT_ARCH_X86_64:
	case c.pause():
		return
	default:
		handle(c)
		return
	}
	if name, is := notVirtual[c.nr]; is {
		s.remark("%s calls %s: what that does is not on the virtual clock", t.process.name, name)
		c.pass()
		return
	}
	s.failure = errors.Join(s.failure, &unknownCallError{t.process.name, c.nr, n.arch})
	c.fail(unix.ENOSYS)
}

// orderOf is where a call of a process stands among all. Processes that run beside each other, because something came
// for both, call in an order that is left to chance: so it is by when everything waited last, then by process, and
// only then by what came first.
func (s *Supervisor) orderOf(p *proc) uint64 {
	const most = 1<<20 - 1
	if p.calledAt != s.rests {
		p.calledAt, p.called = s.rests, 0
	}
	p.called = min(p.called+1, most)
	return uint64(s.rests)<<34 | uint64(p.number)<<20 | p.called
}

func (s *Supervisor) send(listener int, a answer) {
	_ = control(listener, notifySend, unsafe.Pointer(&a)) // whoever asked may have gone meanwhile
}

// pass has the call made as it is.
func (c *call) pass() { c.send(c.listener, answer{id: c.id, flags: letGo}) }

// give answers in the kernel's place.
func (c *call) give(value int64) { c.send(c.listener, answer{id: c.id, value: value}) }

// fail answers with an error.
func (c *call) fail(e unix.Errno) { c.send(c.listener, answer{id: c.id, errno: -int32(e)}) }

// addFile gives the caller's process a descriptor of its own for one of ours, with these flags (O_CLOEXEC or none), and
// returns its number. ENOENT says that the call was broken by a signal meanwhile.
func (c *call) addFile(ours int, flags uint32) (int, unix.Errno) {
	add := struct {
		id                               uint64
		how, ours, theirs, flagsOfTheirs uint32
	}{id: c.id, ours: uint32(ours), flagsOfTheirs: flags}
	return controlled(c.listener, notifyAddFd, unsafe.Pointer(&add))
}

// hold is a call that is held: its thread waits.
type hold struct {
	listener int
	id       uint64
	thread   *thread
	nr       int
	order    uint64
	deadline time.Duration
	expire   func() // writes what the call gives back at its deadline; may be nil
	value    int64  // and what it returns then
	errno    int32

	asleep  bool          // it has been seen asleep since: it asks before it is
	watched []unix.PollFd // duplicates of what it waits for
	ready   bool          // something of that is ready, perhaps
	yields  bool          // it goes on when nobody else can
	looks   bool          // so does it, if what it looks for is there
	signals uint64        // or one of these signals
	again   *call         // it is to be handled once others have gone on; or nil

	futexes    []uint64 // addresses
	shared     bool     // of the first, that it may be in memory that processes share
	expected   uint32   // and what was in it
	woken      bool
	wokenValue int64
}

// held begins a hold.
func (c *call) held(deadline time.Duration) *hold {
	return &hold{listener: c.listener, id: c.id, thread: c.thread, nr: c.nr, order: c.order, deadline: deadline}
}

// keep lets a hold stand.
func (c *call) keep(h *hold) {
	if ends(h.deadline) <= c.now && c.glances() {
		h.deadline = c.spun()
	}
	c.thread.hold = h
	c.process.held++
}

// drop forgets a hold.
func (s *Supervisor) drop(h *hold) {
	if h.thread.hold == h {
		h.thread.hold = nil
		h.thread.process.held--
	}
	for _, w := range h.watched {
		_ = unix.EpollCtl(s.ready, unix.EPOLL_CTL_DEL, int(w.Fd), nil) // it may never have got there
		closeFd(int(w.Fd))
	}
	h.watched = nil
}

// release ends a hold with an answer, and releaseCall with the call itself.
func (s *Supervisor) release(h *hold, kind byte, value int64, errno int32) {
	s.freed(h, kind)
	s.send(h.listener, answer{id: h.id, value: value, errno: errno})
}

func (s *Supervisor) releaseCall(h *hold) {
	s.freed(h, 'r')
	s.send(h.listener, answer{id: h.id, flags: letGo})
}

func (s *Supervisor) freed(h *hold, kind byte) {
	s.drop(h)
	p := h.thread.process
	p.active = true
	s.pages.of(p.page).budget = clockBudget
	s.report.Wakes++
	s.happened(kind, h.thread, uint64(h.nr))
}

// Reading clocks by a call, as programs do that do not use the vDSO, and when a process has
// spent what it may read without one.

// spins holds a thread that has looked at the clock very often without waiting: time passes.
func (c *call) spins(write func() bool) bool {
	if c.pages.of(c.process.page).budget >= 0 {
		return false
	}
	c.report.Spins++
	h := c.held(c.spun())
	h.expire = func() { write() }
	c.keep(h)
	return true
}

// spun is the deadline of a thread that waits by running. It wakes no later than that: many such steps would add up.
func (s *Supervisor) spun() time.Duration { return s.now + spinStep - late }

const (
	clockBudget = 20000            // clock reads of a process between two things that happen
	spinStep    = time.Millisecond // what passes when they are spent
)

func (c *call) clock() {
	if id := int32(c.args[0]); id < 0 || id == unix.CLOCK_PROCESS_CPUTIME_ID || id == unix.CLOCK_THREAD_CPUTIME_ID {
		c.looked(0, func() bool { return poke(c.thread.tid, c.args[1], span(c.process.computed, time.Nanosecond)) })
		return
	}
	write := func() bool {
		n := monotonic(c.now)
		if c.args[0] == unix.CLOCK_REALTIME || c.args[0] == unix.CLOCK_REALTIME_COARSE {
			n += c.wall()
		}
		return poke(c.thread.tid, c.args[1], span(n, time.Nanosecond))
	}
	c.tellTime(write)
}

// tellTime lets a clock be written where a program asked for it.
func (c *call) tellTime(write func() bool) {
	switch {
	case c.spins(write):
	case write():
		c.give(0)
	default:
		c.fail(unix.EFAULT)
	}
}

func (c *call) timeOfDay() {
	write := func() bool {
		return c.args[0] == 0 || poke(c.thread.tid, c.args[0], span(monotonic(c.now)+c.wall(), time.Microsecond))
	}
	c.tellTime(write)
}

func (c *call) seconds() {
	seconds := func() int64 { return int64((monotonic(c.now) + c.wall()) / time.Second) }
	if c.pages.of(c.process.page).budget < 0 {
		c.report.Spins++
		h := c.held(c.spun())
		h.value = int64((monotonic(c.now+spinStep) + c.wall()) / time.Second)
		c.keep(h)
		return
	}
	if c.args[0] != 0 {
		pokeWord(c.thread.tid, c.args[0], uint64(seconds()))
	}
	c.give(seconds())
}

func (c *call) random() {
	const most = 1 << 16
	n := min(c.args[1], most)
	if n > 0 {
		b := make([]byte, n)
		c.process.random.fill(b)
		if !poke(c.thread.tid, c.args[0], b) {
			c.fail(unix.EFAULT)
			return
		}
	}
	c.give(int64(n))
}

// processors says that there is one processor: where computing takes no time, more are good for
// nothing, and runtimes that know of one divide their work less by chance.
func (c *call) processors() {
	const word = 8
	if c.args[1] < word {
		c.fail(unix.EINVAL)
		return
	}
	if !pokeWord(c.thread.tid, c.args[2], 1) {
		c.fail(unix.EFAULT)
		return
	}
	c.give(word)
}

// yield holds a thread that lets others run until no other can go on at this moment. If all other threads of its
// program are sure to sleep, it goes on at once, as long as it does not do so again and again.
func (c *call) yield() {
	h := c.held(never)
	switch often := c.glances(); {
	case often:
		h.deadline = c.spun()
	case c.othersSleep():
		c.give(0)
		return
	default:
		h.yields = true
	}
	c.keep(h)
}

// become lets a thread become another program; it stops as soon as it is one, to be patched.
// The clock page is put into its hands before.
func (c *call) become() {
	tid := c.thread.tid
	if !c.trace() {
		return
	}
	if c.process.passedFd < 0 {
		fd, e := c.addFile(c.pages.file, 0)
		if e == unix.ENOENT { // a signal came meanwhile: it will ask again, or is gone
			return
		}
		if e != 0 {
			c.failure = &RefusedError{"a program cannot be handed a file", e}
			c.pass()
			return
		}
		c.process.passedFd = fd
	}
	c.executing[tid] = true
	c.process.layout = c.drawLayout(c.process)
	limitStack(c.process.pid, c.process.layout.gap)
	c.pass()
}

// trace has a thread stop when it becomes another program, has made a thread or a process, or gets a signal. It
// reports false if the call is not to be gone on with.
func (c *call) trace() bool {
	switch e := c.seize(c.thread); e {
	case 0:
		return true
	case unix.ESRCH: // it was killed meanwhile
	default:
		c.failure = &RefusedError{"a program cannot be traced", e}
		c.pass()
	}
	return false
}

// seize traces a thread, if that is not done yet.
func (s *Supervisor) seize(t *thread) unix.Errno {
	if s.traced[t.tid] {
		return 0
	}
	_, _, e := unix.RawSyscall6(unix.SYS_PTRACE, unix.PTRACE_SEIZE, uintptr(t.tid), 0, stopAtExec|stopAtSplit, 0, 0)
	if e == 0 {
		s.traced[t.tid] = true
	}
	return e
}

// split makes a thread or a process. What is new does not run beside who has made it: it begins
// when everything waits.
func (c *call) split() {
	if !c.trace() {
		return
	}
	c.process.unlisted = true
	c.splitting[c.thread.tid] = true
	c.pass()
}

func (c *call) exit() {
	c.process.exiting = true
	c.pass()
}

// signal may break what others are held at. A thread that is signalled would run beside who signals it: it is stopped
// when the signal comes, and gets it when everything waits.
func (c *call) signal() {
	t := c.numbered(int(int32(c.args[0])))
	if t == nil {
		c.stirParents() // a group, perhaps
		c.pass()
		return
	}
	t.process.suspect, t.process.active = true, true
	switch c.nr {
	case unix.SYS_TGKILL, unix.SYS_RT_TGSIGQUEUEINFO:
		t = c.numbered(int(int32(c.args[1])))
	}
	if t != nil && t != c.thread && c.seize(t) == 0 {
		t.catches = true
	}
	c.pass()
}

func (c *call) signalSomebody() {
	c.stirParents()
	c.pass()
}

// awaitSignal waits for signals that are blocked.
func (c *call) awaitSignal() {
	h := c.held(never)
	if c.args[2] != 0 {
		d, ok := peekSpan(c.thread.tid, c.args[2], time.Nanosecond)
		if !ok {
			c.pass()
			return
		}
		if !c.within(h, d) {
			c.pass()
			return
		}
	}
	h.errno = -int32(unix.EAGAIN)
	var set [8]byte
	if !peek(c.thread.tid, c.args[0], set[:]) {
		c.pass()
		return
	}
	h.signals = binary.LittleEndian.Uint64(set[:])
	h.ready = true // one may be there already
	c.keep(h)
}

// pending reports whether one of those signals waits for a thread.
func pending(t *thread, set uint64) bool {
	fd, err := unix.Open(fmt.Sprintf("/proc/%d/task/%d/status", t.process.pid, t.tid), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return true
	}
	defer closeFd(fd)
	var buffer [4096]byte
	n, err := unix.Read(fd, buffer[:])
	if err != nil {
		return true
	}
	return waitingSignals(string(buffer[:n]))&set != 0
}
