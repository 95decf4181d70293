package explain

import (
	"fmt"
	"math"
	"slices"
)

// Relations in which the view shows the reference's own way, at another time than it may.

// frozen: the view keeps the value that it had when the two parted.
func (f *fitting) frozen() []candidate {
	first := f.Samples[0].View
	off := func(i int) float64 { return 4 * f.apart(f.Samples[i].View, first) } // it keeps it exactly
	nearest := math.Inf(1)
	for t := f.Began - Earliest; t <= f.Samples[0].T; t += 0.02 {
		nearest = min(nearest, f.apart(first, f.Reference.At(t)))
	}
	if !f.moves() || nearest > 2*f.Tolerance {
		return nil
	}
	return []candidate{{name: Frozen, why: "the view kept the value that it had", parameters: 1, off: off}}
}

// shifted: the view shows the reference's way a constant time late, or early.
func (f *fitting) shifted() (list []candidate) {
	if !f.moves() {
		return nil
	}
	const step, most = 0.02, Earliest - 0.1
	best, shift := math.Inf(1), 0.0
	for late := -1.5; late <= most; late += step {
		if late >= -f.MaxAhead-step/2 && late <= f.MaxDelay+step/2 {
			continue
		}
		if sum := f.sumAt(late); sum < best {
			best, shift = sum, late
		}
	}
	for _, fine := range []float64{step / 2, step / 4, step / 8} {
		for _, late := range []float64{shift - fine, shift + fine} {
			if sum := f.sumAt(late); sum < best {
				best, shift = sum, late
			}
		}
	}
	c := candidate{name: Late, why: fmt.Sprintf("it fits when it is taken to be %.0f ms late, %.0f ms are allowed", shift*1e3, f.MaxDelay*1e3), parameters: 1, value: same,
		delays: []float64{shift - 0.05, shift, shift + 0.05}}
	if shift < 0 {
		c.name, c.why = Early, fmt.Sprintf("it fits when it is taken to be %.0f ms early, %.0f ms are allowed", -shift*1e3, f.MaxAhead*1e3)
	}
	return []candidate{c}
}

func (f *fitting) sumAt(late float64) (sum float64) {
	for i := range f.Samples {
		d := min(f.apart(f.Samples[i].View, f.at(i, late)), 6*f.Tolerance)
		sum += d * d
	}
	return sum
}

// uneven: the view shows the reference's way, now later and now less late, as one that comes to where the
// reference was now and then, and stands in between.
func (f *fitting) uneven() []candidate {
	if !f.moves() || f.Circle > 0 {
		return nil
	}
	const step = 0.05
	var lates, runs []float64 // how late each sample fits best; when the view came to each place
	for i, s := range f.Samples {
		nearest, at := math.Inf(1), 0.0
		for late := f.lag; late <= Earliest-0.1; late += step {
			if d := f.apart(s.View, f.at(i, late)); d < nearest {
				nearest, at = d, late
			}
		}
		lates = append(lates, at)
		if i == 0 || s.View != f.Samples[i-1].View {
			runs = append(runs, s.T)
		}
	}
	if math.Abs(f.along(lates)) > 0.6 { // later and later, which is another relation
		return nil
	}
	slices.Sort(lates)
	low, high := lates[len(lates)/20], lates[len(lates)-1-len(lates)/20]
	if high-low < 0.25 || high < f.MaxDelay+0.1 || len(runs) < 3 {
		return nil
	}
	why := fmt.Sprintf("it is where the reference was %.2g to %.2g s before", low, high)
	if 2*len(runs) <= len(f.Samples) {
		var every []float64
		for i := 1; i < len(runs); i++ {
			every = append(every, runs[i]-runs[i-1])
		}
		why = fmt.Sprintf("it comes only every %.2g s, and stands in between", middle(every))
	}
	var delays []float64
	for late := low - step; late <= high+step; late += step {
		delays = append(delays, late)
	}
	return []candidate{{name: Late, why: why, parameters: 4, value: same, delays: delays}}
}

// along is how far a number of each sample goes with the time: their correlation.
func (f *fitting) along(list []float64) float64 {
	n := float64(len(list))
	var x, y, xx, yy, xy float64
	for i, v := range list {
		t := f.Samples[i].T - f.Began
		x, y, xx, yy, xy = x+t, y+v, xx+t*t, yy+v*v, xy+t*v
	}
	both := (xx - x*x/n) * (yy - y*y/n)
	if both <= 0 {
		return 0
	}
	return (xy - x*y/n) / math.Sqrt(both)
}

// creeping: the view's clock runs fast or slow, so that it gets later and later, or earlier.
func (f *fitting) creeping() []candidate {
	if !f.moves() || f.Circle > 0 {
		return nil
	}
	off := func(pace, start float64) func(i int) float64 {
		return func(i int) float64 {
			s := f.Samples[i]
			return f.apart(s.View, f.at(i, f.lag+pace*(s.T-start)))
		}
	}
	// every takes each so many samples: a rough search needs few.
	sum := func(off func(i int) float64, every int) (sum float64) {
		for i := 0; i < len(f.Samples); i += every {
			d := min(off(i), 6*f.Tolerance)
			sum += d * d
		}
		return sum
	}
	least, pace, start := math.Inf(1), 0.0, f.Began
	for p := -0.4; p <= 0.4; p += 0.0025 {
		for back := 0.0; back <= 4 && math.Abs(p) > 0.015; back += 0.5 {
			if left := sum(off(p, f.Began-back), 4); left < least {
				least, pace, start = left, p, f.Began-back
			}
		}
	}
	least = math.Inf(1)
	for _, fine := range []float64{0.00125, 0.0006, 0.0003} {
		for _, p := range []float64{pace - fine, pace, pace + fine} {
			for _, t := range []float64{start - 200*fine, start, start + 200*fine} {
				if left := sum(off(p, t), 1); left < least {
					least, pace, start = left, p, t
				}
			}
		}
	}
	word := "later"
	if pace < 0 {
		word = "earlier"
	}
	return []candidate{{name: Creeping, why: fmt.Sprintf("it gets %s by %.0f ms every second", word, math.Abs(pace)*1e3), parameters: 2, off: off(pace, start)}}
}
