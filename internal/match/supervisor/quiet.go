//go:build linux && amd64

package supervisor

import (
	"fmt"
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/unix"
)

// quiet reports whether every thread waits, and is certain of it: no thread may use the
// processor between two readings of the processor time of its process, in between of which
// all are seen asleep, and no call may be waiting for an answer afterwards.
//
// Where a thread waits is read from wchan, which unlike /proc/TID/syscall says 0 of one that
// is being woken on another processor at this moment.
func (s *Supervisor) quiet() bool {
	if len(s.executing)+len(s.splitting) > 0 {
		return false
	}
	for _, p := range s.processes {
		if p.gone {
			continue
		}
		if p.exiting || p.suspect {
			if p.over() {
				s.reap()
				s.end(p, 0) // unless reap has done so: then it is no child of this program
				return false
			}
		}
		if p.exiting {
			s.reap()
		}
		if !p.started || p.exiting {
			return false
		}
		if p.active {
			p.usedBefore = used(p.pid)
		}
	}
	for _, p := range s.processes {
		if p.active && !p.gone && !s.asleep(p) {
			return false
		}
	}
	for _, p := range s.processes {
		if p.active && !p.gone && used(p.pid) != p.usedBefore {
			return false
		}
	}
	var asked [1]unix.EpollEvent
	if epollNow(s.asked, asked[:]) > 0 {
		return false
	}
	for _, p := range s.processes {
		p.active = p.outside && !p.gone
		p.suspect, p.unlisted = false, false
	}
	return true
}

// over reports whether a process has ended. Of one that was known only when it was ending there is no descriptor.
func (p *proc) over() bool {
	list := []unix.PollFd{{Fd: int32(p.pidfd), Events: unix.POLLIN}}
	return poll(list, 0) > 0 || unix.Kill(p.pid, 0) == unix.ESRCH
}

// unmoved reports whether nobody has used the processor since all were found to wait.
func (s *Supervisor) unmoved() bool {
	same := true
	for _, p := range s.processes {
		if !p.gone && p.usedBefore != 0 && used(p.pid) != p.usedBefore {
			p.active, same = true, false
		}
	}
	return same
}

// asleep reports whether all threads of a process wait.
func (s *Supervisor) asleep(p *proc) bool {
	if p.unlisted {
		if known := len(s.processes); s.list(p) || len(s.processes) > known {
			return false // somebody is new, and has not been looked at
		}
	}
	var buffer [mostDescribed]byte
	p.outside = false
	for _, t := range p.threads {
		if t.gone || t.stopped() {
			continue
		}
		if t.hold != nil && t.hold.asleep && !p.suspect {
			continue
		}
		n, err := unix.Pread(t.where, buffer[:], 0)
		if err != nil || n <= 0 {
			s.ended(t)
			p.suspect = true // perhaps all of it ends
			return false
		}
		if buffer[0] == '0' { // it runs, or is being woken; or it is the first thread, has ended, and others go on
			if t.tid != p.pid || !s.endedFirst(t) {
				return false
			}
			continue
		}
		if t.hold != nil {
			if p.suspect && !s.stillHeld(t.hold) {
				s.drop(t.hold) // a signal broke it
				return false
			}
			t.hold.asleep = true
			continue
		}
		if t.limit != nil {
			s.lookAtLimit(t)
		}
		if n > 5 && string(buffer[:5]) == "futex" {
			continue
		}
		p.outside = true
		if sleepers[string(buffer[:n])] && (t.limit != nil || len(p.limits) == 0) {
			continue
		}
		if !s.waits(t, buffer[:]) {
			return false
		}
	}
	return true
}

// endedFirst reports whether the first thread of a process has ended before others: the process goes on without it.
func (s *Supervisor) endedFirst(t *thread) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", t.process.pid, t.tid))
	if err != nil || stateOf(stat) != 'Z' || !slices.ContainsFunc(t.process.threads, func(other *thread) bool { return other != t && !other.gone }) {
		return false
	}
	if t.process.memory == t.tid {
		t.process.lookThroughAnother(t)
	}
	return true
}

// sleepers are the functions of the kernel in which a thread sleeps only where somebody else's doing, or a signal,
// ends that: so its state need not be read. They are only as many as come often.
var sleepers = map[string]bool{
	"pipe_read": true, "anon_pipe_read": true, "pipe_write": true, "anon_pipe_write": true,
	"__skb_wait_for_more_packets": true, "unix_stream_data_wait": true, "unix_stream_read_generic": true, "inet_csk_accept": true, "sk_wait_data": true, "wait_woken": true,
	"do_wait": true, "do_poll.constprop.0": true, "do_sys_poll": true, "do_select": true, "ep_poll": true, "do_epoll_wait": true,
	"do_sigtimedwait": true, "do_sigtimedwait.isra.0": true, "sigsuspend": true, "do_semtimedop": true, "__do_semtimedop": true, "eventfd_read": true,
}

// waits reports whether a thread that is in the kernel for something else than a futex sleeps there.
func (s *Supervisor) waits(t *thread, buffer []byte) bool {
	p := t.process
	if t.stat < 0 {
		var err error
		if t.stat, err = unix.Open(fmt.Sprintf("/proc/%d/task/%d/stat", p.pid, t.tid), unix.O_RDONLY|unix.O_CLOEXEC, 0); err != nil {
			s.ended(t)
			return true
		}
	}
	n, err := unix.Pread(t.stat, buffer, 0)
	if err != nil || n <= 0 {
		s.ended(t)
		return true
	}
	switch stateOf(buffer[:n]) {
	case 'S':
		if t.limit == nil && len(p.limits) > 0 {
			s.limitedBySocket(t)
		}
		return true
	case 't': // it gets a signal, perhaps
		s.reap()
		return false
	case 'T': // somebody has suspended it
		return true
	case 'Z', 'X':
		if t.tid != p.pid {
			s.ended(t)
			return true
		}
		p.suspect = true
		live := 0
		for _, other := range p.threads {
			if !other.gone {
				live++
			}
		}
		return live > 1 // otherwise it is about to be reaped
	}
	return false
}

// stillHeld reports whether the call that is held still waits for an answer.
func (s *Supervisor) stillHeld(h *hold) bool {
	return control(h.listener, notifyValid, unsafe.Pointer(&h.id)) == 0
}
