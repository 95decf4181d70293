//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

// Waits for memory, see futex(2). Those with a time-out are held here and so are in no queue
// of the kernel's: whoever wakes has to be told of, so that these are found.

const (
	futexWait           = 0
	futexWake           = 1
	futexRequeue        = 3
	futexCompareRequeue = 4
	futexWakeOp         = 5
	futexWaitBits       = 9
	futexWakeBits       = 10
	futexLock           = 6
	futexWaitRequeue    = 11
	futexLock2          = 13

	futexOperation = 127
	futexPrivate   = 128 // it is not in memory that processes share
	futexDate      = 256 // the deadline is a date
)

func (c *call) futex() {
	switch op := c.args[1] & futexOperation; op {
	case futexWait, futexWaitBits:
		c.waitFor(op == futexWaitBits)
	case futexWake, futexWakeBits:
		c.wake(int64(int32(c.args[2])))
	case futexRequeue, futexCompareRequeue, futexWakeOp:
		c.wakeAll(c.args[0], c.args[4])
		c.pass()
	case futexLock, futexLock2, futexWaitRequeue: // that inherit priority: the kernel hands them on
		date := op == futexLock || c.args[1]&futexDate != 0
		c.letWait(c.args[3], unix.ETIMEDOUT, func(d time.Duration) time.Duration { return c.when(d, date) })
	default:
		c.pass()
	}
}

func (c *call) waitFor(absolute bool) {
	shared := c.args[1]&futexPrivate == 0
	if shared && c.args[3] == 0 { // others may wake it, also the kernel when a thread ends
		c.pass()
		return
	}
	var value [4]byte
	if !peek(c.thread.tid, c.args[0], value[:]) {
		c.pass()
		return
	}
	if binary.LittleEndian.Uint32(value[:]) != uint32(c.args[2]) {
		c.fail(unix.EAGAIN)
		return
	}
	h := c.held(never)
	if c.args[3] != 0 {
		d, _ := peekSpan(c.thread.tid, c.args[3], time.Nanosecond)
		h.deadline = c.now + d
		if absolute {
			h.deadline = c.when(d, c.args[1]&futexDate != 0)
		}
	}
	h.futexes, h.errno = []uint64{c.args[0]}, -int32(unix.ETIMEDOUT)
	h.shared, h.expected = shared, uint32(c.args[2])
	c.keep(h)
}

// wakeJoining wakes those that wait, with a limit, for what the kernel changes when a thread ends.
func (p *proc) wakeJoining() {
	for _, t := range p.threads {
		var value [4]byte
		if h := t.hold; h != nil && h.shared && peek(p.memory, h.futexes[0], value[:]) && binary.LittleEndian.Uint32(value[:]) != h.expected {
			h.woken = true
		}
	}
}

// futexes is futex_waitv: a wait for any of several.
func (c *call) futexes() {
	const entry, most = 24, 128
	n := int(c.args[1])
	if n < 1 || n > most {
		c.pass()
		return
	}
	list := make([]byte, n*entry)
	if !peek(c.thread.tid, c.args[0], list) {
		c.pass()
		return
	}
	h := c.held(never)
	if c.args[3] != 0 {
		d, _ := peekSpan(c.thread.tid, c.args[3], time.Nanosecond)
		h.deadline = c.when(d, c.args[4] == unix.CLOCK_REALTIME)
	}
	h.errno = -int32(unix.ETIMEDOUT)
	for i := range n {
		want, at := binary.LittleEndian.Uint64(list[i*entry:]), binary.LittleEndian.Uint64(list[i*entry+8:])
		var value [4]byte
		if !peek(c.thread.tid, at, value[:]) {
			c.pass()
			return
		}
		if binary.LittleEndian.Uint32(value[:]) != uint32(want) {
			c.fail(unix.EAGAIN)
			return
		}
		h.futexes = append(h.futexes, at)
	}
	c.keep(h)
}

// heldAt are the holds of a process at an address, the longest waiting first.
func (p *proc) heldAt(at uint64) (list []*hold) {
	if p.held == 0 {
		return nil
	}
	for _, t := range p.threads {
		if h := t.hold; h != nil && !h.woken && slices.Contains(h.futexes, at) {
			list = append(list, h)
		}
	}
	slices.SortFunc(list, func(a, b *hold) int { return int(int64(a.order) - int64(b.order)) })
	return list
}

// wake wakes up to n: first those that are held here, then the kernel's.
func (c *call) wake(n int64) {
	list := c.sharing(c.args[0])
	woken := int64(0)
	for _, h := range list {
		if woken == n {
			break
		}
		h.wake(c.args[0])
		woken++
	}
	if woken == n {
		c.give(woken)
		return
	}
	c.pass()
}

// sharing are the holds at an address, also those of other processes if the memory is shared:
// where it lies in them is not known, so those of forks are taken to be at the same place.
func (c *call) sharing(at uint64) []*hold {
	list := c.process.heldAt(at)
	if c.args[1]&futexPrivate == 0 {
		for _, p := range c.processes {
			if p != c.process && !p.gone && p.page == c.process.page {
				list = append(list, p.heldAt(at)...)
			}
		}
	}
	return list
}

// wakeAll wakes all that are held at these addresses: they look again and wait anew.
func (c *call) wakeAll(addresses ...uint64) {
	for _, at := range addresses {
		for _, h := range c.process.heldAt(at) {
			h.wake(at)
		}
	}
}

func (h *hold) wake(at uint64) {
	h.woken = true
	if h.nr == unix.SYS_FUTEX_WAITV {
		h.wokenValue = int64(slices.Index(h.futexes, at))
	}
}
