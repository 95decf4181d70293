package explain

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// winding is a way that no simple relation maps onto itself.
func winding(t float64) Point {
	return Point{20 + 8*math.Sin(0.7*t) + 2*math.Cos(1.9*t), -15 + 5*math.Cos(0.5*t) + 3*math.Sin(1.3*t)}
}

// series is what a view shows from 10 s to 20 s of a way, which differs from 10 s on.
func series(way func(t float64) Point, view func(t float64) Point) Series {
	s := Series{Axes: 2, Tolerance: 0.3, Began: 10, MaxDelay: 0.25}
	for t := 6.0; t <= 20; t += 0.05 {
		s.Reference.T, s.Reference.V = append(s.Reference.T, t), append(s.Reference.V, way(t))
	}
	for t := 10.0; t <= 20; t += 0.25 {
		s.Samples = append(s.Samples, Sample{t, view(t)})
	}
	return s
}

const lag = 0.12 // of the view where it is right

func TestTheSimplestRelationWins(t *testing.T) {
	right := func(t float64) Point { return winding(t - lag) }
	from := right(10)
	for _, row := range []struct {
		name string
		view func(t float64) Point
		want Name
		why  string
	}{
		{"it stands still", func(t float64) Point { return from }, Frozen, "kept"},
		{"it is 1.06 s late", func(t float64) Point { return winding(t - 1.06) }, Late, "ms late, 250 ms are allowed"},
		{"it is half a second early", func(t float64) Point { return winding(t + 0.5) }, Early, "early"},
		{"its clock loses 80 ms a second", func(t float64) Point { return winding(t - lag - 0.08*(t-10)) }, Creeping, "later by 79 ms every second"},
		{"it goes half as far", func(t float64) Point { return between(from, right(t), 0.5) }, Rate, "0.5 times as far"},
		{"it is off by 2 and -1", func(t float64) Point { p := right(t); return Point{p[0] + 2, p[1] - 1} }, Offset, "all the time"},
		{"it is off by exactly 1", func(t float64) Point { p := right(t); return Point{p[0] + 1, p[1]} }, Offset, "all the time"},
		{"it drifts away", func(t float64) Point { p := right(t); return Point{p[0] + 0.4*(t-10), p[1] - 0.2*(t-10)} }, Drift, "every second"},
		{"everything is doubled", func(t float64) Point { return times(right(t), 2) }, Scaled, "times 2"},
		{"one coordinate is halved", func(t float64) Point { p := right(t); return Point{p[0] / 2, p[1]} }, Scaled, "first coordinate"},
		{"one coordinate has the other sign", func(t float64) Point { p := right(t); return Point{p[0], -p[1]} }, Mirrored, "second coordinate"},
		{"coordinates are swapped", func(t float64) Point { p := right(t); return Point{p[1], p[0]} }, Swapped, "one another's place"},
		{"a number of 8 bits and a tenth is too small", func(t float64) Point {
			p := right(t)
			return Point{p[0] - 25.6*math.Round(p[0]/25.6), p[1]}
		}, Wrapped, "multiples of 25.6 are added, which is 2^8 steps of 0.1"},
		{"it is rounded to whole numbers", func(t float64) Point { p := right(t); return Point{math.Round(p[0]), math.Round(p[1])} }, Coarse, "multiples of 1"},
		{"one coordinate is rounded to fours", func(t float64) Point { p := right(t); return Point{p[0], 4 * math.Round(p[1]/4)} }, Coarse, "values of its second coordinate are multiples of 4"},
		{"it comes once a second", func(t float64) Point { return right(math.Floor(t)) }, Late, "it comes only every 1 s, and stands in between"},
		{"it is late by now this and now that", func(t float64) Point { return winding(t - 0.9 - 0.6*math.Sin(7*t)) }, Late, "it is where the reference was 0.3"},
		{"it never gets above 20", func(t float64) Point { p := right(t); return Point{min(p[0], 20), p[1]} }, Clamped, "never gets above 20"},
		{"one coordinate never comes", func(t float64) Point { return Point{right(t)[0], 0} }, Frozen, "second coordinate stays at 0"},
		{"it is scattered", func(t float64) Point {
			p := right(t)
			return Point{p[0] + 2*math.Sin(977*t), p[1] + 2*math.Cos(1301*t)}
		}, Noisy, "scattered"},
	} {
		t.Run(row.name, func(t *testing.T) {
			s := series(winding, row.view)
			f := newFitting(s)
			var differing []Sample
			for i, sample := range s.Samples {
				if f.left(candidate{value: same}, i) > s.Tolerance {
					differing = append(differing, sample)
				}
			}
			s.Samples = differing
			list := Fit(s)
			require.NotEmpty(t, list)
			assert.Equal(t, row.want, list[0].Name, "%+v", list)
			assert.Contains(t, list[0].Why, row.why)
		})
	}
}

