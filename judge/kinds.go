package judge

import (
	"fmt"
	"math"

	"zitherwheel/watch"
)

// Kind names what sort of disagreement a finding is. docs/findings.md says what
// each means and how it is decided.
type Kind string

const (
	Missing   Kind = "missing"    // the reference has the entity, the view does not
	Ghost     Kind = "ghost"      // the view has an entity that the reference does not
	Wrapped   Kind = "wrapped"    // a number off by 2^8, 2^16 or 2^32 of its steps
	Frozen    Kind = "frozen"     // the view stays at an old value of the reference
	NeverSent Kind = "never-sent" // the view changed it, the reference never did
	Offset    Kind = "offset"     // the values differ, and none of the above
)

// kindOf decides what an episode is, and says by what.
func (j *Judge) kindOf(k *tracker) (Kind, string) {
	e := &k.run
	if k.path == k.mirror.thing.exists {
		if e.seen[0].view == (point{1}) {
			return Ghost, "the view shows it while the reference does not have it"
		}
		return Missing, "the reference has it and the view does not show it"
	}
	apart, wraps, wrap := 0, 0, 0.0
	for _, s := range e.seen {
		if !s.ok {
			apart++
		}
		if s.wrap != 0 {
			wraps, wrap = wraps+1, s.wrap
		}
	}
	if wraps > 0 && wraps*5 >= apart*4 {
		return Wrapped, fmt.Sprintf("%d of %d values fit when %s is taken away", wraps, apart, wrapText(wrap, k.rule.Quantum))
	}
	if e.changes == 0 && e.lastMatch > -never {
		return Frozen, fmt.Sprintf("the view kept the value that the reference had at %.3f s", e.lastMatch.Seconds())
	}
	if (e.changes > 1 || e.changes > 0 && e.before.ok) && k.referenceStood() {
		return NeverSent, "the view's value changed and the reference's did not"
	}
	return Offset, fmt.Sprintf("the values are apart by up to %.4g", e.worst)
}

// referenceStood reports whether the reference's value has stayed the same: since
// it last agreed with the view, or for the whole episode if it never did.
func (k *tracker) referenceStood() bool {
	e := &k.run
	stood := path{compare: k.path.compare, circle: k.path.circle, corners: []corner{{0, e.seen[0].there}}}
	if e.before.ok {
		stood.corners[0].v = e.before.there
	}
	for _, s := range e.seen {
		if _, _, d := stood.near(0, s.there, k.rule.Within, 0, 0); !(d <= k.rule.Within) {
			return false
		}
	}
	return true
}

var wrapBits = [...]int{8, 16, 32}

// wrapOf returns by how much a coordinate must be shifted to be explained, if
// it is by 2^8, 2^16 or 2^32 steps of the number on the wire; 0 if not.
//
// Where the rule does not name the step, those of usual encodings are tried, and
// only for shifts so large against the tolerance that chance cannot hit them.
func (k *tracker) wrapOf(v *view, s sighting) float64 {
	if k.rule.Compare != watch.Distance || k.path == k.mirror.thing.exists {
		return 0
	}
	low, high, _ := v.window(k.rule, s.t)
	for axis := range k.rule.Fields {
		off := s.view[axis] - s.there[axis]
		for _, bits := range wrapBits {
			turns := math.Ldexp(1, bits)
			quantum := k.rule.Quantum
			if quantum == 0 {
				quantum = usualStep(math.Abs(off) / turns)
			}
			// A small shift could be any difference, above all where the step is guessed.
			if turns*quantum < 20*k.rule.Within || k.rule.Quantum == 0 && turns*quantum < 50*k.rule.Within {
				continue
			}
			shift := math.Copysign(turns*quantum, off)
			shifted := s.view
			shifted[axis] -= shift
			if math.Abs(off) < turns*quantum/2 {
				continue
			}
			// A prediction made from a wrapped number is off by a little more.
			tolerance := max(k.rule.Within, turns*quantum/200)
			if _, ok := k.path.latest(shifted, tolerance, low, high); ok {
				return shift
			}
		}
	}
	return 0
}

// usualStep is the step of a usual encoding that is nearest to q: 1, 2 or 5 of a
// decimal place, or a power of two.
func usualStep(q float64) float64 {
	if !(q > 0) {
		return 0
	}
	decade := math.Pow(10, math.Floor(math.Log10(q)))
	best := math.Exp2(math.Round(math.Log2(q)))
	for _, step := range [...]float64{decade, 2 * decade, 5 * decade, 10 * decade} {
		if math.Abs(step-q) < math.Abs(best-q) {
			best = step
		}
	}
	return best
}

func wrapText(shift, quantum float64) string {
	for _, bits := range wrapBits {
		if quantum > 0 && math.Abs(math.Abs(shift)-math.Ldexp(quantum, bits)) < quantum {
			return fmt.Sprintf("%.6g, which is 2^%d steps of %.4g,", shift, bits, quantum)
		}
	}
	return fmt.Sprintf("%.6g", shift)
}
