package judge

import (
	"fmt"
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

// RunnerUp is the explanation that fits second best, where relations between numbers were
// weighed against one another.
type RunnerUp struct {
	Kind   Kind    `json:"kind"`
	Why    string  `json:"why"`
	Margin float64 `json:"margin"` // how much higher its Bayesian information criterion is
}

// closeMargin is up to which margin two explanations are both told: a difference of less than 6
// is no strong evidence (Kass and Raftery, Bayes factors, 1995).
const closeMargin = 6

// related finds the simplest relation between the numbers of an episode and the reference's.
// It is rough if it leaves more than half of the tolerance.
func (d *difference) related() (n naming, rough bool) {
	s, ok := d.numbers()
	if !ok {
		return n, false
	}
	list := explain.Fit(s)
	if len(list) == 0 {
		return n, false
	}
	best := list[0]
	n = naming{kind: kindsOfRelations[best.Name], why: best.Why}
	for _, other := range list[1:] {
		if kind := kindsOfRelations[other.Name]; kind != n.kind {
			n.next = &RunnerUp{kind, other.Why, math.Round((other.Score-best.Score)*10) / 10}
			if n.next.Margin < closeMargin {
				n.why += fmt.Sprintf("; %s fits nearly as well: %s", kind, other.Why)
			}
			break
		}
	}
	return n, best.Residual > d.rule.Tolerance/2
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
func (d *difference) numbers() (s explain.Series, ok bool) {
	e := d.episode
	if d.rule.Compare == rulebook.Exact || len(e.history) == 0 {
		return s, false
	}
	s = seriesOf(d.rule, e.began)
	s.MaxDelay, s.MaxAhead = d.rule.MaxDelay.Seconds(), d.rule.MaxAhead.Seconds()
	for i, c := range e.history {
		if numbers(c.v) != allNumbers {
			return s, false
		}
		if n := len(s.Reference.T); i > 0 && c.t.Seconds() <= s.Reference.T[n-1] {
			continue
		}
		s.Reference.T, s.Reference.V = append(s.Reference.T, c.t.Seconds()), append(s.Reference.V, c.v)
	}
	last := e.history[len(e.history)-1].t + d.rule.MaxDelay
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
