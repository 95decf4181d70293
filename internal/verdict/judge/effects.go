package judge

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// effects asks whether what must follow from an event followed, once: the amount by which a number
// changes. It is asked of the reference and of every view that tells of the event, each by its own
// numbers, so that what is doubled or halved on both sides is found as well.
//
// Events that come close together are asked of together: from within before the first to within
// after the last the number must have changed by as much as all of them make. A number that changes
// by itself beside, as a strength that returns, passes if there is a step of that size for each.
type effects struct {
	match  *Judge
	rules  []effectRule
	views  []map[effectOn]*course // by view number
	going  []*consequence
	last   map[consequenceOf]*Finding
	judged []int // how often each rule was asked
}

type effectRule struct {
	*rulebook.EffectRule
	field trace.Field
}

type effectOn struct {
	entity trace.Entity
	field  trace.Field
}

// course is how a number of an entity went lately.
type course struct{ points []moment }

type moment struct {
	t time.Duration
	v float64
}

// consequenceOf is what a consequence is of: consequences of the same are asked of together.
type consequenceOf struct {
	view, rule int
	on         effectOn
}

// consequence is what is to follow from one or several events.
type consequence struct {
	consequenceOf
	first, last time.Duration
	times       int
	before      float64 // the number then; NaN if it was not known yet
	what        string  // the entity's name
}

// courseKept is how long a number's course is known at least, beside what its rule needs.
const courseKept = 10 * time.Second

func newEffects(j *Judge) *effects {
	e := &effects{match: j, views: make([]map[effectOn]*course, len(j.config.Views)), last: map[consequenceOf]*Finding{}, judged: make([]int, len(j.config.Rules.Effects))}
	for i := range j.config.Rules.Effects {
		rule := &j.config.Rules.Effects[i]
		e.rules = append(e.rules, effectRule{rule, j.config.Names.Field(rule.Field)})
	}
	for i := range e.views {
		e.views[i] = map[effectOn]*course{}
	}
	return e
}

// take follows the numbers and takes in events.
func (e *effects) take(v *view, r *trace.Record) {
	if len(e.rules) == 0 {
		return
	}
	if v.number > 0 && (r.Joined == v.name || r.Leaves(v.name)) {
		e.drop(v)
	}
	e.forget(v, r)
	for _, c := range r.State {
		for _, rule := range e.rules {
			if rule.field == c.Field && c.Value.Kind() == trace.KindNumber {
				e.follow(v.number, effectOn{c.Entity, c.Field}, moment{r.T, c.Value.Float()})
				break
			}
		}
	}
	if r.Event == "" || v.number > 0 && (!v.in || v.out()) {
		return
	}
	for i, rule := range e.rules {
		if !rule.Fits(r.Event) {
			continue
		}
		if entity, ok := e.target(rule, r); ok {
			e.happened(consequenceOf{v.number, i, effectOn{entity, rule.field}}, r.T)
		}
	}
}

// target is the entity whose number changes.
func (e *effects) target(rule effectRule, r *trace.Record) (trace.Entity, bool) {
	player := r.By
	switch rule.Whose {
	case "entity":
		if r.Entity == "" {
			return 0, false
		}
		return e.match.config.Names.Entity(r.Entity), true
	case "to":
		player = r.To
	}
	for _, v := range e.match.views[1:] {
		if v.name == player && v.own != trace.Nobody {
			return v.own, true
		}
	}
	return 0, false
}

func (e *effects) follow(view int, on effectOn, m moment) {
	c := e.views[view][on]
	if c == nil {
		c = &course{}
		e.views[view][on] = c
	}
	c.points = append(c.points, m)
}

// drop forgets what a view was being asked: it has left, or begun anew.
func (e *effects) drop(v *view) {
	e.views[v.number] = map[effectOn]*course{}
	e.going = slices.DeleteFunc(e.going, func(c *consequence) bool { return c.view == v.number })
}

// forget drops what is asked of entities that are gone in a view.
func (e *effects) forget(v *view, r *trace.Record) {
	if len(r.Despawned) == 0 && !r.Full {
		return
	}
	gone := func(entity trace.Entity) bool {
		return slices.Contains(r.Despawned, entity) || r.Full && !slices.ContainsFunc(r.State, func(c trace.Change) bool { return c.Entity == entity })
	}
	for on := range e.views[v.number] {
		if gone(on.entity) {
			delete(e.views[v.number], on)
		}
	}
	e.going = slices.DeleteFunc(e.going, func(c *consequence) bool { return c.view == v.number && gone(c.on.entity) })
}

func (e *effects) happened(of consequenceOf, t time.Duration) {
	within := e.rules[of.rule].Within
	for _, c := range e.going {
		if c.consequenceOf == of && t <= c.last+2*within {
			c.last, c.times = t, c.times+1
			return
		}
	}
	before := e.views[of.view][of.on].at(t - within)
	e.going = append(e.going, &consequence{of, t, t, 1, before, e.match.config.Names.EntityID(of.on.entity)})
}

