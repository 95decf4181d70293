package judge

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Kind names what sort of disagreement a finding is. docs/findings.md says what
// each means and how it is decided.
type Kind string

const (
	Missing            Kind = "missing"          // the reference has the entity, the view does not
	Ghost              Kind = "ghost"            // the view has an entity that the reference does not
	DuplicateEntity    Kind = "duplicate-entity" // one entity twice
	OtherID            Kind = "other-id"         // the same entity under another id
	NotOne             Kind = "not-one"          // a unique entity absent or double
	Frozen             Kind = "frozen"           // the view stays at an old value of the reference
	NeverSent          Kind = "never-sent"       // the view changed it, the reference never did
	NeverArrived       Kind = "never-arrived"    // the reference changed it, the view never did, though it hears the rest
	Skipped            Kind = "skipped"          // the view went past a value that stood long enough
	OutOfOrder         Kind = "out-of-order"     // the view went back to an older value
	Overflow           Kind = "overflow"         // a number off by 2^8, 2^16 or 2^32 of its steps
	Quantised          Kind = "quantised"        // a lattice wider than the tolerance
	Inverted           Kind = "inverted"         // a flag with the opposite value
	Scaled             Kind = "scaled"           // a number times a factor
	Rate               Kind = "rate"             // it runs k times too fast
	Late               Kind = "late"             // everything is right and too late
	ClockShift         Kind = "clock"            // what follows from the clock is early or late
	Creeping           Kind = "creeping-clock"   // it gets later and later, or earlier
	Mirrored           Kind = "mirrored"         // a coordinate has the other sign
	Swapped            Kind = "swapped"          // coordinates are in one another's place
	Clamped            Kind = "clamped"          // it stops at a limit
	Noisy              Kind = "noisy"            // it is scattered about the right place
	Drift              Kind = "drift"            // the gap grows
	Doubled            Kind = "doubled"          // a change applied k times
	SplitOwner         Kind = "split-owner"      // the view believes it owns what another owns
	NoOwner            Kind = "no-owner"         // the view does not know that it owns
	InputLeak          Kind = "input-leak"       // it moves with the view's own entity
	Unvalidated        Kind = "unvalidated"      // the reference took an impossible value from a view
	EventLost          Kind = "event-lost"
	EventRepeated      Kind = "event-repeated"
	EventLate          Kind = "event-late"
	EventUnexpected    Kind = "event-unexpected"
	EventMisorder      Kind = "event-misordered"
	RejectedButPlaying Kind = "rejected-but-playing" // the view thinks it is in and is not
	LeftBehind         Kind = "left-behind"          // what stood before the view came never reached it
	OutcomeDiffer      Kind = "outcome"              // final results differ
	Broken             Kind = "broken-sequence"      // a step of a chain never came
	InvariantBroken    Kind = "invariant-broken"     // an invariant did not hold
	Crashed            Kind = "crashed"              // a program of the match ended by itself
	Jerky              Kind = "jerky"                // a limit on how smoothly entities move
	OverLimit          Kind = "limit"                // any other limit
	Count              Kind = "count"                // it happened too often or too seldom
	LogBroken          Kind = "log"                  // a rule about the lines of a log was not kept
	ChecksumDiffers    Kind = "checksum"             // a checksum of the state differs
	Offset             Kind = "offset"               // the values differ, and none of the above
)

// kindOf decides what an episode is, and says by what: what the rule means beyond its
// values first, then relations between numbers that move, then how the view follows the
// reference. The first that holds decides.
func (j *Judge) kindOf(k *tracker, v *view, open bool) (Kind, string) {
	series := k.series()
	for _, test := range [...]func() (Kind, string){
		func() (Kind, string) { return k.existing(j, v) },
		func() (Kind, string) { return j.checksum(k) },
		func() (Kind, string) { return j.roles(k, v) },
		func() (Kind, string) { return k.moving(v, series, open) },
		func() (Kind, string) { return series.wrapped(k) },
		func() (Kind, string) { return series.coarse(k) },
		func() (Kind, string) { return series.clock(k) },
		func() (Kind, string) { return k.behind(v, open) },
		func() (Kind, string) { return k.counting() },
		func() (Kind, string) { return series.inputLeak(k) },
		func() (Kind, string) { return series.rate(k) },
		func() (Kind, string) { return series.drift(k) },
	} {
		if kind, why := test(); kind != "" {
			return kind, why
		}
	}
	e := k.run
	if last := e.lastDiffering(); k.rule.Compare == rulebook.Exact {
		return Offset, fmt.Sprintf("the view shows %s where the reference has %s", j.format(k.rule, last.view), j.format(k.rule, last.there))
	}
	return Offset, fmt.Sprintf("the values are apart by up to %.4g", e.worst)
}

