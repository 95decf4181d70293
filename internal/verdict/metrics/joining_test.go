package metrics

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

func TestHowLongItTakesToGetIn(t *testing.T) {
	d := newDesk()
	world := `"full":true,"state":{"dog/moss":{"x":0,"y":0},"sheep/a":{"x":1,"y":1},"sheep/b":{"x":2,"y":2},"sheep/c":{"x":3,"y":3}}`
	d.say(0, 0, world)
	d.say(2, 1.0, `"checkpoint":"asks to join"`)
	d.say(2, 1.2, `"joined":"moss","entity":"dog/moss"`)
	d.say(2, 1.3, `"state":{"dog/moss":{"x":0,"y":0},"sheep/a":{"x":1,"y":1}}`)
	d.say(2, 1.5, `"state":{"dog/moss":{"x":0.5,"y":0}}`)
	d.say(0, 1.6, `"state":{"sheep/late":{"x":3,"y":3}}`) // nobody could have been told of it before
	d.say(2, 2.0, `"state":{"sheep/b":{"x":2,"y":2}}`)
	d.say(2, 2.9, `"state":{"sheep/late":{"x":3,"y":3}}`)
	d.say(2, 20, `"state":{"dog/moss":{"x":0.6,"y":0}}`) // sheep/c never came
	m := d.c.Finish(nil)
	j := m.Views[1].Joining
	require.NotNil(t, j)
	assert.Equal(t, []float64{300, 500, 800}, []float64{j.Shown.Max, j.Moves.Max, j.Complete.Max})
	assert.Equal(t, map[string]float64{"dog": 100, "sheep": 800}, j.Kinds)
	assert.Equal(t, "sheep/b", j.Last)
	assert.Equal(t, 1, j.Lacking)
	assert.Nil(t, m.Views[0].Joining)
	assert.InDelta(t, 800, m.Worst()["join-complete-ms"], 1e-9)
}

// What is only seen from near is not waited for.
func TestWhatNotEverybodySeesIsNoPartOfAJoin(t *testing.T) {
	d := newDesk()
	d.c.rules = append(d.c.rules, rulebook.Rule{Entities: "tree/*", Fields: []string{rulebook.Existence}, SeenBy: rulebook.InRange})
	d.say(0, 0, `"full":true,"state":{"sheep/a":{"x":1,"y":1},"tree/far":{"x":99,"y":1}}`)
	d.say(1, 1, `"joined":"fern","entity":"dog/fern"`)
	d.say(1, 1.1, `"state":{"sheep/a":{"x":1,"y":1}}`)
	d.say(1, 8, `"state":{"tree/far":{"x":99,"y":1}}`)
	j := d.c.Finish(nil).Views[0].Joining
	assert.InDelta(t, 100, j.Complete.Max, 1e-9)
	assert.Zero(t, j.Lacking)
}

func TestTrafficByWhatAPlayerDoes(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	number := uint64(0)
	send := func(at float64, size int) {
		number++
		d.c.Packet(1, link.Packet{Direction: link.Up, Outcome: link.Outcome{Number: number, Sent: time.Duration(at * 1e9), Size: size, Copies: 1}})
	}
	for i := range 120 { // 3 s of joining, 4 s of walking, 5 s of standing
		at := float64(i) / 10
		switch {
		case at < 3:
			send(at, 300)
		case at < 7:
			d.say(1, at, fmt.Sprintf(`"state":{"dog/fern":{"x":%f,"y":0}}`, at))
			send(at+0.01, 100)
		default:
			d.say(1, at, `"state":{"dog/fern":{"x":6.9,"y":0}}`)
			if i%10 == 0 && at > 7.6 {
				send(at+0.01, 40)
			}
		}
	}
	p := d.c.Finish(nil).Views[0].Phases
	require.NotNil(t, p)
	assert.InDelta(t, 3000, p.Joining.Up, 150)
	assert.InDelta(t, 900, p.Moving.Up, 100)
	assert.InDelta(t, 40, p.Idle.Up, 12)
	assert.InDelta(t, 4.5, p.Idle.Seconds, 0.3)
	assert.Zero(t, p.Idle.Down)
}

func TestWhatIsShownBesideWhatCameAndWhatIsPredicted(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for i := range 20 {
		d.say(1, float64(i)/10, fmt.Sprintf(`"state":{"dog/fern":{"x":%d,"y":0},"dog/moss":{"x":7,"y":0}},"received":{"dog/fern":{"x":%d,"y":0},"dog/moss":{"x":9,"y":0}},"predicted":{"dog/fern":{"x":%d.5,"y":0}}`, i, i-3, i))
	}
	l := d.c.Finish(nil).Views[0].Layers
	require.NotNil(t, l)
	assert.InDelta(t, 3.5, l.Predicted.Median, 1e-9)
	assert.InDelta(t, 0.5, l.Smoothed.Median, 1e-9)
	assert.InDelta(t, 2, l.Delayed.Median, 1e-9)
	assert.Nil(t, d.c.Finish(nil).Views[1].Layers)
}

// A server that is slow with many says so, and after whose joining it stood still.
func TestWhatTicksTakeByHowManyPlay(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	at, tick := 0.0, 0
	steps := func(n int, every float64) {
		for range n {
			at, tick = at+every, tick+1
			d.say(0, at, fmt.Sprintf(`"tick":%d,"state":{"dog/fern":{"x":%d,"y":0}}`, tick, tick))
		}
	}
	steps(100, 0.05)
	d.say(2, at, `"joined":"moss","entity":"dog/moss"`)
	steps(1, 0.4)
	steps(100, 0.08)
	p := d.c.Finish(nil).Server.Pace
	require.Len(t, p.Under, 2)
	assert.Equal(t, []int{1, 2}, []int{p.Under[0].Players, p.Under[1].Players})
	assert.InDelta(t, 50, p.Under[0].P95, 1)
	assert.InDelta(t, 80, p.Under[1].P95, 1)
	assert.Equal(t, "moss", p.PauseFor)
	assert.InDelta(t, 5.4, time.Duration(p.PauseAt).Seconds(), 0.01)
	assert.InDelta(t, 80, p.P99, 1)
}
