package judge

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/verdict/rulebook"
)

// tickRules compares positions, a text, a checksum and existence.
var tickRules = []rulebook.Rule{
	{Entities: "unit/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.01},
	{Entities: "unit/*", Fields: []string{"task"}},
	{Entities: "unit/*", Fields: []string{"facing"}, Compare: rulebook.Angle, Circle: 360},
	{Entities: "match/*", Fields: []string{"checksum"}},
	{Entities: "*/*", Fields: []string{rulebook.Existence}, Grace: time.Second},
}

func newTickMatch(views ...string) *match {
	m := newMatch()
	m.ticks, m.rules = true, tickRules
	m.views = append([]string{"server"}, views...)
	return m
}

// Any trace held against itself is in sync.
func TestATraceAgreesWithItselfTickByTick(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newTickMatch("fern")
		tick, at := int64(0), 0.0
		pick := func(what string, of ...string) string { return rapid.SampledFrom(of).Draw(t, what) }
		for range rapid.IntRange(1, 60).Draw(t, "lines") {
			at += rapid.SampledFrom([]float64{0, 0.05, 0.05, 0.4, 7}).Draw(t, "wait")
			tick += rapid.SampledFrom([]int64{0, 1, 1, 1, 2, 40, -1, -3, -1000, 1_000_000_000}).Draw(t, "step")
			var words []string
			if rapid.IntRange(0, 9).Draw(t, "ticked") > 0 {
				words = append(words, fmt.Sprintf(`"tick":%d`, tick))
			}
			if rapid.Bool().Draw(t, "says") {
				var entities []string
				for _, id := range []string{"unit/a", "unit/b", "match/m"} {
					if rapid.Bool().Draw(t, "names") {
						entities = append(entities, fmt.Sprintf(`"%s":{"x":%s,"y":%d,"facing":%s,"task":%s,"checksum":%s}`, id, pick("x", "1", "1.5", "null", `"NaN"`, "1e300"),
							rapid.IntRange(-3, 3).Draw(t, "y"), pick("facing", "10", "350", "-720.5", `"Infinity"`), pick("task", `"dig"`, "true", "3"), pick("checksum", `"af"`, "7", "null")))
					}
				}
				words = append(words, `"state":{`+strings.Join(entities, ",")+`}`)
				if rapid.IntRange(0, 3).Draw(t, "full") == 0 {
					words = append(words, `"full":true`)
				}
			}
			switch rapid.IntRange(0, 12).Draw(t, "more") {
			case 0:
				words = append(words, `"joined":"fern","entity":"unit/a"`)
			case 1:
				words = append(words, `"left":"fern"`)
			case 2:
				words = append(words, `"despawned":["unit/b"]`)
			}
			if len(words) == 0 {
				continue
			}
			t.Logf("%.2f %s", at, strings.Join(words, ","))
			for view := range 2 {
				m.say(view, at, strings.Join(words, ","))
			}
		}
		if v := m.judge(); len(v.Findings) > 0 {
			t.Fatalf("%v", told(v))
		}
	})
}

// play lets the server tell every tick from 0 to last, 20 a second, and views what of makes
// of each; "" tells nothing.
func (m *match) play(last int, of ...func(tick int) string) {
	for tick := 0; tick <= last; tick++ {
		at := float64(tick) / 20
		m.say(0, at, fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(tick, tick)))
		for i, of := range of {
			if text := of(tick); text != "" {
				m.say(i+1, at, text)
			}
		}
	}
}

// unitAt is a state in which the unit is where it should be at a tick, with a checksum.
func unitAt(x, sum int) string {
	return fmt.Sprintf(`"state":{"unit/a":{"x":%d,"y":0,"task":"dig","facing":%d},"match/m":{"checksum":"%x"}}`, x, x%360, sum*7919)
}

func tickLineOf(tick int) string { return fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(tick, tick)) }

