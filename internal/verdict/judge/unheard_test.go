package judge

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

// cutOff is a match in which moss hears nothing from 5 s on, shows what it had last, and goes on telling it. leaves is what the
// server says of it then; its own packets arrive, but for those of a stretch of time.
func cutOff(leaves string, lostFrom, lostUntil float64) *match {
	m := newMatch()
	m.outcomes = true
	m.say(0, 0, `"joined":"fern","entity":"dog/fern"`)
	m.say(0, 0, `"joined":"moss","entity":"dog/moss"`)
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.say(2, 0, `"joined":"moss","entity":"dog/moss"`)
	world := func(t float64) string {
		return fmt.Sprintf(`"full":true,"state":{"sheep/a":{"x":%.3f,"y":0},"dog/fern":{"x":1,"y":1,"heading":%.1f},"dog/moss":{"x":2,"y":2}}`, 2*t, math.Mod(40*t, 360))
	}
	m.every(0, 0, 25, 0.05, world)
	if leaves != "" {
		m.say(0, 5, leaves)
	}
	m.every(1, 0.1, 25, 0.05, func(t float64) string { return world(t - 0.1) })
	m.every(2, 0.1, 25, 0.05, func(t float64) string { return world(min(t, 5) - 0.1) })
	packet := func(view int, up, lost bool, t float64) {
		sent := time.Duration(t * 1e9)
		o := &link.Outcome{Sent: sent, Size: 40, Copies: 1}
		o.Arrives[0] = sent + 50*ms
		if lost {
			o.Copies = 0
		}
		m.lines = append(m.lines, line{view: view, down: o, up: up})
	}
	for t := 0.0; t < 25; t += 0.05 {
		packet(1, false, false, t)
		packet(1, true, false, t)
		if t < 5 {
			packet(2, false, false, t)
		}
		packet(2, true, t >= lostFrom && t < lostUntil, t)
	}
	return m
}

// Who is out to the server, and is told nothing of it, has to notice: the server hears it and does not answer.
func TestAViewThatIsOutHasToNotice(t *testing.T) {
	gone := `"left":"moss"`
	assert.Equal(t, []string{"moss rejected-but-playing  membership 15.10-24.95 open"}, told(cutOff(gone, 99, 99).judge()))
	assert.Empty(t, told(cutOff(gone, 4, 99).judge()), "the link is cut, so nobody can know")
	assert.Equal(t, []string{"moss rejected-but-playing  membership 20.00-24.95 open"}, told(cutOff(gone, 4, 10).judge()), "it is whole again")
}

// Who is in, and is told nothing any more, shows what is no longer so: that is no matter of the link.
func TestAViewThatIsToldNothingAnyMore(t *testing.T) {
	v := cutOff("", 99, 99).judge()
	require.Len(t, v.Incidents, 1, "whatever comes of it is one: %v", told(v))
	assert.Equal(t, Frozen, v.Incidents[0].Kind)
	assert.Contains(t, told(v), "moss frozen sheep/a x, y 6.50-24.95 open")
	require.NotNil(t, v.Findings[0].Evidence.Silent)
	assert.InDelta(t, 5, time.Duration(*v.Findings[0].Evidence.Silent).Seconds(), 0.001)
	assert.Empty(t, told(cutOff("", 4, 99).judge()), "the link is cut")
}

// To whom the server sends far more seldom than to others is told: what such a view shows may be old, and is not found to be.
func TestAViewThatIsSentLittleIsTold(t *testing.T) {
	for _, c := range []struct {
		name  string
		every float64 // seconds between what is sent to moss; to fern it is 0.05
		told  bool
	}{{"as often", 0.05, false}, {"a third as often", 0.15, false}, {"hardly ever", 2, true}} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.outcomes = true
			m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
			m.say(2, 0, `"joined":"moss","entity":"dog/moss"`)
			for view := range 3 {
				m.every(view, 0.1, 20, 0.05, func(float64) string { return position("dog/fern", 1, 0) })
			}
			for view, every := range []float64{1: 0.05, 2: c.every} {
				for at := 0.0; view > 0 && at < 20; at += every {
					sent := time.Duration(at * 1e9)
					m.lines = append(m.lines, line{view: view, down: &link.Outcome{Sent: sent, Size: 40, Copies: 1, Arrives: [2]time.Duration{sent + 50*ms}}})
				}
			}
			told := slices.ContainsFunc(m.judge().Warnings, func(w Warning) bool {
				return w.Text == "server sends to moss every 2.00 s on average, and to others every 0.05 s; what moss shows may be as old as that, and is not found to be late"
			})
			assert.Equal(t, c.told, told)
		})
	}
}
