// Package explain finds the simplest relation between the numbers that a view shows and
// those of the reference: it is late, it is mirrored, it keeps a value. Relations compete:
// each is fitted to everything that is known of a difference, and of those that leave no
// more than the tolerance the one with the lowest Bayesian information criterion wins
// (Schwarz, Estimating the dimension of a model, 1978):
//
//	n ln(r² / q²) + p ln n
//
// with n samples, the mean square r² of what a relation leaves, not counted below a quarter
// of the tolerance q, and p drawn parameters. The package knows nothing of matches.
package explain

import (
	"cmp"
	"math"
	"slices"
)

// Point is a value of up to three numbers. What is not used is 0.
type Point = [3]float64

// Sample is a moment at which view and reference differed.
type Sample struct {
	T    float64 // seconds
	View Point
}

// Track is what the reference had over time: straight between its corners.
type Track struct {
	T []float64
	V []Point
}

// At is the reference's value at a time; before the first corner and after the last, theirs.
func (k *Track) At(t float64) Point {
	i, found := slices.BinarySearch(k.T, t)
	switch {
	case found:
		return k.V[i]
	case i == 0:
		return k.V[0]
	case i == len(k.T):
		return k.V[i-1]
	}
	share := (t - k.T[i-1]) / (k.T[i] - k.T[i-1])
	p := k.V[i-1]
	for axis := range p {
		p[axis] += share * (k.V[i][axis] - p[axis])
	}
	return p
}

// Series is all that is known of a difference.
type Series struct {
	Samples   []Sample // in order of time
	Reference Track    // from Earliest before the first sample to the last one
	Axes      int
	Circle    float64 // a full turn of an angle, which has one axis; 0 for other numbers
	Tolerance float64
	Step      float64 // of the number on the wire, 0 if it is not known
	Began     float64 // when the two parted
	MaxDelay  float64 // how late a value may be, seconds
	MaxAhead  float64
}

// Earliest is how far before the first sample the reference should be known, seconds.
const Earliest = 3.0

// Name says what the relation is.
type Name string

const (
	Frozen   Name = "frozen"
	Late     Name = "late"
	Early    Name = "early"
	Creeping Name = "creeping"
	Rate     Name = "rate"
	Offset   Name = "offset"
	Drift    Name = "drift"
	Scaled   Name = "scaled"
	Mirrored Name = "mirrored"
	Swapped  Name = "swapped"
	Wrapped  Name = "wrapped"
	Coarse   Name = "coarse"
	Clamped  Name = "clamped"
	Noisy    Name = "noisy"
)

// Explanation is a relation that fits.
type Explanation struct {
	Name       Name
	Why        string
	Parameters int
	Residual   float64 // root of the mean square of what it leaves
	Score      float64 // the criterion: the lower, the better
}

// fitted is how much of the samples a relation must leave within the tolerance.
const fitted = 0.9

