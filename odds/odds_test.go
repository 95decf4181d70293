package odds

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheIntervalHoldsTheTrueShare(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, truth := range []float64{0.02, 0.1, 0.5} {
		held := 0
		const hunts, n = 4000, 120
		for range hunts {
			k := 0
			for range n {
				if random.Float64() < truth {
					k++
				}
			}
			if _, low, high := Share(k, n); low <= truth && truth <= high {
				held++
			}
		}
		assert.InDelta(t, 0.95, float64(held)/hunts, 0.025, "%v", truth)
	}
	p, low, high := Share(0, 0)
	assert.Equal(t, [3]float64{0, 0, 1}, [3]float64{p, low, high})
	_, _, high = Share(0, 100)
	assert.InDelta(t, 0.037, high, 0.001, "none of a hundred")
	assert.False(t, math.IsNaN(high))
}

func TestSurprise(t *testing.T) {
	for _, row := range []struct {
		what           string
		k1, n1, k2, n2 int
		p, within      float64
	}{
		{"nothing seen on either side", 0, 10, 0, 10, 1, 1e-9},
		{"the tea tasting: all four of four", 4, 4, 0, 4, 0.0286, 1e-4},
		{"one in twelve, then none of twelve: no news", 1, 12, 0, 12, 1, 1e-9},
		{"one in twelve of many, then none of many", 20, 240, 0, 240, 1e-6, 2e-6},
		{"nothing was played", 0, 0, 3, 10, 1, 1e-9},
	} {
		assert.InDelta(t, row.p, Surprise(row.k1, row.n1, row.k2, row.n2), row.within, row.what)
		assert.InDelta(t, Surprise(row.k1, row.n1, row.k2, row.n2), Surprise(row.k2, row.n2, row.k1, row.n1), 1e-9, "it is the same both ways")
	}
}

func TestSurprisePaired(t *testing.T) {
	assert.Equal(t, 1.0, SurprisePaired(0, 0))
	assert.InDelta(t, 1, SurprisePaired(3, 3), 0.5)
	assert.InDelta(t, 2.0/32, SurprisePaired(5, 0), 1e-9, "five heads in a row, or five tails")
	assert.InDelta(t, 2.0/64, SurprisePaired(0, 6), 1e-9)
}

func TestHowManyMatchesItTakesToBelieve(t *testing.T) {
	assert.Zero(t, ToBelieve(0, 40))
	assert.InDelta(t, 36, ToBelieve(1000, 12000), 6, "one in twelve, as is well known: about 3 divided by the share")
	for _, row := range [][2]int{{1, 12}, {3, 40}, {20, 240}, {40, 40}} {
		m := ToBelieve(row[0], row[1])
		assert.Less(t, Surprise(row[0], row[1], 0, m), 0.05, "%v", row)
		assert.GreaterOrEqual(t, Surprise(row[0], row[1], 0, m-1), 0.05, "%v", row)
	}
	assert.Greater(t, ToBelieve(1, 12), ToBelieve(20, 240), "the less is known of it, the more it takes")
}

func TestTheIntervalOfTheMeanHoldsTheTrueMean(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	held, surprised := 0, 0
	const samples, n = 4000, 8
	for range samples {
		values := make([]float64, n)
		for i := range values {
			values[i] = random.NormFloat64() + 2
		}
		_, low, high, _ := Mean(values)
		if low <= 2 && 2 <= high {
			held++
		}
		for i := range values {
			values[i] -= 2
		}
		if _, _, _, surprise := Mean(values); surprise < 0.05 {
			surprised++
		}
	}
	assert.InDelta(t, 0.95, float64(held)/samples, 0.015)
	assert.InDelta(t, 0.05, float64(surprised)/samples, 0.015, "a difference that is none surprises one time in twenty")
	mean, low, high, surprise := Mean([]float64{5})
	assert.Equal(t, []float64{5, math.Inf(-1), math.Inf(1), 1}, []float64{mean, low, high, surprise}, "of one nothing can be said")
	_, low, _, surprise = Mean([]float64{0, 0, 0, 0})
	assert.Equal(t, []float64{0, 1}, []float64{low, surprise})
}

// The sequential test is wrong in at most about one of twenty, and needs few matches.
func TestSequential(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for _, row := range []struct {
		truth float64
		bad   bool
		most  float64 // matches on average
	}{{0, false, 16}, {0.02, false, 24}, {0.2, true, 24}, {1, true, 3}} {
		mistakes, matches := 0, 0
		const tests = 2000
		for range tests {
			for test := NewSequential(0.1); ; {
				matches++
				if decided, bad := test.Saw(random.Float64() < row.truth); decided {
					if bad != row.bad {
						mistakes++
					}
					break
				}
			}
		}
		assert.LessOrEqual(t, float64(mistakes)/tests, 0.065, "%v", row.truth)
		assert.LessOrEqual(t, float64(matches)/tests, row.most, "%v", row.truth)
	}
}
