package clocksync

import "time"

// Live brings the lines of a view that runs here onto the clock of those who listen,
// while they come. A line is said at once or late, never early: so the clocks are
// as far apart as between the moment that a line speaks of and its arrival, in the
// case of the line that took the least time. That is right to within this least
// time, a fraction of a millisecond on one machine, and keeps the view's own
// spacing when lines arrive in heaps.
//
// The zero value is ready.
type Live struct {
	began   bool
	last    time.Duration    // the view's time of the line before
	least   [2]time.Duration // arrival less the view's time, in this stretch and the one before
	stretch time.Duration    // when this stretch began, by arrival
	Jumps   int              // how often the view's clock was set back
}

const (
	liveStretch = 20 * time.Second       // old lines are forgotten, so that drift is followed
	setBack     = 100 * time.Millisecond // more is no disorder, but another clock
)

// Shared is when a line was said by the listeners' clock, on which it arrived at
// arrived and by its own at t. It is not after arrived.
func (l *Live) Shared(t, arrived time.Duration) time.Duration {
	apart := arrived - t
	switch {
	case !l.began:
		l.began, l.least, l.stretch = true, [2]time.Duration{apart, apart}, arrived
	case t < l.last-setBack:
		l.Jumps++
		l.least, l.stretch = [2]time.Duration{apart, apart}, arrived
	case arrived > l.stretch+liveStretch:
		l.least, l.stretch = [2]time.Duration{apart, l.least[0]}, arrived
	}
	l.last = t
	l.least[0] = min(l.least[0], apart)
	return t + l.Apart()
}

// Apart is what is to be added to the view's times.
func (l *Live) Apart() time.Duration { return min(l.least[0], l.least[1]) }
