//go:build linux && amd64

package supervisor

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// proc is a process: of a program that was started, or of what it has started.
type proc struct {
	number  int
	pid     int
	name    string
	program *Program // whose first process it is, or nil
	pidfd   int
	memory  int // a thread by which its memory is read and written: the first of a process may end before the others
	page    int // of the clock page that it reads
	threads []*thread
	held    int // threads whose calls are held

	active     bool // it may run: it is to be looked at before everything is said to wait
	started    bool // its program has begun: it is not the launcher any more
	gone       bool
	exiting    bool
	suspect    bool // a signal may have broken what its threads were held at
	unlisted   bool // it may have threads that are not known yet
	outside    bool // one of its threads waits in the kernel for something that may come any moment
	spins      bool // a thread of it has waited for a woken one by running
	charged    int  // times that it was charged for computing
	usedBefore int64

	timers    []*timer
	limits    map[limit]time.Duration // of receiving and sending, which the kernel was not told of
	lent      map[uint64]*loan        // memory in which something else stands for a moment
	random    chance
	nextPort  int
	called    uint64          // its calls since everything waited
	calledAt  int             // for so many times
	computed  time.Duration   // its processor time, as it is told
	saw       map[string]bool // what it has read of the real machine
	layout    layout          // of the program that it becomes
	begun     int             // times that it has become a program
	passedFd  int             // the page file's number in it, or -1
	nextTimer int             // id of a timer of timer_create
}

// limit is how long a socket may be waited for.
type limit struct {
	fd      int
	sending bool
}

// thread is a thread of a process.
type thread struct {
	process *proc
	number  int
	tid     int
	own     int // what it is to the programs, see numbered; 0 is not known yet
	where   int // its wchan file: what it waits at in the kernel
	stat    int // its stat file, or -1
	hold    *hold
	gone    bool
	unborn  bool // it is stopped at its beginning
	catches bool // it is to stop when it gets a signal
	caught  int  // and has been stopped by that one, or stoppedAsMade; or 0
	paused  bool // it has let others go first at the call that it makes

	rest       int   // before which it was found running: one more than the rests by then
	usedAtRest int64 // and what it had used of a processor

	glanced   int           // how often it has looked without waiting
	found     int           // and something was there when it was held for that
	glancedAt time.Duration // at this moment

	limit *limited // of what it waits for in the kernel; or nil
}

// process makes a process known. One that was forked shares its parent's clock page until it
// becomes another program.
func (s *Supervisor) process(pid int, name string, parent *proc) *proc {
	p := &proc{number: len(s.processes), pid: pid, memory: pid, name: name, unlisted: true, active: true, passedFd: -1, limits: map[limit]time.Duration{}, lent: map[uint64]*loan{}, saw: map[string]bool{}}
	var err error
	if p.pidfd, err = unix.PidfdOpen(pid, 0); err != nil {
		p.pidfd = -1
	}
	p.random.state = s.options.Seed*0x9e3779b97f4a7c15 + uint64(p.number+1)*0xbf58476d1ce4e5b9
	if parent != nil {
		p.page, p.started = parent.page, true
	} else {
		p.page = s.freshPage(p)
	}
	s.processes = append(s.processes, p)
	return p
}

// freshPage is a clock page of its own for a process.
func (s *Supervisor) freshPage(p *proc) int {
	if p.number >= mostPages {
		s.failure = fmt.Errorf("the programs have started more than %d processes, which is more than the virtual clock is made for; play it on the wall clock", mostPages)
		return 0
	}
	page := s.pages.of(p.number)
	page.mono, page.wall, page.budget = int64(monotonic(s.now)), int64(s.wall()), clockBudget
	return p.number
}

// childOf stands behind the name of a program, for what it has started, and what that has.
const childOf = "'s child"

// threadOf is the thread of that number, which may be a new one.
func (s *Supervisor) threadOf(tid int) *thread {
	if t := s.threads[tid]; t != nil && !t.gone {
		return t
	}
	group, parentPid := tid, 0
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", tid)) // it may have ended; then it is taken for a process
	for line := range strings.Lines(string(status)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		switch name {
		case "Tgid":
			group, _ = strconv.Atoi(strings.TrimSpace(value))
		case "PPid":
			parentPid, _ = strconv.Atoi(strings.TrimSpace(value))
		}
	}
	p := s.processOf(group)
	if p == nil {
		parent := s.processOf(parentPid)
		name := "a process"
		if parent != nil {
			name = strings.TrimSuffix(parent.name, childOf) + childOf
		}
		p = s.process(group, name, parent)
	}
	return s.thread(p, tid)
}

