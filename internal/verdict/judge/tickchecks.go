package judge

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// tickCheck is one rule on one pair.
type tickCheck struct {
	pair   *tickPair
	rule   *rulebook.Rule
	fields []trace.Field
	last   sighting // the last tick at which both agreed
	agreed bool     // there was one
	run    *tickRun // the difference that goes on, or the last

	path  path // of the reference, by its times of the ticks that were compared
	value point
	holds bool          // the view has that value
	since time.Duration // when it had it first
}

// tickRun is a stretch of ticks at which the two sides differed.
type tickRun struct {
	apart       bool // still so
	first, last stamp
	from, until time.Duration // by the reference's times of those ticks
	said        time.Duration // when the view told the first
	certain     bool
	healed      stamp
	right       int // ticks between its stretches at which they agreed
	leaps       int // stretches that began with a leap of the view

	whole   episode  // all of it
	stretch episode  // since they agreed last
	named   []naming // what the stretches before were, of values that are no numbers
}

// apartAgain is how long two sides must agree for their next difference to be another one.
const apartAgain = 5 * time.Second

// wanted reports whether a rule asks anything of a pair at the tick in hand.
func (v *tickView) wanted(c *tickCheck) bool {
	p := c.pair
	if p.old {
		return false
	}
	own := p.entity == v.own
	switch c.rule.SeenBy {
	case rulebook.OwnerOnly:
		if !own {
			return false
		}
	case rulebook.AllButOwner:
		if own {
			return false
		}
	case rulebook.InRange:
		if !own && !v.inRange(c) {
			return false
		}
	}
	if c.fields == nil {
		return p.sides[referenceSide].there || p.sides[viewSide].there
	}
	return p.sides[referenceSide].there && p.sides[viewSide].there
}

// inRange applies a rule's radius: within it the view must have the entity, up to where
// it may be forgotten again it may.
func (v *tickView) inRange(c *tickCheck) bool {
	if int(v.own) >= len(v.pairs) || v.pairs[v.own] == nil {
		return false
	}
	own, other := v.pairs[v.own].sides[referenceSide], c.pair.sides[referenceSide]
	if !own.there || !other.there {
		return c.pair.sides[viewSide].there && !other.there
	}
	var fields []trace.Field
	for _, name := range c.rule.Place {
		fields = append(fields, v.ticks.judge.config.Names.Field(name))
	}
	d := distance(encode(rulebook.Distance, pick(own.values, fields)), encode(rulebook.Distance, pick(other.values, fields)))
	if d <= c.rule.InterestRadius {
		return true
	}
	return d <= c.rule.LeaveRadius && c.pair.sides[viewSide].there
}

// has is what a side has of what a rule compares.
func (c *tickCheck) has(side int) point {
	s := &c.pair.sides[side]
	switch {
	case c.fields != nil:
		return encode(c.rule.Compare, pick(s.values, c.fields))
	case s.there:
		return point{1}
	}
	return point{0}
}

// gapOf is how far apart two values are by a rule, 0 if they agree.
func gapOf(rule *rulebook.Rule, a, b point) float64 {
	var gap float64
	switch {
	case a == b:
		return 0
	case rule.Compare == rulebook.Exact || rule.Fields[0] == rulebook.Existence:
		return 1
	case numbers(a) != numbers(b):
		return math.Inf(1)
	case rule.Compare == rulebook.Angle:
		gap = math.Abs(turned(a[0]-b[0], rule.Circle))
	default:
		gap = distance(a, b)
	}
	if gap > rule.Tolerance {
		return gap
	}
	return 0
}

// weigh compares the two values of a check.
func (v *tickView) weigh(c *tickCheck, at stamp, t time.Duration) {
	s := sighting{t: t, byTick: true, tick: at.tick, view: c.has(viewSide), there: c.has(referenceSide)}
	s.gap = gapOf(c.rule, s.view, s.there)
	s.ok = s.gap == 0
	changed := c.follow(s, v.examined)
	if s.ok {
		c.run.right++
		v.agree(c, at, t, true)
		c.last, c.agreed = s, true
		return
	}
	run := c.run
	if !run.apart && run.whole.count == 0 {
		*run = tickRun{first: at, from: t, said: v.said, whole: c.begins(run.whole, t), named: run.named[:0]}
		v.open = append(v.open, c)
	}
	if !run.apart {
		run.stretch = c.begins(run.stretch, t)
		if changed && leapsAway(c.rule, &c.path, c.last, s) {
			run.leaps++
		}
	}
	run.apart, run.last, run.until = true, at, t
	for _, e := range []*episode{&run.whole, &run.stretch} {
		e.last = t
		if !math.IsInf(s.gap, 0) {
			e.worst = max(e.worst, s.gap)
		}
		if changed && e.count > 0 {
			e.changes++
		}
		v.note(c, e, s)
	}
	// What is missing so soon after joining, or after it came to be, may be on its way. It
	// counts from the first tick on if it never comes.
	if soon := max(v.joinedAt, c.pair.born) + c.rule.Grace; !run.certain && (c.fields != nil || s.there != (point{1}) || t >= soon) {
		run.certain = true
		v.ticks.judge.alert(Alert{Began: run.from, Kind: v.nameOf(c, &run.whole, true).kind, View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}})
	}
}

