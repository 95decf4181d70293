package stats

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
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
	assert.InDelta(t, 1, SurprisePaired(3, 3), 1e-9)
	assert.InDelta(t, 2.0/32, SurprisePaired(5, 0), 1e-9, "five heads in a row, or five tails")
	assert.InDelta(t, 2.0/64, SurprisePaired(0, 6), 1e-9)
}

func TestHowManyMoreMatchesItTakes(t *testing.T) {
	assert.Zero(t, More(0, 0, 1, 6, 0.05), "of nothing nobody knows")
	assert.Zero(t, More(3, 20, 3, 20, 0.05), "of what is the same it takes no end")
	more := More(1, 12, 0, 12, 0.05)
	assert.Positive(t, more)
	share := 1.0 / 12
	n := 12 + more
	assert.Less(t, Surprise(int(share*float64(n)), n, 0, n), 0.05)
	assert.Less(t, More(20, 240, 0, 240, 0.05), 1, "there are enough already")
}

func TestWhatWasNeverSeenHasABound(t *testing.T) {
	assert.InDelta(t, 0.95, NoneOf(1), 1e-9)
	assert.InDelta(t, 0.03, NoneOf(99), 1e-3, "about 3/n")
	assert.InDelta(t, 1, NoneOf(0), 1e-9)
}

func TestOnlyQuestionsThatCanSurpriseCount(t *testing.T) {
	assert.Equal(t, 1, Questions(nil, 0.05))
	assert.Equal(t, 1, Questions([]float64{1, 0.5, 1, 1}, 0.05))
	assert.Equal(t, 2, Questions([]float64{0, 0.001, 0.024999, 1}, 0.05)+Questions([]float64{1}, 0.05)-2)
	assert.InDelta(t, Surprise(3, 3, 0, 3), LeastSurprise(3, 3, 3), 1e-12)
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
		faults, matches := 0, 0
		const tests = 2000
		for range tests {
			for test := NewSequential(0.1); ; {
				matches++
				if decided, bad := test.Saw(random.Float64() < row.truth); decided {
					if bad != row.bad {
						faults++
					}
					break
				}
			}
		}
		assert.LessOrEqual(t, float64(faults)/tests, 0.065, "%v", row.truth)
		assert.LessOrEqual(t, float64(matches)/tests, row.most, "%v", row.truth)
	}
}

// Fisher's test by its definition: all that is as improbable as what was seen.
func TestSurpriseIsTheSumOfAllThatIsAsImprobable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n1, n2 := rapid.IntRange(1, 60).Draw(t, "n1"), rapid.IntRange(1, 60).Draw(t, "n2")
		k1, k2 := rapid.IntRange(0, n1).Draw(t, "k1"), rapid.IntRange(0, n2).Draw(t, "k2")
		k := k1 + k2
		probability := func(x int) float64 { return math.Exp(choose(n1, x) + choose(n2, k-x) - choose(n1+n2, k)) }
		sum := 0.0
		for x := max(0, k-n2); x <= min(k, n1); x++ {
			if p := probability(x); p <= probability(k1)*(1+1e-9) {
				sum += p
			}
		}
		require.InDelta(t, min(1, sum), Surprise(k1, n1, k2, n2), 1e-9)
	})
}

// The interval of a median holds the true one in 95% of cases or more, and not in nearly all.
func TestTheIntervalOfAMedianHoldsIt(t *testing.T) {
	for _, n := range []int{6, 7, 15, 40} {
		random := rand.New(rand.NewPCG(uint64(n), 7))
		const trials = 4000
		held := 0
		for range trials {
			var values []float64
			for range n {
				values = append(values, math.Exp(random.NormFloat64())) // of which the median is 1
			}
			median, low, high := Median(values)
			require.LessOrEqual(t, low, median)
			require.LessOrEqual(t, median, high)
			if low <= 1 && 1 <= high {
				held++
			}
		}
		assert.GreaterOrEqual(t, float64(held)/trials, 0.945, "%d values", n)
		assert.LessOrEqual(t, float64(held)/trials, 0.99, "%d values", n)
	}
	median, low, high := Median([]float64{4, 2})
	assert.Equal(t, []float64{3, 2, 4}, []float64{median, low, high})
}