func between(a, b Point, share float64) Point {
	for axis := range a {
		a[axis] += share * (b[axis] - a[axis])
	}
	return a
}

// An angle has one axis and no origin: what is late on a circle is late, what is off is off.
func TestAnglesAreExplainedOnTheirCircle(t *testing.T) {
	way := func(t float64) Point { return Point{math.Mod(70*t+40*math.Sin(t), 360)} }
	right := func(t float64) float64 { return way(t - lag)[0] }
	for _, row := range []struct {
		name string
		view func(t float64) Point
		want Name
		why  string
	}{
		{"it is late", func(t float64) Point { return way(t - 1) }, Late, "ms late"},
		{"it is a quarter of a circle off", func(t float64) Point { return Point{math.Mod(right(t)+90, 360)} }, Offset, "all the time"},
		{"it stands still", func(float64) Point { return way(9.9) }, Frozen, "kept"},
		{"it turns the other way", func(t float64) Point { return Point{360 - right(t)} }, Mirrored, "it turns the other way"},
		{"it is measured clockwise from another axis", func(t float64) Point { return Point{math.Mod(450-right(t), 360)} }, Mirrored, "it turns the other way, from 90"},
		{"it is told in radians", func(t float64) Point { return Point{right(t) * math.Pi / 180} }, Scaled, "a full turn is 6.28319 there and 360 here"},
		{"it is told in 256 steps", func(t float64) Point { return Point{math.Floor(right(t) * 256 / 360)} }, Scaled, "a full turn is 256 there and 360 here"},
	} {
		t.Run(row.name, func(t *testing.T) {
			s := series(func(t float64) Point { return Point{70*t + 40*math.Sin(t)} }, row.view)
			s.Axes, s.Circle, s.Tolerance = 1, 360, 8
			list := Fit(s)
			require.NotEmpty(t, list)
			assert.Equal(t, row.want, list[0].Name, "%+v", list)
			assert.Contains(t, list[0].Why, row.why)
		})
	}
}

// Whatever is asked, nothing panics, what fits comes in order, and nothing fits that leaves
// most samples outside the tolerance.
func TestAnySeriesIsExplainedOrNot(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Series{Axes: rapid.IntRange(1, 3).Draw(t, "axes"), Tolerance: rapid.SampledFrom([]float64{0, 0.1, 5}).Draw(t, "tolerance"), Began: 3, MaxDelay: 0.2, MaxAhead: rapid.SampledFrom([]float64{0, 0.2}).Draw(t, "ahead")}
		number := rapid.SampledFrom([]float64{0, 0, 1, -1, 2.56, 1e-9, 1e9, 3.7, -40})
		point := func(what string) (p Point) {
			for axis := range s.Axes {
				p[axis] = number.Draw(t, what)
			}
			return p
		}
		for i := range rapid.IntRange(0, 30).Draw(t, "corners") {
			s.Reference.T, s.Reference.V = append(s.Reference.T, float64(i)*0.3), append(s.Reference.V, point("reference"))
		}
		for i := range rapid.IntRange(0, 20).Draw(t, "samples") {
			s.Samples = append(s.Samples, Sample{3 + float64(i)*0.2, point("view")})
		}
		list := Fit(s)
		for i, e := range list {
			require.False(t, math.IsNaN(e.Score))
			require.NotEmpty(t, e.Why)
			if i > 0 {
				require.LessOrEqual(t, list[i-1].Score, e.Score)
			}
		}
	})
}

func TestTracksAreStraightBetweenTheirCorners(t *testing.T) {
	k := Track{T: []float64{1, 2, 4}, V: []Point{{0}, {10}, {0}}}
	for at, want := range map[float64]float64{0: 0, 1: 0, 1.5: 5, 2: 10, 3: 5, 4: 0, 9: 0} {
		assert.InDelta(t, want, k.At(at)[0], 1e-12, "at %v", at)
	}
}
