// Package odds says what counts of matches tell of the shares behind them: how sure a
// share is, whether two shares differ, and when enough has been seen.
package odds

import (
	"math"
	"sort"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Share is k of n, with the interval that holds the true share with 95 % confidence:
// Wilson's score interval (J. Am. Stat. Assoc. 22, 1927), which is right for few and
// for rare ones too. All are rounded to a hundredth of a percent.
func Share(k, n int) (p, low, high float64) {
	if n == 0 {
		return 0, 0, 1
	}
	const z = 1.959964
	m := float64(n)
	p = float64(k) / m
	middle := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	round := func(f float64) float64 { return math.Round(f*1e4) / 1e4 }
	return round(p), round(max(0, middle-half)), round(min(1, middle+half))
}

// Surprise is how probable it is that two samples differ as much as k1 of n1 and k2 of
// n2, or more, if the shares behind them are the same: Fisher's exact test, two-sided
// (J. R. Stat. Soc. 85, 1922).
func Surprise(k1, n1, k2, n2 int) float64 {
	k, n := k1+k2, n1+n2
	if n1 == 0 || n2 == 0 {
		return 1
	}
	probability := func(x int) float64 { // of x of n1, given k of n
		return math.Exp(choose(n1, x) + choose(n2, k-x) - choose(n, k))
	}
	seen := probability(k1)
	sum := 0.0
	for x := max(0, k-n2); x <= min(k, n1); x++ {
		if p := probability(x); p <= seen*(1+1e-9) {
			sum += p
		}
	}
	return min(1, sum)
}

// choose is the logarithm of the binomial coefficient.
func choose(n, k int) float64 {
	log := func(n int) float64 { v, _ := math.Lgamma(float64(n) + 1); return v }
	return log(n) - log(k) - log(n-k)
}

// SurprisePaired is the same for matches that were played on both sides: onlyA is how
// many showed something on the one side alone, onlyB on the other. It is McNemar's test
// in its exact form (Psychometrika 12, 1947).
func SurprisePaired(onlyA, onlyB int) float64 {
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

// ToBelieve is how many matches without a failure it takes to believe that it is gone,
// when it showed in k of n before: as many as make it a surprise of less than 5 % that
// it never shows. Of a failure whose share is well known, that is about 3 divided by the
// share; of one that was seen only once it is many more. It is 0 if k is.
func ToBelieve(k, n int) int {
	if k == 0 {
		return 0
	}
	const most = 1 << 20
	return sort.Search(most, func(m int) bool { return Surprise(k, n, 0, m) < 0.05 })
}

// Mean is the mean of differences, with the interval that holds the true mean with 95 %
// confidence, and how probable a mean so far from nothing is if there is no difference:
// Student's t (Biometrika 6, 1908). With fewer than two, or when all are the same, there
// is no interval to speak of.
func Mean(differences []float64) (mean, low, high, surprise float64) {
	if len(differences) == 0 {
		return 0, 0, 0, 1
	}
	mean, deviation := stat.MeanStdDev(differences, nil)
	if len(differences) == 1 {
		return mean, math.Inf(-1), math.Inf(1), 1
	}
	n := float64(len(differences))
	if deviation == 0 {
		surprise = 1
		if mean != 0 {
			surprise = math.Pow(0.5, n-1) // that all have the same sign
		}
		return mean, mean, mean, surprise
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}
	scale := deviation / math.Sqrt(n)
	half := t.Quantile(0.975) * scale
	return mean, mean - half, mean + half, 2 * (1 - t.CDF(math.Abs(mean)/scale))
}

// Sequential is Wald's sequential probability ratio test (Annals of Mathematical
// Statistics 16, 1945): after each match it says whether the share that goes wrong is
// rather a fifth of what is tolerated, or twice as much, each with an error of 5 %.
type Sequential struct {
	sum          float64 // log likelihood ratio
	right, wrong float64 // what a match adds to it
}

// NewSequential returns a test for that tolerated share, above 0 and below 1.
func NewSequential(tolerate float64) *Sequential {
	good, bad := tolerate/5, min(0.95, 2*tolerate)
	return &Sequential{right: math.Log((1 - bad) / (1 - good)), wrong: math.Log(bad / good)}
}

// Saw takes in a match, and says whether it is decided, and how.
func (t *Sequential) Saw(wrong bool) (decided, bad bool) {
	if wrong {
		t.sum += t.wrong
	} else {
		t.sum += t.right
	}
	const mistake = 0.05
	bound := math.Log((1 - mistake) / mistake)
	return math.Abs(t.sum) >= bound, t.sum >= bound
}