func TestWhatTicksTell(t *testing.T) {
	const last = 400
	for _, row := range []struct {
		name string
		view func(tick int) string
		want []string
	}{
		{"a view that tells every tick", tickLineOf, nil},
		{"a view that tells every seventh", func(tick int) string {
			if tick%7 != 0 {
				return ""
			}
			return tickLineOf(tick)
		}, nil},
		{"a view that runs ahead", func(tick int) string { return tickLineOf(tick + 30) }, nil},
		{"a view that falls behind", func(tick int) string { return tickLineOf(tick / 2) }, nil},
		{"a view that stalls and catches up", func(tick int) string {
			if tick > 100 && tick < 200 {
				return ""
			}
			return tickLineOf(tick)
		}, nil},
		{"a view that leaves", func(tick int) string {
			switch {
			case tick == 0:
				return `"joined":"fern","entity":"unit/a",` + tickLineOf(0)
			case tick == 150:
				return `"left":"fern",` + tickLineOf(150)
			case tick > 150:
				return ""
			}
			return tickLineOf(tick)
		}, nil},
		{"a view that leaves, comes back, and had it wrong while it was out", func(tick int) string {
			switch {
			case tick == 150:
				return `"left":"fern",` + tickLineOf(150)
			case tick == 250:
				return `"joined":"fern",` + tickLineOf(250)
			case tick > 150 && tick < 250:
				return fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(-1, -1))
			}
			return tickLineOf(tick)
		}, nil},
		{"a predicted tick that is told again", func(tick int) string {
			if tick%20 == 10 { // three wrong ones, then the right word on them
				return fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(tick+5, tick+5))
			}
			if tick%20 == 11 {
				return tickLineOf(tick - 1)
			}
			return tickLineOf(tick)
		}, nil},
		{"a view that stops telling", func(tick int) string {
			if tick > 200 {
				return ""
			}
			return tickLineOf(tick)
		}, []string{"fern frozen  ticks 10.00-20.00 open"}},
		{"a unit that goes wrong for good", func(tick int) string {
			if tick < 120 {
				return tickLineOf(tick)
			}
			return fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(tick+1, tick+1))
		}, []string{"fern offset unit/a x, y 6.00-20.00 open", "fern offset unit/a facing 6.00-20.00 open", "fern checksum match/m checksum 6.00-20.00 open"}},
		{"one wrong tick", func(tick int) string {
			if tick == 120 {
				return fmt.Sprintf(`"tick":%d,%s`, tick, unitAt(tick, tick+1))
			}
			return tickLineOf(tick)
		}, []string{"fern checksum match/m checksum 6.00-6.00 healed"}},
		{"a unit that never came", func(tick int) string {
			return fmt.Sprintf(`"tick":%d,"state":{"match/m":{"checksum":"%x"}}`, tick, tick*7919)
		}, []string{"fern missing unit/a existence 0.00-20.00 open"}},
		{"a unit that comes a little after joining", func(tick int) string {
			if tick < 10 {
				return fmt.Sprintf(`"tick":%d,"state":{"match/m":{"checksum":"%x"}}`, tick, tick*7919)
			}
			return tickLineOf(tick)
		}, nil},
	} {
		t.Run(row.name, func(t *testing.T) {
			m := newTickMatch("fern")
			m.play(last, row.view)
			v := m.judge()
			assert.ElementsMatch(t, row.want, told(v))
			for _, w := range v.Warnings {
				assert.NotEmpty(t, w.Rule, w.Text)
			}
			if row.want != nil {
				require.Len(t, v.Incidents, 1, "one divergence is one incident")
			}
			r := v.Views[0].Ticks
			assert.Equal(t, r.Told, r.Compared+r.Beyond+r.Untold+r.Guessed)
			assert.Greater(t, r.Compared, 40)
		})
	}
}

func TestTicksThatCannotBeComparedAreCounted(t *testing.T) {
	m := newTickMatch("fern")
	for tick := range 200 {
		if tick%2 == 0 && tick < 160 {
			m.say(0, float64(tick)/20, tickLineOf(tick))
		}
		m.say(1, float64(tick)/20, tickLineOf(tick))
	}
	v := m.judge()
	assert.Empty(t, v.Findings)
	r := v.Views[0].Ticks
	assert.Equal(t, []int{200, 80, 41, 79}, []int{r.Told, r.Compared, r.Beyond, r.Untold})
	require.Len(t, v.Warnings, 1)
	assert.Equal(t, "only 80 of 200 ticks of fern could be compared; the reference did not tell 79 of them, and 41 lie after its last", v.Warnings[0].Text)
	assert.Equal(t, InSync, v.Outcome)
}

