package judge

import (
	"fmt"
	"testing"

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
