package learn

import (
	"fmt"
	"slices"
	"time"
)

// resent are the ages of what came late when a packet to the view had been lost: it was sent again.
type resent []time.Duration

const (
	resentLater = 200 * time.Millisecond // than all else, at least, to have been sent again
	resentFrom  = 2                      // so many show it
)

// beyond are those that a rule with that max-delay does not allow.
func (r resent) beyond(allowed time.Duration) resent {
	return slices.DeleteFunc(slices.Clone(r), func(age time.Duration) bool { return age <= allowed })
}

// resends gives the rules of what came late after a loss the time within which what is lost comes
// again: one for all of a game, because what is sent again goes one way.
func (l *Lesson) resends() {
	var all resent
	for _, r := range l.Rules {
		if !r.moves {
			all = append(all, r.resent.beyond(r.MaxDelay+resentLater)...)
		}
	}
	for _, e := range l.Events {
		all = append(all, e.resent.beyond(e.MaxDelay+resentLater)...)
	}
	if len(all) < resentFrom {
		return
	}
	within := span(all, 0)
	why := fmt.Sprintf("after a loss it came late; %s of the game came %s to %s late then: what is lost is sent again, and comes within %s", counted(len(all), "thing"), seconds(slices.Min(all)), seconds(slices.Max(all)), seconds(within))
	for i := range l.Rules {
		if r := &l.Rules[i]; len(r.resent) > 0 && !r.moves {
			r.ResentWithin, r.Why = within, append(r.Why, why)
		}
	}
	for i := range l.Events {
		if e := &l.Events[i]; len(e.resent) > 0 {
			e.ResentWithin, e.Why = within, append(e.Why, why)
		}
	}
}