func (s *Supervisor) processOf(pid int) *proc {
	for _, p := range slices.Backward(s.processes) {
		if p.pid == pid && !p.gone {
			return p
		}
	}
	return nil
}

func (s *Supervisor) thread(p *proc, tid int) *thread {
	t := &thread{process: p, tid: tid, number: len(p.threads), stat: -1}
	var err error
	if t.where, err = unix.Open(fmt.Sprintf("/proc/%d/task/%d/wchan", p.pid, tid), unix.O_RDONLY|unix.O_CLOEXEC, 0); err != nil {
		t.where = -1
	}
	p.threads = append(p.threads, t)
	s.threads[tid] = t
	return t
}

// list finds threads and children that have made no call of which the supervisor is told. It
// reports whether there was any. As long as a process runs it may make more.
func (s *Supervisor) list(p *proc) (any bool) {
	entries, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", p.pid))
	if err != nil {
		return false // it has ended
	}
	var tids []int
	for _, e := range entries {
		if tid, err := strconv.Atoi(e.Name()); err == nil {
			tids = append(tids, tid)
		}
	}
	byBirth(p.pid, tids, s.mostPids)
	for _, tid := range tids {
		if t := s.threads[tid]; t == nil || t.gone || t.process != p {
			any = true
			s.thread(p, tid)
		}
		children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", p.pid, tid))
		if err != nil {
			continue
		}
		for _, word := range strings.Fields(string(children)) {
			if child, err := strconv.Atoi(word); err == nil && s.processOf(child) == nil && !over(child) {
				s.threadOf(child)
			}
		}
	}
	return any
}

// byBirth puts threads of a process in the order in which they were made: they are numbered upwards from it, and from
// the beginning again after the last number of all.
func byBirth(pid int, tids []int, most int) {
	since := func(tid int) int { return (tid - pid + most) % most }
	slices.SortFunc(tids, func(a, b int) int { return since(a) - since(b) })
}

// mostPids is how many numbers for processes a machine has.
func mostPids() int {
	const usual = 1 << 22
	text, err := os.ReadFile("/proc/sys/kernel/pid_max")
	if err != nil {
		return usual
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || n <= 0 {
		return usual
	}
	return n
}

// over reports whether a process has ended, and only its parent does not know yet.
func over(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return true
	}
	state := stateOf(stat)
	return state == 'Z' || state == 'X'
}

// ended takes in that a thread is no more.
func (s *Supervisor) ended(t *thread) {
	if t.gone {
		return
	}
	t.gone = true
	if t.stopped() {
		t.unborn, t.caught = false, 0
		t.process.held--
	}
	if t.hold != nil {
		s.drop(t.hold)
	}
	closeFd(t.where)
	if t.stat >= 0 {
		closeFd(t.stat)
	}
	if s.threads[t.tid] == t {
		delete(s.threads, t.tid)
	}
	if t.process.memory == t.tid {
		t.process.lookThroughAnother(t)
	}
	t.process.wakeJoining()
}

// end takes in that a process is no more.
func (s *Supervisor) end(p *proc, status unix.WaitStatus) {
	if p.gone {
		return
	}
	for _, t := range p.threads {
		s.ended(t)
	}
	p.gone, p.active = true, false
	closeFd(p.pidfd)
	for _, t := range p.timers {
		t.close()
	}
	p.timers = nil
	if p.program != nil {
		p.program.died(status)
	}
	s.stirParents()
}

// lookThroughAnother has the memory of a process read by another of its threads than one that has ended.
func (p *proc) lookThroughAnother(ended *thread) {
	for _, t := range p.threads {
		if t != ended && !t.gone && t.tid != p.pid {
			p.memory = t.tid
			return
		}
	}
}

// stirParents has every process looked at anew: the end of a child is a signal to its parent.
func (s *Supervisor) stirParents() {
	for _, p := range s.processes {
		if !p.gone {
			p.active, p.suspect = true, true
		}
	}
}

