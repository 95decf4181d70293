package stats

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestTheIntervalHoldsTheTrueWilson(t *testing.T) {
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
			if _, low, high := Wilson(k, n); low <= truth && truth <= high {
				held++
			}
		}
		assert.InDelta(t, 0.95, float64(held)/hunts, 0.025, "%v", truth)
	}
	p, low, high := Wilson(0, 0)
	assert.Equal(t, [3]float64{0, 0, 1}, [3]float64{p, low, high})
	_, _, high = Wilson(0, 100)
	assert.InDelta(t, 0.037, high, 0.001, "none of a hundred")
	assert.False(t, math.IsNaN(high))
}

func TestFisherExact(t *testing.T) {
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
		assert.InDelta(t, row.p, FisherExact(row.k1, row.n1, row.k2, row.n2), row.within, row.what)
		assert.InDelta(t, FisherExact(row.k1, row.n1, row.k2, row.n2), FisherExact(row.k2, row.n2, row.k1, row.n1), 1e-9, "it is the same both ways")
	}
}

func TestMcNemar(t *testing.T) {
	assert.Equal(t, 1.0, McNemar(0, 0))
	assert.InDelta(t, 1, McNemar(3, 3), 1e-9)
	assert.InDelta(t, 2.0/32, McNemar(5, 0), 1e-9, "five heads in a row, or five tails")
	assert.InDelta(t, 2.0/64, McNemar(0, 6), 1e-9)
}

func TestHowManyMoreMatchesItTakes(t *testing.T) {
	assert.Zero(t, More(0, 0, 1, 6, 0.05), "of nothing nobody knows")
	assert.Zero(t, More(3, 20, 3, 20, 0.05), "of what is the same it takes no end")
	more := More(1, 12, 0, 12, 0.05)
	assert.Positive(t, more)
	share := 1.0 / 12
	n := 12 + more
	assert.Less(t, FisherExact(int(share*float64(n)), n, 0, n), 0.05)
	assert.Less(t, More(20, 240, 0, 240, 0.05), 1, "there are enough already")
}

func TestWhatWasNeverSeenHasABound(t *testing.T) {
	assert.InDelta(t, 0.95, BoundOfNone(1), 1e-9)
	assert.InDelta(t, 0.03, BoundOfNone(99), 1e-3, "about 3/n")
	assert.InDelta(t, 1, BoundOfNone(0), 1e-9)
}

func TestOnlyQuestionsThatCanSurpriseCount(t *testing.T) {
	assert.Equal(t, 1, Questions(nil, 0.05))
	assert.Equal(t, 1, Questions([]float64{1, 0.5, 1, 1}, 0.05))
	assert.Equal(t, 2, Questions([]float64{0, 0.001, 0.024999, 1}, 0.05)+Questions([]float64{1}, 0.05)-2)
	assert.InDelta(t, FisherExact(3, 3, 0, 3), LeastFisherExact(3, 3, 3), 1e-12)
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
		_, low, high, _ := StudentT(values)
		if low <= 2 && 2 <= high {
			held++
		}
		for i := range values {
			values[i] -= 2
		}
		if _, _, _, surprise := StudentT(values); surprise < 0.05 {
			surprised++
		}
	}
	assert.InDelta(t, 0.95, float64(held)/samples, 0.015)
	assert.InDelta(t, 0.05, float64(surprised)/samples, 0.015, "a difference that is none surprises one time in twenty")
	mean, low, high, surprise := StudentT([]float64{5})
	assert.Equal(t, []float64{5, math.Inf(-1), math.Inf(1), 1}, []float64{mean, low, high, surprise}, "of one nothing can be said")
	_, low, _, surprise = StudentT([]float64{0, 0, 0, 0})
	assert.Equal(t, []float64{0, 1}, []float64{low, surprise})
}

