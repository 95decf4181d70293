package explain

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

func same(there Point, _ float64) Point { return there }

// rate: its motion is the reference's times a factor, from where the two parted.
func (f *fitting) rate() []candidate {
	if !f.moves() {
		return nil
	}
	var best candidate
	least := math.Inf(1)
	for _, start := range f.starts() {
		from := f.Reference.At(start - f.lag)
		var vv, vt, dd float64
		for i, s := range f.Samples {
			for axis := range f.Axes {
				a, b := f.minus(s.View[axis], from[axis]), f.minus(f.there[i][axis], from[axis])
				vt, vv, dd = vt+a*b, vv+b*b, dd+a*a
			}
		}
		k := vt / vv
		if left := dd - vt*k; vv > 0 && left < least && usable(k) {
			least = left
			best = candidate{name: Rate, why: fmt.Sprintf("from where the two parted it goes %.2g times as far", k), parameters: 2, value: func(p Point, _ float64) Point {
				for axis := range f.Axes {
					p[axis] = from[axis] + k*f.minus(p[axis], from[axis])
				}
				return p
			}}
		}
	}
	if math.IsInf(least, 0) {
		return nil
	}
	return []candidate{best}
}

func (f *fitting) minus(a, b float64) float64 {
	if f.Circle > 0 {
		return math.Remainder(a-b, f.Circle)
	}
	return a - b
}

// offset: the view is off by the same all the time.
func (f *fitting) offset() []candidate {
	var by Point
	for axis := range f.Axes {
		var list []float64
		for i, s := range f.Samples {
			list = append(list, f.minus(s.View[axis], f.there[i][axis]))
		}
		by[axis] = middle(list)
	}
	return []candidate{{name: Offset, why: "it is off by " + f.text(by) + " all the time", parameters: f.Axes, value: func(p Point, _ float64) Point {
		for axis := range p {
			p[axis] += by[axis]
		}
		return p
	}}}
}

// starts are when a relation that grows may have begun: before it was seen to differ.
func (f *fitting) starts() (list []float64) {
	for back := 0.0; back <= 4; back += 0.25 {
		list = append(list, f.Began-back)
	}
	// Where a straight line through what each coordinate is off by begins.
	for axis := range f.Axes {
		var n, t, tt, d, td float64
		for i, s := range f.Samples {
			at, off := s.T-f.Began, f.minus(s.View[axis], f.there[i][axis])
			n, t, tt, d, td = n+1, t+at, tt+at*at, d+off, td+at*off
		}
		slope := (n*td - t*d) / (n*tt - t*t)
		if start := -(d - slope*t) / n / slope; start > -4 && start < 1 {
			list = append(list, f.Began+start)
		}
	}
	return list
}

// drift: what it is off by grows steadily, from nothing.
func (f *fitting) drift() []candidate {
	var best candidate
	least := math.Inf(1)
	for _, start := range f.starts() {
		var by Point
		var left float64
		for axis := range f.Axes {
			var tt, td, dd float64
			for i, s := range f.Samples {
				t, d := s.T-start, f.minus(s.View[axis], f.there[i][axis])
				tt, td, dd = tt+t*t, td+t*d, dd+d*d
			}
			by[axis] = td / tt
			left += dd - td*td/tt
		}
		if left < least {
			least = left
			best = candidate{name: Drift, why: "what it is off by grows by " + f.text(by) + " every second", parameters: f.Axes + 1, value: func(p Point, at float64) Point {
				for axis := range f.Axes {
					p[axis] += by[axis] * (at - start)
				}
				return p
			}}
		}
	}
	return []candidate{best}
}

