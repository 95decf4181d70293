// Package stats says what counts of matches tell of the shares behind them: how sure a
// share is, whether two shares differ, and when enough has been seen.
package stats

import (
	"math"
	"slices"
	"sort"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Wilson is k of n, with Wilson's score interval for the true share at 95% (J. Am. Stat. Assoc. 22, 1927), which
// is right for few and for rare ones too, on average over the shares there may be. n must not follow from what was
// seen. All are rounded to a hundredth of a percent.
func Wilson(k, n int) (p, low, high float64) {
	if n == 0 {
		return 0, 0, 1
	}
	const z = 1.959964
	m := float64(n)
	p = float64(k) / m
	middle := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return rounded(p), rounded(max(0, middle-half)), rounded(min(1, middle+half))
}

func rounded(f float64) float64 { return math.Round(f*1e4) / 1e4 }

// ClopperPearson is k of n, with the exact interval of Clopper and Pearson at 95% (Biometrika 26, 1934). It holds at
// least that often, also where matches were played until there were k: its lower bound is then that of the negative
// binomial distribution, and its upper one lies above that.
func ClopperPearson(k, n int) (p, low, high float64) {
	if n == 0 {
		return 0, 0, 1
	}
	low, high = 0, 1
	if k > 0 {
		low = distuv.Beta{Alpha: float64(k), Beta: float64(n - k + 1)}.Quantile(0.025)
	}
	if k < n {
		high = distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(0.975)
	}
	return rounded(float64(k) / float64(n)), rounded(low), rounded(high)
}

// BoundOfNone is the share below which something is with 95% confidence that showed in none
// of n: the one-sided bound of Clopper and Pearson, which for many is close to 3/n.
func BoundOfNone(n int) float64 {
	if n == 0 {
		return 1
	}
	return 1 - math.Pow(0.05, 1/float64(n))
}

// FisherExact is how probable it is that two samples differ as much as k1 of n1 and k2 of
// n2, or more, if the shares behind them are the same: Fisher's exact test, two-sided
// (J. R. Stat. Soc. 85, 1922).
func FisherExact(k1, n1, k2, n2 int) float64 {
	k, n := k1+k2, n1+n2
	if n1 == 0 || n2 == 0 {
		return 1
	}
	probability := func(x int) float64 { // of x of n1, given k of n
		return math.Exp(choose(n1, x) + choose(n2, k-x) - choose(n, k))
	}
	// Probabilities rise to the mode and fall from there, so what is as improbable as what
	// was seen are two tails, and each is summed from its end near the mode until more
	// adds nothing.
	low, high := max(0, k-n2), min(k, n1)
	mode := min(max((k+1)*(n1+1)/(n+2), low), high)
	seen := probability(k1) * (1 + 1e-9)
	if probability(mode) <= seen {
		return 1
	}
	sum := 0.0
	tail := func(from, step int) {
		for x := from; x >= low && x <= high; x += step {
			p := probability(x)
			if sum += p; p < sum*1e-17 {
				return
			}
		}
	}
	tail(low+sort.Search(mode-low, func(i int) bool { return probability(low+i) > seen })-1, -1)
	tail(mode+sort.Search(high-mode+1, func(i int) bool { return probability(mode+i) <= seen }), +1)
	return min(1, sum)
}

// choose is the logarithm of the binomial coefficient.
func choose(n, k int) float64 {
	log := func(n int) float64 { v, _ := math.Lgamma(float64(n) + 1); return v }
	return log(n) - log(k) - log(n-k)
}

// McNemar is the same for matches that were played on both sides: onlyA is how
// many showed something on the one side alone, onlyB on the other. It is McNemar's test
// in its exact form (Psychometrika 12, 1947).
func McNemar(onlyA, onlyB int) float64 {
	n := onlyA + onlyB
	if n == 0 {
		return 1
	}
	sum := 0.0
	for x := 0; x <= min(onlyA, onlyB); x++ {
		sum += math.Exp(choose(n, x) - float64(n)*math.Ln2)
	}
	return min(1, 2*sum)
}

// LeastFisherExact is the least that FisherExact can be for k in all, however they fall on the
// two sides.
func LeastFisherExact(k, n1, n2 int) float64 {
	return min(FisherExact(min(k, n1), n1, k-min(k, n1), n2), FisherExact(k-min(k, n2), n1, min(k, n2), n2))
}

// Questions is among how many questions an error rate is to be divided, of those whose
// answers can be as improbable as least says: those that can never be improbable enough
// do not count (Tarone, Biometrics 46, 1990). It is at least 1.
func Questions(least []float64, rate float64) int {
	for n := 1; ; n++ {
		can := 0
		for _, p := range least {
			if p < rate/float64(n) {
				can++
			}
		}
		if can <= n {
			return n
		}
	}
}

// More is how many more matches it takes on each side until k1 of n1 and k2 of n2 differ
// so that it is less probable than below at this rate. It is 0 if that is
// more than a hundred thousand.
func More(k1, n1, k2, n2 int, below float64) int {
	if n1 == 0 || n2 == 0 {
		return 0
	}
	share1, share2 := float64(k1)/float64(n1), float64(k2)/float64(n2)
	const most = 1 << 17
	tells := func(more int) bool {
		m1, m2 := n1+more, n2+more
		return FisherExact(int(share1*float64(m1)), m1, int(share2*float64(m2)), m2) < below
	}
	for upTo := 1; upTo <= most; upTo *= 2 {
		if tells(upTo) {
			return upTo/2 + sort.Search(upTo-upTo/2, func(i int) bool { return tells(upTo/2 + i) })
		}
	}
	return 0
}

// StudentT is the mean of differences, with the interval that holds the true mean with 95%
// confidence, and how probable a mean so far from nothing is if there is no difference:
// Student's t (Biometrika 6, 1908). With fewer than two, or when all are the same, there
// is no interval to speak of.
func StudentT(differences []float64) (mean, low, high, p float64) {
	if len(differences) == 0 {
		return 0, 0, 0, 1
	}
	mean, deviation := stat.MeanStdDev(differences, nil)
	if len(differences) == 1 {
		return mean, math.Inf(-1), math.Inf(1), 1
	}
	n := float64(len(differences))
	if deviation == 0 {
		p = 1
		if mean != 0 {
			p = math.Pow(0.5, n-1) // that all have the same sign
		}
		return mean, mean, mean, p
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}
	scale := deviation / math.Sqrt(n)
	half := t.Quantile(0.975) * scale
	return mean, mean - half, mean + half, 2 * (1 - t.CDF(math.Abs(mean)/scale))
}

// Median is the median of values, with the interval that holds the true one with 95% confidence,
// or more: between two of the values, of which so many are smaller and larger that chance puts as
// many there in 2.5% of cases at most (Hahn and Meeker, Statistical Intervals, 1991). Of fewer
// than six values it is all of them.
func Median(values []float64) (median, low, high float64) {
	n := len(values)
	if n == 0 {
		return math.NaN(), math.NaN(), math.NaN()
	}
	sorted := slices.Sorted(slices.Values(values))
	median = sorted[n/2]
	if n%2 == 0 {
		median = (sorted[n/2-1] + sorted[n/2]) / 2
	}
	halves := distuv.Binomial{N: float64(n), P: 0.5}
	k := 0
	for k < n/2 && halves.CDF(float64(k)) <= 0.025 {
		k++
	}
	k = max(0, k-1)
	return median, sorted[k], sorted[n-1-k]
}
