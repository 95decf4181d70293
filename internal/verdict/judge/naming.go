package judge

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// difference is a stretch in which a view was not as the reference: what it is named by.
type difference struct {
	*episode
	judge *Judge
	rule  *rulebook.Rule
	path  *path // the reference's, around it
	own   bool  // of the view's own entity
	open  bool  // it goes on

	view     string
	in       bool // the view is still in the match
	joinedAt time.Duration

	value point         // that the view had at its end
	since time.Duration // when it said it first
	holds bool          // it has one
	ever  bool          // it was right before, in this stay

	last    point // the value that it had before that
	changed bool  // it had one

	othersGoOn func() bool // another field of the entity has followed a change that is younger than it
}

// naming is what a difference is called, and by what.
type naming struct {
	kind Kind
	why  string
	like string // the entity of the reference that it is, once more or under another id
	next *RunnerUp
}

// name decides what a difference is: what the rule means beyond its values first, then
// relations between numbers that move, then how the view follows the reference. The first that
// holds decides.
func (d *difference) name() naming {
	for _, test := range [...]func() naming{
		d.checksum, d.role, d.moving, d.wrapped, d.coarse, d.clock, d.madeBefore, d.behind, d.counting, d.inputLeak, d.rate, d.drift, d.teleports, d.counted, d.multiplied,
	} {
		if n := test(); n.kind != "" {
			return n
		}
	}
	last := d.lastDiffering()
	if d.rule.Compare == rulebook.Exact {
		return naming{kind: NoRelation, why: fmt.Sprintf("the view shows %s where the reference has %s", d.judge.format(d.rule, last.view), d.judge.format(d.rule, last.there))}
	}
	return naming{kind: NoRelation, why: fmt.Sprintf("the values are apart by up to %.4g, in no simple relation", d.worst)}
}

// kindOf names an episode.
func (j *Judge) kindOf(k *tracker, v *view, open bool) naming {
	if k.path == k.mirror.known.exists {
		return k.existing(j, v)
	}
	n := k.difference(v, open).name()
	switch unlike := k.unlike(v); {
	case unlike == "":
	case n.kind == NoRelation:
		n.why = unlike
	default:
		n.why += "; " + unlike
	}
	return n
}

func (k *tracker) difference(v *view, open bool) *difference {
	return &difference{episode: k.run, judge: v.judge, rule: k.rule, path: k.path, own: k.mirror.own, open: open, view: v.name, in: v.in, joinedAt: v.joinedAt,
		value: k.value, since: k.since, last: k.last, changed: k.lastAt > 0, holds: k.holds, ever: k.ever, othersGoOn: k.othersGoOn}
}

// existing tells whether the view or the reference alone has the entity.
func (k *tracker) existing(j *Judge, v *view) naming {
	if k.run.seen[0].view != (point{1}) {
		return naming{kind: Missing, why: "the reference has it and the view does not show it"}
	}
	if rule, _ := j.placeRule(j.config.Rules.Fields, k.mirror.known.name); rule != nil {
		if e, ok := k.run.like.like(rule); ok {
			m := v.mirrorOf(e)
			return twin(j.config.Names.EntityID(e), m != nil && m.isThere)
		}
	}
	return naming{kind: Ghost, why: "the view shows it while the reference does not have it"}
}

func (d *difference) checksum() (n naming) {
	if !d.rule.Checksum() {
		return n
	}
	last := d.lastDiffering()
	return naming{kind: ChecksumDiffers, why: fmt.Sprintf("the checksum is %s and the reference's %s", d.judge.format(d.rule, last.view), d.judge.format(d.rule, last.there))}
}

// moving names what is wrong with numbers that the reference moves, by the relation
// between the two. What follows from the clock is left to other tests.
func (d *difference) moving() (n naming) {
	if d.rule.Compare == rulebook.Exact || d.rule.TimeDriven {
		return n
	}
	if n = d.inputLeak(); n.kind != "" || d.referenceStood() {
		return n
	}
	if n = d.counting(); n.kind != "" {
		return n
	}
	n, rough := d.related()
	if twin := d.exchanged(); twin.kind != "" && (n.kind == "" || n.kind == Noisy || n.kind == Rate || n.kind == Drift) {
		return twin
	}
	if n.kind == Offset { // it says the least
		if coarse := d.coarse(); coarse.kind != "" {
			return coarse
		}
	}
	// Who creeps away in steps was not scaled: that is a leap.
	if n.kind == Offset || n.kind == Scaled && d.before.ok || n.kind == Rate && rough {
		if drift := d.drift(); drift.kind != "" {
			return drift
		}
	}
	if n.kind == Frozen {
		if kept := d.behind(); kept.kind == Frozen { // which says of when the value is
			return kept
		}
	}
	return n
}