// existing tells whether the view or the reference alone has the entity.
func (k *tracker) existing(j *Judge, v *view) (Kind, string) {
	switch {
	case k.path != k.mirror.known.exists:
		return "", ""
	case k.run.seen[0].view == (point{1}):
		if kind, why, _ := k.twin(j, v); kind != "" {
			return kind, why
		}
		return Ghost, "the view shows it while the reference does not have it"
	}
	return Missing, "the reference has it and the view does not show it"
}

func (j *Judge) checksum(k *tracker) (Kind, string) {
	if !k.rule.Checksum() {
		return "", ""
	}
	last := k.run.lastDiffering()
	return ChecksumDiffers, fmt.Sprintf("the checksum is %s and the reference's %s", j.format(k.rule, last.view), j.format(k.rule, last.there))
}

// moving names what is wrong with numbers that the reference moves, by the relation
// between the two. What follows from the clock is left to other tests.
func (k *tracker) moving(v *view, series series, open bool) (Kind, string) {
	if k.rule.Compare == rulebook.Exact || k.rule.TimeDriven {
		return "", ""
	}
	if kind, why := series.inputLeak(k); kind != "" {
		return kind, why
	}
	if k.referenceStood() {
		return "", ""
	}
	if kind, why := k.counting(); kind != "" {
		return kind, why
	}
	kind, why, rough := k.related()
	if kind == Offset { // it says the least
		if coarse, why := series.coarse(k); coarse != "" {
			return coarse, why
		}
	}
	// Who creeps away in steps was not scaled: that is a leap.
	if kind == Offset || kind == Scaled && k.run.before.ok || kind == Rate && rough {
		if drift, why := series.drift(k); drift != "" {
			return drift, why
		}
	}
	if kind == Frozen {
		if kept, since := k.behind(v, open); kept == Frozen { // which says of when the value is
			return kept, since
		}
	}
	return kind, why
}

// roles tests what a field means beyond its value.
func (j *Judge) roles(k *tracker, v *view) (Kind, string) {
	return j.roleOf(k.rule, v.name, k.run.lastDiffering())
}

// roleOf is roles for a difference as it was last seen in a view.
func (j *Judge) roleOf(rule *rulebook.Rule, view string, last sighting) (Kind, string) {
	name := encode(rulebook.Exact, []trace.Value{j.config.Names.Text(view)})
	switch {
	case rule.Role == rulebook.Outcome:
		return OutcomeDiffer, "a result of the match is not the same"
	case rule.Role != rulebook.Owner:
		return "", ""
	case last.view == name && last.there != name:
		return SplitOwner, "the view believes that it is the owner, the reference says another"
	case last.there == name && last.view != name:
		return NoOwner, "the reference says that the view is the owner, the view does not know"
	}
	return "", ""
}

// lastDiffering is the last unexplained sighting in which the two sides are not the same:
// at the end of a stretch the reference may have come to the view's value already.
func (e *episode) lastDiffering() sighting {
	for _, s := range slices.Backward(e.seen) {
		if !s.ok && s.view != s.there {
			return s
		}
	}
	return e.lastApart()
}

// lastApart is the last unexplained sighting.
func (e *episode) lastApart() sighting {
	for i := len(e.seen) - 1; i >= 0; i-- {
		if !e.seen[i].ok {
			return e.seen[i]
		}
	}
	return e.seen[len(e.seen)-1]
}

// behind tests how the view follows the reference, or does not.
func (k *tracker) behind(v *view, open bool) (Kind, string) {
	e := k.run
	exact := k.rule.Compare == rulebook.Exact
	byView := k.holds && k.since >= e.last-time.Millisecond // the view's next change ended it
	last := e.lastApart()
	flags := trace.Kind(last.view[1]) == trace.KindBool && trace.Kind(last.there[1]) == trace.KindBool
	if exact && flags && byView && k.path.at(k.since) != k.value {
		return Inverted, "the view followed the next change, to the opposite value"
	}
	if early := e.healed.by - k.since; exact && k.rule.TimeDriven && !open && e.healed.ok && !e.healed.byView && !e.healed.passing && early > 0 && early < lateAtMost {
		return ClockShift, fmt.Sprintf("it changes %.2f s early", early.Seconds())
	}
	if e.changes == 0 {
		switch late := k.since - e.changedAt(k.path); {
		case exact && byView && !open && !e.missed(k.value) && late < lateAtMost && k.rule.TimeDriven:
			return ClockShift, fmt.Sprintf("it changes %.2f s late", late.Seconds())
		case exact && byView && !open && !e.missed(k.value) && late < lateAtMost:
			return Late, fmt.Sprintf("the view shows it %.2f s after the reference, %.2f s are allowed", late.Seconds(), k.rule.MaxDelay.Seconds())
		case exact && !k.ever && k.referenceStood() && (open || byView || !v.in):
			return LeftBehind, "the reference had it before the view came, and the view never got it"
		case exact && byView && !open && e.missed(k.value):
			return Skipped, "the view went past a value that the reference had for long enough"
		case exact && k.othersGoOn():
			return NeverArrived, "the reference changed it, the view did not, and other fields of it go on"
		case e.lastMatch > -never:
			if e.lastMatch < v.joinedAt {
				return Frozen, fmt.Sprintf("the view shows the value that the reference had at %.3f s, before the view joined", e.lastMatch.Seconds())
			}
			return Frozen, fmt.Sprintf("the view kept the value that the reference had at %.3f s", e.lastMatch.Seconds())
		}
		return "", ""
	}
	if k.referenceStood() {
		return NeverSent, "the view's value changed and the reference's did not"
	}
	if !exact {
		return "", ""
	}
	if flags {
		return Inverted, "the view follows the changes with the opposite value"
	}
	if e.before.ok {
		if old, ok := k.path.latest(last.view, 0, -never, e.before.t-e.before.age-1); ok {
			return OutOfOrder, fmt.Sprintf("after a newer value the view went back to the one of %.3f s", old.Seconds())
		}
	}
	return "", ""
}

