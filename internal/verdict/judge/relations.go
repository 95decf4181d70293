package judge

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/verdict/explain"
	"zitherwheel/internal/verdict/rulebook"
)

// kindsOfRelations are the kinds that the relations between numbers have.
var kindsOfRelations = map[explain.Name]Kind{
	explain.Frozen: Frozen, explain.Late: Late, explain.Early: ClockShift, explain.Creeping: Creeping, explain.Rate: Rate, explain.Offset: Offset, explain.Drift: Drift,
	explain.Scaled: Scaled, explain.Mirrored: Mirrored, explain.Swapped: Swapped, explain.Wrapped: Overflow, explain.Coarse: Quantised, explain.Clamped: Clamped, explain.Noisy: Noisy,
}

// related finds the simplest relation between the numbers of an episode and the reference's.
// It is rough if it leaves more than half of the tolerance.
func (k *tracker) related() (kind Kind, why string, rough bool) {
	s, ok := k.numbers()
	if !ok {
		return "", "", false
	}
	list := explain.Fit(s)
	if len(list) == 0 {
		return "", "", false
	}
	return kindsOfRelations[list[0].Name], list[0].Why, list[0].Residual > k.rule.Tolerance/2
}

// seriesOf is what a rule says of a difference that began then.
func seriesOf(rule *rulebook.Rule, began time.Duration) explain.Series {
	s := explain.Series{Axes: len(rule.Fields), Tolerance: rule.Tolerance, Step: rule.Quantum, Began: began.Seconds()}
	if rule.Compare == rulebook.Angle {
		s.Circle = rule.Circle
	}
	return s
}

// numbers is an episode as it is explained; not ok if its values are not numbers.
func (k *tracker) numbers() (s explain.Series, ok bool) {
	e := k.run
	if k.rule.Compare == rulebook.Exact || len(e.history) == 0 {
		return s, false
	}
	s = seriesOf(k.rule, e.began)
	s.MaxDelay, s.MaxAhead = k.rule.MaxDelay.Seconds(), k.rule.MaxAhead.Seconds()
	for i, c := range e.history {
		if numbers(c.v) != allNumbers {
			return s, false
		}
		if n := len(s.Reference.T); i > 0 && c.t.Seconds() <= s.Reference.T[n-1] {
			continue
		}
		s.Reference.T, s.Reference.V = append(s.Reference.T, c.t.Seconds()), append(s.Reference.V, c.v)
	}
	last := e.history[len(e.history)-1].t + k.rule.MaxDelay
	var late []time.Duration
	for _, seen := range e.seen {
		if seen.ok || seen.t > last && len(e.history) == historyKept {
			continue
		}
		if numbers(seen.view) != allNumbers || math.IsInf(seen.gap, 0) {
			return s, false
		}
		s.Samples = append(s.Samples, explain.Sample{T: seen.t.Seconds(), View: seen.view})
		late = append(late, seen.late)
	}
	if len(late) > 0 { // a bad link allows for more than the rule
		slices.Sort(late)
		s.MaxDelay = min(max(s.MaxDelay, late[len(late)*3/4].Seconds()), explain.Earliest/2)
	}
	return s, len(s.Samples) > 0
}
