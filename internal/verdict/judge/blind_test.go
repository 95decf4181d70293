package judge

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestAServerThatTellsItsStateMoreRarelyThanItSendsIsTold(t *testing.T) {
	const told = "server sends to fern every 50ms and tells its state every 100ms; let it tell its state each time that it sends, or what moves in between is judged less exactly"
	for _, c := range []struct {
		what         string
		sends, tells float64
		warned       bool
	}{
		{"as often", 0.1, 0.1, false},
		{"half as often", 0.05, 0.1, true},
		{"more often than it sends", 0.1, 0.05, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			m := newMatch()
			m.outcomes, m.views = true, []string{"server", "fern"}
			m.every(0, 0, 8, c.tells, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.every(1, 1, 8, 0.1, func(t float64) string { return position("dog/a", 2*(t-0.1), 0) })
			number := uint64(0)
			for at := 0.0; at < 8; at += c.sends {
				for range 2 { // what it sends at once counts once
					number++
					m.packet(number, at, at+0.05)
				}
			}
			var texts []string
			for _, w := range m.judge().Warnings {
				if w.Rule == "" && w.Event == "" {
					texts = append(texts, w.Text)
					assert.False(t, w.Grave)
				}
			}
			if c.warned {
				assert.Contains(t, texts, told)
			} else {
				assert.Empty(t, texts)
			}
		})
	}
}

func TestWhatIsTooShortToBeSeenIsTold(t *testing.T) {
	m := newMatch()
	m.every(0, 0, 8, 0.1, func(t float64) string { return position("dog/a", 2*t, 0) })
	m.every(1, 1, 8, 0.1, func(t float64) string { return position("dog/a", 2*(t-0.1), 0) })
	for _, r := range m.judge().Rules {
		if r.Fields == "x, y" && r.Of == "any" {
			assert.Equal(t, 600*ms, time.Duration(r.WrongFor), "min-duration, and the time between two records")
			assert.Equal(t, 900*ms, time.Duration(r.LateBy), "and max-delay")
			assert.InDelta(t, 100, r.Age.Median, 10)
			assert.Len(t, r.AgeBars, ageBars+1)
		}
	}
}
