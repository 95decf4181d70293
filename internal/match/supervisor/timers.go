//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Timers that a program sets and goes on: as descriptors (timerfd_create), as SIGALRM
// (alarm, setitimer), or as any signal (timer_create).

// timer is one of them.
type timer struct {
	process  *proc
	next     time.Duration
	interval time.Duration
	order    uint64

	number int // of its descriptor in the process, or its id of timer_create; 0 is that of setitimer
	file   int // an eventfd that stands in for the descriptor, or -1
	signal int // or the signal
	thread int // which it goes to, or 0
	value  uint64
}

const (
	absoluteTime = 1
	firstTimer   = 1 << 20 // ids that the kernel does not give
)

func (t *timer) close() {
	if t.file >= 0 {
		closeFd(t.file)
	}
}

// fire lets a timer do what it does.
func (s *Supervisor) fire(t *timer) {
	at := t.next
	t.next = never
	if t.interval > 0 {
		t.next = at + max(t.interval, time.Microsecond)
	}
	t.process.active = true
	s.happened('t', nil, uint64(t.process.number)<<32|uint64(t.number))
	if t.file >= 0 {
		one := [8]byte{1}
		writeFrom(t.file, one[:])
		return
	}
	if t.signal == 0 { // nobody wants to hear of it
		return
	}
	t.process.suspect = true
	if t.number == 0 {
		_ = unix.Kill(t.process.pid, unix.SIGALRM) // it may be gone
		return
	}
	var info [signalInfoSize]byte
	binary.LittleEndian.PutUint32(info[0:], uint32(t.signal))
	code := int32(siTimer)
	binary.LittleEndian.PutUint32(info[8:], uint32(code))
	binary.LittleEndian.PutUint32(info[16:], uint32(t.number))
	binary.LittleEndian.PutUint64(info[24:], t.value)
	if t.thread != 0 {
		unix.RawSyscall6(unix.SYS_RT_TGSIGQUEUEINFO, uintptr(t.process.pid), uintptr(t.thread), uintptr(t.signal), uintptr(unsafe.Pointer(&info)), 0, 0)
		return
	}
	unix.RawSyscall(unix.SYS_RT_SIGQUEUEINFO, uintptr(t.process.pid), uintptr(t.signal), uintptr(unsafe.Pointer(&info)))
}

// set sets a timer from what a program gives: value is absolute or not.
func (c *call) set(t *timer, value, interval time.Duration, absolute bool) {
	t.interval, t.order = interval, c.order
	switch {
	case value == 0:
		t.next = never
	case !absolute:
		t.next = c.now + value
	default:
		t.next = c.when(value, value > monoZero+c.wall()/2) // only dates are so large
	}
}

// left is how long until a timer is due; 0 if it is not set.
func (s *Supervisor) left(t *timer) time.Duration {
	if t == nil || t.next == never {
		return 0
	}
	return max(t.next-s.now, 1)
}

// times reads a struct itimerspec, or with a unit of a microsecond a struct itimerval.
func (c *call) times(at uint64, unit time.Duration) (value, interval time.Duration, ok bool) {
	interval, ok = peekSpan(c.thread.tid, at, unit)
	value, also := peekSpan(c.thread.tid, at+16, unit)
	return value, interval, ok && also
}

func (c *call) putTimes(at uint64, t *timer, unit time.Duration) {
	if at == 0 {
		return
	}
	interval := time.Duration(0)
	if t != nil {
		interval = t.interval
	}
	poke(c.thread.tid, at, append(span(interval, unit), span(c.left(t), unit)...))
}

func (p *proc) timer(file bool, number int) *timer {
	for _, t := range p.timers {
		if t.number == number && (t.file >= 0) == file {
			return t
		}
	}
	return nil
}

// timerFile is timerfd_create: an eventfd takes the place of the descriptor.
func (c *call) timerFile() {
	// TFD_NONBLOCK and TFD_CLOEXEC have the values of the flags of an eventfd.
	file, err := unix.Eventfd(0, int(c.args[1])|unix.EFD_CLOEXEC)
	if err != nil {
		c.fail(unix.EMFILE)
		return
	}
	number, e := c.addFile(file, uint32(c.args[1])&unix.O_CLOEXEC)
	if e != 0 {
		closeFd(file)
		c.fail(e)
		return
	}
	t := &timer{process: c.process, next: never, number: number, file: file}
	if old := c.process.timer(true, t.number); old != nil { // closed since
		old.close()
		*old = *t
	} else {
		c.process.timers = append(c.process.timers, t)
	}
	c.give(int64(number))
}

