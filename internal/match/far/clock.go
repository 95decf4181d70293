package far

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/verdict/clocksync"
)

// Clock is how the clock of another machine relates to that of this one.
type Clock struct {
	Offset    time.Duration // to be added to its times, now
	DriftPPM  float64
	Error     time.Duration // the offset is off by no more: half of the shortest way there and back
	Exchanges int
}

// clock is what exchanges tell.
type clock struct {
	list []clocksync.Exchange // by the other clock, as clocksync has it
	fit  clocksync.Fit
	ping time.Duration // the shortest
	n    int
}

const exchangesKept = 600

// add takes in an exchange: asked and answered by this clock, there by the other.
func (c *clock) add(asked, answered, there time.Duration) {
	ping := answered - asked
	// On the other clock the answer left at there; to clocksync it is the view, and this clock the server's.
	c.list = append(c.list, clocksync.Exchange{T: there, Ping: ping, Server: asked})
	if c.n++; c.n == 1 || ping < c.ping {
		c.ping = ping
	}
	if len(c.list) > exchangesKept {
		c.list = slices.Delete(c.list, 0, len(c.list)-exchangesKept)
	}
	if fit, ok := clocksync.ByExchanges(c.list); ok {
		c.fit = fit
	}
}

// here is a time of the other clock by this one.
func (c *clock) here(there time.Duration) time.Duration { return c.fit.Shared(there) }

// there is a time of this clock by the other.
func (c *clock) there(here time.Duration) time.Duration {
	t := here
	for range 3 {
		t += here - c.fit.Shared(t)
	}
	return t
}

func (c *clock) summary() Clock {
	last := time.Duration(0)
	if len(c.list) > 0 {
		last = c.list[len(c.list)-1].T
	}
	residual := time.Duration(c.fit.Residual * float64(time.Millisecond))
	if math.IsNaN(c.fit.Residual) {
		residual = 0
	}
	return Clock{Offset: c.fit.Shared(last) - last, DriftPPM: c.fit.Drift, Error: c.ping/2 + residual, Exchanges: c.n}
}
