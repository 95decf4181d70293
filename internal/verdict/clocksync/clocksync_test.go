package clocksync

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/random"
)

// exchanges are those of a clock that is off by offset and drift, over a link
// with jitter on both ways.
func exchanges(offset, ppm float64, jitter time.Duration, seed uint64) (list []Exchange) {
	random := random.Stream(seed, "exchanges")
	for i := range 120 {
		server := float64(i) * 0.5
		up := 0.04 + random.ExpFloat64()*jitter.Seconds()
		down := 0.04 + random.ExpFloat64()*jitter.Seconds()
		view := func(t float64) time.Duration { // the view's clock at that time of the server's
			return time.Duration((t - offset) / (1 + ppm*1e-6) * 1e9)
		}
		list = append(list, Exchange{T: view(server + up + down), Ping: view(server+up+down) - view(server), Server: time.Duration((server + up) * 1e9)})
	}
	return list
}

func TestExchangesTellOffsetAndDrift(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		offset := rapid.Float64Range(-500, 500).Draw(t, "offset")
		ppm := rapid.Float64Range(-200, 200).Draw(t, "ppm")
		fit, ok := ByExchanges(exchanges(offset, ppm, 10*time.Millisecond, rapid.Uint64().Draw(t, "seed")))
		require.True(t, ok)
		require.Equal(t, "exchanges", fit.Method)
		// Any moment of the match is placed within a few milliseconds.
		for _, at := range []float64{0, 30, 60} {
			view := (at - offset) / (1 + ppm*1e-6)
			require.InDelta(t, at, fit.Shared(time.Duration(view*1e9)).Seconds(), 0.008)
		}
		require.Less(t, fit.Residual, 8.0)
	})
	_, ok := ByExchanges(exchanges(1, 0, 0, 1)[:2])
	assert.False(t, ok, "two exchanges are too few")
}

// walk is a winding way, seen with a clock that is off.
func walk(seed uint64, offset, step float64) *Track {
	k := &Track{}
	phase := float64(seed)
	for t := 0.0; t < 60; t += step {
		k.T = append(k.T, t-offset)
		k.Place = append(k.Place, [3]float64{20*math.Sin(t/3+phase) + 3*math.Sin(t*1.7), 15 * math.Cos(t/4.3+2*phase)})
	}
	return k
}

func TestTrajectoriesTellTheOffset(t *testing.T) {
	for _, offset := range []float64{0, 3.217, -41.5, 900} {
		reference := map[string]*Track{"dog/a": walk(1, 0, 1.0/30), "dog/b": walk(2, 0, 1.0/30), "post/c": {T: []float64{0, 60}, Place: make([][3]float64, 2)}}
		view := map[string]*Track{"dog/a": walk(1, offset, 0.05), "dog/b": walk(2, offset, 0.05), "dog/z": walk(9, 0, 0.05)}
		fit, ok := ByTrajectories(reference, view)
		require.True(t, ok)
		assert.InDelta(t, offset, fit.Offset, 0.005)
		assert.Zero(t, fit.Drift)
		assert.Less(t, fit.Residual, 10.0)
	}
	_, ok := ByTrajectories(map[string]*Track{"post/c": {T: []float64{0, 60}, Place: make([][3]float64, 2)}}, map[string]*Track{"post/c": {T: []float64{0, 60}, Place: make([][3]float64, 2)}})
	assert.False(t, ok, "nothing moves")
}
