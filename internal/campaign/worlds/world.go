// Package worlds measures the judge on games that nobody knows: made-up worlds with drawn
// motions, values and views, in which one drawn mistake is made, or none. It counts what
// was found, how it was named, who was blamed and in how many incidents it was told.
package worlds

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Length is how long a match of a world lasts.
const Length = 40 * time.Second

// world is what happens in a match, and how its views show it.
type world struct {
	axes      int
	tolerance float64
	things    []*thing
	views     []*view
	signals   signals
	rate      float64 // how often the server sends, a second
	tells     float64 // its records a second
	changes   bool    // records hold what has changed, and not all
	ticks     bool    // steps have numbers: of the views, each tells every few of them
}

// thing is an entity: where it is and what it has at a time, in seconds.
type thing struct {
	name   string
	place  func(t float64) [3]float64
	level  func(t float64) float64 // one number that goes smoothly
	count  steps
	flag   steps
	mood   steps
	born   float64
	dies   float64
	across float64 // how far it gets about
}

// steps is a value that changes at once: the number of changes so far tells it.
type steps []float64

func (s steps) at(t float64) int {
	n, _ := slices.BinarySearch(s, math.Nextafter(t, math.Inf(1)))
	return n
}

// view is a client: how late it shows things, how often, and from when on it is in.
type view struct {
	name string
	lag  float64 // at least as long as until the server tells of it again
	rate float64 // of the server
	fps  float64 // its records a second
	from float64

	// Where steps have numbers:
	every  int     // it tells each so many
	behind float64 // so long after the server's time
	back   int     // how many it guesses at most, and tells again
}

func (r *draw) between(low, high float64) float64 { return low + (high-low)*r.Float64() }

func (r *draw) sign() float64 { return float64(2*r.IntN(2) - 1) }

// draw is the chance of one world.
type draw struct{ *rand.Rand }

// build draws a world.
func build(r *draw, ticks bool) *world {
	w := &world{axes: 2 + r.IntN(2), rate: r.between(10, 30), changes: r.IntN(3) == 0}
	if w.tells = w.rate; r.IntN(3) == 0 { // it prints more seldom than it sends
		w.tells = r.between(4, 10)
	}
	scale := math.Pow(10, r.between(-1, 2))
	w.tolerance = 0.3 * scale
	middle := [3]float64{r.between(-60, 60) * scale, r.between(-60, 60) * scale, r.between(-60, 60) * scale}
	for i := range 2 + r.IntN(4) {
		w.things = append(w.things, w.drawThing(r, string(rune('a'+i)), scale, middle))
	}
	for _, name := range []string{"one", "two", "three"}[:2+r.IntN(2)] {
		w.views = append(w.views, &view{name: name, lag: 1/w.rate + r.between(0.02, 0.12), rate: w.rate, fps: r.between(15, 60)})
		if r.IntN(4) == 0 {
			w.views[len(w.views)-1].fps = r.between(1, 8)
		}
	}
	if w.ticks = ticks; ticks {
		w.byTicks(r)
	}
	w.signals = drawSignals(r)
	return w
}

func (w *world) drawThing(r *draw, name string, scale float64, middle [3]float64) *thing {
	kind := []string{"cart", "kite", "crab"}[r.IntN(3)]
	t := &thing{name: kind + "/" + name, dies: math.Inf(1)}
	t.place, t.across = w.motion(r, scale, middle)
	period, low, height := r.between(6, 20), r.between(-3, 3)*scale*10, r.between(4, 12)*scale
	t.level = func(at float64) float64 { return low + height*math.Sin(2*math.Pi*at/period) }
	change := func(mean float64) (s steps) {
		for at := r.between(0.5, mean); at < Length.Seconds(); at += mean * r.between(0.6, 1.6) {
			s = append(s, at)
		}
		return s
	}
	t.count, t.flag, t.mood = change(3), change(4), change(5)
	return t
}

