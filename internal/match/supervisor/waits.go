//go:build linux && amd64

package supervisor

import (
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Sleeping, and waiting for descriptors.

// late is how long after its deadline a wait ends. On a machine it is never before and hardly ever at it; a program
// that waits until a time is strictly over would otherwise be answered again and again, at that very time.
const late = time.Microsecond

// ends is when a wait with that deadline ends.
func ends(deadline time.Duration) time.Duration {
	if deadline >= never-late {
		return never
	}
	return deadline + late
}

// A thread that looks without waiting (polls without a time-out, lets others run, waits for what is over already)
// again and again waits by running. After so many looks at one moment it is held, so that others go on, until something
// has come of what it looks for or spinStep has passed; and if something was there each time, again and again, until
// spinStep has passed.
const (
	mostGlances = 16
	mostFinds   = 8
)

// glances counts such a look, and reports whether the thread has looked too often.
func (c *call) glances() bool {
	t := c.thread
	if t.glancedAt != c.now {
		t.glancedAt, t.glanced, t.found = c.now, 0, 0
	}
	if t.glanced++; t.glanced <= mostGlances {
		return false
	}
	t.glanced = 0
	c.report.Spins++
	return true
}

// within sets how long a wait may take. It reports false for a look that may be made as it is.
func (c *call) within(h *hold, d time.Duration) (waits bool) {
	if d > 0 {
		h.deadline = c.now + min(d, never-c.now)
		return true
	}
	h.deadline, h.looks = c.spun(), true
	return c.glances()
}

// grid is what short sleeps are rounded up to. Kernels round too, by less; without it
// runtimes that look after their threads every 20 us would be all that happens.
const grid = time.Millisecond

// asleepUntil is the deadline of a sleep of that length.
func (c *call) asleepUntil(d time.Duration) time.Duration {
	if d < grid {
		return (c.now/grid + 1) * grid
	}
	return c.now + d
}

func (c *call) sleep() {
	d, ok := peekSpan(c.thread.tid, c.args[0], time.Nanosecond)
	if !ok {
		c.pass()
		return
	}
	c.keep(c.held(c.asleepUntil(d)))
}

// sleepBy is clock_nanosleep.
func (c *call) sleepBy() {
	const absolute = 1
	clock := int32(c.args[0])
	d, ok := peekSpan(c.thread.tid, c.args[2], time.Nanosecond)
	switch {
	case !ok || clock < 0 || clock == unix.CLOCK_PROCESS_CPUTIME_ID || clock == unix.CLOCK_THREAD_CPUTIME_ID:
		c.pass()
	case c.args[1]&absolute == 0:
		c.keep(c.held(c.asleepUntil(d)))
	default:
		c.keep(c.held(c.when(d, clock == unix.CLOCK_REALTIME)))
	}
}

// when is the virtual time of an absolute one.
func (s *Supervisor) when(d time.Duration, date bool) time.Duration {
	if date {
		d -= s.wall()
	}
	return d - monoZero
}

func (c *call) epoll() {
	h := c.held(never)
	d := never
	if c.nr == unix.SYS_EPOLL_PWAIT2 {
		if c.args[3] != 0 {
			d, _ = peekSpan(c.thread.tid, c.args[3], time.Nanosecond)
		}
	} else if ms := int32(c.args[3]); ms >= 0 {
		d = time.Duration(ms) * time.Millisecond
	}
	if !c.within(h, d) {
		c.pass()
		return
	}
	c.watch(h, []unix.PollFd{{Fd: int32(c.args[0]), Events: unix.POLLIN}})
	c.keep(h)
}

// poll is poll and ppoll.
func (c *call) poll() {
	h := c.held(never)
	d := never
	if c.nr == unix.SYS_POLL {
		if ms := int32(c.args[2]); ms >= 0 {
			d = time.Duration(ms) * time.Millisecond
		}
	} else if c.args[2] != 0 {
		d, _ = peekSpan(c.thread.tid, c.args[2], time.Nanosecond)
	}
	if !c.within(h, d) {
		c.pass()
		return
	}
	const most = 1 << 16
	list := make([]unix.PollFd, min(c.args[1], most))
	if len(list) > 0 {
		raw := unsafe.Slice((*byte)(unsafe.Pointer(&list[0])), len(list)*int(unsafe.Sizeof(list[0])))
		if !peek(c.thread.tid, c.args[0], raw) {
			c.pass()
			return
		}
		pid, at := c.thread.tid, c.args[0]
		h.expire = func() { // nothing has come of any
			for i := range list {
				list[i].Revents = 0
			}
			poke(pid, at, raw)
		}
	}
	c.watch(h, list)
	c.keep(h)
}

// choose is select and pselect6.
func (c *call) choose() {
	h := c.held(never)
	d := never
	if c.args[4] != 0 {
		unit := time.Nanosecond
		if c.nr == unix.SYS_SELECT {
			unit = time.Microsecond
		}
		d, _ = peekSpan(c.thread.tid, c.args[4], unit)
	}
	if !c.within(h, d) {
		c.pass()
		return
	}
	count := min(max(int(int32(c.args[0])), 0), 1024)
	size := (count + 63) / 64 * 8
	wanted := make([]int16, count)
	for set, event := range []int16{unix.POLLIN, unix.POLLOUT, unix.POLLPRI} {
		if c.args[1+set] == 0 || size == 0 {
			continue
		}
		bits := make([]byte, size)
		if !peek(c.thread.tid, c.args[1+set], bits) {
			c.pass()
			return
		}
		for fd := range count {
			if bits[fd/8]>>(fd%8)&1 != 0 {
				wanted[fd] |= event
			}
		}
	}
	var list []unix.PollFd
	for fd, events := range wanted {
		if events != 0 {
			list = append(list, unix.PollFd{Fd: int32(fd), Events: events})
		}
	}
	pid, args := c.thread.tid, c.args
	h.expire = func() {
		for set := range 3 {
			if args[1+set] != 0 && size > 0 {
				poke(pid, args[1+set], make([]byte, size))
			}
		}
	}
	c.watch(h, list)
	c.keep(h)
}

// watch has it noted when one of a process's descriptors becomes ready. Duplicates are taken
// for the time of the wait only: they would keep connections open that the program closes.
func (c *call) watch(h *hold, list []unix.PollFd) {
	if h.looks && c.thread.found > mostFinds {
		return
	}
	for _, w := range list {
		if w.Fd < 0 {
			continue
		}
		d := c.duplicate(int(w.Fd))
		if d < 0 {
			h.ready = true // the call itself will say what is wrong with it
			continue
		}
		h.watched = append(h.watched, unix.PollFd{Fd: int32(d), Events: w.Events})
		event := unix.EpollEvent{Events: uint32(uint16(w.Events)) | unix.EPOLLONESHOT, Fd: int32(c.thread.tid)}
		if err := unix.EpollCtl(c.ready, unix.EPOLL_CTL_ADD, d, &event); err != nil {
			h.ready = true // a file, which is always ready
		}
	}
}

// watchAgain goes on watching after nothing was ready when it was asked.
func (s *Supervisor) watchAgain(h *hold) {
	h.ready = h.signals != 0
	for _, w := range h.watched {
		event := unix.EpollEvent{Events: uint32(uint16(w.Events)) | unix.EPOLLONESHOT, Fd: int32(h.thread.tid)}
		_ = unix.EpollCtl(s.ready, unix.EPOLL_CTL_MOD, int(w.Fd), &event) // what is not in the set was always ready
	}
}

// nowReady asks once more, now that everything waits.
func (h *hold) nowReady() bool {
	if h.signals != 0 {
		return pending(h.thread, h.signals)
	}
	if len(h.watched) == 0 {
		return h.ready
	}
	return poll(h.watched, 0) > 0
}

// waitingSignals are the signals that wait for a thread or its process, by a status file of proc(5).
func waitingSignals(status string) (mask uint64) {
	for line := range strings.Lines(status) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		if name == "SigPnd" || name == "ShdPnd" {
			bits, err := strconv.ParseUint(strings.TrimSpace(value), 16, 64)
			if err == nil {
				mask |= bits
			}
		}
	}
	return mask
}
