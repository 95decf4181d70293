package stats

import "math"

// SPRT is Wald's sequential probability ratio test (Annals of Mathematical Statistics 16, 1945), cut off after a
// number of matches: after each it says whether the share that goes wrong is rather a fifth of what is tolerated, or
// twice as much, each with an error of 5%.
type SPRT struct {
	right, wrong float64 // what a match adds to the logarithm of the likelihood ratio
	most         int     // matches

	n, k int // matches seen, and those that went wrong
}

// sprtError is how often it decides wrongly, either way.
const sprtError = 0.05

var sprtBound = math.Log((1 - sprtError) / sprtError)

// NewSPRT returns a test for a tolerated share above 0 and below 1, with at most so many matches.
func NewSPRT(tolerate float64, most int) *SPRT {
	good, bad := tolerate/5, min(0.95, 2*tolerate)
	return &SPRT{right: math.Log((1 - bad) / (1 - good)), wrong: math.Log(bad / good), most: most}
}

// Least is how many matches it takes to say that little goes wrong, if nothing does. With fewer it can never say so.
func (t *SPRT) Least() int { return int(math.Ceil(sprtBound / -t.right)) }

// Saw takes in a match, and says whether it is decided, and how. After the last match there may be it is over
// undecided.
func (t *SPRT) Saw(wrong bool) (decided, bad bool) {
	if t.n++; wrong {
		t.k++
	}
	return t.decided(t.n, t.k)
}

// Over reports whether no more matches may be played.
func (t *SPRT) Over() bool { return t.n >= t.most }

func (t *SPRT) decided(n, k int) (decided, bad bool) {
	ratio := float64(k)*t.wrong + float64(n-k)*t.right
	return math.Abs(ratio) >= sprtBound, ratio >= sprtBound
}

// Interval holds the true share at 95%, at least, when the test is over. An interval for a fixed number of matches
// does not, because the number follows from what was seen. Ends of the test are put in order by the share that they
// saw, and the bounds are the shares for which an end so far out, or farther, has a probability of 2.5% (Jennison and
// Turnbull, Group Sequential Methods, 1999, chapter 8).
func (t *SPRT) Interval() (low, high float64) {
	if t.n == 0 {
		return 0, 1
	}
	seen := float64(t.k) / float64(t.n)
	low, high = 0, 1
	if t.k > 0 {
		low = bisect(func(p float64) bool {
			return t.tail(p, func(share float64) bool { return share >= seen-1e-12 }) < 0.025
		})
	}
	if t.k < t.n {
		high = bisect(func(p float64) bool {
			return t.tail(p, func(share float64) bool { return share <= seen+1e-12 }) > 0.025
		})
	}
	return rounded(low), rounded(high)
}

// bisect is the largest share for which below holds, as it does for all that are smaller.
func bisect(below func(p float64) bool) float64 {
	from, to := 0.0, 1.0
	for range 40 {
		if middle := (from + to) / 2; below(middle) {
			from = middle
		} else {
			to = middle
		}
	}
	return from
}

// tail is how probable an end is that saw a share which is within, if that share goes wrong.
func (t *SPRT) tail(p float64, within func(share float64) bool) (sum float64) {
	t.ends(p, func(n, k int, probability float64) {
		if within(float64(k) / float64(n)) {
			sum += probability
		}
	})
	return sum
}

// ends hands on the ends of the test with the probability of each, if that share goes wrong.
func (t *SPRT) ends(p float64, end func(n, k int, probability float64)) {
	at := []float64{1} // probability of going on, by how many went wrong
	for n := 1; n <= t.most; n++ {
		next := make([]float64, n+1)
		for k, here := range at {
			next[k] += here * (1 - p)
			next[k+1] += here * p
		}
		for k, here := range next {
			if here == 0 {
				continue
			}
			if over, _ := t.decided(n, k); over || n == t.most {
				end(n, k, here)
				next[k] = 0
			}
		}
		at = next
	}
}
