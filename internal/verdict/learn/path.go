package learn

import (
	"math"
	"slices"
	"sort"
	"time"

	"zitherwheel/internal/trace"
)

// path is how one or several numbers of an entity went, as a view told it: straight from the last
// moment at which a value is known to have stood to the next.
type path struct {
	t, since []time.Duration
	v        [][3]float64
	circle   float64
	width    int
}

// pathOf is nil where a view does not tell all of the fields.
func (v *teller) pathOf(e trace.Entity, fields []trace.Field, circle float64) *path {
	p := &path{circle: circle, width: len(fields)}
	var courses []*course
	for _, f := range fields {
		c := v.courses[place{e, f}]
		if c == nil {
			return nil
		}
		courses = append(courses, c)
		p.t = append(p.t, c.t...)
	}
	slices.Sort(p.t)
	p.t = slices.Compact(p.t)
	at := make([]int, len(courses))
	known := 0
	for i, t := range p.t {
		var value [3]float64
		if i > 0 {
			value = p.v[i-1]
		}
		for k, c := range courses {
			for at[k] < len(c.t) && c.t[at[k]] <= t {
				if at[k] == 0 {
					known++
				}
				value[k] = c.v[at[k]].Float()
				at[k]++
			}
		}
		if known < len(courses) {
			for k := range value[:len(courses)] {
				if at[k] == 0 {
					value[k] = math.NaN()
				}
			}
		}
		since := t
		if n, _ := slices.BinarySearch(v.told, t); n > 0 {
			since = v.told[n-1]
		}
		p.v, p.since = append(p.v, value), append(p.since, since)
	}
	return p
}

// at is the value at a moment.
func (p *path) at(t time.Duration) (value [3]float64, ok bool) {
	i := sort.Search(len(p.t), func(i int) bool { return p.t[i] > t }) - 1
	if i < 0 {
		return value, false
	}
	value = p.v[i]
	if n := i + 1; n < len(p.t) && t > p.since[n] && p.t[n] > p.since[n] {
		share := float64(t-p.since[n]) / float64(p.t[n]-p.since[n])
		for k := range p.width {
			value[k] += p.minus(p.v[n][k], value[k]) * share
		}
	}
	return value, !math.IsNaN(value[0] + value[1] + value[2])
}

// minus is the difference of two components, the short way round for angles.
func (p *path) minus(a, b float64) float64 {
	if p.circle > 0 {
		return math.Remainder(a-b, p.circle)
	}
	return a - b
}

// apart is how far two values are from one another.
func (p *path) apart(a, b [3]float64) float64 {
	sum := 0.0
	for k := range p.width {
		d := p.minus(a[k], b[k])
		sum += d * d
	}
	return math.Sqrt(sum)
}

// near is the smallest distance from a value within a time.
func (p *path) near(value [3]float64, from, until time.Duration) float64 {
	best := math.Inf(1)
	for t := from; t <= until; t += fine {
		if at, ok := p.at(t); ok {
			best = min(best, p.apart(value, at))
		}
	}
	return best
}

// extent is how far it goes within a time: a bound on how much it moves there.
func (p *path) extent(from, until time.Duration) (most float64) {
	first, ok := p.at(from)
	if !ok {
		return 0
	}
	for t := from; t <= until; t += 5 * fine {
		if at, ok := p.at(t); ok {
			most = max(most, p.apart(first, at))
		}
	}
	return most
}

const (
	fine     = 10 * time.Millisecond // how closely moments are looked at
	longest  = 3 * time.Second       // what is shown later than this is not late but wrong
	furthest = 1500 * time.Millisecond
)

// age is how long before a moment the path had a value, or how long after, as a negative number, if it
// is ahead; ok is false if nothing explains it. What may be predicted is as likely ahead as late: the
// nearer counts. Of all else what is ahead counts only if nothing before explains it.
func (p *path) age(value [3]float64, within float64, t time.Duration, predicted bool) (age time.Duration, ok bool) {
	fits := func(d time.Duration) bool {
		at, there := p.at(t - d)
		return there && p.apart(value, at) <= within
	}
	for d := time.Duration(0); d <= longest; d += fine {
		switch {
		case fits(d):
			return d, true
		case predicted && d <= furthest && fits(-d):
			return -d, true
		}
	}
	for d := fine; !predicted && d <= furthest; d += fine {
		if fits(-d) {
			return -d, true
		}
	}
	return 0, false
}
