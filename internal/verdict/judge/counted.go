package judge

import (
	"fmt"
	"math"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// counted tests whether a number that is compared exactly goes on as the reference's does, from another beginning.
func (d *difference) counted() (n naming) {
	last, ok := d.lastNumbers()
	off := last.view[0] - last.there[0]
	if !ok || d.followed(func(v float64) float64 { return v - off }) < 2 { // a single one may be off by anything
		return n
	}
	why := fmt.Sprintf("it counts as the reference does, and is off by %.6g throughout", off)
	if !d.ever {
		why += " since the view joined: it was not told what had been before"
	}
	return naming{kind: Offset, why: why}
}

// multiplied tests whether a number that is compared exactly is the reference's times a factor.
func (d *difference) multiplied() (n naming) {
	last, ok := d.lastNumbers()
	factor := last.view[0] / last.there[0]
	if !ok || math.IsNaN(factor) || math.IsInf(factor, 0) || factor == 0 || math.Abs(factor-1) < 1e-3 {
		return n
	}
	if d.followed(func(v float64) float64 { return math.RoundToEven(v/factor*1e3) / 1e3 }) < 3 { // fewer are so by chance
		return n
	}
	return naming{kind: Scaled, why: fmt.Sprintf("its numbers are the reference's times %.3g", factor)}
}

// lastNumbers is the last sighting, of numbers that are compared exactly.
func (d *difference) lastNumbers() (last sighting, ok bool) {
	const number = float64(trace.KindNumber)
	last = d.lastDiffering()
	return last, d.rule.Compare == rulebook.Exact && last.view[1] == number && last.there[1] == number
}

// followed is how many numbers the view showed, if each was one that the reference had when it may be shown once
// undo has been done to it; 0 if not.
func (d *difference) followed(undo func(v float64) float64) int {
	list := d.series()
	if len(list) < 2 || len(d.history) == 0 {
		return 0
	}
	const number = float64(trace.KindNumber)
	told := path{compare: d.rule.Compare, corners: d.history}
	until := d.history[len(d.history)-1].t + d.rule.MaxDelay
	values := map[float64]bool{}
	for _, s := range list {
		if s.t > until && len(d.history) == historyKept {
			continue
		}
		if _, ok := told.latest(point{undo(s.view[0]), number}, 0, s.t-max(s.late, d.rule.MaxDelay), s.t); !ok || s.view[1] != number {
			return 0
		}
		values[s.view[0]] = true
	}
	return len(values)
}
