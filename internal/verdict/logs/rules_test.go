package logs

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

func TestRulesCountLinesByProgram(t *testing.T) {
	views := []string{"server", "fern", "moss"}
	for _, c := range []struct {
		name string
		rule rulebook.LogRule
		want []string // view: why
	}{
		{"as many as may be", rulebook.LogRule{Match: "notice", In: "clients", Lines: rulebook.Often{Min: 2, Max: 2, Capped: true}}, nil},
		{"one too many in one program", rulebook.LogRule{Match: "error", Lines: rulebook.Often{Capped: true}}, []string{"moss 3s: 1 line fits in the log of moss (allowed: at most 0)"}},
		{"too few in another", rulebook.LogRule{Match: "notice", Lines: rulebook.Often{Min: 1}}, []string{"server 3s: no line fits in the log of server (expected: at least 1)"}},
		{"of one program alone", rulebook.LogRule{Match: "notice for \\w+ [12]$", In: "fern", Lines: rulebook.Often{Max: 1, Capped: true}}, []string{"fern 2s: 2 lines fit in the log of fern (allowed: at most 1)"}},
		{"of the server alone", rulebook.LogRule{Match: "notice", In: "server", Lines: rulebook.Often{Capped: true}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.NoError(t, c.rule.Validate())
			r := NewRules([]rulebook.LogRule{c.rule}, views)
			for _, view := range views[1:] {
				for i := 1; i <= 2; i++ {
					r.Line(view, time.Duration(i)*time.Second, fmt.Sprintf("notice for %s %d", view, i))
				}
			}
			r.Line("moss", 3*time.Second, "an error")
			var got []string
			for _, b := range r.Broken() {
				got = append(got, fmt.Sprintf("%s %s: %s", b.View, b.At, b.Why))
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func once() rulebook.Often { return rulebook.Often{Min: 1, Max: 1, Capped: true} }

func TestLinesAreCountedForEachPlayer(t *testing.T) {
	rule := rulebook.LogRule{Match: `notice for (?P<player>\w+)`, In: "fern", Each: rulebook.Player, Lines: once()}
	require.NoError(t, rule.Validate())
	r := NewRules([]rulebook.LogRule{rule}, []string{"server", "fern", "moss", "oak", "ash"})
	for i, view := range []string{"fern", "moss", "oak"} { // ash never joins
		r.Record(i+1, &trace.Record{Joined: view})
	}
	for _, name := range []string{"fern", "moss", "moss"} {
		r.Line("fern", time.Second, "notice for "+name)
	}
	broken := r.Broken()
	require.Len(t, broken, 1)
	assert.Equal(t, "2 lines fit for moss, no line fits for oak in the log of fern (expected: exactly 1 of each)", broken[0].Why)
}

// A goal that the server logs, or tells, is to be logged by every client within a second: the same goal.
func TestLinesThatMustComeAfterSomething(t *testing.T) {
	say := func(r *Rules, view string, at float64, text string) { r.Line(view, time.Duration(at*1e9), text) }
	for _, c := range []struct {
		name string
		rule rulebook.LogRule
		mark func(r *Rules)
		want []string
	}{
		{"a line of another program, joined by its number", rulebook.LogRule{Match: `goal (?P<id>\d+) shown`, In: "clients", After: rulebook.Mark{Line: `goal (?P<id>\d+) sent`, In: "server"}},
			func(r *Rules) {
				say(r, "server", 1, "goal 1 sent")
				say(r, "server", 5, "goal 2 sent")
			}, []string{`moss 5s: no line fits in the log of moss within 1s of "goal 2 sent" of server at 5.000 s (expected: at least 1)`}},
		{"an event", rulebook.LogRule{Match: `goal (?P<id>\d+) shown`, In: "clients", After: rulebook.Mark{Event: "goal"}},
			func(r *Rules) {
				r.Record(0, &trace.Record{T: time.Second, Event: "goal", ID: "1"})
				r.Record(0, &trace.Record{T: 5 * time.Second, Event: "goal", ID: "2"})
				r.Record(1, &trace.Record{T: 6 * time.Second, Event: "goal", ID: "3"}) // as a client tells it
			}, []string{`moss 5s: no line fits in the log of moss within 1s of goal id 2 of server at 5.000 s (expected: at least 1)`}},
		{"its own joining", rulebook.LogRule{Match: `goal . shown`, In: "clients", After: rulebook.Mark{Joined: rulebook.Itself}},
			func(r *Rules) {
				r.Record(1, &trace.Record{T: time.Second, Joined: "fern"})
				r.Record(2, &trace.Record{T: 2 * time.Second, Joined: "moss"})
			}, []string{`moss 2s: no line fits in the log of moss within 1s of joining of moss at 2.000 s (expected: at least 1)`}},
		{"who was not there is not asked", rulebook.LogRule{Match: `goal (?P<id>\d+) shown`, In: "clients", After: rulebook.Mark{Event: "goal"}},
			func(r *Rules) {
				r.Record(2, &trace.Record{T: time.Second, Joined: "moss"})
				r.Record(2, &trace.Record{T: 3 * time.Second, Left: "moss"})
				r.Record(0, &trace.Record{T: 5 * time.Second, Event: "goal", ID: "2"})
			}, nil},
		{"nor of what there was no time for", rulebook.LogRule{Match: `goal (?P<id>\d+) shown`, In: "clients", After: rulebook.Mark{Event: "goal"}},
			func(r *Rules) { r.Record(0, &trace.Record{T: 9500 * time.Millisecond, Event: "goal", ID: "7"}) }, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.rule.Within, c.rule.Lines = time.Second, rulebook.Often{Min: 1}
			require.NoError(t, c.rule.Validate())
			r := NewRules([]rulebook.LogRule{c.rule}, []string{"server", "fern", "moss"})
			c.mark(r)
			for _, view := range []string{"fern", "moss"} {
				say(r, view, 1.2, "goal 1 shown")
			}
			say(r, "fern", 5.3, "goal 2 shown")
			say(r, "moss", 5.3, "goal 1 shown")
			say(r, "server", 10, "the end")
			var got []string
			for _, b := range r.Broken() {
				got = append(got, fmt.Sprintf("%s %s: %s", b.View, b.At, b.Why))
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestRulesAboutLogsThatMakeNoSense(t *testing.T) {
	for want, rule := range map[string]rulebook.LogRule{
		"has no group of that name":              {Match: "a", Each: "player", Lines: once()},
		"within: after needs it":                 {Match: "a", After: rulebook.Mark{Event: "goal"}, Lines: once()},
		"within: it goes with after":             {Match: "a", Within: time.Second, Lines: once()},
		"after: write one of line, event":        {Match: "a", After: rulebook.Mark{Event: "goal", Line: "b"}, Within: time.Second, Lines: once()},
		`after: line: "(" is no regular`:         {Match: "a", After: rulebook.Mark{Line: "("}, Within: time.Second, Lines: once()},
		"a group that both have is compared":     {Match: "(?P<x>a)", Each: "x", After: rulebook.Mark{Event: "goal"}, Within: time.Second, Lines: once()},
		"add at-least, at-most or exactly: with": {Match: "a"},
	} {
		assert.ErrorContains(t, rule.Validate(), want)
	}
}
