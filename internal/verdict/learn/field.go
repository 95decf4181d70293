package learn

import (
	"math"
	"regexp"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/cost"
)

// field is one field of a kind of entities: what values the server gave it.
type field struct {
	name            string
	numbers, others int // values
	flags           int
	fractions       int // numbers that are not whole
	least, most     float64
	step            float64 // the coarsest decimal step on which all its values lie; 0 is finer than 1e-6
	changes         int
	alive           time.Duration // for how long it was told, over all entities
	wraps           [2]int        // leaps that go most of the way round 360, 2 pi
	falls, rises    int
	distinct        map[string]bool
	owners          int // texts that are a player's name
}

// varied reports whether it took so many values that the step between them is no chance.
func (f *field) varied() bool { return len(f.distinct) >= 20 }

// circles are full turns that angles are measured in.
var circles = [2]float64{360, 2 * math.Pi}

// mostDistinct is how many different values are told apart.
const mostDistinct = 200

// take takes in a course of the server's.
func (f *field) take(m *Match, c *course) {
	if f.numbers+f.others+f.flags == 0 {
		f.least, f.most, f.step = math.Inf(1), math.Inf(-1), 1e6
	}
	f.changes += len(c.t) - 1
	f.alive += m.views[0].last - c.t[0]
	for i, v := range c.v {
		if len(f.distinct) < mostDistinct {
			f.distinct[m.names.Format(v)] = true
		}
		switch v.Kind() {
		case trace.KindNumber:
			n := v.Float()
			if math.IsNaN(n) || math.IsInf(n, 0) {
				continue
			}
			f.numbers++
			if n != math.Trunc(n) {
				f.fractions++
			}
			f.least, f.most, f.step = min(f.least, n), max(f.most, n), cost.Lattice(n, f.step)
			if i > 0 && c.v[i-1].Kind() == trace.KindNumber {
				f.moves(n - c.v[i-1].Float())
			}
		case trace.KindBool:
			f.flags++
		case trace.KindText:
			f.others++
			if m.players[m.names.TextOf(v)] {
				f.owners++
			}
		}
	}
}

func (f *field) moves(by float64) {
	switch {
	case by > 0:
		f.rises++
	case by < 0:
		f.falls++
	}
	for i, circle := range circles {
		if math.Abs(by) > 0.6*circle && math.Abs(by) <= circle {
			f.wraps[i]++
		}
	}
}

// moving reports whether it is a number that goes, and not one that is counted or set.
func (f *field) moving() bool {
	if f.numbers == 0 || f.others+f.flags > 0 || f.changes == 0 {
		return false
	}
	perSecond := float64(f.changes) / max(1e-3, f.alive.Seconds())
	return f.fractions > 0 && len(f.distinct) > 8 || len(f.distinct) > 30 && perSecond > 1
}

var angular = regexp.MustCompile(`(?i)(heading|angle|yaw|rot|bearing|facing|direction|azimuth)`)

// circle is the full turn of an angle, or 0.
func (f *field) circle() float64 {
	if !f.moving() {
		return 0
	}
	for i, circle := range circles {
		if fits := f.least >= -circle/2-1e-3 && f.most <= circle/2+1e-3 || f.least >= -1e-3 && f.most <= circle+1e-3; !fits {
			continue
		}
		few := f.wraps[i]*20 < f.changes // leaps are the exception
		if angular.MatchString(f.name) && (i == 1 && f.most-f.least <= circles[1]+1e-3 && f.most < 7 || i == 0 && f.most-f.least > 7) || f.wraps[i] > 0 && few {
			return circle
		}
	}
	return 0
}

// axes are the endings by which fields that move together are named.
var axes = []string{"x", "y", "z"}

// vectors are the groups of fields of a kind that hold a place, like x, y and z, or pos_x and pos_z.
func (k *kind) vectors() (groups [][]*field) {
	byPrefix := map[string]map[string]*field{}
	var prefixes []string
	for _, f := range k.order {
		lower := strings.ToLower(f.name)
		for _, axis := range axes {
			if !strings.HasSuffix(lower, axis) || !f.moving() && f.changes > 0 || f.numbers == 0 || f.circle() > 0 {
				continue
			}
			prefix := f.name[:len(f.name)-1]
			if prefix != "" && !strings.ContainsAny(prefix[len(prefix)-1:], "_.- ") && len(prefix) > 4 && f.name[len(f.name)-1:] == axis {
				continue // a word that ends so, like "galaxy"
			}
			if byPrefix[prefix] == nil {
				byPrefix[prefix] = map[string]*field{}
				prefixes = append(prefixes, prefix)
			}
			byPrefix[prefix][axis] = f
		}
	}
	for _, prefix := range prefixes {
		var group []*field
		for _, axis := range axes {
			if f := byPrefix[prefix][axis]; f != nil {
				group = append(group, f)
			}
		}
		if len(group) >= 2 {
			groups = append(groups, group)
		}
	}
	return groups
}