// reap takes in what the kernel has to say of children and what is traced.
func (s *Supervisor) reap() {
	for {
		var status unix.WaitStatus
		pid, err := wait4(-1, &status, unix.WNOHANG)
		if err != nil || pid <= 0 {
			return
		}
		event := 0
		if status.Stopped() {
			event = int(status) >> 16
		}
		switch {
		case event == eventExec:
			s.becameProgram(pid)
		case event == eventFork || event == eventVfork || event == eventClone:
			s.hasSplit(pid, event)
		case event == eventStop && !s.traced[pid]:
			s.stopped(pid)
		case event == eventStop:
			_ = unix.PtraceCont(pid, 0) // it may be gone
		case status.Stopped():
			s.signalled(pid, int(status.StopSignal()))
		case status.Exited() || status.Signaled():
			delete(s.executing, pid)
			delete(s.splitting, pid)
			delete(s.traced, pid)
			if p := s.processOf(pid); p != nil {
				s.end(p, status)
			}
		}
	}
}

// hasSplit takes in that a thread has made another, or a process. Who waits until that has become
// another program (vfork) lets it begin at once.
func (s *Supervisor) hasSplit(tid, event int) {
	made, err := unix.PtraceGetEventMsg(tid)
	delete(s.splitting, tid)
	delete(s.traced, tid)
	if t := s.threads[tid]; t != nil {
		t.catches = false
	}
	if err == nil && !over(int(made)) {
		s.threadOf(int(made)) // known in the order in which they are made: their stops come in any
	}
	if err == nil && event != eventVfork && s.goesFirst(s.threads[tid]) {
		return
	}
	_ = unix.PtraceDetach(tid) // if it is gone, so it is
	if err != nil || event != eventVfork {
		return
	}
	if t := s.threads[int(made)]; t != nil && t.unborn {
		s.bear(t)
	} else {
		s.hasty[int(made)] = true
	}
}

// stopped takes in that a thread that was made is stopped at its beginning.
func (s *Supervisor) stopped(tid int) {
	t := s.threadOf(tid)
	t.unborn = true
	t.process.held++
	if s.hasty[tid] {
		delete(s.hasty, tid)
		s.bear(t)
	}
}

// signalled takes in that a thread that is traced is stopped because it gets a signal.
func (s *Supervisor) signalled(tid, signal int) {
	t := s.threads[tid]
	if t == nil || !t.catches || s.executing[tid] || s.splitting[tid] {
		_ = unix.PtraceCont(tid, signal)
		return
	}
	if t.hold != nil {
		s.drop(t.hold)
	}
	t.caught = signal
	t.process.held++
}

// deliver lets a thread have the signal by which it was stopped.
func (s *Supervisor) deliver(t *thread) {
	signal := t.caught
	t.caught = 0
	t.process.held--
	if signal == stoppedAsMade {
		t.process.active = true
		s.report.Wakes++
		s.happened('m', t, 0)
		_ = unix.PtraceDetach(t.tid) // if it is gone, so it is
		return
	}
	t.process.active = true
	s.report.Wakes++
	s.happened('k', t, uint64(signal))
	_ = unix.PtraceCont(t.tid, signal) // if it is gone, so it is
}

// stopped reports whether a thread is stopped, and to be let go when everything waits.
func (t *thread) stopped() bool { return t.unborn || t.caught != 0 }

// othersSleep reports whether all other threads of a caller's program are sure to sleep, and would if everything
// waited. Whether descriptors have become ready is not asked.
func (c *call) othersSleep() bool {
	if c.process.suspect || c.process.unlisted {
		return false
	}
	for _, t := range c.process.threads {
		switch h := t.hold; {
		case t == c.thread || t.gone:
		case t.stopped() || h == nil && !t.sleeps() || h != nil && (!h.asleep || h.woken || h.ready || h.yields):
			return false
		}
	}
	return true
}

// sleeps reports whether a thread that is not held sleeps where only somebody else can wake it.
func (t *thread) sleeps() bool {
	var buffer [mostDescribed]byte
	n, err := unix.Pread(t.where, buffer[:], 0)
	return err == nil && n > 0 && sleepers[string(buffer[:n])]
}

// bear lets a thread begin.
func (s *Supervisor) bear(t *thread) {
	t.unborn = false
	t.process.held--
	t.process.active = true
	s.report.Wakes++
	s.happened('b', t, 0)
	_ = unix.PtraceDetach(t.tid) // if it is gone, so it is
}

// chance is where the random bytes of a process come from: SplitMix64 (Steele, Lea and Flood, 2014).
type chance struct{ state uint64 }

func (c *chance) fill(b []byte) {
	for i := range b {
		if i%8 == 0 {
			c.state += 0x9e3779b97f4a7c15
		}
		z := c.state
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		b[i] = byte((z ^ z>>31) >> (8 * (i % 8)))
	}
}
