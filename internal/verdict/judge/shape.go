package judge

import (
	"fmt"
	"math"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// The shape of the gap: what the unexplained values of an episode have in
// common, as a series over time.

// series is the unexplained sightings of an episode.
type series []sighting

func (e *episode) series() series {
	var list series
	for _, s := range e.seen {
		if !s.ok {
			list = append(list, s)
		}
	}
	return list
}

// slopeOver is the time over which the reference's velocity is taken.
const slopeOver = 50 * time.Millisecond

// surroundings adds what a shape is told by.
func (k *tracker) surroundings(v *view, s *sighting) {
	s.own = point{math.NaN()}
	if k.rule.Compare == rulebook.Exact || len(k.path.corners) == 0 {
		return
	}
	s.velocity = k.path.minus(k.path.at(s.t), k.path.at(s.t-slopeOver)).times(1 / slopeOver.Seconds())
	if k.since > k.lastAt {
		s.pace = k.path.minus(k.value, k.last).times(1 / (k.since - k.lastAt).Seconds())
	}
	s.heard = k.path.at(max(k.path.corners[0].t, v.down.newest(s.t)))
	if own := v.mirrorOf(v.own); own != nil && !k.mirror.own && own.isThere {
		s.own = pointOf(k.path, own.values)
	}
}

// steady is how much of a sum of squares must be told by a shape to be one.
const steady = 0.9

// wrapped: the values fit when a power of two of steps is taken away.
func (d *difference) wrapped() (n naming) {
	list := d.series()
	wraps, wrap := 0, 0.0
	for _, s := range list {
		if s.wrap != 0 {
			wraps, wrap = wraps+1, s.wrap
		}
	}
	if wraps == 0 || wraps*5 < len(list)*4 {
		return n
	}
	return naming{kind: Overflow, why: fmt.Sprintf("%d of %d values fit when %s is taken away", wraps, len(list), wrapText(wrap, d.rule.Quantum))}
}

// clock: the differences are the reference's velocity times one length of time,
// found by least squares. The reference must not have moved in one direction
// only, unless the value is one that follows from the clock.
func (d *difference) clock() (n naming) {
	list := d.series()
	if d.rule.Compare == rulebook.Exact || len(list) < 4 || d.changes < 3 {
		return n
	}
	var cv, vv, cc float64
	var mean point
	for _, s := range list {
		c := d.path.minus(s.view, s.there)
		cv, vv, cc = cv+dot(c, s.velocity), vv+dot(s.velocity, s.velocity), cc+dot(c, c)
		mean = point{mean[0] + s.velocity[0], mean[1] + s.velocity[1], mean[2] + s.velocity[2]}
	}
	if !(vv > 0) || !(cc > 0) {
		return n
	}
	shift := -cv / vv
	oneWay := dot(mean, mean) / float64(len(list)) / vv // 1 if the velocity never changed
	late := time.Duration(shift * float64(time.Second))
	if cv*cv/vv/cc < steady || !d.rule.TimeDriven && (oneWay > 0.8 || late < d.rule.MaxDelay && late > -d.rule.MaxAhead) {
		return n
	}
	direction := "late"
	if shift < 0 {
		direction = "early"
	}
	return naming{kind: ClockShift, why: fmt.Sprintf("the values fit when they are taken to be %.0f ms %s", math.Abs(shift)*1e3, direction)}
}

// coarse: most values, and the first, lie on a lattice that is wider than the
// tolerance, and those are no farther away than such a lattice makes them. The
// others were on their way from one point of it to the next. A single value, which
// may be a round one by chance, must have stayed that near all the time.
func (d *difference) coarse() (n naming) {
	list := d.series()
	if d.rule.Compare != rulebook.Distance || len(list) == 0 {
		return n
	}
	for _, step := range [...]float64{100, 64, 50, 32, 25, 20, 16, 10, 8, 5, 4, 2, 1, 0.5, 0.25, 0.2, 0.1, 0.05, 0.01} {
		if step < d.rule.Tolerance {
			break
		}
		if d.changes == 0 && step > 4*d.rule.Tolerance {
			continue
		}
		onIt, first, reference := 0, false, 0
		for i, s := range list {
			on, there := s.gap <= step/2*math.Sqrt(float64(len(d.rule.Fields)))+d.rule.Tolerance, true
			for axis := range d.rule.Fields {
				on = on && onLattice(s.view[axis], step)
				there = there && onLattice(s.there[axis], step)
			}
			if on {
				onIt++
				first = first || i == 0
			}
			if there {
				reference++
			}
		}
		enough := 5*onIt >= 3*len(list)
		if d.changes == 0 {
			enough = onIt == len(list)
		}
		if first && enough && reference == 0 {
			return naming{kind: Quantised, why: fmt.Sprintf("%d of %d values of the view are multiples of %g, none of the reference's is", onIt, len(list), step)}
		}
	}
	return n
}

func onLattice(v, step float64) bool { return math.Abs(math.Remainder(v, step)) < 2e-3 }

// inputLeak: the difference moves as the view's own entity does.
func (d *difference) inputLeak() (n naming) {
	list := d.series()
	if d.rule.Compare != rulebook.Distance || d.own || len(list) < 6 {
		return n
	}
	var off, own point
	count := float64(len(list))
	for _, s := range list {
		if math.IsNaN(s.own[0]) {
			return n
		}
		c := d.path.minus(s.view, s.heard)
		for axis := range off {
			off[axis], own[axis] = off[axis]+c[axis], own[axis]+s.own[axis]
		}
	}
	var oo, ww, ow float64
	for _, s := range list {
		c := d.path.minus(d.path.minus(s.view, s.heard), off.times(1/count))
		w := d.path.minus(s.own, own.times(1/count))
		oo, ww, ow = oo+dot(c, c), ww+dot(w, w), ow+dot(c, w)
	}
	// Two straight ways always go together; only a winding one says anything.
	straight := oneWay(list, own.times(1/count))
	if ww/count < 4*d.rule.Tolerance*d.rule.Tolerance || !(ow > 0) || ow*ow/(oo*ww) < steady || ow/ww < 0.5 || ow/ww > 2 || straight > 0.95 {
		return n
	}
	return naming{kind: InputLeak, why: fmt.Sprintf("what it is off by moves with the view's own entity (correlation %.2f)", ow/math.Sqrt(oo*ww))}
}

// oneWay is how much of the spread of the view's own places lies along one line.
func oneWay(list series, mean point) float64 {
	var xx, yy, xy float64
	for _, s := range list {
		x, y := s.own[0]-mean[0], s.own[1]-mean[1]
		xx, yy, xy = xx+x*x, yy+y*y, xy+x*y
	}
	// The larger of the two eigenvalues of the covariance, over their sum.
	return (xx + yy + math.Sqrt((xx-yy)*(xx-yy)+4*xy*xy)) / 2 / (xx + yy)
}

// rate: the view's velocity is the reference's times a factor.
func (d *difference) rate() (n naming) {
	list := d.series()
	if d.rule.Compare == rulebook.Exact || len(list) < 5 || d.changes < 5 {
		return n
	}
	var pv, vv, pp float64
	for _, s := range list {
		pv, vv, pp = pv+dot(s.pace, s.velocity), vv+dot(s.velocity, s.velocity), pp+dot(s.pace, s.pace)
	}
	if !(vv > 0) || !(pp > 0) {
		return n
	}
	factor := pv / vv
	if factor < 0.1 || math.Abs(factor-1) < 0.2 || pv*pv/(pp*vv) < 0.8 {
		return n
	}
	return naming{kind: Rate, why: fmt.Sprintf("it runs at %.3g times the reference's speed", factor)}
}

// drift: the gap crept up from nothing, step by step, and stayed. It was
// explained before, crossed the tolerance by little, and in the last third it is
// still near its widest.
func (d *difference) drift() (n naming) {
	list := d.series()
	e := d.episode
	if d.rule.Compare == rulebook.Exact || len(list) < 4 || e.changes < 3 {
		return n
	}
	widest, last := 0.0, 0.0
	for _, s := range list {
		widest = max(widest, s.gap)
	}
	third := list[len(list)-max(1, len(list)/3):]
	for _, s := range third {
		last += s.gap / float64(len(third))
	}
	crept := list[0].gap <= 2*d.rule.Tolerance
	if first := e.early[0]; e.before.ok { // without a leap of the view's own
		leap := d.path.minus(d.path.minus(first.view, e.before.view), d.path.minus(first.there, e.before.there))
		crept = crept && math.Sqrt(dot(leap, leap)) <= d.rule.Tolerance
	}
	for i := 1; i < len(e.early); i++ {
		crept = crept && e.early[i].gap-e.early[i-1].gap <= d.rule.Tolerance
	}
	if !crept || last < 0.6*widest || widest < 1.2*list[0].gap {
		return n
	}
	return naming{kind: Drift, why: fmt.Sprintf("the gap crept up from %.3g to %.3g", list[0].gap, widest)}
}
