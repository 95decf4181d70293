package metrics

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Motion is how smoothly a view shows entities move, beside the way that they really go. Lengths
// are in the unit of places.
//
// The view is compared with the reference as it was Delay before: the one delay at which the two
// are nearest to each other, by least squares over all looks. A look is a tenth of a second of one
// entity; those at which it rests on both sides do not count.
type Motion struct {
	Looks      int     `json:"looks"`
	Delay      float64 `json:"delay_ms"`
	TrueSpeed  float64 `json:"true_speed"` // mean, a second
	Unevenness float64 `json:"unevenness"` // mean of how far the velocity shown is from the true one, a second
	Standing   float64 `json:"standing"`   // share of the looks at which it stands still while the reference moves
	Off        *Spread `json:"off_path"`   // how far it is from where the reference was

	LeapsPerMinute float64 `json:"leaps_per_minute"`
	Leaps          *Spread `json:"leaps,omitempty"`       // steps from one record to the next longer than the speed allows
	Overshoot      *Spread `json:"overshoot,omitempty"`   // how far it goes past the place at which the reference comes to rest
	Settling       *Spread `json:"settling_ms,omitempty"` // how long after that it comes to rest there itself
}

const (
	lookOver   = 100 * time.Millisecond  // a look
	lookEvery  = 100 * time.Millisecond  // at least: looks come at uneven times, so that they keep step with nothing
	lookBehind = 600 * time.Millisecond  // the reference must be known so much later: a view may be ahead
	restsFor   = 3 * time.Second         // what has not moved for so long rests
	truthKept  = 2500 * time.Millisecond // of the reference's ways
	shownKept  = 500 * time.Millisecond  // of those shown
	coarsest   = 100 * time.Millisecond  // records farther apart do not show how smoothly anything moves

	delayLeast, delayMost, delayStep = -500 * time.Millisecond, 1500 * time.Millisecond, 50 * time.Millisecond

	delaysFrom  = 12                     // looks at which delays are tried before one is taken
	leapFactor  = 1.5                    // how much faster than the fastest around then is too fast
	leapWithin  = 350 * time.Millisecond // how far around
	leapOfTruth = 12                     // how much faster than usual the reference leaps
	settleFor   = 2 * time.Second        // an entity that rests is watched
	restAtLeast = 500 * time.Millisecond // if it rests so long
)

// way is where an entity was, lately: straight from corner to corner.
type way struct {
	corners []waypoint
	cursor  int // near the times that are asked about
}

type waypoint struct {
	t time.Duration
	p point
}

// add takes in a place. It was at the last one until the record before, at least.
func (w *way) add(t, since time.Duration, p point) {
	if n := len(w.corners); n > 0 {
		last := &w.corners[n-1]
		if t <= last.t {
			last.p = p
			return
		}
		if since > last.t && since < t {
			w.corners = append(w.corners, waypoint{since, last.p})
		}
	}
	w.corners = append(w.corners, waypoint{t, p})
}

// last is the step to the newest place, and how long it took.
func (w *way) last() (step point, over time.Duration) {
	n := len(w.corners)
	if n < 2 {
		return step, 0
	}
	a, b := &w.corners[n-2], &w.corners[n-1]
	return b.p.minus(a.p), b.t - a.t
}

// at is where it was; ok is false before it was known.
func (w *way) at(t time.Duration) (p point, ok bool) {
	n := len(w.corners)
	if n == 0 || t < w.corners[0].t {
		return p, false
	}
	i := min(w.cursor, n-1)
	for i+1 < n && w.corners[i+1].t <= t {
		i++
	}
	for w.corners[i].t > t {
		i--
	}
	w.cursor = i
	a := &w.corners[i]
	if i+1 == n {
		return a.p, true
	}
	b := &w.corners[i+1]
	share := float64(t-a.t) / float64(b.t-a.t)
	for k := range p {
		p[k] = a.p[k] + (b.p[k]-a.p[k])*share
	}
	return p, true
}

