package judge

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/verdict/rulebook"
)

// A server may tell less often than it sends: what stood between two of its records, or came
// at once behind one, is no mistake of a view that shows it.
func TestAReferenceThatTellsSeldom(t *testing.T) {
	state := func(s float64) string {
		n := int(s/0.05 + 1e-6)
		gait := []string{"stand", "walk", "run"}[n/22%3]
		return fmt.Sprintf(`"full":true,"state":{"dog/a":{"x":%.3f,"y":0,"n":%d,"gait":"%s"}}`, 2*s, n, gait)
	}
	for _, c := range []struct {
		name  string
		every float64 // the server tells
		late  float64 // the view shows
		want  []string
	}{
		{"a view that shows each tick at once, of a server that tells every fifth", 0.25, 0, []string{}},
		{"one that shows each tick soon after", 0.25, 0.02, []string{}},
		{"a server that tells once a second", 1, 0.02, []string{}},
		{"one that tells every tick", 0.05, 0.02, []string{}},
		{"a view that shows what the server has a second later", 0.25, -1, []string{"fern differs", "fern differs", "fern differs"}},
		{"a view that is too late", 0.25, 1.2, []string{"fern late", "fern late", "fern late"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules = []rulebook.Rule{
				{Entities: "*/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.05, MaxDelay: 300 * ms, MinDuration: 500 * ms},
				{Entities: "*/*", Fields: []string{"n"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms},
				{Entities: "*/*", Fields: []string{"gait"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms},
			}
			m.every(0, 0, 20, c.every, state)
			m.every(1, 2, 20, 0.05, func(s float64) string { return state(s - c.late) })
			v := m.judge()
			if len(c.want) == 0 {
				assert.Empty(t, told(v))
				return
			}
			subjects := map[string]bool{}
			for _, f := range v.Findings {
				subjects[f.Subject.String()] = true
			}
			assert.Len(t, subjects, 3, "%v", told(v))
		})
	}
}

func TestAValueBetweenTwoOfASparseReferenceMayNotStay(t *testing.T) {
	m := newMatch()
	m.rules = []rulebook.Rule{{Entities: "*/*", Fields: []string{"n"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms}}
	m.every(0, 0, 8, 0.25, func(s float64) string { return fmt.Sprintf(`"state":{"dog/a":{"n":%d}}`, 2*int(s/4)) })
	m.every(1, 2, 8, 0.05, func(s float64) string { return fmt.Sprintf(`"state":{"dog/a":{"n":%d}}`, int(s/4)+min(int(s/4), 0)) })
	v := m.judge()
	assert.Len(t, v.Findings, 1, "%v", told(v))
}

// A view may tell seldom as well: what it showed between two of its records nobody knows. What it
// tells is judged, and so is its silence when it lasts longer than usual.
func TestAViewThatTellsSeldom(t *testing.T) {
	state := func(s float64) string {
		return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":0,"hour":%d}}`, 2*s, int(s/3.1))
	}
	for _, c := range []struct {
		name string
		play func(m *match)
		want []string
	}{
		{"once a second, of a server that tells 20 times a second", func(m *match) {
			m.every(1, 2.01, 20, 1, func(s float64) string { return state(s - 0.1) })
		}, []string{}},
		{"twice a second", func(m *match) {
			m.every(1, 2.01, 20, 0.5, func(s float64) string { return state(s - 0.1) })
		}, []string{}},
		{"once a second, and in the wrong place from 10 s on", func(m *match) {
			m.every(1, 2.01, 20, 1, func(s float64) string {
				if s > 10 {
					return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":5,"hour":%d}}`, 2*(s-0.1), int((s-0.1)/3.1))
				}
				return state(s - 0.1)
			})
		}, []string{"fern offset dog/a x, y 10.01-19.95 open"}},
		{"once a second, and then not at all", func(m *match) {
			m.every(1, 2.01, 9, 1, func(s float64) string { return state(s - 0.1) })
		}, []string{"fern frozen dog/a x, y 8.23-19.95 open", "fern frozen dog/a hour 9.65-19.95 open"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules = []rulebook.Rule{
				{Entities: "*/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.05, MaxDelay: 300 * ms, MinDuration: 500 * ms},
				{Entities: "*/*", Fields: []string{"hour"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms},
			}
			m.every(0, 0, 20, 0.05, state)
			c.play(m)
			assert.Equal(t, c.want, told(m.judge()))
		})
	}
}

// A view that tells its state seldom and lets an entity go: what it showed of it between its last record and the one
// without it, it did not tell.
func TestAnEntityIsNotHeldUntilTheRecordThatLacksIt(t *testing.T) {
	for name, goes := range map[string]string{"despawned": `"despawned":["dog/a"]`, "no longer in a whole picture": `"full":true,"state":{"gate/n":{"open":true}}`} {
		t.Run(name, func(t *testing.T) {
			m := newMatch()
			m.views = m.views[:2]
			way := func(t float64) string { return merged(position("dog/a", 6*t, 0), field("gate/n", "open", "true")) }
			m.every(0, 0, 10.15, 0.05, func(t float64) string { return `"full":true,` + way(t) })
			m.every(0, 10.15, 14, 0.05, func(t float64) string { return `"full":true,` + field("gate/n", "open", "true") })
			m.every(1, 0.3, 9.3, 0.9, func(t float64) string { return `"full":true,` + way(t-0.02) })
			m.say(1, 10.2, goes)
			m.every(1, 11.1, 14, 0.9, func(t float64) string { return `"full":true,` + field("gate/n", "open", "true") })
			assert.Empty(t, told(m.judge()))
		})
	}
}
