package sweep

import (
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"zitherwheel/internal/campaign/stats"
)

// Typical is a measure over the matches of a point: the worst view's of each.
type Typical struct {
	Median float64 `json:"median"`
	Low    float64 `json:"low"` // of the true median, with 95% confidence
	High   float64 `json:"high"`
	Of     int     `json:"of"` // matches in which it could be measured
}

// typical sums up the values of measures over matches.
func typical(values map[string][]float64) map[string]Typical {
	all := map[string]Typical{}
	for name, list := range values {
		median, low, high := stats.Median(list)
		all[name] = Typical{median, low, high, len(list)}
	}
	return all
}

// Measures are the names of all that was measured at any point.
func (r *Result) Measures() []string {
	names := map[string]bool{}
	for _, p := range r.Points {
		for name := range p.Measures {
			names[name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// Curve is one measure along the one axis of a sweep.
type Curve struct {
	Measure string
	At      []int // of the axis' values, at which it was measured, rising
	Values  []Typical
	Knee    int // the place in At at which it turns, or -1
}

// Places are where the values of an axis lie on it: the numbers that they begin with, if all do and
// they rise, or else one after the other.
func (a Axis) Places() []float64 {
	var list, even []float64
	for i, v := range a.Values {
		even = append(even, float64(i))
		number := strings.TrimRightFunc(v, func(r rune) bool { return r == '%' || unicode.IsLetter(r) })
		f, err := strconv.ParseFloat(number, 64)
		if unit := v[len(number):]; err == nil && strings.HasSuffix(a.Values[0], unit) && (len(list) == 0 || f > list[len(list)-1]) {
			list = append(list, f)
		}
	}
	if len(list) < len(even) {
		return even
	}
	return list
}

// Curves are those of the measures that are named, as far as they were measured; none if the sweep
// has more than one axis.
func (r *Result) Curves(names []string) (list []Curve) {
	if len(r.Axes) != 1 {
		return nil
	}
	for _, name := range names {
		c := Curve{Measure: name, Knee: -1}
		for i, p := range r.Points {
			if v, measured := p.Measures[name]; measured {
				c.At, c.Values = append(c.At, i), append(c.Values, v)
			}
		}
		if len(c.At) > 0 {
			c.Knee = knee(c.At, c.Values, r.Axes[0].Places())
			list = append(list, c)
		}
	}
	return list
}

// kneeAtLeast is how far a curve must be from the straight line between its ends to have a knee, as
// a share of its height.
const kneeAtLeast = 0.15

// knee is where a curve is farthest from the straight line between its ends, both stretched to the
// unit square (after Satopaa and others, Finding a "Kneedle" in a haystack, 2011); -1 if it is nowhere
// far, or if the line is within the interval there.
func knee(at []int, values []Typical, places []float64) int {
	n := len(at)
	if n < 4 {
		return -1
	}
	first, last := values[0].Median, values[n-1].Median
	least, most := first, first
	for _, v := range values {
		least, most = min(least, v.Median), max(most, v.Median)
	}
	if !(most > least) {
		return -1
	}
	best, farthest := -1, kneeAtLeast
	for i := 1; i < n-1; i++ {
		share := (places[at[i]] - places[at[0]]) / (places[at[n-1]] - places[at[0]])
		line, v := first+share*(last-first), values[i]
		if off := math.Abs(v.Median-line) / (most - least); off > farthest && (line < v.Low || line > v.High) {
			best, farthest = i, off
		}
	}
	return best
}
