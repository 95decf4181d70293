package judge

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
