package view

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// World is where entities were, in every view, for playing it back.
type World struct {
	Views    []string
	Entities []string
	Tracks   []Track
	Points   int
	Thinned  float64 // points nearer than this to the line between their neighbours are left out, in the unit of places
}

// Track is the way of one entity in one view, over one stay.
type Track struct {
	View, Entity int // their numbers in the World
	Layer        Layer
	Points       []Point
	End          time.Duration // until when the entity was there
}

// Layer is what a way is of: what a view shows, what had come from the server last, or what it predicts.
type Layer uint8

// The layers of a view. Most tell the first alone.
const (
	Shown Layer = iota
	Received
	Predicted
)

// wayOf is an entity in one layer of a view.
type wayOf struct {
	entity trace.Entity
	layer  Layer
}

// Point is where an entity was at a moment.
type Point struct {
	T    time.Duration
	X, Y float64
}

const (
	thinnedAtFirst = 0.02
	mostPoints     = 400_000
	mostPending    = 64
)

// ways collects the ways that entities go.
type ways struct {
	names  *trace.Names
	views  []string
	rules  []rulebook.Rule
	places map[trace.Entity]*[2]trace.Field // nil has none
	open   []map[wayOf]*way                 // by view
	done   []Track
	last   []time.Duration // by view
}

type way struct {
	track   Track
	at      Point
	known   [2]bool
	pending []Point // between the last point kept and now
}

func newWays(names *trace.Names, views []string, rules rulebook.Rules) *ways {
	w := &ways{names: names, views: views, rules: rules.Fields, places: map[trace.Entity]*[2]trace.Field{}, last: make([]time.Duration, len(views))}
	for range views {
		w.open = append(w.open, map[wayOf]*way{})
	}
	return w
}

// placeOf is which two of the fields of its place tell where an entity is on the ground: of
// three, the first and the last.
func (w *ways) placeOf(e trace.Entity) *[2]trace.Field {
	place, known := w.places[e]
	if known {
		return place
	}
	if fields := rulebook.PlaceOf(w.rules, w.names.EntityID(e)); fields != nil {
		place = &[2]trace.Field{w.names.Field(fields[0]), w.names.Field(fields[len(fields)-1])}
	}
	w.places[e] = place
	return place
}

// take takes in a record of a view.
func (w *ways) take(view int, r *trace.Record) {
	w.last[view] = r.T
	for _, e := range r.Despawned {
		w.gone(view, e, r.T)
	}
	w.follow(view, Shown, r.State, r.T)
	w.follow(view, Received, r.Received, r.T)
	w.follow(view, Predicted, r.Predicted, r.T)
	if !r.Full {
		return
	}
	there := map[trace.Entity]bool{}
	for _, c := range r.State {
		there[c.Entity] = true
	}
	for k := range w.open[view] {
		if !there[k.entity] {
			w.gone(view, k.entity, r.T)
		}
	}
}

// follow takes in what a layer of a view says of entities.
func (w *ways) follow(view int, layer Layer, changes []trace.Change, t time.Duration) {
	open := w.open[view]
	for i := 0; i < len(changes); {
		e := changes[i].Entity
		first := i
		for i < len(changes) && changes[i].Entity == e {
			i++
		}
		place := w.placeOf(e)
		if place == nil {
			continue
		}
		k := open[wayOf{e, layer}]
		if k == nil {
			k = &way{track: Track{View: view, Entity: int(e), Layer: layer}}
			open[wayOf{e, layer}] = k
		}
		moved := false
		for _, c := range changes[first:i] {
			v := c.Value.Float()
			switch {
			case math.IsNaN(v):
			case c.Field == place[0]:
				k.at.X, k.known[0], moved = v, true, true
			case c.Field == place[1]:
				k.at.Y, k.known[1], moved = v, true, true
			}
		}
		if moved && k.known == [2]bool{true, true} {
			k.add(Point{t, k.at.X, k.at.Y})
		}
	}
}

// gone ends the ways of an entity in all layers.
func (w *ways) gone(view int, e trace.Entity, t time.Duration) {
	for _, layer := range []Layer{Shown, Received, Predicted} {
		w.end(view, wayOf{e, layer}, t)
	}
}

// add puts a point on the way, and keeps those that the line does not tell.
func (k *way) add(p Point) {
	if len(k.track.Points) == 0 {
		k.track.Points = append(k.track.Points, p)
		return
	}
	last := k.track.Points[len(k.track.Points)-1]
	if !onLine(last, p, k.pending, thinnedAtFirst) || len(k.pending) == mostPending {
		k.track.Points = append(k.track.Points, k.pending[len(k.pending)-1])
		k.pending = k.pending[:0]
	}
	k.pending = append(k.pending, p)
}

// onLine reports whether all points between a and b are near the straight way from
// one to the other, each at its time.
func onLine(a, b Point, between []Point, near float64) bool {
	for _, p := range between {
		share := float64(p.T-a.T) / float64(max(1, b.T-a.T))
		if math.Hypot(a.X+(b.X-a.X)*share-p.X, a.Y+(b.Y-a.Y)*share-p.Y) > near {
			return false
		}
	}
	return true
}

func (w *ways) end(view int, of wayOf, t time.Duration) {
	k := w.open[view][of]
	if k == nil {
		return
	}
	delete(w.open[view], of)
	if n := len(k.pending); n > 0 {
		k.track.Points = append(k.track.Points, k.pending[n-1])
	}
	if k.track.End = t; len(k.track.Points) > 0 {
		w.done = append(w.done, k.track)
	}
}

// world sums up. If there are too many points, more are left out, evenly by how
// little they tell.
func (w *ways) world() *World {
	for view, open := range w.open {
		for of := range open {
			w.end(view, of, w.last[view])
		}
	}
	if len(w.done) == 0 {
		return nil
	}
	slices.SortFunc(w.done, func(a, b Track) int {
		if a.View != b.View {
			return a.View - b.View
		}
		if a.Entity != b.Entity {
			return a.Entity - b.Entity
		}
		if a.Layer != b.Layer {
			return int(a.Layer) - int(b.Layer)
		}
		return int(a.Points[0].T - b.Points[0].T)
	})
	world := &World{Views: w.views, Tracks: w.done, Thinned: thinnedAtFirst}
	number := map[int]int{}
	for i := range world.Tracks {
		t := &world.Tracks[i]
		n, known := number[t.Entity]
		if !known {
			n = len(world.Entities)
			number[t.Entity] = n
			world.Entities = append(world.Entities, w.names.EntityID(trace.Entity(t.Entity)))
		}
		t.Entity = n
		world.Points += len(t.Points)
	}
	for world.Points > mostPoints {
		world.Thinned *= 2
		world.Points = 0
		for i := range world.Tracks {
			world.Tracks[i].thin(world.Thinned)
			world.Points += len(world.Tracks[i].Points)
		}
	}
	return world
}

func (t *Track) thin(near float64) {
	kept := t.Points[:1]
	first := 0
	for i := 2; i < len(t.Points); i++ {
		between := t.Points[first+1 : i]
		if len(between) > mostPending || !onLine(t.Points[first], t.Points[i], between, near) {
			first = i - 1
			kept = append(kept, t.Points[first])
		}
	}
	if n := len(t.Points); n > 1 {
		kept = append(kept, t.Points[n-1])
	}
	t.Points = kept
}
