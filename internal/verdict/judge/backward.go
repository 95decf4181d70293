package judge

import (
	"fmt"
	"time"
)

// The question asked backwards, for rules that want every value to show: was each
// value of the reference that stood for long enough ever shown?

// shown is a value that a view showed from then on.
type shown struct {
	t     time.Duration
	value point
}

const shownKept = 32

// show remembers what the view shows.
func (k *tracker) show(value point, t time.Duration) {
	if n := len(k.shown); n > 0 && k.shown[n-1].value == value {
		return
	}
	if len(k.shown) == shownKept {
		k.shown = append(k.shown[:0], k.shown[1:]...)
	}
	k.shown = append(k.shown, shown{t, value})
}

// showed reports whether the view showed a value at some time of [from, to].
func (k *tracker) showed(value point, from, to time.Duration) bool {
	for i, s := range k.shown {
		until := to
		if i+1 < len(k.shown) {
			until = k.shown[i+1].t
		}
		if s.value == value && s.t <= to && until >= from {
			return true
		}
	}
	return false
}

// askBack looks for values of the reference that ended, stood for longer than
// lag and the interval between the reference's records, and never showed though
// something that was sent meanwhile had arrived.
func (k *tracker) askBack(j *Judge, v *view, t time.Duration) {
	corners := k.path.corners
	for i := 0; i+1 < len(corners); i++ {
		from, to := corners[i].t, corners[i+1].t
		if to <= k.asked {
			continue
		}
		deadline := v.expiry(to, k.rule.MaxDelay, to) + k.rule.MinDuration
		if deadline > t {
			return
		}
		k.asked = to
		if from < v.joinedAt || to-from < k.rule.MaxDelay+time.Duration(j.rhythm.beat) || k.showed(corners[i].v, from, deadline) {
			continue
		}
		if v.down.known && v.down.firstSince(from+k.rule.MaxDelay) >= v.down.firstSince(to) {
			continue // nothing that was sent while it stood has arrived
		}
		f := &Finding{Kind: Skipped, View: v.name, Entity: k.mirror.known.name, Subject: Subject{Name: k.rule.Label()}, Own: k.mirror.own,
			BeganAt: Seconds(from), EndedAt: Seconds(to), Ended: "the reference's next change", rule: k.rule, settle: k.rule.MinDuration,
			Why: fmt.Sprintf("the reference had %s for %.2f s and the view never showed it", j.format(k.rule, corners[i].v), (to - from).Seconds())}
		f.Evidence = j.circumstances(v, from, to)
		j.add(f)
	}
}