// forget drops what is older than t.
func (w *way) forget(t time.Duration) {
	const atLeast = 32 // seldom, because the rest is moved
	if len(w.corners) <= atLeast || w.corners[atLeast].t > t {
		return
	}
	drop := atLeast
	for drop+1 < len(w.corners) && w.corners[drop+1].t <= t {
		drop++
	}
	w.corners = append(w.corners[:0], w.corners[drop:]...)
	w.cursor = max(0, w.cursor-drop)
}

// rests reports whether it has not moved since t.
func (w *way) rests(t time.Duration) bool {
	return len(w.corners) == 0 || w.corners[len(w.corners)-1].t < t
}

// teller is when a side tells its state.
type teller struct {
	last, before time.Duration
	beat         float64 // the usual interval, ns
}

func (r *teller) tell(t time.Duration) {
	if t <= r.last && r.beat > 0 {
		return
	}
	if gap := float64(t - r.last); r.last > 0 && r.beat == 0 {
		r.beat = gap
	} else if r.last > 0 {
		r.beat += (min(gap, 2*r.beat) - r.beat) / 16
	}
	r.before, r.last = r.last, t
}

// since is from when on what is told now may have been so.
func (r *teller) since() time.Duration {
	if float64(r.last-r.before) > 4*r.beat {
		return r.last - time.Duration(r.beat)
	}
	return r.before
}

// motion collects what a Motion is made of: of the own entity, or of others.
type motion struct {
	costs     [(delayMost-delayLeast)/delayStep + 1]float64 // sum of squares at each delay
	tried     int
	looks     int
	moving    int
	stood     int
	speed     float64 // sums
	uneven    float64
	usual     float64 // the true speed, lately
	off       sample
	leaps     sample
	overshoot sample
	settling  sample
}

// shown is an entity in a view, as far as its motion is looked at.
type shown struct {
	way
	looked  int
	resting bool // the reference rests, since
	since   time.Duration
	place   point
	heading point // the way it came
	out     time.Duration
	past    float64
	moved   bool
	steps   []longStep // lately, to be looked at
}

// longStep is a step from one record to the next that is no small one.
type longStep struct {
	t, over time.Duration
	length  float64
}

// step takes in the place that it has now, after some other.
func (k *shown) step(t time.Duration, least float64) {
	if n := len(k.steps); n > 0 && k.steps[n-1].t == t { // said twice: the later counts
		k.steps = k.steps[:n-1]
	}
	for len(k.steps) > 0 && k.steps[0].t < t-lookBehind-shownKept { // nobody looks
		k.steps = k.steps[1:]
	}
	step, over := k.last()
	if length := step.size(); length > least {
		k.steps = append(k.steps, longStep{t, over, length})
	}
}

// delay is at which delay the view was nearest to the reference; ok is false until enough was seen.
func (m *motion) delay() (d time.Duration, ok bool) {
	if m.tried < delaysFrom {
		return 0, false
	}
	i := 0
	for k := range m.costs {
		if m.costs[k] < m.costs[i] {
			i = k
		}
	}
	d = delayLeast + time.Duration(i)*delayStep
	if i > 0 && i+1 < len(m.costs) { // between the steps, by the parabola through three of them
		if bend := m.costs[i-1] - 2*m.costs[i] + m.costs[i+1]; bend > 0 {
			d += time.Duration((m.costs[i-1] - m.costs[i+1]) / bend / 2 * float64(delayStep))
		}
	}
	return d, true
}

// try adds up how far a place shown at t was from the reference at each delay.
func (m *motion) try(t time.Duration, p point, truth *way) {
	var costs [len(m.costs)]float64
	for k := range costs {
		q, ok := truth.at(t - delayLeast - time.Duration(k)*delayStep)
		if !ok {
			return
		}
		d := p.minus(q)
		costs[k] = d[0]*d[0] + d[1]*d[1] + d[2]*d[2]
	}
	for k := range costs {
		m.costs[k] += costs[k]
	}
	m.tried++
}