// lateAtMost is how late a value may be to be late, and not one that stood still.
const lateAtMost = 3 * time.Second

// changedAt is when the reference came to the value that it has at the end of the episode.
func (e *episode) changedAt(p *path) time.Duration {
	if i := p.seek(e.last); i >= 0 {
		return p.corners[i].t
	}
	return e.began
}

// missed reports whether the reference had, while the two were apart, a value
// other than the one the view then took.
func (e *episode) missed(took point) bool {
	for _, s := range e.seen {
		if !s.ok && s.there != took {
			return true
		}
	}
	return false
}

// othersGoOn reports whether another field of the entity has followed a change
// of the reference's that is younger than the beginning of the episode.
func (k *tracker) othersGoOn() bool {
	for _, other := range k.mirror.trackers {
		other.settle()
		if n := len(other.path.corners); other != k && n > 0 && other.match > k.run.began && other.path.corners[n-1].t > k.run.began {
			return true
		}
	}
	return false
}

// counting tests whether a change was applied more than once.
func (k *tracker) counting() (Kind, string) {
	e := k.run
	if k.rule.Compare == rulebook.Angle || !e.before.ok || len(k.rule.Fields) > 1 || e.changes == 0 {
		return "", ""
	}
	first, last := e.lastApart(), e.lastApart()
	for _, s := range e.early {
		if !s.ok {
			first = s
			break
		}
	}
	if trace.Kind(first.view[1]) != trace.KindNumber && k.rule.Compare == rulebook.Exact {
		return "", ""
	}
	for _, s := range [...]sighting{first, last} { // soon after the change, or when more have followed
		by, should := s.view[0]-e.before.view[0], s.there[0]-e.before.view[0]
		if times := by / should; should != 0 && times > 1.5 && math.Abs(times-math.Round(times)) < 0.02 {
			return Doubled, fmt.Sprintf("a change of %.4g was made %.0f times", should, times)
		}
	}
	return "", ""
}

// referenceStood reports whether the reference's value has stayed the same: since
// it last agreed with the view, or for the whole episode if it never did.
func (k *tracker) referenceStood() bool {
	e := k.run
	stood := path{compare: k.path.compare, circle: k.path.circle, corners: []corner{{v: e.seen[0].there}}}
	if e.before.ok {
		stood.corners[0].v = e.before.there
		if k.rule.Compare == rulebook.Exact {
			stood.corners[0].v = e.before.view
		}
	}
	for _, s := range e.seen {
		if _, _, d := stood.near(0, s.there, k.rule.Tolerance, 0, 0); !(d <= k.rule.Tolerance) {
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
	if k.rule.Compare != rulebook.Distance || k.path == k.mirror.known.exists {
		return 0
	}
	low, high, _ := k.window.at(v, s.t)
	for axis := range k.rule.Fields {
		off := s.view[axis] - s.there[axis]
		for _, bits := range wrapBits {
			turns := math.Ldexp(1, bits)
			quantum := k.rule.Quantum
			if quantum == 0 {
				quantum = usualStep(math.Abs(off) / turns)
			}
			// A small shift could be any difference, above all where the step is guessed.
			if turns*quantum < 20*k.rule.Tolerance || k.rule.Quantum == 0 && turns*quantum < 50*k.rule.Tolerance {
				continue
			}
			shift := math.Copysign(turns*quantum, off)
			shifted := s.view
			shifted[axis] -= shift
			if math.Abs(off) < turns*quantum/2 {
				continue
			}
			// A prediction made from a wrapped number is off by a little more.
			tolerance := max(k.rule.Tolerance, turns*quantum/200)
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