// Fit returns the relations that fit, the best first.
func Fit(s Series) []Explanation {
	if len(s.Samples) < 3 || len(s.Reference.T) == 0 {
		return nil
	}
	f := newFitting(s)
	relations := []func() []candidate{f.frozen, f.shifted, f.uneven, f.creeping, f.rate, f.offset, f.drift, f.scaled, f.mirrored, f.swapped, f.wrapped, f.coarse, f.clamped, f.standing, f.noisy}
	if f.stays() { // what never changes is no motion, whatever would fit it
		relations = []func() []candidate{f.frozen, f.clamped, f.wrapped, f.offset}
	}
	var list []Explanation
	for _, relation := range relations {
		for _, c := range relation() {
			if e, fits := f.weigh(c); fits {
				list = append(list, e)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Explanation) int { return cmp.Compare(a.Score, b.Score) })
	return list
}

// candidate is a relation with its parameters.
type candidate struct {
	name       Name
	why        string
	parameters int
	// value is what the view would show where the reference has there: at is when the view
	// shows it, and it is asked for every moment that may be shown then.
	value func(there Point, at float64) Point
	// delays are the moments that may be shown, as delays; nil is what the rule allows.
	delays []float64
	// wide is how far off it may be beside the tolerance.
	wide float64
	// off is how far a sample is from the relation, instead of value.
	off func(i int) float64
}

// fitting is a series being fitted.
type fitting struct {
	Series
	delays []float64 // that the rule allows
	there  []Point   // the reference at each sample, with the delay that suits best where nothing is wrong
	spread float64   // how far the reference got about, along its longest axis
	lag    float64   // that delay
}

func newFitting(s Series) *fitting {
	f := &fitting{Series: s}
	const steps = 8
	for i := range steps + 1 {
		f.delays = append(f.delays, -s.MaxAhead+(s.MaxDelay+s.MaxAhead)*float64(i)/steps)
	}
	f.lag = s.MaxDelay / 2
	if s.MaxAhead > 0 {
		f.lag = 0
	}
	low, high := f.at(0, f.lag), f.at(0, f.lag)
	for i := range s.Samples {
		p := f.at(i, f.lag)
		f.there = append(f.there, p)
		for axis := range p {
			low[axis], high[axis] = min(low[axis], p[axis]), max(high[axis], p[axis])
		}
	}
	for axis := range low {
		f.spread = max(f.spread, high[axis]-low[axis])
	}
	return f
}

// at is the reference where a sample would show it so much late.
func (f *fitting) at(i int, late float64) Point { return f.Reference.At(f.Samples[i].T - late) }

// moves reports whether the reference moved enough to tell relations apart.
func (f *fitting) moves() bool { return f.spread > 4*f.Tolerance }

// stays reports whether the view shows the same all the time.
func (f *fitting) stays() bool {
	return !slices.ContainsFunc(f.Samples, func(s Sample) bool { return s.View != f.Samples[0].View })
}

// apart is the difference of two values.
func (f *fitting) apart(a, b Point) float64 {
	if f.Circle > 0 {
		return math.Abs(math.Remainder(a[0]-b[0], f.Circle))
	}
	return math.Sqrt((a[0]-b[0])*(a[0]-b[0]) + (a[1]-b[1])*(a[1]-b[1]) + (a[2]-b[2])*(a[2]-b[2]))
}

// weigh says how well a relation fits.
func (f *fitting) weigh(c candidate) (e Explanation, fits bool) {
	n := float64(len(f.Samples))
	within, sum := 0.0, 0.0
	for i := range f.Samples {
		d := f.left(c, i)
		if d <= f.Tolerance+c.wide {
			within++
		}
		d = min(d, 4*f.Tolerance) // a stray one tells no more than that
		sum += d * d
	}
	least := f.Tolerance / 4
	square := max(sum/n, least*least)
	if f.Tolerance == 0 {
		square, least = 1+sum/n, 1
	}
	e = Explanation{c.name, c.why, c.parameters, math.Sqrt(sum / n), n*math.Log(square/(least*least)) + float64(c.parameters)*math.Log(n)}
	return e, within >= fitted*n
}

// left is how far a sample is from a relation, for the delay that suits best.
func (f *fitting) left(c candidate, i int) float64 {
	if c.off != nil {
		return c.off(i)
	}
	delays := c.delays
	if delays == nil {
		delays = f.delays
	}
	nearest := math.Inf(1)
	var before Point
	for k, late := range delays {
		p := c.value(f.at(i, late), f.Samples[i].T)
		d := f.apart(f.Samples[i].View, p)
		if k > 0 && f.Circle == 0 { // between two delays it goes straight
			d = min(d, toLine(f.Samples[i].View, before, p))
		}
		nearest, before = min(nearest, d), p
	}
	return nearest
}

// toLine is how far a point is from the straight line between two others.
func toLine(p, a, b Point) float64 {
	var ww, ow float64
	for k := range p {
		ww, ow = ww+(b[k]-a[k])*(b[k]-a[k]), ow+(p[k]-a[k])*(b[k]-a[k])
	}
	share := 0.0
	if ww > 0 {
		share = max(0, min(1, ow/ww))
	}
	sum := 0.0
	for k := range p {
		d := a[k] + share*(b[k]-a[k]) - p[k]
		sum += d * d
	}
	return math.Sqrt(sum)
}
