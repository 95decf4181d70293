package judge

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A rule with max-ahead asks what the reference could know of a view. Whatever a view
// sends, its values are judged.
func TestAViewIsJudgedHoweverRarelyItSends(t *testing.T) {
	const delay = 0.2
	circle := func(t float64) (x, y float64) { return 10 * math.Cos(t/3), 10 * math.Sin(t/3) }
	for _, row := range []struct {
		name string
		sent func(m *match) // what the view sends
	}{
		{"it sends nothing at all", func(m *match) {}},
		{"it sent its join, and nothing after it", func(m *match) { m.upPacket(1, 0.1, 0.1+delay) }},
		{"it sends every five seconds", func(m *match) {
			for t := 0.1; t < 30; t += 5 {
				m.upPacket(uint64(t*20), t, t+delay)
			}
		}},
		{"it sends all the time", func(m *match) {
			for t := 0.1; t < 30; t += 0.05 {
				m.upPacket(uint64(t*20), t, t+delay)
			}
		}},
	} {
		for _, absurd := range []bool{false, true} {
			t.Run(fmt.Sprint(row.name, ", absurd: ", absurd), func(t *testing.T) {
				m := newMatch()
				m.outcomes = true
				row.sent(m)
				for t := 0.0; t < 30; t += 0.05 {
					m.packet(uint64(t*20), t, t+delay)
				}
				m.say(0, 0, `"joined":"fern","entity":"dog/fern"`)
				m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
				m.every(0, 0, 30, 0.05, func(t float64) string { x, y := circle(t); return position("dog/fern", x, y) })
				m.every(1, 0, 30, 0.05, func(t float64) string {
					x, y := circle(t + 0.15) // it predicts, and the reference has it so when its input has come
					if absurd && t > 10 && t < 28 {
						x, y = 9e9, -4e7
					}
					return position("dog/fern", x, y)
				})
				v := m.judge()
				if !absurd {
					assert.Empty(t, told(v))
					return
				}
				require.Len(t, v.Findings, 1, "%v", told(v))
				assert.InDelta(t, 10, time.Duration(v.Findings[0].BeganAt).Seconds(), 0.2)
				assert.InDelta(t, 28, time.Duration(v.Findings[0].EndedAt).Seconds(), 0.5)
			})
		}
	}
}