// scaled: all its numbers, or one, are the reference's times a factor, about the origin or
// another centre.
func (f *fitting) scaled() (list []candidate) {
	if f.Circle > 0 {
		return f.measured()
	}
	if !f.moves() {
		return nil
	}
	sums := func(axis int) (vv, vt, v, t float64) {
		for i, s := range f.Samples {
			a, b := s.View[axis], f.there[i][axis]
			vv, vt, v, t = vv+b*b, vt+a*b, v+a, t+b
		}
		return
	}
	var vv, vt float64
	for axis := range f.Axes {
		a, b, _, _ := sums(axis)
		vv, vt = vv+a, vt+b
		if k := b / a; a > 0 && usable(k) && f.Axes > 1 {
			list = append(list, candidate{name: Scaled, why: fmt.Sprintf("its %s is the reference's times %.2g", ordinals[axis], k), parameters: 1, value: func(p Point, _ float64) Point { p[axis] *= k; return p }})
		}
	}
	for but := range f.Axes { // two of three: on the ground, say
		a, b, _, _ := sums(but)
		if k := (vt - b) / (vv - a); f.Axes == 3 && vv > a && usable(k) {
			list = append(list, candidate{name: Scaled, why: fmt.Sprintf("its numbers but the %s are the reference's times %.2g", strings.TrimSuffix(ordinals[but], " coordinate"), k), parameters: 1, wide: f.Tolerance * max(0, k-1), value: func(p Point, _ float64) Point {
				kept := p[but]
				p = times(p, k)
				p[but] = kept
				return p
			}})
		}
	}
	if k := vt / vv; vv > 0 && usable(k) {
		list = append(list, candidate{name: Scaled, why: fmt.Sprintf("its numbers are the reference's times %.2g", k), parameters: 1, wide: f.Tolerance * max(0, k-1), value: func(p Point, _ float64) Point { return times(p, k) }})
	}
	// About a centre of its own: regression with a constant on each axis.
	n := float64(len(f.Samples))
	var cov, vary float64
	var view, there Point
	for axis := range f.Axes {
		a, b, v, t := sums(axis)
		view[axis], there[axis] = v/n, t/n
		cov, vary = cov+b-v*t/n, vary+a-t*t/n
	}
	if k := cov / vary; vary > 0 && usable(k) {
		list = append(list, candidate{name: Scaled, why: fmt.Sprintf("its motion is the reference's times %.2g", k), parameters: 1 + f.Axes, value: func(p Point, _ float64) Point {
			for axis := range f.Axes {
				p[axis] = view[axis] + k*(p[axis]-there[axis])
			}
			return p
		}})
	}
	return list
}

// measured: an angle is the reference's, in another measure of it.
func (f *fitting) measured() (list []candidate) {
	for _, full := range []float64{1, 2, 2 * math.Pi, 256, 360, 400, 65536} {
		share := f.Circle / full
		inside := !slices.ContainsFunc(f.Samples, func(s Sample) bool { return math.Abs(s.View[0]) > full })
		if math.Abs(share-1) < 0.01 || !inside || !f.moves() {
			continue
		}
		list = append(list, candidate{name: Scaled, why: fmt.Sprintf("a full turn is %.6g there and %.6g here", full, f.Circle), parameters: 1, wide: share / 2, off: func(i int) float64 {
			nearest := math.Inf(1)
			for _, late := range f.delays {
				nearest = min(nearest, math.Abs(math.Remainder(f.Samples[i].View[0]*share-f.at(i, late)[0], f.Circle)))
			}
			return nearest
		}})
	}
	return list
}

func usable(k float64) bool { return k > 0 && math.Abs(k-1) > 0.03 && !math.IsInf(k, 0) }

var ordinals = [...]string{"first coordinate", "second coordinate", "third coordinate"}

func times(p Point, k float64) Point { return Point{k * p[0], k * p[1], k * p[2]} }

// mirrored: one of its numbers, or all, have the other sign.
func (f *fitting) mirrored() (list []candidate) {
	if f.Circle > 0 {
		return f.turning()
	}
	for axis := range f.Axes {
		if f.large(axis) {
			list = append(list, candidate{name: Mirrored, why: "its " + ordinals[axis] + " has the other sign", value: func(p Point, _ float64) Point { p[axis] *= -1; return p }})
		}
	}
	if f.Axes > 1 && f.moves() {
		list = append(list, candidate{name: Mirrored, why: "all its numbers have the other sign", value: func(p Point, _ float64) Point { return times(p, -1) }})
	}
	return list
}

// turning: an angle grows the other way round, from the same axis or another.
func (f *fitting) turning() (list []candidate) {
	if !f.moves() {
		return nil
	}
	for quarter := range 4 {
		from := f.Circle * float64(quarter) / 4
		c := candidate{name: Mirrored, why: "it turns the other way", value: func(p Point, _ float64) Point { p[0] = from - p[0]; return p }}
		if quarter > 0 {
			c.why, c.parameters = fmt.Sprintf("it turns the other way, from %.6g", from), 1
		}
		list = append(list, c)
	}
	return list
}

// large reports whether the reference is away from zero on an axis.
func (f *fitting) large(axis int) bool {
	return slices.ContainsFunc(f.there, func(p Point) bool { return math.Abs(p[axis]) > 2*f.Tolerance })
}

// swapped: two of its numbers are in one another's place.
func (f *fitting) swapped() (list []candidate) {
	for a := range f.Axes {
		for b := range a {
			list = append(list, candidate{name: Swapped, why: fmt.Sprintf("its %s and its %s are in one another's place", ordinals[b], ordinals[a]), value: func(p Point, _ float64) Point {
				p[a], p[b] = p[b], p[a]
				return p
			}})
		}
	}
	return list
}

