package judge

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/verdict/rulebook"
)

// circling is a match of 16 s in which moss shows a sheep that walks in a circle as shown says.
func circling(shown func(t float64, place func(t float64) (x, y float64)) (x, y float64)) *match {
	m := newMatch()
	m.views = []string{"server", "moss"}
	place := func(t float64) (x, y float64) {
		sin, cos := math.Sincos(t / 2)
		return 20 * cos, 20 * sin
	}
	m.every(0, 0, 16, 0.05, func(t float64) string {
		x, y := place(t)
		return position("sheep/s1", x, y)
	})
	m.every(1, 2, 16, 0.05, func(t float64) string {
		x, y := shown(t, place)
		return position("sheep/s1", x, y)
	})
	return m
}

func between(t, from, to float64) bool { return t >= from && t < to }

func TestTheKnobThatWouldExplainAFindingIsTold(t *testing.T) {
	type placing = func(t float64, place func(t float64) (x, y float64)) (x, y float64)
	late := func(by, from, to float64) placing {
		return func(t float64, place func(t float64) (x, y float64)) (x, y float64) {
			if between(t, from, to) {
				return place(t - by)
			}
			return place(t - 0.1)
		}
	}
	beside := func(by, from, to float64) placing {
		return func(t float64, place func(t float64) (x, y float64)) (x, y float64) {
			x, y = place(t - 0.1)
			if between(t, from, to) {
				// Outwards, where no other moment of the circle is nearer.
				r := math.Hypot(x, y)
				x, y = x*(1+by/r), y*(1+by/r)
			}
			return x, y
		}
	}
	for _, c := range []struct {
		what       string
		shown      placing
		knob       string
		least, top float64
	}{
		{"0.8 s late all the time: max-delay", late(0.8, 0, 20), "max-delay", 0.7, 0.9},
		{"0.45 s late: max-delay", late(0.45, 0, 20), "max-delay", 0.36, 0.55},
		{"5 s late: none", late(5, 0, 20), "", 0, 0},
		{"a metre beside the way for 3 s: tolerance", beside(1, 8, 11), "tolerance", 0.9, 1.2},
		{"12 m beside the way for 1.2 s: min-duration", beside(12, 8, 9.2), "min-duration", 1, 1.5},
		{"12 m beside the way for 8 s: none", beside(12, 8, 16), "", 0, 0},
		{"12 m beside the way until the end: none", beside(12, 8, 20), "", 0, 0},
	} {
		t.Run(c.what, func(t *testing.T) {
			v := circling(c.shown).judge()
			require.NotEmpty(t, v.Incidents)
			k := v.Incidents[0].Knob
			require.NotNil(t, k)
			assert.Equal(t, "*/* x, y", k.Rule)
			assert.Equal(t, c.knob, k.Name)
			assert.LessOrEqual(t, c.least, k.To)
			assert.GreaterOrEqual(t, c.top, k.To)
			if c.knob != "" {
				assert.Equal(t, k.Of, k.Explains)
			}
		})
	}
	m := newMatch()
	m.every(0, 0, 10, 0.05, func(t float64) string { return fmt.Sprintf(`"state":{"gate/g":{"open":%v}}`, between(t, 4, 7)) })
	m.every(1, 1, 10, 0.05, func(t float64) string { return fmt.Sprintf(`"state":{"gate/g":{"open":%v}}`, between(t, 5.1, 7)) })
	v := m.judge()
	require.NotEmpty(t, v.Incidents)
	assert.Equal(t, &Knob{Rule: "*/* open", Name: "max-delay", From: 0.3, To: 1.21, Explains: 1, Of: 1}, v.Incidents[0].Knob, "the gate opens 1.1 s late")
	assert.InDelta(t, 1.15, time.Duration(v.Findings[0].Knobs.MaxDelay).Seconds(), 0.1)
}

// Whatever the mistake: judged again with a knob turned as far as a finding says, that finding is gone.
// (A longer min-duration also joins stretches that are apart, so of that it is no promise.)
func TestAKnobThatIsToldDoes(t *testing.T) {
	turned := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		by := rapid.Float64Range(0.35, 1.5).Draw(t, "late")
		off := rapid.Float64Range(0, 3).Draw(t, "off")
		from := rapid.Float64Range(3, 10).Draw(t, "from")
		length := rapid.Float64Range(0.3, 4).Draw(t, "length")
		m := circling(func(t float64, place func(t float64) (x, y float64)) (x, y float64) {
			if between(t, from, from+length) {
				x, y = place(t - by)
				return x + off, y
			}
			return place(t - 0.1)
		})
		v := m.judge()
		for _, f := range v.Findings {
			for name, set := range map[string]func(r *rulebook.Rule) bool{
				"max-delay": func(r *rulebook.Rule) bool { r.MaxDelay = time.Duration(f.Knobs.MaxDelay); return r.MaxDelay > 0 },
				"tolerance": func(r *rulebook.Rule) bool { r.Tolerance = f.Knobs.Tolerance; return r.Tolerance > 0 },
			} {
				wider := slices.Clone(rules)
				if !set(&wider[1]) {
					continue
				}
				turned[name]++
				m.rules = wider
				for _, g := range m.judge().Findings {
					if g.Subject == f.Subject && g.BeganAt <= f.EndedAt && f.BeganAt <= g.EndedAt {
						t.Fatalf("%s as told, %+v, and it is still there: %s after %s", name, f.Knobs, g.Kind, f.Kind)
					}
				}
			}
		}
	})
	for _, name := range []string{"max-delay", "tolerance"} {
		assert.Positive(t, turned[name], name)
	}
}
