package judge

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

func TestWhatAStallExplainsIsSetAside(t *testing.T) {
	s := func(v float64) Seconds { return Seconds(v * 1e9) }
	stall := metrics.Stall{From: s(10), To: s(10.4), Stood: s(0.4)}
	of := func(view string) metrics.Stall { m := stall; m.View = view; return m }
	rule := &rulebook.Rule{Entities: "boat/*", Fields: []string{"x"}, MaxDelay: 200 * time.Millisecond}
	field := func(kind Kind, from, to float64) Finding {
		return Finding{Kind: kind, View: "fern", Entity: "boat/1", Subject: Subject{Name: "x"}, BeganAt: s(from), EndedAt: s(to), rule: rule}
	}
	open := field(Frozen, 10.2, 60)
	open.Open = true
	limit := func(measure string) Finding {
		return Finding{Kind: OverLimit, View: "fern", Subject: Subject{AboutMeasure, measure}, EndedAt: s(60), Open: true, Why: measure + " is 9, the limit is 1"}
	}
	event := Finding{Kind: EventLate, View: "fern", Subject: Subject{AboutEvent, "horn"}, BeganAt: s(9.9), EndedAt: s(10.5)}
	lost := event
	lost.Kind = EventLost
	for _, c := range []struct {
		what    string
		finding Finding
		stalls  []metrics.Stall
		aside   bool
		grave   bool
	}{
		{"frozen while the machine stood still", field(Frozen, 10.2, 10.5), []metrics.Stall{stall}, true, false},
		{"apart when it went on, for as long as it had stood and the rule allows", field(Offset, 10.6, 11.3), []metrics.Stall{stall}, true, false},
		{"for longer than that", field(Offset, 10.6, 11.6), []metrics.Stall{stall}, false, false},
		{"long after it", field(Frozen, 12, 12.3), []metrics.Stall{stall}, false, false},
		{"before it", field(Frozen, 9, 9.5), []metrics.Stall{stall}, false, false},
		{"never right again", open, []metrics.Stall{stall}, false, false},
		{"of a kind that no delay makes", field(Overflow, 10.2, 10.5), []metrics.Stall{stall}, false, false},
		{"while the view's own program had no processor", field(Frozen, 10.2, 10.5), []metrics.Stall{of("fern")}, true, false},
		{"while the server had none", field(Frozen, 10.2, 10.5), []metrics.Stall{of("server")}, true, false},
		{"while another client had none", field(Frozen, 10.2, 10.5), []metrics.Stall{of("moss")}, false, false},
		{"an event that was late", event, []metrics.Stall{stall}, true, false},
		{"an event that never came", lost, []metrics.Stall{stall}, false, false},
		{"a limit on what is shown, where the machine stood still for little of the match", limit("unevenness"), []metrics.Stall{stall}, false, false},
		{"a limit on what is shown, where it did for long", limit("unevenness"), []metrics.Stall{stall, {From: s(20), To: s(20.5), Stood: s(0.5)}}, true, true},
		{"a limit on memory", limit("resident-mb"), []metrics.Stall{stall, {From: s(20), To: s(20.5), Stood: s(0.5)}}, false, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			v := &Verdict{To: s(60), Comparisons: 100, Outcome: OutOfSync, Ending: ending.Ending{How: ending.Complete}, Findings: []*Finding{&c.finding},
				Views: []ViewReport{{Name: "fern", Findings: 1}}, Rules: []RuleReport{{Entities: "boat/*", Of: "any", Fields: "x", Findings: 1}}}
			v.SetAside(&metrics.Timing{Moments: c.stalls}, &rulebook.Rules{})
			if !c.aside {
				assert.Equal(t, OutOfSync, v.Outcome)
				assert.Empty(t, v.Aside)
				assert.Empty(t, v.Warnings)
				return
			}
			assert.Equal(t, map[bool]Outcome{false: InSync, true: Inconclusive}[c.grave], v.Outcome)
			assert.Empty(t, v.Findings)
			assert.Empty(t, v.Incidents)
			assert.Zero(t, v.Views[0].Findings)
			require.Len(t, v.Aside, 1)
			assert.Equal(t, "S1", v.Aside[0].ID)
			require.Len(t, v.Warnings, 1)
			assert.Contains(t, v.Warnings[0].Text, "set aside: ")
		})
	}
}

// What else went wrong cannot be told from a match in which much was set aside.
func TestAMatchWithMuchSetAsideIsNoPass(t *testing.T) {
	v := &Verdict{To: Seconds(time.Minute), Comparisons: 100, Outcome: OutOfSync, Ending: ending.Ending{How: ending.Complete}}
	for i := range 8 {
		v.Findings = append(v.Findings, &Finding{Kind: Frozen, View: "fern", Entity: "boat/1", Subject: Subject{Name: "x"}, BeganAt: Seconds(10*time.Second + time.Duration(i)*time.Millisecond), EndedAt: Seconds(10500 * time.Millisecond)})
	}
	v.SetAside(&metrics.Timing{Moments: []metrics.Stall{{From: Seconds(10 * time.Second), To: Seconds(10400 * time.Millisecond), Stood: Seconds(400 * time.Millisecond)}}}, &rulebook.Rules{})
	assert.Equal(t, Inconclusive, v.Outcome)
	assert.Len(t, v.Aside, 8)
	require.Len(t, v.Warnings, asideTold+1)
	assert.Equal(t, "set aside: 3 more of the kind, told in findings.json", v.Warnings[asideTold].Text)
	assert.Equal(t, "set aside: frozen boat/1 (x) in fern, 10.000 s to 10.500 s; but the machine stood still for 0.400 s up to 10.400 s", v.Warnings[0].Text)
}

// A match whose machine stood still for a fifth of it is no pass, though nothing was found in it.
func TestAMatchWhoseMachineStoodStillForLongIsNoPass(t *testing.T) {
	for stood, outcome := range map[time.Duration]Outcome{5 * time.Second: InSync, 19 * time.Second: Inconclusive} {
		v := &Verdict{To: Seconds(40 * time.Second), Comparisons: 100, Outcome: InSync, Ending: ending.Ending{How: ending.Complete}}
		v.SetAside(&metrics.Timing{Moments: []metrics.Stall{{From: Seconds(10 * time.Second), To: Seconds(10*time.Second + stood), Stood: Seconds(stood)}}}, &rulebook.Rules{})
		assert.Equal(t, outcome, v.Outcome)
		if outcome == Inconclusive {
			assert.Equal(t, "the machine stood still for 19.000 s of 40.000 s, so what was compared says little", v.NotWell())
		}
	}
}