func (c *call) setTimerFile() {
	t := c.process.timer(true, int(c.args[0]))
	value, interval, ok := c.times(c.args[2], time.Nanosecond)
	if t == nil || !ok {
		c.pass()
		return
	}
	c.putTimes(c.args[3], t, time.Nanosecond)
	if poll([]unix.PollFd{{Fd: int32(t.file), Events: unix.POLLIN}}, 0) > 0 { // what it has counted is forgotten
		var count [8]byte
		readInto(t.file, count[:])
	}
	c.set(t, value, interval, c.args[1]&absoluteTime != 0)
	c.give(0)
}

func (c *call) readTimerFile() {
	t := c.process.timer(true, int(c.args[0]))
	if t == nil {
		c.pass()
		return
	}
	c.putTimes(c.args[1], t, time.Nanosecond)
	c.give(0)
}

// itimer is the timer of alarm and setitimer, made if need be.
func (p *proc) itimer() *timer {
	t := p.timer(false, 0)
	if t == nil {
		t = &timer{process: p, next: never, file: -1, signal: int(unix.SIGALRM)}
		p.timers = append(p.timers, t)
	}
	return t
}

func (c *call) alarm() {
	t := c.process.itimer()
	left := c.left(t)
	c.set(t, time.Duration(uint32(c.args[0]))*time.Second, 0, false)
	c.give(int64((left + time.Second - 1) / time.Second))
}

const realInterval = 0 // the other kinds count processor time

func (c *call) setInterval() {
	value, interval, ok := c.times(c.args[1], time.Microsecond)
	if c.args[0] != realInterval || c.args[1] != 0 && !ok {
		c.pass()
		return
	}
	t := c.process.itimer()
	c.putTimes(c.args[2], t, time.Microsecond)
	c.set(t, value, interval, false)
	c.give(0)
}

func (c *call) readInterval() {
	if c.args[0] != realInterval {
		c.pass()
		return
	}
	c.putTimes(c.args[1], c.process.itimer(), time.Microsecond)
	c.give(0)
}

// makeTimer is timer_create.
func (c *call) makeTimer() {
	const (
		none     = 1
		toThread = 4
	)
	if clock := int32(c.args[0]); clock < 0 || clock == unix.CLOCK_PROCESS_CPUTIME_ID || clock == unix.CLOCK_THREAD_CPUTIME_ID {
		c.pass()
		return
	}
	c.process.nextTimer++
	t := &timer{process: c.process, next: never, file: -1, number: firstTimer + c.process.nextTimer, signal: int(unix.SIGALRM)}
	t.value = uint64(t.number)
	if c.args[1] != 0 {
		var event [24]byte
		if !peek(c.thread.tid, c.args[1], event[:]) {
			c.fail(unix.EFAULT)
			return
		}
		t.value, t.signal = binary.LittleEndian.Uint64(event[:]), int(binary.LittleEndian.Uint32(event[8:]))
		switch how := binary.LittleEndian.Uint32(event[12:]); how {
		case none:
			t.signal = 0
		case toThread:
			if to := c.numbered(int(binary.LittleEndian.Uint32(event[16:]))); to != nil {
				t.thread = to.tid
			}
		}
	}
	var id [4]byte
	binary.LittleEndian.PutUint32(id[:], uint32(t.number))
	if !poke(c.thread.tid, c.args[2], id[:]) {
		c.fail(unix.EFAULT)
		return
	}
	c.process.timers = append(c.process.timers, t)
	c.give(0)
}

func (c *call) setTimer() {
	t := c.process.timer(false, int(c.args[0]))
	value, interval, ok := c.times(c.args[2], time.Nanosecond)
	if t == nil || !ok {
		c.pass()
		return
	}
	c.putTimes(c.args[3], t, time.Nanosecond)
	c.set(t, value, interval, c.args[1]&absoluteTime != 0)
	c.give(0)
}

func (c *call) readTimer() {
	t := c.process.timer(false, int(c.args[0]))
	if t == nil {
		c.pass()
		return
	}
	c.putTimes(c.args[1], t, time.Nanosecond)
	c.give(0)
}

func (c *call) deleteTimer() {
	for i, t := range c.process.timers {
		if t.file < 0 && t.number == int(c.args[0]) {
			c.process.timers = append(c.process.timers[:i:i], c.process.timers[i+1:]...)
			c.give(0)
			return
		}
	}
	c.pass()
}

func (c *call) overrun() {
	if c.process.timer(false, int(c.args[0])) == nil {
		c.pass()
		return
	}
	c.give(0)
}