// motion draws how a thing gets about, and how far.
func (w *world) motion(r *draw, scale float64, middle [3]float64) (place func(t float64) [3]float64, across float64) {
	speed := r.between(2, 8) * scale
	switch r.IntN(4) {
	case 0: // in circles, on a slope
		radius, phase := r.between(5, 15)*scale, r.between(0, 6)
		turn := r.sign() * speed / radius
		return func(t float64) [3]float64 {
			a := phase + turn*t
			return w.only([3]float64{middle[0] + radius*math.Cos(a), middle[1] + radius*math.Sin(a), middle[2] + radius/2*math.Cos(a)})
		}, 2 * radius
	case 1: // along an eight of its own shape
		x, y, z := r.between(5, 15)*scale, r.between(5, 15)*scale, r.between(1, 5)*scale
		a, b := r.between(0.2, 0.5), r.between(0.3, 0.7)
		return func(t float64) [3]float64 {
			return w.only([3]float64{middle[0] + x*math.Sin(a*t), middle[1] + y*math.Sin(b*t+1), middle[2] + z*math.Cos(a*t)})
		}, 2 * min(x, y)
	}
	// Straight lines with turns and rests between them, back and forth about the middle.
	var at []float64
	var where [][3]float64
	now, here := 0.0, middle
	for now < Length.Seconds()+1 {
		at, where = append(at, now), append(where, here)
		if r.IntN(4) == 0 {
			now += r.between(0.5, 3)
			at, where = append(at, now), append(where, here)
		}
		to := here
		d := 0.0
		for k := range to {
			to[k] = middle[k] + r.between(-12, 12)*scale
			d += (to[k] - here[k]) * (to[k] - here[k])
		}
		now, here = now+max(0.5, math.Sqrt(d)/speed), to
	}
	return func(t float64) [3]float64 {
		i, found := slices.BinarySearch(at, t)
		if !found {
			i--
		}
		i = max(0, min(i, len(at)-2))
		share := max(0, min(1, (t-at[i])/(at[i+1]-at[i])))
		var p [3]float64
		for k := range p {
			p[k] = where[i][k] + share*(where[i+1][k]-where[i][k])
		}
		return w.only(p)
	}, 12 * scale
}

// only leaves of a place the axes that the world has.
func (w *world) only(p [3]float64) [3]float64 {
	for k := w.axes; k < 3; k++ {
		p[k] = 0
	}
	return p
}

// rules is how somebody who knows the game would have it watched.
func (w *world) rules() rulebook.Rules {
	late, held := 300*time.Millisecond, 400*time.Millisecond
	field := func(names ...string) rulebook.Rule {
		return rulebook.Rule{Entities: "*/*", Fields: names, MaxDelay: late, MinDuration: held, Grace: time.Second}
	}
	place, level := field([]string{"x", "y", "z"}[:w.axes]...), field("level")
	place.Compare, place.Tolerance = rulebook.Distance, w.tolerance
	level.Compare, level.Tolerance = rulebook.Distance, w.tolerance
	return rulebook.Rules{Fields: []rulebook.Rule{place, level, field("count"), field("flag"), field("mood"), field(rulebook.Existence)},
		Events: []rulebook.EventRule{{Event: "*", MaxDelay: late, MinDuration: held, Grace: time.Second, Ordered: true}}}
}

// shown is what a view shows of a thing at a time: what there was lag before.
type shown struct {
	there bool
	place [3]float64
	level float64
	count int
	flag  bool
	mood  int
	as    string // shown under this name instead
	and   string // shown under this name as well
}

func (g *thing) at(t float64) shown {
	t = max(t, 0)
	return shown{there: t >= g.born && t < g.dies, place: g.place(t), level: g.level(t), count: g.count.at(t), flag: g.flag.at(t)%2 == 1, mood: g.mood.at(t)}
}

var moods = []string{"calm", "keen", "shy"}

// record adds a thing to a record.
func (w *world) record(names *trace.Names, r *trace.Record, name string, s shown) {
	if !s.there {
		return
	}
	if s.and != "" {
		again := s
		again.and, again.as = "", s.and
		w.record(names, r, name, again)
	}
	if s.as != "" {
		name = s.as
	}
	e := names.Entity(name)
	add := func(field string, v trace.Value) {
		r.State = append(r.State, trace.Change{Entity: e, Field: names.Field(field), Value: v})
	}
	for k, axis := range []string{"x", "y", "z"}[:w.axes] {
		add(axis, trace.Number(s.place[k]))
	}
	add("level", trace.Number(s.level))
	add("count", trace.Number(float64(s.count)))
	add("flag", trace.Bool(s.flag))
	add("mood", names.Text(moods[s.mood%len(moods)]))
}