func TestViewsWithoutCommonTicksAreNotInSync(t *testing.T) {
	for want, line := range map[string]string{
		"fern and the reference have no tick in common: it told 5000 to 5019, the reference up to 19": `"tick":%d,"state":{"unit/a":{"x":1}}`,
		"fern told no tick, so nothing of it could be compared":                                       `"seq":%d,"state":{"unit/a":{"x":1}}`,
	} {
		m := newTickMatch("fern")
		for tick := range 20 {
			m.say(0, float64(tick)/20, tickLineOf(tick))
			m.say(1, float64(tick)/20, fmt.Sprintf(line, tick+5000))
		}
		v := m.judge()
		assert.Empty(t, told(v))
		assert.NotEqual(t, InSync, v.Outcome)
		require.NotEmpty(t, v.Warnings)
		assert.Equal(t, want, v.Warnings[0].Text)
	}
}

func TestRollbacksAreMeasured(t *testing.T) {
	m := newTickMatch("fern")
	for tick := range 1200 { // a minute: every second the last four ticks are told anew
		m.say(0, float64(tick)/20, tickLineOf(tick))
		if tick%20 == 19 {
			for again := tick - 4; again < tick; again++ {
				m.say(1, float64(tick)/20, tickLineOf(again))
			}
		}
		m.say(1, float64(tick)/20, tickLineOf(tick))
	}
	v := m.judge()
	assert.Empty(t, told(v))
	r := v.Views[0].Ticks
	assert.Equal(t, 60, r.Rollbacks)
	assert.Equal(t, int64(4), r.Deepest)
	assert.InDelta(t, 60, r.PerMinute, 0.1)
	assert.InDelta(t, 20, r.PerSecond, 0.1)
	assert.Equal(t, []int{1196, 4}, []int{r.Compared, r.Guessed}, "at the end it had no time to go back")
}

// What a view that rolls back told last may be predictions.
func TestTheLastPredictionsAreNotJudged(t *testing.T) {
	for _, leaves := range []bool{true, false} {
		m := newTickMatch("fern")
		for tick := range 400 {
			at := float64(tick) / 20
			m.say(0, at, tickLineOf(tick))
			if tick > 300 && leaves {
				continue
			}
			m.say(1, at, tickLineOf(max(0, tick-5))) // it is certain of it
			for guess := tick - 4; guess < tick; guess++ {
				if guess >= 0 {
					m.say(1, at, fmt.Sprintf(`"tick":%d,%s`, guess, unitAt(guess+7, guess+7)))
				}
			}
			if tick == 300 && leaves {
				m.say(1, at, `"left":"fern"`)
			}
		}
		assert.Empty(t, told(m.judge()))
	}
}

// Ticks that start again are another round, compared with the reference's same round.
func TestTicksMayStartAgain(t *testing.T) {
	for _, wrong := range []int{-1, 0, 1} { // no round, the first, the second
		m := newTickMatch("fern")
		for round := range 2 {
			for tick := range 200 {
				at := float64(round*200+tick) / 20
				m.say(0, at, tickLineOf(tick))
				if round == wrong && tick == 100 {
					m.say(1, at, fmt.Sprintf(`"tick":100,%s`, unitAt(7, 100)))
				} else {
					m.say(1, at, tickLineOf(tick))
				}
			}
		}
		v := m.judge()
		if wrong < 0 {
			assert.Empty(t, told(v))
			assert.Equal(t, 400, v.Views[0].Ticks.Compared)
			continue
		}
		require.Len(t, v.Findings, 2, "%v", told(v))
		assert.Equal(t, Seconds(wrong*10+5)*Seconds(time.Second), v.Findings[0].BeganAt)
	}
}
