//go:build linux && amd64

package supervisor

import (
	"fmt"
	"strings"

	"golang.org/x/sys/unix"
)

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

// draw is a number below n from the stream of orders; usual is what it would be in the usual order. told says what
// was drawn, where that is asked for.
func (s *Supervisor) draw(n, usual int, told func(drawn int) string) int {
	s.report.Draws++
	from := s.options.UsualFrom
	if from > 0 && s.report.Draws >= from {
		return usual
	}
	var b [1]byte
	s.orders.fill(b[:])
	drawn := int(b[0]) % n
	if s.report.Draws == from-1 {
		s.report.LastDraw, s.report.LastDrawAt = told(drawn), s.now
	}
	return drawn
}

// pauses are the calls at which the order of threads is drawn.
var pauses = map[int]string{
	unix.SYS_FUTEX: "futex", unix.SYS_SENDTO: "sendto", unix.SYS_SENDMSG: "sendmsg", unix.SYS_SENDMMSG: "sendmmsg", unix.SYS_WRITE: "write", unix.SYS_WRITEV: "writev",
	unix.SYS_OPEN: "open", unix.SYS_OPENAT: "openat", unix.SYS_TGKILL: "tgkill",
}

// String is what a thread is called.
func (t *thread) String() string {
	if t.number == 0 {
		return t.process.name
	}
	return fmt.Sprintf("%s (thread %d)", t.process.name, t.number+1)
}

// pause has a thread let others go first, before a call of its that they can tell. It reports whether it does: then
// the call comes again.
func (c *call) pause() bool {
	name := pauses[c.nr]
	if !c.options.DrawnOrder || name == "" {
		return false
	}
	if c.thread.paused {
		c.thread.paused = false
		return false
	}
	if c.draw(pausesOneIn, 1, func(drawn int) string {
		if drawn > 0 {
			return fmt.Sprintf("%s called %s and let nobody go first", c.thread, name)
		}
		return fmt.Sprintf("%s let others go first, just before it called %s", c.thread, name)
	}) > 0 {
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
	if !s.options.DrawnOrder || maker == nil || s.draw(2, 1, func(drawn int) string {
		if drawn > 0 {
			return maker.String() + " went before the thread that it had just made"
		}
		return "the thread that " + maker.String() + " had just made went before it"
	}) > 0 {
		return false
	}
	maker.caught = stoppedAsMade
	maker.process.held++
	return true
}

// ready is a thread that can go on, and how it does.
type ready struct {
	thread *thread
	goOn   func()
}

// choose lets one of several threads go on.
func (s *Supervisor) choose(list []ready) bool {
	if len(list) == 0 {
		return false
	}
	list[s.draw(len(list), 0, func(drawn int) string {
		var others []string
		for i, r := range list {
			if i != drawn {
				others = append(others, r.thread.String())
			}
		}
		if others == nil {
			return fmt.Sprintf("%s went, and no other could", list[drawn].thread)
		}
		return fmt.Sprintf("%s went before %s", list[drawn].thread, strings.Join(others, ", "))
	})].goOn()
	return true
}
