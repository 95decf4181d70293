package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

func TestWhichKnobWouldExplainAnIncidentIsSaid(t *testing.T) {
	rules := []judge.RuleReport{{Entities: "boat/*", Of: "any", Fields: "x, y", MaxDelay: s(0.4), Age: &metrics.Spread{Count: 300, Median: 210, P95: 390}},
		{Entities: "boat/*", Of: "own", Fields: "x, y", MaxDelay: s(0.4), Age: &metrics.Spread{Count: 9, Median: 1, P95: 2}}}
	for _, c := range []struct {
		what string
		knob *judge.Knob
		want string
	}{
		{"nothing to turn", nil, ""},
		{"max-delay, of several findings", &judge.Knob{Rule: "boat/* x, y", Name: "max-delay", From: 0.4, To: 1.2, Explains: 9, Of: 12},
			"With max-delay 1.2s in place of 400ms the rule for boat/* x, y would explain 9 of its 12 findings; what is right by it was shown 210 ms late (median), 390 ms (95 %), and 400 ms are allowed"},
		{"tolerance, and too few ages to tell", &judge.Knob{Rule: "boat/* x, y (own)", Name: "tolerance", From: 0.5, To: 0.6123, Explains: 1, Of: 1},
			"With tolerance 0.6123 in place of 0.5 the rule for boat/* x, y (own) would explain it"},
		{"none", &judge.Knob{Rule: "event horn", Of: 1}, "No knob of the rule for event horn would explain it"},
	} {
		t.Run(c.what, func(t *testing.T) { assert.Equal(t, c.want, Knob(&judge.Incident{Knob: c.knob}, rules)) })
	}
}

func TestWhatTheRulesCannotSeeIsSaid(t *testing.T) {
	rule := func(wrong, late float64) judge.RuleReport {
		return judge.RuleReport{Judged: true, Fits: 1, WrongFor: s(wrong), LateBy: s(late)}
	}
	assert.Empty(t, Unseen(&judge.Verdict{}))
	assert.Equal(t, "not seen by these rules: what is wrong for less than 550 ms; what is late by less than 800 ms", Unseen(&judge.Verdict{Rules: []judge.RuleReport{rule(0.55, 0.8), rule(0.55, 0.8)}}))
	assert.Equal(t, "not seen by these rules: what is wrong for less than 200 ms to 550 ms, depending on the rule; what is late by less than 800 ms", Unseen(&judge.Verdict{Rules: []judge.RuleReport{rule(0.2, 0.8), rule(0.55, 0.8)}}))
}
