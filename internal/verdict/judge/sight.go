package judge

import (
	"math"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Sight is how what a view has of an entity stood to the reference at one moment, by one rule:
// what the verdict is made of.
type Sight struct {
	Rule     *rulebook.Rule
	Standing Stands
	Age      time.Duration // how old the reference's value was that explains it; ahead of it, how far
	Gap      float64       // how far it was from all that could explain it, if nothing did; +Inf if nothing compares
}

// Stands is how a value stands to the reference.
type Stands string

// The ways in which it can.
const (
	Unjudged Stands = "unjudged" // no rule asks for it then
	Same     Stands = "same"     // the reference has it too
	Delayed  Stands = "late"     // the reference had it, no longer ago than the rule or the link allow
	Ahead    Stands = "ahead"    // the reference has it soon after, or the view could not know better yet
	Differs  Stands = "differs"  // nothing explains it
)

// Behind is how far judging runs behind the newest record.
func (j *Judge) Behind() time.Duration { return j.behind }

// Sights says how an entity in a view stood at t, by each rule that speaks of what it has. Records
// and packets must have been handed in up to t plus Behind, and none of later.
func (j *Judge) Sights(number int, e trace.Entity, t time.Duration) (list []Sight) {
	j.advance(t + j.behind)
	j.catchUp(t + 1)
	v := j.views[number]
	m := v.mirrorOf(e)
	if m == nil || m.known == nil {
		return nil
	}
	j.expect(v, m, t)
	if m.existence != nil {
		list = append(list, m.existence.sight(j, v, t))
	}
	for _, k := range m.trackers {
		list = append(list, k.sight(j, v, t))
	}
	return list
}

// sight is how the value held stands at t: whether it is explained from then on.
func (k *tracker) sight(j *Judge, v *view, t time.Duration) Sight {
	s := Sight{Rule: k.rule, Standing: Unjudged}
	if !v.in || !k.active || !k.holds {
		return s
	}
	t = max(v.heldUntil(k.rule, t), min(t, k.since))
	k.advance(j, v, t)
	k.settle()
	low, high, known := k.window.at(v, t)
	if !known {
		return s
	}
	if moment, ok := k.path.latest(k.value, k.rule.Tolerance, low, t); ok {
		if s.Standing, s.Age = Delayed, t-moment; s.Age < time.Millisecond {
			s.Standing = Same
		}
		return s
	}
	if moment, ok := k.path.latest(k.value, k.rule.Tolerance, t, high); ok {
		s.Standing, s.Age = Ahead, moment-t
		return s
	}
	if k.match > -never && k.expiry(v, k.match, -never) > t { // what explained it when it was said still does
		s.Standing, s.Age = Delayed, t-k.match
		return s
	}
	if k.apart && t < k.run.known { // it could not know better yet
		s.Standing = Ahead
		return s
	}
	if s.Standing, s.Gap = Differs, math.Inf(1); k.rule.Compare != rulebook.Exact {
		s.Gap = k.path.gap(k.value, low, max(low, high))
	}
	return s
}

// Beside is how two sides stand that are compared at one moment alone, like a tick, by what each
// has of the rule's fields.
func Beside(rule *rulebook.Rule, view, reference []trace.Value) Sight {
	s := Sight{Rule: rule, Standing: Same}
	if s.Gap = gapOf(rule, encode(rule.Compare, view), encode(rule.Compare, reference)); s.Gap > 0 {
		s.Standing = Differs
	}
	if rule.Compare == rulebook.Exact && s.Gap > 0 {
		s.Gap = math.Inf(1)
	}
	return s
}
