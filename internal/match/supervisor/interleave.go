//go:build linux && amd64

package supervisor

import "golang.org/x/sys/unix"

// The order of threads. By itself which of several ready threads goes on is always the same: the first of the first
// program. Only one order of all that are possible is ever tried so. Drawn from the seed, each seed tries another
// one, and a thread may also have to let others go first where it makes a call that others can tell: it wakes, sends,
// writes, opens, or has just made another thread. What happens between two calls stays in one piece, so a race
// without any call in it is not found.

const (
	orderStream   = 0x6f72646572
	pausesOneIn   = 4 // calls, at which a thread may have to let others go first
	stoppedAsMade = -1
)

// draw is a number below n from the stream of orders.
func (s *Supervisor) draw(n int) int {
	var b [1]byte
	s.orders.fill(b[:])
	return int(b[0]) % n
}

// pauses are the calls at which the order of threads is drawn.
var pauses = map[int]bool{
	unix.SYS_FUTEX: true, unix.SYS_SENDTO: true, unix.SYS_SENDMSG: true, unix.SYS_SENDMMSG: true, unix.SYS_WRITE: true, unix.SYS_WRITEV: true,
	unix.SYS_OPEN: true, unix.SYS_OPENAT: true, unix.SYS_TGKILL: true,
}

// pause has a thread let others go first, before a call of its that they can tell. It reports whether it does: then
// the call comes again.
func (c *call) pause() bool {
	if !c.options.DrawnOrder || !pauses[c.nr] {
		return false
	}
	if c.thread.paused {
		c.thread.paused = false
		return false
	}
	if c.draw(pausesOneIn) > 0 {
		return false
	}
	h := c.held(never)
	h.again = c
	c.keep(h)
	return true
}

// goOnAfter takes up the call at which a thread has let others go first.
func (s *Supervisor) goOnAfter(h *hold) {
	s.freed(h, 'o')
	h.thread.paused = true
	handlers[h.nr](h.again)
}

// goesFirst stops a thread that has just made another, so that the other may go first.
func (s *Supervisor) goesFirst(maker *thread) bool {
	if !s.options.DrawnOrder || maker == nil || s.draw(2) > 0 {
		return false
	}
	maker.caught = stoppedAsMade
	maker.process.held++
	return true
}

// ready lets a thread go on that can.
type ready func()

// choose lets one of several threads go on.
func (s *Supervisor) choose(list []ready) bool {
	if len(list) == 0 {
		return false
	}
	list[s.draw(len(list))]()
	return true
}
