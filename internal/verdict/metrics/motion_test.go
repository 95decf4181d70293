package metrics

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

// walk is a winding way with rests, at up to 4 a second.
func walk(t float64) (x, y float64) {
	t -= 0.5 * math.Sin(t) // faster and slower, down to half
	return 9*math.Sin(t/3) + math.Sin(1.3*t), 8 * math.Cos(t/4)
}

// stopping goes 3 a second for four seconds and rests for four.
func stopping(t float64) (x, y float64) {
	rounds := math.Floor(t / 8)
	return 12*rounds + 3*min(4, t-8*rounds), 0
}

// player shows what a server sends: where it was at each sending, latency later.
type player struct {
	way     func(t float64) (x, y float64)
	rate    float64 // sendings a second
	latency float64
	shows   func(p player, t float64) (x, y float64)
}

func (p player) sent(n float64) (x, y float64) { return p.way(max(0, n/p.rate)) }

// steps shows the newest that has come.
func steps(p player, t float64) (x, y float64) { return p.sent(math.Floor((t - p.latency) * p.rate)) }

// interpolates shows what was a sending ago, on the straight line between two.
func interpolates(p player, t float64) (x, y float64) {
	n := (t - p.latency - 1/p.rate) * p.rate
	ax, ay := p.sent(math.Floor(n))
	bx, by := p.sent(math.Floor(n) + 1)
	share := n - math.Floor(n)
	return ax + (bx-ax)*share, ay + (by-ay)*share
}

// extrapolates goes on from the newest as from the one before it.
func extrapolates(p player, t float64) (x, y float64) {
	n := (t - p.latency) * p.rate
	ax, ay := p.sent(math.Floor(n) - 1)
	bx, by := p.sent(math.Floor(n))
	ahead := n - math.Floor(n)
	return bx + (bx-ax)*ahead, by + (by-ay)*ahead
}

// felt plays for half a minute and measures how others move.
func felt(p player) *Motion {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for i := range 26 * 60 {
		t := float64(i) / 60
		x, y := p.way(t)
		d.say(0, t, at("dog/a", x, y))
		x, y = p.shows(p, t)
		d.say(1, t, at("dog/a", x, y))
	}
	return d.c.Finish(nil).Views[0].Others
}

func TestStepsAreUnevenAndInterpolationIsNot(t *testing.T) {
	smooth := felt(player{walk, 20, 0.1, interpolates})
	require.NotNil(t, smooth)
	assert.InDelta(t, 150, smooth.Delay, 30, "latency and a sending")
	assert.Less(t, smooth.Unevenness, 0.05*smooth.TrueSpeed)
	assert.Zero(t, smooth.Standing)
	assert.Zero(t, smooth.LeapsPerMinute)
	assert.Less(t, smooth.Off.P95, 0.05)

	snaps := felt(player{walk, 1, 0.1, steps})
	assert.Greater(t, snaps.Unevenness, 1.5*snaps.TrueSpeed)
	assert.Greater(t, snaps.Standing, 0.8)
	assert.InDelta(t, 60, snaps.LeapsPerMinute, 12)
	assert.InDelta(t, 3, snaps.Leaps.Median, 1)
}

// However a client makes up for it: the more seldom the server sends, the more uneven.
func TestUnevennessGrowsWithTheSendInterval(t *testing.T) {
	for name, shows := range map[string]func(player, float64) (float64, float64){"steps": steps, "extrapolates": extrapolates} {
		last := math.Inf(1)
		for _, rate := range []float64{1, 2, 4, 8, 15, 30, 60} {
			m := felt(player{walk, rate, 0.1, shows})
			assert.Less(t, m.Unevenness, last*1.02, "%s at %g sendings a second", name, rate)
			last = m.Unevenness
		}
	}
	draw := rand.New(rand.NewPCG(3, 4))
	for range 6 {
		rate, latency := 1+24*draw.Float64(), 0.02+0.28*draw.Float64()
		stepping, interpolating := felt(player{walk, rate, latency, steps}), felt(player{walk, rate, latency, interpolates})
		assert.Less(t, interpolating.Unevenness, stepping.Unevenness+0.02*stepping.TrueSpeed, "%g a second, %g s", rate, latency)
		assert.Less(t, felt(player{walk, 2 * rate, latency, steps}).Unevenness, 1.02*stepping.Unevenness+0.02*stepping.TrueSpeed, "%g a second, %g s", rate, latency)
	}
}

func TestASnapTwiceASecondIsCounted(t *testing.T) {
	m := felt(player{walk, 20, 0.1, func(p player, t float64) (float64, float64) {
		x, y := interpolates(p, t)
		if math.Mod(t, 0.5) < 0.25 { // 0.9 to and fro
			return x + 0.9, y
		}
		return x, y
	}})
	assert.InDelta(t, 240, m.LeapsPerMinute, 40)
	assert.InDelta(t, 0.9, m.Leaps.Median, 0.1)
}

func TestExtrapolationOvershootsWhereTheServerStops(t *testing.T) {
	stops := felt(player{stopping, 2.2, 0.1, extrapolates})
	require.NotNil(t, stops.Overshoot)
	assert.Greater(t, stops.Overshoot.Max, 0.3)
	assert.Greater(t, stops.Settling.Median, 100.0)
	calm := felt(player{stopping, 20, 0.1, interpolates})
	assert.Less(t, calm.Overshoot.Max, 0.15)
	assert.Less(t, calm.Settling.Median, 60.0)
}

// A trace that tells its state seldom does not show how smoothly anything moves, and says nothing.
func TestWhatCannotBeSeenIsNotMeasured(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for i := range 400 {
		t := float64(i) / 10
		x, y := walk(t)
		d.say(0, t, at("dog/a", x, y))
		if i%5 == 0 {
			d.say(1, t, at("dog/a", x, y))
		}
	}
	v := d.c.Finish(nil).Views[0]
	assert.Nil(t, v.Others)
	m := Measures{Views: []View{v}}
	assert.Empty(t, m.Exceeded([]rulebook.Limit{{Measure: "unevenness", Max: 0}}))
}

func TestTheOwnEntityIsMeasuredApart(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for i := range 40 * 60 {
		t := float64(i) / 60
		x, y := walk(t)
		d.say(0, t, at("dog/fern", x, y))
		x, y = walk(t + 0.1) // ahead
		if i%120 < 60 {
			x += 1
		}
		d.say(1, t, fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":%.3f}}`, x, y))
	}
	v := d.c.Finish(nil).Views[0]
	assert.Nil(t, v.Others)
	require.NotNil(t, v.Own)
	assert.InDelta(t, -100, v.Own.Delay, 80)
	assert.InDelta(t, 60, v.Own.LeapsPerMinute, 8)
}

// What a view showed while its trace was broken off is not known, so it is no standing still.
func TestABrokenTraceIsNoStandingStill(t *testing.T) {
	for _, broken := range []bool{true, false} {
		d := newDesk()
		d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
		for i := range 20 * 60 {
			t := float64(i) / 60
			x, y := walk(t)
			d.say(0, t, at("dog/a", x, y))
			if t > 8 && t < 12 {
				if broken && i == 8*60+1 {
					d.c.Broke(1)
				}
				continue
			}
			x, y = walk(t - 0.1)
			d.say(1, t, at("dog/a", x, y))
		}
		m := d.c.Finish(nil).Views[0].Others
		assert.Equal(t, broken, m.LeapsPerMinute == 0)
		assert.Equal(t, broken, m.Unevenness < 0.1, "%v", m.Unevenness)
	}
}