// at is what the number was at t: what it was first, if it was first told later.
func (c *course) at(t time.Duration) float64 {
	if c == nil || len(c.points) == 0 {
		return math.NaN()
	}
	v := c.points[0].v
	for _, m := range c.points {
		if m.t > t {
			break
		}
		v = m.v
	}
	return v
}

// steps counts the changes from one moment to the next in a time that are of a size.
func (c *course) steps(from, to time.Duration, size, tolerance float64) (fit int, otherLarge bool) {
	for i := 1; i < len(c.points); i++ {
		if c.points[i].t <= from || c.points[i].t > to {
			continue
		}
		switch step := c.points[i].v - c.points[i-1].v; {
		case math.Abs(step-size) <= tolerance:
			fit++
		case math.Abs(step) > math.Abs(size)/2:
			otherLarge = true
		}
	}
	return fit, otherLarge
}

// come asks of what can have followed by t.
func (e *effects) come(t time.Duration) {
	kept := e.going[:0]
	for _, c := range e.going {
		v, within := e.match.views[c.view], e.rules[c.rule].Within
		due := v.expiry(c.last, within, c.last+within)
		if t <= max(due, c.last+2*within) {
			kept = append(kept, c)
			continue
		}
		e.ask(v, c, due)
	}
	e.going = kept
	for _, courses := range e.views {
		for _, c := range courses {
			drop := 0
			for drop+1 < len(c.points) && c.points[drop+1].t < t-courseKept-2*e.longest() {
				drop++
			}
			if drop > 256 {
				c.points = append(c.points[:0], c.points[drop:]...)
			}
		}
	}
}

func (e *effects) longest() (longest time.Duration) {
	for _, rule := range e.rules {
		longest = max(longest, rule.Within)
	}
	return longest
}

// ask looks whether the number changed as it must.
func (e *effects) ask(v *view, c *consequence, due time.Duration) {
	rule, course := e.rules[c.rule], e.views[c.view][c.on]
	if course == nil || math.IsNaN(c.before) {
		return // the view tells nothing of it
	}
	e.judged[c.rule]++
	after, must := course.at(due), rule.After(c.before, c.times)
	if math.Abs(after-must) <= rule.Tolerance {
		return
	}
	if fit, other := course.steps(c.first-rule.Within, due, rule.Change, rule.Tolerance); fit == c.times && !other {
		return
	}
	why := fmt.Sprintf("%s of %s went from %s to %s at %s%s, and must change by %s%s: %s", rule.Field, c.what, short(c.before), short(after),
		rule.Event, times(c.times), short(rule.Change), eachTime(c.times), change(after-c.before, must-c.before, rule.Tolerance))
	if f := e.last[c.consequenceOf]; f != nil && c.first-time.Duration(f.EndedAt) < eventsTogether {
		f.times++
		f.EndedAt, f.Why = Seconds(c.last), fmt.Sprintf("%s; %d such in a row", f.first, f.times)
		return
	}
	f := &Finding{Kind: Effect, View: v.name, Entity: c.what, Subject: Subject{AboutEffect, rule.Label()}, Own: v.number > 0 && v.own == c.on.entity,
		BeganAt: Seconds(c.first), EndedAt: Seconds(c.last), Why: why, first: why, times: 1, settle: rule.Within, Ended: "the event itself"}
	f.Evidence = e.match.circumstances(v, c.first, due)
	f.Evidence.Values = course.rows(c.first, due)
	e.match.add(f)
	e.last[c.consequenceOf] = f
}

// effectRows is how many moments of a number's course are shown, before an event and after.
const effectRows = 4

// rows are the last moments before an event at which the number changed, and the first after it.
func (c *course) rows(at, until time.Duration) []ValueRow {
	var before, after []ValueRow
	for i, m := range c.points {
		switch row := (ValueRow{At: Seconds(m.t), View: short(m.v)}); {
		case m.t > until || i > 0 && c.points[i-1].v == m.v:
		case m.t < at:
			before = append(before, row)
		default:
			after = append(after, row)
		}
	}
	return slices.Concat(before[max(0, len(before)-effectRows):], after[:min(len(after), effectRows)], []ValueRow{})
}

func (e *effects) end(t time.Duration) { e.come(t) }

// change says how what came is to what must.
func change(came, must, tolerance float64) string {
	switch share := came / must; {
	case math.Abs(came) <= tolerance:
		return "it did not change"
	case must == 0:
		return "it must stay"
	case math.Abs(share-0.5)*math.Abs(must) <= tolerance:
		return "half of it"
	case share > 1.5 && math.Abs(share-math.Round(share))*math.Abs(must) <= tolerance*math.Round(share):
		return fmt.Sprintf("%s times of it", short(math.Round(share)))
	case share < 0:
		return "the other way"
	}
	return fmt.Sprintf("off by %s", short(came-must))
}

func times(n int) string {
	if n == 1 {
		return ""
	}
	return fmt.Sprintf(", which came %d times", n)
}

func eachTime(n int) string {
	if n == 1 {
		return ""
	}
	return " each time"
}

func short(v float64) string { return fmt.Sprintf("%.6g", v) }