// wrapped: a number is off by whole turns of 2^8, 2^16 or 2^32 steps, and stays within one
// while the reference does not.
func (f *fitting) wrapped() (list []candidate) {
	if f.Circle > 0 {
		return nil
	}
	for axis := range f.Axes {
		var offs []float64
		low, high := math.Inf(1), math.Inf(-1)
		for i, s := range f.Samples {
			if d := math.Abs(s.View[axis] - f.there[i][axis]); d > 2*f.Tolerance {
				offs = append(offs, d)
			}
			low, high = min(low, s.View[axis]), max(high, s.View[axis])
		}
		if len(offs) == 0 {
			continue
		}
		off := middle(offs) // the smallest may be of a sample between two turns
		for _, of := range f.turns(off) {
			turn := of.size
			// A number without a sign, or with one.
			inside := low >= -f.Tolerance && high <= turn+f.Tolerance || low >= -turn/2-f.Tolerance && high <= turn/2+f.Tolerance
			if !inside || turn < 10*f.Tolerance {
				continue
			}
			list = append(list, candidate{name: Wrapped, why: fmt.Sprintf("its %s fits when whole multiples of %.6g are added, which is 2^%d steps of %.4g", ordinals[axis], turn, of.bits, math.Ldexp(turn, -of.bits)), parameters: 1, off: func(i int) float64 {
				nearest := math.Inf(1)
				for _, late := range f.delays {
					p := f.at(i, late)
					n := math.Round((p[axis] - f.Samples[i].View[axis]) / turn)
					p[axis] -= n * turn
					if n != 0 {
						nearest = min(nearest, f.apart(f.Samples[i].View, p))
					}
				}
				return nearest
			}})
		}
	}
	return list
}

// turn is how far a number on the wire goes before it begins anew.
type turn struct {
	size float64
	bits int
}

// turns are the sizes of a number on the wire that a difference could come from: 2^8, 2^16
// or 2^32 steps, of a decimal place where the step is not known.
func (f *fitting) turns(off float64) (list []turn) {
	if off == 0 {
		return nil
	}
	for _, bits := range []int{8, 16, 32} {
		if f.Step > 0 {
			list = append(list, turn{math.Ldexp(f.Step, bits), bits})
			continue
		}
		for n := 1.0; n <= 8; n++ {
			size := math.Ldexp(math.Pow(10, math.Round(math.Log10(math.Ldexp(off/n, -bits)))), bits)
			if math.Abs(n*size-off) < f.Tolerance && size > 10*f.Tolerance && !slices.Contains(list, turn{size, bits}) {
				list = append(list, turn{size, bits})
			}
		}
	}
	return list
}

// coarse: its numbers, or some of them, lie on a lattice that is wider than the tolerance, each at the
// point nearest to the reference, or below it.
func (f *fitting) coarse() (list []candidate) {
	if f.Circle > 0 || !f.moves() {
		return nil
	}
	for _, step := range steps {
		if step < f.Tolerance || step > f.spread {
			continue
		}
		onIt := func(p Point, axis int) bool { return math.Abs(math.Remainder(p[axis], step)) < max(2e-3, 1e-3*step) }
		var axes []int
		fewest := len(f.Samples)
		for axis := range f.Axes {
			on, theirs := 0, 0
			for _, s := range f.Samples {
				if onIt(s.View, axis) {
					on++
				}
			}
			for _, p := range f.Reference.V {
				if onIt(p, axis) {
					theirs++
				}
			}
			stands := !slices.ContainsFunc(f.Samples, func(s Sample) bool { return s.View[axis] != f.Samples[0].View[axis] })
			if 10*on >= 6*len(f.Samples) && 10*theirs <= 3*len(f.Reference.V) && !stands {
				axes, fewest = append(axes, axis), min(fewest, on)
			}
		}
		if len(axes) == 0 {
			continue
		}
		wide := step * math.Sqrt(float64(len(axes)))
		what := "values of the view"
		if len(axes) < f.Axes {
			what = "values of its " + ordinals[axes[0]]
			for _, axis := range axes[1:] {
				what += " and its " + ordinals[axis]
			}
		}
		return []candidate{{name: Coarse, why: fmt.Sprintf("%d of %d %s are multiples of %g", fewest, len(f.Samples), what, step), value: same, wide: wide, off: func(i int) float64 {
			return max(0, f.left(candidate{value: same}, i)-wide) // on its way from one point to the next it may be on neither
		}}}
	}
	return nil
}

