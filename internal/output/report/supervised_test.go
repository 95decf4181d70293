package report

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/suggest"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

func written(write func(*Text)) string {
	var out bytes.Buffer
	write(NewText(&out))
	return out.String()
}

func TestWhatIsToBeKnownOfARunOnAVirtualClock(t *testing.T) {
	const timeless = "  on a virtual clock computing takes no time: nothing here tells how long a server takes for its ticks, or a client for its frames\n"
	for name, c := range map[string]struct {
		of   metrics.Supervised
		want string
	}{
		"a run without anything odd": {metrics.Supervised{Jumps: 100}, timeless},
		"what is not virtual":        {metrics.Supervised{Remarks: []string{"the server calls semtimedop"}}, timeless + "  the server calls semtimedop\n"},
		"a wrong jump":               {metrics.Supervised{Wrong: 2}, timeless + "  Timing not reliable: time jumped 2 times while a program was running; play it again, and if that comes again, on the wall clock\n"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, written(func(text *Text) { text.timing(&metrics.Timing{Supervised: &c.of}) }))
		})
	}
}

func TestHowFarABuildRepeated(t *testing.T) {
	for inside, want := range map[string]string{
		"":        "THE SAME MATCH   1,200 lines in 10 files are the same\n",
		"same":    "THE SAME MATCH   1,200 lines in 10 files are the same, and the programs woke and waited in the same order\n",
		"differs": "THE SAME MATCH   1,200 lines in 10 files are the same: all that shows; inside, the programs woke and waited in another order\n",
	} {
		f := &replay.Followed{Clock: plan.Virtual, Same: true, Files: 10, Lines: 1200, Inside: inside}
		assert.Equal(t, want, written(func(text *Text) { text.Followed(f) }))
	}
	f := &replay.Followed{Clock: plan.Virtual, Differs: "what fern said differs from line 3 on", Reads: []string{"server read /proc/self/status"}}
	assert.Equal(t, "NOT THE SAME MATCH   what fern said differs from line 3 on\n  server read /proc/self/status, which is not the same each time\n", written(func(text *Text) { text.Followed(f) }))
}

// A match in which time went on beside a program that computed is no experiment that can be repeated, and says so
// first.
func TestAMatchThatUnrepeatableSaysSoFirst(t *testing.T) {
	why := (&metrics.Supervised{Charged: 1234, Computed: []string{"server"}}).Unrepeatable()
	assert.Equal(t, "this match may not repeat: time went on 1234 times while server computed without waiting", why)
	v := &judge.Verdict{Outcome: judge.InSync, Ending: ending.Ending{How: ending.Complete, Unrepeatable: why}}
	assert.Regexp(t, `^IN SYNC .*\n  note: this match may not repeat: time went on`, written(func(text *Text) { text.Headline(v) }))
	assert.Equal(t, why, played.TriedOf(v).Inconclusive, "so nothing is proved by it")
	v.Outcome, v.Strict = judge.Inconclusive, true
	assert.Equal(t, why, v.NotWell())
}

func TestWhatAMachineAllows(t *testing.T) {
	assert.Equal(t, "yes  a clock: tried\n     for playing\nno   Node: no node is found\n     for an example\n", written(func(text *Text) {
		text.Machine([]match.Ability{{Name: "a clock", Has: true, What: "tried", For: "playing"}, {Name: "Node", What: "no node is found", For: "an example"}})
	}))
}

func TestWhichKnobsToTurn(t *testing.T) {
	a := &suggest.Advice{Findings: 9, Left: []string{"F9"}, Changes: []suggest.Change{
		{Rule: "kite/* x, y", Knob: "max-delay", From: "250ms", To: "820ms", Explains: []string{"F1", "F2", "F3", "F4", "F5", "F6", "F7"}, Of: 7},
		{Rule: "kite/* x, y", Knob: "max-ahead", To: "100ms", Explains: []string{"F1", "F2"}, Of: 7},
		{Rule: "event bark", Knob: "grace", From: "1s", To: "2s", Explains: []string{"F8"}, Of: 1},
	}, Hides: []suggest.Hidden{{Run: "runs/late", Finding: "F1", What: "late: kite x, y"}}}
	assert.Equal(t, `kite/* x, y: 7 findings
     max-delay: 820ms instead of 250ms explains all of them (F1, F2, F3, F4, F5, F6 and 1 more)
  or max-ahead: 100ms; it was not set explains 2 of 7 of them (F1, F2)
event bark: 1 finding
     grace: 2s instead of 1s explains it (F8)
No knob explains F9: that is a mistake, or no rule for it is right.
With the first of each rule the run is still not in sync.
That would hide F1 of runs/late: late: kite x, y
`, written(func(text *Text) { text.Advice(a) }))
	assert.Equal(t, "There is nothing to change: no finding by these rules.\n", written(func(text *Text) { text.Advice(&suggest.Advice{InSync: true}) }))
}
