package judge

import (
	"math"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// point is a value as it is compared: up to three numbers. What a value is not
// made of numbers for, encode turns into some.
type point [3]float64

// path is what the reference said of one field, or of several that are compared
// together, over time. It is linear between its corners for numbers and angles
// and constant up to the next corner for everything else; behind the last
// corner the last value stands.
type path struct {
	compare rulebook.Compare
	circle  float64
	fields  []trace.Field // none for existence
	corners []corner
	cursor  int // index near the times that are asked about
	dirty   bool
	broken  bool // the next corner does not continue the one before
	version int  // counts what was added
}

type corner struct {
	t     time.Duration
	v     point
	since time.Duration // of what is no number to move: it may have been so from then on
}

func newPath(rule *rulebook.Rule, fields []trace.Field) *path {
	return &path{compare: rule.Compare, circle: rule.Circle, fields: fields}
}

// encode turns the present values of the fields into a point.
func encode(compare rulebook.Compare, values []trace.Value) (p point) {
	if compare != rulebook.Exact {
		for i, v := range values {
			p[i] = finite(v)
		}
		return p
	}
	v := values[0]
	p[1] = float64(v.Kind())
	switch f := v.Float(); {
	case v.Kind() != trace.KindNumber:
		p[0] = float64(v.Code())
	case math.IsNaN(f):
		p[1] = -1
	default:
		p[0] = f
	}
	return p
}

// finite is a number to reckon with, or NaN: no distance to that is small.
func finite(v trace.Value) float64 {
	f := v.Float()
	if math.IsInf(f, 0) {
		return math.NaN()
	}
	return f
}

// add puts a corner at t. since is when the value before was last known to
// stand: a number moves from there to here.
func (p *path) add(t, since time.Duration, v point) {
	p.version++
	if n := len(p.corners); n > 0 {
		last := &p.corners[n-1]
		if p.compare == rulebook.Angle {
			v[0] = last.v[0] + turned(v[0]-last.v[0], p.circle) // the short way round
		}
		switch {
		case t <= last.t: // said twice at one moment: the later counts
			last.v = v
			return
		case p.broken || numbers(v) != numbers(last.v):
			p.corners = append(p.corners, corner{t: t - 1, v: last.v, since: t - 1})
		case p.compare != rulebook.Exact && since > last.t && since < t:
			p.corners = append(p.corners, corner{t: since, v: last.v, since: since})
		}
	}
	p.broken = false
	p.corners = append(p.corners, corner{t, v, since})
}

// at is the value at a moment; before the first corner, the first value.
func (p *path) at(t time.Duration) point {
	i := p.seek(t)
	if i < 0 {
		return p.corners[0].v
	}
	a := p.corners[i]
	if p.compare == rulebook.Exact || i+1 == len(p.corners) {
		return a.v
	}
	b := p.corners[i+1]
	share := float64(t-a.t) / float64(b.t-a.t)
	for k := range a.v {
		a.v[k] += (b.v[k] - a.v[k]) * share
	}
	return a.v
}

// seek returns the index of the last corner at or before t, or -1. It looks
// from where it looked last.
func (p *path) seek(t time.Duration) int {
	c := min(max(p.cursor, 0), len(p.corners)-1)
	for c+1 < len(p.corners) && p.corners[c+1].t <= t {
		c++
	}
	for c >= 0 && p.corners[c].t > t {
		c--
	}
	p.cursor = c
	return c
}

// latest looks for the latest moment of [low, high] at which the path was
// within tolerance of v.
func (p *path) latest(v point, within float64, low, high time.Duration) (moment time.Duration, ok bool) {
	for i := p.seek(high); i >= 0; i-- {
		if p.mayMeet(i, v, within) {
			from, to := p.segment(i, low, high)
			if _, end, d := p.near(i, v, within, from, to); d <= within {
				return end, true
			}
		}
		if p.corners[i].t <= low {
			break
		}
	}
	return 0, false
}

// mayMeet is false where a glance at the box around a stretch of the path shows
// that v is too far away. Most stretches end here.
func (p *path) mayMeet(i int, v point, within float64) bool {
	if p.compare != rulebook.Distance || i+1 == len(p.corners) {
		return true
	}
	a, b := &p.corners[i].v, &p.corners[i+1].v
	return inReach(a[0], b[0], v[0], within) && inReach(a[1], b[1], v[1], within)
}

// inReach reports whether v is within reach of the span between a and b. It is
// written so that what is not a number is not passed over, and without min and
// max, which take their time over that.
func inReach(a, b, v, within float64) bool {
	if a > b {
		a, b = b, a
	}
	return !(v < a-within || v > b+within)
}

// gap is the smallest distance of v from the path in [low, high], or infinity
// if there is nothing there.
func (p *path) gap(v point, low, high time.Duration) float64 {
	gap := math.Inf(1)
	for i := p.seek(high); i >= 0; i-- {
		from, to := p.segment(i, low, high)
		_, _, d := p.near(i, v, 0, from, to)
		gap = min(gap, d)
		if p.corners[i].t <= low {
			break
		}
	}
	return gap
}

// passes reports whether a number lies between two others, all of them compared exactly.
func passes(a, b, v point) bool {
	const number = float64(trace.KindNumber)
	return a[1] == number && b[1] == number && v[1] == number && (a[0] < v[0] && v[0] < b[0] || b[0] < v[0] && v[0] < a[0])
}

// segment is the part of [low, high] that lies between corner i and the next.
func (p *path) segment(i int, low, high time.Duration) (from, to time.Duration) {
	to = high
	if i+1 < len(p.corners) {
		to = min(high, p.corners[i+1].t)
	}
	return min(max(low, p.corners[i].t), to), to
}

// near finds when, between from and to behind corner i, the path is within
// tolerance of v. d is the smallest distance there; begin and end are set if it
// is within the tolerance.
func (p *path) near(i int, v point, within float64, from, to time.Duration) (begin, end time.Duration, d float64) {
	a := &p.corners[i]
	if p.compare == rulebook.Exact {
		if a.v == v {
			return from, to, 0
		}
		if i+1 < len(p.corners) {
			if b := &p.corners[i+1]; passes(a.v, b.v, v) && to > b.since { // it counted on between two records
				return max(from, b.since+time.Microsecond), to, 0
			}
		}
		return 0, 0, 1
	}
	if p.compare == rulebook.Angle { // the turn of v that lies nearest
		v[0] = a.v[0] + turned(v[0]-a.v[0], p.circle)
	}
	if i+1 == len(p.corners) {
		return from, to, distance(a.v, v)
	}
	b := &p.corners[i+1]
	if p.compare == rulebook.Angle {
		// Where the path turns far in one go, another turn is nearer to its end.
		other := v
		other[0] = b.v[0] + turned(v[0]-b.v[0], p.circle)
		if math.Abs(other[0]-v[0]) > p.circle/2 {
			begin, end, d = straight(a, b, v, within, from, to)
			begin2, end2, d2 := straight(a, b, other, within, from, to)
			switch {
			case d <= within && d2 <= within:
				return min(begin, begin2), max(end, end2), min(d, d2)
			case d2 < d:
				return begin2, end2, d2
			}
			return begin, end, d
		}
	}
	return straight(a, b, v, within, from, to)
}

// straight is near for the straight way between two corners.
func straight(a, b *corner, v point, within float64, from, to time.Duration) (begin, end time.Duration, d float64) {
	// The place at share u of the way is a+u*way; |a-v + u*way|^2 is a parabola.
	way := point{b.v[0] - a.v[0], b.v[1] - a.v[1], b.v[2] - a.v[2]}
	off := point{a.v[0] - v[0], a.v[1] - v[1], a.v[2] - v[2]}
	ww, ow, oo := dot(way, way), dot(off, way), dot(off, off)
	if ww == 0 {
		return from, to, math.Sqrt(oo)
	}
	span := float64(b.t - a.t)
	low, high := float64(from-a.t)/span, float64(to-a.t)/span
	nearest := -ow / ww
	if nearest < low {
		nearest = low
	} else if nearest > high {
		nearest = high
	}
	square := oo + nearest*(2*ow+nearest*ww)
	if !(square <= within*within) {
		if math.IsNaN(square) {
			if numbers(a.v) == allNumbers && numbers(b.v) == allNumbers && numbers(v) == allNumbers {
				return 0, 0, math.Inf(1) // too large to be squared
			}
			return straightOdd(*a, *b, v, within, from, to)
		}
		if d = math.Sqrt(square); d > within { // else it is just at the edge
			return 0, 0, d
		}
	}
	half, middle := 0.0, -ow/ww
	if inside := ow*ow - ww*(oo-within*within); inside > 0 {
		half = math.Sqrt(inside) / ww
	}
	begin, end = from, to
	if first := middle - half; first > low {
		begin = min(max(a.t+time.Duration(first*span), from), to)
	}
	if last := middle + half; last < high {
		end = min(max(a.t+time.Duration(last*span), from), to)
	}
	if square > 0 {
		d = math.Sqrt(square)
	}
	return begin, end, d
}

var allNumbers = [3]bool{true, true, true}

// numbers says which coordinates are numbers.
func numbers(v point) [3]bool {
	return [3]bool{!math.IsNaN(v[0]), !math.IsNaN(v[1]), !math.IsNaN(v[2])}
}

// straightOdd is straight for stretches with coordinates that are no numbers: those
// agree where neither side has one, as with a field that the game does not have.
func straightOdd(a, b corner, v point, within float64, from, to time.Duration) (begin, end time.Duration, d float64) {
	if numbers(a.v) != numbers(v) || numbers(b.v) != numbers(v) {
		return 0, 0, math.Inf(1)
	}
	for k := range v {
		if math.IsNaN(v[k]) {
			a.v[k], b.v[k], v[k] = 0, 0, 0
		}
	}
	return straight(&a, &b, v, within, from, to)
}

// forget drops corners that no question about t or later needs.
func (p *path) forget(t time.Duration) {
	drop := 0
	for drop+1 < len(p.corners) && p.corners[drop+1].t <= t {
		drop++
	}
	if drop < 64 { // seldom, because the rest is moved
		return
	}
	p.corners = append(p.corners[:0], p.corners[drop:]...)
	p.cursor -= drop
}

// minus is the difference of two values: the short way round for angles.
func (p *path) minus(a, b point) point {
	d := point{a[0] - b[0], a[1] - b[1], a[2] - b[2]}
	if p.compare == rulebook.Angle {
		d[0] = turned(d[0], p.circle)
	}
	return d
}

// turned is an angle's short way round, what math.Remainder says of it, which takes its
// time over angles that are short already.
func turned(angle, circle float64) float64 {
	if angle > -circle/2 && angle < circle/2 {
		return angle
	}
	return math.Remainder(angle, circle)
}

func (p point) times(f float64) point { return point{p[0] * f, p[1] * f, p[2] * f} }

func dot(a, b point) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }

func distance(a, b point) float64 {
	d := point{a[0] - b[0], a[1] - b[1], a[2] - b[2]}
	for k := range d {
		if math.IsNaN(d[k]) { // not numbers: the same if neither is one
			if d[k] = 0; math.IsNaN(a[k]) != math.IsNaN(b[k]) {
				return math.Inf(1)
			}
		}
	}
	return math.Sqrt(dot(d, d))
}
