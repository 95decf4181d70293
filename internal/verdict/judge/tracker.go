package judge

import (
	"math"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// tracker follows one watch rule on one entity in one view: which value the
// view holds, whether the reference explains it, and the episode that is going
// on if it does not.
//
// A value that a view shows at time t is explained by what the reference said
// at s if it lies within the tolerance and
//
//	s >= heard(t) - lag    the view is not later than it has to be; or
//	s >= heard(t - lag)    it shows everything lag after it heard it; and
//	s <= t                 not earlier either; or, where the rule has a lead,
//	t >= told(s - lead)    not further ahead than the reference could know,
//
// where heard(t) is the newest sending time of anything that had reached the
// view by t, and told(s) of anything from the view that had reached the
// reference by s. Without records of packets both are the identity. A view that
// sends rarely is not for that reason beyond judgement: see heardOf.
type tracker struct {
	// What is read and written for every value stands first, because a match has thousands of trackers.
	rule    *rulebook.Rule
	path    *path
	window  *window
	value   point
	holds   bool          // the view has said a value
	active  bool          // it is being judged
	wanted  bool          // it was, at some time
	apart   bool          // an episode is going on
	ever    bool          // it was explained at some time of this stay
	sampled int32         // comparisons, for ageEvery
	upTo    time.Duration // judged so far
	match   time.Duration // latest moment of the path that explains the value so far; -never if none
	until   time.Duration // a later one may be found up to here, if that is after match: see settle
	delay   time.Duration // how old the value was that was explained last
	calm    int           // the path's version whose last corner explains the value; 0 means none
	said    time.Duration // when the view said the value last
	since   time.Duration // when it said it first
	before  explained     // the last explained value, for the evidence
	last    point         // the value before, and when the view said it first
	lastAt  time.Duration

	mirror *mirror
	run    *episode // the one that is going on, or the last; elsewhere in memory, because it is large and seldom needed

	brief brief         // how often it was wrong for too short a time
	shown []shown       // what the view showed lately, where every value must show
	asked time.Duration // the reference's values that had ended by then were asked about
}

// say takes in that the view shows a value from t on.
func (k *tracker) say(j *Judge, v *view, t time.Duration, value point) {
	k.advance(j, v, t)
	if from := k.upTo; from < t && k.active && k.holds && k.match == -never {
		if _, ok, known := k.explainedBy(v, value, t); known && !ok { // wrong then and now: and in between
			k.apartFrom(j, v, from, t, false) // what it shows at t is another value
		}
	}
	fresh := !k.holds || k.value != value
	changed := k.holds && fresh // a first value is no change
	if changed {
		k.last, k.lastAt = k.value, k.since
	}
	if k.rule.EveryValue {
		k.show(value, t)
	}
	k.value, k.holds, k.said = value, true, t
	if fresh {
		k.since, k.calm = t, 0
	}
	if k.active {
		k.look(j, v, t)
		switch {
		case !changed:
		case k.match == -never:
			k.run.changes++
		case k.apart:
			k.run.pending++
		}
	}
}

// look asks whether the value is explained now and remembers by what.
func (k *tracker) look(j *Judge, v *view, t time.Duration) {
	k.upTo, k.until = t, -never
	low, high, known := k.window.at(v, t)
	if !known {
		k.match = t // nobody can say: it counts as explained
		return
	}
	v.comparisons++
	if k.asBefore(v, t, low, high) {
		v.sampleAge(k, t)
		return
	}
	moment, ok := k.explainedIn(v, k.value, t, low, high)
	if !ok {
		k.match = -never
		k.unexplained(j, v, t, t)
		return
	}
	k.match = moment
	age := k.ageAt(t, moment, low)
	if age > k.rule.MaxDelay {
		v.excused++
	}
	k.delay = age
	v.sampleAge(k, t)
	k.before, k.ever = explained{t: t, view: k.value, age: age, ok: true}, true
	if k.apart {
		k.heal(t, max(t, moment))
		k.note(v, k.before.sighting(k.path))
	}
}

// explainedBy is the latest moment of the reference that explains a value at t.
func (k *tracker) explainedBy(v *view, value point, t time.Duration) (moment time.Duration, ok, known bool) {
	low, high, known := k.window.at(v, t)
	if !known {
		return 0, false, false
	}
	moment, ok = k.explainedIn(v, value, t, low, high)
	return moment, ok, true
}

// explainedIn is explainedBy, of the stretch of the path that may.
func (k *tracker) explainedIn(v *view, value point, t, low, high time.Duration) (moment time.Duration, ok bool) {
	if moment, ok = k.path.latest(value, k.rule.Tolerance, low, high); !ok {
		moment, ok = k.betweenHeard(v, value, low, t)
	}
	return moment, ok
}

// ageAt is how old a value is at t that is explained by a moment. Where that is ahead of t, or the
// reference is at rest, an older one may fit as well.
func (k *tracker) ageAt(t, moment, low time.Duration) time.Duration {
	if moment > t {
		if last, fits := k.path.latest(k.value, k.rule.Tolerance, low, t); fits {
			return t - last
		}
	}
	return t - moment
}

// asBefore explains the value by what the reference had as long ago as when it explained the last
// one: most are, and that is one look at one stretch of the path. The latest moment that explains
// it is only looked for when something follows from it: see settle.
func (k *tracker) asBefore(v *view, t, low, high time.Duration) bool {
	moment := t - k.delay
	n := len(k.path.corners)
	if v.judge.thorough || k.apart || k.delay < 0 || k.delay > k.rule.MaxDelay || moment < low || moment > high || n == 0 || k.path.corners[n-1].t < high ||
		k.rule.Compare == rulebook.Exact || k.rule.TimeDriven || !v.oftenFor(k.rule) {
		return false
	}
	i := k.path.seek(moment)
	if i < 0 {
		return false
	}
	from, to := k.path.segment(i, low, min(high, t))
	begin, end, d := k.path.near(i, k.value, k.rule.Tolerance, from, to)
	if !(d <= k.rule.Tolerance) || t-end > k.rule.MaxDelay {
		return false
	}
	k.delay = t - begin - (end-begin)/2
	k.match, k.until = end, high
	k.before, k.ever = explained{t: t, view: k.value, age: t - end, until: min(high, t), ok: true}, true
	return true
}

// settle looks for the latest moment that explains the value, where only some was looked for.
func (k *tracker) settle() {
	if k.until > k.match {
		if last, ok := k.path.latest(k.value, k.rule.Tolerance, k.match, k.until); ok {
			k.match = last
		}
		k.until = -never
	}
}

// heal notes that the value is explained again from t on, by what the reference said at a moment.
func (k *tracker) heal(t, by time.Duration) {
	if e := k.run; !e.healed.ok {
		e.healed = healing{ok: true, t: t, by: by, value: k.value, byView: k.since >= t-time.Millisecond,
			passing: k.rule.Compare == rulebook.Exact && k.path.at(by) != k.value}
	}
}

// betweenHeard explains a value that a view made up between two snapshots it
// had, where those between them were lost or never sent: on the straight line
// from one to the other. Any two packets that had arrived, a few apart, may have
// held the snapshots; those between may have held something else.
func (k *tracker) betweenHeard(v *view, value point, low, t time.Duration) (time.Duration, bool) {
	if k.rule.Compare == rulebook.Exact || k.rule.TimeDriven || !v.down.known || len(k.path.corners) == 0 {
		return 0, false
	}
	steps := v.down.steps
	for i := len(steps) - 1; i > 0 && steps[i].newest > low; i-- {
		if steps[i].at > t {
			continue
		}
		b := steps[i].newest
		end := k.path.at(b)
		for from := i - 1; from >= max(0, i-packetsBetween); from-- {
			a := steps[from].newest
			if a < k.path.corners[0].t {
				break
			}
			chord := path{compare: k.path.compare, circle: k.path.circle, corners: []corner{{t: a, v: k.path.at(a)}}}
			chord.add(b, a, end)
			if _, _, d := chord.near(0, value, k.rule.Tolerance, a, b); d <= k.rule.Tolerance {
				return b, true
			}
		}
	}
	return 0, false
}

// packetsBetween is how many packets apart the two snapshots may be.
const packetsBetween = 3

// advance judges the held value up to t: at every moment of it, also at those at which nobody
// says anything, as far as the view held it.
func (k *tracker) advance(j *Judge, v *view, t time.Duration) {
	if !k.active || !k.holds || t <= k.upTo {
		return
	}
	if t = v.heldUntil(k.rule, t); t <= k.upTo {
		return
	}
	from := k.upTo
	k.upTo = t
	if k.calm == k.path.version && k.calm > 0 { // it stands as the reference last said
		k.match, k.until = t, -never
		k.rest(v, t)
		return
	}
	low, high, known := k.window.at(v, t)
	if known && k.match < low {
		k.settle()
	}
	if !known || k.match >= low || k.rule.TimeDriven && k.match > -never && t <= k.said+k.rule.MaxDelay {
		// Nothing else can be said, or what explained it has not left the window.
		k.rest(v, t)
		return
	}
	// Walk along the path from the last match and see when the value was explained.
	expiry := k.expiry(v, k.match, from)
	oldest, begin, _ := k.window.at(v, from)
	for i := max(0, k.path.seek(max(k.match, oldest))); i < len(k.path.corners) && k.path.corners[i].t <= high; i++ {
		start, end := k.path.segment(i, max(k.match, oldest), high)
		p, q, d := k.path.near(i, k.value, k.rule.Tolerance, start, end)
		if !(d <= k.rule.Tolerance) || q <= k.match {
			continue
		}
		opens := from // the first moment at which p is not too far ahead
		if k.rule.MaxAhead == 0 {
			opens = j.opens(k.rule, p)
		} else if p > begin && !k.rule.TimeDriven {
			opens = v.up.newest(j.opens(k.rule, p) - k.rule.MaxAhead)
		}
		if opens = min(max(opens, from), t); opens > expiry {
			k.unexplained(j, v, expiry, opens)
		}
		k.match = q
		if k.apart {
			k.heal(opens, max(opens, p))
		}
		expiry = max(expiry, k.expiry(v, q, from))
		if expiry >= t {
			if i == len(k.path.corners)-1 && q == t && k.rule.MaxAhead == 0 && !k.rule.TimeDriven {
				k.calm = k.path.version
			}
			break
		}
	}
	if expiry < t {
		k.unexplained(j, v, expiry, t)
	}
	k.rest(v, t)
}

// rest ends an episode that has been quiet for long enough.
func (k *tracker) rest(v *view, t time.Duration) {
	if k.apart && t-k.run.last >= k.rule.MinDuration && k.match > -never {
		k.close(v, k.run.last, false)
	}
}

// unexplained adds a stretch of time to the episode, beginning one if need be, in which the view
// held its value.
func (k *tracker) unexplained(j *Judge, v *view, from, to time.Duration) {
	k.apartFrom(j, v, from, to, true)
}

// apartFrom is unexplained, where the view may not have the value any more at the end.
func (k *tracker) apartFrom(j *Judge, v *view, from, to time.Duration, held bool) {
	e := k.run
	if k.apart && from-e.last >= k.rule.MinDuration {
		k.close(v, e.last, false)
	}
	if !k.apart {
		k.apart = true
		k.before = k.before.settled(k.path, k.rule.Tolerance)
		*e = episode{began: from, last: from, known: k.couldKnow(v, from), lastMatch: k.match,
			seen: e.seen[:0], early: e.early[:0], history: e.history[:0], stride: 1}
		if k.before.ok {
			e.before = k.before.sighting(k.path)
			e.beside = e.before.there
		}
		if e.lastMatch == -never && k.since < from {
			// A value from before judging began; it may still be an old one.
			if old, ok := k.path.latest(k.value, k.rule.Tolerance, -never, from); ok {
				e.lastMatch = old
			}
		}
		if k.match > -never && k.holds {
			// The view kept its value and the reference moved away from it.
			e.before = sighting{t: from, view: k.value, there: k.path.at(k.match - 1), age: from - k.match, ok: true}
			e.beside = k.path.at(from)
		}
	}
	e.changes, e.pending, e.healed = e.changes+e.pending, 0, healing{}
	if from > e.last { // it was right in between: this is another surprise
		e.known = max(e.known, k.couldKnow(v, from))
	}
	low, high, _ := k.window.at(v, from)
	gap := k.path.gap(k.value, low, max(low, high))
	if !math.IsInf(gap, 0) {
		e.worst, e.widest = max(e.worst, gap), max(e.widest, gap)
	}
	if to > from {
		low, high, _ := k.window.at(v, to)
		if gap := k.path.gap(k.value, low, max(low, high)); !math.IsInf(gap, 0) {
			e.widest = max(e.widest, gap)
		}
	}
	if seen := to; held || len(e.seen) == 0 {
		if !held {
			seen = from
		}
		e.final = sighting{t: seen, view: k.value, there: k.path.at(seen), gap: gap, late: from - low}
		k.note(v, e.final)
	}
	e.amount += max(0, to-max(from, e.last, e.known))
	e.last = max(e.last, to)
	if !e.certain && e.amount >= k.rule.MinDuration {
		e.certain = true
		e.evidence = j.gather(v, k)
		j.alertOf(v, k)
	}
}

// note keeps a sighting, evenly thinned.
func (k *tracker) note(v *view, s sighting) {
	e := k.run
	alone := k == k.mirror.existence && s.view == (point{1})
	astray := k.rule.Compare == rulebook.Distance && e.like.wants(v.judge, s.t)
	if !s.ok && (alone || astray) {
		k.resembles(v, s.t)
	}
	e.note(k.path, s, func(s *sighting) {
		if !s.ok && k != k.mirror.existence {
			low, high, _ := k.window.at(v, s.t)
			s.wrap = wrapOf(k.rule, *s, func(shifted point, within float64) bool {
				_, ok := k.path.latest(shifted, within, low, high)
				return ok
			})
		}
		k.surroundings(v, s)
	})
}

// close ends the episode; a certain one becomes a finding.
func (k *tracker) close(v *view, at time.Duration, open bool) {
	e := k.run
	if k.apart && e.certain {
		v.judge.found(v, k, at, open)
	} else if k.apart && open && e.amount > 0 {
		v.judge.doubtful++
	} else if k.apart {
		k.brief.add(e.amount)
	}
	k.apart, e.certain = false, false
}

// start begins judging at t with whatever value the view holds.
func (k *tracker) start(j *Judge, v *view, t time.Duration) {
	k.active, k.wanted, k.upTo, k.match, k.until = true, true, t, -never, -never
	if k.holds {
		k.look(j, v, t)
	}
}

// stop ends judging at t: the view left, or the entity is not to be seen.
func (k *tracker) stop(j *Judge, v *view, t time.Duration) {
	k.advance(j, v, t)
	k.before = k.before.settled(k.path, k.rule.Tolerance)
	k.active = false
	k.close(v, t, false)
}