// The sequential test is wrong in at most about one of twenty, and needs few matches.
func TestSPRT(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for _, row := range []struct {
		truth float64
		bad   bool
		most  float64 // matches on average
	}{{0, false, 16}, {0.02, false, 24}, {0.2, true, 24}, {1, true, 3}} {
		faults, matches := 0, 0
		const tests = 2000
		for range tests {
			for test := NewSPRT(0.1, 10000); ; {
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
func TestFisherExactIsTheSumOfAllThatIsAsImprobable(t *testing.T) {
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
		require.InDelta(t, min(1, sum), FisherExact(k1, n1, k2, n2), 1e-9)
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

// covers is how often an interval holds the share behind it, computed and not drawn: ends hands on the ends of a
// series of matches, with the probability of each.
func covers(truth float64, ends func(p float64, end func(n, k int, probability float64)), interval func(k, n int) (low, high float64)) (sum, all float64) {
	ends(truth, func(n, k int, probability float64) {
		all += probability
		if low, high := interval(k, n); low <= truth && truth <= high {
			sum += probability
		}
	})
	return sum, all
}

var truths = []float64{0.005, 0.02, 0.05, 0.08, 0.1, 0.13, 0.2, 0.3, 0.5, 0.7, 0.9, 0.99}

// An interval for a fixed number does not hold where the number follows from what was seen; the test's own does.
func TestTheIntervalHoldsAfterASequentialTest(t *testing.T) {
	for _, tolerate := range []float64{0.05, 0.1, 0.3} {
		test := NewSPRT(tolerate, 60)
		known := map[[2]int][2]float64{}
		own := func(k, n int) (low, high float64) {
			at := [2]int{k, n}
			if _, is := known[at]; !is {
				low, high := (&SPRT{right: test.right, wrong: test.wrong, most: test.most, n: n, k: k}).Interval()
				known[at] = [2]float64{low, high}
			}
			return known[at][0], known[at][1]
		}
		least, leastOfWilson := 1.0, 1.0
		for _, truth := range truths {
			held, all := covers(truth, test.ends, own)
			assert.InDelta(t, 1, all, 1e-9)
			assert.GreaterOrEqual(t, held, 0.95-1e-3, "%v of %v", truth, tolerate)
			ofWilson, _ := covers(truth, test.ends, func(k, n int) (low, high float64) { _, low, high = Wilson(k, n); return low, high })
			least, leastOfWilson = min(least, held), min(leastOfWilson, ofWilson)
		}
		assert.Less(t, leastOfWilson, least)
	}
}

// A hunt that ends with its k-th find has an end for each number of matches (the negative binomial distribution).
func TestTheIntervalHoldsWhereMatchesArePlayedUntilSomethingIsFound(t *testing.T) {
	for _, finds := range []int{1, 2, 5} {
		until := func(p float64, end func(n, k int, probability float64)) {
			for n := finds; n < 4000; n++ {
				end(n, finds, math.Exp(choose(n-1, finds-1)+float64(finds)*math.Log(p)+float64(n-finds)*math.Log1p(-p)))
			}
		}
		for _, truth := range truths {
			held, all := covers(truth, until, func(k, n int) (low, high float64) { _, low, high = ClopperPearson(k, n); return low, high })
			assert.InDelta(t, 1, all, 1e-3)
			assert.GreaterOrEqual(t, held, 0.95-2e-3, "%v, until %d", truth, finds)
		}
	}
}

func TestTheIntervalsHoldForAFixedNumber(t *testing.T) {
	const n = 40
	fixed := func(p float64, end func(n, k int, probability float64)) {
		for k := range n + 1 {
			end(n, k, math.Exp(choose(n, k)+float64(k)*math.Log(p)+float64(n-k)*math.Log1p(-p)))
		}
	}
	sum := 0.0
	for _, truth := range truths {
		exact, _ := covers(truth, fixed, func(k, n int) (low, high float64) { _, low, high = ClopperPearson(k, n); return low, high })
		assert.GreaterOrEqual(t, exact, 0.95-1e-3, "%v", truth)
		wilson, _ := covers(truth, fixed, func(k, n int) (low, high float64) { _, low, high = Wilson(k, n); return low, high })
		assert.GreaterOrEqual(t, wilson, 0.88, "%v", truth)
		sum += wilson
	}
	assert.InDelta(t, 0.95, sum/float64(len(truths)), 0.015, "on average")
}

func TestHowManyMatchesASequentialTestTakesAtLeast(t *testing.T) {
	for tolerate, least := range map[float64]int{0.02: 80, 0.1: 15, 0.3: 4} {
		test := NewSPRT(tolerate, 1000)
		assert.Equal(t, least, test.Least(), "%v", tolerate)
		for n := 1; ; n++ {
			if decided, bad := test.Saw(false); decided {
				assert.Equal(t, []any{least, false}, []any{n, bad})
				break
			}
		}
	}
}
