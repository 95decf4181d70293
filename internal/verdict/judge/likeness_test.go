package judge

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnEntityThatOnlyTheViewHasMayBeAnother(t *testing.T) {
	for _, c := range []struct {
		name string
		play func(m *match)
		kind Kind
		like string
	}{
		{"once more", func(m *match) {
			m.every(1, 1, 9, 0.05, func(s float64) string {
				x, y := winding(s)
				return `"full":true,` + merged(position("dog/a", x, y), position("dog/z", x, y))
			})
		}, DuplicateEntity, "dog/a"},
		{"under another id", func(m *match) {
			m.every(1, 1, 9, 0.05, func(s float64) string { x, y := winding(s); return `"full":true,` + position("dog/z", x, y) })
		}, OtherID, "dog/a"},
		{"somewhere else", func(m *match) {
			m.every(1, 1, 9, 0.05, func(s float64) string {
				x, y := winding(s)
				return `"full":true,` + merged(position("dog/a", x, y), position("dog/z", x+9, y))
			})
		}, Ghost, ""},
		{"of another sort", func(m *match) {
			m.every(1, 1, 9, 0.05, func(s float64) string {
				x, y := winding(s)
				return `"full":true,` + merged(position("dog/a", x, y), position("cat/z", x, y))
			})
		}, Ghost, ""},
		{"that rests beside it", func(m *match) {
			m.lines = nil
			m.every(0, 0, 9, 0.05, func(float64) string { return position("dog/a", 3, 4) })
			m.every(1, 1, 9, 0.05, func(float64) string {
				return `"full":true,` + merged(position("dog/a", 3, 4), position("dog/z", 3, 4))
			})
		}, Ghost, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.views = m.views[:2]
			m.every(0, 0, 9, 0.05, func(s float64) string { x, y := winding(s); return position("dog/a", x, y) })
			c.play(m)
			v := m.judge()
			for _, in := range v.Incidents {
				for _, f := range v.Findings {
					if f.ID == in.Head {
						assert.Equal(t, c.kind, f.Kind)
						assert.Equal(t, c.like, f.Like)
					}
				}
			}
			assert.Len(t, v.Incidents, 1, "%v", told(v))
		})
	}
}

// merged is two states in one.
func merged(a, b string) string {
	return a[:len(a)-1] + "," + b[len(`"state":{`):]
}

// Two of a sort whose ids have been exchanged on their way: each goes where the other is.
func TestEntitiesThatAreTakenForEachOther(t *testing.T) {
	m := newMatch()
	m.views = m.views[:2]
	other := func(t float64) (x, y float64) { return 15 * math.Cos(t/2), -9 + 8*math.Sin(0.9*t) }
	m.every(0, 0, 12, 0.05, func(s float64) string {
		x, y := winding(s)
		u, v := other(s)
		return merged(position("dog/a", x, y), position("dog/b", u, v))
	})
	m.every(1, 1, 12, 0.05, func(s float64) string {
		x, y := winding(s - 0.1)
		u, v := other(s - 0.1)
		if s > 5 {
			x, y, u, v = u, v, x, y
		}
		return `"full":true,` + merged(position("dog/a", x, y), position("dog/b", u, v))
	})
	v := m.judge()
	require.Len(t, v.Findings, 2, "%v", told(v))
	for _, f := range v.Findings {
		assert.Equal(t, OtherID, f.Kind, f.Why)
	}
	assert.Equal(t, "it goes wherever dog/b goes: the one is taken for the other", v.Findings[0].Why)
	assert.Equal(t, "dog/b", v.Findings[0].Like)
	assert.Len(t, v.Incidents, 1)
}