// steps are lattices that people make, the widest first.
var steps = func() (list []float64) {
	for e := 5; e >= -4; e-- {
		for _, m := range []float64{5, 2.5, 2, 1} {
			list = append(list, m*math.Pow(10, float64(e)))
		}
	}
	for e := 12; e >= -6; e-- {
		list = append(list, math.Ldexp(1, e))
	}
	slices.SortFunc(list, func(a, b float64) int { return int(math.Copysign(1, b-a)) })
	return list
}()

// clamped: one of its numbers stops at a limit that the reference passes.
func (f *fitting) clamped() (list []candidate) {
	if f.Circle > 0 || !f.moves() {
		return nil
	}
	for axis := range f.Axes {
		low, high, least, most := math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
		for i, s := range f.Samples {
			low, high = min(low, s.View[axis]), max(high, s.View[axis])
			least, most = min(least, f.there[i][axis]), max(most, f.there[i][axis])
		}
		if most-least < 2*f.Tolerance { // the reference does not move along it
			continue
		}
		for _, limit := range []struct {
			at   float64
			stop func(a, b float64) float64
			word string
		}{{high, math.Min, "above"}, {low, math.Max, "below"}} {
			stopped, passed := 0, 0
			for i, s := range f.Samples {
				if s.View[axis] == limit.at && limit.stop(f.there[i][axis], limit.at) == limit.at {
					stopped++
				}
				if math.Abs(f.there[i][axis]-limit.at) > f.Tolerance {
					passed++
				}
			}
			moving := f.Axes == 1 || !f.stands(axis)
			// Where the reference is nowhere near the limit it is none: the number stands, for whatever reason.
			near := max(2*f.Tolerance, (most-least)/10)
			free := slices.ContainsFunc(f.Reference.V, func(p Point) bool {
				return limit.stop(p[axis], limit.at) != limit.at || math.Abs(p[axis]-limit.at) <= near
			})
			if 5*stopped < 4*len(f.Samples) || 5*passed < 3*len(f.Samples) || !moving || !free {
				continue
			}
			list = append(list, candidate{name: Clamped, why: fmt.Sprintf("its %s never gets %s %.6g", ordinals[axis], limit.word, limit.at), parameters: 1, value: func(p Point, _ float64) Point {
				p[axis] = limit.stop(p[axis], limit.at)
				return p
			}})
		}
	}
	return list
}

// standing: one of the view's numbers stands, the others follow the reference.
func (f *fitting) standing() (list []candidate) {
	if !f.moves() {
		return nil
	}
	for axis := range f.Axes {
		at := f.Samples[0].View[axis]
		still := !slices.ContainsFunc(f.Samples, func(s Sample) bool { return s.View[axis] != at })
		if !still || f.stands(axis) || !slices.ContainsFunc(f.there, func(p Point) bool { return math.Abs(p[axis]-f.there[0][axis]) > f.Tolerance }) {
			continue
		}
		list = append(list, candidate{name: Frozen, why: fmt.Sprintf("its %s stays at %.6g, and the rest of it moves", ordinals[axis], at), parameters: 1, value: func(p Point, _ float64) Point { p[axis] = at; return p }})
	}
	return list
}

// stands reports whether the view's other numbers stand as well.
func (f *fitting) stands(but int) bool {
	for axis := range f.Axes {
		if axis == but {
			continue
		}
		for _, s := range f.Samples {
			if math.Abs(s.View[axis]-f.Samples[0].View[axis]) > f.Tolerance/2 {
				return false
			}
		}
	}
	return true
}

// noisy: it is scattered about the right place, on either side of it from one sample to the
// next, as far as chance takes it.
func (f *fitting) noisy() []candidate {
	var sum, mean, turns float64
	n := float64(len(f.Samples))
	if n < 8 {
		return nil
	}
	for axis := range f.Axes {
		var before, m float64
		for i, s := range f.Samples {
			d := s.View[axis] - f.there[i][axis]
			sum, m = sum+d*d/n, m+d/n
			if i > 0 && d*before < 0 {
				turns += 1 / (n - 1) / float64(f.Axes)
			}
			before = d
		}
		mean += m * m
	}
	if turns < 0.35 || mean > sum/3 || f.Circle > 0 {
		return nil
	}
	// What is scattered fits no better than it is scattered.
	width := math.Sqrt(sum)
	return []candidate{{name: Noisy, why: fmt.Sprintf("it is scattered about the right place, by %.3g", width), parameters: 2, wide: 3 * width, off: func(i int) float64 {
		return min(f.left(candidate{value: same}, i), 3*f.Tolerance)
	}}}
}

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// text writes what a point is off by.
func (f *fitting) text(p Point) string {
	if f.Axes == 1 {
		return fmt.Sprintf("%.4g", p[0])
	}
	text := ""
	for axis := range f.Axes {
		if axis > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%.4g", p[axis])
	}
	return text
}
