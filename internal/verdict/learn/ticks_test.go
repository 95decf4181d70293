package learn

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// rounds lets a game of ticks go for 300 ticks; told is what a view says of each, by its number.
func rounds(t *testing.T, server, fern func(tick int) string) *Lesson {
	m := match{NewMatch(trace.NewNames(), []string{"server", "fern"}), t}
	m.ByTicks()
	m.say(1, 0, `"tick":0,"joined":"fern","entity":"wain/fern"`)
	for tick := range 300 {
		at := float64(tick) / 20
		m.say(0, at, fmt.Sprintf(`"tick":%d,"state":{"wain/fern":{%s}}`, tick, server(tick)))
		// The view is late by the clock, and guesses two ticks ahead of what it tells for certain.
		for _, guess := range []int{2, 1} {
			m.say(1, at+0.3, fmt.Sprintf(`"tick":%d,"state":{"wain/fern":{"x":-7,"y":%d,"load":99}}`, tick+guess, guess))
		}
		m.say(1, at+0.3, fmt.Sprintf(`"tick":%d,"state":{"wain/fern":{%s}}`, tick, fern(tick)))
	}
	return Learn([]*Match{m.Match})
}

func wain(tick int, precision int) string {
	return fmt.Sprintf(`"x":%.*f,"y":%.*f,"load":%d`, precision, 10*math.Sin(float64(tick)/9), precision, 10*math.Cos(float64(tick)/7), tick/20)
}

// What counts is a view's last word on each tick, and nothing is late.
func TestRulesOfTicksAreLearnedAtEqualTicks(t *testing.T) {
	exact := func(tick int) string { return wain(tick, 3) }
	for _, c := range []struct {
		name            string
		fern            func(tick int) string
		tolerance, most float64
		suspicious      string
	}{
		{"the same at each tick", exact, 0, 0, ""},
		{"rounded on the way", func(tick int) string { return wain(tick, 1) }, 0.05, 0.2, ""},
		{"wrong at a few", func(tick int) string { return wain(tick+5*(tick%10/9), 3) }, 0, 0, "are not the server's"},
	} {
		l := rounds(t, exact, c.fern)
		place := find(t, l, "x, y")
		assert.GreaterOrEqual(t, place.Tolerance, c.tolerance, c.name)
		assert.LessOrEqual(t, place.Tolerance, c.most, c.name)
		assert.Equal(t, rulebook.Everyone, place.SeenBy, c.name)
		assert.Equal(t, rulebook.DefaultMaxDelay, place.MaxDelay, "it plays no part")
		if text := strings.Join(place.Why, " "); c.suspicious == "" {
			assert.NotContains(t, text, "SUSPICIOUS", c.name)
		} else {
			assert.Contains(t, text, c.suspicious, c.name)
		}
		for _, r := range l.Rules {
			assert.NoError(t, r.Validate())
			assert.NotContains(t, strings.Join(r.Why, " "), " s (", "nothing is told of lateness")
		}
	}
}

func TestWhatNeverAgreesAtItsTickIsSuspicious(t *testing.T) {
	exact := func(tick int) string { return wain(tick, 3) }
	place := find(t, rounds(t, exact, func(tick int) string { return wain(3*tick+50, 3) }), "x, y")
	assert.Contains(t, strings.Join(place.Why, " "), "280 of 280 are not the server's")
	assert.Zero(t, place.Tolerance)
}

// Going back takes back what was told of later ticks, and the values stay.
func TestGoingBackTakesBack(t *testing.T) {
	m := NewMatch(trace.NewNames(), []string{"server", "fern"})
	m.ByTicks()
	say := match{m, t}
	for _, line := range []string{`"tick":1,"state":{"a/1":{"v":1}}`, `"tick":2,"state":{"a/1":{"v":2}}`, `"tick":3,"state":{"a/1":{"v":3}}`, `"tick":2`, `"tick":3,"state":{"a/1":{"v":4}}`} {
		say.say(1, 0.1, line)
	}
	v := m.views[1]
	c := v.courses[place{m.names.Entity("a/1"), m.names.Field("v")}]
	var had []float64
	for tick := range 4 {
		had = append(had, c.at(time.Duration(tick)*tickSpan).Float())
	}
	assert.True(t, math.IsNaN(had[0]))
	assert.Equal(t, []float64{1, 3, 4}, had[1:], "at tick 2 the value stays that was told last")
	assert.Equal(t, 2*tickSpan, v.deepest)
}

// A game whose ticks start again has not gone back: its last round is learned from.
func TestTicksThatStartAgainAreAnotherRound(t *testing.T) {
	m := match{NewMatch(trace.NewNames(), []string{"server", "fern"}), t}
	m.ByTicks()
	m.say(1, 0, `"tick":0,"joined":"fern","entity":"wain/fern"`)
	for n := range 400 {
		tick := n % 200
		for view := range 2 {
			m.say(view, float64(n)/20, fmt.Sprintf(`"tick":%d,"state":{"wain/fern":{%s}}`, tick, wain(tick, 3)))
		}
	}
	assert.Zero(t, m.views[1].deepest)
	place := find(t, Learn([]*Match{m.Match}), "x, y")
	assert.Contains(t, place.Why[0], "samples at equal ticks")
}