// follow takes in what both sides have, and reports whether the view changed it. since is when
// they were compared before.
func (c *tickCheck) follow(s sighting, since time.Duration) (changed bool) {
	if n := len(c.path.corners); n == 0 || c.path.corners[n-1].v != s.there {
		c.path.compare, c.path.circle = c.rule.Compare, c.rule.Circle
		if c.fields == nil {
			c.path.compare = rulebook.Exact
		}
		c.path.add(s.t, min(since, s.t), s.there)
	}
	if c.run.whole.count == 0 {
		c.path.forget(s.t - keptToExplain)
	}
	if changed = c.holds && c.value != s.view; changed || !c.holds {
		c.value, c.since, c.holds = s.view, s.t, true
	}
	return changed
}

// begins is an episode in which the two sides differ from t on, in the place of an old one.
func (c *tickCheck) begins(old episode, t time.Duration) episode {
	e := episode{began: t, last: t, known: t, certain: true, lastMatch: -never, before: c.last, beside: c.path.at(t), stride: 1,
		seen: old.seen[:0], early: old.early[:0], history: old.history[:0]}
	if c.since < t {
		if moment, ok := c.path.latest(c.value, c.rule.Tolerance, -never, t); ok {
			e.lastMatch = moment
		}
	}
	return e
}

// note keeps what was seen at a tick.
func (v *tickView) note(c *tickCheck, e *episode, s sighting) {
	alone := c.fields == nil && s.view == (point{1})
	astray := c.rule.Compare == rulebook.Distance && e.like.wants(v.ticks.judge, s.t)
	if alone || astray {
		v.resembles(c, e, s.t)
	}
	e.note(&c.path, s, func(s *sighting) {
		s.own = point{math.NaN()}
		if c.fields == nil || c.rule.Compare == rulebook.Exact {
			return
		}
		s.velocity = c.path.minus(c.path.at(s.t), c.path.at(s.t-slopeOver)).times(1 / slopeOver.Seconds())
		s.wrap = wrapOf(c.rule, *s, func(shifted point, within float64) bool { return distance(shifted, s.there) <= within })
	})
}

// resembles notes which entities of its sort the reference has where one of the view is.
func (v *tickView) resembles(c *tickCheck, e *episode, t time.Duration) {
	p := c.pair
	rule, fields := v.ticks.judge.placeRule(v.ticks.rules, p.name)
	if rule == nil || c.fields != nil && !slices.Equal(c.fields, fields) {
		return
	}
	place := encode(rule.Compare, pick(p.sides[viewSide].values, fields))
	if !numbers(place)[0] {
		return
	}
	var there []trace.Entity
	for _, other := range v.known {
		if s := &other.sides[referenceSide]; other != p && s.there && sameSort(other.name, p.name) && gapOf(rule, place, encode(rule.Compare, pick(s.values, fields))) == 0 {
			there = append(there, other.entity)
		}
	}
	e.like.look(place, there, t)
}

// agree notes that a check has nothing against the view at a tick: because both sides
// agree, or because nothing is asked.
func (v *tickView) agree(c *tickCheck, at stamp, t time.Duration, both bool) {
	run := c.run
	if !run.apart {
		return
	}
	run.apart, run.healed = false, at
	if !run.certain { // it was only on its way
		run.whole.count = 0
		v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
		return
	}
	if both {
		for _, e := range []*episode{&run.whole, &run.stretch} {
			e.last, e.healed = t, healing{ok: true, t: t, by: t, value: c.value, byView: c.since == t}
		}
		if c.rule.Compare == rulebook.Exact && len(run.named) < sightingsKept {
			run.named = append(run.named, v.nameOf(c, &run.stretch, false))
		}
		return
	}
	v.close(c, "the entity no longer being expected", false)
	v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
}
