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
}

// tickRun is a stretch of ticks at which the two sides differed.
type tickRun struct {
	apart       bool // still so
	first, last stamp
	from, until time.Duration // by the reference's times of those ticks
	said        time.Duration // when the view told the first
	count       int
	worst       float64
	before      sighting
	agreed      bool
	early, seen []sighting
	stride      int
	certain     bool
	healed      stamp
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

// value is what a side has of what a rule compares.
func (c *tickCheck) value(side int) point {
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
	s := sighting{t: t, byTick: true, tick: at.tick, view: c.value(viewSide), there: c.value(referenceSide)}
	s.gap = gapOf(c.rule, s.view, s.there)
	if s.ok = s.gap == 0; s.ok {
		v.agree(c, at, t, true)
		c.last, c.agreed = s, true
		return
	}
	run := c.run
	if !run.apart && run.count == 0 {
		*run = tickRun{first: at, from: t, said: v.said, before: c.last, agreed: c.agreed, stride: 1, early: run.early[:0], seen: run.seen[:0]}
		v.open = append(v.open, c)
	}
	run.apart, run.last, run.until = true, at, t
	run.note(s)
	// What is missing so soon after joining, or after it came to be, may be on its way. It
	// counts from the first tick on if it never comes.
	if soon := max(v.joinedAt, c.pair.born) + c.rule.Grace; !run.certain && (c.fields != nil || s.there != (point{1}) || t >= soon) {
		run.certain = true
		v.ticks.judge.alert(Alert{Began: run.from, Kind: v.kindOf(c), View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}})
	}
}

// note keeps a sighting, evenly thinned.
func (run *tickRun) note(s sighting) {
	if len(run.early) < valueRows {
		run.early = append(run.early, s)
	}
	if !math.IsInf(s.gap, 0) {
		run.worst = max(run.worst, s.gap)
	}
	if run.count++; (run.count-1)%run.stride != 0 {
		return
	}
	run.seen, run.stride = thinned(run.seen, run.stride)
	run.seen = append(run.seen, s)
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
		run.count = 0
		v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
		return
	}
	if !both {
		v.close(c, "the entity no longer being expected", false)
		v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
	}
}