// role tests what a field means beyond its value.
func (d *difference) role() (n naming) {
	last := d.lastDiffering()
	name := encode(rulebook.Exact, []trace.Value{d.judge.config.Names.Text(d.view)})
	switch {
	case d.rule.Role == rulebook.Outcome:
		return naming{kind: OutcomeDiffer, why: "a result of the match is not the same"}
	case d.rule.Role != rulebook.Owner:
		return n
	case last.view == name && last.there != name:
		return naming{kind: SplitOwner, why: "the view believes that it is the owner, the reference says another"}
	case last.there == name && last.view != name:
		return naming{kind: NoOwner, why: "the reference says that the view is the owner, the view does not know"}
	}
	return n
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
func (d *difference) behind() (n naming) {
	e := d.episode
	exact := d.rule.Compare == rulebook.Exact
	byView := d.holds && d.since >= e.last-time.Millisecond // the view's next change ended it
	last := e.lastApart()
	flags := trace.Kind(last.view[1]) == trace.KindBool && trace.Kind(last.there[1]) == trace.KindBool
	if exact && flags && byView && d.path.at(d.since) != d.value {
		return naming{kind: Inverted, why: "the view followed the next change, to the opposite value"}
	}
	if early := e.healed.by - d.since; exact && d.rule.TimeDriven && !d.open && e.healed.ok && !e.healed.byView && !e.healed.passing && early > 0 && early < lateAtMost {
		return naming{kind: ClockShift, why: fmt.Sprintf("it changes %.2f s early", early.Seconds())}
	}
	if e.changes == 0 {
		switch late := d.since - e.changedAt(d.path); {
		case exact && byView && !d.open && !e.missed(d.value) && late < lateAtMost && d.rule.TimeDriven:
			return naming{kind: ClockShift, why: fmt.Sprintf("it changes %.2f s late", late.Seconds())}
		case exact && byView && !d.open && !e.missed(d.value) && late < lateAtMost:
			return naming{kind: Late, why: fmt.Sprintf("the view shows it %.2f s after the reference, %.2f s are allowed", late.Seconds(), d.rule.MaxDelay.Seconds())}
		case exact && !d.ever && d.referenceStood() && (d.open || byView || !d.in):
			return naming{kind: LeftBehind, why: "the reference had it before the view came, and the view never got it"}
		case exact && byView && !d.open && e.missed(d.value):
			return naming{kind: Skipped, why: "the view went past a value that the reference had for long enough"}
		case exact && d.othersGoOn():
			return naming{kind: NeverArrived, why: "the reference changed it, the view did not, and other fields of it go on"}
		case e.lastMatch > -never:
			if e.lastMatch < d.joinedAt {
				return naming{kind: Frozen, why: fmt.Sprintf("the view shows the value that the reference had at %.3f s, before the view joined", e.lastMatch.Truncate(time.Millisecond).Seconds())}
			}
			return naming{kind: Frozen, why: fmt.Sprintf("the view kept the value that the reference had at %.3f s", e.lastMatch.Seconds())}
		}
		return n
	}
	if d.referenceStood() {
		if twice := d.counting(); twice.kind == Doubled { // the change was made, and then made again
			return twice
		}
		return naming{kind: NeverSent, why: "the view's value changed and the reference's did not"}
	}
	if !exact {
		return n
	}
	if flags {
		return naming{kind: Inverted, why: "the view follows the changes with the opposite value"}
	}
	if e.before.ok {
		if old, ok := d.path.latest(last.view, 0, -never, e.before.t-e.before.age-1); ok {
			return naming{kind: OutOfOrder, why: fmt.Sprintf("after a newer value the view went back to the one of %.3f s", old.Seconds())}
		}
	}
	return n
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
// of the reference's that is younger than the beginning of the episode. One that was
// wrong as well, and went on no sooner than this, has not.
func (k *tracker) othersGoOn() bool {
	for _, other := range k.mirror.trackers {
		other.settle()
		if r := other.run; other.apart || r.certain || r.amount > 0 && r.began <= k.run.last && r.last+other.rule.MinDuration >= k.run.last {
			continue
		}
		if n := len(other.path.corners); other != k && n > 0 && other.match > k.run.began && other.path.corners[n-1].t > k.run.began {
			return true
		}
	}
	return false
}

// counting tests whether a change was applied more than once.
func (d *difference) counting() (n naming) {
	e := d.episode
	if d.rule.Compare == rulebook.Angle || !e.before.ok || len(d.rule.Fields) > 1 || e.changes == 0 {
		return n
	}
	first, last := e.lastApart(), e.lastApart()
	for _, s := range e.early {
		if !s.ok {
			first = s
			break
		}
	}
	if trace.Kind(first.view[1]) != trace.KindNumber && d.rule.Compare == rulebook.Exact {
		return n
	}
	made := func(s sighting, from float64) (should, times float64, ok bool) {
		should = s.there[0] - from
		times = (s.view[0] - from) / should
		return should, math.Round(times), should != 0 && times > 1.5 && math.Abs(times-math.Round(times)) < 0.02
	}
	for _, s := range [...]sighting{first, last} { // soon after the change, or when more have followed
		if should, times, ok := made(s, e.before.view[0]); ok {
			return naming{kind: Doubled, why: fmt.Sprintf("a change of %.4g was made %.0f times", should, times)}
		}
	}
	// The view may have made the change once, and been right for a moment, before it made it again.
	from, ok := e.valueBefore(d.rule.MaxDelay)
	if !ok {
		return n
	}
	if should, times, ok := made(first, from); ok {
		if _, later, ok := made(last, from); ok && later == times {
			return naming{kind: Doubled, why: fmt.Sprintf("a change of %.4g was made %.0f times", should, times)}
		}
	}
	return n
}

// madeBefore is counting of a change that was made before anything was compared, as in the first moments of a stay: both sides
// went from one number, and the view farther.
func (d *difference) madeBefore() (n naming) {
	const number = float64(trace.KindNumber)
	first := d.seen[0]
	exact := d.rule.Compare == rulebook.Exact
	if d.before.ok || !d.changed || d.rule.Compare == rulebook.Angle || len(d.rule.Fields) > 1 || exact && (d.last[1] != number || first.view[1] != number || first.there[1] != number) {
		return n
	}
	for i := len(d.history) - 1; i > 0; i-- {
		from, to := d.history[i-1].v, d.history[i].v
		if to != first.there || from != d.last {
			continue
		}
		should := to[0] - from[0]
		times := (first.view[0] - from[0]) / should
		if should != 0 && times > 1.5 && math.Abs(times-math.Round(times)) < 0.02 {
			return naming{kind: Doubled, why: fmt.Sprintf("a change of %.4g was made %.0f times", should, times)}
		}
	}
	return n
}

// valueBefore is the number that the reference had before it came to the value that the view showed last
// when it was right, if it came to that so lately.
func (e *episode) valueBefore(lately time.Duration) (v float64, ok bool) {
	for i := len(e.history) - 1; i > 0; i-- {
		c := &e.history[i]
		if c.t <= e.before.t && c.v == e.before.view && e.history[i-1].v != c.v {
			was := e.history[i-1].v
			return was[0], e.before.t-c.t <= lately && !math.IsNaN(was[0]) && was[1] == c.v[1]
		}
	}
	return 0, false
}

// referenceStood reports whether the reference's value has stayed the same: since
// it last agreed with the view, or for the whole episode if it never did.
func (d *difference) referenceStood() bool {
	e := d.episode
	stood := path{compare: d.path.compare, circle: d.path.circle, corners: []corner{{v: e.seen[0].there}}}
	if e.before.ok {
		stood.corners[0].v = e.before.there
		if d.rule.Compare == rulebook.Exact {
			stood.corners[0].v = e.before.view
		}
	}
	for _, s := range e.seen {
		if _, _, off := stood.near(0, s.there, d.rule.Tolerance, 0, 0); !(off <= d.rule.Tolerance) {
			return false
		}
	}
	return true
}

var wrapBits = [...]int{8, 16, 32}

// wrapOf returns by how much a coordinate must be shifted to fit, if it is by 2^8, 2^16 or
// 2^32 steps of the number on the wire; 0 if not.
//
// Where the rule does not name the step, those of usual encodings are tried, and
// only for shifts so large against the tolerance that chance cannot hit them.
func wrapOf(rule *rulebook.Rule, s sighting, fits func(shifted point, within float64) bool) float64 {
	if rule.Compare != rulebook.Distance {
		return 0
	}
	for axis := range rule.Fields {
		off := s.view[axis] - s.there[axis]
		for _, bits := range wrapBits {
			turns := math.Ldexp(1, bits)
			quantum := rule.Quantum
			if quantum == 0 {
				quantum = usualStep(math.Abs(off) / turns)
			}
			// A small shift could be any difference, above all where the step is guessed.
			if turns*quantum < 20*rule.Tolerance || rule.Quantum == 0 && turns*quantum < 50*rule.Tolerance {
				continue
			}
			shift := math.Copysign(turns*quantum, off)
			shifted := s.view
			shifted[axis] -= shift
			if math.Abs(off) < turns*quantum/2 {
				continue
			}
			// A prediction made from a wrapped number is off by a little more.
			if fits(shifted, max(rule.Tolerance, turns*quantum/200)) {
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
