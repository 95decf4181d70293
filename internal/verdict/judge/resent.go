package judge

import (
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

// What goes over a channel that sends again what was lost comes late when a packet is lost, though
// newer ones have arrived by then: a view may lack it until it was sent again. Which packets carried
// it nobody knows, so each that was lost may have. What a rule says of ResentWithin is therefore an
// excuse only where a packet to the view was lost at the time, and ends when it has been sent again so
// often that it must have come.

// lostDown reports whether a packet to a view was lost.
func (p *trouble) lostDown() bool { return p.Direction == link.Down && p.Spoiled() }

// comesAgain is by when what the packet at that place among the troubles carried has come again. What
// was sent again is as large; if that was lost too, it is sent once more.
func (v *view) comesAgain(i int, within time.Duration) time.Duration {
	first := &v.troubles[i]
	sent, again := first.Sent, 1
	for k := i + 1; k < len(v.troubles) && v.troubles[k].Sent <= sent+within && again < resends; k++ {
		if p := &v.troubles[k]; p.lostDown() && p.Size == first.Size && p.Sent > sent+within/2 {
			sent = p.Sent
			again++
		}
	}
	return sent + within + time.Duration(v.delay[link.Down].mean)
}

// resends is how many times in a row something may be lost that is sent again, at most, to be waited for.
const resends = 3

// lacks is from when on a view may lack at t what was sent to it, because it has not come again; t if it
// lacks nothing.
func (v *view) lacks(t, within time.Duration) time.Duration {
	from := t
	for i := len(v.troubles) - 1; i >= 0 && v.troubles[i].Sent > t-resends*within-patience; i-- {
		if p := &v.troubles[i]; p.Sent <= t && p.lostDown() && v.comesAgain(i, within) >= t {
			from = p.Sent
		}
	}
	return from
}

// lackedUntil is until when a view may have lacked what was sent at some time up to another.
func (v *view) lackedUntil(from, to, within time.Duration) time.Duration {
	until := to
	for i := len(v.troubles) - 1; i >= 0 && v.troubles[i].Sent >= from; i-- {
		if p := &v.troubles[i]; p.Sent <= to && p.lostDown() {
			until = max(until, v.comesAgain(i, within))
		}
	}
	return until
}

// resentBy is deadline, or later if what was told at t may have to be sent again.
func (v *view) resentBy(t, deadline time.Duration, rule *rulebook.EventRule) time.Duration {
	if rule.ResentWithin == 0 || !v.down.known {
		return deadline
	}
	// Where order is kept, what was lost before holds it up too.
	return max(deadline, v.lackedUntil(t-rule.ResentWithin, t+rulebook.SentWith, rule.ResentWithin))
}
