package judge

import (
	"math"
	"sort"
	"time"

	"zitherwheel/internal/network/link"
)

// never is later than any time that occurs, and small enough to calculate with.
const never = time.Duration(math.MaxInt64 / 4)

// hearing says what one side of a link could know of the other: by each moment,
// up to which moment of the other side's time something had arrived. Where the
// outcomes of the packets are not known, everything is known at once.
type hearing struct {
	known bool
	steps []heardOf // both columns rising
}

// heardOf: from at on, something sent at newest had arrived.
type heardOf struct{ at, newest time.Duration }

// arrives takes in a packet that was sent at one moment and arrives at another.
// Packets must come in the order of sending.
func (h *hearing) arrives(sent, at time.Duration) {
	// What arrives later and was sent earlier tells nothing new.
	n := len(h.steps)
	for n > 0 && h.steps[n-1].at >= at {
		n--
	}
	h.steps = append(h.steps[:n], heardOf{at, sent})
}

// newest is the sending time of the newest packet that had arrived by t, or
// minus infinity if none had.
func (h *hearing) newest(t time.Duration) time.Duration {
	if !h.known {
		return t
	}
	i := len(h.steps) - 1
	for i >= 0 && h.steps[i].at > t { // nearly always few
		i--
	}
	if i < 0 {
		return -never
	}
	return h.steps[i].newest
}

// firstSince is when the first packet arrives that was sent at t or later, or
// never.
func (h *hearing) firstSince(t time.Duration) time.Duration {
	if !h.known {
		return t
	}
	i := sort.Search(len(h.steps), func(i int) bool { return h.steps[i].newest >= t })
	if i == len(h.steps) {
		return never
	}
	return max(t, h.steps[i].at)
}

// heardOf is when the reference first heard of what a view did at t or later, or never.
//
// A view that sends nothing for a while has nothing to tell: what it shows follows from
// what it sent before, and the reference knows that as soon as a packet sent at t would
// have arrived. Otherwise nothing could be said of one that only watches, that sends its
// inputs when they change, or that has fallen silent. Where packets of that time were
// lost it is not known what they held.
func (v *view) heardOf(t time.Duration) time.Duration {
	first := v.up.firstSince(t)
	if !v.up.known || v.up.sentSoonAfter(t) || v.lostSince(t) {
		return first
	}
	return min(first, t+v.upTakes)
}

// sentSoonAfter reports whether a packet that arrived was sent within patience of t.
func (h *hearing) sentSoonAfter(t time.Duration) bool {
	i := sort.Search(len(h.steps), func(i int) bool { return h.steps[i].newest >= t })
	return i < len(h.steps) && h.steps[i].newest <= t+patience
}

// lostSince reports whether a packet that the view sent from t until patience later, or
// the last one before t, did not arrive as it was.
func (v *view) lostSince(t time.Duration) bool {
	if v.lostLast > v.up.last() && v.lostLast < t {
		return true
	}
	for i := len(v.troubles) - 1; i >= 0 && v.troubles[i].Sent >= t; i-- {
		if p := v.troubles[i]; p.Direction == link.Up && p.Sent <= t+patience && p.Spoiled() {
			return true
		}
	}
	return false
}

// last is when the newest packet that arrived was sent.
func (h *hearing) last() time.Duration {
	if len(h.steps) == 0 {
		return -never
	}
	return h.steps[len(h.steps)-1].newest
}

// forget drops what no question about t or later needs.
func (h *hearing) forget(t time.Duration) {
	drop := 0
	for drop+1 < len(h.steps) && h.steps[drop+1].at <= t {
		drop++
	}
	if drop > 256 { // seldom, because the rest is moved
		h.steps = append(h.steps[:0], h.steps[drop:]...)
	}
}
