package judge

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/verdict/rulebook"
)

// A game that counts its events from 1 again each round tells nothing twice.
func TestEventIDsMayStartAgainEachRound(t *testing.T) {
	m := newMatch()
	m.more.Events = []rulebook.EventRule{{Event: "goal", MaxDelay: 300 * ms, MinDuration: 300 * ms, Ordered: true}}
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.say(0, 0, `"state":{"dog/fern":{"x":1,"y":1}}`)
	m.every(1, 0.02, 170, 0.1, func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1}}` })
	for round := range 3 {
		for id := range 4 {
			at := 1 + 59.9*float64(round) + float64(id)*12 // just before the last round's are forgotten
			m.say(0, at, fmt.Sprintf(`"event":"goal","id":"%d"`, id+1))
			m.say(1, at+0.4, fmt.Sprintf(`"event":"goal","id":"%d"`, id+1))
		}
	}
	m.views = m.views[:2]
	d := m.judge()
	assert.Empty(t, d.Findings)
	assert.Equal(t, 12, d.Events[0].Views[0].Seen)
}

// Events without ids are told apart by when they come: one that is lost is one that is lost.
func TestEventsWithoutIDsAreMatchedInTheirOrder(t *testing.T) {
	for _, c := range []struct {
		name    string
		arrives func(i int) float64 // how long after it was told the i-th comes; negative: never
		every   float64
		id      func(i int) string
		want    []string
	}{
		{"all come", func(int) float64 { return 0.1 }, 0.25, nil, []string{}},
		{"the fifth of many is lost", func(i int) float64 { return []float64{0.1, -1}[map[bool]int{true: 1}[i == 5]] }, 1, nil, []string{"event-lost 6.00"}},
		{"the fifth of many in a row is lost", func(i int) float64 { return []float64{0.1, -1}[map[bool]int{true: 1}[i == 5]] }, 0.25, nil, []string{"event-lost 2.25"}},
		{"two that are so close that they cross are not out of order: nobody can tell", func(i int) float64 { return []float64{0.1, 0.3}[i%2] }, 0.1, nil, []string{}},
		{"some before the server tells them", func(i int) float64 { return []float64{0.1, -0.1}[i%2] + 0.001 }, 0.3, nil, []string{}},
		{"ids that start again while the last round's are on their way", func(int) float64 { return 0.25 }, 0.1, func(i int) string { return fmt.Sprint(i % 2) }, []string{}},
		{"the same, and one is lost", func(i int) float64 { return []float64{0.25, -1}[map[bool]int{true: 1}[i == 5]] }, 0.2, func(i int) string { return fmt.Sprint(i % 2) }, []string{"event-lost 2.00"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.more.Events = []rulebook.EventRule{{Event: "ping", MaxDelay: 400 * ms, MaxAhead: 400 * ms, MinDuration: 300 * ms, Ordered: true}}
			m.views = m.views[:2]
			m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
			m.every(0, 0, 14, 0.1, func(s float64) string { return position("dog/fern", s, 0) })
			m.every(1, 0.02, 14, 0.1, func(s float64) string { return position("dog/fern", s, 0) })
			for i := range 12 {
				text := `"event":"ping"`
				if c.id != nil {
					text += `,"id":"` + c.id(i) + `"`
				}
				at := 1 + float64(i)*c.every
				m.say(0, at, text)
				if delay := c.arrives(i); delay > -0.5 {
					m.say(1, at+delay, text)
				}
			}
			got := []string{}
			d := m.judge()
			for _, f := range d.Findings {
				got = append(got, fmt.Sprintf("%s %.2f", f.Kind, time.Duration(f.BeganAt).Seconds()))
			}
			assert.Equal(t, c.want, got)
			assert.Equal(t, 12-len(c.want), d.Events[0].Views[0].Seen)
		})
	}
}

// An event that no rule is about is counted where it is told, and never judged.
func TestEventsWithoutARuleAreCounted(t *testing.T) {
	m := newMatch()
	m.views = m.views[:2]
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.every(0, 0, 6, 0.1, func(s float64) string { return position("dog/fern", s, 0) })
	m.every(1, 0.02, 6, 0.1, func(s float64) string { return position("dog/fern", s, 0) })
	for i := range 3 {
		m.say(0, 1+float64(i), fmt.Sprintf(`"event":"wave","id":"%d"`, i))
		if i != 1 {
			m.say(1, 1.1+float64(i), fmt.Sprintf(`"event":"wave","id":"%d"`, i))
		}
	}
	d := m.judge()
	assert.Empty(t, d.Findings)
	assert.Equal(t, []EventViewCount{{View: "fern", Expected: 3, Seen: 2}}, d.Events[0].Views)
}