// look looks at all that a view showed lookBehind before t.
func (c *Collector) look(number int, t time.Duration) {
	v := c.views[number]
	if t < v.lookAt || c.ahead == 1 || c.Ticks {
		return
	}
	v.looks++
	v.lookAt = t + lookEvery + time.Duration(v.looks%3)*50*time.Millisecond
	if !v.in || v.teller.beat > float64(coarsest) {
		return
	}
	t -= lookBehind
	delayOwn, okOwn := v.ownMotion.delay()
	delayOthers, okOthers := v.others.delay()
	for _, e := range c.order {
		if int(e) >= len(v.shown) || v.shown[e] == nil || int(e) >= len(c.truth) || c.truth[e] == nil || !c.sees(v, e, t) {
			continue
		}
		k := v.shown[e]
		m, delay, ok := &v.others, delayOthers, okOthers
		if e == v.own {
			m, delay, ok = &v.ownMotion, delayOwn, okOwn
		}
		truth := c.truth[e]
		if k.rests(t-restsFor) && truth.rests(t-restsFor) {
			continue
		}
		m.look(k, truth, t, delay, ok, c.least(e))
	}
}

// sees reports whether a view is to see where an entity is at t, by the rule that compares it.
func (c *Collector) sees(v *view, e trace.Entity, t time.Duration) bool {
	c.placeOf(e)
	rule := c.places[e].rule
	switch {
	case rule == nil:
		return false
	case e == v.own:
		return rule.SeenBy != rulebook.AllButOwner
	case rule.SeenBy == rulebook.OwnerOnly:
		return false
	case rule.SeenBy != rulebook.InRange:
		return true
	}
	if int(v.own) >= len(c.truth) || c.truth[v.own] == nil {
		return false
	}
	a, okA := c.truth[v.own].at(t)
	b, okB := c.truth[e].at(t)
	return okA && okB && a.minus(b).size() <= rule.InterestRadius
}

// look looks at one entity, by the delay that is taken so far. Less than a tenth of least is no
// movement.
func (m *motion) look(k *shown, truth *way, t, delay time.Duration, ok bool, least float64) {
	from, known := k.at(t - lookOver)
	to, _ := k.at(t)
	if !known {
		return
	}
	k.looked++
	still := least / 10
	step := to.minus(from)
	if k.looked%16 == 0 || m.tried < 4*delaysFrom {
		before, _ := truth.at(t - 2*lookOver)
		if now, _ := truth.at(t); step.size() > still || now.minus(before).size() > still {
			m.try(t, to, truth)
		}
	}
	a, okA := truth.at(t - delay - lookOver)
	b, okB := truth.at(t - delay)
	if !ok || !okA || !okB {
		return
	}
	m.leapt(k, truth, t, delay, least)
	real := b.minus(a)
	seconds := lookOver.Seconds()
	if speed := real.size() / seconds; m.usual > 0 && speed > leapOfTruth*m.usual {
		return // the reference leaps, as when a player comes to life again: that is not smooth, and right
	} else if speed > still {
		m.usual += (speed - m.usual) / float64(min(m.looks+1, 256))
	}
	if real.size() > still || step.size() > still {
		m.looks++
		m.uneven += step.minus(real).size() / seconds
		m.speed += real.size() / seconds
		m.off.add(to.minus(b).size())
	}
	if real.size() > least/4 {
		if m.moving++; step.size() < real.size()/10 {
			m.stood++
		}
	}
	m.rest(k, t, to, b, real, least)
}

// rest follows how an entity comes to rest after the reference has.
func (m *motion) rest(k *shown, t time.Duration, place, real, step point, least float64) {
	if size := step.size(); size > least/10 {
		if k.resting && t-k.since >= restAtLeast {
			m.rested(k)
		}
		k.resting, k.moved = false, true
		for i := range step {
			k.heading[i] = step[i] / size
		}
		return
	}
	if !k.resting && k.moved {
		k.resting, k.moved, k.since, k.place, k.out, k.past = true, false, t, real, t, 0
	}
	if !k.resting {
		return
	}
	off := place.minus(k.place)
	if off.size() > least/2 {
		k.out = t
	}
	k.past = max(k.past, off[0]*k.heading[0]+off[1]*k.heading[1]+off[2]*k.heading[2])
	if t-k.since >= settleFor {
		m.rested(k)
		k.resting = false
	}
}

func (m *motion) rested(k *shown) {
	m.overshoot.add(k.past)
	m.settling.add(float64(k.out-k.since) / 1e6)
}

// leapt looks at the steps up to t, whether they were longer than the speed allows.
func (m *motion) leapt(k *shown, truth *way, t, delay time.Duration, least float64) {
	for len(k.steps) > 0 && k.steps[0].t <= t {
		step := k.steps[0]
		k.steps = k.steps[1:]
		if step.t <= t-3*lookEvery {
			continue
		}
		fastest := 0.0
		a, ok := truth.at(step.t - delay - leapWithin)
		for s := step.t - delay - leapWithin; s < step.t-delay+leapWithin; s += lookOver / 2 {
			b, after := truth.at(s + lookOver/2)
			if ok {
				fastest = max(fastest, b.minus(a).size()/(lookOver/2).Seconds())
			}
			a, ok = b, after
		}
		if step.length > least+leapFactor*fastest*step.over.Seconds() {
			m.leaps.add(step.length)
		}
	}
}

// sum is what was seen, or nil if that was nothing.
func (m *motion) sum(in time.Duration) *Motion {
	delay, ok := m.delay()
	if !ok || m.looks == 0 {
		return nil
	}
	r := &Motion{Looks: m.looks, Delay: round(float64(delay) / 1e6), TrueSpeed: round(m.speed / float64(m.looks)), Unevenness: round(m.uneven / float64(m.looks)),
		Off: m.off.spread(), Leaps: m.leaps.spread(), Overshoot: m.overshoot.spread(), Settling: m.settling.spread()}
	if m.moving > 0 {
		r.Standing = round(float64(m.stood) / float64(m.moving))
	}
	if minutes := in.Minutes(); minutes > 0 {
		r.LeapsPerMinute = round(float64(m.leaps.count) / minutes)
	}
	return r
}

// jolting is from which share of standing still, or of its speed in unevenness, on a motion is told
// of in words.
const jolting = 0.2

// Moving reports whether the motion of anything could be measured in any view.
func (m *Measures) Moving() bool {
	return slices.ContainsFunc(m.Views, func(v View) bool { return v.Own != nil || v.Others != nil })
}

// Moves says in words how a view shows entities move, if that is not smoothly.
func (v *View) Moves() string {
	var parts []string
	for _, of := range []struct {
		what, entities, moves string
		motion                *Motion
	}{{"its own entity", "it", "moves", v.Own}, {"others", "they", "move", v.Others}} {
		m := of.motion
		uneven := m != nil && m != v.Own && m.Unevenness >= jolting*m.TrueSpeed // a prediction may be smoother than the server
		if m == nil || m.Standing < jolting && !uneven && m.LeapsPerMinute < 1 {
			continue
		}
		var does []string
		switch {
		case m.Standing >= jolting && m.LeapsPerMinute >= 30:
			does = append(does, fmt.Sprintf("move in steps of %.2g, %.2g a second", m.Leaps.Median, m.LeapsPerMinute/60))
		case m.Standing >= jolting:
			does = append(does, fmt.Sprintf("stand still %.0f%% of the time that %s really %s", 100*m.Standing, of.entities, of.moves))
		case uneven:
			does = append(does, fmt.Sprintf("move unevenly (%.0f%% of their speed)", 100*m.Unevenness/m.TrueSpeed))
		}
		if m.Leaps != nil && m.LeapsPerMinute >= 1 && !(m.Standing >= jolting && m.LeapsPerMinute >= 30) {
			does = append(does, fmt.Sprintf("leap %.0f times a minute, by %.2g", m.LeapsPerMinute, m.Leaps.Median))
		}
		text := of.what + " " + strings.Join(does, " and ")
		parts = append(parts, text)
	}
	if len(parts) == 0 {
		return ""
	}
	return v.Name + " sees " + strings.Join(parts, "; ")
}
